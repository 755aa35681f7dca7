//! The wizard of a setup program, walked through button by button on a machine of Wine.

use crate::common::hives::{build, product_for};
use test_support::wine::{Seen, Wine};

const MORE: &str =
    "[wizard]\nlicense = { en = \"LICENSE.txt\", de = \"LIZENZ.txt\" }\n[install]\nstart-at-end = \"app\"";
const CANCELLED: i32 = 1602 & 0xFF;
const HERE: &str = "Program Files/Hives & Frames";

fn at(machine: &Wine, file: &str) -> bool {
    machine.c().join(HERE).join(file).exists()
}

fn machine(version: &str, more: &str) -> (Wine, String) {
    let folder = product_for("nsis", version, more);
    folder.write("LICENSE.txt", "You may count frames.\nNobody promises that the bees agree.\n");
    folder.write("LIZENZ.txt", "Sie dürfen Waben zählen.\nNiemand verspricht, dass die Bienen zustimmen.\n");
    let machine = Wine::new();
    let package = machine.bring(&build(&folder), "hives.exe");
    (machine, package)
}

#[test]
fn in_english_from_the_first_page_to_the_finish_and_away_again() {
    let (machine, package) = machine("1.0.0", MORE);
    let agree = "I accept the licence agreement";
    let steps = ["Next", agree, "Next", "Back", "Next", "Next", "Install", "Finish", "close:Combwright"];
    let (pages, code) = machine.walk_program(&[&package, "/LANGUAGE=en"], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r#"
    Hives & Frames
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
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
      Install in this folder:
      C:\Program Files\Hives & Frames
      The folder will be created if it doesn't exist. Updates will use the same folder.
      Back
      Next
      Cancel
      Installation folder
      Choose where to install Hives & Frames
    Hives & Frames
      You may count frames.  Nobody promises that the bees agree.  
      I accept the licence agreement
      Back
      Next
      Cancel
      Licence agreement
      Please read the licence before you continue
    Hives & Frames
      Install in this folder:
      C:\Program Files\Hives & Frames
      The folder will be created if it doesn't exist. Updates will use the same folder.
      Back
      Next
      Cancel
      Installation folder
      Choose where to install Hives & Frames
    Hives & Frames
      Back
      Install
      Cancel
      Components
      Choose what to install
    Hives & Frames
      You can start it from the Start menu.
      Start Hives & Frames now
      Finish
      Installation complete
      Hives & Frames 1.0.0 has been installed
    Combwright
      OK
      The journal can't be opened: it was left behind, or its name is wrong.
    "#);
    assert!(!pages[1].control("Next").enabled, "nobody goes on without agreeing");
    assert!(pages[2].control("Next").enabled && pages[2].control(agree).ticked);
    assert!(pages[0].control("Add a shortcut to the desktop").ticked);
    assert!(at(&machine, "hives.exe") && at(&machine, "samples/a.comb"));
    for page in &pages[..pages.len() - 1] {
        for control in &page.controls {
            let [left, top, width, height] = control.place[..] else { panic!("{control:?}") };
            let inside = left >= 0 && top >= 0 && left + width <= page.size[0] && top + height <= page.size[1];
            assert!(inside, "{control:?} in {:?}", page.size);
        }
    }
    let remover = r"C:\Program Files\Hives & Frames\uninstall.exe";
    let (pages, code) = machine.walk_program(&[remover, "/LANGUAGE=en"], &["Uninstall", "Finish"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      Everything that was installed will be removed. Your own documents will be kept.
      Uninstall
      Cancel
      Uninstall Hives & Frames
      Version 1.0.0 is installed
    Hives & Frames
      Your own documents have been kept.
      Finish
      Uninstalled
      Hives & Frames has been removed
    ");
    assert!(!at(&machine, ""));
}

#[test]
fn in_german_with_a_repair_and_without_the_desktop() {
    let (machine, package) = machine("1.0.0", MORE);
    let start = "Hives & Frames jetzt starten";
    let steps = [
        "Verknüpfung auf dem Desktop erstellen",
        "Weiter",
        "Ich stimme dem Lizenzvertrag zu",
        "Weiter",
        "Weiter",
        "Installieren",
        start,
        "Fertig",
    ];
    let (pages, code) = machine.walk_program(&[&package, "/LANGUAGE=de"], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r#"
    Hives & Frames
      8 Dateien werden installiert und belegen 322 kB.
      Eine ältere Version wird ersetzt. Ihre eigenen Dokumente werden nicht verändert.
      Den Ordner können Sie später auswählen.
      Es öffnet diese Dateitypen: .comb, .brood
      Verknüpfung auf dem Desktop erstellen
      Weiter
      Abbrechen
      Hives & Frames 1.0.0 installieren
      Bereit zur Installation
    Hives & Frames
      8 Dateien werden installiert und belegen 322 kB.
      Eine ältere Version wird ersetzt. Ihre eigenen Dokumente werden nicht verändert.
      Den Ordner können Sie später auswählen.
      Es öffnet diese Dateitypen: .comb, .brood
      Verknüpfung auf dem Desktop erstellen
      Weiter
      Abbrechen
      Hives & Frames 1.0.0 installieren
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
      In diesem Ordner installieren:
      C:\Program Files\Hives & Frames
      Der Ordner wird erstellt, falls er nicht existiert. Updates verwenden denselben Ordner.
      Zurück
      Weiter
      Abbrechen
      Installationsordner
      Wählen Sie, wo Hives & Frames installiert wird
    Hives & Frames
      Zurück
      Installieren
      Abbrechen
      Komponenten
      Wählen Sie, was installiert wird
    Hives & Frames
      Sie können es über das Startmenü starten.
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
    Hives & Frames
      Sie können es über das Startmenü starten.
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
    "#);
    assert!(!machine.c().join("users/Public/Desktop/Hives & Frames.lnk").exists());
    std::fs::remove_file(machine.c().join(HERE).join("data/frames.txt")).expect("removed");
    let (pages, code) = machine.walk_program(&[&package, "/LANGUAGE=de"], &["Reparieren", start, "Fertig"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      Reparieren
      Fehlende oder beschädigte Dateien wiederherstellen.
      Deinstallieren
      Alles entfernen, was installiert wurde. Ihre eigenen Dokumente bleiben erhalten.
      Abbrechen
      Hives & Frames ist bereits installiert
      Was möchten Sie tun?
    Hives & Frames
      Sie können es über das Startmenü starten.
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
    Hives & Frames
      Sie können es über das Startmenü starten.
      Hives & Frames jetzt starten
      Fertig
      Installation abgeschlossen
      Hives & Frames 1.0.0 wurde installiert
    ");
    assert!(at(&machine, "data/frames.txt"));
}

#[test]
fn stopping_asks_first_and_changes_nothing() {
    let (machine, package) = machine("1.0.0", MORE);
    let steps = ["Cancel", "No", "Next", "Cancel", "Yes", "Close"];
    let (pages, code) = machine.walk_program(&[&package, "/LANGUAGE=en"], &steps);
    assert_eq!(code, CANCELLED);
    insta::assert_snapshot!(Seen::told(&pages), @r"
    Hives & Frames
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
      Ready to install
    Hives & Frames
      No
      Yes
      Cancel the installation? Changes so far will be undone.
    Hives & Frames
      8 files will be installed, using 322 kB.
      An older version will be replaced. Your own documents will not be changed.
      You can choose the folder later.
      It opens these file types: .comb, .brood
      Add a shortcut to the desktop
      Next
      Cancel
      Install Hives & Frames 1.0.0
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
      You can start the installation again at any time.
      Close
      Installation cancelled
      Your computer has not been changed
    ");
    assert!(!at(&machine, ""));
}

#[test]
fn the_person_who_installs_says_for_whom() {
    let (machine, package) = machine("1.0.0", "[install]\nscope = \"asked\"");
    let everyone = "Everyone who uses this computer";
    let steps = ["Next", everyone, "Back", "Next", "Only me", "Next", "Next", "Install", "Finish"];
    let (pages, code) = machine.walk_program(&[&package, "/LANGUAGE=en"], &steps);
    assert_eq!(code, 0);
    assert!(pages[1].control("Only me").ticked, "{:?}", pages[1].texts());
    let own = machine.c().join("users/root/AppData/Local/Programs/Hives & Frames/hives.exe");
    assert!(own.exists() && !at(&machine, ""), "{:?}", pages[6].texts());
}

#[test]
fn a_newer_version_and_files_in_use_are_said_in_a_sentence() {
    let (machine, newer) = machine("2.0.0", "");
    assert_eq!(machine.code_of(&[&newer, "/S"], &[]), 0);
    let folder = product_for("nsis", "1.0.0", "");
    let older = machine.bring(&build(&folder), "older.exe");
    let (pages, code) = machine.walk_program(&[&older, "/LANGUAGE=en"], &["Close"]);
    assert_eq!(code, 1638 & 0xFF);
    let said = pages[0].texts().join("\n");
    assert!(said.contains("A newer version (2.0.0) is already installed."), "{said}");
    // A repair while a program holds a file: the wizard says which, and stops when it is told to.
    let holder = machine.hold(r"C:\Program Files\Hives & Frames\data\frames.txt");
    // The page of the progress has a button to cancel, too.
    let steps = ["Repair", "see:Close apps", "Cancel", "Close"];
    let (pages, code) = machine.walk_beside(&[&newer, "/LANGUAGE=en"], &steps);
    drop(holder);
    assert_eq!(code, 32);
    let said = pages[1].texts().join("\n");
    assert!(said.contains("Files in use"), "{said}");
    let said = pages[3].texts().join("\n");
    assert!(said.contains("Files are in use. Nothing has been changed"), "{said}");
}

#[test]
fn going_on_while_files_are_in_use_leaves_the_rest_to_the_next_start() {
    let (machine, older) = machine("1.0.0", "");
    assert_eq!(machine.code_of(&[&older, "/S"], &[]), 0);
    let folder = product_for("nsis", "2.0.0", "");
    let newer = machine.bring(&build(&folder), "newer.exe");
    let holder = machine.hold(r"C:\Program Files\Hives & Frames\data\frames.txt");
    let steps = ["Next", "Next", "Install", "Continue", "Finish"];
    let (pages, code) = machine.walk_beside(&[&newer, "/LANGUAGE=en"], &steps);
    let frames = machine.c().join(HERE).join("data/frames.txt");
    let text = || std::fs::read_to_string(&frames).expect("there");
    let said = pages.last().expect("a page").texts().join("\n");
    assert_eq!((code, text().contains("2.0.0")), (3010 & 0xFF, false), "{said}");
    assert!(said.contains("Please restart it now"), "{said}");
    drop(holder);
    machine.run(&["wineboot", "-r"]);
    assert_eq!(text(), "frames of 2.0.0\n");
    let left = test_support::listing(&machine.c().join(HERE).join("data"));
    assert!(left.iter().all(|l| !l.contains('~')), "{left:?}");
}
