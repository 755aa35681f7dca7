//! Programs and libraries that are linked here in several ways get a run path, and the system's own loader finds by it what they
//! need.

#![cfg(target_os = "linux")]

use elf_image::{Linking, read, with_run_path};
use proptest::prelude::*;
use read_at::ReadAt;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use test_support::judge_says_yes;

/// A program `hive` that needs `libcomb.so.1`, which needs `libwax.so.1`; both are in another folder.
fn linked(folder: &Path, options: &[&str], of_libraries: &[&str]) -> PathBuf {
    let at = |name: &str| folder.join(name).to_str().expect("text").to_owned();
    std::fs::create_dir_all(folder.join("lib")).expect("made");
    for (name, text) in [
        ("hive.c", "int comb(void); int main(void) { return comb(); }"),
        ("comb.c", "int wax(void); int comb(void) { return wax() + 3; }"),
        ("wax.c", "static int cells[9000]; int wax(void) { return 4 + cells[8999]; }"),
    ] {
        std::fs::write(at(name), text).expect("written");
    }
    let link = |options: &[&str], more: &[&str]| judge_says_yes("gcc", &[options, more].concat());
    link(of_libraries, &["-shared", "-fPIC", "-Wl,-soname,libwax.so.1", "-o", &at("lib/libwax.so.1"), &at("wax.c")]);
    link(
        of_libraries,
        &[
            "-shared",
            "-fPIC",
            "-Wl,-soname,libcomb.so.1",
            "-o",
            &at("lib/libcomb.so.1"),
            &at("comb.c"),
            &at("lib/libwax.so.1"),
        ],
    );
    let search = format!("-Wl,-rpath-link,{}", at("lib"));
    link(options, &["-o", &at("hive"), &at("hive.c"), &search, &at("lib/libcomb.so.1")]);
    folder.join("hive")
}

fn changed(file: &Path, path: &str) -> Vec<u8> {
    let bytes = std::fs::read(file).expect("read");
    let over = with_run_path(&bytes, path).expect("there is room").over(bytes);
    let mut all = vec![0; over.length().expect("known") as usize];
    over.read_exact_at(&mut all, 0).expect("read");
    all
}

fn put(file: &Path, bytes: &[u8]) {
    let new = file.with_extension("new");
    std::fs::write(&new, bytes).expect("written");
    std::fs::set_permissions(&new, std::fs::Permissions::from_mode(0o755)).expect("set");
    std::fs::rename(new, file).expect("renamed");
}

fn code(program: &Path) -> Option<i32> {
    Command::new(program).env_remove("LD_LIBRARY_PATH").output().expect("started").status.code()
}

#[test]
fn the_loader_finds_what_a_program_and_its_libraries_need() {
    let long = format!("{}$ORIGIN/lib", "/nowhere:".repeat(700));
    for (options, grows) in [
        (&[][..], false),
        (&["-no-pie"], false),
        (&["-Wl,-z,now", "-Wl,-z,relro"], false),
        (&["-Wl,-rpath,/nowhere"], false),
        (&["-Wl,-rpath,/nowhere", "-Wl,--disable-new-dtags"], false),
        (&["-Wl,-z,noseparate-code"], false),
        (&["-s"], false),
        (&["-B/usr/lib/llvm-19/bin", "-fuse-ld=lld"], true),
    ] {
        let folder = tempfile::tempdir().expect("a folder");
        let program = linked(folder.path(), options, &[]);
        assert_eq!(code(&program), Some(127), "{options:?}: it starts without its libraries");
        let before = std::fs::read(&program).expect("read");
        for path in ["$ORIGIN/lib", &long] {
            put(&program, &before);
            let after = changed(&program, path);
            put(&program, &after);
            assert_eq!(code(&program), Some(7), "{options:?} with {} bytes", path.len());
            assert_eq!(
                after.len() != before.len(),
                grows || path.len() > 4096,
                "{options:?} with {} bytes",
                path.len()
            );
            let old = read(&before).expect("read").expect("it is one");
            let wanted = Linking { run_path: Some(path.to_owned()), is_inherited: true, ..old };
            assert_eq!(read(&after).expect("read"), Some(wanted));
        }
        // Another reader sees it, too.
        let told = judge_says_yes("readelf", &["-d", "-W", program.to_str().expect("text")]);
        assert!(told.contains(&format!("Library rpath: [{long}]")), "{told}");
        assert!(!told.contains("(RUNPATH)"), "{told}");
        assert_eq!(changed(&program, &long), std::fs::read(&program).expect("read"), "{options:?} once more");
    }
}

#[test]
fn libraries_of_their_own_path_look_elsewhere_too() {
    let folder = tempfile::tempdir().expect("a folder");
    let program = linked(folder.path(), &[], &["-Wl,-rpath,/nowhere"]);
    // Its own path keeps the library from using the program's.
    put(&program, &changed(&program, "$ORIGIN/lib"));
    assert_eq!(code(&program), Some(127));
    let library = folder.path().join("lib/libcomb.so.1");
    put(&library, &changed(&library, "$ORIGIN"));
    assert_eq!(code(&program), Some(7));
}

#[test]
fn programs_of_this_system_start_as_before() {
    let folder = tempfile::tempdir().expect("a folder");
    for name in ["ls", "tar", "grep", "sed", "gzip", "find", "perl", "openssl", "python3.11", "xz", "bash", "sort"] {
        let found = ["/bin", "/usr/bin"].iter().map(|folder| Path::new(folder).join(name)).find(|path| path.exists());
        let found = found.unwrap_or_else(|| panic!("{name} is not here"));
        for path in ["$ORIGIN/../lib".to_owned(), "$ORIGIN/x".repeat(600)] {
            let program = folder.path().join(name);
            put(&program, &changed(&found, &path));
            let said = |program: &Path| {
                let out = Command::new(program).arg0(name).arg("--version").output().expect("started");
                (out.status.code(), String::from_utf8_lossy(&out.stdout).into_owned())
            };
            assert_eq!(said(&found), said(&program));
            let linking = read(&std::fs::read(&program).expect("read")).expect("read").expect("it is one");
            assert_eq!(linking.run_path, Some(path));
        }
    }
}

#[test]
fn what_cannot_get_a_run_path_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let program = linked(folder.path(), &[], &[]);
    let told = |bytes: &Vec<u8>| {
        with_run_path(bytes, &"$ORIGIN:".repeat(700)).map(|_| ()).expect_err("it is refused").to_string()
    };
    assert!(told(&b"#!/bin/sh\n".to_vec()).contains("no ELF file that is linked dynamically"));
    let mut bytes = std::fs::read(&program).expect("read");
    // Without a note there is nothing to put a segment in the place of.
    let table = u64::from_le_bytes(bytes[32..40].try_into().expect("eight")) as usize;
    for n in 0..usize::from(bytes[56]) {
        if bytes[table + n * 56] == 4 {
            bytes[table + n * 56 + 3] = 0x60;
        }
    }
    assert!(told(&bytes).contains("no room for a run path"));
    bytes[4] = 1;
    assert!(told(&bytes).contains("64 bits"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    /// Damaged files give an answer or an error, quickly.
    #[test]
    fn whatever_is_damaged_ends(changes in prop::collection::vec((0usize..1 << 14, any::<u8>()), 1..12), cut in 0usize..1 << 15) {
        static WHOLE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let whole = WHOLE.get_or_init(|| {
            let folder = tempfile::tempdir().expect("a folder");
            std::fs::read(linked(folder.path(), &[], &[])).expect("read")
        });
        let mut bytes = whole.clone();
        for (at, byte) in changes {
            // The tables at the start decide most.
            let at = if at % 2 == 0 { at % 1024 } else { at % bytes.len() };
            bytes[at] = byte;
        }
        bytes.truncate(bytes.len() - cut.min(bytes.len()) / 64);
        let _ = read(&bytes);
        let _ = with_run_path(&bytes, "$ORIGIN/../lib");
    }
}
