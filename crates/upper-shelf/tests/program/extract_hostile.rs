//! `extract` and packages that mean harm, and what is left when it is stopped.

use crate::common::{Folder, code, text};
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use test_support::listing;

/// A file with its bytes, or a link with its target.
type Entry<'e> = (&'e str, Option<&'e str>);

fn tar(path: &Path, entries: &[Entry]) {
    let mut tar =
        tar::Builder::new(flate2::write::GzEncoder::new(File::create(path).expect("made"), Default::default()));
    for (name, target) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o644);
        match target {
            Some(target) => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_size(0);
                tar.append_link(&mut header, name, target).expect("written");
            }
            None => {
                header.set_size(4);
                tar.append_data(&mut header, name, &b"evil"[..]).expect("written");
            }
        }
    }
    tar.into_inner().expect("whole").finish().expect("flushed").flush().expect("flushed");
}

fn zip(path: &Path, entries: &[Entry]) {
    let mut zip = zip::ZipWriter::new(File::create(path).expect("made"));
    let options = zip::write::SimpleFileOptions::default();
    for (name, target) in entries {
        match target {
            Some(target) => zip.add_symlink(*name, *target, options).expect("written"),
            None => {
                zip.start_file(*name, options).expect("begun");
                zip.write_all(b"evil").expect("written");
            }
        }
    }
    zip.finish().expect("whole");
}

/// Everything around the folder that is extracted into.
fn around(folder: &Folder) -> Vec<String> {
    let mut all = listing(folder.path());
    all.retain(|line| !line.starts_with("in/out") && !line.starts_with("bad."));
    all
}

#[test]
fn nothing_is_placed_through_a_link_of_the_package_itself() {
    // Each link stays inside by its own letters, but is placed through the one before.
    let steps: &[Entry] = &[
        ("top/d1/d2/d3/d4/a", Some("../../../../b")),
        ("top/b/c", None),
        ("top/d1/d2/d3/d4/a/l", Some("../..")),
        ("top/d1/d2/d3/d4/a/l/autostart/x.desktop", None),
    ];
    let short: &[Entry] = &[("top/keep", None), ("top/A", Some("b")), ("top/a/x", None), ("top/b/y", None)];
    for entries in [steps, short] {
        for (name, write) in [("bad.tar.gz", tar as fn(&Path, &[Entry])), ("bad.zip", zip)] {
            let folder = Folder::new();
            folder.write("in/mine", "mine");
            write(&folder.at(name), entries);
            let before = around(&folder);
            let (code, text) = folder.run(&["extract", name, "in/out"]);
            assert_eq!(code, 4, "{name}: {text}");
            assert!(text.contains("behind the link"), "{name}: {text}");
            assert!(!folder.at("in/out").exists());
            assert_eq!(around(&folder), before, "{name}");
        }
    }
}

#[test]
fn a_name_with_a_separator_of_windows_in_a_zip_is_refused_everywhere() {
    let folder = Folder::new();
    zip(&folder.at("bad.zip"), &[("top/good", None), ("top/..\\..\\x", None)]);
    let (code, text) = folder.run(&["extract", "bad.zip", "out"]);
    assert_eq!(code, 4, "{text}");
    assert!(text.contains("is refused") && text.contains("'\\\\' is not allowed"), "{text}");
    assert!(!folder.at("out").exists());
}

#[test]
fn what_was_stopped_leaves_nothing() {
    let folder = Folder::new();
    // So many files take seconds, whatever else the machine does.
    let mut zip = zip::ZipWriter::new(File::create(folder.at("big.zip")).expect("made"));
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for n in 0..60_000 {
        zip.start_file(format!("big/{}/{n}", n % 100), options).expect("begun");
    }
    zip.finish().expect("whole");
    for signal in ["INT", "TERM", "HUP"] {
        // A shell that starts tests in the background has some signals ignored.
        let mut command = Command::new("env");
        command.args(["--default-signal=INT,TERM,HUP", crate::common::PROGRAM, "extract", "big.zip", "out"]);
        let mut child = command.current_dir(folder.path()).stderr(Stdio::piped()).spawn().expect("started");
        let id = child.id().to_string();
        let began = std::time::Instant::now();
        while !folder.names(".").iter().any(|n| n.ends_with(".partial")) {
            assert!(began.elapsed().as_secs() < 30, "it does not begin");
        }
        assert!(Command::new("kill").args(["-s", signal, &id]).status().expect("kill").success());
        let status = child.wait().expect("ended");
        assert!(!status.success(), "{signal}: {status}");
        assert_eq!(folder.names("."), ["big.zip"], "{signal}");
    }
    // Whoever wants it to go on behind a closed terminal gets that.
    let script = "trap '' HUP; exec \"$@\"";
    let mut child = Command::new("sh")
        .args(["-c", script, "sh", crate::common::PROGRAM, "extract", "big.zip", "out"])
        .current_dir(folder.path())
        .spawn()
        .expect("started");
    while !folder.names(".").iter().any(|n| n.ends_with(".partial")) {}
    assert!(Command::new("kill").args(["-s", "HUP", &child.id().to_string()]).status().expect("kill").success());
    assert!(child.wait().expect("ended").success());
    assert_eq!(folder.names("out").len(), 100);
}

#[test]
fn a_stopped_build_leaves_no_half_package() {
    let folder = Folder::least();
    folder.write("built/data", test_support::noise(1, 60_000_000));
    let mut child = folder.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("started");
    let began = std::time::Instant::now();
    while !folder.names("packages").iter().any(|n| n.ends_with("-partial")) {
        assert!(began.elapsed().as_secs() < 30, "it does not begin");
    }
    assert!(Command::new("kill").args(["-s", "TERM", &child.id().to_string()]).status().expect("kill").success());
    assert!(!child.wait().expect("ended").success());
    assert_eq!(folder.names("packages"), Vec::<String>::new());
    let out = folder.command(&["build"]).output().expect("started");
    assert_eq!(code(&out), 0, "{}", text(&out));
}
