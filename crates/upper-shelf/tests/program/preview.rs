//! Pictures of what people will see: drawn from the manifest, and laid beside what Wine really shows and what the disk
//! image really holds.

use crate::common::hives::{build, product_for};
use crate::common::{Folder, code, demo, text};
use serde_json::Value;
use test_support::wine::{Seen, Wine};
use test_support::{judge_says_yes, python};

const MORE: &str = "[wizard]\nlicense = \"LICENSE.txt\"\n[install]\nstart-at-end = \"app\"\nscope = \"asked\"";

fn preview(folder: &Folder, args: &[&str]) -> Value {
    let out = folder.command(&[&["preview", "--json"], args].concat()).output().expect("run");
    assert!(out.status.success(), "{}", text(&out));
    serde_json::from_slice(&out.stdout).expect("JSON")
}

fn list<'v>(value: &'v Value, key: &str) -> &'v Vec<Value> {
    value[key].as_array().unwrap_or_else(|| panic!("no {key} in {value}"))
}

fn said<'v>(value: &'v Value, key: &str) -> &'v str {
    value[key].as_str().unwrap_or_else(|| panic!("no {key} in {value}"))
}

fn numbers(value: &Value) -> Vec<i32> {
    ["x", "y", "width", "height"].map(|side| value[side].as_i64().expect("a number") as i32).to_vec()
}

/// The picture of a page that says the same.
fn drawn_of<'v>(pictures: &'v [Value], seen: &Seen) -> &'v Value {
    let is_same = |picture: &&Value| {
        let sign = if said(picture, "page") == "AskCancel" { "text" } else { "title" };
        let title = list(picture, "drawn").iter().find(|d| d["kind"] == sign).expect("a title");
        seen.controls.iter().any(|c| c.class == "Static" && c.text == said(title, "text"))
    };
    pictures.iter().find(is_same).unwrap_or_else(|| panic!("no picture of {:?}", seen.texts()))
}

/// Every control of the real page is in the picture, where it is and as large as it is, and the other way round.
fn assert_same(picture: &Value, seen: &Seen) {
    // Bitmaps are drawn by setup programs and are controls of packages; a line is thicker than it is said to be.
    let is_drawn = |d: &&Value| !["strip", "accent", "picture", "line"].contains(&said(d, "kind"));
    let is_real = |c: &&test_support::wine::Control| {
        let is_ground = c.class == "Static" && (c.text.is_empty() || c.text.starts_with("Wizard"));
        let is_group = c.class == "Button" && c.text.is_empty();
        !(is_ground || is_group)
    };
    let close = |a: &[i32], b: &[i32]| a.len() == 4 && a.iter().zip(b).all(|(a, b)| a.abs_diff(*b) <= 1);
    let mut real: Vec<_> = seen.controls.iter().filter(is_real).collect();
    for drawn in list(picture, "drawn").iter().filter(is_drawn) {
        let (at, text) = (numbers(&drawn["at"]), said(drawn, "text"));
        // What stands in lists and fields, and how far it is, differs from machine to machine.
        let has_own_text = ["text", "title", "below", "button", "check", "scope"].contains(&said(drawn, "kind"));
        let found = real.iter().position(|c| close(&c.place, &at) && (!has_own_text || c.text == text));
        let page = said(picture, "page");
        let found = found.unwrap_or_else(|| panic!("{page}: {drawn} is not among {:#?}", seen.controls));
        real.remove(found);
    }
    assert!(real.is_empty(), "not drawn: {real:?}");
    let size = numbers(&picture["contents"]);
    // Wine's frame.
    assert_eq!([size[2] + 6, size[3] + 25], seen.size[..], "{}", said(picture, "page"));
}

#[test]
fn the_pages_are_drawn_as_wine_shows_them() {
    for target in ["nsis", "msi"] {
        let folder = product_for(target, "1.0.0", MORE);
        folder.write("LICENSE.txt", "You may count frames.\nNobody promises that the bees agree.\n");
        let machine = Wine::new();
        let package = machine.bring(&build(&folder), if target == "msi" { "hives.msi" } else { "hives.exe" });
        let walk = |steps: &[&str]| match target {
            "msi" => machine.walk(&["/i", &package, "WIZARDLANGUAGE=en"], steps).0,
            _ => machine.walk_program(&[&package, "/LANGUAGE=en"], steps).0,
        };
        let agree = "I accept the licence agreement";
        let mut pages = walk(&["Next", agree, "Next", "Next", "Next", "Cancel", "Yes", "Close"]);
        let start = "Start Hives & Frames now";
        pages.extend(walk(&["Next", agree, "Next", "Next", "Next", "Install", start, "Finish"]));
        pages.extend(walk(&["Uninstall", "Finish"]));
        let preview = preview(&folder, &["--language", "en"]);
        let pictures = list(&preview, "pictures");
        let mut compared = std::collections::BTreeSet::new();
        for seen in pages.iter().filter(|p| !p.texts().contains(&"Uninstalled")) {
            let picture = drawn_of(pictures, seen);
            assert_same(picture, seen);
            compared.insert(said(picture, "page").to_owned());
        }
        let wanted = ["AskCancel", "Cancelled", "Choices", "Done", "Folder", "License", "Maintain", "Scope", "Start"];
        assert!(wanted.iter().all(|p| compared.contains(*p)), "{target}: only {compared:?} were compared");
    }
}

#[test]
fn the_disk_images_window_is_drawn_with_the_places_in_the_image() {
    let folder = Folder::new();
    let project = demo().join("demo/combwright");
    let draw = |manifest: &std::path::Path, to: &std::path::Path| {
        let args = ["preview", "--json", "--target", "dmg", "--platform", "macos-x64", "-o"];
        let out = folder.command(&args).arg(to).arg(manifest).output().expect("run");
        assert_eq!(code(&out), 0, "{}", text(&out));
        serde_json::from_slice::<Value>(&out.stdout).expect("JSON")
    };
    let out = folder.at("out");
    let preview = draw(&project, &out);
    let picture = &list(&preview, "pictures")[0];
    let image = demo().join("demo/packages/Combwright-2.4.0-macos-x64.dmg");
    let to = format!("-o{}", out.display());
    judge_says_yes("7zz", &["e", "-y", &to, image.to_str().expect("text"), "-ir!.DS_Store"]);
    let script = "import sys
from ds_store import DSStore
with DSStore.open(sys.argv[1], 'r') as d:
    s = d['.']['icvp']['iconSize']
    for e in d:
        if e.code == b'Iloc':
            print(e.filename.removesuffix('.app'), int(e.value[0] - s / 2), int(e.value[1] - s / 2), int(s), int(s))";
    let store = out.join(".DS_Store");
    let real = judge_says_yes(&python(), &["-c", script, store.to_str().expect("text")]);
    let mut real: Vec<String> = real.lines().map(str::to_owned).collect();
    let line = |d: &Value| {
        let at: Vec<String> = numbers(&d["at"]).iter().map(i32::to_string).collect();
        format!("{} {}", said(d, "text"), at.join(" "))
    };
    let symbols = list(picture, "drawn").iter().filter(|d| d["kind"] != "window");
    let mut drawn: Vec<String> = symbols.map(line).collect();
    real.sort();
    drawn.sort();
    assert_eq!(drawn, real);
    // Both densities, by another reader of pictures.
    let sizes = |key: &str| judge_says_yes("identify", &["-format", "%w %h", said(picture, key)]);
    assert_eq!((sizes("file"), sizes("file-twice")), ("640 428".into(), "1280 856".into()));
    // The words below the arrow are there, and can be left out.
    let manifest = std::fs::read_to_string(project.join("shelf.toml")).expect("read");
    let plain = project.join("plain.toml");
    std::fs::write(&plain, manifest + "\n[disk-image]\nword = \"\"\n").expect("written");
    let without = folder.at("without");
    draw(&plain, &without);
    let read = |folder: &std::path::Path| std::fs::read(folder.join("dmg-macos-x64-01-window.png")).expect("read");
    assert!(read(&out) != read(&without));
}

#[test]
fn one_page_shows_all_pictures_and_the_footprint() {
    let folder = product_for("nsis", "1.0.0", MORE);
    folder.write("LICENSE.txt", "You may count frames.\n");
    let made = preview(&folder, &["-o", "out"]);
    let pictures = list(&made, "pictures");
    let html = std::fs::read_to_string(folder.at("out/index.html")).expect("a page");
    for picture in pictures {
        for key in ["file", "file-twice"] {
            let name = said(picture, key).rsplit('/').next().expect("a name");
            assert!(html.contains(name) && folder.at("out").join(name).exists(), "{name}");
        }
    }
    assert_eq!(folder.names("out").len(), 2 * pictures.len() + 1);
    let languages: Vec<&str> = pictures.iter().map(|p| said(p, "language")).collect();
    assert!(languages.contains(&"en") && languages.contains(&"de"));
    // It can be read aloud, and nothing of a product's name means something in it.
    assert!(html.contains("Es öffnet diese Dateitypen: .comb, .brood"));
    assert!(html.contains("<h1>Hives &amp; Frames 1.0.0</h1>") && html.contains("HIVES_HOME"));
    // The same again, byte for byte.
    let all = |folder: &Folder| {
        let names = folder.names("out").into_iter();
        names.map(|n| std::fs::read(folder.at("out").join(n)).expect("read")).collect::<Vec<_>>()
    };
    let first = all(&folder);
    preview(&folder, &["-o", "out"]);
    assert!(first == all(&folder));
}

#[test]
fn words_without_room_are_said_and_nothing_to_draw_too() {
    let long = "Put a symbol that opens this very fine program onto the desktop of each and every user here";
    let words = format!("[wizard.words.en]\ndesktop = \"{long}\"\nnext = \"Proceed with the next page\"");
    let folder = product_for("msi", "1.0.0", &words);
    let (code, text) = folder.run(&["preview", "--language", "en"]);
    insta::assert_snapshot!(text, @r#"
    ✓ Hives-Frames-1.0.0-windows-x64.msi                  11 pictures, each at 1x and 2x

    open preview/index.html
    warning: the text of `desktop` in "en" is cut off on the page Start
     = why: "Put a symbol that opens this very fine program onto the desktop of each and every user here" is about 520 pixels wide, and there is room for 449
     = instead: shorter words: [wizard.words.en] desktop = "…"

    warning: the text of `next` in "en" is cut off on the page Start
     = why: "Proceed with the next page" is about 153 pixels wide, and there is room for 81
     = instead: shorter words: [wizard.words.en] next = "…"

    warning: the text of `next` in "en" is cut off on the page Folder
     = why: "Proceed with the next page" is about 153 pixels wide, and there is room for 81
     = instead: shorter words: [wizard.words.en] next = "…"
    "#);
    assert_eq!(code, 0);
    let (code, text) = folder.run(&["preview", "--language", "fr", "--output", "other"]);
    insta::assert_snapshot!(text, @r#"
    error: the wizard has no language "fr"
     = why: it has de, en
     = instead: [wizard] languages = ["fr"]

    1 error; nothing was written
    "#);
    assert!(code == 1 && !folder.at("other").exists(), "{code}");
    let (code, text) = Folder::least().run(&["preview"]);
    insta::assert_snapshot!(text, @r#"
    error: there is nothing to draw
     = why: only msi and nsis have wizards, and only dmg has a window
     = instead: [targets] build = ["msi", "nsis", "dmg"]

    1 error; nothing was written
    "#);
    assert_eq!(code, 1);
}
