//! Windows Installer packages, really installed on a machine of Wine: what is there afterwards is compared with the
//! footprint item by item, and after removal the machine is the one from before.

use crate::common::hives::{build, damaged, product};
use crate::common::machine::{Look, changed, files, is_the_footprint, quiet, value};
use std::collections::BTreeMap;
use std::path::Path;
use test_support::wine::{Registry, Wine};

fn installed(machine: &Wine, package: &Path, args: &[&str]) -> i32 {
    let name = machine.bring(package, "package.msi");
    machine.msiexec(&[&["/i", name.as_str()], args].concat())
}

fn own_entry(registry: &Registry) -> Vec<(&String, &BTreeMap<String, String>)> {
    let list = "CurrentVersion\\Uninstall\\{";
    registry
        .iter()
        .filter(|(k, v)| k.contains(list) && v.get("DisplayName").is_some_and(|n| n.contains("Hives")))
        .collect()
}

#[test]
fn an_installation_leaves_exactly_the_footprint_and_removal_leaves_nothing() {
    let folder = product("2.4.0", "");
    let package = build(&folder);
    let machine = Wine::new();
    let (files_before, registry_before) = (files(&machine), quiet(machine.registry()));
    assert_eq!(installed(&machine, &package, &[]), 0);
    let menu = r"C:\users\root\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Hives & Frames.lnk";
    let registry = is_the_footprint(&machine, &folder, &package, &Look { menu, picture: "product.ico", bare: "\\" });
    let entries = own_entry(&registry);
    assert_eq!(entries.len(), 1);
    let entry = entries[0].1;
    for (name, expected) in [
        ("DisplayName", "\"Hives & Frames\""),
        ("DisplayVersion", "\"2.4.0\""),
        ("Publisher", "\"Fernhollow Apiary Works\""),
        ("Comments", "\"Counts frames [and] (hives)\""),
        ("URLInfoAbout", "\"https://fernhollow.example/hives\""),
        ("Contact", "\"bees@fernhollow.example\""),
        ("InstallLocation", "\"C:\\Program Files\\Hives & Frames\\\""),
    ] {
        assert_eq!(entry.get(name).map(String::as_str), Some(expected), "{name}");
    }

    std::fs::remove_file(machine.c().join("where.txt")).expect("removed");
    assert_eq!(machine.msiexec(&["/x", "C:\\package.msi"]), 0);
    let left: Vec<String> = files(&machine).difference(&files_before).cloned().collect();
    assert_eq!(left, Vec::<String>::new(), "left behind");
    assert_eq!(changed(&registry_before, &quiet(machine.registry())), Vec::<String>::new());
}

#[test]
fn an_upgrade_replaces_everything_and_a_downgrade_is_refused() {
    for when in ["early", "late"] {
        let rule = format!("[install]\nupgrade = \"{when}\"");
        let (old, new) = (product("1.0.0", &rule), product("2.0.0", &rule));
        old.write("built/data/gone.txt", "only in the old version");
        new.write("built/data/come.txt", "only in the new version");
        let (old, new) = (build(&old), build(&new));
        let machine = Wine::new();
        // The folder that was chosen for the old version is the new one's too.
        assert_eq!(installed(&machine, &old, &["INSTALLDIR=C:\\Apiary\\"]), 0);
        let at = |path: &str| machine.c().join("Apiary").join(path);
        assert!(at("data/gone.txt").exists());
        assert_eq!(installed(&machine, &new, &[]), 0, "{when}");
        let there = test_support::listing(&at(""));
        assert!(!at("data/gone.txt").exists() && at("data/come.txt").exists(), "{when}: {there:?}");
        assert_eq!(std::fs::read_to_string(at("data/frames.txt")).expect("there"), "frames of 2.0.0\n", "{when}");
        let registry = machine.registry();
        let entries = own_entry(&registry);
        assert_eq!(entries.len(), 1, "{when}: one entry in the list of applications");
        assert_eq!(entries[0].1.get("DisplayVersion").map(String::as_str), Some("\"2.0.0\""));
        let before = files(&machine);
        // Wine forgets a product's upgrade code when a late upgrade takes the old version away, and finds no newer one.
        if when == "early" {
            // 1603: the low byte is 67.
            assert_eq!(installed(&machine, &old, &[]), 67, "{when}");
            assert_eq!(files(&machine), before, "{when}: a refused downgrade changes nothing");
            assert_eq!(machine.msiexec(&["/x", "C:\\package.msi"]), 67, "the old package removes nothing");
        }
        assert_eq!(installed(&machine, &new, &["REMOVE=ALL"]), 0);
        assert!(!at("").exists(), "{when}");
    }
}

#[test]
fn choices_and_shortcuts_are_left_out_when_an_administrator_says_so() {
    let folder = product("1.0.0", "");
    let package = build(&folder);
    let machine = Wine::new();
    assert_eq!(installed(&machine, &package, &["ADDLOCAL=Main", "DESKTOPSHORTCUT=0"]), 0);
    let there = files(&machine);
    assert!(there.iter().any(|f| f.contains("Hives & Frames/hives.exe")));
    assert!(!there.iter().any(|f| f.contains("samples/a.comb") || f.contains("Desktop/Hives")), "{there:?}");
}

#[test]
fn a_repair_brings_back_what_was_lost() {
    let folder = product("1.0.0", "");
    let package = build(&folder);
    let machine = Wine::new();
    assert_eq!(installed(&machine, &package, &[]), 0);
    let file = machine.c().join("Program Files/Hives & Frames/data/frames.txt");
    std::fs::remove_file(&file).expect("removed");
    assert_eq!(installed(&machine, &package, &["REINSTALL=ALL", "REINSTALLMODE=amus"]), 0);
    assert!(file.exists());
}

#[test]
fn a_failing_installation_changes_nothing() {
    let folder = product("1.0.0", "");
    let package = build(&folder);
    let damaged = damaged(&folder, &package);
    let machine = Wine::new();
    let (before, registry) = (files(&machine), quiet(machine.registry()));
    assert_eq!(installed(&machine, &damaged, &[]), 67);
    let left: Vec<String> = files(&machine).difference(&before).cloned().collect();
    assert_eq!(left, Vec::<String>::new());
    assert_eq!(files(&machine), before);
    assert_eq!(changed(&registry, &quiet(machine.registry())), Vec::<String>::new());
    let check = folder.command(&["check", "damaged.msi"]).output().expect("run");
    assert_eq!(check.status.code(), Some(4));
}

#[test]
fn one_person_installs_without_touching_the_machine() {
    let folder = product("1.0.0", "[install]\nscope = \"user\"");
    let package = build(&folder);
    let machine = Wine::new();
    assert_eq!(installed(&machine, &package, &[]), 0);
    let own = machine.c().join("users/root/AppData/Local/Programs/Hives & Frames/hives.exe");
    assert!(own.exists());
    let registry = machine.registry();
    assert_eq!(value(&registry, "user\\Software\\Fernhollow\\Hives", "Number"), Some("dword:f0000000"));
    assert_eq!(value(&registry, "machine\\Software\\Fernhollow\\Hives", "Number"), None);
    assert_eq!(machine.msiexec(&["/x", "C:\\package.msi"]), 0);
    assert!(!own.exists());
}

#[test]
fn a_service_is_installed_and_taken_away() {
    let service = "[[service]]\nname = \"HiveScale\"\ntitle = \"Hive Scale\"\nprogram = \"scale\"\nstart = \"on-demand\"\narguments = [\"--quiet\"]";
    let folder = product("1.0.0", service);
    let package = build(&folder);
    let machine = Wine::new();
    assert_eq!(installed(&machine, &package, &[]), 0);
    let registry = machine.registry();
    let key = "machine\\System\\CurrentControlSet\\Services\\HiveScale";
    assert_eq!(value(&registry, key, "DisplayName"), Some("\"Hive Scale\""));
    assert_eq!(value(&registry, key, "Start"), Some("dword:00000003"));
    let image = value(&registry, key, "ImagePath").expect("a path");
    assert!(image.contains("tools\\scale.exe") && image.ends_with("--station \"Mill Lane\" --quiet\""), "{image}");
    assert_eq!(machine.msiexec(&["/x", "C:\\package.msi"]), 0);
    assert_eq!(value(&machine.registry(), key, "DisplayName"), None);
}

#[test]
fn the_same_input_gives_the_same_package_and_any_change_another_code() {
    let package = |version: &str, more: Option<&str>| {
        let folder = product(version, "");
        if let Some(text) = more {
            folder.write("built/data/frames.txt", text);
        }
        std::fs::read(build(&folder)).expect("read")
    };
    let first = package("1.0.0", None);
    assert!(first == package("1.0.0", None));
    let code = |bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes).into_owned();
        let at = text.find("x64;1033").expect("a template");
        let rest = &text[at..at + 100];
        rest[rest.find('{').expect("a code")..][..38].to_owned()
    };
    assert_ne!(code(&first), code(&package("1.0.0", Some("other"))));
    assert_eq!(code(&first), code(&package("1.0.0", None)));
}

/// What is said of a manifest, without anything being written.
fn problems(version: &str, more: &str) -> String {
    let folder = product(version, more);
    let out = folder.command(&["build"]).output().expect("run");
    assert_eq!(out.status.code(), Some(1), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(!folder.at("packages").exists(), "nothing is written");
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn what_a_package_cannot_hold_is_said_before_anything_is_packed() {
    for (version, more, said) in [
        ("2026.1", "", "an MSI can't hold the version \"2026.1\""),
        ("1.0-beta", "", "it must be two or three whole numbers"),
        ("1.2.3.4", "", "a fourth number isn't compared"),
        ("1.0", "[target.msi]\ncode-page = 1251", "code page 1251 can't hold"),
        ("1.0", "[target.msi]\nupgrade-code = \"12-34\"", "\"12-34\" can't be an upgrade code"),
        (
            "1.0",
            "[install]\nscope = \"user\"\n[[service]]\nname = \"A\"\nprogram = \"scale\"",
            "a service can't be installed for one user",
        ),
        (
            "1.0",
            "[install]\nscope = \"asked\"\n[[service]]\nname = \"A\"\nprogram = \"scale\"",
            "a service can't be installed for one user",
        ),
        ("1.0", "[install]\nminimum-windows = \"ten\"", "\"ten\" isn't a version of Windows"),
        ("1.0", "[install]\nstart-at-end = \"ap\"", "instead: \"app\""),
        ("1.0", "[[font]]\nfile = \"fonts/hives.ttf\"\ntitle = \"x\"", "instead: file = \"fonts/hive.ttf\""),
        (
            "1.0",
            "[[choice]]\nkey = \"more\"\ntitle = \"More\"\nfiles = [\"no/**\"]",
            "the choice \"more\" has no files",
        ),
        ("1.0", "[wizard]\nlanguages = [\"en\", \"fr\"]", "the language \"fr\" has no words for next, back"),
        ("1.0", "[wizard]\npages = []", "a wizard needs at least one page"),
        ("1.0", "[wizard]\npages = [\"start\", \"license\"]", "the page `license` has no licence to show"),
        ("1.0", "[wizard]\npages = [\"done\"]", "instead: one of"),
        ("1.0", "[wizard]\naccent = \"honey\"", "\"honey\" isn't a colour"),
        ("1.0", "[target.msi]\ncabinet-megabytes = 0", "instead: a number from 1 to 1900"),
        (
            "1.0",
            "[[registry]]\nkey = 'software\\classes\\.COMB\\ShellNew'\nvalue = { text = \"\" }",
            "belongs to a [[file-type]]",
        ),
        (
            "1.0",
            "[[registry]]\nkey = 'Software\\Classes\\hives\\DefaultIcon'\nvalue = { text = \"x\" }",
            "belongs to a [[link-scheme]]",
        ),
        (
            "1.0",
            "[[registry]]\nkey = 'Software\\Classes\\.hive'\nvalue = { text = \"works.fernhollow.hives.comb\" }",
            "add the extension to `extensions`",
        ),
        ("1.0", "[[registry]]\nkey = 'Software\\X'\nvalue = { list = [\"a\", \"\"] }", "contains an empty text"),
        ("1.0", "[wizard]\nlanguages = [\"xx\"]", "\"xx\" isn't a known language"),
        ("1.0", "[wizard]\nlicense = \"none.txt\"", "the licence none.txt can't be read"),
        ("1.0", "[wizard.words.de]\ndone-txt = \"x\"", "instead: done-text = \"…\""),
    ] {
        let text = problems(version, more);
        assert!(text.contains(said), "{said}\n---\n{text}");
    }
}
