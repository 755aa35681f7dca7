//! Footprints: their order, what of two traces with one key stays, their differences, and their forms for people and for
//! machines.

use upper_shelf_core::content::ContentHash;
use upper_shelf_core::footprint::*;
use upper_shelf_core::platform::Platform;

fn path(text: &str) -> RelPath {
    RelPath::new(text).expect("a path")
}

fn file(name: &str, size: u64, content: Option<&[u8]>) -> Trace {
    Node::File { path: path(name), mode: 0o644, size, content: content.map(ContentHash::of) }.into()
}

fn folder(name: &str, mode: u32) -> Trace {
    Node::Folder { path: path(name), mode }.into()
}

fn program(key: &str) -> Trace {
    Program {
        key: key.into(),
        file: path("bin/hives"),
        arguments: vec!["--quiet".into()],
        environment: [("HIVES".to_owned(), "{install}/data".to_owned())].into(),
        unset: ["BEES".to_owned()].into(),
        working_folder: WorkingFolder::Home,
        console: false,
    }
    .into()
}

fn shortcut(place: Place, name: &str) -> Trace {
    let (program, arguments) = ("app".into(), vec!["a b".into()]);
    Shortcut { place, name: name.into(), program, arguments, description: Some("All hives".into()) }.into()
}

fn registry(name: Option<&str>, value: RegistryValue) -> Trace {
    let (root, view) = (RegistryRoot::Installed, RegistryView::Own);
    RegistryEntry { root, view, key: r"Software\Hives".into(), name: name.map(str::to_owned), value }.into()
}

/// One of each kind, but rules.
fn all() -> Vec<Trace> {
    vec![
        Foreign::Table { name: "Hives".into(), rows: 3 }.into(),
        ShellFile { kind: ShellFileKind::Manual, name: "hives.1".into(), file: path("man/hives.1") }.into(),
        ShellFile { kind: ShellFileKind::Bash, name: "hives".into(), file: path("hives.bash") }.into(),
        Command { name: "hives".into(), program: "app".into() }.into(),
        Font { file: path("fonts/hive.ttf"), title: "Hive Sans".into() }.into(),
        registry(Some("Count"), RegistryValue::Number(7)),
        Variable { name: "HIVES".into(), action: EnvironmentAction::Append, value: "x".into() }.into(),
        LinkScheme { scheme: "hives".into(), program: "app".into() }.into(),
        FileType {
            mime: "text/x-hive".into(),
            extensions: vec!["hive".into()],
            name: "Hive".into(),
            program: "app".into(),
        }
        .into(),
        shortcut(Place::Menu, "Hives"),
        program("app"),
        Service {
            name: "HiveScale".into(),
            title: "Hive Scale".into(),
            description: None,
            program: "app".into(),
            arguments: Vec::new(),
            start: ServiceStart::OnDemand,
            account: None,
        }
        .into(),
        Choice {
            key: "samples".into(),
            title: "Samples".into(),
            description: None,
            chosen: true,
            files: vec![path("samples/a")],
        }
        .into(),
        Permission { access: Access::Camera, reason: Some("To photograph frames".into()) }.into(),
        IconImage { form: IconForm::Png(64), content: None }.into(),
        Node::Link { path: path("bin/link"), target: "hives".into() }.into(),
        Node::HardLink { path: path("bin/twin"), to: path("bin/hives") }.into(),
        file("bin/hives", 5, Some(b"hives")),
        folder("bin", 0o755),
    ]
}

/// How all of it goes onto a machine.
fn install() -> InstallRules {
    InstallRules {
        scope: Some(Scope::Asked),
        folder: Some("Fernhollow/Hives".into()),
        minimum_windows: "10.0.17763".parse().ok(),
        minimum_macos: "11.0".parse().ok(),
        downgrade: Some(Downgrade::Blocked),
        upgrade: Some(Upgrade::Late),
        upgrade_code: Some("{01234567-89AB-CDEF-0123-456789ABCDEF}".into()),
        start_at_end: Some("app".into()),
        keep_changed: [path("a"), path("b")].into(),
    }
}

fn bundle() -> BundleRules {
    BundleRules {
        agent: true,
        copyright: Some("© Fernhollow".into()),
        names: [("de".to_owned(), "Stöcke".to_owned())].into(),
        keys: [("HiveKind".to_owned(), JsonText("7".into()))].into(),
    }
}

/// A footprint of some items, in the order in which they come.
fn footprint(items: Vec<Trace>) -> Footprint {
    let product = Identity { name: Some("Hives".into()), version: Some("1.0".into()), ..Identity::default() };
    let mut f = Footprint { product, platform: Some(Platform::LinuxX64), ..Footprint::default() };
    for item in items {
        match item {
            Trace::Node(item) => f.tree.extend([item]),
            Trace::Program(item) => f.programs.extend([item]),
            Trace::Shortcut(item) => f.shortcuts.extend([item]),
            Trace::FileType(item) => f.file_types.extend([item]),
            Trace::LinkScheme(item) => f.link_schemes.extend([item]),
            Trace::Variable(item) => f.environment.extend([item]),
            Trace::Registry(item) => f.registry.extend([item]),
            Trace::Service(item) => f.services.extend([item]),
            Trace::Font(item) => f.fonts.extend([item]),
            Trace::Command(item) => f.commands.extend([item]),
            Trace::ShellFile(item) => f.shell_files.extend([item]),
            Trace::Choice(item) => f.choices.extend([item]),
            Trace::Permission(item) => f.permissions.extend([item]),
            Trace::Foreign(item) => f.foreign.extend([item]),
            Trace::Icon(item) => f.icons.extend([item]),
            Trace::Rule(rule) => panic!("{rule} is a field, and no item of a list"),
        }
    }
    f
}

#[test]
fn the_order_of_traces_does_not_depend_on_the_order_in_which_they_came() {
    let forward = footprint(all());
    let mut reversed = all();
    reversed.reverse();
    assert_eq!(forward, footprint(reversed));
    let traces: Vec<Trace> = forward.traces().collect();
    let kinds: Vec<&str> = traces.iter().map(Trace::kind).collect();
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
            "command",
            "completion",
            "manual page",
            "choice",
            "permission",
            "further item",
            "icon"
        ]
    );
}

#[test]
fn of_two_traces_with_one_key_the_later_one_stays_whatever_it_is() {
    let twice = footprint(vec![
        file("a", 1, None),
        shortcut(Place::Menu, "Hives"),
        registry(Some("Count"), RegistryValue::Number(1)),
        folder("a", 0o700),
        file("a", 3, None),
        registry(Some("COUNT"), RegistryValue::Text("2".into())),
    ]);
    assert_eq!(
        twice.traces().collect::<Vec<_>>(),
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
    assert_eq!(apart.traces().count(), 6);
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
        (folder("bin", 0o755), folder("bin", 0o700)),
        (
            Node::Link { path: path("bin/link"), target: "hives".into() }.into(),
            Node::HardLink { path: path("bin/link"), to: path("bin/hives") }.into(),
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
    let text = |field, old: &str, new: &str| FieldChange { field, old: old.into(), new: new.into() };
    let expected = [
        text("version", "1.0", "1.1"),
        text("publisher", "", "Fernhollow"),
        text("platform", "linux-x64", "linux-arm64"),
    ];
    assert_eq!(difference.identity, expected);
}

#[test]
fn the_form_for_people_shows_every_kind_and_the_one_for_machines_comes_back() {
    let whole = Footprint { install: install(), bundle: bundle(), ..footprint(all()) };
    insta::assert_snapshot!(whole.to_text(), @r#"
    Hives 1.0
      platform     linux-x64

    files (1, 5 bytes)
      └─ bin/                                     1 file, 5 bytes
         ├─ hives                                 5 bytes, mode 644, e09d8ff8af78
         ├─ link                                  → hives
         └─ twin                                  the same file as bin/hives

    programs
      app: bin/hives "--quiet", with HIVES={install}/data, without BEES, in the home folder

    shortcuts
      menu: “Hives” starts app "a b" (All hives)

    file types
      .hive: “Hive” (text/x-hive) opens with app

    link schemes
      hives: links open with app

    environment variables
      HIVES = what was there, then x

    registry values
      Software\Hives · Count = 7

    services
      HiveScale: “Hive Scale” runs app, on demand

    fonts
      “Hive Sans” from fonts/hive.ttf

    commands
      hives starts app

    completions
      bash for hives, from hives.bash

    manual pages
      hives.1, from man/hives.1

    choices
      samples: “Samples”, 1 file, selected by default

    permissions
      camera: To photograph frames

    rules
      agent: yes
      copyright: © Fernhollow
      downgrade: blocked
      folder: Fernhollow/Hives
      keep-changed a: yes
      keep-changed b: yes
      key HiveKind: 7
      minimum-macos: 11.0
      minimum-windows: 10.0.17763
      name de: Stöcke
      scope: asked
      start-at-end: app
      upgrade: late
      upgrade-code: {01234567-89AB-CDEF-0123-456789ABCDEF}

    further items
      table Hives: 3 rows that the footprint doesn't show

    icons
      PNG 64 × 64
    "#);
    let json = serde_json::to_string(&whole).expect("JSON");
    assert_eq!(serde_json::from_str::<Footprint>(&json).expect("a footprint"), whole);
    assert!(serde_json::from_str::<RelPath>("\"../up\"").is_err());
    assert!(serde_json::from_str::<ContentHash>("\"12\"").is_err());
    assert!(serde_json::from_str::<SystemVersion>("\"ten\"").is_err());
}

#[test]
fn each_rule_is_shown_compared_and_told_apart_by_its_name() {
    let (plain, ruled) =
        (footprint(Vec::new()), Footprint { install: install(), bundle: bundle(), ..footprint(Vec::new()) });
    let difference = plain.difference(&ruled);
    let added: Vec<String> = difference.changes.iter().map(|c| format!("{c:?}")).collect();
    assert_eq!(added.len(), 10 + 4, "{added:#?}");
    assert!(added.iter().all(|c| c.starts_with("Added")), "{added:#?}");
    let mut other = ruled.clone();
    other.install.scope = Some(Scope::User);
    other.bundle.names.insert("fr".into(), "Ruches".into());
    let changes = ruled.difference(&other).changes;
    let [Change::Added { new }, Change::Changed { old, new: is }] = &changes[..] else { panic!("{changes:#?}") };
    assert_eq!(new.to_string(), "name fr: Ruches");
    assert_eq!((old.to_string().as_str(), is.to_string().as_str()), ("scope: asked", "scope: user"));
}

#[test]
fn versions_of_systems_are_one_to_three_numbers() {
    for text in ["11", "10.13", "10.0.17763"] {
        assert_eq!(text.parse::<SystemVersion>().expect("a version").to_string(), text);
    }
    for text in ["", ".", "10.", "10.x", "1.2.3.4", "-1", "99999999999"] {
        assert!(text.parse::<SystemVersion>().is_err(), "{text}");
    }
    let order: Vec<SystemVersion> =
        ["10", "10.9", "10.13", "10.13.1", "11"].map(|v| v.parse().expect("a version")).into();
    assert!(order.is_sorted());
}
