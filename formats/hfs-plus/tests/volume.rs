//! What is written is read back; what is damaged is noticed; what is hostile is refused.

mod common;

use common::*;
use hfs_plus::Error;
use hfs_plus::read::{Kind, Limits, Volume};
use hfs_plus::write::{Builder, Meta, Options};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn some() -> Vec<(String, Vec<u8>)> {
    let file = |n: usize| (format!("{:02}/frame {n}.txt", n % 7), test_support::prose(n as u64, n * 37 % 9000));
    (0..300).map(file).chain([("Bienenstöcke 🐝".into(), vec![7; 4096]), ("empty".into(), Vec::new())]).collect()
}

#[test]
fn what_is_written_is_read_back_and_the_same_input_gives_the_same_bytes() {
    let volume = volume_of(&some(), options());
    assert!(volume == volume_of(&some(), options()));
    let volume = open(volume);
    assert_eq!(findings(&volume), Vec::<String>::new());
    assert_eq!(volume.name().expect("a name"), "Hives");
    let read: BTreeMap<String, Vec<u8>> = told(&volume).into_iter().collect();
    let stored = |p: &str| hfs_plus::name::shown(&hfs_plus::name::stored(p).expect("a name"));
    for (path, bytes) in some() {
        let path = path.split('/').map(stored).collect::<Vec<_>>().join("/");
        assert!(read[&path] == bytes, "{path}");
    }
    assert_eq!(read.len(), some().len());
}

#[test]
fn links_modes_times_and_attributes_are_read_back() {
    let mut builder = Builder::new("Hives", Options { opens: true, ..options() }).expect("a name");
    let meta = Meta { mode: 0o4750, owner: 501, group: 20, time: TIME, ..Meta::default() };
    let folder = builder.folder("a", meta).expect("added");
    builder.link("a/link", "../b: c", meta).expect("added");
    builder
        .file("a/.VolumeIcon.icns", 3, Meta { finder: hfs_plus::structs::finder::INVISIBLE, ..meta })
        .expect("added");
    builder.attribute(folder, "org.example.one", b"1").expect("added");
    builder.has_icon();
    let mut writer = builder.lay_out().expect("laid out").write(Vec::new()).expect("begun");
    writer.data(b"abc").expect("written");
    let volume = open(writer.finish().expect("finished"));
    assert_eq!(findings(&volume), Vec::<String>::new());
    let all = volume.entries().expect("entries");
    assert_eq!(all.iter().map(|e| e.path.as_str()).collect::<Vec<_>>(), ["a", "a/.VolumeIcon.icns", "a/link"]);
    for entry in &all {
        let p = entry.permissions();
        assert_eq!((p.mode.get() & 0o7777, p.owner.get(), p.group.get()), (0o4750, 501, 20), "{}", entry.path);
        assert_eq!(entry.time(), i64::from(TIME));
    }
    assert!(matches!(&all[2].kind, Kind::Link(_, target) if target == "../b: c"));
    assert_eq!(volume.attributes().expect("attributes")[&folder]["org.example.one"], b"1");
    assert_eq!(volume.header().finder[2].get(), 2, "its window opens");
}

#[test]
fn names_that_are_one_to_the_format_are_refused_with_both() {
    for (a, b) in [("Hive", "hive"), ("Ä", "A\u{308}"), ("a\u{200B}b", "a\u{200B}B"), ("x\u{FEFF}", "X")] {
        let mut builder = Builder::new("V", options()).expect("a name");
        builder.file(a, 0, file(0o644)).expect("added");
        builder.file(b, 0, file(0o644)).expect("added");
        let Err(Error::Usage(why)) = builder.lay_out().map(|_| ()) else { panic!("{a} and {b} were taken") };
        assert!(why.contains("are the same name to HFS+"), "{why}");
    }
    let mut builder = Builder::new("V", options()).expect("a name");
    assert!(builder.file("not/there", 0, file(0o644)).is_err());
    assert!(builder.attribute(2, "a", &[0; 4000]).is_err());
    assert!(Builder::new(&"v".repeat(256), options()).is_err());
}

#[test]
fn bytes_too_many_or_too_few_are_refused() {
    let begin = || {
        let mut builder = Builder::new("V", options()).expect("a name");
        builder.file("a", 5000, file(0o644)).expect("added");
        builder.lay_out().expect("laid out").write(Vec::new()).expect("begun")
    };
    let mut writer = begin();
    writer.data(&[1; 4999]).expect("written");
    assert!(matches!(writer.finish(), Err(Error::Usage(_))));
    assert!(matches!(begin().data(&[1; 5001]), Err(Error::Usage(_))));
}

#[test]
fn the_checker_sees_what_was_changed_by_hand() {
    let volume = volume_of(&some(), options());
    let end = volume.len();
    let catalog = open(volume.clone()).header().catalog.extents[0].start.get() as usize * 4096;
    let cases: [(usize, &[u8], &str); 9] = [
        (1024 + 48, &[0, 0, 0, 9], "free blocks"),
        (1024 + 32, &[0, 0, 0, 9], "files: 9 is declared"),
        (1024 + 64, &[0, 0, 0, 17], "which the header declares free"),
        (end - 1024 + 20, &[1], "its copy at the end differ"),
        (4096 + 2, &[0], "the bitmap is wrong for block 16"),
        (catalog + 14 + 6, &[0, 0, 0, 1], "records in leaves"),
        (catalog + 248, &[0xFE], "the map is wrong for node 7"),
        (catalog + 8192, &[0, 0, 0, 9], "isn't linked"),
        (1024 + 4, &[0, 0, 0, 0], "not unmounted cleanly"),
    ];
    for (at, bytes, said) in cases {
        let mut bad = volume.clone();
        bad[at..at + bytes.len()].copy_from_slice(bytes);
        let found = findings(&open(bad)).join("\n");
        assert!(found.contains(said), "{said}:\n{found}");
    }
    let mut bad = volume.clone();
    // A capital in the place of a small letter sorts the same; another letter does not, and its thread disagrees.
    let name: Vec<u8> = "frame 5.txt".encode_utf16().flat_map(u16::to_be_bytes).collect();
    let at = catalog + bad[catalog..].windows(name.len()).position(|w| w == name).expect("a name");
    bad[at + 1] = b'z';
    let found = findings(&open(bad)).join("\n");
    assert!(found.contains("not in order") && found.contains("doesn't match"), "{found}");
}

/// Nothing in a volume has a checksum. A changed byte may give a file other bytes, another mode or another date; but whatever
/// changes which files there are, is refused or found.
#[test]
fn no_file_appears_disappears_or_moves_without_a_finding() {
    let good = volume_of(&some()[..40], options());
    let paths = |volume: &Volume<Vec<u8>>| -> Option<Vec<String>> {
        Some(volume.entries().ok()?.into_iter().map(|entry| entry.path).collect())
    };
    let known = paths(&open(good.clone()));
    let mut found = 0;
    for at in (1024..good.len()).step_by(59) {
        let mut changed = good.clone();
        changed[at] ^= 0x55;
        let Ok(volume) = Volume::open(changed, Limits::default()) else { continue };
        let findings = hfs_plus::check::check(&volume);
        if findings.as_ref().is_ok_and(Vec::is_empty) {
            assert_eq!(paths(&volume), known, "nothing is found of byte {at}");
        } else {
            found += 1;
        }
    }
    assert!(found > 20, "{found} of the changes were found");
}

/// Reads all of a volume, in whatever state it is.
fn read_all(bytes: Vec<u8>) {
    let limits = Limits { max_entries: 5000, max_depth: 20, max_attributes: 1 << 20 };
    let Ok(volume) = Volume::open(bytes, limits) else { return };
    let _ = (volume.name(), volume.attributes(), hfs_plus::check::check(&volume));
    for entry in volume.entries().unwrap_or_default() {
        if let Ok(reader) = volume.read(&entry) {
            let _ = std::io::copy(&mut std::io::Read::take(reader, 1 << 20), &mut std::io::sink());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn damaged_volumes_give_data_or_an_error(
        places in proptest::collection::vec((0usize..120_000, any::<u8>()), 1..8), cut in proptest::option::of(0usize..200_000)
    ) {
        thread_local!(static GOOD: Vec<u8> = volume_of(&some()[..40], options()));
        let mut bytes = GOOD.with(Clone::clone);
        for (at, byte) in places {
            let at = at % bytes.len();
            bytes[at] = byte;
        }
        bytes.truncate(cut.unwrap_or(usize::MAX));
        read_all(bytes);
    }
}
