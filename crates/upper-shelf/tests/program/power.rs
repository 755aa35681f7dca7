//! The power fails at each step of an installation, an upgrade and a removal: after the next login the machine has the
//! old state or the new one, and nothing in between.

use crate::common::Folder;
use crate::common::hives::{PROGRAM, build};
use crate::common::machine::files;
use std::collections::BTreeSet;
use std::path::PathBuf;
use test_support::wine::Wine;

const MANIFEST: &str = r#"
[product]
id = "works.fernhollow.frames"
name = "Frames"
version = "VERSION"
publisher = "Fernhollow Apiary Works"
[[layer]]
from = "built"
[[program]]
key = "app"
file = "frames.exe"
[[shortcut]]
program = "app"
[[registry]]
key = 'Software\Fernhollow\Frames'
name = "Version"
value = { text = "VERSION" }
[[environment]]
name = "PATH"
value = "{install}"
action = "append"
[targets]
platforms = ["windows-x64"]
build = ["nsis"]
"#;

const HERE: &str = "Program Files/Frames";
const ENTRY: &str = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\works.fernhollow.frames";
const LOG: &str = r"/LOG=C:\log.txt";

fn package(version: &str) -> (Folder, PathBuf) {
    let folder = Folder::new();
    folder.write("shelf.toml", MANIFEST.replace("VERSION", version));
    folder.write("built/frames.exe", PROGRAM).write("built/frames.txt", format!("frames of {version}\n"));
    folder.write(&format!("built/only/in-{version}.txt"), "only in this version");
    let package = build(&folder);
    (folder, package)
}

fn log(machine: &Wine) -> String {
    std::fs::read_to_string(machine.c().join("log.txt")).unwrap_or_default()
}

/// A value of the registry, asked for while the machine runs.
fn registered(machine: &Wine, key: &str, name: &str) -> Option<String> {
    let out = machine.said(&["reg", "query", key, "/v", name]);
    let line = out.lines().find(|l| l.trim_start().starts_with(name))?.to_owned();
    line.split("REG_SZ").nth(1).map(|v| v.trim().to_owned())
}

/// The version that is there, judged by every trace of it; `None` if nothing is there.
fn version(machine: &Wine, step: &str) -> Option<String> {
    let at = machine.c().join(HERE);
    let both = || {
        (
            registered(machine, ENTRY, "DisplayVersion"),
            registered(machine, r"HKLM\Software\Fernhollow\Frames", "Version"),
        )
    };
    // A removal ends in a copy of the program that its caller doesn't wait for.
    let (mut listed, mut own) = both();
    for _ in 0..40 {
        if listed == own {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(250));
        (listed, own) = both();
    }
    assert_eq!(listed, own, "{step}: all of the registry is of one version");
    assert!(!at.join("~setup").exists(), "{step}: the waiting files are gone");
    let Some(version) = listed else {
        assert!(!at.exists(), "{step}: {:?}", test_support::listing(&at));
        return None;
    };
    let there: Vec<String> = test_support::listing(&at);
    let there: Vec<&str> = there.iter().map(|l| l.split(' ').next().unwrap_or_default()).collect();
    let only = format!("only/in-{version}.txt");
    assert_eq!(there, ["frames.exe", "frames.txt", "only/", &only, "uninstall.dat", "uninstall.exe"], "{step}");
    let frames = std::fs::read_to_string(at.join("frames.txt")).expect("there");
    assert_eq!(frames, format!("frames of {version}\n"), "{step}");
    Some(version)
}

/// What runs when somebody logs in: as the system itself would, once.
fn next_login(machine: &Wine) {
    let key = r"HKLM\Software\Microsoft\Windows\CurrentVersion\RunOnce";
    if let Some(line) = registered(machine, key, "works.fernhollow.frames") {
        let (program, rest) = line.trim_start_matches('"').split_once('"').expect("a program in quotes");
        let args: Vec<&str> = std::iter::once(program).chain(rest.split_whitespace()).collect();
        machine.code_beside(&args);
    }
}

/// Stops the program at each step and looks at the machine after the next login.
fn at_each_step(machine: &Wine, args: &[&str], before: Option<&str>, after: Option<&str>, again: &dyn Fn()) {
    let mut outcomes = BTreeSet::new();
    let own = r"HKLM\Software\works.fernhollow.frames";
    for step in 1..120 {
        machine.code_until_line(args, "log.txt", step);
        let log = log(machine);
        let last = log.lines().last().unwrap_or_default().to_owned();
        if last.ends_with("done") {
            assert_eq!(version(machine, "the end").as_deref(), after);
            assert!(step > 20 && outcomes.len() == 2, "{step} steps, {outcomes:?}");
            return;
        }
        next_login(machine);
        // Before the program has anything to be started by at the next login, its own next start clears up.
        if machine.said(&["reg", "query", own, "/v", "Unfinished"]).contains("Unfinished") {
            assert_eq!(machine.code_beside(&[r"C:\new.exe", "/S", "/RESUME"]), 0);
        }
        let version = version(machine, &last);
        assert!(version.as_deref() == before || version.as_deref() == after, "{last}: {version:?}");
        if version.as_deref() != before {
            again();
        }
        outcomes.insert(version);
    }
    panic!("it never came to its end: {}", log(machine));
}

#[test]
fn of_an_upgrade() {
    let ((_a, old), (_b, new)) = (package("1.0.0"), package("2.0.0"));
    let machine = Wine::new();
    let (old, new) = (machine.bring(&old, "old.exe"), machine.bring(&new, "new.exe"));
    assert_eq!(machine.code_beside(&[&old, "/S"]), 0);
    let back = || {
        assert_eq!(machine.code_beside(&[&new, "/S", "/REMOVE"]), 0);
        assert_eq!(machine.code_beside(&[&old, "/S"]), 0);
    };
    at_each_step(&machine, &[&new, "/S", LOG], Some("1.0.0"), Some("2.0.0"), &back);
    machine.run(&["wineboot", "-s"]);
}

#[test]
fn of_a_first_installation_and_of_a_removal() {
    let (_folder, package) = package("2.0.0");
    let machine = Wine::new();
    let files_before = files(&machine);
    let new = machine.bring(&package, "new.exe");
    let away = || assert_eq!(machine.code_beside(&[&new, "/S", "/REMOVE"]), 0);
    at_each_step(&machine, &[&new, "/S", LOG], None, Some("2.0.0"), &away);
    let again = || assert_eq!(machine.code_beside(&[&new, "/S"]), 0);
    at_each_step(&machine, &[&new, "/S", "/REMOVE", LOG], Some("2.0.0"), None, &again);
    machine.run(&["wineboot", "-s"]);
    let left: Vec<String> = files(&machine).difference(&files_before).cloned().collect();
    assert_eq!(left, Vec::<String>::new());
}
