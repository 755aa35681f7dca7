//! The wizard of a Windows Installer package, walked through button by button on a machine of Wine: what people read on
//! each page, what can be pressed, and what is there afterwards.

use crate::common::hives::{build, damaged, product};
use test_support::wine::{Seen, Wine};

const MORE: &str = "[wizard]\nlicense = \"LICENSE.txt\"\n[install]\nstart-at-end = \"app\"";
const CANCELLED: i32 = 1602 & 0xFF;

fn at(machine: &Wine, file: &str) -> bool {
    machine.c().join("Program Files/Hives & Frames").join(file).exists()
}

/// The machine, and the package on it.
fn machine(more: &str) -> (Wine, String) {
    let folder = product("1.0.0", more);
    folder.write("LICENSE.txt", "You may count frames.\nNobody promises that the bees agree.\n");
    let machine = Wine::new();
    let package = machine.bring(&build(&folder), "hives.msi");
    (machine, package)
}

#[test]
fn in_english_from_the_first_page_to_the_finish_and_away_again() {
    let (machine, package) = machine(MORE);
    let agree = "I agree to this licence";
    let steps = ["Next", agree, "Next", "Back", "Next", "Next", "Install", "Finish", "close:Combwright"];
    let (pages, code) = machine.walk(&["/i", &package], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!("english", Seen::told(&pages));
    assert!(!pages[1].control("Next").enabled && !pages[1].control(agree).ticked, "nobody goes on without agreeing");
    assert!(pages[2].control("Next").enabled && pages[2].control(agree).ticked);
    assert!(pages[0].control("Put a shortcut on the desktop").ticked);
    assert!(pages[pages.len() - 2].control("Start Hives & Frames now").ticked);
    assert!(at(&machine, "hives.exe") && at(&machine, "samples/a.comb"));

    let (pages, code) = machine.walk(&["/i", &package], &["Remove", "Finish"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!("english-remove", Seen::told(&pages));
    assert!(!at(&machine, ""));
}

#[test]
fn in_german_with_a_repair() {
    let (machine, package) = machine(MORE);
    let steps = [
        "Weiter",
        "Ich stimme dieser Lizenz zu",
        "Weiter",
        "Weiter",
        "Installieren",
        "Hives & Frames jetzt starten",
        "Fertig",
    ];
    let (pages, code) = machine.walk(&["/i", &package, "WIZARDLANGUAGE=de"], &steps);
    assert_eq!(code, 0);
    insta::assert_snapshot!("german", Seen::told(&pages));
    std::fs::remove_file(machine.c().join("Program Files/Hives & Frames/data/frames.txt")).expect("removed");
    let (pages, code) = machine.walk(&["/i", &package, "WIZARDLANGUAGE=de"], &["Reparieren", "Fertig"]);
    assert_eq!(code, 0);
    insta::assert_snapshot!("german-repair", Seen::told(&pages));
    assert!(at(&machine, "data/frames.txt"));
}

#[test]
fn stopping_asks_first_and_changes_nothing() {
    let (machine, package) = machine(MORE);
    let (pages, code) = machine.walk(&["/i", &package], &["Cancel", "No", "Next", "Cancel", "Yes", "Close"]);
    assert_eq!(code, CANCELLED);
    insta::assert_snapshot!("cancelled", Seen::told(&pages));
    assert!(!at(&machine, ""));
}

#[test]
fn the_desktop_shortcut_is_left_out_when_its_box_is_not_ticked() {
    let (machine, package) = machine("");
    let box_ = "Put a shortcut on the desktop";
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
        (vec!["Next", "For everyone on this computer", "Next", "Next", "Install", "Finish"], everyones, own),
    ] {
        let (machine, package) = machine("[install]\nscope = \"asked\"");
        let (pages, code) = machine.walk(&["/i", &package], &steps);
        assert_eq!(code, 0);
        assert!(pages[1].control("Only for me").ticked, "{:?}", pages[1].texts());
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
    assert!(last.contains("That did not work") && last.contains("Everything is as it was before"), "{last}");
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
    assert!(pages[0].texts().contains(&"~Where should the files go?"), "{:?}", pages[0].texts());
    let (_, code) = machine.walk(&["/i", &package], &["Remove", "Lovely"]);
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
    let (pages, _) =
        machine.walk(&["/i", &package], &["Next", "I agree to this licence", "Next", "Next", "Cancel", "Yes", "Close"]);
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
