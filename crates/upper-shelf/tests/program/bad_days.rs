//! Killed, no space, two at once, read-only: a sentence, an exit code, and never half a package under its name.

use crate::common::{Folder, LEAST, PROGRAM, code, put_program, text};
use std::process::{Command, Stdio};
use std::time::Duration;

const PACKAGE: &str = "Least-1.0.0-linux-x64.AppImage";

fn with_payload(megabytes: u64) -> Folder {
    let folder = Folder::least();
    for n in 0..megabytes {
        folder.write(
            &format!("built/data/{n:03}"),
            [test_support::noise(n, 500_000), test_support::prose(n, 500_000)].concat(),
        );
    }
    folder
}

#[test]
fn killed_at_any_moment_there_is_a_whole_package_or_none() {
    let folder = with_payload(24);
    folder.ok(&["build"]);
    let whole = std::fs::read(folder.at("packages").join(PACKAGE)).expect("a package");
    let began = std::time::Instant::now();
    folder.ok(&["build"]);
    let mut takes = began.elapsed();
    let mut killed = 0;
    for n in 0..25u32 {
        std::fs::remove_file(folder.at("packages").join(PACKAGE)).ok();
        let mut child =
            folder.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("started");
        // Moments spread over the whole build and a little beyond.
        std::thread::sleep(takes * (n * 37 % 27) / 25);
        child.kill().expect("killed");
        let was_killed = !child.wait().expect("ended").success();
        killed += u32::from(was_killed);
        if !was_killed {
            // The machine has more time for this build than it had for the measured one.
            takes = takes * 3 / 4;
        }
        if let Ok(there) = std::fs::read(folder.at("packages").join(PACKAGE)) {
            assert!(there == whole, "a package that is there is intact");
        }
    }
    assert!(killed > 10, "most builds were really cut short, not {killed}");
    folder.ok(&["build"]);
    assert_eq!(folder.names("packages"), [PACKAGE], "the next build clears what was left");
    assert!(std::fs::read(folder.at("packages").join(PACKAGE)).expect("a package") == whole);
    let beside = folder.names(".");
    assert_eq!(beside, ["built", "packages", "shelf.lock", "shelf.toml"]);
}

#[test]
fn the_same_input_gives_the_same_bytes_anywhere() {
    let (one, two) = (with_payload(3), with_payload(3));
    // Another folder, other times, another umask, other threads.
    two.write("built/data/000", std::fs::read(one.at("built/data/000")).expect("read"));
    for n in 0..3 {
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        std::fs::set_permissions(two.at(&format!("built/data/{n:03}")), mode).expect("mode");
    }
    let all = LEAST.replace("[\"appimage\"]", "[\"appimage\", \"tar\", \"zip\"]");
    for (folder, threads) in [(&one, "1"), (&two, "3")] {
        folder.write("shelf.toml", &all);
        folder.ok(&["build", "--threads", threads]);
    }
    for name in one.names("packages") {
        let bytes = |f: &Folder| std::fs::read(f.at("packages").join(&name)).expect("a package");
        assert!(bytes(&one) == bytes(&two), "{name} differs");
    }
    assert_eq!(one.names("packages").len(), 3);
}

#[test]
fn a_full_disk_is_a_sentence_and_leaves_the_old_package() {
    assert!(test_support::is_root(), "mounting needs root");
    let folder = with_payload(12);
    let small = folder.at("small");
    std::fs::create_dir(&small).expect("folder");
    let small = small.to_str().expect("utf-8").to_owned();
    test_support::judge_says_yes("mount", &["-t", "tmpfs", "-o", "size=4m", "tmpfs", &small]);
    std::fs::write(folder.at("small").join(PACKAGE), "the old one").expect("written");
    let (code, text) = folder.run(&["build", "--output", &small]);
    let names = folder.names("small");
    let old = std::fs::read(folder.at("small").join(PACKAGE)).expect("there");
    test_support::judge_says_yes("mount", &["-o", "remount,ro", &small]);
    let (read_only, said) = folder.run(&["build", "--output", &small]);
    test_support::unmount(&folder.at("small"));
    assert_eq!(code, 3, "{text}");
    assert!(text.contains("no space left"), "{text}");
    assert_eq!(names, [PACKAGE]);
    assert_eq!(old, b"the old one");
    assert_eq!(read_only, 3, "{said}");
    assert!(said.contains("read-only"), "{said}");
}

#[test]
fn of_two_builds_at_once_one_says_that_it_waits_for_nobody() {
    let folder = with_payload(60);
    let mut first = folder.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("started");
    while folder.names("packages").is_empty() {
        std::thread::sleep(Duration::from_millis(1));
    }
    let (second, said) = folder.run(&["build"]);
    assert!(first.wait().expect("ended").success());
    assert_eq!(second, 7, "{said}");
    assert!(said.contains("another build is writing"), "{said}");
    assert_eq!(folder.names("packages"), [PACKAGE]);
}

#[test]
fn what_may_not_be_read_is_named_before_anything_is_packed() {
    assert!(test_support::is_root(), "becoming somebody else needs root");
    let folder = Folder::least();
    folder.write("built/private/secret", "x");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o700);
    std::fs::set_permissions(folder.at("built/private"), mode).expect("mode");
    // The program is copied to where another user can start it.
    let copy = folder.at("upper-shelf");
    put_program(&copy, &std::fs::read(PROGRAM).expect("read"));
    let out = Command::new("setpriv")
        .args(["--reuid=65534", "--regid=65534", "--clear-groups"])
        .arg(&copy)
        .arg("check")
        .current_dir(folder.path())
        .env("NO_COLOR", "1")
        .output()
        .expect("setpriv");
    assert_eq!(code(&out), 1, "{}", text(&out));
    assert!(text(&out).contains("built/private can't be read"), "{}", text(&out));
}

#[test]
fn a_damaged_package_is_an_error_with_its_place() {
    let folder = with_payload(1);
    folder.ok(&["build"]);
    let path = folder.at("packages").join(PACKAGE);
    let mut bytes = std::fs::read(&path).expect("a package");
    let middle = bytes.len() - 200_000;
    bytes[middle..middle + 100].fill(0xaa);
    std::fs::write(folder.at("broken"), &bytes).expect("written");
    std::fs::write(folder.at("cut"), &bytes[..bytes.len() - 300_000]).expect("written");
    std::fs::write(folder.at("other"), "hello").expect("written");
    for (file, expected) in [
        ("broken", "its content was changed after it was packed"),
        ("cut", "truncated"),
        ("other", "isn't a package of a known format"),
    ] {
        let (code, text) = folder.run(&["check", file]);
        assert_eq!(code, 4, "{text}");
        assert!(text.contains(expected), "{text}");
    }
    folder.ok(&["check", path.to_str().expect("utf-8")]);
}
