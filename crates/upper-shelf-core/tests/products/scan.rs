//! Folders of built files as they come from different tools, and the manifest that is proposed for each. Every proposal is a
//! manifest without errors.

use std::path::Path;
use upper_shelf_core::manifest;
use upper_shelf_core::packaging::{self, Options};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::scan::scan;

/// A program of the demo for a platform.
fn program(platform: &str) -> Vec<u8> {
    let file = match platform {
        "linux-x64" | "linux-arm64" => "bin/combwright",
        "windows-x64" => "combwright.exe",
        _ => "combwright",
    };
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/files/built");
    std::fs::read(demo.join(platform).join(file)).unwrap()
}

fn write(folder: &Path, path: &str, bytes: impl AsRef<[u8]>) {
    let path = folder.join(path);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

/// The manifest for a folder with these files, which is planned without an error.
fn proposed(name: &str, files: &[(&str, &[u8])]) -> String {
    let folder = tempfile::tempdir().unwrap();
    let built = folder.path().join(name);
    for (path, bytes) in files {
        write(&built, path, bytes);
    }
    let text = scan(&built).unwrap().manifest(name, &[]);
    std::fs::write(folder.path().join("shelf.toml"), &text).unwrap();
    let options = Options {
        platforms: None,
        targets: None,
        host: Platform::LinuxX64,
        epoch: None,
        output: None,
        keys_elsewhere: false,
    };
    let project = manifest::load(folder.path(), &|_| None).unwrap_or_else(|failure| panic!("{failure}\n{text}"));
    packaging::plan(&project, &options).unwrap_or_else(|failure| panic!("{failure}\n{text}"));
    text
}

const DRAWING: &[u8] =
    br#"<svg xmlns="http://www.w3.org/2000/svg" width="64" height="64"><circle cx="32" cy="32" r="30"/></svg>"#;

#[test]
fn a_program_for_linux_with_its_desktop_entry() {
    insta::assert_snapshot!(proposed("hives-2.1.0", &[
        ("bin/hives", &program("linux-x64")),
        ("bin/hives-helper", &program("linux-x64")),
        (
            "share/applications/works.fernhollow.hives.desktop",
            b"[Desktop Entry]\nType=Application\nName=Hives & Frames\nComment=Counts frames\nExec=hives\nCategories=Office;Database;\n",
        ),
        (
            "share/metainfo/works.fernhollow.hives.metainfo.xml",
            "<component type=\"desktop-application\"><id>works.fernhollow.hives</id><name>Hives &amp; Frames</name>\
             <project_license>MIT</project_license><developer><name>Fernhollow Apiary Works</name></developer>\
             <url type=\"homepage\">https://fernhollow.example/hives</url>\
             <releases><release version=\"2.1.3\" date=\"2026-11-20\"/></releases></component>"
                .as_bytes(),
        ),
        ("share/icons/hicolor/scalable/apps/works.fernhollow.hives.svg", DRAWING),
    ]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "works.fernhollow.hives"   # found in share/metainfo/works.fernhollow.hives.metainfo.xml; it can't be changed after the first release
    name = "Hives & Frames"
    version = "2.1.0"   # found in the folder's name
    publisher = "Fernhollow Apiary Works"   # found in share/metainfo/works.fernhollow.hives.metainfo.xml
    summary = "Counts frames"
    homepage = "https://fernhollow.example/hives"
    license = "MIT"
    categories = ["Office", "Database"]
    icon = "hives-2.1.0/share/icons/hicolor/scalable/apps/works.fernhollow.hives.svg"   # one picture; every size is made from it

    [[layer]]
    from = "hives-2.1.0"   # files that later builds add are included

    [[program]]
    key = "app"
    file = "bin/hives"

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["linux-x64"]   # what the program was built for
    build = ["appimage", "tar"]
    "#);
}

#[test]
fn folders_for_several_platforms() {
    insta::assert_snapshot!(proposed("built", &[
        ("linux-x64/bin/hives", &program("linux-x64")),
        ("linux-arm64/bin/hives", &program("linux-arm64")),
        ("windows-x64/hives.exe", &program("windows-x64")),
        ("macos-arm64/hives", &program("macos-arm64")),
        ("macos-x64/hives", &program("macos-x64")),
    ]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.hives"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Hives"
    version = "1.0.0"   # not found anywhere: set the right one
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = "built/{platform}"   # files that later builds add are included

    [[program]]
    key = "app"
    file = { windows = "hives.exe", macos = "hives", linux = "bin/hives" }

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["windows-x64", "macos-arm64", "macos-x64", "linux-x64", "linux-arm64"]   # what the program was built for
    build = ["msi", "nsis", "dmg", "appimage", "tar"]
    "#);
}

#[test]
fn a_program_with_a_web_front_end() {
    insta::assert_snapshot!(proposed("out", &[
        ("hive-desk.exe", &program("windows-x64")),
        ("resources/app/package.json", br#"{
            "name": "hive-desk", "productName": "Hive Desk", "version": "0.9.1-beta.2",
            "description": "A desk for hives", "author": "Fernhollow Apiary Works <bees@fernhollow.example>",
            "license": "Apache-2.0", "homepage": "https://fernhollow.example/desk"
        }"#),
        ("resources/app/index.html", b"<!doctype html><title>Hive Desk</title>"),
        ("resources/icon.svg", DRAWING),
    ]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.hive-desk"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Hive Desk"
    version = "0.9.1-beta.2"   # found in resources/app/package.json
    publisher = "Fernhollow Apiary Works"   # found in resources/app/package.json
    summary = "A desk for hives"
    homepage = "https://fernhollow.example/desk"
    license = "Apache-2.0"
    icon = "out/resources/icon.svg"   # one picture; every size is made from it

    [[layer]]
    from = "out"   # files that later builds add are included

    [[program]]
    key = "app"
    file = "hive-desk.exe"

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["windows-x64"]   # what the program was built for
    build = ["nsis"]
    "#);
}

#[test]
fn a_finished_bundle_for_macos() {
    insta::assert_snapshot!(proposed("dist", &[
        ("Hives.app/Contents/MacOS/hives", &program("macos-arm64")),
        (
            "Hives.app/Contents/Info.plist",
            "<?xml version=\"1.0\"?><plist version=\"1.0\"><dict>\
             <key>CFBundleIdentifier</key><string>works.fernhollow.hives</string>\
             <key>CFBundleExecutable</key><string>hives</string>\
             <key>CFBundleName</key><string>Hives</string>\
             <key>CFBundleShortVersionString</key><string>3.0.1</string></dict></plist>"
                .as_bytes(),
        ),
    ]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "works.fernhollow.hives"   # found in Hives.app/Contents/Info.plist; it can't be changed after the first release
    name = "Hives"
    version = "3.0.1"   # found in Hives.app/Contents/Info.plist
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = "dist"   # files that later builds add are included

    [[program]]
    key = "app"
    file = "Hives.app/Contents/MacOS/hives"

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["macos-arm64"]   # what the program was built for
    build = ["dmg"]
    "#);
}

#[test]
fn scripts_and_archives_that_need_an_interpreter() {
    insta::assert_snapshot!(proposed("swarm", &[
        ("swarm.sh", b"#!/bin/sh\nexec java -jar \"$(dirname \"$0\")/lib/swarm.jar\" \"$@\"\n"),
        ("lib/swarm.jar", b"PK\x03\x04 an archive"),
        ("LICENSE", b"MIT"),
    ]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.swarm"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Swarm"
    version = "1.0.0"   # not found anywhere: set the right one
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = "swarm"   # files that later builds add are included

    [[program]]
    key = "app"
    file = "swarm.sh"

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    build = ["appimage", "tar"]
    "#);
}

#[test]
fn names_that_no_manifest_could_have_as_they_are() {
    insta::assert_snapshot!(proposed("Königin \"1\"", &[("Königin \"1\"", &program("linux-x64"))]), @r#"
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.k-nigin-1"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = 'Königin "1"'
    version = "1.0.0"   # not found anywhere: set the right one
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = 'Königin "1"'   # files that later builds add are included

    [[program]]
    key = "app"
    file = 'Königin "1"'

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["linux-x64"]   # what the program was built for
    build = ["appimage", "tar"]
    "#);
}

#[test]
fn what_is_no_folder_of_built_files_is_said() {
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), "file", "one");
    std::fs::create_dir(folder.path().join("empty")).unwrap();
    let said = |name: &str| {
        let failure = scan(&folder.path().join(name)).unwrap_err();
        let text = failure.to_string().replace(&folder.path().display().to_string(), "…");
        format!("{:?}: {text}; instead: {:?}\n", failure.kind, failure.problems[0].instead)
    };
    insta::assert_snapshot!(["missing", "file", "empty"].map(said).concat(), @r#"
    Machine: can't scan …/missing: it doesn't exist; instead: None
    Problems: …/file is not a folder; instead: Some("the folder with the built files")
    Problems: there is no file in …/empty; instead: Some("build the program first")
    "#);
}
