//! What several tests need: independent programs that judge our output, and trees of odd files.

#[cfg(unix)]
pub mod kernel;
#[cfg(unix)]
pub mod wine;

use std::path::Path;
use std::process::{Command, Output};

/// Unmounts a file system. A child that another test starts has open what is open here until it is its own program, so the
/// first try may come too early.
///
/// # Panics
/// If it stays in use.
pub fn unmount(at: &Path) {
    let mut said = String::new();
    for _ in 0..50 {
        let out = judge("umount", &[at.to_str().expect("text")]);
        if out.status.success() {
            return;
        }
        said = String::from_utf8_lossy(&out.stderr).into_owned();
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    panic!("{said}");
}

/// Runs a judge: an independent program that reads what we wrote. A judge that is not installed is a failure, not a skip.
///
/// # Panics
/// If the program can't be started.
pub fn judge(program: &str, args: &[&str]) -> Output {
    let run = Command::new(program).args(args).output();
    run.unwrap_or_else(|e| panic!("the judge `{program}` can't be started ({e}); `./test` installs it"))
}

/// Runs a judge that has to say yes; gives what it printed.
///
/// # Panics
/// If it says no.
pub fn judge_says_yes(program: &str, args: &[&str]) -> String {
    let out = judge(program, args);
    let text = format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(out.status.success(), "{program} {args:?} said no ({}):\n{text}", out.status);
    text
}

/// Whether the tests run as root (mounting needs it).
pub fn is_root() -> bool {
    let id = judge("id", &["-u"]);
    String::from_utf8_lossy(&id.stdout).trim() == "0"
}

/// A fixed, hardly compressible sequence of bytes.
pub fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut out = vec![0; len];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut out);
    out
}

/// A fixed text of about `len` bytes that compresses like program text does.
pub fn prose(seed: u64, len: usize) -> Vec<u8> {
    const WORDS: [&str; 16] = [
        "hive", "queen", "comb", "frame", "brood", "nectar", "smoker", "swarm", "wax", "super", "drone", "forage",
        "apiary", "honey", "worker", "cell",
    ];
    let picks = noise(seed, len / 3 + 8);
    let mut text = String::with_capacity(len + 16);
    for pick in picks {
        text.push_str(WORDS[usize::from(pick & 15)]);
        text.push(if pick > 240 { '\n' } else { ' ' });
        if text.len() >= len {
            break;
        }
    }
    text.truncate(len);
    text.into_bytes()
}

/// Every file below a folder with a line on each: path, kind, permission bits, size and content hash or link target;
/// sorted. Two trees are equal when these lists are.
///
/// # Panics
/// If something can't be read.
#[cfg(unix)]
pub fn listing(root: &Path) -> Vec<String> {
    use std::os::unix::fs::PermissionsExt;
    let mut lines = Vec::new();
    let mut stack = vec![root.to_path_buf()];
    while let Some(dir) = stack.pop() {
        for entry in std::fs::read_dir(&dir).unwrap_or_else(|e| panic!("{}: {e}", dir.display())) {
            let path = entry.expect("an entry").path();
            let meta = path.symlink_metadata().expect("metadata");
            let name = path.strip_prefix(root).expect("below the root").to_string_lossy().into_owned();
            if meta.is_dir() {
                lines.push(format!("{name}/ {:o}", meta.permissions().mode() & 0o7777));
                stack.push(path);
            } else if meta.is_symlink() {
                lines.push(format!("{name} -> {}", std::fs::read_link(&path).expect("a target").display()));
            } else if meta.is_file() {
                let mut hash = blake3::Hasher::new();
                hash.update_reader(std::fs::File::open(&path).expect("a file")).expect("readable");
                let hash = hash.finalize().to_hex();
                lines.push(format!(
                    "{name} {:o} {} {}",
                    meta.permissions().mode() & 0o7777,
                    meta.len(),
                    &hash.as_str()[..16]
                ));
            } else {
                lines.push(format!("{name} special"));
            }
        }
    }
    lines.sort();
    lines
}

/// The Python that has the judges written in it: `./test` puts them into a folder of their own, which `JUDGES` names.
pub fn python() -> String {
    let own = std::env::var("JUDGES").map(|folder| format!("{folder}/bin/python3"));
    own.unwrap_or_else(|_| concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/judges/bin/python3").to_owned())
}
