//! What a plan says before anything is built: what each format can't hold, which defaults are used and why, what is worth a
//! warning.

use crate::common::{RIGHT, folder};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;
use upper_shelf_core::manifest;
use upper_shelf_core::packaging::{self, Options, Plan};
use upper_shelf_core::platform::Platform;

fn plans(folder: &Path, text: &str) -> Vec<Plan> {
    std::fs::write(folder.join("shelf.toml"), text).unwrap();
    let project = manifest::load(folder, &|_| None).unwrap();
    let options = Options {
        platforms: None,
        targets: None,
        host: Platform::LinuxX64,
        epoch: None,
        output: None,
        keys_elsewhere: false,
    };
    packaging::plan(&project, &options).unwrap_or_else(|failure| panic!("{failure}"))
}

/// What the packages of a plan can't hold, each sentence once with the formats that it is about.
fn losses(plans: &[Plan], platform: Platform) -> String {
    let plan = plans.iter().find(|plan| plan.product.platform == platform).unwrap();
    let mut said: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for package in &plan.packages {
        for loss in &package.losses {
            said.entry(format!("{}\n    {}", loss.what, loss.why)).or_default().push(package.target.name());
        }
    }
    said.iter().fold(String::new(), |mut out, (loss, targets)| {
        let _ = writeln!(out, "{}: {loss}", targets.join(", "));
        out
    })
}

/// The right manifest with all formats, and with what some of them can't hold.
fn everything() -> String {
    let more = r#"
[[shortcut]]
program = "app"
places = ["desktop", "startup"]
name = "Hives?"

[[link-scheme]]
scheme = "swarm"
program = "app"

[[environment]]
name = "HIVES_FOLDER"
value = "{install}/share"
action = "append"

[[program]]
key = "scale"
file = "share/sample.hive"
environment = { HIVES_UNIT = "kg" }

[[layer]]
from = "links"
into = "links"
platforms = ["linux", "macos"]
"#;
    RIGHT
        .replace("[[registry]]", &format!("{}\n[[registry]]", more.trim()))
        .replace(
            r#"build = ["tar", "zip", "msi", "nsis", "dmg"]"#,
            r#"build = ["appimage", "tar", "zip", "msi", "nsis", "portable", "dmg"]"#,
        )
        .replace("name = \"Hive\"\n", "name = { en = \"Hive\", de = \"Stock\" }\n")
}

fn folder_with_links() -> tempfile::TempDir {
    let folder = folder();
    std::fs::create_dir(folder.path().join("links")).unwrap();
    std::fs::write(folder.path().join("links/hive"), "one").unwrap();
    std::fs::hard_link(folder.path().join("links/hive"), folder.path().join("links/twin")).unwrap();
    std::os::unix::fs::symlink("hive", folder.path().join("links/name")).unwrap();
    folder
}

#[test]
fn what_packages_for_linux_cannot_hold() {
    let folder = folder_with_links();
    insta::assert_snapshot!(losses(&plans(folder.path(), &everything()), Platform::LinuxX64), @r#"
    zip: 1 file type is left out
        a ZIP archive is unpacked, not installed
    zip: 10 icons are left out
        a ZIP archive is unpacked, not installed
    zip: 2 commands are left out
        a ZIP archive is unpacked, not installed
    zip: 2 environment variables are left out
        a ZIP archive is unpacked, not installed
    zip: 2 link schemes are left out
        a ZIP archive is unpacked, not installed
    zip: 2 programs are left out
        a ZIP archive is unpacked, not installed
    zip: 2 shell files are left out
        a ZIP archive is unpacked, not installed
    zip: 3 shortcuts are left out
        a ZIP archive is unpacked, not installed
    zip: links/twin and links/hive become separate files
        ZIP archives have no hard links
    appimage, tar: no description
        software centres need one: the summary is used instead
    appimage, tar: no license
        software centres need one: LicenseRef-proprietary is used instead
    appimage: the command hives starts app is left out
        an AppImage isn't installed; users can link to it from a folder on their PATH
    appimage: the command hives-scale starts scale is left out
        an AppImage isn't installed; users can link to it from a folder on their PATH
    appimage: the completion bash for hives, from share/hives.bash is left out
        an AppImage isn't installed; the file itself is included
    appimage: the manual page hives.1, from share/hives.1 is left out
        an AppImage isn't installed; the file itself is included
    zip: the product's identity is left out
        a ZIP archive holds files only, so it can't carry the id, publisher or version
    appimage: the shortcut “Hives?” (desktop) is left out
        an AppImage isn't installed, so nothing is put on the desktop or started automatically
    appimage: the shortcut “Hives?” (startup) is left out
        an AppImage isn't installed, so nothing is put on the desktop or started automatically
    "#);
}

#[test]
fn what_packages_for_windows_cannot_hold() {
    let folder = folder_with_links();
    insta::assert_snapshot!(losses(&plans(folder.path(), &everything()), Platform::WindowsX64), @r#"
    zip: 1 choice is left out
        a ZIP archive is unpacked, not installed
    tar: 1 choice is left out
        a tar archive is unpacked, not installed
    zip: 1 file type is left out
        a ZIP archive is unpacked, not installed
    portable: 1 file type is left out
        a portable program is started, not installed
    tar: 1 file type is left out
        a tar archive is unpacked, not installed
    zip: 1 font is left out
        a ZIP archive is unpacked, not installed
    portable: 1 font is left out
        a portable program is started, not installed
    tar: 1 font is left out
        a tar archive is unpacked, not installed
    zip: 1 registry value is left out
        a ZIP archive is unpacked, not installed
    portable: 1 registry value is left out
        a portable program is started, not installed
    tar: 1 registry value is left out
        a tar archive is unpacked, not installed
    zip: 1 service is left out
        a ZIP archive is unpacked, not installed
    portable: 1 service is left out
        a portable program is started, not installed
    tar: 1 service is left out
        a tar archive is unpacked, not installed
    zip: 2 link schemes are left out
        a ZIP archive is unpacked, not installed
    portable: 2 link schemes are left out
        a portable program is started, not installed
    tar: 2 link schemes are left out
        a tar archive is unpacked, not installed
    zip: 2 programs are left out
        a ZIP archive is unpacked, not installed
    tar: 2 programs are left out
        a tar archive is unpacked, not installed
    zip: 2 shell files are left out
        a ZIP archive is unpacked, not installed
    portable: 2 shell files are left out
        a portable program is started, not installed
    tar: 2 shell files are left out
        a tar archive is unpacked, not installed
    zip: 3 environment variables are left out
        a ZIP archive is unpacked, not installed
    portable: 3 environment variables are left out
        a portable program is started, not installed
    tar: 3 environment variables are left out
        a tar archive is unpacked, not installed
    zip: 3 shortcuts are left out
        a ZIP archive is unpacked, not installed
    portable: 3 shortcuts are left out
        a portable program is started, not installed
    tar: 3 shortcuts are left out
        a tar archive is unpacked, not installed
    zip: 7 rules are left out
        a ZIP archive is unpacked, not installed
    tar: 7 rules are left out
        a tar archive is unpacked, not installed
    msi: share/sample.hive isn't kept when a user has changed it
        Windows Installer removes it with the product, and keeps a changed one on upgrades only if it has no version
    portable: texts in de are left out
        a portable program has its summary in one language
    msi: texts in de are left out
        an MSI has its shortcuts, file types and choices in one language
    nsis: texts in de are left out
        shortcuts and file types on Windows are in one language
    msi, nsis: the completion bash for hives, from share/hives.bash is left out
        Windows has no manual pages, and its shells are different
    msi, nsis: the manual page hives.1, from share/hives.1 is left out
        Windows has no manual pages, and its shells are different
    zip: the product's identity is left out
        a ZIP archive holds files only, so it can't carry the id, publisher or version
    tar: the product's identity is left out
        a tar archive holds files only, so it can't carry the id, publisher or version
    msi, nsis: the shortcut “Hives?” is named “Hives-”
        it is a file, and Windows forbids such names
    nsis, portable: the variables of the program app are left out: HIVES
        a shortcut can't set any; a `launcher` can
    msi: the variables of the program app are left out: HIVES
        a shortcut can't set any; set them with [[environment]] or in the program
    nsis, portable: the variables of the program scale are left out: HIVES_UNIT
        a shortcut can't set any; a `launcher` can
    msi: the variables of the program scale are left out: HIVES_UNIT
        a shortcut can't set any; set them with [[environment]] or in the program
    "#);
}

#[test]
fn what_packages_for_macos_cannot_hold() {
    let folder = folder_with_links();
    insta::assert_snapshot!(losses(&plans(folder.path(), &everything()), Platform::MacosArm64), @r#"
    tar: 1 command is left out
        a tar archive is unpacked, not installed
    tar: 1 file type is left out
        a tar archive is unpacked, not installed
    tar: 2 environment variables are left out
        a tar archive is unpacked, not installed
    tar: 2 link schemes are left out
        a tar archive is unpacked, not installed
    tar: 2 programs are left out
        a tar archive is unpacked, not installed
    tar: 2 rules are left out
        a tar archive is unpacked, not installed
    tar: 2 shell files are left out
        a tar archive is unpacked, not installed
    tar: 3 shortcuts are left out
        a tar archive is unpacked, not installed
    zip, dmg: links/twin and links/hive become separate files
        copying a program separates them
    zip, tar, dmg: programs are signed ad hoc: nobody vouches for them
        macOS warns before it opens a downloaded program; [signing.macos] names a key
    zip, dmg: texts in de are left out
        a bundle has its file types in one language
    zip, dmg: the command hives starts app is left out
        a bundle is copied, not installed; users can link to its program from a folder on their PATH
    zip, dmg: the completion bash for hives, from share/hives.bash is left out
        a bundle is copied, not installed; the file itself is included
    zip, dmg: the environment variable HIVES_FOLDER = what was there, then {install}/share is left out
        the system gives a program fixed values only; a variable of the [[program]] can hold this one
    tar: the main program bears the application bundle's signature
        it starts without its bundle, but fails a strict check of its signature
    zip, dmg: the manual page hives.1, from share/hives.1 is left out
        a bundle is copied, not installed; the file itself is included
    tar: the product's identity is left out
        a tar archive holds files only, so it can't carry the id, publisher or version
    zip, dmg: the shortcut “Hives?” (desktop) is left out
        on macOS a program is its own only entry
    zip, dmg: the shortcut “Hives?” (startup) is left out
        on macOS a program is its own only entry
    "#);
}

/// Whatever is left out of a product's packages is named: items that a package carries and losses make up the footprint.
#[test]
fn nothing_is_left_out_in_silence() {
    let folder = folder_with_links();
    for plan in plans(folder.path(), &everything()) {
        let whole = plan.footprint.traces().count();
        for package in &plan.packages {
            let carried = package.carried.traces().count();
            assert!(
                carried >= whole || !package.losses.is_empty(),
                "{}: {carried} of {whole}, and no loss is named",
                package.file_name
            );
        }
    }
}

/// The defaults of a manifest that says the least.
fn defaults(build: &str, platforms: &str) -> String {
    let folder = folder();
    let text = format!(
        "[product]\nid = \"works.fernhollow.hives\"\nname = \"Hives\"\nversion = \"1.4.0\"\npublisher = \"Fernhollow\"\n\
         [[layer]]\nfrom = \"built\"\n[[program]]\nkey = \"app\"\nfile = \"hives\"\n\
         [targets]\nbuild = [{build}]\nplatforms = [{platforms}]\n"
    );
    let mut out = String::new();
    for plan in plans(folder.path(), &text) {
        for default in &plan.defaults {
            let more = if default.is_detail { "-v " } else { "   " };
            let _ = writeln!(out, "{more}{} = {}\n       {}", default.key, default.value, default.why);
        }
    }
    out
}

#[test]
fn every_default_of_packages_for_linux_has_a_reason() {
    insta::assert_snapshot!(defaults(r#""appimage", "tar", "zip""#, r#""linux-x64""#), @r#"
       product.categories = Utility
           menus group programs by category
       product.icon = a plain drawing in a colour made from the id
           the manifest names no picture
       product.released = 2026-01-01
           a fixed date: the same input gives the same bytes
    -v program 1 · command = hives
           made from the product's name, or its id if the name has other letters
       shortcut = app in the menu, as “Hives”
           users look for programs there
    -v target.appimage.block-size = 1048576
           large blocks are packed better
    -v target.appimage.compression = zstd
           small, and by far the fastest to unpack
    -v target.appimage.level = 9
           harder packing takes longer and gains little
    -v target.tar.compression = gzip
           it is everywhere
    -v target.tar.level = 6
           harder packing takes longer and gains little
    -v target.zip.level = 6
           harder packing takes longer and gains little
       targets.file-name = {name}-{version}-{platform}
           such names sort well and say what is inside
    "#);
}

#[test]
fn every_default_of_packages_for_windows_has_a_reason() {
    insta::assert_snapshot!(defaults(r#""msi", "nsis", "portable""#, r#""windows-x64""#), @r#"
       install.downgrade = blocked
           older versions can rarely read what newer ones have written
       install.folder = Hives
           the product's name
       install.scope = machine
           administrators deploy programs for all users
       install.upgrade = early
           nothing of the old version is left behind
       product.categories = Utility
           menus group programs by category
       product.icon = a plain drawing in a colour made from the id
           the manifest names no picture
       product.released = 2026-01-01
           a fixed date: the same input gives the same bytes
       shortcut = app in the menu, as “Hives”
           users look for programs there
    -v target.msi.cabinet-megabytes = 1900
           the most that a cabinet holds
    -v target.msi.cabinets = embedded
           one file is easier to hand out
    -v target.msi.code-page = 1252 or 65001
           the first if it holds every text, else UTF-8
    -v target.msi.compression = lzx
           smallest
    -v target.msi.upgrade-code = made from the product's id
           it stays the same for every version
    -v target.msi.version = 1.4.0
           the product's
    -v target.nsis.compression = lzma
           smallest
    -v target.nsis.dictionary-megabytes = 32
           more takes memory when it is installed; small products take less
    -v target.portable.program = the first one
           no program is named
    -v target.portable.settings = user-folder
           a user finds them where those of other programs are
       targets.file-name = {name}-{version}-{platform}
           such names sort well and say what is inside
       wizard.languages = en, de
           these are built in; the language of the system is used
    "#);
}

#[test]
fn every_default_of_packages_for_macos_has_a_reason() {
    insta::assert_snapshot!(defaults(r#""dmg""#, r#""macos-arm64""#), @r#"
    -v disk-image.applications = [480, 188]
           on the right, as high
       disk-image.background = a drawing in the colour of the icon
           the manifest names no picture
    -v disk-image.icon-size = 128
           seen well from afar
    -v disk-image.program = [160, 188]
           on the left, a little above the middle
    -v disk-image.text-size = 13
           the system's own
       disk-image.window = [640, 400]
           room for two symbols and an arrow between them
       disk-image.word = "Drag to install"
           in the first language of the wizard
       product.categories = Utility
           menus group programs by category
       product.icon = a plain drawing in a colour made from the id
           the manifest names no picture
       product.released = 2026-01-01
           a fixed date: the same input gives the same bytes
       shortcut = app in the menu, as “Hives”
           users look for programs there
    -v target.dmg.compression = zlib
           every macOS reads it
    -v target.dmg.level = 9
           smallest
       targets.file-name = {name}-{version}-{platform}
           such names sort well and say what is inside
    "#);
}
