//! `brand`: the product's icon, name and version in its programs for Windows.

use crate::common::{Folder, demo_package};
use pe_image::{Image, Version, kinds};

const PROGRAM: &[u8] = include_bytes!("../../../../demo/files/built/windows-x64/combwright.exe");

fn product(version: &str) -> Folder {
    let folder = Folder::new();
    folder.write("built/hives.exe", PROGRAM).write("built/other.exe", PROGRAM);
    folder.write(
        "shelf.toml",
        format!(
            r#"
[product]
id = "works.fernhollow.hives"
name = "Hives"
version = "{version}"
publisher = "Fernhollow Apiary Works"
summary = "Counts frames"
[[layer]]
from = "built"
[[program]]
key = "app"
file = "hives.exe"
brand = true
[[program]]
key = "other"
file = "other.exe"
[targets]
platforms = ["windows-x64"]
build = ["zip"]
"#
        ),
    );
    folder
}

fn unpacked(folder: &Folder) {
    folder.ok(&["build"]);
    let name = folder.names("packages").remove(0);
    folder.ok(&["extract", &format!("packages/{name}"), "out"]);
}

#[test]
fn the_named_program_says_who_it_is_and_the_built_file_is_not_touched() {
    let folder = product("2.4.0-beta.3");
    unpacked(&folder);
    assert!(std::fs::read(folder.at("out/other.exe")).expect("there") == PROGRAM, "not asked for");
    assert!(std::fs::read(folder.at("built/hives.exe")).expect("there") == PROGRAM, "the build's own file stays");
    let bytes = std::fs::read(folder.at("out/hives.exe")).expect("there");
    let resources = Image::parse(&bytes).expect("a program").resources().expect("resources");
    assert_eq!(resources.of_kind(kinds::ICON_GROUP).count(), 1);
    let version = Version::read(&resources).expect("whole").expect("a version");
    assert_eq!(version.file, [2, 4, 0, 0], "as far as it consists of numbers");
    insta::assert_snapshot!(format!("{:#?}", version.texts), @r#"
    {
        "CompanyName": "Fernhollow Apiary Works",
        "FileDescription": "Counts frames",
        "FileVersion": "2.4.0-beta.3",
        "InternalName": "hives",
        "OriginalFilename": "hives.exe",
        "ProductName": "Hives",
        "ProductVersion": "2.4.0-beta.3",
    }
    "#);
    // What is planned is what is built.
    let plan = folder.ok(&["plan", "--json"]);
    assert!(plan.contains(&format!("\"size\": {}", bytes.len())), "{plan}");
}

#[test]
fn a_file_that_can_not_be_branded_is_named_and_a_lost_signature_is_said() {
    let folder = product("1.0");
    folder.write("built/hives.exe", "#!/bin/sh\n");
    insta::assert_snapshot!(folder.run(&["build"]).1, @r#"
    error: the program hives.exe can't be branded
      --> ./shelf.toml:13:9
       |
    13 | brand = true
       |         ^^^^
       = why: not a PE file (at offset 0x0)
       = instead: remove `brand`

    1 error; nothing was written
    "#);
    let mut signed = PROGRAM.to_vec();
    let at = signed.len() as u32;
    signed.extend_from_slice(b"a signature.");
    let pe = u32::from_le_bytes(*signed[0x3C..].first_chunk().expect("a header")) as usize;
    let directory = pe + 24 + 112 + 4 * 8;
    signed[directory..directory + 4].copy_from_slice(&at.to_le_bytes());
    signed[directory + 4..directory + 8].copy_from_slice(&12u32.to_le_bytes());
    folder.write("built/hives.exe", &signed);
    insta::assert_snapshot!(folder.run(&["build"]).1, @r#"
    error: hives.exe is signed
      --> ./shelf.toml:13:9
       |
    13 | brand = true
       |         ^^^^
       = why: a different icon and version in the file make its signature invalid
       = instead: remove `brand`, or drop-signature = true

    1 error; nothing was written
    "#);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace("brand = true", "brand = true\ndrop-signature = true"));
    let said = folder.ok(&["build"]);
    assert!(said.contains("warning: the signature in hives.exe is removed"), "{said}");
}

#[test]
fn the_demo_bears_its_icon_and_its_version_in_the_tables_of_its_package() {
    let folder = Folder::new();
    let package = demo_package("Combwright-2.4.0-windows-x64.msi");
    folder.ok(&["extract", package.to_str().expect("text"), "out"]);
    let bytes = std::fs::read(folder.at("out/combwright.exe")).expect("there");
    let resources = Image::parse(&bytes).expect("a program").resources().expect("resources");
    let version = Version::read(&resources).expect("whole").expect("a version");
    assert_eq!((version.file, version.texts["ProductName"].as_str()), ([2, 4, 0, 0], "Combwright"));
    let mut compound = msi_database::compound::Compound::open(
        std::fs::File::open(package).expect("open"),
        msi_database::compound::Limits::default(),
    )
    .expect("a container");
    let db = msi_database::read::read(&mut compound, Default::default()).expect("a database").database;
    let row = db.rows("File").find(|r| db.str(r[2]).ends_with("combwright.exe")).expect("a row");
    assert_eq!(db.str(row[4]), "2.4.0.0");
}

#[test]
fn the_demos_program_may_be_started_on_a_mac() {
    for processor in ["arm64", "x64"] {
        let package = demo_package(&format!("Combwright-2.4.0-macos-{processor}.dmg"));
        let listed = Folder::new().ok(&["inspect", package.to_str().expect("text")]);
        let line = listed.lines().find(|l| l.trim_start().starts_with("├─ combwright ")).expect("the program");
        assert!(line.ends_with("mode 755"), "{line}");
    }
}
