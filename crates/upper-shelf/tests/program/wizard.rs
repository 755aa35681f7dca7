//! The wizard of a Windows Installer package, walked through button by button on a machine of Wine: what people read on
//! each page, what can be pressed, and what is there afterwards.

use crate::common::hives::{build, damaged, product};
use test_support::wine::{Seen, Wine};

const MORE: &str =
    "[wizard]\nlicense = { en = \"LICENSE.txt\", de = \"LIZENZ.txt\" }\n[install]\nstart-at-end = \"app\"";
const CANCELLED: i32 = 1602 & 0xFF;

fn at(machine: &Wine, file: &str) -> bool {
    machine.c().join("Program Files/Hives & Frames").join(file).exists()
}

/// The machine, and the package on it.
fn machine(more: &str) -> (Wine, String) {
    let folder = product("1.0.0", more);
    folder.write("LICENSE.txt", "You may count frames.\nNobody promises that the bees agree.\n");
    folder.write("LIZENZ.txt", "Sie dürfen Waben zählen.\nNiemand verspricht, dass die Bienen zustimmen.\n");
    let machine = Wine::new();
    let package = machine.bring(&build(&folder), "hives.msi");
    (machine, package)
}

#[test]
fn in_english_from_the_first_page_to_the_finish_and_away_again() {
    let (machine, package) = machine(MORE);
    let agree = "I accept the licence agreement";
    let steps = ["Next", agree, "Next", "Back", "Next", "Next", "Install", "Finish", "close:Combwright"];
    let (pages, code) = machine.walk(&["/i", &package], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r#"
    Hives & Frames
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Ready to install
    Hives & Frames
      You may count frames.  Nobody promises that the bees agree.
      I accept the licence agreement
      Back
      Next
      Cancel
      Licence agreement
      Please read the licence before you continue
    Hives & Frames
      You may count frames.  Nobody promises that the bees agree.
      I accept the licence agreement
      Back
      Next
      Cancel
      Licence agreement
      Please read the licence before you continue
    Hives & Frames
      C:\Program Files\Hives & Frames\
      Back
      Next
      Cancel
      Installation folder
      Choose where to install Hives & Frames
      Install in this folder:
      The folder will be created if it doesn't exist. Updates will use the same folder.
    Hives & Frames
      You may count frames.  Nobody promises that the bees agree.
      I accept the licence agreement
      Back
      Next
      Cancel
      Licence agreement
      Please read the licence before you continue
    Hives & Frames
      C:\Program Files\Hives & Frames\
      Back
      Next
      Cancel
      Installation folder
      Choose where to install Hives & Frames
      Install in this folder:
      The folder will be created if it doesn't exist. Updates will use the same folder.
    Hives & Frames
      Back
      Install
      Cancel
      Components
      Choose what to install
    Hives & Frames
      Start Hives & Frames now
      Finish
      Installation complete
      Hives & Frames 1.0.0 has been installed
      You can start it from the Start menu.
    Combwright
      OK
      The journal can't be opened: it was left behind, or its name is wrong.
    "#);
    assert!(!pages[1].control("Next").enabled && !pages[1].control(agree).ticked, "nobody goes on without agreeing");
    assert!(pages[2].control("Next").enabled && pages[2].control(agree).ticked);
    assert!(pages[0].control("Add a shortcut to the desktop").ticked);
    assert!(pages[pages.len() - 2].control("Start Hives & Frames now").ticked);
    assert!(at(&machine, "hives.exe") && at(&machine, "samples/a.comb"));

    let (pages, code) = machine.walk(&["/i", &package], &["Uninstall", "Finish"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      Repair
      Uninstall
      Cancel
      Hives & Frames is already installed
      What would you like to do?
      Restore missing or damaged files.
      Remove everything that was installed. Your own documents will be kept.
    Hives & Frames
      Finish
      Uninstalled
      Hives & Frames has been removed
      Your own documents have been kept.
    ");
    assert!(!at(&machine, ""));
}

#[test]
fn in_german_with_a_repair() {
    let (machine, package) = machine(MORE);
    let steps = [
        "Weiter",
        "Ich stimme dem Lizenzvertrag zu",
        "Weiter",
        "Weiter",
        "Installieren",
        "Hives & Frames jetzt starten",
        "Fertig",
    ];
    let (pages, code) = machine.walk(&["/i", &package, "WIZARDLANGUAGE=de"], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r#"
    Hives & Frames
      Verknüpfung auf dem Desktop erstellen
      Weiter
      Abbrechen
      Hives & Frames 1.0.0 installieren
      8 Dateien werden installiert und belegen 322 kB.
      Eine ältere Version wird ersetzt. Ihre eigenen Dokumente werden nicht verändert.
      Den Ordner können Sie später auswählen.
      Es öffnet diese Dateitypen: .comb, .brood
      Bereit zur Installation
    Hives & Frames
      Sie dürfen Waben zählen.  Niemand verspricht, dass die Bienen zustimmen.
      Ich stimme dem Lizenzvertrag zu
      Zurück
      Weiter
      Abbrechen
      Lizenzvertrag
      Bitte lesen Sie die Lizenz, bevor Sie fortfahren
    Hives & Frames
      Sie dürfen Waben zählen.  Niemand verspricht, dass die Bienen zustimmen.
      Ich stimme dem Lizenzvertrag zu
      Zurück
      Weiter
      Abbrechen
      Lizenzvertrag
      Bitte lesen Sie die Lizenz, bevor Sie fortfahren
    Hives & Frames
      C:\Program Files\Hives & Frames\
      Zurück
      Weiter
      Abbrechen
      Installationsordner
      Wählen Sie, wo Hives & Frames installiert wird
      In diesem Ordner installieren:
      Der Ordner wird erstellt, falls er nicht existiert. Updates verwenden denselben Ordner.
    Hives & Frames
      Zurück
      Installieren
      Abbrechen
      Komponenten
      Wählen Sie, was installiert wird
    Hives & Frames
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
      Sie können es über das Startmenü starten.
    Hives & Frames
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
      Sie können es über das Startmenü starten.
    "#);
    std::fs::remove_file(machine.c().join("Program Files/Hives & Frames/data/frames.txt")).expect("removed");
    let (pages, code) = machine.walk(&["/i", &package, "WIZARDLANGUAGE=de"], &["Reparieren", "Fertig"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      Reparieren
      Deinstallieren
      Abbrechen
      Hives & Frames ist bereits installiert
      Was möchten Sie tun?
      Fehlende oder beschädigte Dateien wiederherstellen.
      Alles entfernen, was installiert wurde. Ihre eigenen Dokumente bleiben erhalten.
    Hives & Frames
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
      Sie können es über das Startmenü starten.
    ");
    assert!(at(&machine, "data/frames.txt"));
}

#[test]
fn stopping_asks_first_and_changes_nothing() {
    let (machine, package) = machine(MORE);
    let (pages, code) = machine.walk(&["/i", &package], &["Cancel", "No", "Next", "Cancel", "Yes", "Close"]);
    assert_eq!(code, CANCELLED);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Ready to install
    Hives & Frames
      No
      Yes
      Cancel the installation? Changes so far will be undone.
    Hives & Frames
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Ready to install
    Hives & Frames
      You may count frames.  Nobody promises that the bees agree.
      I accept the licence agreement
      Back
      Next
      Cancel
      Licence agreement
      Please read the licence before you continue
    Hives & Frames
      No
      Yes
      Cancel the installation? Changes so far will be undone.
    Hives & Frames
      Close
      You can start the installation again at any time.
      Installation cancelled
      Your computer has not been changed
    ");
    assert!(!at(&machine, ""));
}

#[test]
fn the_desktop_shortcut_is_left_out_when_its_box_is_not_ticked() {
    let (machine, package) = machine("");
    let box_ = "Add a shortcut to the desktop";
    let (_, code) = machine.walk(&["/i", &package], &[box_, "Next", "Next", "Install", "Finish"]);
    assert_eq!(code, 0);
    let desktop = |name: &str| machine.c().join("users").join(name).join("Desktop/Hives & Frames.lnk").exists();
    assert!(at(&machine, "hives.exe") && !desktop("Public") && !desktop("root"));
}

#[test]
fn the_person_who_installs_says_for_whom() {
    let own = "users/root/AppData/Local/Programs/Hives & Frames/hives.exe";
    let everyones = "Program Files/Hives & Frames/hives.exe";
    for (steps, file, other) in [
        (vec!["Next", "Next", "Next", "Install", "Finish"], own, everyones),
        (vec!["Next", "Everyone who uses this computer", "Next", "Next", "Install", "Finish"], everyones, own),
    ] {
        let (machine, package) = machine("[install]\nscope = \"asked\"");
        let (pages, code) = machine.walk(&["/i", &package], &steps);
        assert_eq!(code, 0, "{steps:?}: {pages:?}");
        assert!(pages[1].control("Only me").ticked, "{:?}", pages[1].texts());
        assert!(machine.c().join(file).exists() && !machine.c().join(other).exists(), "{steps:?}");
        let folder = file.trim_end_matches("hives.exe").replace('/', "\\");
        let shown = pages[steps.len() - 3].texts().iter().any(|t| t.ends_with(&*folder));
        assert!(shown, "the folder's page shows {:?}", pages[steps.len() - 3].texts());
        assert_eq!(machine.msiexec(&["/x", &package]), 0);
        assert!(!machine.c().join(file).exists());
    }
    // Silently it is as the command line says. (Wine takes every administrator for everyone: only that is seen here.)
    let (machine, package) = machine("[install]\nscope = \"asked\"");
    assert_eq!(machine.msiexec(&["/i", &package, "ALLUSERS=1", "MSIINSTALLPERUSER="]), 0);
    assert!(machine.c().join(everyones).exists());
}

#[test]
fn a_failure_is_said_in_a_sentence() {
    let folder = product("1.0.0", "");
    let package = damaged(&folder, &build(&folder));
    let machine = Wine::new();
    let package = machine.bring(&package, "hives.msi");
    let (pages, code) = machine.walk(&["/i", &package], &["Next", "Next", "Install", "Close"]);
    assert_eq!(code, 1603 & 0xFF);
    let last = pages.last().expect("a page").texts().join("\n");
    assert!(last.contains("Installation failed") && last.contains("Your computer has not been changed"), "{last}");
    assert!(!at(&machine, "hives.exe"));
}

#[test]
fn a_manifest_chooses_the_pages_and_brings_a_language_of_its_own() {
    let words: String = upper_shelf_words().map(|(key, en)| format!("{key} = {:?}\n", format!("~{en}"))).collect();
    let more = format!(
        "[wizard]\npages = [\"folder\"]\nlanguages = [\"en\", \"fr\"]\n[wizard.words.fr]\n{words}[wizard.words.en]\nfinish = \"&Lovely\""
    );
    let (machine, package) = machine(&more);
    let (pages, code) = machine.walk(&["/i", &package, "WIZARDLANGUAGE=fr"], &["~Install", "~Finish"]);
    assert_eq!(code, 0);
    assert!(pages[0].texts().contains(&"~Install") && !pages[0].texts().contains(&"~Back"));
    assert!(pages[0].texts().iter().any(|t| t.starts_with("~Choose where to install ")), "{:?}", pages[0].texts());
    let (_, code) = machine.walk(&["/i", &package], &["Uninstall", "Lovely"]);
    assert_eq!(code, 0);
    assert!(!at(&machine, ""));
}

/// The words that come with the program, in English.
fn upper_shelf_words() -> impl Iterator<Item = (&'static str, &'static str)> {
    upper_shelf_core::wizard::WORDS.iter().map(|(key, en, _)| (*key, *en))
}

#[test]
fn everything_fits_into_its_place_in_the_pages_own_window() {
    let (machine, package) = machine(MORE);
    let (pages, _) = machine
        .walk(&["/i", &package], &["Next", "I accept the licence agreement", "Next", "Next", "Cancel", "Yes", "Close"]);
    for page in &pages {
        for control in &page.controls {
            let [left, top, width, height] = control.place[..] else { panic!("{control:?}") };
            let inside = left >= 0 && top >= 0 && left + width <= page.size[0] && top + height <= page.size[1];
            assert!(inside, "{control:?} in {:?}", page.size);
            // In this font no letter is wider than 12 pixels on average; lines are 16 apart.
            let lines = (height / 16).max(1);
            let room = i64::from(width * lines / 6);
            assert!(control.class != "Static" || control.text.chars().count() as i64 <= room, "{control:?}");
        }
    }
}
