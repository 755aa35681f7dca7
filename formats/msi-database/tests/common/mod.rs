//! The least that can be installed, as a database and as a file.

use msi_database::Result;
use msi_database::check;
use msi_database::compound::{Compound, CompoundWriter, Limits};
use msi_database::database::Database;
use msi_database::names::pack;
use msi_database::read::{self, Package};
use msi_database::rows::{
    Component, Directory, Feature, FeatureComponents, File, InstallExecuteSequence, Media, Property as Row,
};
use msi_database::summary::{self, Property};
use msi_database::write::PACKAGE_CLASS;
use std::io::Cursor;
use test_support::noise;

pub const CODE: &str = "{01234567-89AB-CDEF-0123-456789ABCDEF}";
pub const OTHER: &str = "{11234567-89AB-CDEF-0123-456789ABCDEF}";

/// A database of the least that can be installed.
#[allow(dead_code, reason = "not every test file needs all of it")]
pub fn least() -> Database {
    let mut db = least_without("");
    db.validate_all().expect("validated");
    db
}

/// The same without a property or an action, and before its columns are described.
pub fn least_without(name: &str) -> Database {
    let mut db = Database::new();
    let mut add = || -> Result<()> {
        let properties = [
            ("ProductCode", CODE),
            ("ProductName", "Bienen-Stöcke"),
            ("ProductVersion", "1.2.3"),
            ("ProductLanguage", "1033"),
            ("Manufacturer", "Fernhollow Apiary Works"),
        ];
        for (property, value) in properties.into_iter().filter(|(property, _)| *property != name) {
            db.add(&Row { property, value })?;
        }
        db.add(&Directory { directory: "TARGETDIR", directory_parent: "", default_dir: "SourceDir" })?;
        let names = "HIVES~1|All the hives";
        db.add(&Directory { directory: "HIVES", directory_parent: "TARGETDIR", default_dir: names })?;
        db.add(&FeatureComponents { feature: "Main", component: "CHive" })?;
        let (file, component) = ("FHive", "CHive");
        db.add(&File {
            file,
            component,
            file_name: "hive.txt",
            file_size: 5,
            attributes: Some(512),
            sequence: 1,
            ..File::default()
        })?;
        db.add(&Component {
            component,
            component_id: OTHER,
            directory: "HIVES",
            attributes: 256,
            key_path: file,
            ..Component::default()
        })?;
        db.add(&Feature {
            feature: "Main",
            title: "All",
            display: Some(1),
            level: 1,
            directory: "HIVES",
            ..Feature::default()
        })?;
        db.add(&Media { disk_id: 1, last_sequence: 1, cabinet: "#files.cab", ..Media::default() })?;
        let actions = [
            "CostInitialize",
            "FileCost",
            "CostFinalize",
            "InstallValidate",
            "InstallInitialize",
            "ProcessComponents",
            "InstallFiles",
            "RegisterProduct",
            "InstallFinalize",
        ];
        for (n, action) in (1..).zip(actions).filter(|(_, action)| *action != name) {
            db.add(&InstallExecuteSequence { action, condition: "", sequence: Some(n * 100) })?;
        }
        Ok(())
    };
    add().expect("added");
    db.summary.properties.extend([
        (summary::CODE_PAGE, Property::Short(65001u16 as i16)),
        (summary::TITLE, Property::Text("Installation Database".into())),
        (summary::TEMPLATE, Property::Text("x64;1033".into())),
        (summary::REVISION, Property::Text(CODE.into())),
        (summary::CREATED, Property::Time(summary::file_time(1_767_225_600))),
        (summary::PAGE_COUNT, Property::Long(200)),
        (summary::WORD_COUNT, Property::Long(2)),
    ]);
    db
}

/// As a file, with a cabinet's stream and further ones.
pub fn written(mut db: Database, streams: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut out = CompoundWriter::new(Cursor::new(Vec::new()), PACKAGE_CLASS).expect("begun");
    out.stream(&pack("files.cab", false), &noise(1, 9000)).expect("written");
    for (name, bytes) in streams {
        out.stream(&pack(name, false), bytes).expect("written");
    }
    db.write(&mut out).expect("written");
    out.finish().expect("finished").0.into_inner()
}

pub fn read(bytes: &[u8]) -> Result<(Package, Vec<String>)> {
    let mut compound = Compound::open(Cursor::new(bytes), Limits::default())?;
    let package = read::read(&mut compound, read::Limits::default())?;
    let findings = check::check(&compound, &package.database, &package.remarks);
    Ok((package, findings))
}
