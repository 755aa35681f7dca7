//! One product as an MSI and as a setup program: whichever comes second replaces the first, with its folder, its parts and
//! what people changed; where it may not, it says so before anything is changed.

use crate::common::hives::{build, product_for};
use crate::common::machine::{files, value};
use std::path::PathBuf;
use test_support::wine::{Registry, Wine};

const LOG: &str = r"/LOG=C:\log.txt";
const PLACE: &str = "Apiary of Mill Lane";
const OTHER_SCOPE: i32 = 1625 & 0xFF;
const FAILED: i32 = 1603 & 0xFF;

fn package(kind: &str, version: &str, more: &str) -> (crate::common::Folder, PathBuf) {
    let more = format!("{more}\n[[shortcut]]\nprogram = \"scale\"\nname = \"Scale\"\nplaces = [\"startup\"]\n");
    let folder = product_for(kind, version, &more);
    let package = build(&folder);
    (folder, package)
}

const KEPT: &str = "[install]\nkeep-changed = [\"data/frames.txt\"]";

fn log(machine: &Wine) -> String {
    std::fs::read_to_string(machine.c().join("log.txt")).unwrap_or_default()
}

/// The product's entries in the lists of applications.
fn entries(registry: &Registry) -> Vec<String> {
    let is_it =
        |v: &std::collections::BTreeMap<String, String>| v.get("DisplayName").is_some_and(|n| n.contains("Hives"));
    let list = registry.iter().filter(|(k, v)| k.contains("CurrentVersion\\Uninstall\\") && is_it(v));
    list.map(|(k, _)| k.rsplit('\\').next().unwrap_or_default().to_owned()).collect()
}

fn at(machine: &Wine, path: &str) -> bool {
    machine.c().join(PLACE).join(path).exists()
}

/// Whether there are parts, a shortcut on the desktop, one at login.
fn choices(machine: &Wine) -> (bool, bool, bool) {
    let all = files(machine);
    let has = |end: &str| all.iter().any(|f| f.contains(end));
    (
        at(machine, "samples/a.comb"),
        has("Desktop/Hives & Frames.lnk"),
        has("StartUp/Scale.lnk") || has("Startup/Scale.lnk"),
    )
}

#[test]
fn a_setup_program_replaces_the_msi() {
    let (_one, msi) = package("msi", "1.0.0", KEPT);
    let (_two, setup) = package("nsis", "2.0.0", KEPT);
    let machine = Wine::new();
    let msi = machine.bring(&msi, "package.msi");
    let line = ["/i", &msi, &format!("INSTALLDIR=C:\\{PLACE}\\"), "ADDLOCAL=Main", "DESKTOPSHORTCUT=0"];
    assert_eq!(machine.msiexec(&line), 0);
    assert_eq!(choices(&machine), (false, false, true));
    std::fs::write(machine.c().join(PLACE).join("data/frames.txt"), "changed by somebody").expect("written");
    std::fs::write(machine.c().join(PLACE).join("notes.txt"), "made by somebody").expect("written");
    let name = machine.bring(&setup, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG], &[]), 0, "{}", log(&machine));
    assert_eq!(entries(&machine.registry()), ["works.fernhollow.hives"]);
    assert!(at(&machine, "hives.exe") && at(&machine, "uninstall.exe"), "in the same folder");
    assert_eq!(choices(&machine), (false, false, true), "with the same choices");
    let text = |path: &str| std::fs::read_to_string(machine.c().join(PLACE).join(path)).unwrap_or_default();
    assert_eq!((text("data/frames.txt"), text("notes.txt")), ("changed by somebody".into(), "made by somebody".into()));
    assert_eq!(machine.code_of(&[&name, "/S", LOG, "/REMOVE"], &[]), 0, "{}", log(&machine));
    assert_eq!(entries(&machine.registry()), Vec::<String>::new());
    assert!(!at(&machine, "hives.exe") && at(&machine, "notes.txt"));
}

#[test]
fn an_msi_replaces_the_setup_program() {
    let (_one, setup) = package("nsis", "1.0.0", "");
    let (_two, msi) = package("msi", "2.0.0", "");
    let machine = Wine::new();
    let name = machine.bring(&setup, "setup.exe");
    let place = format!(r"/FOLDER=C:\{PLACE}");
    assert_eq!(machine.code_of(&[&name, "/S", LOG, &place, "/CHOICES=", "/STARTUP=0"], &[]), 0, "{}", log(&machine));
    assert_eq!(choices(&machine), (false, true, false));
    std::fs::write(machine.c().join(PLACE).join("notes.txt"), "made by somebody").expect("written");
    let msi = machine.bring(&msi, "package.msi");
    assert_eq!(machine.msiexec(&["/i", &msi]), 0);
    let found = entries(&machine.registry());
    assert!(found.len() == 1 && found[0].starts_with('{'), "{found:?}");
    assert!(at(&machine, "hives.exe") && at(&machine, "tools/scale.exe") && !at(&machine, "uninstall.exe"));
    assert_eq!(choices(&machine), (false, true, false), "with the same choices");
    assert_eq!(machine.msiexec(&["/x", &msi]), 0);
    assert_eq!(entries(&machine.registry()), Vec::<String>::new());
    assert!(!at(&machine, "hives.exe") && at(&machine, "notes.txt"));
}

#[test]
fn the_other_scope_is_said_before_anything_changes() {
    let user = "[install]\nscope = \"user\"";
    let (_one, setup_of_person) = package("nsis", "1.0.0", user);
    let (_two, msi_of_machine) = package("msi", "2.0.0", "");
    let machine = Wine::new();
    let name = machine.bring(&setup_of_person, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG], &[]), 0, "{}", log(&machine));
    let before = files(&machine);
    let msi = machine.bring(&msi_of_machine, "package.msi");
    assert_eq!(machine.msiexec(&["/i", &msi]), FAILED);
    assert_eq!(files(&machine), before);
    assert_eq!(entries(&machine.registry()).len(), 1);

    let machine = Wine::new();
    let msi = machine.bring(&msi_of_machine, "package.msi");
    assert_eq!(machine.msiexec(&["/i", &msi]), 0);
    let before = files(&machine);
    let (_three, newer) = package("nsis", "3.0.0", user);
    let name = machine.bring(&newer, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG], &[]), OTHER_SCOPE, "{}", log(&machine));
    assert!(log(&machine).contains("setup-other-scope"));
    assert_eq!(files(&machine), before);
}

#[test]
fn an_older_setup_program_does_not_replace_a_newer_msi() {
    let (_one, msi) = package("msi", "2.0.0", "");
    let (_two, setup) = package("nsis", "1.0.0", "");
    let machine = Wine::new();
    let msi = machine.bring(&msi, "package.msi");
    assert_eq!(machine.msiexec(&["/i", &msi]), 0);
    let before = files(&machine);
    let name = machine.bring(&setup, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG], &[]), 1638 & 0xFF, "{}", log(&machine));
    assert_eq!(files(&machine), before);
}

#[test]
fn what_an_msi_does_not_have_stays_others_and_choices_stay_over_upgrades() {
    let [(_a, first), (_b, second)] = ["1.0.0", "2.0.0"].map(|v| package("msi", v, ""));
    let machine = Wine::new();
    machine.run(&["reg", "add", r"HKLM\Software\Classes\.comb", "/ve", "/d", "Other.Comb", "/f"]);
    let of = |machine: &Wine| value(&machine.registry(), r"machine\Software\Classes\.comb", "@").map(str::to_owned);
    let (first, second) = (machine.bring(&first, "first.msi"), machine.bring(&second, "second.msi"));
    assert_eq!(machine.msiexec(&["/i", &first, "DESKTOPSHORTCUT=0", "ADDLOCAL=Main"]), 0);
    assert_eq!(of(&machine).as_deref(), Some("\"Other.Comb\""));
    let there = || {
        let all = files(&machine);
        let has = |end: &str| all.iter().any(|f| f.contains(end));
        (has("samples"), has("Desktop/Hives & Frames.lnk"), has("Scale.lnk"))
    };
    assert_eq!(there(), (false, false, true), "no folder of a part that is not there");
    assert_eq!(machine.msiexec(&["/i", &second]), 0);
    // Wine does not hand on which features there were ("MigrateFeatureStates").
    let (_, desktop, startup) = there();
    assert_eq!((desktop, startup), (false, true), "upgraded");
    assert!(value(&machine.registry(), r"machine\Software\Classes\.brood", "@").is_some());
    assert_eq!(machine.msiexec(&["/x", &second]), 0);
    assert_eq!(of(&machine).as_deref(), Some("\"Other.Comb\""), "and it is there when the product is gone");
}

#[test]
fn an_older_msi_does_not_replace_a_newer_setup_program() {
    let older = |kind: &str| package(kind, "1.9.0", "");
    let ((_one, setup), (_two, old_msi)) = (package("nsis", "1.10.0", ""), older("msi"));
    let machine = Wine::new();
    let name = machine.bring(&setup, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG], &[]), 0, "{}", log(&machine));
    let before = (files(&machine), machine.registry());
    let old_msi = machine.bring(&old_msi, "old.msi");
    assert_eq!(machine.msiexec(&["/i", &old_msi]), FAILED);
    assert_eq!(files(&machine), before.0);
    assert_eq!(entries(&machine.registry()), entries(&before.1));
    // The other way round: the setup program knows what Windows Installer has.
    let (_three, same_msi) = package("msi", "1.10.0", "");
    let same_msi = machine.bring(&same_msi, "same.msi");
    assert_eq!(machine.msiexec(&["/i", &same_msi]), 0, "the same version replaces it");
    let (_four, old_setup) = older("nsis");
    let old_setup = machine.bring(&old_setup, "old.exe");
    assert_eq!(machine.code_of(&[&old_setup, "/S", LOG], &[]), 1638 & 0xFF, "{}", log(&machine));
    let found = entries(&machine.registry());
    assert!(found.len() == 1 && found[0].starts_with('{'), "{found:?}");
    let order = |r: &Registry| value(r, r"machine\Software\works.fernhollow.hives", "Order").is_some();
    assert!(order(&before.1) && !order(&machine.registry()), "the value goes with its program");
}
