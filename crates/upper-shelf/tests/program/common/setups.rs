//! Setup programs of the product of [`super::hives`], run without windows and with a log.

use super::Folder;
use super::hives::{build, product_for};
use std::path::{Path, PathBuf};
use test_support::wine::Wine;

/// The switch for the log that [`log`] reads.
pub const LOG: &str = r"/LOG=C:\log.txt";

pub fn setup(version: &str, more: &str) -> (Folder, PathBuf) {
    let folder = product_for("nsis", version, more);
    let package = build(&folder);
    (folder, package)
}

pub fn run(machine: &Wine, package: &Path, args: &[&str]) -> i32 {
    let name = machine.bring(package, "setup.exe");
    machine.code_of(&[&[name.as_str(), "/S", LOG], args].concat(), &[])
}

pub fn log(machine: &Wine) -> String {
    std::fs::read_to_string(machine.c().join("log.txt")).unwrap_or_default()
}
