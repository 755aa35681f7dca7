//! A program that keeps a key and says nothing.
#![cfg(unix)]

use signatures::service::identity;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};

#[test]
fn a_silent_program_is_given_up_and_ended() {
    let folder = tempfile::tempdir().expect("a folder");
    let (program, seen) = (folder.path().join("silent"), folder.path().join("pid"));
    // The shell becomes the program that waits: nothing of it is left when that is ended.
    std::fs::write(&program, format!("#!/bin/sh\necho $$ >'{}'\nexec sleep 600\n", seen.display())).expect("written");
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).expect("allowed");
    let began = Instant::now();
    let failed = identity(&program, None, Duration::from_secs(2)).expect_err("given up");
    assert_eq!(failed.what, "the program doesn't answer within 2 seconds");
    assert!(began.elapsed() < Duration::from_secs(60));
    let number = std::fs::read_to_string(seen).expect("it was started");
    let alive = std::path::Path::new("/proc").join(number.trim());
    assert!(!alive.exists(), "it is ended");
}
