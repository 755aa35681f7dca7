//! What goes into a package, and what is refused with a reason.

use crate::common::{Folder, LEAST};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::symlink;

#[test]
fn links_that_lead_elsewhere_are_errors() {
    let folder = Folder::least();
    symlink("/etc/passwd", folder.at("built/absolute")).expect("link");
    symlink("../../outside", folder.at("built/bin/leaving")).expect("link");
    symlink("bin/least", folder.at("built/fine")).expect("link");
    symlink("bin/gone", folder.at("built/dangling")).expect("link");
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(text, @r#"
    error: the link absolute points to the absolute path /etc/passwd
     --> ./shelf.toml:9:8
      |
    9 | from = "built"
      |        ^^^^^^^
      = why: on another machine it leads to something else, or nowhere
      = instead: make it a relative link to something inside, or exclude it with `drop`

    error: the link bin/leaving → ../../outside leaves the payload
     --> ./shelf.toml:9:8
      |
    9 | from = "built"
      |        ^^^^^^^
      = why: on another machine it leads to something else, or nowhere
      = instead: make it a relative link to something inside, or exclude it with `drop`

    warning: the link dangling → bin/gone leads nowhere
     --> ./shelf.toml:9:8
      |
    9 | from = "built"
      |        ^^^^^^^
      = why: bin/gone isn't in the payload

    2 errors; nothing was written
    "#);
}

#[test]
fn names_count_only_where_the_system_minds_them() {
    let folder = Folder::least();
    folder.write("built/Readme", "a").write("built/README", "b").write("built/aux.txt", "c").write("built/what?", "d");
    folder.ok(&["check"]);
    folder.write(
        "shelf.toml",
        LEAST
            .replace("[\"linux-x64\"]", "[\"linux-x64\", \"windows-x64\", \"macos-arm64\"]")
            .replace("[\"appimage\"]", "[\"zip\"]"),
    );
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    for expected in [
        "Windows can't hold the name \"aux.txt\" (windows-x64)",
        "Windows can't hold the name \"what?\" (windows-x64)",
        "differ only in case (windows-x64, macos-arm64)",
    ] {
        assert!(text.contains(expected), "{expected}: {text}");
    }
    assert!(!text.contains("linux-x64)"), "{text}");
}

#[test]
fn a_name_that_is_no_text_is_named() {
    let folder = Folder::least();
    let odd = folder.at("built").join(std::ffi::OsStr::from_bytes(b"caf\xe9"));
    std::fs::write(odd, "x").expect("written");
    let (code, text) = folder.run(&["check"]);
    assert_eq!(code, 1);
    assert!(text.contains(r#"the name "caf\xE9""#) && text.contains("this one isn't UTF-8"), "{text}");
}

#[test]
fn layers_lie_over_each_other_and_globs_choose() {
    let folder = Folder::least();
    folder.write("built/data/keep.txt", "old").write("built/data/debug.map", "map").write("built/obj/a.o", "o");
    folder.write("more/keep.txt", "new!").write("more/sub/picture.png", "p").write("more/sub/readme.md", "r");
    std::fs::create_dir_all(folder.at("built/empty")).expect("folder");
    let manifest = LEAST.replace(
        "[[program]]",
        "drop = [\"*.map\", \"obj\"]\n[[layer]]\nfrom = \"more\"\ninto = \"data\"\nkeep = [\"*.{png,txt}\"]\n[[program]]",
    );
    folder.write("shelf.toml", manifest);
    let value: serde_json::Value = serde_json::from_str(&folder.ok(&["plan", "--json"])).expect("JSON");
    let traces = value[0]["footprint"]["tree"].as_array().expect("a tree").clone();
    let paths: Vec<String> =
        traces.iter().filter_map(|t| Some(format!("{} {}", t["path"].as_str()?, t["size"]))).collect();
    let expected = [
        "bin null",
        "bin/least 26",
        "data null",
        "data/keep.txt 4",
        "data/sub null",
        "data/sub/picture.png 1",
        "empty null",
    ];
    assert_eq!(paths, expected);
}

#[test]
fn odd_trees_come_out_as_they_went_in() {
    let folder = Folder::least();
    let big = folder.at("built/huge-hole");
    let file = std::fs::File::create(&big).expect("a file");
    file.set_len(1 << 30).expect("long");
    std::os::unix::fs::FileExt::write_all_at(&file, b"end", (1 << 30) - 3).expect("written");
    for name in ["蜂の巣/ハチ.txt", "Ñandú", "مرحبا", "with space", "new\nline", "quote'\"$", "-dash", "\u{1F41D}"]
    {
        folder.write(&format!("built/{name}"), name);
    }
    let deep: String = (0..60).map(|n| format!("folder-{n}/")).collect();
    folder.write(&format!("built/{deep}end"), "deep");
    std::fs::hard_link(folder.at("built/Ñandú"), folder.at("built/same")).expect("hard link");
    std::fs::set_permissions(folder.at("built/-dash"), std::os::unix::fs::PermissionsExt::from_mode(0o600))
        .expect("mode");
    folder.ok(&["build"]);
    let package = folder.at("packages/Least-1.0.0-linux-x64.AppImage");
    assert!(package.metadata().expect("metadata").len() < 4 << 20);
    let run =
        crate::common::start(&package).arg("--appimage-extract").current_dir(folder.path()).output().expect("started");
    assert!(run.status.success(), "{}", crate::common::text(&run));
    let strip_modes =
        |lines: Vec<String>| -> Vec<String> { lines.into_iter().map(|l| l.replace(" 600 ", " 644 ")).collect() };
    let out = test_support::listing(&folder.at("squashfs-root/usr/lib/works.fernhollow.least"));
    assert_eq!(out, strip_modes(test_support::listing(&folder.at("built"))));
    let metadata =
        |p: &str| folder.at(&format!("squashfs-root/usr/lib/works.fernhollow.least/{p}")).metadata().expect("metadata");
    assert!(std::os::unix::fs::MetadataExt::blocks(&metadata("huge-hole")) < 5000, "the hole is a hole again");
}

#[test]
fn a_file_that_changes_under_the_build_ends_it() {
    let folder = Folder::least();
    for n in 0..40 {
        folder.write(&format!("built/data/{n:02}"), test_support::noise(n, 700_000));
    }
    let late = folder.at("built/zz-late");
    std::fs::write(&late, test_support::noise(99, 4 << 20)).expect("written");
    for what in ["grow", "vanish"] {
        let mut child =
            folder.command(&["build", "--threads", "1"]).stderr(std::process::Stdio::piped()).spawn().expect("started");
        // Planned by now, and far from being through with it.
        while folder.names("packages").is_empty() {
            std::thread::sleep(std::time::Duration::from_millis(1));
            assert!(child.try_wait().expect("status").is_none(), "the build was over before anything could change");
        }
        match what {
            "grow" => std::fs::write(&late, "other").expect("written"),
            _ => std::fs::remove_file(&late).expect("removed"),
        }
        let out = child.wait_with_output().expect("ended");
        let text = crate::common::text(&out);
        assert_eq!(crate::common::code(&out), 3, "{text}");
        assert!(text.contains("zz-late changed while the package was being built"), "{text}");
        assert_eq!(folder.names("packages"), [""; 0], "nothing is left");
    }
}
