//! Programs and libraries for macOS, made by a compiler and a linker that are not ours.

use super::Folder;
use test_support::judge_says_yes;

/// The whole path of something in the folder.
pub fn at(folder: &Folder, name: &str) -> String {
    folder.at(name).to_str().expect("text").to_owned()
}

/// What is linked with everything: the system's own library.
pub fn prepare(folder: &Folder) {
    folder.write("s/libSystem.tbd", "--- !tapi-tbd\ntbd-version: 4\ntargets: [ arm64-macos ]\ninstall-name: '/usr/lib/libSystem.B.dylib'\nexports:\n  - targets: [ arm64-macos ]\n    symbols: [ dyld_stub_binder ]\n...\n");
    compile(folder, "queen", "int queen(void) { return 7; }");
    compile(folder, "main", "int queen(void); int main(void) { return queen(); }");
}

/// Compiles `s/NAME.c` to `s/NAME.o`.
pub fn compile(folder: &Folder, name: &str, text: &str) {
    folder.write(&format!("s/{name}.c"), text);
    let (from, to) = (at(folder, &format!("s/{name}.c")), at(folder, &format!("s/{name}.o")));
    judge_says_yes("clang-19", &["-target", "arm64-apple-macos11.0", "-c", &from, "-o", &to]);
}

/// Links for macOS 11 on arm64.
pub fn link(folder: &Folder, more: &[&str]) {
    let system = at(folder, "s/libSystem.tbd");
    let base = ["-arch", "arm64", "-platform_version", "macos", "11.0", "14.0", system.as_str()];
    judge_says_yes("ld64.lld-19", &[&base[..], more].concat());
}
