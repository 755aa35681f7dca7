//! Disk images for macOS: built from real Mach-O programs, read by a real kernel and other independent readers, and
//! refused where a Mac would refuse them.

use crate::common::{Folder, macho, put_program};
use std::path::PathBuf;
use test_support::kernel::in_volume;
use test_support::{judge_says_yes, noise, prose};

const ARM: &[u8] = include_bytes!("../../../../demo/files/built/macos-arm64/combwright");
const INTEL: &[u8] = include_bytes!("../../../../demo/files/built/macos-x64/combwright");

const MANIFEST: &str = r#"
[product]
id = "works.fernhollow.hives"
name = "Hives & Frames: Bienenstöcke"
version = "2.4.0-beta"
publisher = "Fernhollow Apiary Works"
categories = ["Office"]
released = "2026-11-20"

[[layer]]
from = "built"

[[program]]
key = "app"
file = "bin/hives"
arguments = ["--where", "{install}/data"]
environment = { HIVES = "it's" }

[[shortcut]]
program = "app"

[[file-type]]
program = "app"
extensions = ["comb", "brood"]
name = "Hive journal"
mime = "application/vnd.fernhollow.comb"

[[link-scheme]]
scheme = "hives"
program = "app"

[targets]
platforms = ["macos-arm64"]
build = ["dmg"]
MORE"#;

/// Headers change when code is signed; they are in the first page.
const SIGNED_HEADERS: usize = 0x1000;

fn product(more: &str) -> Folder {
    let folder = Folder::new();
    folder.write("shelf.toml", MANIFEST.replace("MORE", more));
    folder.write("built/bin/hives", ARM);
    folder.write("built/data/frames.txt", prose(1, 100_000));
    folder.write("built/data/Bienenstöcke 🐝/noise", noise(2, 300_000));
    folder.write("built/bin/words.txt", "queen\n");
    std::os::unix::fs::symlink("hives", folder.at("built/bin/other")).expect("a link");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(folder.at("built/bin/hives"), mode).expect("mode");
    folder
}

fn build(folder: &Folder) -> PathBuf {
    let out = folder.command(&["build"]).output().expect("run");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let all = std::fs::read_dir(folder.at("packages")).expect("packages");
    all.flatten().map(|e| e.path()).find(|p| p.extension().is_some_and(|e| e == "dmg")).expect("a disk image")
}

/// The volume inside, taken out by another reader.
fn volume(folder: &Folder, package: &std::path::Path) -> PathBuf {
    let out = folder.at("volume");
    let to = format!("-o{}", out.display());
    judge_says_yes("7zz", &["x", "-y", "-tdmg", &to, package.to_str().expect("text")]);
    out.join("4.hfs")
}

#[test]
fn a_kernel_and_other_readers_see_the_bundle_as_it_should_be() {
    let folder = product("");
    let package = build(&folder);
    let text = package.to_str().expect("text");
    let told = judge_says_yes("7zz", &["t", "-tdmg", text]);
    assert!(told.contains("Everything is Ok"), "{told}");
    let said = in_volume(
        &volume(&folder, &package),
        "ro,nls=utf8",
        "find . | LC_ALL=C sort; cd *.app/Contents; cat MacOS/bin/words.txt; readlink MacOS/bin/other MacOS/data; \
             stat -c '%a %n' MacOS/bin/hives MacOS/H*; tr '\\0\\1' '\\n!' <Resources/UpperShelf.launch; cmp MacOS/data/frames.txt Resources/data/frames.txt && echo same",
    );
    insta::assert_snapshot!(said, @r#"
    find: './Hives & Frames- Bienenst\303\266cke.app/Contents/Resources/data/Bienenst\303\266cke ??': No such file or directory
    .
    ./.DS_Store
    ./.VolumeIcon.icns
    ./.background
    ./.background/window.tiff
    ./Applications
    ./Hives & Frames- Bienenstöcke.app
    ./Hives & Frames- Bienenstöcke.app/Contents
    ./Hives & Frames- Bienenstöcke.app/Contents/Info.plist
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/Hives & Frames- Bienenstöcke
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/bin
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/bin/hives
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/bin/other
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/bin/words.txt
    ./Hives & Frames- Bienenstöcke.app/Contents/MacOS/data
    ./Hives & Frames- Bienenstöcke.app/Contents/PkgInfo
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/AppIcon.icns
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/UpperShelf.launch
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/bin
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/bin/words.txt
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/data
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/data/Bienenstöcke ??
    ./Hives & Frames- Bienenstöcke.app/Contents/Resources/data/frames.txt
    ./Hives & Frames- Bienenstöcke.app/Contents/_CodeSignature
    ./Hives & Frames- Bienenstöcke.app/Contents/_CodeSignature/CodeResources
    queen
    hives
    ../Resources/data
    755 MacOS/bin/hives
    755 MacOS/Hives & Frames- Bienenstöcke
    bin/hives

    2
    --where
    !/data
    HIVES=it's
    same
    "#);
    // The property list, by another implementation.
    let list = folder.at("list");
    std::fs::create_dir_all(&list).expect("a folder");
    judge_says_yes("7zz", &["e", "-y", &format!("-o{}", list.display()), text, "-ir!Info.plist", "-ir!.DS_Store"]);
    let script = "import plistlib,sys,json; d=plistlib.load(open(sys.argv[1],'rb')); d.pop('UpperShelf'); print(json.dumps(d,indent=1,ensure_ascii=False,sort_keys=True))";
    let file = |name: &str| list.join(name).to_str().expect("text").to_owned();
    insta::assert_snapshot!(judge_says_yes(&test_support::python(), &["-c", script, &file("Info.plist")]), @r#"
    {
     "CFBundleDevelopmentRegion": "en",
     "CFBundleDisplayName": "Hives & Frames: Bienenstöcke",
     "CFBundleDocumentTypes": [
      {
       "CFBundleTypeIconFile": "AppIcon.icns",
       "CFBundleTypeName": "Hive journal",
       "CFBundleTypeRole": "Editor",
       "LSHandlerRank": "Owner",
       "LSItemContentTypes": [
        "works.fernhollow.hives.type1"
       ]
      }
     ],
     "CFBundleExecutable": "Hives & Frames- Bienenstöcke",
     "CFBundleIconFile": "AppIcon",
     "CFBundleIdentifier": "works.fernhollow.hives",
     "CFBundleInfoDictionaryVersion": "6.0",
     "CFBundleName": "Hives & Frames: Bienenstöcke",
     "CFBundlePackageType": "APPL",
     "CFBundleShortVersionString": "2.4.0",
     "CFBundleURLTypes": [
      {
       "CFBundleTypeRole": "Viewer",
       "CFBundleURLName": "works.fernhollow.hives.hives",
       "CFBundleURLSchemes": [
        "hives"
       ]
      }
     ],
     "CFBundleVersion": "2.4.0",
     "LSApplicationCategoryType": "public.app-category.productivity",
     "LSArchitecturePriority": [
      "arm64"
     ],
     "LSMinimumSystemVersion": "11.0",
     "NSHighResolutionCapable": true,
     "NSHumanReadableCopyright": "© Fernhollow Apiary Works",
     "UTExportedTypeDeclarations": [
      {
       "UTTypeConformsTo": [
        "public.data"
       ],
       "UTTypeDescription": "Hive journal",
       "UTTypeIdentifier": "works.fernhollow.hives.type1",
       "UTTypeTagSpecification": {
        "public.filename-extension": [
         "comb",
         "brood"
        ],
        "public.mime-type": [
         "application/vnd.fernhollow.comb"
        ]
       }
      }
     ]
    }
    "#);
    let script = "import sys\nfrom ds_store import DSStore\nwith DSStore.open(sys.argv[1],'r') as d:\n    print(d['.']['bwsp']['WindowBounds'], [(e.filename, e.value) for e in d if e.code == b'Iloc'])";
    insta::assert_snapshot!(judge_says_yes(&test_support::python(), &["-c", script, &file(".DS_Store")]), @r"{{200, 120}, {640, 428}} [('Applications', (480, 188)), ('Hives & Frames- Bienenstöcke.app', (160, 188))]");
}

#[test]
fn it_is_read_back_extracted_and_the_same_again() {
    let folder = product("[target.dmg]\ncompression = \"lzfse\"");
    let package = build(&folder);
    let inspected = folder.command(&["inspect"]).arg(&package).output().expect("run");
    insta::assert_snapshot!(String::from_utf8_lossy(&inspected.stdout), @r#"
    packages/Hives-Frames-Bienenstöcke-2.4.0-beta-macos-arm64.dmg (dmg)
    Hives & Frames: Bienenstöcke 2.4.0-beta
      id           works.fernhollow.hives
      publisher    Fernhollow Apiary Works
      categories   Office
      platform     macos-arm64

    files (4, 450 kB)
      ├─ bin/                                     2 files, 50.3 kB
      │  ├─ hives                                 50.3 kB, mode 755
      │  ├─ other                                 → hives
      │  └─ words.txt                             6 bytes, mode 644
      └─ data/                                    2 files, 400 kB
         ├─ Bienenstöcke 🐝/                      1 file, 300 kB
         │  └─ noise                              300 kB, mode 644
         └─ frames.txt                            100 kB, mode 644

    programs
      app: bin/hives "--where" "{install}/data", with HIVES=it's

    shortcuts
      menu: “Hives & Frames: Bienenstöcke” starts app

    file types
      .comb, .brood: “Hive journal” (application/vnd.fernhollow.comb) opens with app

    link schemes
      hives: links open with app

    rules
      minimum-macos: 11.0
    "#);
    let out = folder.at("out");
    let run = folder.command(&["extract"]).arg(&package).arg(&out).output().expect("run");
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    for path in ["bin/hives", "bin/words.txt", "data/frames.txt"] {
        let (mine, built) = (std::fs::read(out.join(path)), std::fs::read(folder.at("built").join(path)));
        let (mine, built) = (mine.expect(path), built.expect(path));
        // Of code, what comes before its signature and behind its headers.
        let what = if path == "bin/hives" { SIGNED_HEADERS..0x8000 } else { 0..built.len() };
        assert!(mine[what.clone()] == built[what], "{path}");
    }
    let first = std::fs::read(&package).expect("read");
    std::fs::remove_file(&package).expect("removed");
    assert!(first == std::fs::read(build(&folder)).expect("read"));
    // Damaged in the middle, and cut.
    let mut bad = first.clone();
    bad[first.len() / 3] ^= 1;
    folder.write("bad.dmg", &bad);
    let code = |args: &[&str]| folder.command(args).output().expect("run").status.code();
    assert_eq!(code(&["compare", "bad.dmg", "bad.dmg"]), Some(4));
    folder.write("cut.dmg", &first[..first.len() / 2]);
    assert_eq!(code(&["inspect", "cut.dmg"]), Some(4));
}

#[test]
fn a_program_that_layers_bring_for_each_processor_becomes_one_for_both() {
    let folder = product("");
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    let layers = "from = \"built\"\n\n[[layer]]\nfrom = \"intel\"\nplatforms = [\"macos-universal\"]";
    let both = "platforms = [\"macos-universal\", \"macos-arm64\"]";
    let text = text.replace("from = \"built\"", layers).replace("platforms = [\"macos-arm64\"]", both);
    folder.write("shelf.toml", text);
    folder.write("intel/bin/hives", INTEL).write("intel/bin/words.txt", "queen and workers\n");
    let mode = || std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(folder.at("intel/bin/hives"), mode()).expect("mode");
    build(&folder);
    let code = |platform: &str| {
        let package = folder.names("packages").into_iter().find(|n| n.ends_with(&format!("{platform}.dmg")));
        let out = folder.run(&["extract", &format!("packages/{}", package.expect("a package")), platform]);
        assert_eq!(out.0, 0, "{}", out.1);
        folder.at(platform).join("bin")
    };
    let text = |path: PathBuf| path.to_str().expect("text").to_owned();
    let universal = code("macos-universal");
    // Another tool joins the same programs to the same bytes.
    let theirs = text(folder.at("theirs"));
    let (arm, intel) = (text(folder.at("built/bin/hives")), text(folder.at("intel/bin/hives")));
    judge_says_yes("llvm-lipo-19", &["-create", &arm, &intel, "-output", &theirs]);
    let ours = std::fs::read(universal.join("hives")).expect("there");
    let theirs = std::fs::read(theirs).expect("there");
    let (mine, others) = (mach_o::read(&ours).expect("whole"), mach_o::read(&theirs).expect("whole"));
    let parts = |file: Option<mach_o::File>| file.expect("code").slices.into_iter();
    for (mine, others) in parts(mine).zip(parts(others)) {
        assert_eq!(mine.processor, others.processor);
        let signed = mine.signature.expect("signed").0 as usize;
        let end = others.signature.map_or(others.size as usize, |(from, _)| from as usize).min(signed);
        let part = |bytes: &[u8], from: u64| bytes[from as usize..][SIGNED_HEADERS..end].to_vec();
        assert!(part(&ours, mine.offset) == part(&theirs, others.offset), "not the same for {}", mine.processor);
    }
    // What is no code is as the later layer has it; other platforms have their own.
    let words = std::fs::read_to_string(universal.join("words.txt")).expect("there");
    assert_eq!(words, "queen and workers\n");
    let own = std::fs::read(code("macos-arm64").join("hives")).expect("there");
    assert!(own[SIGNED_HEADERS..0x8000] == ARM[SIGNED_HEADERS..0x8000]);
}

#[test]
fn a_bundle_says_why_it_asks_what_it_is_called_elsewhere_and_that_it_is_an_agent() {
    let more = "[bundle]\nagent = true\ncopyright = \"© 2026 the bees\"\nnames = { de = 'Stöcke \"&\" Rahmen', pt-BR = \"Colmeias\" }\n\
                    [permissions]\ncamera = \"To photograph frames\"\nlocal-network = \"To find scales\"";
    let folder = product(more);
    let package = build(&folder);
    let out = folder.at("out");
    let to = format!("-o{}", out.display());
    judge_says_yes("7zz", &["e", "-y", &to, package.to_str().expect("text"), "-ir!Info.plist"]);
    let script = "import plistlib,sys
d = plistlib.load(open(sys.argv[1], 'rb'))
for key in sorted(d):
    if key.startswith('NS') or key.startswith('LSUI') or key.startswith('LSHas'):
        print(key, d[key])";
    let list = out.join("Info.plist");
    insta::assert_snapshot!(judge_says_yes(&test_support::python(), &["-c", script, list.to_str().expect("text")]), @r"
    LSHasLocalizedDisplayName True
    LSUIElement True
    NSCameraUsageDescription To photograph frames
    NSHighResolutionCapable True
    NSHumanReadableCopyright © 2026 the bees
    NSLocalNetworkUsageDescription To find scales
    ");
    let name = "*/Contents/Resources/de.lproj/InfoPlist.strings";
    let names = test_support::judge(
        "7zz",
        &["e", "-so", package.to_str().expect("text"), "-i!4.hfs/*", &format!("-ir!{name}")],
    );
    let names = String::from_utf8_lossy(&names.stdout).into_owned();
    assert!(names.contains(r#""CFBundleDisplayName" = "Stöcke \"&\" Rahmen";"#), "{names}");
    // It is read back; and other systems' packages do not hear of it.
    let (code, told) = folder.run(&["inspect", package.to_str().expect("text")]);
    assert!(
        code == 0 && told.contains("name pt-BR: Colmeias") && told.contains("camera: To photograph frames"),
        "{told}"
    );
    // What can't be is said, with its place.
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    let text = text.replace("pt-BR", "portuguese_of_brazil").replace("To find scales", " ");
    folder.write("shelf.toml", text).write("built/de.lproj/InfoPlist.strings", "");
    std::fs::remove_dir_all(folder.at("packages")).expect("removed");
    insta::assert_snapshot!(problems(&folder), @r#"
    error: the payload has a folder de.lproj, and [bundle] names makes one
     = instead: the name in de.lproj/InfoPlist.strings, and not in `names`

    error: "portuguese_of_brazil" isn't a language code
      --> ./shelf.toml:38:37
       |
    38 | names = { de = 'Stöcke "&" Rahmen', portuguese_of_brazil = "Colmeias" }
       |                                     ^^^^^^^^^^^^^^^^^^^^
       = why: the system knows them as `de` or `pt-BR`
       = instead: names = { de = "…" }

    error: the reason for local-network is empty
      --> ./shelf.toml:41:17
       |
    41 | local-network = " "
       |                 ^^^
       = why: the system shows it when it asks for permission
       = instead: local-network = "To photograph frames"

    3 errors; nothing was written
    "#);
}

/// The launcher, built for this machine.
fn launcher_for_this_machine(folder: &Folder) -> PathBuf {
    let sources = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../heads/macos-launcher/Cargo.toml");
    let cargo = std::process::Command::new(env!("CARGO"))
        .args(["build", "--release", "--locked", "--quiet", "--offline", "--manifest-path"])
        .arg(sources)
        .env("CARGO_TARGET_DIR", folder.at("launcher"))
        .env_remove("RUSTFLAGS")
        .output()
        .expect("cargo");
    assert!(cargo.status.success(), "{}", String::from_utf8_lossy(&cargo.stderr));
    folder.at("launcher/release/launcher")
}

#[test]
fn the_bundles_launcher_starts_the_program_with_everything_that_was_said_of_it() {
    let folder = product("");
    // A program that this machine can run, too.
    folder.script("built/bin/hives", "pwd; echo $HIVES$BEES; for a in \"$@\"; do echo \"[$a]\"; done; exit 7");
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    let more = "arguments = [\"\", 'quo\"te', ";
    let text = text.replace("arguments = [", more).replace("macos-arm64", "macos-universal");
    folder.write(
        "shelf.toml",
        text.replace("environment = {", "working-folder = \"install\"\nunset = [\"BEES\"]\nenvironment = {"),
    );
    let package = build(&folder);
    let out = folder.at("out");
    // It warns of links that lead upwards, and leaves them out.
    test_support::judge("7zz", &["x", "-y", &format!("-o{}", out.display()), package.to_str().expect("text")]);
    let find = |dir: PathBuf, end: &str| {
        let all = std::fs::read_dir(dir).expect("a folder").flatten().map(|e| e.path());
        all.into_iter().find(|p| p.to_string_lossy().ends_with(end)).expect("there")
    };
    let code = find(find(out, "cke"), ".app").join("Contents/MacOS");
    let launcher = find(code.clone(), "cke");
    // On a Mac it is a program for both processors.
    let lipo = judge_says_yes("llvm-lipo-19", &["-archs", launcher.to_str().expect("text")]);
    assert_eq!(lipo.trim(), "x86_64 arm64");
    put_program(&launcher, &std::fs::read(launcher_for_this_machine(&folder)).expect("read"));
    let run =
        std::process::Command::new(&launcher).args(["a b", "'", ""]).env("BEES", "many").output().expect("started");
    let code = code.canonicalize().expect("there");
    let code = code.to_str().expect("text");
    let said = String::from_utf8_lossy(&run.stdout);
    assert_eq!(said, format!("{code}\nit's\n[]\n[quo\"te]\n[--where]\n[{code}/data]\n[a b]\n[']\n[]\n"));
    assert_eq!(run.status.code(), Some(7));
    // Without its program it says so, with the shell's code for that; without its list with another one.
    std::fs::remove_file(PathBuf::from(code).join("bin/hives")).expect("removed");
    let gone = std::process::Command::new(&launcher).output().expect("started");
    assert_eq!(gone.status.code(), Some(127));
    assert_eq!(String::from_utf8_lossy(&gone.stderr), format!("{code}/bin/hives can't be started\n"));
    std::fs::remove_file(PathBuf::from(code).join("../Resources/UpperShelf.launch")).expect("removed");
    assert_eq!(std::process::Command::new(&launcher).output().expect("started").status.code(), Some(126));
}

fn problems(folder: &Folder) -> String {
    let out = folder.command(&["build"]).output().expect("run");
    assert_eq!(out.status.code(), Some(1), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(!folder.at("packages").exists(), "nothing is written");
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn what_a_mac_would_refuse_is_said_before_anything_is_packed() {
    let folder = product("[install]\nminimum-macos = \"10.12\"");
    folder.write("built/bin/hives", INTEL);
    let said = problems(&folder);
    assert!(said.contains("bin/hives has no code for arm64") && said.contains("built for x86_64"), "{said}");
    assert!(said.contains("bin/hives needs macOS 10.13") && said.contains("minimum-macos = \"10.13\""), "{said}");
    for (more, said) in [
        ("[disk-image]\nwindow = [300, 200]\nicon-size = 200", "overlap"),
        ("[disk-image]\nprogram = [10, 10]", "is outside the window"),
        ("[disk-image]\ntext-size = 40", "from 10 to 16"),
        ("[disk-image]\nbackground = \"none.png\"", "none.png can't be read"),
        ("[disk-image]\nbackground = \"shelf.toml\"", "it is neither an SVG nor a PNG"),
        ("[disk-image]\nbackground = \"wide.svg\"", "its shape differs from the window's"),
        ("[disk-image]\n[[disk-image.file]]\nfrom = \"wide.svg\"\nat = [470, 190]", "overlap"),
        ("[disk-image]\nvolume-name = \"\"", "can't be the name of the volume"),
        ("[install]\nminimum-macos = \"eleven\"", "isn't a version of macOS"),
    ] {
        let folder = product(more);
        folder.write("wide.svg", r#"<svg xmlns="http://www.w3.org/2000/svg" width="900" height="100"/>"#);
        let text = problems(&folder);
        assert!(text.contains(said), "{said}\n---\n{text}");
    }
    let folder = product("");
    folder.write("built/data/FRAMES.txt", "another");
    let said = problems(&folder);
    assert!(said.contains("are the same name to HFS+"), "{said}");
}

#[test]
fn a_window_of_ones_own_is_kept() {
    let more = "[disk-image]\nvolume-name = \"Hives 2.4\"\nwindow = [800, 500]\nbackground = \"back.svg\"\nicon-size = 96\n\
                    program = [150, 200]\napplications = [400, 200]\n[[disk-image.file]]\nfrom = \"docs/Read me.txt\"\nat = [650, 200]";
    let folder = product(more);
    folder.write("docs/Read me.txt", "Count the frames.\n");
    folder.write("back.svg", r##"<svg xmlns="http://www.w3.org/2000/svg" width="400" height="250"><rect width="400" height="250" fill="#102030"/></svg>"##);
    let package = build(&folder);
    let text = package.to_str().expect("text");
    let out = folder.at("out");
    let to = format!("-o{}", out.display());
    judge_says_yes("7zz", &["e", "-y", &to, text, "-ir!window.tiff", "-ir!Read me.txt", "-ir!.DS_Store"]);
    assert_eq!(std::fs::read_to_string(out.join("Read me.txt")).expect("there"), "Count the frames.\n");
    let picture = out.join("window.tiff");
    let told = judge_says_yes("identify", &["-format", "%wx%h %x %[pixel:p{9,9}]\n", picture.to_str().expect("text")]);
    assert_eq!(told, "800x500 72 srgb(16,32,48)\n1600x1000 144 srgb(16,32,48)\n");
    let script = "import sys\nfrom ds_store import DSStore\nwith DSStore.open(sys.argv[1],'r') as d:\n    print(d['.']['icvp']['iconSize'], d['Read me.txt']['Iloc'], d['Applications']['Iloc'])";
    let store = out.join(".DS_Store");
    let told = judge_says_yes(&test_support::python(), &["-c", script, store.to_str().expect("text")]);
    assert_eq!(told, "96.0 (650, 200) (400, 200)\n");
}

/// A library and a program that loads it, from where `path` says.
fn with_library(folder: &Folder, path: &str, search: &str) {
    with_library_in(folder, "lib", path, search);
}

fn with_library_in(folder: &Folder, place: &str, path: &str, search: &str) {
    let library = format!("built/{place}/libqueen.dylib");
    macho::prepare(folder);
    let at = |name: &str| macho::at(folder, name);
    let link = |more: &[&str]| macho::link(folder, more);
    folder.write(&format!("built/{place}/.keep"), "");
    link(&["-dylib", &at("s/queen.o"), "-install_name", path, "-o", &at(&library)]);
    link(&[&at("s/main.o"), &at(&library), "-e", "_main", "-rpath", search, "-o", &at("built/bin/hives")]);
}

#[test]
fn libraries_are_looked_for_where_the_program_will() {
    let folder = product("");
    with_library(&folder, "@rpath/libqueen.dylib", "@loader_path/../lib");
    build(&folder);
    // Frameworks have a place of their own in a bundle, and a link where they stood: programs find them either way.
    for search in ["@executable_path/../Frameworks", "@loader_path/../Frameworks"] {
        let folder = product("");
        with_library_in(&folder, "Frameworks/Hive.framework", "@rpath/Hive.framework/libqueen.dylib", search);
        folder.write("built/Frameworks/Hive.framework/Resources/words.txt", "queen\n");
        let package = build(&folder);
        let names = judge_says_yes("7zz", &["l", "-ba", "-slt", package.to_str().expect("text")]);
        let has = |path: &str| names.lines().any(|l| l.starts_with("Path = ") && l.ends_with(path));
        for path in ["Contents/Frameworks/Hive.framework/libqueen.dylib", "Hive.framework/Resources/words.txt"] {
            assert!(has(path), "{path}\n{names}");
        }
        assert!(has("Contents/MacOS/Frameworks") && !has("Contents/Resources/Frameworks"), "{names}");
        let (code, told) = folder.run(&["extract", package.to_str().expect("text"), "out"]);
        assert_eq!(code, 0, "{told}");
        let frameworks = |place: &str| {
            let all = test_support::listing(&folder.at(place).join("Frameworks")).into_iter();
            // Code is signed, and no longer what it was.
            all.filter(|line| !line.contains("libqueen")).collect::<Vec<_>>()
        };
        assert_eq!(frameworks("built"), frameworks("out"), "the product's own files");
    }
    for (path, search, said) in [
        ("@rpath/libqueen.dylib", "@executable_path/../Elsewhere", "libqueen.dylib"),
        ("@rpath/libqueen.dylib", "@loader_path/../libs", "it is looked for in: libs/libqueen.dylib"),
        ("/opt/bees/lib/libqueen.dylib", "@loader_path", "this path exists only on the machine that built it"),
        ("@rpath/libqueen.dylib", "/opt/bees/lib", "looks for libraries in /opt/bees/lib"),
    ] {
        let folder = product("");
        with_library(&folder, path, search);
        let text = problems(&folder);
        assert!(text.contains(said), "{said}\n---\n{text}");
    }
}
