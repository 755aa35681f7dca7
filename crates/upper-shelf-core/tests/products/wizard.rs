//! The wizard of every kind of product: what its pages hold, where they lead, and that nothing is said in a language
//! that the page does not speak.

use std::collections::{BTreeMap, BTreeSet};
use upper_shelf_core::footprint::{
    Choice, FileType, Footprint, Identity, InstallRules, Place, Program, RelPath, Scope, Shortcut, Text,
};
use upper_shelf_core::wizard::{Action, Control, Kind, Page, WORDS, Wizard, pages, removal};

/// A product for each set of eight things that a wizard depends on.
fn product(set: u32) -> (Footprint, Wizard) {
    let has = |bit: u32| set >> bit & 1 == 1;
    let file = RelPath::new("hives").unwrap();
    let shortcut = |place| Shortcut {
        place,
        name: "Hives".into(),
        program: "app".into(),
        arguments: Vec::new(),
        description: None,
    };
    let places = [(0, Place::Desktop), (1, Place::Startup)].into_iter().filter(|(bit, _)| has(*bit));
    let file_type = FileType {
        mime: "application/x-hive".into(),
        extensions: vec!["hive".into()],
        name: "Hive".into(),
        program: "app".into(),
    };
    let choice = Choice { key: "a".into(), title: "A".into(), description: None, chosen: true, files: Vec::new() };
    let footprint = Footprint {
        product: Identity { name: Some("Hives".into()), version: Some("1.4.0".into()), ..Identity::default() },
        programs: vec![Program::plain("app", file)].into(),
        shortcuts: places.map(|(_, place)| shortcut(place)).collect::<Vec<_>>().into(),
        file_types: vec![file_type].into_iter().filter(|_| has(2)).collect::<Vec<_>>().into(),
        choices: vec![choice].into_iter().filter(|_| has(3)).collect::<Vec<_>>().into(),
        install: InstallRules {
            scope: has(4).then_some(Scope::Asked),
            start_at_end: has(5).then(|| "app".into()),
            ..InstallRules::default()
        },
        ..Footprint::default()
    };
    let left_out = if has(7) { vec!["Start", "Folder"] } else { Vec::new() };
    let wizard = Wizard { license: has(6).then(|| Text::from("Agree")), left_out, ..Wizard::default() };
    (footprint, wizard)
}

fn every_product() -> impl Iterator<Item = (u32, Vec<Page>, Footprint, Wizard)> {
    // With no page left before the progress there is nothing to ask; a manifest can't say that.
    (0..256).filter(|set| set >> 7 == 0 || set & 0b101_1000 != 0).map(|set| {
        let (footprint, wizard) = product(set);
        (set, pages(&footprint, &wizard), footprint, wizard)
    })
}

fn named<'p>(pages: &'p [Page], name: &str) -> &'p Page {
    pages.iter().find(|page| page.name == name).unwrap_or_else(|| panic!("no page {name}"))
}

#[test]
fn nothing_lies_outside_a_page_or_over_something_else() {
    let ground = |control: &&Control| !matches!(control.kind, Kind::Strip | Kind::Line | Kind::Accent);
    for (set, pages, ..) in every_product() {
        for page in pages.iter().chain([&removal()]) {
            let controls: Vec<&Control> = page.controls.iter().filter(ground).collect();
            for (n, a) in controls.iter().enumerate() {
                let (x, y, w, h) = a.at;
                let inside = x >= 0 && y >= 0 && x + w <= page.size.0 && y + h <= page.size.1;
                assert!(inside, "{set:b}: {} {}", page.name, a.name);
                for b in &controls[n + 1..] {
                    let apart = x + w <= b.at.0 || b.at.0 + b.at.2 <= x || y + h <= b.at.1 || b.at.1 + b.at.3 <= y;
                    assert!(apart, "{set:b} {}: {} and {} overlap", page.name, a.name, b.name);
                }
            }
        }
    }
}

#[test]
fn next_goes_through_all_pages_and_back_through_the_same() {
    for (set, pages, footprint, wizard) in every_product() {
        let mut way = vec![pages[0].name];
        loop {
            let page = named(&pages, way[way.len() - 1]);
            let next = page.controls.iter().find(|control| control.name == "Next").unwrap();
            let back = page.controls.iter().find(|control| control.name == "Back");
            let before = way.len().checked_sub(2).map(|n| Action::Go(way[n]));
            assert_eq!(back.map(|back| back.action), before, "{set:b} {}", page.name);
            match next.action {
                Action::Go(to) => way.push(to),
                Action::Install => break,
                other => panic!("{set:b} {}: {other:?}", page.name),
            }
        }
        let shown = |name: &&str| match *name {
            "License" => wizard.license.is_some(),
            "Scope" => footprint.install.scope == Some(Scope::Asked),
            "Choices" => !footprint.choices.is_empty(),
            _ => true,
        };
        let wanted: Vec<&str> = ["Start", "License", "Scope", "Folder", "Choices"]
            .into_iter()
            .filter(shown)
            .filter(|name| !wizard.left_out.contains(name))
            .collect();
        assert_eq!(way, wanted, "{set:b}");
        // Nobody passes the licence without agreeing to it.
        if wizard.license.is_some() {
            let next = named(&pages, "License").controls.iter().find(|control| control.name == "Next").unwrap();
            assert_eq!(next.only_if, "LicenseAccepted = \"1\"");
        }
    }
}

#[test]
fn a_page_has_what_the_keyboard_needs_and_names_each_control_once() {
    for (set, pages, ..) in every_product() {
        let names: BTreeSet<&str> = pages.iter().map(|page| page.name).collect();
        assert_eq!(names.len(), pages.len(), "{set:b}: two pages have one name");
        for page in pages.iter().chain([&removal()]) {
            let mut controls: BTreeMap<&str, &Control> = BTreeMap::new();
            for control in &page.controls {
                assert!(controls.insert(control.name, control).is_none(), "{set:b} {}: {}", page.name, control.name);
                if let Action::Go(to) = control.action {
                    assert!(names.contains(to), "{set:b} {}: leads to {to}", page.name);
                }
            }
            for key in [page.default, page.cancel] {
                assert!(controls.get(key).is_some_and(|c| c.kind == Kind::Button), "{set:b} {}: {key}", page.name);
            }
        }
    }
}

#[test]
fn every_word_is_one_of_the_wizards_and_two_buttons_of_a_page_have_two_letters() {
    let known: BTreeMap<&str, [&str; 2]> =
        WORDS.iter().map(|(key, english, german)| (*key, [*english, *german])).collect();
    let mut used = BTreeSet::new();
    for (_, pages, ..) in every_product() {
        for page in pages.iter().chain([&removal()]) {
            for language in 0..2 {
                let mut letters = BTreeMap::new();
                // The two answers of who it is for are one control.
                let answers = page.controls.iter().filter(|control| control.kind == Kind::Scope);
                let answers = answers.flat_map(|_| ["scope-user", "scope-machine"]);
                let said = page.controls.iter().map(|control| control.words).filter(|words| !words.is_empty());
                for word in said.chain(answers) {
                    let words = known.get(word).unwrap_or_else(|| panic!("no word {word}"));
                    used.insert(word);
                    let text = words[language].replace("&&", "");
                    let Some((_, after)) = text.split_once('&') else { continue };
                    let letter = after.to_lowercase().chars().next().unwrap();
                    let other = letters.insert(letter, word);
                    assert_eq!(other, None, "{} ({language}): {word} has the same letter", page.name);
                }
            }
        }
    }
    // What no page shows is said while something happens, or by the program that starts it all.
    let rest: Vec<&str> = known.keys().filter(|key| !used.contains(*key)).copied().collect();
    insta::assert_snapshot!(rest.join(" "), @r#"removed-below removed-text removed-title setup-busy setup-damaged setup-elevation setup-failed setup-folder setup-in-use setup-newer setup-not-installed setup-other-scope setup-restart setup-space setup-windows"#);
}

#[test]
fn a_text_takes_its_blanks_from_the_product_and_the_language() {
    let (footprint, wizard) = product(0b100);
    let english = &wizard.languages[0];
    let said = |key: &str| english.word(key, &footprint);
    insta::assert_snapshot!(
        ["start-title", "start-files", "start-types", "done-below", "license-accept"].map(said).join("\n"),
        @r#"
    Install Hives 1.4.0
    0 files will be installed, using 0 bytes.
    It opens these file types: .hive
    Hives 1.4.0 has been installed
    I &accept the licence agreement
    "#
    );
    let unnamed =
        Footprint { product: Identity { name: Some("Salt & Honey".into()), ..Identity::default() }, ..footprint };
    assert!(english.word("start-title", &unnamed).contains("Salt && Honey"), "an ampersand marks no letter");
}
