//! Packages that others made, in other ways than ours: `inspect`, `compare`, `check` and `extract` read them.

use crate::common::Folder;
use msi_database::compound::CompoundWriter;
use msi_database::database::{Database, Value};
use msi_database::names::pack;
use msi_database::schema::{Column, Kind};
use msi_database::summary::{self, Property};
use std::process::Command;

const CODE: &str = "{01234567-89AB-CDEF-0123-456789ABCDEF}";

fn sh(folder: &Folder, line: &str) {
    let out = Command::new("sh").args(["-ec", line]).current_dir(folder.path()).output().expect("a shell");
    assert!(out.status.success(), "{line}: {}", String::from_utf8_lossy(&out.stderr));
}

/// A small tree as anybody would have it.
fn tree() -> Folder {
    let folder = Folder::new();
    folder.write("tree/top/readme.txt", "read me\n").script("tree/top/bin/run", "echo run");
    folder.write("tree/top/data/a b.bin", test_support::noise(3, 100_000));
    folder
}

#[test]
fn archives_of_the_usual_tools_are_listed_and_unpacked_with_or_without_a_common_folder() {
    let folder = tree();
    sh(&folder, "tar -C tree -czf with.tar.gz ./top && tar -C tree/top -cJf without.tar.xz .");
    sh(&folder, "tar -C tree -cf - top | zstd -q -o with.tar.zst && (cd tree && zip -qr ../with.zip top)");
    sh(&folder, "cd tree/top && zip -qr ../../without.zip . && tar -cf ../../plain.tar .");
    for archive in ["with.tar.gz", "without.tar.xz", "with.tar.zst", "with.zip", "without.zip", "plain.tar"] {
        let seen = folder.ok(&["inspect", "--json", "--contents", archive]);
        let seen: serde_json::Value = serde_json::from_str(&seen).expect("JSON");
        let paths: Vec<&str> =
            seen["footprint"]["tree"].as_array().expect("a tree").iter().filter_map(|t| t["path"].as_str()).collect();
        assert_eq!(paths, ["bin", "bin/run", "data", "data/a b.bin", "readme.txt"], "{archive}");
        let out = format!("out-{archive}");
        folder.ok(&["extract", archive, &out]);
        sh(&folder, &format!("diff -r tree/top '{out}' && test -x '{out}/bin/run'"));
    }
    // All of them hold the same.
    for archive in ["without.tar.xz", "with.tar.zst", "with.zip", "without.zip", "plain.tar"] {
        let (code, text) = folder.run(&["compare", "with.tar.gz", archive]);
        assert_eq!(code, 0, "{archive}: {text}");
    }
    folder.write("tree/top/readme.txt", "read me, please\n");
    sh(&folder, "tar -C tree -czf new.tar.gz top");
    let (code, text) = folder.run(&["compare", "with.tar.gz", "new.tar.gz"]);
    assert_eq!(code, 5);
    assert!(text.contains("~ readme.txt") && text.contains("0 added, 0 removed, 1 changed, 4 the same"), "{text}");
}

/// A head that is nobody's program: an ELF header whose end is where the image begins.
pub(super) fn elf_head() -> Vec<u8> {
    let mut head = vec![0; 4096];
    head[..7].copy_from_slice(b"\x7fELF\x02\x01\x01");
    head[8..11].copy_from_slice(b"AI\x02");
    head[18] = 62;
    // One section header of 64 bytes ends the file.
    head[40..48].copy_from_slice(&(4096u64 - 64).to_le_bytes());
    head[58..60].copy_from_slice(&64u16.to_le_bytes());
    head[60..62].copy_from_slice(&1u16.to_le_bytes());
    head
}

#[test]
fn an_appimage_of_another_make_says_who_it_is_by_its_desktop_entry() {
    let folder = tree();
    folder.script("app/AppRun", "exec ./usr/bin/honey").script("app/usr/bin/honey", "echo honey");
    let entry = "[Desktop Entry]\nType=Application\nName=Honey Scale\nComment=Weighs honey\nExec=honey\nIcon=honey\n\
                     Categories=Office;\nX-AppImage-Version=3.1\nMimeType=text/x-honey;x-scheme-handler/honey;\n";
    folder.write("app/works.fernhollow.honey.desktop", entry).write("app/honey.svg", "<svg/>");
    for compression in ["gzip", "xz", "zstd"] {
        let image = folder.at("image.squashfs");
        let _ = std::fs::remove_file(&image);
        sh(&folder, &format!("mksquashfs app image.squashfs -comp {compression} -quiet -no-progress"));
        let bytes = [elf_head(), std::fs::read(&image).expect("an image")].concat();
        folder.write("honey.AppImage", bytes);
        let text = folder.ok(&["inspect", "honey.AppImage"]);
        for said in ["Honey Scale 3.1", "works.fernhollow.honey", "Weighs honey", "linux-x64", "AppRun", "honey.svg"] {
            assert!(text.contains(said), "{compression}: {said}\n{text}");
        }
        folder.ok(&["check", "honey.AppImage"]);
        let out = format!("out-{compression}");
        folder.ok(&["extract", "honey.AppImage", &out]);
        sh(&folder, &format!("diff -r app {out}"));
    }
}

fn row(db: &mut Database, table: &str, values: &[&str]) {
    let row: Vec<Value> = values
        .iter()
        .map(|v| match v.strip_prefix('=') {
            Some(number) => Value::Int(number.parse().expect("a number")),
            None => db.text(v),
        })
        .collect();
    db.insert(table, &row).expect("inserted");
}

/// A package as other tools make them: folders by other names, no file packed inside, a table that nobody knows,
/// and a folder that is inside itself.
fn foreign() -> Database {
    let mut db = Database::new();
    for property in [
        ["ProductCode", CODE],
        ["ProductName", "Honey Scale"],
        ["ProductVersion", "3.1.0"],
        ["ProductLanguage", "1033"],
        ["Manufacturer", "Fernhollow Apiary Works"],
        ["UpgradeCode", "{11234567-89AB-CDEF-0123-456789ABCDEF}"],
        ["ALLUSERS", "1"],
    ] {
        row(&mut db, "Property", &property);
    }
    for folder in [
        ["TARGETDIR", "", "SourceDir"],
        ["ProgramFilesFolder", "TARGETDIR", "PFiles"],
        ["COMPANY", "ProgramFilesFolder", "FERNHO~1|Fernhollow"],
        ["APPDIR", "COMPANY", "HONEYS~1|Honey Scale"],
        ["DOCS", "APPDIR", "docs"],
        ["ROUND", "ABOUT", "round"],
        ["ABOUT", "ROUND", "about"],
    ] {
        row(&mut db, "Directory", &folder);
    }
    for component in [
        ["CExe", CODE, "APPDIR", "=0", "", "FExe"],
        ["CDoc", "{21234567-89AB-CDEF-0123-456789ABCDEF}", "DOCS", "=0", "", "FDoc"],
    ] {
        row(&mut db, "Component", &component);
    }
    for file in [
        ["FExe", "CExe", "HONEY.EXE|honey scale.exe", "=5", "3.1.0.0", "1033", "=512", "=1"],
        ["FDoc", "CDoc", "manual.txt", "=4", "", "", "=512", "=2"],
        ["FOut", "CDoc", "..\\..\\evil.txt", "=4", "", "", "=512", "=3"],
    ] {
        row(&mut db, "File", &file);
    }
    row(&mut db, "Feature", &["All", "", "All of it", "", "=1", "=1", "APPDIR", "=0"]);
    row(&mut db, "FeatureComponents", &["All", "CExe"]);
    row(&mut db, "FeatureComponents", &["All", "CDoc"]);
    row(&mut db, "Registry", &["R1", "=2", "Software\\Fernhollow\\Honey", "Scale", "#7", "CExe"]);
    row(&mut db, "Registry", &["R2", "=0", "honey\\shell\\open\\command", "", "\"[#FExe]\" \"%1\"", "CExe"]);
    let column =
        |name: &str, key| Column { name: name.into(), kind: Kind::Text(72), key, nullable: false, localizable: false };
    db.create("HoneyJars", vec![column("Jar", true), column("Label", false)]);
    row(&mut db, "HoneyJars", &["one", "lime"]);
    row(&mut db, "HoneyJars", &["two", "heather"]);
    db.summary.properties.extend([
        (summary::CODE_PAGE, Property::Short(1252)),
        (summary::TEMPLATE, Property::Text("Intel;1033".into())),
        (summary::REVISION, Property::Text(CODE.into())),
        (summary::PAGE_COUNT, Property::Long(200)),
        (summary::WORD_COUNT, Property::Long(0)),
    ]);
    db.code_page = 1252;
    db
}

fn write(folder: &Folder, name: &str, mut db: Database, cabinet: &[u8]) {
    let file = std::fs::File::options().read(true).write(true).create(true).truncate(true).open(folder.at(name));
    let mut out = CompoundWriter::new(file.expect("a file"), msi_database::write::PACKAGE_CLASS).expect("begun");
    if !cabinet.is_empty() {
        out.stream(&pack("honey.cab", false), cabinet).expect("written");
    }
    db.write(&mut out).expect("written");
    let (file, length) = out.finish().expect("finished");
    file.set_len(length).expect("cut");
}

#[test]
fn a_windows_package_of_another_make_is_understood_as_far_as_the_footprint_goes() {
    let folder = Folder::new();
    write(&folder, "honey.msi", foreign(), &[]);
    let text = folder.ok(&["inspect", "honey.msi"]);
    for said in [
        "Honey Scale 3.1.0",
        "Fernhollow Apiary Works",
        "windows-x86",
        "honey scale.exe",
        "manual.txt",
        "Software\\Fernhollow\\Honey",
        "table HoneyJars",
        "2 rows that the footprint doesn't show",
        "has a slash in it",
    ] {
        assert!(text.contains(said), "{said}\n{text}");
    }
    // The files are not in it: that is said, and nothing is made.
    let (code, said) = folder.run(&["extract", "honey.msi", "out"]);
    assert_eq!(code, 4);
    assert!(said.contains("the content of docs/manual.txt and of 1 more is missing"), "{said}");
    assert_eq!(folder.names("."), ["honey.msi"]);
    // Windows would refuse it for several reasons: all are said at once.
    let (code, said) = folder.run(&["check", "honey.msi"]);
    assert_eq!(code, 4);
    for rule in ["_Validation", "\"..\\\\..\\\\evil.txt\"", "InstallExecuteSequence"] {
        assert!(said.contains(rule), "{rule}\n{said}");
    }
}

#[test]
fn what_a_package_does_besides_and_when_is_told() {
    let folder = Folder::new();
    let mut db = foreign();
    // A script while changes are made, with the system's rights; a program only where a condition holds.
    row(&mut db, "CustomAction", &["Brew", "=3110", "", "MsgBox 1", ""]);
    row(&mut db, "CustomAction", &["SetJar", "=51", "JAR", "[APPDIR]jar", ""]);
    row(&mut db, "InstallExecuteSequence", &["Brew", "NOT Installed", "=4500"]);
    row(&mut db, "Component", &["CMaybe", "{31234567-89AB-CDEF-0123-456789ABCDEF}", "APPDIR", "=0", "HONEY = 1", ""]);
    let service =
        ["Scale", "ScaleService", "Scale", "=16", "=2", "=1", "", "Tcpip[~]Spooler[~][~]", "", "", "", "CExe", ""];
    row(&mut db, "ServiceInstall", &service);
    write(&folder, "honey.msi", db, &[]);
    let text = folder.ok(&["inspect", "honey.msi"]);
    for said in [
        "custom action Brew: runs a VBScript",
        "when changes are made, with system privileges (at 4500, if NOT Installed)",
        "custom action SetJar: sets JAR to",
        "(not while it is installed)",
        "the component CMaybe is installed: if HONEY = 1",
        "the service ScaleService needs: Tcpip Spooler",
    ] {
        assert!(text.contains(said), "{said}\n{text}");
    }
}

#[test]
fn files_that_lie_beside_a_package_are_its_own() {
    let folder = Folder::new();
    folder.write("PFiles/Fernhollow/Honey Scale/honey scale.exe", "MZ...");
    folder.write("PFiles/Fernhollow/Honey Scale/docs/manual.txt", "text");
    write(&folder, "honey.msi", foreign(), &[]);
    folder.ok(&["extract", "honey.msi", "out"]);
    assert_eq!(std::fs::read(folder.at("out/honey scale.exe")).expect("there"), b"MZ...");
    assert_eq!(std::fs::read(folder.at("out/docs/manual.txt")).expect("there"), b"text");
}

#[test]
fn files_come_out_of_cabinets_that_others_packed() {
    let folder = Folder::new();
    folder.write("FExe", "MZ...").write("FDoc", "text");
    sh(&folder, "gcab -c -z honey.cab FExe FDoc");
    let mut db = foreign();
    row(&mut db, "Media", &["=1", "=3", "", "#honey.cab", "", ""]);
    write(&folder, "inside.msi", db, &std::fs::read(folder.at("honey.cab")).expect("a cabinet"));
    let mut db = foreign();
    row(&mut db, "Media", &["=1", "=3", "", "honey.cab", "", ""]);
    write(&folder, "beside.msi", db, &[]);
    for package in ["inside.msi", "beside.msi"] {
        let out = format!("out-{package}");
        folder.ok(&["extract", package, &out]);
        assert_eq!(std::fs::read(folder.at(&out).join("honey scale.exe")).expect("there"), b"MZ...");
        assert_eq!(std::fs::read(folder.at(&out).join("docs/manual.txt")).expect("there"), b"text");
        assert_eq!(folder.names(&out), ["docs", "honey scale.exe"]);
    }
    let (code, text) = folder.run(&["compare", "inside.msi", "beside.msi"]);
    assert_eq!(code, 0, "{text}");
    // A cabinet's name that leads elsewhere is not followed.
    for name in ["..\\honey.cab", "../honey.cab", "C:honey.cab"] {
        let mut db = foreign();
        row(&mut db, "Media", &["=1", "=3", "", name, "", ""]);
        write(&folder, "bad.msi", db, &[]);
        let (code, text) = folder.run(&["extract", "bad.msi", "out"]);
        assert_eq!(code, 4, "{name}");
        assert!(text.contains("leads out of the package's folder"), "{text}");
    }
}

#[test]
fn a_cabinet_and_an_archive_without_folders_show_the_folders_that_files_are_in() {
    let folder = tree();
    sh(&folder, "cd tree/top && zip -qrD ../../flat.zip . && gcab -c -z ../../some.cab readme.txt bin/run data/*");
    for package in ["flat.zip", "some.cab"] {
        let text = folder.ok(&["inspect", "--contents", package]);
        assert!(text.contains("├─ bin/") && text.contains("1 file, ") && text.contains("│  └─ run "), "{text}");
        folder.ok(&["check", package]);
        let out = format!("out-{package}");
        folder.ok(&["extract", package, &out]);
        sh(&folder, &format!("diff tree/top/readme.txt '{out}/readme.txt' && diff -r tree/top/data '{out}/data'"));
    }
    // Flipped, it is damaged and nothing else.
    let mut bytes = std::fs::read(folder.at("some.cab")).expect("read");
    let end = bytes.len() - 9;
    bytes[end] ^= 0x40;
    folder.write("flipped.cab", &bytes).write("short.cab", &bytes[..50]);
    for name in ["flipped.cab", "short.cab"] {
        let (code, text) = folder.run(&["check", name]);
        assert!(code == 4 && text.contains("is damaged"), "{name}: {text}");
    }
}

#[test]
fn a_program_for_windows_that_is_no_package_says_what_it_is() {
    let folder = Folder::new();
    let package = crate::common::demo_package("Combwright-2.4.0-windows-x64.msi");
    folder.ok(&["extract", package.to_str().expect("UTF-8"), "out"]);
    let text = folder.ok(&["inspect", "out/combwright.exe"]);
    for part in [
        "Combwright 2.4.0",
        "publisher    Fernhollow Apiary Works",
        "platform     windows-x64",
        "combwright: combwright.exe",
        "libraries: gdi32.dll, kernel32.dll",
        "signature: present",
        "signed by “Fernhollow Apiary Works (TEST ONLY)”",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    folder.ok(&["check", "out/combwright.exe"]);
    let bytes = std::fs::read(folder.at("out/combwright.exe")).expect("read");
    folder.write("short.exe", &bytes[..bytes.len() / 2]);
    let (code, text) = folder.run(&["inspect", "short.exe"]);
    assert!(code == 4 && text.contains("is damaged"), "{text}");
}

#[test]
fn what_is_no_package_is_refused_with_what_would_be_one() {
    let folder = Folder::new();
    folder
        .write("empty", "")
        .write("text", "just text\n")
        .write("elf", &std::fs::read("/bin/true").expect("a program")[..]);
    folder.write("noise", test_support::noise(9, 10_000)).write("gzip.gz", {
        let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut out, &test_support::noise(4, 5000)).expect("written");
        out.finish().expect("finished")
    });
    for name in ["empty", "text", "elf", "noise"] {
        for command in
            [vec!["inspect", name], vec!["check", name], vec!["extract", name, "out"], vec!["compare", name, name]]
        {
            let (code, text) = folder.run(&command);
            assert_eq!(code, 4, "{command:?}: {text}");
            assert!(
                text.contains("isn't a package of a known format") && text.contains("an AppImage, an MSI"),
                "{text}"
            );
        }
    }
    // Packed, but no archive in it.
    let (code, text) = folder.run(&["inspect", "gzip.gz"]);
    assert_eq!(code, 4, "{text}");
    assert!(!folder.at("out").exists());
}
