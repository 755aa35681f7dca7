//! Databases written here are read back by us and listed by independent judges; damaged ones are refused, and rules that
//! other readers let pass are found.

mod common;

use common::{least, read, written};
use msi_database::compound::{Compound, CompoundWriter, Limits};
use msi_database::database::{Database, Value};
use msi_database::names::pack;
use msi_database::signature;
use msi_database::summary::{self, Property};
use msi_database::write::PACKAGE_CLASS;
use msi_database::{Error, check};
use proptest::prelude::*;
use std::io::Cursor;
use test_support::{judge, judge_says_yes, noise};

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
        let (package, findings) = read(&written(db.clone(), &[])).expect("read");
        assert_eq!(findings, Vec::<String>::new());
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
    let (package, findings) = read(&bytes).expect("read");
    assert_eq!(findings, Vec::<String>::new());
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
        ("ICE20: the property ErrorDialog doesn't name a dialog", |db| {
            let dialog = [t("Start"), n(50), n(50), n(100), n(100), n(3), None, t("Next"), None, None];
            row(db, "Dialog", &dialog);
        }),
        ("ICE20: InstallUISequence has no dialog at -3", |db| {
            let dialog = [t("Start"), n(50), n(50), n(100), n(100), n(0x10003), None, t("Next"), None, None];
            row(db, "Dialog", &dialog);
            row(db, "Property", &[t("ErrorDialog"), t("Start")]);
        }),
        ("ICE43: the component CHive of the shortcut S has no per-user value", |db| {
            let mut shortcut = vec![t("S"), t("HIVES"), t("Hive"), t("CHive"), t("[#FHive]")];
            shortcut.resize(16, None);
            row(db, "Shortcut", &shortcut);
        }),
        ("ICE57: the component CHive mixes per-user and per-machine data", |db| {
            row(db, "Registry", &[t("R"), n(1), t("Software\\Hive"), t("a"), t("b"), t("CHive")]);
        }),
        ("ICE64: nothing removes the folder OWN from a user's own folders", |db| {
            row(db, "Directory", &[t("LocalAppDataFolder"), t("TARGETDIR"), t(".")]);
            row(db, "Directory", &[t("OWN"), t("LocalAppDataFolder"), t("own")]);
            row(db, "Component", &[t("COwn"), None, t("OWN"), n(256), None, None]);
        }),
        ("ICE80: the component C32 of 32 bits is in ProgramFiles64Folder", |db| {
            row(db, "Directory", &[t("ProgramFiles64Folder"), t("TARGETDIR"), t(".")]);
            row(db, "Component", &[t("C32"), None, t("ProgramFiles64Folder"), n(0), None, None]);
        }),
        ("ICE80: S searches the 64-bit registry", |db| {
            db.summary.properties.insert(summary::TEMPLATE, Property::Text("Intel;1033".into()));
            row(db, "RegLocator", &[t("S"), n(2), t("Software"), None, n(18)]);
        }),
        ("ICE82: InstallExecuteSequence: Twin and CostInitialize have the same number", |db| {
            row(db, "InstallExecuteSequence", &[t("Twin"), None, n(100)]);
        }),
        ("MsiShortcutProperty: shortcut properties need Windows Installer 5.0 (500), not 200", |db| {
            row(db, "MsiShortcutProperty", &[t("P"), t("S"), t("System.AppUserModel.ID"), t("hive")]);
        }),
        ("Feature: Main may be advertised", |_| {}),
        ("UIText: the feature tree has no text SelLocalLocal", |db| {
            let mut control = vec![t("Parts"), t("Tree"), t("SelectionTree"), n(0), n(0), n(9), n(9), n(3)];
            control.resize(12, None);
            row(db, "Control", &control);
        }),
        ("UIText: the feature tree has no text MenuAbsent", |db| {
            let mut control = vec![t("Parts"), t("Tree"), t("SelectionTree"), n(0), n(0), n(9), n(9), n(3)];
            control.resize(12, None);
            row(db, "Control", &control);
            row(db, "UIText", &[t("MenuLocal"), t("Install")]);
        }),
    ];
    for (said, spoil) in wrongs {
        let mut db = least();
        spoil(&mut db);
        let found = check::ice::check(&db);
        assert!(found.iter().any(|f| f.contains(said)), "{said}: {found:?}");
        // The others say nothing of it: what is there besides is of the least database itself.
        let rule = said.split(':').next().unwrap_or_default();
        let others: Vec<&String> = found.iter().filter(|f| !f.starts_with(rule) && !f.starts_with("Feature")).collect();
        assert!(others.iter().all(|f| f.starts_with("ICE20") || f.starts_with("ICE43")), "{said}: {others:?}");
    }
    for (rule, reason) in check::ice::ON_PURPOSE {
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
    let (_, findings) = read(&wrong).expect("read");
    assert!(findings.iter().any(|f| f.contains("but its count says")), "{findings:?}");
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

/// A compound file with streams of these sizes, signed by a signature of that many bytes: anew, and in place.
fn signed_both_ways(sizes: &[usize], signature: usize) -> (Vec<u8>, Vec<u8>) {
    let mut writer = CompoundWriter::new(Cursor::new(Vec::new()), PACKAGE_CLASS).expect("begun");
    for (n, size) in sizes.iter().enumerate() {
        writer.stream(&format!("stream {n}"), &noise(n as u64, *size)).expect("written");
    }
    let plain = writer.finish().expect("written").0.into_inner();
    let (message, directory) = (noise(99, signature), noise(98, 32));
    let open = |bytes: &[u8]| Compound::open(Cursor::new(bytes.to_vec()), Limits::default()).expect("read");
    let anew = signature::put(&mut open(&plain), Cursor::new(Vec::new()), Some((&message, &directory)));
    let mut file = Cursor::new(plain.clone());
    let length = signature::put_in_place(&mut open(&plain), &mut file, (&message, &directory)).expect("signed");
    let mut in_place = file.into_inner();
    in_place.truncate(length.expect("it was written here") as usize);
    (anew.expect("signed").into_inner(), in_place)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..Default::default() })]
    #[test]
    fn a_package_that_is_signed_in_place_is_what_it_is_written_anew(
        sizes in prop::collection::vec(prop_oneof![0..200usize, 3_900..4_300usize, 4_000..30_000usize], 0..12),
        signature in prop_oneof![1..4_000usize, 4_090..4_100usize, 4_000..12_000usize],
    ) {
        let (anew, in_place) = signed_both_ways(&sizes, signature);
        prop_assert!(anew == in_place);
        let mut again = Compound::open(Cursor::new(in_place), Limits::default()).expect("read");
        let found = signature::signature(&mut again).expect("read").expect("there");
        prop_assert_eq!((found.message.len(), found.directory), (signature, Some(noise(98, 32))));
    }
}

#[test]
fn a_package_that_others_laid_out_is_not_signed_in_place() {
    // Two streams whose places are exchanged: what a tool does that fills gaps.
    let mut writer = CompoundWriter::new(Cursor::new(Vec::new()), PACKAGE_CLASS).expect("begun");
    writer.stream("first", &noise(1, 5_000)).expect("written");
    writer.stream("second", &noise(2, 5_000)).expect("written");
    let mut bytes = writer.finish().expect("written").0.into_inner();
    let name: Vec<u8> = "first".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let entry = bytes.windows(name.len()).position(|window| window == name).expect("there");
    // It begins with the second stream now: there is a gap before it.
    bytes[entry + 116] = 2;
    let before = bytes.clone();
    let mut package = Compound::open(Cursor::new(bytes.clone()), Limits::default()).expect("read");
    let mut file = Cursor::new(bytes);
    let done = signature::put_in_place(&mut package, &mut file, (b"message", b"directory")).expect("read");
    assert!(done.is_none() && file.into_inner() == before);
}
