//! Hives that are written here and read by others, hives of others that are read here, and whatever is wrong with one.

use proptest::prelude::*;
use registry_hive::{Key, Limits, Options, Value, check, kind, read, read_within, text, texts, write};
use std::path::Path;
use std::process::Command;
use test_support::python;

/// Every kind of value, long ones, odd names, and more keys than one list holds.
fn sample(many: usize) -> Key {
    let mut root = Key::new("ROOT");
    let product = root.make(&["REGISTRY", "MACHINE", "SOFTWARE", "Fernhollow", "Combwright"]);
    for (n, data) in [b"".to_vec(), text("plain"), text("%ProgramFiles%\\x"), (0..=255).collect(), vec![7, 0, 0, 0]]
        .into_iter()
        .chain([
            vec![0, 0, 0, 7],
            text("link"),
            texts(&["a", "b"]),
            vec![1; 9],
            vec![2],
            vec![3; 3],
            vec![0, 0, 0, 0, 0, 1, 0, 0],
        ])
        .enumerate()
    {
        product.values.push(Value::new(&format!("t{n}"), n as u32, data));
    }
    for length in [4, 5, 16_344, 16_345, 50_000] {
        let data = (0..length).map(|n| (n % 251) as u8).collect();
        product.values.push(Value::new(&format!("b{length}"), kind::BINARY, data));
    }
    for name in ["", "Ünï", "日本語", &"e".repeat(255)] {
        product.values.push(Value::new(name, kind::SZ, text(name)));
    }
    for name in ["日本", "ZZ", "aa", "_under", "Straße", "ÄÖ"] {
        product.make(&[name]);
    }
    for n in 0..many {
        let key = product.make(&["Many", &format!("k{n:05}")]);
        key.values.push(Value::new("i", kind::DWORD, (n as u32).to_le_bytes().to_vec()));
    }
    root
}

/// A tree as judges list it.
fn listed(key: &Key, path: &str, out: &mut Vec<serde_json::Value>) {
    let here = if path.is_empty() { key.name.clone() } else { format!("{path}\\{}", key.name) };
    let hexadecimal = |data: &[u8]| data.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let mut values: Vec<(String, u32, String)> =
        key.values.iter().map(|value| (value.name.clone(), value.kind, hexadecimal(&value.data))).collect();
    values.sort();
    out.push(serde_json::json!([here, values]));
    key.keys.iter().for_each(|key| listed(key, &here, out));
}

/// A key as listed; for the reader that has its own way with them, without the bytes of short values.
fn without_short(key: &serde_json::Value, reader: &str) -> serde_json::Value {
    let mut key = key.clone();
    for value in key[1].as_array_mut().into_iter().flatten().filter(|_| reader == "python-registry") {
        if value[2].as_str().is_some_and(|digits| digits.len() <= 8) {
            value[2] = "short".into();
        }
    }
    key
}

fn judged(reader: &str, file: &Path) -> Vec<serde_json::Value> {
    let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judge.py");
    let out = Command::new(python()).arg(judge).arg(reader).arg(file).output().expect("`./test` installs the judges");
    assert!(out.status.success(), "{reader}: {}", String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).expect("JSON")
}

#[test]
fn others_read_what_is_written() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("Registry.dat");
    let root = sample(1300);
    let bytes =
        write(&root, &Options { time: 0x01DB_0000_0000_0000, file_name: "Registry.dat".into() }).expect("written");
    std::fs::write(&file, &bytes).expect("written");
    assert_eq!(check(&bytes).expect("read"), Vec::<String>::new());
    assert_eq!(read(&bytes).expect("read"), root);
    let mut ours = Vec::new();
    listed(&root, "", &mut ours);
    for reader in ["dissect", "python-registry"] {
        let theirs = judged(reader, &file);
        assert_eq!(theirs.len(), ours.len(), "{reader}");
        for (theirs, ours) in theirs.iter().zip(&ours) {
            // One of them gives four bytes for every shorter value.
            assert_eq!(without_short(theirs, reader), without_short(ours, reader), "{reader}");
        }
    }
    let xml = Command::new("hivexml").arg(&file).output().expect("`./test` installs it");
    assert!(xml.status.success(), "{}", String::from_utf8_lossy(&xml.stderr));
    let xml = String::from_utf8_lossy(&xml.stdout).into_owned();
    assert_eq!(xml.matches("<node ").count(), ours.len());
    // The same tree in another order gives the same bytes.
    let mut turned = root.clone();
    turned.make(&["REGISTRY", "MACHINE", "SOFTWARE", "Fernhollow", "Combwright"]).keys.reverse();
    assert!(
        bytes
            == write(&turned, &Options { time: 0x01DB_0000_0000_0000, file_name: "Registry.dat".into() })
                .expect("written")
    );
}

#[test]
fn what_others_write_is_read() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("hive");
    std::fs::write(&file, write(&Key::new("ROOT"), &Options::default()).expect("written")).expect("written");
    let words = "Windows Registry Editor Version 5.00\n\n[\\Software]\n\n[\\Software\\Fernhollow]\n\"Edition\"=\"Honey\"\n\
                 \"Frames\"=dword:0000000c\n@=\"default\"\n\"Raw\"=hex(3):01,02,03,04,05,06,07\n\n[\\Software\\Wax]\n";
    std::fs::write(folder.path().join("in.reg"), words).expect("written");
    let merge = Command::new("hivexregedit").args(["--merge", "hive", "in.reg"]).current_dir(folder.path()).output();
    let merge = merge.expect("`./test` installs it");
    assert!(merge.status.success(), "{}", String::from_utf8_lossy(&merge.stderr));
    let root = read(&std::fs::read(&file).expect("there")).expect("read");
    let product = root.find(&["SOFTWARE", "fernhollow"]).expect("names are alike whatever their case");
    let value = |name: &str| product.values.iter().find(|value| value.name == name).expect("there");
    assert_eq!(value("Edition").text().as_deref(), Some("Honey"));
    assert_eq!((value("Frames").number(), value("").text().as_deref()), (Some(12), Some("default")));
    assert_eq!(value("Raw").data, [1, 2, 3, 4, 5, 6, 7]);
    assert!(root.find(&["Software", "Wax"]).is_some() && root.find(&["Software", "Hive"]).is_none());
}

/// Where the first record of a kind stands.
fn place(bytes: &[u8], letters: &[u8; 2]) -> usize {
    (4096 + 36..bytes.len()).step_by(8).find(|at| bytes[*at..].starts_with(letters)).expect("there is one")
}

#[test]
fn whatever_is_wrong_is_told() {
    let good = write(&sample(700), &Options::default()).expect("written");
    let (key, list, security) = (place(&good, b"nk"), place(&good, b"lh"), place(&good, b"sk"));
    let second = (key + 8..good.len()).step_by(8).find(|at| good[*at..].starts_with(b"nk")).expect("another key");
    for (what, at, said) in [
        ("the checksum", 508, "the checksum of its first block is wrong"),
        ("a counter", 4, "its two counters differ"),
        ("where a bin is", 4096 + 4, "says that it is elsewhere"),
        ("the hash of a name", list + 8, "the hash of"),
        ("the key above", second + 16, "names another key as the one above it"),
        ("how many name a descriptor", security + 12, "is named by"),
        ("a descriptor", security + 20, "is malformed"),
        ("the next descriptor", security + 4, "has neighbours that no key names"),
        ("the longest name", second + 52, "are shorter than they are"),
        ("the marks of the first key", key + 2, "is wrongly marked as the first key"),
    ] {
        let mut bad = good.clone();
        bad[at] ^= if what.contains("longest") { bad[at] } else { 4 };
        let found = check(&bad).unwrap_or_else(|e| vec![e.to_string()]);
        assert!(found.iter().any(|one| one.contains(said)), "{what}: {found:?}");
    }
    let behind = [&good[..], b"more"].concat();
    assert_eq!(check(&behind).expect("read"), ["something stands behind its last bin"]);
    // A record that nobody names, and one that is named twice.
    let mut bad = good.clone();
    let count = u32::from_le_bytes(bad[second + 20..second + 24].try_into().expect("four"));
    assert!(count > 0);
    bad[second + 20..second + 24].fill(0);
    assert!(check(&bad).expect("read").iter().any(|one| one.starts_with("nothing names the record at")));
    for (what, bytes) in [("nothing", &b""[..]), ("a text", b"regfregf"), ("half", &good[..5000])] {
        assert!(read(bytes).is_err() && check(bytes).is_err(), "{what}");
    }
    let few = read_within(&good, Limits { items: 100, bytes: 1 << 20 });
    assert!(few.expect_err("too many").to_string().contains("more keys, values or bytes"));
}

#[test]
fn names_that_a_hive_can_not_hold_are_refused() {
    let with = |change: &dyn Fn(&mut Key)| {
        let mut root = Key::new("ROOT");
        change(&mut root);
        write(&root, &Options::default()).map(drop).map_err(|e| e.to_string())
    };
    for (change, said) in [
        (&(|root: &mut Key| _ = root.make(&["a\\b"])) as &dyn Fn(&mut Key), "can't be the name of a key"),
        (&|root| _ = root.make(&[""]), "can't be the name of a key"),
        (&|root| _ = root.make(&[&"k".repeat(256)]), "has 256 letters, more than 255"),
        (&|root| root.keys = vec![Key::new("Wax"), Key::new("wax")], "two keys below \"ROOT\" have the same name"),
        (&|root| root.values = vec![Value::new("a", 3, vec![]), Value::new("A", 3, vec![])], "two values of \"ROOT\""),
        (&|root| _ = root.make(&vec!["deep"; 600]), "more than 512 deep"),
    ] {
        let e = with(change).expect_err(said);
        assert!(e.contains(said), "{e}");
    }
    assert_eq!(with(&|root| _ = root.make(&["k".repeat(255).as_str()])), Ok(()));
}

fn value() -> impl Strategy<Value = Value> {
    (".{0,20}", 0u32..12, prop::collection::vec(any::<u8>(), 0..40)).prop_map(|(name, kind, data)| Value {
        name,
        kind,
        data,
    })
}

fn tree() -> impl Strategy<Value = Key> {
    let leaf = ("[^\\\\\u{0}]{1,12}", prop::collection::vec(value(), 0..4));
    let leaf = leaf.prop_map(|(name, values)| Key { name, values, keys: Vec::new() });
    leaf.prop_recursive(4, 60, 6, |inner| {
        ("[^\\\\\u{0}]{1,12}", prop::collection::vec(inner, 0..6)).prop_map(|(name, keys)| Key {
            name,
            values: Vec::new(),
            keys,
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_tree_comes_back_and_breaks_no_rule(root in tree()) {
        if let Ok(bytes) = write(&root, &Options::default()) {
            prop_assert_eq!(check(&bytes).expect("read"), Vec::<String>::new());
            let back = read(&bytes).expect("read");
            prop_assert_eq!(write(&back, &Options::default()).expect("written"), bytes);
            let (mut before, mut after) = (Vec::new(), Vec::new());
            listed(&root, "", &mut before);
            listed(&back, "", &mut after);
            before.sort_by_key(|one| one.to_string());
            after.sort_by_key(|one| one.to_string());
            prop_assert_eq!(before, after);
        }
    }

    #[test]
    fn any_bytes_are_answered(at in 4000usize..9000, byte: u8, more: u8) {
        let mut bytes = write(&sample(20), &Options::default()).expect("written");
        let length = bytes.len();
        bytes[at % length] = byte;
        bytes[(at * 31) % length] ^= more;
        let _ = (read(&bytes), check(&bytes));
    }
}
