//! What the tool notices: programs that the platform can't start, archives that are damaged where few look, its own output
//! in a layer, and what `init` finds in a folder that was made by hand.

use crate::common::{Folder, LEAST, demo, demo_package, text};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use test_support::{judge, judge_says_yes};

fn built(platform: &str, file: &str) -> Vec<u8> {
    std::fs::read(demo().join("demo/combwright/built").join(platform).join(file)).expect("the demo's program")
}

#[test]
fn a_program_of_the_wrong_kind_is_an_error_for_every_format() {
    let (linux, windows, mac) = (
        built("linux-x64", "bin/combwright"),
        built("windows-x64", "combwright.exe"),
        built("macos-arm64", "combwright"),
    );
    for (platform, format, bytes, what) in [
        ("linux-arm64", "appimage", &linux, "a program for linux-x64"),
        ("linux-x64", "tar", &windows, "a program for windows-x64"),
        ("linux-x64", "zip", &mac, "a program for macos-arm64"),
        ("windows-x64", "msi", &linux, "a program for linux-x64"),
        ("windows-x86", "nsis", &windows, "a program for windows-x64"),
        ("macos-arm64", "dmg", &linux, "a program for linux-x64"),
        ("macos-x64", "zip", &mac, "a program for macos-arm64"),
    ] {
        let folder = Folder::new();
        let manifest = LEAST.replace("linux-x64", platform).replace("\"appimage\"", &format!("{format:?}"));
        folder.write("shelf.toml", manifest).write("built/bin/least", bytes);
        let (code, said) = folder.run(&["check"]);
        assert_eq!(code, 1, "{platform} {format}: {said}");
        let expected = format!("bin/least can't be started on {platform}: it is {what}");
        assert!(said.contains(&expected) && said.contains("file = \"bin/least\""), "{said}");
    }
    // What a platform emulates is no mistake.
    let folder = Folder::new();
    let manifest = LEAST.replace("linux-x64", "windows-arm64").replace("\"appimage\"", "\"msi\", \"nsis\"");
    folder.write("shelf.toml", manifest).write("built/bin/least", &windows);
    let said = folder.ok(&["check"]);
    assert!(!said.contains("can't"), "{said}");
}

#[test]
fn a_program_without_the_right_to_be_started_gets_it_and_others_are_only_warned_of() {
    let folder = Folder::new();
    folder.write("shelf.toml", LEAST.replace("[\"appimage\"]", "[\"appimage\", \"tar\"]"));
    folder
        .write("built/bin/least", "#!/bin/sh\necho started\n")
        .write("built/lib/other.dll", built("windows-x64", "combwright.exe"));
    let mode = PermissionsExt::from_mode(0o644);
    std::fs::set_permissions(folder.at("built/bin/least"), mode).expect("mode");
    let said = folder.ok(&["build", "-v"]);
    assert!(said.contains("bin/least is made executable: it is a script"), "{said}");
    assert!(said.contains("warning: linux-x64 can't run lib/other.dll (a program for windows-x64)"), "{said}");
    let out = crate::common::start(&folder.at("packages/Least-1.0.0-linux-x64.AppImage")).output().expect("started");
    assert_eq!(text(&out), "started\n");
    // A Java archive is none, and what to do about it is not chmod.
    let folder = Folder::new();
    folder.write("shelf.toml", LEAST.replace("bin/least", "least.jar"));
    folder.write("in/META-INF/MANIFEST.MF", "Manifest-Version: 1.0\n");
    std::fs::create_dir(folder.at("built")).expect("made");
    let zipped =
        Command::new("zip").args(["-qr", "../built/least.jar", "META-INF"]).current_dir(folder.at("in")).status();
    assert!(zipped.expect("zip").success());
    let (code, said) = folder.run(&["check"]);
    assert!(code == 1 && said.contains("it is a Java archive") && !said.contains("chmod"), "{said}");
}

#[test]
fn a_damaged_end_of_a_packed_tar_is_damage() {
    let folder = Folder::least();
    folder.write("shelf.toml", LEAST.replace("[\"appimage\"]", "[\"tar\"]"));
    folder.ok(&["build"]);
    let tar = folder.at("packages/Least-1.0.0-linux-x64.tar.gz");
    let good = std::fs::read(&tar).expect("read");
    // The checksum, and the length behind it; gzip itself says no too.
    for at in [good.len() - 7, good.len() - 2] {
        let mut bad = good.clone();
        bad[at] ^= 1;
        folder.write("bad.tar.gz", &bad);
        assert!(!judge("gzip", &["-t", folder.at("bad.tar.gz").to_str().expect("text")]).status.success());
        for command in [["check", "bad.tar.gz"].as_slice(), &["extract", "bad.tar.gz", "out"]] {
            let (code, said) = folder.run(command);
            assert_eq!(code, 4, "{command:?}: {said}");
        }
        assert!(!folder.at("out").exists());
    }
    folder.ok(&["check", tar.to_str().expect("text")]);
}

#[test]
fn odd_archives_of_others_are_told_as_they_are() {
    let folder = Folder::new();
    folder.write("alone.txt", "alone\n");
    let run = |program: &str, args: &[&str]| {
        let out = Command::new(program).args(args).current_dir(folder.path()).output().expect("a judge");
        assert!(out.status.success(), "{program}: {}", text(&out));
    };
    run("tar", &["-czf", "one.tar.gz", "alone.txt"]);
    let said = folder.ok(&["inspect", "one.tar.gz"]);
    assert!(said.contains("alone.txt"), "{said}");
    folder.ok(&["extract", "one.tar.gz", "one"]);
    assert_eq!(folder.names("one"), ["alone.txt"]);
    run("mkfifo", &["pipe"]);
    run("tar", &["-czf", "pipe.tar.gz", "alone.txt", "pipe"]);
    let said = folder.ok(&["inspect", "pipe.tar.gz"]);
    assert!(said.contains("the pipe pipe"), "{said}");
    run("zip", &["-q", "-P", "honey", "secret.zip", "alone.txt"]);
    let (code, said) = folder.run(&["extract", "secret.zip", "out"]);
    assert!(code == 4 && said.contains("isn't supported") && said.contains("encrypted"), "{said}");
    run("zip", &["-q", "-Z", "bzip2", "other.zip", "alone.txt"]);
    folder.write("long.txt", "all the hives of the orchard\n".repeat(1000));
    run("zip", &["-q", "-Z", "bzip2", "other.zip", "long.txt"]);
    let (code, said) = folder.run(&["extract", "other.zip", "out"]);
    assert!(code == 4 && said.contains("isn't supported") && !said.contains("damaged"), "{said}");
    // A pipe is not waited for.
    let (code, said) = folder.run(&["inspect", "pipe"]);
    assert!(code == 4 && said.contains("a pipe or a device"), "{said}");
}

#[test]
fn what_the_tool_itself_wrote_is_not_packed() {
    let folder = Folder::new();
    folder
        .write("shelf.toml", LEAST.replace("from = \"built\"", "from = \".\"").replace("[\"appimage\"]", "[\"zip\"]"));
    folder.script("bin/least", "echo least");
    folder.ok(&["build"]);
    let first = std::fs::read(folder.at("packages/Least-1.0.0-linux-x64.zip")).expect("a package");
    folder.ok(&["build"]);
    folder.ok(&["build", "--output", "elsewhere"]);
    for place in ["packages", "elsewhere"] {
        let again = std::fs::read(folder.at(place).join("Least-1.0.0-linux-x64.zip")).expect("a package");
        assert!(place == "elsewhere" || again == first, "{place}");
    }
    let listed =
        judge_says_yes("unzip", &["-Z1", folder.at("packages/Least-1.0.0-linux-x64.zip").to_str().expect("text")]);
    assert_eq!(listed.lines().filter(|l| !l.ends_with('/')).collect::<Vec<_>>(), ["Least-1.0.0-linux-x64/bin/least"]);
}

#[test]
fn hard_links_in_the_input_do_not_change_packages_that_know_none() {
    let builds = [true, false].map(|linked| {
        let folder = Folder::new();
        let platforms = r#"platforms = ["linux-x64", "windows-x64", "macos-arm64"]"#;
        let manifest = LEAST.replace("from = \"built\"", "from = \"built/{platform}\"");
        let manifest = manifest.replace("build = [\"appimage\"]", "build = [\"zip\", \"msi\", \"dmg\"]");
        let file = r#"file = { windows = "combwright.exe", macos = "combwright", linux = "bin/combwright" }"#;
        let manifest = manifest.replace("file = \"bin/least\"", file);
        let at = manifest.find("platforms").expect("platforms");
        let end = at + manifest[at..].find('\n').expect("a line");
        folder.write("shelf.toml", format!("{}{platforms}{}", &manifest[..at], &manifest[end..]));
        for (platform, file, further) in [
            ("linux-x64", "bin/combwright", "bin/further"),
            ("windows-x64", "combwright.exe", "further.exe"),
            ("macos-arm64", "combwright", "further"),
        ] {
            let place = |name: &str| format!("built/{platform}/{name}");
            let bytes = built(platform, file);
            for (first, again, bytes) in [(file, further, &bytes[..]), ("a", "z", b"the same")] {
                folder.write(&place(first), bytes).write(&place("m"), "between");
                let mode = PermissionsExt::from_mode(0o755);
                std::fs::set_permissions(folder.at(&place(first)), mode).expect("mode");
                match linked {
                    true => std::fs::hard_link(folder.at(&place(first)), folder.at(&place(again))).expect("linked"),
                    false => drop(std::fs::copy(folder.at(&place(first)), folder.at(&place(again))).expect("copied")),
                }
            }
        }
        folder.ok(&["build"]);
        ["linux-x64.zip", "windows-x64.zip", "windows-x64.msi", "macos-arm64.zip", "macos-arm64.dmg"]
            .map(|end| std::fs::read(folder.at(&format!("packages/Least-1.0.0-{end}"))).expect("a package"))
    });
    for (linked, apart) in builds[0].iter().zip(&builds[1]) {
        assert!(linked == apart);
    }
}

#[test]
fn a_changed_head_of_an_appimage_is_noticed() {
    let folder = Folder::new();
    let mut bytes = std::fs::read(demo_package("Combwright-2.4.0-linux-x64.AppImage")).expect("read");
    folder.write("good.AppImage", &bytes);
    folder.ok(&["check", "good.AppImage"]);
    bytes[9000] ^= 1;
    folder.write("bad.AppImage", &bytes);
    let (code, said) = folder.run(&["check", "bad.AppImage"]);
    assert!(code == 4 && said.contains("was changed after it was built"), "{said}");
}

#[test]
fn init_writes_what_a_practitioner_would_for_a_folder_of_several_systems() {
    let folder = Folder::new();
    for (platform, file) in
        [("linux-x64", "bin/combwright"), ("windows-x64", "combwright.exe"), ("macos-arm64", "combwright")]
    {
        folder.write(&format!("built/{platform}/{file}"), built(platform, file));
    }
    let said = folder.ok(&["init", "built"]);
    assert!(said.contains("wrote shelf.toml"), "{said}");
    for program in ["linux-x64/bin/combwright (linux-x64)", "windows-x64/combwright.exe (windows-x64"] {
        assert!(said.contains(program), "{program}\n{said}");
    }
    insta::assert_snapshot!(std::fs::read_to_string(folder.at("shelf.toml")).expect("a manifest"), @r#"
        # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

        [product]
        id = "com.example.combwright"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
        name = "Combwright"
        version = "1.0.0"   # not found anywhere: set the right one
        publisher = "Unknown publisher"   # the maker's name, as users see it
        # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

        [[layer]]
        from = "built/{platform}"   # files that later builds add are included

        [[program]]
        key = "app"
        file = { windows = "combwright.exe", macos = "combwright", linux = "bin/combwright" }

        [[shortcut]]
        program = "app"
        places = ["menu"]

        [targets]
        platforms = ["windows-x64", "macos-arm64", "linux-x64"]   # what the program was built for
        build = ["msi", "nsis", "dmg", "appimage", "tar"]
        "#);
    folder.ok(&["check"]);
}

#[test]
fn init_reads_what_the_files_say_of_themselves() {
    let folder = Folder::new();
    folder.script("hive/bin/hive-view", "echo hive");
    folder.write("hive/node_modules/deep/package.json", r#"{"name": "deep", "version": "9.9.9"}"#);
    folder.write("hive/package.json", r#"{"name": "hive-view", "version": "3.2.1", "license": "MIT", "author": "Mill Lane Bees <bees@mill-lane.example>"}"#);
    folder.write(
        "hive/share/applications/org.example.HiveView.desktop",
        "[Desktop Entry]\nType=Application\nName=Hive View\nComment=Looks into hives\nCategories=Science;Education;\nExec=hive-view\n",
    );
    folder.ok(&["init", "hive"]);
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("a manifest");
    for line in [
        "id = \"org.example.HiveView\"",
        "name = \"Hive View\"",
        "version = \"3.2.1\"   # found in package.json",
        "publisher = \"Mill Lane Bees\"",
        "summary = \"Looks into hives\"",
        "license = \"MIT\"",
        "categories = [\"Science\", \"Education\"]",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    folder.ok(&["build"]);
    std::io::stdout().flush().expect("flushed");
}
