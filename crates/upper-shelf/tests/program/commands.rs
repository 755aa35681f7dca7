//! The commands on the demo and on folders of built files: what a user reads.

use crate::common::{Folder, code, demo, demo_package, text};

#[test]
fn plan_shows_the_whole_footprint_and_writes_nothing() {
    let folder = Folder::new();
    let before = test_support::listing(demo());
    let manifest = demo().join("demo/combwright");
    let (code, text) = folder.run(&["plan", manifest.to_str().expect("utf-8"), "--platform", "linux-x64"]);
    assert_eq!(code, 0);
    insta::with_settings!({filters => vec![(r"\d+(\.\d+)? kB", "[size]"), (r"[0-9a-f]{12}", "[hash]")]}, {
        insta::assert_snapshot!(text, @r#"
        Combwright 2.4.0
          id           works.fernhollow.combwright
          publisher    Fernhollow Apiary Works
          summary      Keep a journal of your hives [de: Führen Sie ein Tagebuch Ihrer Bienenstöcke]
          description  Combwright is the journal of a beekeeper: a line for each visit to a hive, what was seen and what was taken.

                       It opens .comb files, and links such as combwright:mill%20lane.
          homepage     https://fernhollow.example/combwright
          support      bees@fernhollow.example
          license      MIT OR Apache-2.0
          categories   Office
          platform     linux-x64

        files (8, [size])
          ├─ bin/                                     1 file, [size]
          │  └─ combwright                            [size], mode 755
          └─ share/                                   7 files, [size]
             ├─ combwright/                           5 files, [size]
             │  ├─ art/                               2 files, [size]
             │  │  ├─ hive.png                        867 bytes, mode 644
             │  │  └─ sign.png                        [size], mode 644
             │  ├─ fonts/                             2 files, [size]
             │  │  ├─ LICENSE.txt                     [size], mode 644
             │  │  └─ journal.ttf                     [size], mode 644
             │  └─ journals/                          1 file, 818 bytes
             │     └─ fernhollow.comb                 818 bytes, mode 644
             ├─ completions/                          1 file, 243 bytes
             │  └─ combwright.bash                    243 bytes, mode 644
             └─ man/                                  1 file, 500 bytes
                └─ combwright.1                       500 bytes, mode 644

        programs
          app: bin/combwright
          report: bin/combwright "--report", in a terminal

        shortcuts
          desktop: “Combwright” starts app (Keep a journal of your hives [de: Führen Sie ein Tagebuch Ihrer Bienenstöcke])
          menu: “Combwright” starts app (Keep a journal of your hives [de: Führen Sie ein Tagebuch Ihrer Bienenstöcke])
          menu: “Combwright Report” starts report (Print the journal of your hives [de: Das Tagebuch Ihrer Bienenstöcke ausgeben])

        file types
          .comb: “Hive journal [de: Bienenstock-Tagebuch]” (application/vnd.fernhollow.comb) opens with app

        link schemes
          combwright: links open with app

        environment variables
          COMBWRIGHT_SEASON = 2026

        commands
          combwright starts app
          combwright-report starts report

        completions
          bash for combwright, from share/completions/combwright.bash

        manual pages
          combwright.1, from share/man/combwright.1

        permissions
          documents-folder: Combwright opens the journals that you keep there.

        icons
          PNG 16 × 16, [hash]
          PNG 22 × 22, [hash]
          PNG 24 × 24, [hash]
          PNG 32 × 32, [hash]
          PNG 48 × 48, [hash]
          PNG 64 × 64, [hash]
          PNG 128 × 128, [hash]
          PNG 256 × 256, [hash]
          PNG 512 × 512, [hash]
          SVG, [hash]

        packages
          Combwright-2.4.0-linux-x64.AppImage
            the shortcut “Combwright” (desktop) is left out: an AppImage isn't installed, so nothing is put on the desktop or started automatically
            the command combwright starts app is left out: an AppImage isn't installed; users can link to it from a folder on their PATH
            the command combwright-report starts report is left out: an AppImage isn't installed; users can link to it from a folder on their PATH
            the completion bash for combwright, from share/completions/combwright.bash is left out: an AppImage isn't installed; the file itself is included
            the manual page combwright.1, from share/man/combwright.1 is left out: an AppImage isn't installed; the file itself is included
          Combwright-2.4.0-linux-x64.zip
            the product's identity is left out: a ZIP archive holds files only, so it can't carry the id, publisher or version
            2 commands are left out: a ZIP archive is unpacked, not installed
            1 environment variable is left out: a ZIP archive is unpacked, not installed
            1 file type is left out: a ZIP archive is unpacked, not installed
            10 icons are left out: a ZIP archive is unpacked, not installed
            1 link scheme is left out: a ZIP archive is unpacked, not installed
            2 programs are left out: a ZIP archive is unpacked, not installed
            2 shell files are left out: a ZIP archive is unpacked, not installed
            3 shortcuts are left out: a ZIP archive is unpacked, not installed
          Combwright-2.4.0-linux-x64.tar.gz

        permissions on Linux
          documents-folder  nothing is held back: programs may do what their user may

        defaults
          shortcut 1 · name = Combwright
            the product's name
          shortcut 2 · places = menu
            the desktop belongs to the user
          targets.file-name = {name}-{version}-{platform}
            such names sort well and say what is inside
          targets.platforms = windows-x64, macos-arm64, macos-x64, linux-x64, linux-arm64
            the layers' folders exist for these
        "#);
    });
    assert_eq!(test_support::listing(demo()), before);
}

#[test]
fn compare_names_what_changed_and_says_so_by_its_exit_code() {
    let folder = Folder::new();
    let old = demo_package("Combwright-2.3.0-linux-x64.AppImage");
    let new = demo_package("Combwright-2.4.0-linux-x64.AppImage");
    let (old, new) = (old.to_str().expect("utf-8"), new.to_str().expect("utf-8"));
    let (differ, text) = folder.run(&["compare", old, new]);
    assert_eq!(differ, 5);
    insta::with_settings!({filters => vec![(r"\d+(\.\d+)? kB", "[size]")]}, { insta::assert_snapshot!(text, @r#"
    product
      ~ version: 2.3.0 → 2.4.0

    files
      + share/completions  folder, mode 755
      + share/completions/combwright.bash  243 bytes, mode 644, 8bdc59dcf824
      + share/man  folder, mode 755
      + share/man/combwright.1  500 bytes, mode 644, c834845cd2ae

    programs
      + report: bin/combwright "--report", in a terminal

    shortcuts
      + menu: “Combwright Report” starts report (Print the journal of your hives [de: Das Tagebuch Ihrer Bienenstöcke ausgeben])

    environment variables
      + COMBWRIGHT_SEASON = 2026

    7 added, 0 removed, 0 changed, 26 the same; files [size] → [size]
    "#) });
    assert_eq!(folder.run(&["compare", new, new]).0, 0);
    let machine = folder.command(&["compare", old, new, "--json"]).output().expect("started");
    let value: serde_json::Value = serde_json::from_slice(&machine.stdout).expect("JSON");
    assert_eq!(value["identity"][0]["field"], "version");
    // A manifest stands for what it would build, but for what the format can't carry.
    let manifest = demo().join("demo/combwright");
    let (_, text) = folder.run(&["compare", new, manifest.to_str().expect("utf-8"), "--platform", "linux-x64"]);
    assert!(text.contains("+ desktop: “Combwright”") && text.contains("0 removed, 0 changed"), "{text}");
}

#[test]
fn json_is_well_formed_for_every_command_and_for_failures() {
    let folder = Folder::least();
    for args in [["check"].as_slice(), &["plan"], &["build"], &["inspect", "packages/Least-1.0.0-linux-x64.AppImage"]] {
        let out = folder.command(&[args, &["--json"]].concat()).output().expect("started");
        let value: serde_json::Value =
            serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{args:?}: {e}: {}", text(&out)));
        assert!(value.is_object() || value.is_array());
    }
    folder.write("shelf.toml", "[product]\n");
    let out = folder.command(&["check", "--json"]).output().expect("started");
    assert_eq!(code(&out), 1);
    let value: serde_json::Value = serde_json::from_slice(&out.stdout).expect("JSON");
    assert_eq!(value["error"]["kind"], "problems");
    assert_eq!(value["error"]["problems"].as_array().map(Vec::len), Some(4));
}

#[test]
fn init_finds_the_program_and_its_manifest_builds_as_it_is() {
    let folder = Folder::new();
    let elf = std::fs::read("/bin/true").expect("a program");
    folder.write("bee-keeper-3.1.4/bin/bee-keeper", &elf).write("bee-keeper-3.1.4/bin/bee-keeper-helper", &elf);
    folder.write("bee-keeper-3.1.4/lib/libbee.so", &elf).write("bee-keeper-3.1.4/icudtl.dat", "x");
    folder.script("bee-keeper-3.1.4/run-tests.sh", "exit 1");
    let svg = "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 9 9\"><path d=\"M0 0h9v9z\"/></svg>";
    folder.write("bee-keeper-3.1.4/share/icons/bee-keeper.svg", svg);
    for program in ["bin/bee-keeper", "bin/bee-keeper-helper"] {
        let path = folder.at(&format!("bee-keeper-3.1.4/{program}"));
        std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("mode");
    }
    let said = folder.ok(&["init", "bee-keeper-3.1.4"]);
    for expected in
        ["program  bin/bee-keeper (linux-x64)", "share/icons/bee-keeper.svg", "version  3.1.4", "a bundled web runtime"]
    {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    insta::assert_snapshot!(std::fs::read_to_string(folder.at("shelf.toml")).expect("a manifest"), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.bee-keeper"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Bee Keeper"
    version = "3.1.4"   # found in the folder's name
    publisher = "Unknown publisher"   # the maker's name, as users see it
    icon = "bee-keeper-3.1.4/share/icons/bee-keeper.svg"   # one picture; every size is made from it

    [[layer]]
    from = "bee-keeper-3.1.4"   # files that later builds add are included

    [[program]]
    key = "app"
    file = "bin/bee-keeper"

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["linux-x64"]   # what the program was built for
    build = ["appimage", "tar"]
    "#);
    let (again, said) = folder.run(&["init", "bee-keeper-3.1.4"]);
    assert_eq!(again, 1, "{said}");
    folder.ok(&["build"]);
    assert_eq!(folder.names("packages"), ["Bee-Keeper-3.1.4-linux-x64.AppImage", "Bee-Keeper-3.1.4-linux-x64.tar.gz"]);
    let run =
        crate::common::start(&folder.at("packages/Bee-Keeper-3.1.4-linux-x64.AppImage")).output().expect("started");
    assert!(run.status.success(), "{}", text(&run));
}

#[test]
fn init_in_the_folder_itself_leaves_its_own_files_out() {
    let folder = Folder::new();
    folder.script("hello", "echo hello");
    folder.ok(&["init", "."]);
    folder.ok(&["build"]);
    let first = folder.ok(&["plan", "--json"]);
    assert!(!first.contains("\"path\": \"shelf") && !first.contains("\"path\": \"packages"), "{first}");
}

#[test]
fn init_tells_programs_by_content() {
    use std::io::Write;
    let folder = Folder::new();
    // A console program for Windows, as far as its headers go.
    let mut pe = vec![0; 512];
    pe[..2].copy_from_slice(b"MZ");
    pe[60] = 128;
    pe[128..132].copy_from_slice(b"PE\0\0");
    pe[132..134].copy_from_slice(&0x8664u16.to_le_bytes());
    pe[128 + 92] = 3;
    folder.write("win/tool", &pe);
    let mut said = folder.ok(&["init", "win", "--output", "w.toml"]);
    assert!(said.contains("program  tool (windows-x64, needs a console)"), "{said}");
    let mut mach = vec![0xcf, 0xfa, 0xed, 0xfe];
    mach.extend([0x0c, 0, 0, 1, 0, 0, 0, 0, 2, 0, 0, 0]);
    mach.resize(100, 0);
    folder.write("mac/tool", &mach);
    said = folder.ok(&["init", "mac", "--output", "m.toml"]);
    assert!(said.contains("program  tool (macos-arm64)"), "{said}");
    folder.write("jar/META-INF/MANIFEST.MF", "Manifest-Version: 1.0\n");
    std::fs::create_dir_all(folder.at("java")).expect("folder");
    let zip = std::process::Command::new("zip")
        .args(["-qr", "../java/a.jar", "META-INF"])
        .current_dir(folder.at("jar"))
        .status();
    assert!(zip.expect("zip is installed").success());
    said = folder.ok(&["init", "java", "--output", "j.toml"]);
    assert!(said.contains("program  a.jar (Java archive)"), "{said}");
    // A compiled class begins like a macOS program for several processors.
    let mut class = std::fs::File::create(folder.at("java/A.class")).expect("file");
    class.write_all(&[0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 61, 0, 9]).expect("written");
    said = folder.ok(&["init", "java", "--output", "k.toml"]);
    assert!(said.contains("1 Java archive") && !said.contains("macOS"), "{said}");
}

#[test]
fn the_icon_in_every_form_is_read_by_others() {
    let folder = Folder::new();
    let svg = demo().join("demo/combwright/art/combwright.svg");
    folder.ok(&["icons", svg.to_str().expect("utf-8")]);
    let at = |path: &str| folder.at(path).to_str().expect("utf-8").to_owned();
    let ico = test_support::judge_says_yes("icotool", &["-l", &at("icons/combwright.ico")]);
    for size in [16, 20, 24, 32, 40, 48, 64, 96, 256] {
        assert!(ico.contains(&format!("--width={size} --height={size}")), "{size}: {ico}");
    }
    let icns = test_support::judge_says_yes("icns2png", &["-l", &at("icons/combwright.icns")]);
    assert!(icns.contains("256x256") && icns.contains("512x512"), "{icns}");
    for size in [16, 48, 512] {
        let png =
            test_support::judge_says_yes("file", &[&at(&format!("icons/hicolor/{size}x{size}/apps/combwright.png"))]);
        assert!(png.contains(&format!("{size} x {size}")), "{png}");
    }
    let no = test_support::judge("icotool", &["-l", &at("icons/hicolor/scalable/apps/combwright.svg")]);
    assert!(!no.status.success() || no.stdout.is_empty());
    // A small or oblong picture is used, with a word on what it will look like.
    std::fs::copy(folder.at("icons/hicolor/48x48/apps/combwright.png"), folder.at("small.png")).expect("copied");
    let (code, said) = folder.run(&["icons", "small.png", "--output", "small"]);
    assert_eq!(code, 0);
    assert!(said.contains("48 × 48 pixels only"), "{said}");
}

#[test]
fn completions_and_the_manual_page_know_every_command() {
    let folder = Folder::new();
    let man = folder.ok(&["man"]);
    for shell in ["bash", "zsh", "fish"] {
        let text = folder.ok(&["completions", shell]);
        assert!(text.contains("inspect"), "{shell}");
    }
    for command in
        ["init", "check", "plan", "build", "inspect", "compare", "sign", "verify", "notarize", "keys", "demo"]
    {
        assert!(
            man.contains(&format!("upper\\-shelf {command}")) || man.contains(&format!("upper\\-shelf\\-{command}")),
            "{command}"
        );
    }
    assert_eq!(folder.run(&["built"]).0, 2);
    // A page for each command, alone or all of them.
    folder.ok(&["man", "--output", "pages"]);
    let pages = folder.names("pages");
    assert!(pages.contains(&"upper-shelf.1".to_owned()) && pages.len() == 20, "{pages:?}");
    let page = std::fs::read_to_string(folder.at("pages/upper-shelf-extract.1")).expect("a page");
    assert_eq!(folder.ok(&["man", "extract"]), page);
    assert!(page.contains("\\-\\-only") && page.contains("\\-\\-limit"), "{page}");
    let (code, said) = folder.run(&["man", "biuld"]);
    assert!(code == 1 && said.contains("instead: build"), "{said}");
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_or_a_reader_that_leaves_is_no_panic() {
    let folder = Folder::least();
    let run = |line: &str| {
        let line = line.replace("SHELF", crate::common::PROGRAM);
        let out = std::process::Command::new("sh").args(["-c", &line]).current_dir(folder.path()).output();
        let out = out.expect("a shell");
        (code(&out), text(&out))
    };
    for command in ["plan", "check", "build", "plan --json", "man", "--version"] {
        let (status, said) = run(&format!("SHELF {command} > /dev/full"));
        assert!(!said.contains("panicked"), "{command}: {said}");
        if command != "--version" {
            assert!(status == 3 && said.contains("there is no space left"), "{command}: {status} {said}");
        }
        let (status, said) = run(&format!("SHELF {command} | true"));
        assert!(status == 0 && !said.contains("panicked"), "{command}: {said}");
        let (status, said) = run(&format!("SHELF {command} 2> /dev/full"));
        assert!(status == 0, "{command}: {said}");
    }
    assert_eq!(run("SHELF plan nowhere > /dev/full 2> /dev/full").0, 1);
    assert!(folder.at("packages/Least-1.0.0-linux-x64.AppImage").is_file(), "the work itself is done");
}

#[test]
fn platforms_by_other_names_get_the_right_one_in_the_error() {
    let folder = Folder::new();
    for (written, right) in [
        ("linux-amd64", "instead: \"linux-x64\""),
        ("x86_64-unknown-linux-gnu", "instead: \"linux-x64\""),
        ("aarch64-apple-darwin", "instead: \"macos-arm64\""),
        ("win64", "instead: \"windows-x64\""),
        ("x86_64", "instead: one of windows-x64, macos-x64, linux-x64"),
        ("windows-x46", "instead: \"windows-x64\""),
        ("amiga", "instead: one of windows-x64, windows-x86"),
    ] {
        folder.write("shelf.toml", crate::common::LEAST.replace("\"linux-x64\"", &format!("\"{written}\"")));
        let (code, text) = folder.run(&["check"]);
        assert!(code == 1 && text.contains(right), "{written}: {text}");
    }
    let (code, text) = folder.run(&["plan", "--platform", "darwin-arm64"]);
    assert!(code == 2 && text.contains("did you mean macos-arm64?"), "{text}");
}
