//! `extract`: what comes out of a package is what was put in, and nothing appears anywhere else.

use crate::common::{Folder, hives};
use std::io::Write;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use test_support::listing;

const MANIFEST: &str = r#"
[product]
id = "works.fernhollow.tree"
name = "Tree"
version = "1.0.0"
publisher = "Fernhollow Apiary Works"
[[layer]]
from = "built"
[[program]]
key = "app"
file = "bin/tree"
[targets]
platforms = ["linux-x64"]
build = ["appimage", "tar", "zip"]
"#;

fn tree() -> Folder {
    let folder = Folder::new();
    folder.write("shelf.toml", MANIFEST).script("built/bin/tree", "echo tree");
    folder.write("built/data/big.bin", test_support::noise(7, 3_000_000)).write("built/data/empty", "");
    folder.write("built/data/Bienen-Stöcke 蜂.txt", "odd\n").write("built/data/twin a", "the same");
    std::fs::hard_link(folder.at("built/data/twin a"), folder.at("built/data/twin b")).expect("linked");
    symlink("../data/empty", folder.at("built/bin/link")).expect("linked");
    std::fs::create_dir_all(folder.at("built/nothing/in it")).expect("made");
    let holes = std::fs::File::create(folder.at("built/data/holes")).expect("made");
    holes.set_len(5_000_000).expect("long");
    std::fs::set_permissions(folder.at("built/data/empty"), PermissionsExt::from_mode(0o600)).expect("mode");
    folder
}

fn package(folder: &Folder, ending: &str) -> String {
    let names = folder.names("packages");
    let name = names.iter().find(|n| n.ends_with(ending)).unwrap_or_else(|| panic!("no {ending} in {names:?}"));
    format!("packages/{name}")
}

#[test]
fn every_file_comes_out_as_it_went_in() {
    let folder = tree();
    folder.ok(&["build"]);
    let before = listing(&folder.at("built"));
    // In a package the owner's bits are everybody's.
    let before: Vec<String> = before.into_iter().map(|l| l.replace("empty 600", "empty 644")).collect();
    assert!(before.len() > 10);
    for ending in [".AppImage", ".tar.gz", ".zip"] {
        let said = folder.ok(&["extract", &package(&folder, ending), ending]);
        assert_eq!(listing(&folder.at(ending)), before, "{ending}");
        assert!(said.contains("7 files"), "{said}");
    }
    // A tar's hard links are the same file afterwards; a ZIP has none.
    let number = |path: &str| std::os::unix::fs::MetadataExt::ino(&folder.at(path).metadata().expect("there"));
    for (format, same) in [(".AppImage", true), (".tar.gz", true), (".zip", false)] {
        assert_eq!(number(&format!("{format}/data/twin a")) == number(&format!("{format}/data/twin b")), same);
    }
}

#[test]
fn only_what_was_asked_for_comes_out_and_a_pattern_that_fits_nothing_says_so() {
    let folder = tree();
    folder.ok(&["build", "--target", "tar"]);
    let tar = package(&folder, ".tar.gz");
    folder.ok(&["extract", &tar, "some", "--only", "*.txt", "--only", "bin/**"]);
    assert_eq!(folder.names("some"), ["bin", "data"]);
    assert_eq!(folder.names("some/data"), ["Bienen-Stöcke 蜂.txt"]);
    assert_eq!(folder.names("some/bin"), ["link", "tree"]);
    insta::assert_snapshot!(folder.ok(&["extract", &tar, "twin", "--only", "twin b"]), @r"
        data/twin b is left out: it is a further name of data/twin a
        ✓ twin: 0 files, 0 bytes
        ");
    for (wrong, why) in [("*.dll", "nothing in"), ("[", "is malformed")] {
        let (code, text) = folder.run(&["extract", &tar, "other", "--only", wrong]);
        assert_eq!(code, 1);
        assert!(text.contains(why), "{text}");
        assert!(!folder.at("other").exists());
    }
}

#[test]
fn nothing_is_overwritten() {
    let folder = tree();
    folder.ok(&["build", "--target", "zip"]);
    folder.write("full/mine.txt", "mine");
    let zip = package(&folder, ".zip");
    insta::assert_snapshot!(folder.run(&["extract", &zip, "full"]).1, @r"
        error: full already exists
         = why: nothing in it is overwritten
         = instead: choose a new or empty folder

        1 error; nothing was written
        ");
    assert_eq!(folder.names("full"), ["mine.txt"]);
    std::fs::create_dir(folder.at("empty")).expect("made");
    folder.ok(&["extract", &zip, "empty"]);
    assert!(folder.at("empty/bin/tree").exists());
    // Where somebody stands, too, and the folder stays the same one.
    std::fs::create_dir(folder.at("here")).expect("made");
    let number = || std::os::unix::fs::MetadataExt::ino(&folder.at("here").metadata().expect("there"));
    let before = number();
    let package = folder.at(&zip);
    let mut command = folder.command(&["extract", package.to_str().expect("text"), "."]);
    assert!(command.current_dir(folder.at("here")).status().expect("run").success());
    assert_eq!((folder.names("here"), number()), (folder.names("empty"), before));
}

#[test]
fn a_windows_package_gives_its_files_from_cabinets_inside_and_beside_it() {
    for settings in ["", "[target.msi]\ncabinets = \"external\"\ncabinet-megabytes = 1\ncompression = \"mszip\""] {
        let folder = hives::product("1.0.0", settings);
        folder.write("built/data/one.bin", test_support::noise(1, 700_000));
        folder.write("built/data/two.bin", test_support::noise(2, 700_000));
        let package = hives::build(&folder);
        let cabinets = folder.names("packages").iter().filter(|n| n.ends_with(".cab")).count();
        assert_eq!(cabinets, if settings.is_empty() { 0 } else { 3 });
        folder.ok(&["check", package.to_str().expect("text")]);
        folder.ok(&["extract", package.to_str().expect("text"), "out"]);
        // A Windows package has no modes.
        let names = |top: &str| listing(&folder.at(top)).iter().map(|l| without_mode(l)).collect::<Vec<_>>();
        assert_eq!(names("out"), names("built"));
    }
}

fn without_mode(line: &str) -> String {
    line.split_whitespace().filter(|w| !(w.len() >= 3 && w.bytes().all(|b| b.is_ascii_digit() && b < b'8'))).collect()
}

#[test]
fn a_cabinet_that_is_missing_or_damaged_beside_its_package_is_named() {
    let folder = hives::product("1.0.0", "[target.msi]\ncabinets = \"external\"");
    let package = hives::build(&folder);
    let page = std::fs::read_to_string(package.with_extension("msi.DEPLOY.md")).expect("a page");
    assert!(page.contains("`Hives-Frames-1.0.0-windows-x64.1.cab`, which must be in the same folder"), "{page}");
    let cabinet = folder.at("packages/Hives-Frames-1.0.0-windows-x64.1.cab");
    let good = std::fs::read(&cabinet).expect("a cabinet");
    let mut bad = good.clone();
    bad[5000] ^= 0x10;
    for (bytes, why) in [(Some(bad), "checksum is wrong"), (None, "which has to be next to it, can't be read")] {
        match bytes {
            Some(bytes) => std::fs::write(&cabinet, bytes).expect("written"),
            None => std::fs::remove_file(&cabinet).expect("removed"),
        }
        for command in
            [vec!["check", package.to_str().expect("text")], vec!["extract", package.to_str().expect("text"), "out"]]
        {
            let (code, text) = folder.run(&command);
            assert_eq!(code, 4, "{text}");
            assert!(text.contains(why) && text.contains(".1.cab"), "{text}");
        }
        assert!(!folder.at("out").exists());
    }
    // What is in it can still be listed.
    folder.ok(&["inspect", package.to_str().expect("text")]);
}

/// A tar archive of one odd entry and a good one.
fn tar(path: &Path, name: &str, kind: tar::EntryType, target: &str) {
    let file = flate2::write::GzEncoder::new(std::fs::File::create(path).expect("made"), Default::default());
    let mut tar = tar::Builder::new(file);
    let mut header = tar::Header::new_gnu();
    header.set_mode(0o644);
    header.set_size(2);
    tar.append_data(&mut header.clone(), "top/good", &b"ok"[..]).expect("written");
    header.set_entry_type(kind);
    // The library's own writer refuses such names: they are put in as bytes.
    header.as_gnu_mut().expect("a header").name[..name.len()].copy_from_slice(name.as_bytes());
    header.as_gnu_mut().expect("a header").linkname[..target.len()].copy_from_slice(target.as_bytes());
    let size = if kind == tar::EntryType::Regular { 2 } else { 0 };
    header.set_size(size);
    header.set_cksum();
    tar.append(&header, &b"xx"[..size as usize]).expect("written");
    tar.into_inner().expect("whole").finish().expect("flushed").flush().expect("flushed");
}

#[test]
fn a_hostile_archive_writes_nothing_outside_the_folder() {
    use tar::EntryType::{Link, Regular, Symlink};
    let folder = Folder::new();
    folder.write("secret", "secret");
    for (name, kind, target) in [
        ("top/../../evil", Regular, ""),
        ("/upper-shelf-evil", Regular, ""),
        ("top/good/below", Regular, ""),
        ("top/hard", Link, "../secret"),
    ] {
        tar(&folder.at("bad.tar.gz"), name, kind, target);
        let (code, text) = folder.run(&["extract", "bad.tar.gz", "out"]);
        assert_eq!(code, 4, "{name}: {text}");
        assert!(!folder.at("out").exists(), "{name}");
        assert_eq!(folder.names("."), ["bad.tar.gz", "secret"], "{name}");
    }
    for (name, kind, target) in [
        ("top/abs", Symlink, "/etc/passwd"),
        ("top/up", Symlink, "../../secret"),
        ("top/round", Symlink, "good/../../../secret"),
        ("top/hard", Link, "top/no-such"),
    ] {
        tar(&folder.at("bad.tar.gz"), name, kind, target);
        let text = folder.ok(&["extract", "bad.tar.gz", "out"]);
        assert!(text.contains("left out"), "{name}: {text}");
        assert_eq!(folder.names("out"), ["good"], "{name}");
        std::fs::remove_dir_all(folder.at("out")).expect("removed");
    }
}
