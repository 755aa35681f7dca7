//! `THIRD-PARTY.md` names everything that is made by others and comes with the tool, or with what it puts into customers'
//! packages: from the lock files, with the texts of the licences. `UPDATE_REFERENCE=1` writes it.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A crate of somebody else.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Crate {
    name: String,
    version: String,
    license: String,
    repository: String,
    folder: PathBuf,
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the repository")
}

/// What a program is made of: the crates behind its normal dependencies, on one platform.
fn crates(manifest: &Path, start: &str, platform: &str) -> BTreeSet<Crate> {
    let mut cargo = Command::new(env!("CARGO"));
    cargo.args(["metadata", "--format-version", "1", "--locked", "--offline", "--filter-platform", platform]);
    cargo.arg("--manifest-path").arg(manifest);
    let out = cargo.output().expect("cargo");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let metadata: Value = serde_json::from_slice(&out.stdout).expect("JSON");
    let list = |value: &Value| value.as_array().cloned().unwrap_or_default();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let packages: BTreeMap<String, Value> =
        list(&metadata["packages"]).into_iter().map(|p| (text(&p["id"]), p)).collect();
    let nodes: BTreeMap<String, Value> =
        list(&metadata["resolve"]["nodes"]).into_iter().map(|n| (text(&n["id"]), n)).collect();
    let first = packages.iter().find(|(_, p)| p["name"] == start).map(|(id, _)| id.clone());
    let mut open = vec![first.expect("the program")];
    let mut seen = BTreeSet::new();
    while let Some(id) = open.pop() {
        if !seen.insert(id.clone()) {
            continue;
        }
        for dep in list(&nodes[&id]["deps"]) {
            if list(&dep["dep_kinds"]).iter().any(|k| k["kind"].is_null()) {
                open.push(text(&dep["pkg"]));
            }
        }
    }
    let of_others = seen.iter().map(|id| &packages[id]).filter(|p| !p["source"].is_null());
    let one = |p: &Value| Crate {
        name: text(&p["name"]),
        version: text(&p["version"]),
        license: text(&p["license"]),
        repository: text(&p["repository"]),
        folder: Path::new(&text(&p["manifest_path"])).parent().expect("a folder").to_owned(),
    };
    of_others.map(one).collect()
}

/// The texts that a crate's authors want to be handed on: its own, and those of sources of others that it brings.
fn texts(folder: &Path) -> Vec<String> {
    let is_notice = |name: &str| {
        let name = name.to_uppercase();
        ["LICENSE", "LICENCE", "COPYING", "COPYRIGHT", "NOTICE", "UNLICENSE"].iter().any(|n| name.starts_with(n))
            && ![".RS", ".PY", ".SH", ".HTML"].iter().any(|end| name.ends_with(end))
    };
    let mut files = Vec::new();
    let mut open = vec![(folder.to_owned(), 0)];
    while let Some((folder, depth)) = open.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() && depth < 2 {
                open.push((path, depth + 1));
            } else if path.is_file() && is_notice(&entry.file_name().to_string_lossy()) {
                files.push(path);
            }
        }
    }
    files.sort();
    let read = |path: PathBuf| std::fs::read(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    let plain = |text: String| text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n").trim().to_owned();
    files.into_iter().filter_map(|path| read(path).ok()).map(plain).filter(|t| !t.is_empty()).collect()
}

fn page() -> String {
    let root = root();
    let mut out = String::from(
        "# What is made by others\n\nThis page is made from the lock files. The tool consists of its own code and of these \
         crates. What it puts into customers' packages (the programs in `heads/`) holds those that are named there.\n",
    );
    // Which crates share a text, in the order in which they come.
    let mut shared: Vec<(String, BTreeSet<String>)> = Vec::new();
    let (linux, windows, macos) = ("x86_64-unknown-linux-gnu", "x86_64-pc-windows-msvc", "aarch64-apple-darwin");
    for (title, manifest, start, platform) in [
        ("In the tool, for Linux", "Cargo.toml", "upper-shelf", linux),
        ("In AppImages", "heads/appimage-runtime/Cargo.toml", "appimage-runtime", linux),
        ("In setup programs and portable programs", "heads/windows-setup/Cargo.toml", "windows-setup", windows),
        ("In launchers for Windows", "heads/windows-launcher/Cargo.toml", "windows-launcher", windows),
        ("In launchers for macOS", "heads/macos-launcher/Cargo.toml", "macos-launcher", macos),
    ] {
        let crates = crates(&root.join(manifest), start, platform);
        let _ = writeln!(out, "\n## {title}\n");
        if crates.is_empty() {
            let _ = writeln!(out, "Nothing but the parts of the Rust standard library that it uses.");
            continue;
        }
        let _ = writeln!(out, "| crate | licence | from |\n|---|---|---|");
        for one in crates {
            assert!(!one.license.is_empty(), "{} says no licence", one.name);
            let _ = writeln!(out, "| {} {} | {} | <{}> |", one.name, one.version, one.license, one.repository);
            for text in texts(&one.folder) {
                // Where lines break, and how far they stand in, makes no other text.
                let words = |text: &str| text.split_whitespace().map(str::to_lowercase).collect::<String>();
                match shared.iter_mut().find(|(known, _)| words(known) == words(&text)) {
                    Some((_, names)) => drop(names.insert(one.name.clone())),
                    None => shared.push((text, [one.name.clone()].into())),
                }
            }
        }
    }
    out.push_str(
        "\n## Besides\n\n- All programs in customers' packages are built with the Rust standard library, or its core \
         (<https://github.com/rust-lang/rust>, MIT OR Apache-2.0).\n- The program in AppImages is linked with musl \
         (<https://musl.libc.org>, MIT: Copyright © 2005-2020 Rich Felker, et al.).\n- Pictures are lettered in one font \
         that comes with the tool; its licence lies beside it (`crates/upper-shelf-core/fonts`).\n\n# The texts\n",
    );
    for (text, names) in shared {
        let names: Vec<String> = names.into_iter().collect();
        let _ = writeln!(out, "\n## {}\n\n```text\n{}\n```", names.join(", "), text.replace("```", "'''"));
    }
    out
}

#[test]
fn everything_that_is_made_by_others_is_named_with_its_licence() {
    let file = root().join("THIRD-PARTY.md");
    let page = page();
    if std::env::var_os("UPDATE_REFERENCE").is_some() {
        std::fs::write(&file, &page).expect("written");
    }
    let stored = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(stored == page, "THIRD-PARTY.md is not what the lock files give; UPDATE_REFERENCE=1 writes it");
    for needed in ["zstd-sys", "liblzma-sys", "squashfs"] {
        assert_eq!(page.contains(&format!("| {needed} ")), needed != "squashfs", "{needed}");
    }
}
