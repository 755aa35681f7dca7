//! The JSON Schema and the reference page say what the types say. `UPDATE_REFERENCE=1` writes them anew.

use std::path::Path;
use upper_shelf_core::manifest::{read, reference};

fn up_to_date(path: &str, made: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path);
    if std::env::var_os("UPDATE_REFERENCE").is_some() {
        std::fs::write(&file, made).expect("written");
    }
    let stored = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(stored == made, "{path} is stale: UPDATE_REFERENCE=1 cargo test -p upper-shelf-core --test reference");
}

#[test]
fn the_json_schema_is_up_to_date() {
    up_to_date("docs/shelf.schema.json", &reference::json_schema());
}

#[test]
fn the_reference_page_is_up_to_date() {
    up_to_date("docs/manifest.md", &reference::page());
}

#[test]
fn the_page_of_problems_is_up_to_date() {
    up_to_date("docs/problems.md", &reference::problems_page());
}

#[test]
fn every_key_of_the_reference_is_taken_by_the_reader() {
    let text = r#"
[product]
id = "a.b.c"
name = "n"
version = "1"
publisher = "p"
released = 2026-11-20
icon = { linux = "a.svg", windows-x64 = "b.svg" }
[[layer]]
from = { linux = "x" }
into = "y"
keep = ["*.{png,svg}"]
modes = "exact"
platforms = ["linux", "windows-arm64"]
[[environment]]
name = "X"
value = "{install}/lib"
action = "prepend"
[target.appimage]
compression = "xz"
level = 6
block-size = 65536
[target.zip]
level = 9
[target.tar]
compression = "zstd"
"#;
    let (manifest, source, problems) = read::read(Path::new("shelf.toml"), text, &|_| None).expect("read");
    assert_eq!(problems, []);
    assert_eq!(manifest.product.released.as_deref(), Some("2026-11-20"));
    assert_eq!(source.span("layer.0.modes").map(|s| (s.line, s.column)), Some((13, 9)));
}

proptest::proptest! {
    /// Any text at all: problems or a manifest, never a panic.
    #[test]
    fn no_text_makes_the_reader_panic(text in "(\\PC|\n|\\[\\[|\\]\\]|=|\"|\\{|\\}|product|layer|from|name|env:){0,60}") {
        let _ = read::read(Path::new("shelf.toml"), &text, &|_| None);
    }

    #[test]
    fn a_mutated_manifest_makes_the_reader_answer(at in 0usize..1200, with in "(\\PC){0,4}") {
        let mut text = include_str!("../../../demo/files/shelf.toml").to_owned();
        let at = (0..=at.min(text.len())).rev().find(|n| text.is_char_boundary(*n)).unwrap_or(0);
        let end = (at + with.len()).min(text.len());
        let end = (end..=text.len()).find(|n| text.is_char_boundary(*n)).unwrap_or(text.len());
        text.replace_range(at..end, &with);
        if let Err(problems) = read::read(Path::new("shelf.toml"), &text, &|_| None) {
            proptest::prop_assert!(!problems.is_empty());
            proptest::prop_assert!(problems.iter().all(|p| !p.what.is_empty()));
        }
    }
}
