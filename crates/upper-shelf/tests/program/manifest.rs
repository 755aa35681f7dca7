//! What is wrong with a manifest is said at once, with its place and what to write instead.

use crate::common::{Folder, LEAST};

#[test]
fn every_mistake_is_shown_with_its_place_and_a_remedy() {
    let folder = Folder::least();
    folder.write(
        "shelf.toml",
        r#"[product]
id = "least"
nmae = "Least"
version = 1
publisher = "Fernhollow Apiary Works"
homepage = "fernhollow.example"

[[layer]]
form = "built"

[[program]]
key = "app"
file = { linux = "bin/least", amiga = "least" }

[[shortcut]]
program = "app"
places = ["menu", "desk"]

[targets]
platforms = ["linux-x65"]
build = ["appimage"]

[target.appimage]
level = 40
"#,
    );
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(text, @r#"
    error: unknown key `nmae` in `product`
     --> ./shelf.toml:3:1
      |
    3 | nmae = "Least"
      | ^^^^
      = instead: name

    error: `product.version` must be text, not a whole number
     --> ./shelf.toml:4:11
      |
    4 | version = 1
      |           ^
      = instead: "…" in double quotes

    error: unknown key `form` in `layer[0]`
     --> ./shelf.toml:9:1
      |
    9 | form = "built"
      | ^^^^
      = instead: from

    error: unknown key `amiga` in `program[0].file`
      --> ./shelf.toml:13:31
       |
    13 | file = { linux = "bin/least", amiga = "least" }
       |                               ^^^^^
       = instead: one of windows, macos, linux, windows-x64, windows-x86, windows-arm64, macos-arm64, macos-x64, macos-universal, linux-x64, linux-arm64

    error: unknown value "desk" for `shortcut[0].places[1]`
      --> ./shelf.toml:17:19
       |
    17 | places = ["menu", "desk"]
       |                   ^^^^^^
       = instead: one of menu, desktop, startup

    error: unknown value "linux-x65" for `targets.platforms[0]`
      --> ./shelf.toml:20:14
       |
    20 | platforms = ["linux-x65"]
       |              ^^^^^^^^^^^
       = instead: "linux-x64"

    error: `target.appimage.level` can't be 40
      --> ./shelf.toml:24:9
       |
    24 | level = 40
       |         ^^
       = instead: a number from 0 to 22

    7 errors; nothing was written
    "#);
    assert_eq!(folder.names("packages"), [""; 0]);
}

#[test]
fn what_the_values_mean_is_checked_too_all_at_once() {
    let folder = Folder::least();
    let manifest = LEAST.replace("works.fernhollow.least", "Least").replace("bin/least", "bin/laest").replace(
        "[targets]",
        "[[shortcut]]\nprogram = \"ap\"\n\n[[link-scheme]]\nscheme = \"Least://\"\nprogram = \"app\"\n\n[targets]",
    );
    folder.write("shelf.toml", manifest);
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(text, @r#"
    error: "Least" can't be an id
     --> ./shelf.toml:3:6
      |
    3 | id = "Least"
      |      ^^^^^^^
      = why: systems expect a reverse DNS name: three or more parts of letters, digits and hyphens
      = instead: id = "com.example.my-program"

    error: no program has the key "ap"
      --> ./shelf.toml:16:11
       |
    16 | program = "ap"
       |           ^^^^
       = instead: "app"

    error: "Least://" can't be a link scheme
      --> ./shelf.toml:19:10
       |
    19 | scheme = "Least://"
       |          ^^^^^^^^^^
       = why: it is the part before the colon
       = instead: "least"

    3 errors; nothing was written
    "#);
    // With those mended, the missing file shows, with the one that is meant.
    folder.write("shelf.toml", LEAST.replace("bin/least", "least"));
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    assert!(text.contains("instead: file = \"bin/least\""), "{text}");
}

#[test]
fn several_mistakes_of_syntax_are_shown_at_once() {
    let folder = Folder::least();
    folder.write("shelf.toml", "[product]\nid = \nname = \"Least\nversion = \"1.0.0\"\n");
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    assert!(text.contains("shelf.toml:2:6") && text.contains("shelf.toml:3:"), "{text}");
}

#[test]
fn variables_are_put_in_as_plain_text() {
    let folder = Folder::least();
    let manifest = LEAST
        .replace("Fernhollow Apiary Works", "{env:SHELF_MAKER} for {version}")
        .replace("[targets]", "[targets]\nfile-name = \"Least-{env:BUILD_NUMBER}\"");
    folder.write("shelf.toml", manifest);
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    assert!(text.contains("SHELF_MAKER is not set") && text.contains("shelf.toml:6:13"), "{text}");
    // What goes into a package is public: it is shown as it is, so that numbers, paths and JSON stay what they are.
    let maker = "Fern\"hollow\" \\ 100";
    for args in [["plan"].as_slice(), &["plan", "--json"], &["build", "--json"]] {
        let out =
            folder.command(args).envs([("SHELF_MAKER", maker), ("BUILD_NUMBER", "100")]).output().expect("started");
        let text = String::from_utf8_lossy(&out.stdout).into_owned();
        assert!(out.status.success(), "{}", crate::common::text(&out));
        assert!(!text.contains("{env:"), "{args:?}: {text}");
        if args.len() > 1 {
            let json: serde_json::Value = serde_json::from_str(&text).expect("JSON, whatever the values hold");
            let file = json.pointer("/packages/0/file").or(json.pointer("/0/file")).and_then(|f| f.as_str());
            assert!(file.is_none_or(|f| folder.at(f).exists()), "{json}");
        }
    }
    let inspected = folder.ok(&["inspect", "packages/Least-100.AppImage"]);
    assert!(inspected.contains(&format!("{maker} for 1.0.0")), "{inspected}");
}

#[test]
fn a_changed_id_is_refused_and_explained() {
    let folder = Folder::least();
    folder.ok(&["build"]);
    assert!(folder.at("shelf.lock").exists());
    let before = folder.names("packages");
    folder.write(
        "shelf.toml",
        LEAST.replace("works.fernhollow.least", "works.fernhollow.lest").replace("1.0.0", "1.1.0"),
    );
    for command in ["check", "plan", "build"] {
        let (code, text) = folder.run(&[command]);
        assert_eq!(code, 6, "{text}");
        assert!(text.contains("would get a second copy"), "{text}");
        assert!(text.contains("shelf.toml:3:6"), "{text}");
    }
    assert_eq!(folder.names("packages"), before);
}

#[test]
fn the_selector_that_fits_best_is_taken() {
    let folder = Folder::least();
    folder.write("built/bin/least-arm", "x").write("built/least.exe", "MZ");
    let manifest = LEAST
        .replace(
            "file = \"bin/least\"",
            "file = { linux = \"bin/least\", linux-arm64 = \"bin/least-arm\", windows = \"least.exe\" }",
        )
        .replace("[\"linux-x64\"]", "[\"linux-x64\", \"linux-arm64\", \"windows-x64\", \"macos-arm64\"]")
        .replace("[\"appimage\"]", "[\"zip\"]");
    folder.write("shelf.toml", manifest);
    let text = folder.ok(&["plan"]);
    let programs: Vec<&str> = text.lines().filter(|l| l.trim_start().starts_with("app: ")).map(str::trim).collect();
    assert_eq!(programs, ["app: least.exe", "app: bin/least", "app: bin/least-arm"], "{text}");
}
