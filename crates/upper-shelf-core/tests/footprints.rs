//! Footprints: their order, what of two traces with one key stays, their differences, and their forms for people and for
//! machines.

use upper_shelf_core::content::ContentHash;
use upper_shelf_core::footprint::*;
use upper_shelf_core::platform::Platform;

fn path(text: &str) -> RelPath {
    RelPath::new(text).expect("a path")
}

fn file(name: &str, size: u64, content: Option<&[u8]>) -> Trace {
    Trace::File { path: path(name), mode: 0o644, size, content: content.map(ContentHash::of) }
}

fn program(key: &str) -> Trace {
    Trace::Program {
        key: key.into(),
        file: path("bin/hives"),
        arguments: vec!["--quiet".into()],
        environment: [("HIVES".to_owned(), "{install}/data".to_owned())].into(),
        working_folder: WorkingFolder::Home,
        console: false,
    }
}

fn shortcut(place: Place, name: &str) -> Trace {
    let (program, arguments) = ("app".into(), vec!["a b".into()]);
    Trace::Shortcut { place, name: name.into(), program, arguments, description: Some("All hives".into()) }
}

fn registry(name: Option<&str>, value: RegistryValue) -> Trace {
    let key = r"Software\Hives".into();
    Trace::Registry {
        root: RegistryRoot::Installed,
        view: RegistryView::Own,
        key,
        name: name.map(str::to_owned),
        value,
    }
}

/// One of each kind.
fn all() -> Vec<Trace> {
    vec![
        Trace::Rule { key: "scope".into(), value: "machine".into() },
        Trace::Font { file: path("fonts/hive.ttf"), title: "Hive Sans".into() },
        registry(Some("Count"), RegistryValue::Number(7)),
        Trace::Environment { name: "HIVES".into(), action: EnvironmentAction::Append, value: "x".into() },
        Trace::LinkScheme { scheme: "hives".into(), program: "app".into() },
        Trace::FileType {
            mime: "text/x-hive".into(),
            extensions: vec!["hive".into()],
            name: "Hive".into(),
            program: "app".into(),
        },
        shortcut(Place::Menu, "Hives"),
        program("app"),
        Trace::Service(Box::new(Service {
            name: "HiveScale".into(),
            title: "Hive Scale".into(),
            description: None,
            program: "app".into(),
            arguments: Vec::new(),
            start: ServiceStart::OnDemand,
            account: None,
        })),
        Trace::Choice {
            key: "samples".into(),
            title: "Samples".into(),
            description: None,
            chosen: true,
            files: vec![path("samples/a")],
        },
        Trace::Link { path: path("bin/link"), target: "hives".into() },
        Trace::HardLink { path: path("bin/twin"), to: path("bin/hives") },
        file("bin/hives", 5, Some(b"hives")),
        Trace::Folder { path: path("bin"), mode: 0o755 },
    ]
}

fn footprint(traces: Vec<Trace>) -> Footprint {
    let product = Identity { name: Some("Hives".into()), version: Some("1.0".into()), ..Identity::default() };
    Footprint::new(product, Some(Platform::LinuxX64), traces)
}

#[test]
fn the_order_of_traces_does_not_depend_on_the_order_in_which_they_came() {
    let forward = footprint(all());
    let mut reversed = all();
    reversed.reverse();
    assert_eq!(forward, footprint(reversed));
    let kinds: Vec<&str> = forward.traces().iter().map(Trace::kind).collect();
    assert_eq!(kinds[..4], ["folder", "file", "link", "hard link"], "the tree comes first, by its paths");
    assert_eq!(
        kinds[4..],
        [
            "program",
            "shortcut",
            "file type",
            "link scheme",
            "environment variable",
            "registry value",
            "service",
            "font",
            "choice",
            "rule"
        ]
    );
}

#[test]
fn of_two_traces_with_one_key_the_later_one_stays_whatever_it_is() {
    let twice = footprint(vec![
        file("a", 1, None),
        shortcut(Place::Menu, "Hives"),
        registry(Some("Count"), RegistryValue::Number(1)),
        Trace::Folder { path: path("a"), mode: 0o700 },
        file("a", 3, None),
        registry(Some("COUNT"), RegistryValue::Text("2".into())),
    ]);
    assert_eq!(
        twice.traces(),
        [
            file("a", 3, None),
            shortcut(Place::Menu, "Hives"),
            // Windows takes names without regard to case.
            registry(Some("COUNT"), RegistryValue::Text("2".into())),
        ]
    );
    // What differs in the key stays twice.
    let apart = footprint(vec![
        shortcut(Place::Menu, "Hives"),
        shortcut(Place::Desktop, "Hives"),
        registry(None, RegistryValue::Number(1)),
        registry(Some("Count"), RegistryValue::Number(1)),
        file("a", 1, None),
        file("A", 1, None),
    ]);
    assert_eq!(apart.traces().len(), 6);
}

#[test]
fn a_difference_tells_what_was_added_removed_and_changed_and_nothing_else() {
    let old = footprint(all());
    assert!(old.difference(&old).is_empty());
    assert_eq!(old.difference(&old).same, all().len());
    for gone in all() {
        let rest: Vec<Trace> = all().into_iter().filter(|t| *t != gone).collect();
        let less = footprint(rest);
        assert_eq!(old.difference(&less).changes, [Change::Removed { old: gone.clone() }]);
        assert_eq!(less.difference(&old).changes, [Change::Added { new: gone.clone() }]);
        assert_eq!(old.difference(&less).same, all().len() - 1);
    }
    let changed = [
        (file("bin/hives", 5, Some(b"hives")), file("bin/hives", 5, Some(b"HIVES"))),
        (Trace::Folder { path: path("bin"), mode: 0o755 }, Trace::Folder { path: path("bin"), mode: 0o700 }),
        (
            Trace::Link { path: path("bin/link"), target: "hives".into() },
            Trace::HardLink { path: path("bin/link"), to: path("bin/hives") },
        ),
        (registry(Some("Count"), RegistryValue::Number(7)), registry(Some("Count"), RegistryValue::Text("7".into()))),
    ];
    for (was, is) in changed {
        let traces = all().into_iter().map(|t| if t == was { is.clone() } else { t }).collect();
        let difference = old.difference(&footprint(traces));
        assert_eq!(difference.changes, [Change::Changed { old: was, new: is }]);
    }
}

#[test]
fn a_hash_that_is_not_known_is_no_difference_but_a_size_is() {
    let known = footprint(vec![file("a", 5, Some(b"hives"))]);
    let listed = known.without_hashes();
    assert!(known.difference(&listed).is_empty() && listed.difference(&known).is_empty());
    assert_eq!(known.difference(&footprint(vec![file("a", 6, None)])).changes.len(), 1);
    let mut filled = listed.clone();
    filled.set_hashes(|p| (p.as_str() == "a").then(|| ContentHash::of(b"hives")));
    assert_eq!(filled, known);
    assert_eq!((known.size(), known.main_program()), (5, None));
}

#[test]
fn who_the_product_is_belongs_to_the_difference() {
    let old = footprint(Vec::new());
    let mut new = old.clone();
    new.product.version = Some("1.1".into());
    new.product.publisher = Some("Fernhollow".into());
    new.platform = Some(Platform::LinuxArm64);
    let difference = old.difference(&new);
    assert!(!difference.is_empty() && difference.changes.is_empty());
    let text = |name, a: &str, b: &str| (name, a.to_owned(), b.to_owned());
    let expected = [
        text("version", "1.0", "1.1"),
        text("publisher", "", "Fernhollow"),
        text("platform", "linux-x64", "linux-arm64"),
    ];
    assert_eq!(difference.identity, expected);
}

#[test]
fn the_form_for_people_shows_every_kind_and_the_one_for_machines_every_field() {
    let footprint = footprint(all());
    insta::assert_snapshot!("for-people", footprint.to_text());
    let json = serde_json::to_value(&footprint).expect("JSON");
    assert_eq!(json["platform"], "linux-x64");
    let traces = json["traces"].as_array().expect("a list");
    assert_eq!(traces.len(), all().len());
    for (json, trace) in traces.iter().zip(footprint.traces()) {
        // And back.
        let read: Trace = serde_json::from_value(json.clone()).expect("a trace");
        assert_eq!(&read, trace);
    }
    assert!(serde_json::from_str::<RelPath>("\"../up\"").is_err());
    assert!(serde_json::from_str::<ContentHash>("\"12\"").is_err());
}
