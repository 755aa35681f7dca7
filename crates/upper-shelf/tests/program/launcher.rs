//! Launchers for Windows, and portable programs: really started on a machine of Wine.

use crate::common::Folder;
use crate::common::hives::{PROGRAM, build};
use std::path::PathBuf;
use test_support::wine::Wine;

const MANIFEST: &str = r#"
[product]
id = "works.fernhollow.frames"
name = "Frames"
version = "1.0.0"
publisher = "Fernhollow Apiary Works"
[[layer]]
from = "built"
[[program]]
key = "app"
file = "runtime/deep/frames.exe"
launcher = "Frames.exe"
arguments = ["--where", 'C:\where.txt', "{install}/data", 'quo"te', ""]
environment = { COMBWRIGHT_SEASON = "{install}/data" }
working-folder = "data"
MORE
[targets]
platforms = ["windows-x64"]
build = ["TARGET"]
"#;

fn product(target: &str, more: &str) -> (Folder, PathBuf) {
    let folder = Folder::new();
    folder.write("shelf.toml", MANIFEST.replace("TARGET", target).replace("MORE", more));
    folder.write("built/runtime/deep/frames.exe", PROGRAM).write("built/data/frames.txt", "frames\n");
    let package = build(&folder);
    (folder, package)
}

fn told(machine: &Wine) -> String {
    std::fs::read_to_string(machine.c().join("where.txt")).expect("the program was started")
}

const AFTER: &str = "argument C:\\Apiary of Mill Lane\\data\nargument quo\"te\nargument \nargument two words\nargument back\\\nargument Bienen-Stöcke 🐝\n";

#[test]
fn a_launcher_passes_everything_on() {
    let (_folder, package) = product("nsis", "");
    let machine = Wine::new();
    let setup = machine.bring(&package, "setup.exe");
    assert_eq!(machine.code_of(&[&setup, "/S", r"/FOLDER=C:\Apiary of Mill Lane"], &[]), 0);
    let long = "x".repeat(300);
    let args = [r"C:\Apiary of Mill Lane\Frames.exe", "two words", "back\\", "Bienen-Stöcke 🐝", &long];
    assert_eq!(machine.code_of(&args, &[]), 0);
    let told = told(&machine);
    assert!(told.contains("program  C:\\Apiary of Mill Lane\\runtime\\deep\\frames.exe\n"), "{told}");
    assert!(
        told.contains("started  C:\\Apiary of Mill Lane\\data\nseason   C:\\Apiary of Mill Lane\\data\n"),
        "{told}"
    );
    assert!(told.ends_with(&format!("{AFTER}argument {long}\n")), "{told}");
    // Without its program it says so, and ends with the system's number for that.
    std::fs::remove_file(machine.c().join("Apiary of Mill Lane/runtime/deep/frames.exe")).expect("removed");
    assert_eq!(machine.code_of(&args[..1], &[]), 2);
}

#[test]
fn a_launcher_gives_its_programs_exit_code() {
    // A head with nothing behind it says that it is damaged, with the code 13.
    const HEAD: &[u8] = include_bytes!("../../../upper-shelf-core/heads/setup-lzma-x64.exe");
    let folder = Folder::new();
    let manifest = MANIFEST.replace("TARGET", "zip").replace("MORE", "console = true");
    let line = manifest.lines().find(|l| l.starts_with("arguments")).expect("the line").to_owned();
    folder.write("shelf.toml", manifest.replace(&line, "arguments = [\"/S\"]"));
    folder.write("built/runtime/deep/frames.exe", HEAD).write("built/data/frames.txt", "frames\n");
    let package = build(&folder);
    let machine = Wine::new();
    let to = format!("-o{}", machine.c().display());
    assert!(test_support::judge("7zz", &["x", "-y", &to, package.to_str().expect("text")]).status.success());
    let launcher = r"C:\Frames-1.0.0-windows-x64\Frames.exe";
    assert_eq!(machine.code_of(&[launcher], &[]), 13);
    let bytes = std::fs::read(machine.c().join("Frames-1.0.0-windows-x64/Frames.exe")).expect("read");
    const LAUNCHER: &[u8] = include_bytes!("../../../upper-shelf-core/heads/launcher-x64.exe");
    assert!(LAUNCHER.len() <= 8192, "without its picture it has {} bytes", LAUNCHER.len());
    assert_eq!(bytes[usize::from(bytes[0x3C]) + 24 + 68], 3, "it is one for a terminal");
}

#[test]
fn a_portable_program_unpacks_once_and_keeps_its_settings_beside_itself() {
    for packing in ["lzma", "deflate"] {
        portable(packing);
    }
}

fn portable(packing: &str) {
    let more = format!("[target.portable]\nsettings = \"program-folder\"\n[target.nsis]\ncompression = \"{packing}\"");
    let (_folder, package) = product("portable", &more);
    let machine = Wine::new();
    machine.bring(&package, "frames portable.exe");
    assert_eq!(machine.code_of(&[r"C:\frames portable.exe", "two words"], &[]), 0);
    let cache = machine.c().join("users/root/AppData/Local/works.fernhollow.frames");
    let versions: Vec<_> = std::fs::read_dir(&cache).expect("the cache").flatten().map(|e| e.file_name()).collect();
    assert!(versions.len() == 1 && versions[0].to_string_lossy().starts_with("1.0.0-"), "{versions:?}");
    let told = told(&machine);
    assert!(told.contains("works.fernhollow.frames\\1.0.0-") && told.ends_with("argument two words\n"), "{told}");
    assert!(machine.c().join("Frames settings").is_dir());
    // The second start finds it unpacked; a file that was changed or is gone comes again.
    let text = || std::fs::read_to_string(cache.join(&versions[0]).join("data/frames.txt")).expect("there");
    let (before, when) =
        (text(), || std::fs::metadata(cache.join(&versions[0]).join("data")).and_then(|m| m.created()).ok());
    let first = when();
    assert_eq!(machine.code_of(&[r"C:\frames portable.exe"], &[]), 0);
    assert_eq!(when(), first, "nothing was unpacked again");
    std::fs::write(cache.join(&versions[0]).join("data/frames.txt"), "somebody's").expect("written");
    assert_eq!(machine.code_of(&[r"C:\frames portable.exe"], &[]), 0);
    assert_eq!(text(), before);
    std::fs::remove_file(cache.join(&versions[0]).join("runtime/deep/frames.exe")).expect("removed");
    assert_eq!(machine.code_of(&[r"C:\frames portable.exe"], &[]), 0);
    // A newer version takes the older one's place.
    let (folder, _) = product("portable", &more);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read").replace("1.0.0", "1.1.0");
    folder.write("shelf.toml", manifest);
    machine.bring(&build(&folder), "newer.exe");
    assert_eq!(machine.code_of(&[r"C:\newer.exe"], &[]), 0);
    let left: Vec<_> = std::fs::read_dir(&cache).expect("the cache").flatten().map(|e| e.file_name()).collect();
    assert!(left.len() == 1 && left[0].to_string_lossy().starts_with("1.1.0-"), "{left:?}");
    // A damaged one starts nothing.
    let mut bytes = std::fs::read(&package).expect("read");
    let at = bytes.len() - 2000;
    bytes[at] ^= 1;
    std::fs::write(machine.c().join("damaged.exe"), bytes).expect("written");
    assert_eq!(machine.code_of(&[r"C:\damaged.exe", "/S"], &[]), 13);
}

#[test]
fn what_no_launcher_can_be_is_said_with_its_line() {
    let (folder, _) = product("zip", "");
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    for (launcher, file, expected) in [
        ("Frames", "runtime/deep/frames.exe", "isn't a program"),
        ("../Frames.exe", "runtime/deep/frames.exe", "contains `.` or `..`"),
        ("runtime/deep/Frames.exe", "runtime/deep/frames.exe", "already exists in the payload"),
        ("Frames.exe", "runtime/frames.exe", "has no file runtime/frames.exe"),
    ] {
        let text = manifest.replace("launcher = \"Frames.exe\"", &format!("launcher = {launcher:?}"));
        folder.write("shelf.toml", text.replace("file = \"runtime/deep/frames.exe\"", &format!("file = {file:?}")));
        let (code, said) = folder.run(&["check"]);
        assert!(
            code != 0 && said.contains(expected) && (said.contains("launcher =") || said.contains("file =")),
            "{launcher}: {said}"
        );
    }
}

#[test]
fn a_command_is_found_at_a_prompt_while_the_product_is_there() {
    let search_path = |machine: &Wine| {
        let mut all = machine.registry().into_iter();
        let (_, environment) =
            all.find(|(key, _)| key.ends_with(r"\Session Manager\Environment")).expect("the machine's");
        environment.into_iter().find(|(name, _)| name.eq_ignore_ascii_case("PATH")).expect("a search path").1
    };
    for target in ["nsis", "msi"] {
        let (_folder, package) = product(target, "command = \"count-frames\"");
        let machine = Wine::new();
        let package = machine.bring(&package, if target == "msi" { "frames.msi" } else { "frames.exe" });
        let (install, remove) = match target {
            "msi" => (vec!["msiexec", "/qn", "/i", &package], vec!["msiexec", "/qn", "/x", &package]),
            _ => (vec![package.as_str(), "/S"], vec![r"C:\Program Files\Frames\uninstall.exe", "/S"]),
        };
        assert_eq!(machine.code_of(&install, &[]), 0);
        let path = search_path(&machine);
        assert!(path.contains(r";C:\Program Files\Frames\commands"), "{path}");
        assert_eq!(machine.code_of(&["cmd", "/c", "count-frames", "two words"], &[]), 0);
        let told = told(&machine);
        assert!(told.contains(r"program  C:\Program Files\Frames\runtime\deep\frames.exe"), "{told}");
        assert!(told.ends_with("argument two words\n"), "{told}");
        assert_eq!(machine.code_of(&remove, &[]), 0);
        assert!(!search_path(&machine).contains("Frames"));
    }
}
