//! The page for administrators: its command lines are run as they stand there, and what it says is there is there.

use crate::common::Folder;
use crate::common::hives::{build, product};
use std::path::{Path, PathBuf};
use test_support::wine::Wine;

struct Page {
    text: String,
}

impl Page {
    fn beside(package: &Path) -> Self {
        let text = std::fs::read_to_string(package.with_extension("msi.DEPLOY.md")).expect("a page");
        Self { text }
    }

    /// The second column of the table's row that begins with this, without its marks.
    fn row(&self, first: &str) -> String {
        let begin = format!("| {first} | ");
        let line = self.text.lines().find_map(|l| l.strip_prefix(&begin));
        let line = line.unwrap_or_else(|| panic!("no row begins with {begin:?} in\n{}", self.text));
        line.split(" |").next().unwrap_or_default().trim_matches('`').to_owned()
    }

    /// What follows a word of the list at the end.
    fn said(&self, word: &str) -> String {
        let begin = format!("- {word}: ");
        let line = self.text.lines().find_map(|l| l.strip_prefix(&begin)).expect("said");
        line.split('`').nth(1).expect("a value").to_owned()
    }
}

/// A machine with the package in its own folder, and the page.
fn machine(version: &str, more: &str) -> (Folder, Wine, Page, PathBuf) {
    let folder = product(version, more);
    let package = build(&folder);
    let machine = Wine::new();
    let name = package.file_name().expect("a name").to_str().expect("text").to_owned();
    machine.bring(&package, &name);
    let page = Page::beside(&package);
    (folder, machine, page, package)
}

/// Types a line into the system's command prompt, in the folder with the package; gives the exit code.
fn typed(machine: &Wine, line: &str) -> i32 {
    std::fs::write(machine.c().join("typed.bat"), format!("@cd /d C:\\\r\n@{line}\r\n@exit %ERRORLEVEL%\r\n"))
        .expect("written");
    machine.run(&["cmd", "/c", "C:\\typed.bat"]).status.code().unwrap_or(-1)
}

fn installed(machine: &Wine, file: &str) -> bool {
    machine.c().join("Program Files/Hives & Frames").join(file).exists()
}

#[test]
fn its_command_lines_install_repair_and_remove_as_they_stand_there() {
    let (_folder, machine, page, _) = machine("1.0.0", "");
    assert_eq!(typed(&machine, &page.row("install or upgrade, silently")), 0);
    assert!(installed(&machine, "hives.exe") && installed(&machine, "samples/a.comb"));
    assert!(machine.c().join("install.log").exists(), "the log is where the line says");
    std::fs::remove_file(machine.c().join("Program Files/Hives & Frames/data/frames.txt")).expect("removed");
    assert_eq!(typed(&machine, &page.row("repair")), 0);
    assert!(installed(&machine, "data/frames.txt"));
    // What it says of the registry is so.
    let place = page.said("Folder");
    assert_eq!(place, "InstallFolder");
    let key = page.text.lines().find_map(|l| l.split("HKEY_LOCAL_MACHINE\\").nth(1)).expect("a key");
    let registry = machine.registry();
    let values = &registry[&format!("machine\\{}", key.trim_end_matches('`'))];
    assert_eq!(values["InstallFolder"], "\"C:\\Program Files\\Hives & Frames\\\"");
    assert!(registry.keys().any(|k| k.ends_with(&format!("Uninstall\\{}", page.said("Product code")))));
    assert_eq!(typed(&machine, &page.row("remove")), 0);
    assert!(!installed(&machine, ""));
    // Once more there is nothing to remove: 1605, as the page says, of which Wine's shell keeps all.
    let again = typed(&machine, &page.row("remove"));
    assert!(again == 1605 & 0xFF || again == 1605, "{again}");
    assert!(page.row("1605").contains("isn't installed"));
}

#[test]
fn its_properties_do_what_they_say() {
    let (_folder, machine, page, _) = machine("1.0.0", "");
    let install = page.row("install or upgrade, silently");
    assert!(page.row("`DESKTOPSHORTCUT`").starts_with('1') && page.row("`ADDLOCAL`").starts_with("Main,"));
    let line = format!("{install} INSTALLDIR=\"C:\\My Hives\" DESKTOPSHORTCUT=0 ADDLOCAL=Main");
    assert_eq!(typed(&machine, &line), 0);
    let at = |file: &str| machine.c().join("My Hives").join(file).exists();
    assert!(at("hives.exe") && !at("samples/a.comb"));
    assert!(!machine.c().join("users/Public/Desktop/Hives & Frames.lnk").exists());
    assert!(page.text.contains("| `Choice.samples` | Samples"), "{}", page.text);
}

#[test]
fn codes_are_those_of_the_package_and_change_as_it_says() {
    let (_a, _, first, _) = machine("1.0.0", "");
    let (_b, _, second, _) = machine("1.0.1", "");
    assert_ne!(first.said("Product code"), second.said("Product code"));
    assert_ne!(first.said("Package code"), second.said("Package code"));
    assert_eq!(first.said("Upgrade code"), second.said("Upgrade code"));
    assert_eq!((first.said("Version"), second.said("Version")), ("1.0.0".into(), "1.0.1".into()));
}

#[test]
fn it_says_what_is_different_for_one_person_and_for_those_who_are_asked() {
    let text = |more: &str| {
        let folder = product("1.0.0", more);
        Page::beside(&build(&folder)).text
    };
    let user = text("[install]\nscope = \"user\"\nminimum-windows = \"10.0.19041\"");
    assert!(user.contains("For one user, without administrator rights"), "{user}");
    assert!(user.contains("HKEY_CURRENT_USER") && user.contains("Windows 10.0.19041 or later"), "{user}");
    let asked = text("[install]\nscope = \"asked\"\ndowngrade = \"allowed\"");
    assert!(asked.contains("For one user or everyone") && asked.contains("ALLUSERS=1"), "{asked}");
    let startup = text("[[shortcut]]\nprogram = \"scale\"\nplaces = [\"startup\"]\nname = \"Scale\"");
    assert!(startup.contains("`STARTWITHSYSTEM`"), "{startup}");
}
