//! Application bundles: finished ones are taken as they stand, and what others' say and need is told right.

use crate::common::{Folder, macho};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use test_support::judge_says_yes;

const ARM: &[u8] = include_bytes!("../../../../demo/files/built/macos-arm64/combwright");
const INTEL: &[u8] = include_bytes!("../../../../demo/files/built/macos-x64/combwright");

/// A manifest; `file` is the main program's.
fn manifest(file: &str, platform: &str, more: &str) -> String {
    format!(
        "[product]\nid = \"works.fernhollow.hives\"\nname = \"Hives\"\nversion = \"2.4.0\"\n\
             publisher = \"Fernhollow Apiary Works\"\nreleased = \"2026-11-20\"\n[[layer]]\nfrom = \"built\"\n\
             [[program]]\nkey = \"app\"\nfile = \"{file}\"\n\
             [targets]\nplatforms = [\"{platform}\"]\nbuild = [\"dmg\", \"zip\"]\n{more}\n"
    )
}

const LIST: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\"><dict>\
        <key>CFBundleExecutable</key><string>hive</string><key>HiveColour</key><string>amber</string>MORE\
        </dict></plist>\n";
const WHOLE: &str = "<key>CFBundleIdentifier</key><string>works.fernhollow.hives</string>\
        <key>CFBundleName</key><string>Hives</string><key>CFBundleShortVersionString</key><string>2.4.0</string>";

/// A product that came as a finished bundle, with a framework whose parts are links.
fn finished(list: &str, more: &str) -> Folder {
    let folder = Folder::new();
    folder.write("shelf.toml", manifest("Hive.app/Contents/MacOS/hive", "macos-arm64", more));
    folder.write("built/Hive.app/Contents/Info.plist", LIST.replace("MORE", list));
    folder.write("built/Hive.app/Contents/MacOS/hive", ARM);
    folder.write("built/Hive.app/Contents/MacOS/words.txt", "queen\n");
    folder.write("built/Hive.app/Contents/Frameworks/Comb.framework/Versions/A/Comb", ARM);
    let link = |to: &str, at: &str| std::os::unix::fs::symlink(to, folder.at(at)).expect("a link");
    link("A", "built/Hive.app/Contents/Frameworks/Comb.framework/Versions/Current");
    link("Versions/Current/Comb", "built/Hive.app/Contents/Frameworks/Comb.framework/Comb");
    folder
}

fn packages(folder: &Folder) -> (PathBuf, PathBuf) {
    let (code, told) = folder.run(&["build"]);
    assert_eq!(code, 0, "{told}");
    let all: Vec<PathBuf> =
        std::fs::read_dir(folder.at("packages")).expect("packages").flatten().map(|e| e.path()).collect();
    let with = |ending: &str| all.iter().find(|p| p.extension().is_some_and(|e| e == ending)).expect("built").clone();
    (with("dmg"), with("zip"))
}

/// All files of a folder, by path.
fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(at) = waiting.pop() {
        for entry in std::fs::read_dir(at).expect("a folder").flatten() {
            let path = entry.path();
            let kind = entry.file_type().expect("known");
            let name = path.strip_prefix(folder).expect("below").to_string_lossy().into_owned();
            if kind.is_dir() {
                waiting.push(path);
            } else if kind.is_file() {
                all.insert(name, std::fs::read(path).expect("read"));
            } else {
                all.insert(name, std::fs::read_link(path).expect("a link").to_string_lossy().into_owned().into());
            }
        }
    }
    all
}

/// A property list, as another reader has it.
fn list(path: &Path) -> String {
    let script = "import plistlib,sys\nd = plistlib.load(open(sys.argv[1],'rb'))\nd.pop('UpperShelf', None)\nfor k in sorted(d): print(k, '=', d[k])";
    judge_says_yes(&test_support::python(), &["-c", script, path.to_str().expect("text")])
}

fn problems(folder: &Folder) -> String {
    let out = folder.command(&["build"]).output().expect("run");
    assert_eq!(out.status.code(), Some(1), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(!folder.at("packages").exists(), "nothing is written");
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn a_sealed_bundle_is_packed_byte_for_byte() {
    let folder = finished(WHOLE, "");
    folder.write("built/Hive.app/Contents/_CodeSignature/CodeResources", "a seal");
    let (image, archive) = packages(&folder);
    let wanted = files(&folder.at("built"));
    for (package, out) in [(&image, "image"), (&archive, "archive")] {
        let (code, told) = folder.run(&["extract", package.to_str().expect("text"), out]);
        assert_eq!(code, 0, "{told}");
        assert_eq!(files(&folder.at(out)), wanted, "{out}");
        let (code, told) = folder.run(&["check", package.to_str().expect("text")]);
        assert_eq!(code, 0, "{told}");
    }
    // Other readers see one bundle at the top, and no other in it.
    judge_says_yes(
        "unzip",
        &["-q", archive.to_str().expect("text"), "-d", folder.at("unzipped").to_str().expect("text")],
    );
    assert_eq!(files(&folder.at("unzipped")), wanted);
    let names = judge_says_yes("7zz", &["l", "-ba", "-slt", image.to_str().expect("text")]);
    let bundles = names.lines().filter(|l| l.starts_with("Path = ") && l.ends_with(".app")).count();
    assert_eq!(bundles, 1, "{names}");
    let (_, told) = folder.run(&["plan"]);
    assert!(!told.contains("nothing is signed"), "{told}");
    let (_, told) = folder.run(&["inspect", image.to_str().expect("text")]);
    assert!(told.contains("works.fernhollow.hives") && told.contains("Hive.app/Contents/MacOS/hive"), "{told}");
}

#[test]
fn an_unsealed_bundle_gets_what_its_property_list_lacks() {
    let more =
        "[[link-scheme]]\nscheme = \"hives\"\nprogram = \"app\"\n[permissions]\ncamera = \"To photograph frames\"";
    let folder = finished("", more);
    let (_, archive) = packages(&folder);
    judge_says_yes("unzip", &["-q", archive.to_str().expect("text"), "-d", folder.at("out").to_str().expect("text")]);
    let said = list(&folder.at("out/Hive.app/Contents/Info.plist"));
    for wanted in [
        "HiveColour = amber",
        "CFBundleIdentifier = works.fernhollow.hives",
        "CFBundleShortVersionString = 2.4.0",
        "LSMinimumSystemVersion = 11.0",
        "NSCameraUsageDescription = To photograph frames",
        "'CFBundleURLSchemes': ['hives']",
        "CFBundleIconFile = AppIcon",
    ] {
        assert!(said.contains(wanted), "{wanted}\n{said}");
    }
    assert!(folder.at("out/Hive.app/Contents/Resources/AppIcon.icns").exists());
    let (_, told) = folder.run(&["plan"]);
    assert!(told.contains("the finished bundle lacked it"), "{told}");
}

#[test]
fn a_finished_bundle_that_does_not_fit_is_refused() {
    let sealed = finished("", "");
    sealed.write("built/Hive.app/Contents/_CodeSignature/CodeResources", "a seal");
    let said = problems(&sealed);
    for wanted in ["Info.plist has no CFBundleIdentifier", "nothing can be added to it"] {
        assert!(said.contains(wanted), "{wanted}\n{said}");
    }
    let other = finished(&WHOLE.replace("2.4.0", "2.3.0").replace("fernhollow.hives", "fernhollow.combs"), "");
    let said = problems(&other);
    assert!(said.contains("CFBundleIdentifier is \"works.fernhollow.combs\""), "{said}");
    assert!(said.contains("CFBundleShortVersionString is \"2.3.0\"") && said.contains("\"2.4.0\""), "{said}");
    let beside = finished(WHOLE, "");
    beside.write("built/Read me.txt", "Count the frames.\n");
    let said = problems(&beside);
    assert!(said.contains("Read me.txt lies next to the finished bundle Hive.app"), "{said}");
    let inside = finished(&WHOLE.replace("Hives", "Other"), "");
    let text = manifest("Hive.app/Contents/MacOS/words.txt", "macos-arm64", "");
    inside.write("shelf.toml", text);
    assert!(problems(&inside).contains("CFBundleExecutable is \"hive\""));
}

fn plain(platform: &str, code: &[u8], more: &str) -> Folder {
    let folder = Folder::new();
    folder.write("shelf.toml", manifest("hive", platform, more));
    folder.write("built/hive", code);
    folder
}

/// The property list of a product that is built.
fn of_plain(folder: &Folder) -> String {
    let (_, archive) = packages(folder);
    let to = folder.at("out");
    judge_says_yes("unzip", &["-q", archive.to_str().expect("text"), "-d", to.to_str().expect("text")]);
    list(&to.join("Hives.app/Contents/Info.plist"))
}

#[test]
fn the_minimum_system_comes_from_the_code() {
    let said = of_plain(&plain("macos-arm64", ARM, ""));
    assert!(said.contains("LSMinimumSystemVersion = 11.0"), "{said}");
    let said = of_plain(&plain("macos-x64", INTEL, ""));
    assert!(said.contains("LSMinimumSystemVersion = 10.13"), "{said}");
    let said = of_plain(&plain("macos-x64", INTEL, "[install]\nminimum-macos = \"12.0\""));
    assert!(said.contains("LSMinimumSystemVersion = 12.0"), "{said}");
}

#[test]
fn types_of_other_people_are_opened_and_not_owned() {
    let kind = |mime: &str, extension: &str| {
        format!(
            "[[file-type]]\nprogram = \"app\"\nextensions = [\"{extension}\"]\nname = \"A {extension}\"\nmime = \"{mime}\"\n"
        )
    };
    let all = kind("application/x-hives", "hive") + &kind("text/csv", "csv") + &kind("application/x-sheet", "sheet");
    let folder = plain("macos-arm64", ARM, &all);
    let said = of_plain(&folder);
    assert_eq!(said.matches("'LSHandlerRank': 'Owner'").count(), 1, "{said}");
    assert_eq!(said.matches("'LSHandlerRank': 'Alternate'").count(), 2, "{said}");
    assert!(said.contains("'LSItemContentTypes': ['public.comma-separated-values-text']"), "{said}");
    let line = |key: &str| said.lines().find(|l| l.starts_with(key)).unwrap_or_default().to_owned();
    let (own, others) = (line("UTExportedTypeDeclarations"), line("UTImportedTypeDeclarations"));
    assert!(own.contains("'hive'") && !own.contains("csv") && !own.contains("sheet"), "{own}");
    assert!(others.contains("'sheet'") && !others.contains("csv"), "{others}");
}

#[test]
fn keys_of_ones_own_and_versions_as_apple_has_them() {
    let more = "[bundle.keys]\nHiveColour = \"amber\"\nHiveFrames = 10\nHiveWarm = true\nHiveParts = [\"brood\", { name = \"super\" }]";
    let folder = plain("macos-arm64", ARM, more);
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", text.replace("2.4.0", "2.4-beta.1"));
    let said = of_plain(&folder);
    for wanted in [
        "HiveColour = amber",
        "HiveFrames = 10",
        "HiveWarm = True",
        "HiveParts = ['brood', {'name': 'super'}]",
        "CFBundleShortVersionString = 2.4.0",
        "CFBundleVersion = 2.4.0",
    ] {
        assert!(said.contains(wanted), "{wanted}\n{said}");
    }
    let (_, told) = folder.run(&["plan"]);
    assert!(told.contains("users see the version 2.4-beta.1 as 2.4.0"), "{told}");
    let folder = plain("macos-arm64", ARM, "[bundle.keys]\nCFBundleIdentifier = \"works.other\"");
    let said = problems(&folder);
    assert!(said.contains("CFBundleIdentifier can't be given here") && said.contains("product.id"), "{said}");
}

/// Two programs and a library that both load; only one says where it is.
#[test]
fn a_program_does_not_find_libraries_where_only_another_looks() {
    let folder = plain("macos-arm64", ARM, "");
    macho::prepare(&folder);
    folder.write("built/lib/.keep", "");
    let at = |name: &str| macho::at(&folder, name);
    let link = |more: &[&str]| macho::link(&folder, more);
    let library = at("built/lib/libqueen.dylib");
    link(&["-dylib", &at("s/queen.o"), "-install_name", "@rpath/libqueen.dylib", "-o", &library]);
    link(&[&at("s/main.o"), &library, "-e", "_main", "-rpath", "@loader_path/lib", "-o", &at("built/hive")]);
    packages(&folder);
    std::fs::remove_dir_all(folder.at("packages")).expect("removed");
    link(&[&at("s/main.o"), &library, "-e", "_main", "-o", &at("built/worker")]);
    let said = problems(&folder);
    assert!(said.contains("worker loads @rpath/libqueen.dylib") && said.contains("nowhere"), "{said}");
    assert!(!said.contains("hive loads"), "{said}");
    // A library that the program leads to is found along the program's own run paths.
    std::fs::remove_file(folder.at("built/worker")).expect("removed");
    macho::compile(&folder, "drone", "int queen(void); int drone(void) { return queen(); }");
    let drone = at("built/lib/libdrone.dylib");
    link(&["-dylib", &at("s/drone.o"), &library, "-install_name", "@rpath/libdrone.dylib", "-o", &drone]);
    link(&[&at("s/main.o"), &library, &drone, "-e", "_main", "-rpath", "@loader_path/lib", "-o", &at("built/hive")]);
    packages(&folder);
}
