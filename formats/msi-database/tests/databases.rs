//! Databases written here are read back by us and listed by independent judges; damaged ones are refused, and rules that
//! other readers let pass are found.

use msi_database::compound::{Compound, CompoundWriter, Limits};
use msi_database::database::{Database, Value};
use msi_database::names::pack;
use msi_database::read::{self, Package};
use msi_database::summary::{self, Property};
use msi_database::write::PACKAGE_CLASS;
use msi_database::{Error, Result, strict};
use proptest::prelude::*;
use std::io::Cursor;
use test_support::{judge, judge_says_yes, noise};

const CODE: &str = "{01234567-89AB-CDEF-0123-456789ABCDEF}";
const OTHER: &str = "{11234567-89AB-CDEF-0123-456789ABCDEF}";

/// A database of the least that can be installed.
fn least() -> Database {
    let mut db = Database::new();
    let rows: [(&str, &[&str]); 8] = [
        ("Property", &["ProductCode", CODE]),
        ("Property", &["ProductName", "Bienen-Stöcke"]),
        ("Property", &["ProductVersion", "1.2.3"]),
        ("Property", &["ProductLanguage", "1033"]),
        ("Property", &["Manufacturer", "Fernhollow Apiary Works"]),
        ("Directory", &["TARGETDIR", "", "SourceDir"]),
        ("Directory", &["HIVES", "TARGETDIR", "HIVES~1|All the hives"]),
        ("FeatureComponents", &["Main", "CHive"]),
    ];
    for (table, row) in rows {
        let row: Vec<Value> = row.iter().map(|v| db.text(v)).collect();
        db.insert(table, &row).expect("inserted");
    }
    let file = [
        db.text("FHive"),
        db.text("CHive"),
        db.text("hive.txt"),
        Value::Int(5),
        Value::Null,
        Value::Null,
        Value::Int(512),
        Value::Int(1),
    ];
    db.insert("File", &file).expect("inserted");
    let component =
        [db.text("CHive"), db.text(OTHER), db.text("HIVES"), Value::Int(256), Value::Null, db.text("FHive")];
    db.insert("Component", &component).expect("inserted");
    let feature = [
        db.text("Main"),
        Value::Null,
        db.text("All"),
        Value::Null,
        Value::Int(1),
        Value::Int(1),
        db.text("HIVES"),
        Value::Int(0),
    ];
    db.insert("Feature", &feature).expect("inserted");
    let media = [Value::Int(1), Value::Int(1), Value::Null, db.text("#files.cab"), Value::Null, Value::Null];
    db.insert("Media", &media).expect("inserted");
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
    for (n, action) in actions.iter().enumerate() {
        let row = [db.text(action), Value::Null, Value::Int(n as i32 * 100 + 100)];
        db.insert("InstallExecuteSequence", &row).expect("inserted");
    }
    db.validate_all().expect("validated");
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
fn written(mut db: Database, streams: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut out = CompoundWriter::new(Cursor::new(Vec::new()), PACKAGE_CLASS).expect("begun");
    out.stream(&pack("files.cab", false), &noise(1, 9000)).expect("written");
    for (name, bytes) in streams {
        out.stream(&pack(name, false), bytes).expect("written");
    }
    db.write(&mut out).expect("written");
    out.finish().expect("finished").0.into_inner()
}

fn read(bytes: &[u8]) -> Result<(Package, Vec<String>)> {
    let mut compound = Compound::open(Cursor::new(bytes), Limits::default())?;
    let package = read::read(&mut compound, read::Limits::default())?;
    let faults = strict::check(&compound, &package.database, &package.remarks);
    Ok((package, faults))
}

/// All rows as text.
fn dump(db: &Database) -> Vec<String> {
    let mut lines = Vec::new();
    for (name, table) in db.tables() {
        for row in table.rows() {
            let values: Vec<String> = row
                .iter()
                .map(|v| match v {
                    Value::Text(_) => format!("{:?}", db.str(*v)),
                    other => format!("{other:?}"),
                })
                .collect();
            lines.push(format!("{name}: {}", values.join(", ")));
        }
    }
    lines
}

#[test]
fn a_database_is_read_as_it_was_written_and_has_no_faults() {
    for page in [65001, 1252] {
        let mut db = least();
        db.code_page = page;
        db.summary.properties.insert(summary::CODE_PAGE, Property::Short(page as u16 as i16));
        let (package, faults) = read(&written(db.clone(), &[])).expect("read");
        assert_eq!(faults, Vec::<String>::new());
        let mut expected = db;
        expected.sort();
        assert_eq!(dump(&package.database), dump(&expected));
        assert_eq!(package.database.summary, expected.summary);
        assert_eq!(package.streams, ["files.cab"]);
    }
}

#[test]
fn long_strings_many_strings_and_many_streams_come_back() {
    let mut db = least();
    let long = "hive ".repeat(30_000);
    let row = [db.text("Long"), db.text(&long)];
    db.insert("Property", &row).expect("inserted");
    for n in 0..70_000 {
        let row = [db.text(&format!("P{n}")), db.text(&format!("value {n}"))];
        db.insert("Property", &row).expect("inserted");
    }
    let streams: Vec<(String, Vec<u8>)> = (0..300usize).map(|n| (format!("S{n}"), noise(n as u64, n * 37))).collect();
    let borrowed: Vec<(&str, Vec<u8>)> = streams.iter().map(|(n, b)| (n.as_str(), b.clone())).collect();
    let bytes = written(db, &borrowed);
    let (package, faults) = read(&bytes).expect("read");
    assert_eq!(faults, Vec::<String>::new());
    assert_eq!(package.database.property("Long"), Some(long.as_str()));
    assert_eq!(package.database.property("P69999"), Some("value 69999"));
    let mut compound = Compound::open(Cursor::new(&bytes), Limits::default()).expect("opened");
    for (name, plain) in &streams {
        assert_eq!(compound.bytes(&pack(name, false), 1 << 20).expect("read").as_ref(), Some(plain), "{name}");
    }
}

/// `7zz` lists and unpacks the streams byte for byte, and says no to a cut file.
#[test]
fn a_judge_unpacks_the_container() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("a.msi");
    let streams = [("small.bin", noise(2, 100)), ("large.bin", noise(3, 300_000))];
    let bytes = written(least(), &streams);
    std::fs::write(&path, &bytes).expect("written");
    let (package, out) = (path.to_str().expect("text"), folder.path().join("out"));
    judge_says_yes("7zz", &["x", "-tCompound", "-y", &format!("-o{}", out.display()), package]);
    for (name, plain) in &streams {
        assert!(std::fs::read(out.join(name)).expect("unpacked") == *plain, "{name}");
    }
    assert!(out.join("[5]SummaryInformation").exists() && out.join("!Property").exists());
    std::fs::write(&path, &bytes[..bytes.len() / 2]).expect("written");
    assert!(!judge("7zz", &["t", "-tCompound", package]).status.success());
}

/// One way in which a database can be wrong, and what is said of it.
type Wrong = (&'static str, fn(&mut Database));

#[test]
fn rules_that_others_let_pass_are_found() {
    let wrongs: [Wrong; 9] = [
        ("Property has two", |db| {
            let again = [db.text("ProductName"), db.text("twice")];
            db.insert("Property", &again).expect("inserted");
        }),
        ("the property UpgradeCode is no GUID in upper case", |db| {
            let row = [db.text("UpgradeCode"), db.text("{01234567-89ab-cdef-0123-456789abcdef}")];
            db.insert("Property", &row).expect("inserted");
        }),
        ("refers to \"NOWHERE\"", |db| {
            let row = [db.text("BELOW"), db.text("NOWHERE"), db.text("a")];
            db.insert("Directory", &row).expect("inserted");
        }),
        ("which is not in the form of DefaultDir", |db| {
            let row = [db.text("BELOW"), db.text("HIVES"), db.text("MUCHTOOLONG|a")];
            db.insert("Directory", &row).expect("inserted");
        }),
        ("which is not in the form of Identifier", |db| {
            let row = [db.text("a b"), db.text("c")];
            db.insert("Property", &row).expect("inserted");
        }),
        ("the sequence 1 is in no cabinet, or taken", |db| {
            let row = [
                db.text("FTwo"),
                db.text("CHive"),
                db.text("two.txt"),
                Value::Int(5),
                Value::Null,
                Value::Null,
                Value::Null,
                Value::Int(1),
            ];
            db.insert("File", &row).expect("inserted");
        }),
        ("another one has the same GUID", |db| {
            let row = [db.text("CTwo"), db.text(OTHER), db.text("HIVES"), Value::Int(256), Value::Null, Value::Null];
            db.insert("Component", &row).expect("inserted");
        }),
        ("nobody knows the action \"Fly\"", |db| {
            let row = [db.text("Fly"), Value::Null, Value::Int(77)];
            db.insert("InstallExecuteSequence", &row).expect("inserted");
        }),
        ("64-bit, in a package for Intel", |db| {
            db.summary.properties.insert(summary::TEMPLATE, Property::Text("Intel;1033".into()));
        }),
    ];
    for (said, spoil) in wrongs {
        let mut db = least();
        spoil(&mut db);
        let (_, faults) = read(&written(db, &[])).expect("read");
        let said = if said == "Property has two" {
            "the rows of Property are not in the order of their keys, or two have the same"
        } else {
            said
        };
        assert!(faults.iter().any(|f| f.contains(said)), "{said}: {faults:?}");
    }
}

#[test]
fn each_published_rule_finds_its_broken_twin() {
    fn row(db: &mut Database, table: &str, values: &[Option<std::result::Result<i32, &str>>]) {
        let row: Vec<Value> = values
            .iter()
            .map(|v| match v {
                None => Value::Null,
                Some(Ok(n)) => Value::Int(*n),
                Some(Err(text)) => db.text(text),
            })
            .collect();
        db.insert(table, &row).unwrap_or_else(|e| panic!("{table}: {e}"));
    }
    const fn t(text: &str) -> Option<std::result::Result<i32, &str>> {
        Some(Err(text))
    }
    const fn n(number: i32) -> Option<std::result::Result<i32, &'static str>> {
        Some(Ok(number))
    }
    let wrongs: [Wrong; 12] = [
        ("ICE20: the property ErrorDialog names no dialog", |db| {
            let dialog = [t("Start"), n(50), n(50), n(100), n(100), n(3), None, t("Next"), None, None];
            row(db, "Dialog", &dialog);
        }),
        ("ICE20: InstallUISequence has no dialog at -3", |db| {
            let dialog = [t("Start"), n(50), n(50), n(100), n(100), n(0x10003), None, t("Next"), None, None];
            row(db, "Dialog", &dialog);
            row(db, "Property", &[t("ErrorDialog"), t("Start")]);
        }),
        ("ICE43: no value of a person stands for the component CHive", |db| {
            let mut shortcut = vec![t("S"), t("HIVES"), t("Hive"), t("CHive"), t("[#FHive]")];
            shortcut.resize(16, None);
            row(db, "Shortcut", &shortcut);
        }),
        ("ICE57: the component CHive has what is a person's and what is the machine's", |db| {
            row(db, "Registry", &[t("R"), n(1), t("Software\\Hive"), t("a"), t("b"), t("CHive")]);
        }),
        ("ICE64: nothing takes the folder OWN in a person's own folders away", |db| {
            row(db, "Directory", &[t("LocalAppDataFolder"), t("TARGETDIR"), t(".")]);
            row(db, "Directory", &[t("OWN"), t("LocalAppDataFolder"), t("own")]);
            row(db, "Component", &[t("COwn"), None, t("OWN"), n(256), None, None]);
        }),
        ("ICE80: the component C32 of 32 bits is in ProgramFiles64Folder", |db| {
            row(db, "Directory", &[t("ProgramFiles64Folder"), t("TARGETDIR"), t(".")]);
            row(db, "Component", &[t("C32"), None, t("ProgramFiles64Folder"), n(0), None, None]);
        }),
        ("ICE80: S looks where 64-bit programs look", |db| {
            db.summary.properties.insert(summary::TEMPLATE, Property::Text("Intel;1033".into()));
            row(db, "RegLocator", &[t("S"), n(2), t("Software"), None, n(18)]);
        }),
        ("ICE82: InstallExecuteSequence: Twin and CostInitialize have the same number", |db| {
            row(db, "InstallExecuteSequence", &[t("Twin"), None, n(100)]);
        }),
        ("MsiShortcutProperty: properties of shortcuts need Windows Installer 5.0 (500), not 200", |db| {
            row(db, "MsiShortcutProperty", &[t("P"), t("S"), t("System.AppUserModel.ID"), t("hive")]);
        }),
        ("Feature: Main may be advertised", |_| {}),
        ("UIText: the tree of features has no text SelLocalLocal", |db| {
            let mut control = vec![t("Parts"), t("Tree"), t("SelectionTree"), n(0), n(0), n(9), n(9), n(3)];
            control.resize(12, None);
            row(db, "Control", &control);
        }),
        ("UIText: the tree of features has no text MenuAbsent", |db| {
            let mut control = vec![t("Parts"), t("Tree"), t("SelectionTree"), n(0), n(0), n(9), n(9), n(3)];
            control.resize(12, None);
            row(db, "Control", &control);
            row(db, "UIText", &[t("MenuLocal"), t("Install")]);
        }),
    ];
    for (said, spoil) in wrongs {
        let mut db = least();
        spoil(&mut db);
        let found = strict::ice::check(&db);
        assert!(found.iter().any(|f| f.contains(said)), "{said}: {found:?}");
        // The others say nothing of it: what is there besides is of the least database itself.
        let rule = said.split(':').next().unwrap_or_default();
        let others: Vec<&String> = found.iter().filter(|f| !f.starts_with(rule) && !f.starts_with("Feature")).collect();
        assert!(others.iter().all(|f| f.starts_with("ICE20") || f.starts_with("ICE43")), "{said}: {others:?}");
    }
    for (rule, reason) in strict::ice::ON_PURPOSE {
        assert!(rule.starts_with("ICE") && reason.len() > 40);
    }
}

#[test]
fn a_wrong_count_and_a_wrong_order_are_found() {
    let bytes = written(least(), &[]);
    let mut compound = Compound::open(Cursor::new(&bytes), Limits::default()).expect("opened");
    let pool = compound.bytes(&pack("_StringPool", true), 1 << 20).expect("read").expect("there");
    let at = bytes.windows(pool.len()).position(|w| w == pool).expect("in the file");
    let mut wrong = bytes.clone();
    wrong[at + 6] += 1;
    let (_, faults) = read(&wrong).expect("read");
    assert!(faults.iter().any(|f| f.contains("but its count says")), "{faults:?}");
}

#[test]
fn what_cannot_be_stored_is_refused() {
    let mut db = least();
    let row = [db.text("a"), Value::Null];
    assert!(matches!(db.insert("Property", &row), Err(Error::Usage(_))));
    assert!(matches!(db.insert("Nothing", &[]), Err(Error::Usage(_))));
    let row = [Value::Int(40_000), Value::Int(1), Value::Null, Value::Null, Value::Null, Value::Null];
    assert!(db.insert("Media", &row).is_err(), "a number of two bytes");
    let mut db = least();
    db.code_page = 1252;
    let row = [db.text("Bee"), db.text("蜂")];
    db.insert("Property", &row).expect("inserted");
    let mut out = CompoundWriter::new(Cursor::new(Vec::new()), PACKAGE_CLASS).expect("begun");
    assert_eq!(db.write(&mut out).expect_err("refused").to_string(), "code page 1252 can't hold \"蜂\"");
    assert!(out.stream("a name that is longer than thirty-one", &[]).is_err());
}

proptest! {
    #[test]
    fn damage_is_an_error_or_other_rows_but_never_a_crash(at in 0usize..60_000, value: u8, cut in 0usize..60_000) {
        let mut bytes = written(least(), &[]);
        let at = at % bytes.len();
        bytes[at] = value;
        let _ = read(&bytes);
        bytes.truncate(cut % bytes.len());
        let _ = read(&bytes);
    }

    #[test]
    fn rows_come_back(rows in proptest::collection::btree_map("[A-Za-z_]{1,9}", "[ -~äöü蜂]{1,40}", 0..50)) {
        let mut db = least();
        for (name, value) in &rows {
            let row = [db.text(name), db.text(value)];
            db.insert("Property", &row).expect("inserted");
        }
        let (package, _) = read(&written(db, &[])).expect("read");
        for (name, value) in &rows {
            prop_assert_eq!(package.database.property(name), Some(value.as_str()));
        }
    }
}
