//! What is written is read back, by us and by independent readers; what is damaged is refused.

use ds_store::{Alias, Error, Item, Record, Value, Window, read, write};
use proptest::prelude::*;

fn window() -> Window {
    let background = Alias {
        volume: "Hives & Frames".into(),
        volume_created: 3_872_844_800,
        path: ".background/window.tiff".into(),
        folder: 17,
        file: 18,
        created: 3_872_844_800,
    };
    Window {
        place: (300, 150),
        size: (700, 450),
        icon: 112,
        text: 13,
        background: Some(background),
        items: vec![Item::new("Applications", 520, 220), Item::new("Bienenstöcke.app", 180, 220)],
    }
}

#[test]
fn a_window_is_read_back() {
    let bytes = write(&window().records().expect("records")).expect("written");
    assert_eq!(Window::of(&read(&bytes).expect("read")).expect("a window"), window());
    let plain = Window::default();
    let bytes = write(&plain.records().expect("records")).expect("written");
    assert_eq!(Window::of(&read(&bytes).expect("read")).expect("a window"), plain);
}

#[test]
fn every_kind_of_value_is_read_back_in_order() {
    let record = |name: &str, code: &[u8; 4], value| Record { name: name.into(), code: *code, value };
    let all = [
        record(".", b"vSrn", Value::Long(7)),
        record("a", b"cmmt", Value::Text("count frames 🐝".into())),
        record("B", b"dscl", Value::Bool(true)),
        record("B", b"modD", Value::Wide(*b"dutc", 1 << 40)),
        record("c", b"fwi0", Value::Blob(vec![1, 2, 3])),
        record("d", b"fwsw", Value::Short(9)),
        record("d", b"vstl", Value::Type(*b"icnv")),
    ];
    let shuffled: Vec<Record> = all.iter().rev().cloned().collect();
    assert_eq!(read(&write(&shuffled).expect("written")).expect("read"), all);
    assert!(matches!(write(&[all[0].clone(), all[0].clone()]), Err(Error::Usage(_))));
    let long = record("x", b"cmmt", Value::Text("x".repeat(3000)));
    assert!(matches!(write(&[long]), Err(Error::Limit(_))));
}

#[cfg(unix)]
#[test]
fn independent_readers_agree() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("store");
    std::fs::write(&path, write(&window().records().expect("records")).expect("written")).expect("written");
    let script = r#"
import sys
from ds_store import DSStore
from mac_alias import Alias
with DSStore.open(sys.argv[1], 'r') as d:
    for e in d:
        print(e.filename, e.code, e.type if isinstance(e.type, bytes) else getattr(e.type, '__name__', e.type))
    print(d['.']['bwsp']['WindowBounds'], d['.']['icvp']['iconSize'], d['.']['icvp']['textSize'], d['Applications']['Iloc'])
    a = Alias.from_bytes(d['.']['icvp']['backgroundImageAlias'])
    print(a.volume.name, a.volume.creation_date, a.target.posix_path, a.target.folder_cnid, a.target.cnid, a.target.carbon_path)
"#;
    let python = test_support::python();
    let said = test_support::judge_says_yes(&python, &["-c", script, path.to_str().expect("text")]);
    insta::assert_snapshot!(said, @r"
    . b'bwsp' PlistCodec
    . b'icvl' b'type'
    . b'icvp' PlistCodec
    . b'vSrn' b'long'
    Applications b'Iloc' ILocCodec
    Bienenstöcke.app b'Iloc' ILocCodec
    {{300, 150}, {700, 478}} 112.0 13.0 (520, 220)
    Hives & Frames 2026-09-21 14:13:20+00:00 /.background/window.tiff 17 18 b'Hives & Frames:.background:window.tiff'
    ");
}

proptest! {
    #[test]
    fn damaged_files_give_data_or_an_error(places in proptest::collection::vec((0usize..8000, any::<u8>()), 1..8), cut in 0usize..16_000) {
        let mut bytes = write(&window().records().expect("records")).expect("written");
        for (at, byte) in places {
            bytes[at] = byte;
        }
        bytes.truncate(cut);
        if let Ok(records) = read(&bytes) {
            let _ = Window::of(&records);
        }
        let mut alias = window().background.expect("one").bytes();
        let at = cut % alias.len();
        alias[at] = cut as u8;
        alias.truncate(cut % 400);
        let _ = Alias::read(&alias);
    }
}
