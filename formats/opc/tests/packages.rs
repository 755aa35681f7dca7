//! Packages that are written here and read by others, and whatever is wrong with one.

use opc::check::check;
use opc::read::{Limits, Package};
use opc::write::{Options, Writer};
use opc::{BLOCK_MAP, CONTENT_TYPES, SIGNATURE, signature};
use proptest::prelude::*;
use std::io::{Cursor, Read};
use std::path::Path;
use std::process::Command;
use test_support::{noise, prose, python};

const ODD: &str = "odd [x] 50%+ü/größe & co.txt";

fn sample() -> Vec<(&'static str, Vec<u8>, bool)> {
    vec![
        ("Assets/StoreLogo.png", noise(1, 5000), true),
        ("combwright.exe", prose(2, 300_000), false),
        (ODD, b"hello".to_vec(), false),
        ("empty.txt", Vec::new(), false),
        ("noext", noise(3, 200_000), false),
        ("exact.bin", vec![7; 131_072], false),
        ("AppxManifest.xml", b"<Package/>".to_vec(), false),
    ]
}

fn written(parts: &[(&str, Vec<u8>, bool)], options: Options) -> Vec<u8> {
    let mut writer = Writer::new(Cursor::new(Vec::new()), options).expect("begun");
    for (name, bytes, stored) in parts {
        writer.part(name, bytes.len() as u64, *stored).expect("a part");
        // However it comes.
        bytes.chunks(40_001).for_each(|piece| writer.data(piece).expect("data"));
    }
    writer.finish().expect("written").into_inner()
}

fn findings(bytes: &[u8]) -> Result<Vec<String>, String> {
    let package = Package::open(bytes.to_vec(), Limits::default()).map_err(|e| e.to_string())?;
    check(&package).map_err(|e| e.to_string())
}

fn second_reading(file: &Path, digests: Option<&str>) -> String {
    let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/second_reading.py");
    let out = Command::new(python()).arg(judge).arg(file).args(digests).output().expect("python");
    assert!(out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn others_read_what_is_written() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.msix");
    let bytes = written(&sample(), Options::default());
    std::fs::write(&file, &bytes).expect("written");
    assert_eq!(findings(&bytes), Ok(Vec::new()));
    assert_eq!(second_reading(&file, None), "ok");
    for (command, words) in [("7zz", ["t", "-y"]), ("unzip", ["-t", "-qq"])] {
        let out = Command::new(command).args(words).arg(&file).output().expect("`./test` installs it");
        assert!(out.status.success(), "{command}: {}", String::from_utf8_lossy(&out.stdout));
    }
    let package = Package::open(bytes.clone(), Limits::default()).expect("a package");
    for (name, plain, _) in sample() {
        let mut read = Vec::new();
        package.reader(package.find(name).expect("there")).expect("a reader").read_to_end(&mut read).expect("read");
        assert!(read == plain, "{name}");
    }
    // The same bytes for any number of threads.
    for threads in [2, 5] {
        assert!(bytes == written(&sample(), Options { threads, ..Options::default() }), "{threads} threads");
    }
}

#[test]
fn a_signature_goes_in_as_the_last_part_and_is_of_everything_before() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.msix");
    let options = Options { signed: true, ..Options::default() };
    let plain = written(&sample(), options);
    let open = |bytes: &[u8]| Package::open(bytes.to_vec(), Limits::default()).expect("a package");
    let before = signature::digests(&open(&plain)).expect("digests");
    assert_eq!(before.len(), 4 + 4 * 36);
    std::fs::write(&file, &plain).expect("written");
    assert_eq!(second_reading(&file, Some(&hexadecimal(&before))), "ok");
    let mut signed = Cursor::new(plain.clone());
    let length = signature::put(&open(&plain), &mut signed, &noise(9, 3000)).expect("put");
    let mut signed = signed.into_inner();
    signed.truncate(length as usize);
    assert_eq!(findings(&signed), Ok(Vec::new()));
    assert_eq!(signature::digests(&open(&signed)).expect("digests"), before, "it is of what was there before");
    assert_eq!(signature::message(&open(&signed)).expect("read"), Some(noise(9, 3000)));
    std::fs::write(&file, &signed).expect("written");
    assert_eq!(second_reading(&file, Some(&hexadecimal(&before))), "ok");
    // Another one in its place, longer or shorter.
    for length in [10, 9000] {
        let mut other = Cursor::new(signed.clone());
        let end = signature::put(&open(&signed), &mut other, &noise(8, length)).expect("put");
        let other = other.into_inner()[..end as usize].to_vec();
        assert_eq!(findings(&other), Ok(Vec::new()));
        assert_eq!(signature::message(&open(&other)).expect("read"), Some(noise(8, length)));
        assert_eq!(signature::digests(&open(&other)).expect("digests"), before);
    }
    // The signature's own records are in no digest: each byte of them, and of what follows, has a rule, or changes what is read.
    let start = signed
        .windows(4)
        .enumerate()
        .filter(|(_, w)| *w == b"PK\x03\x04")
        .map(|(at, _)| at)
        .next_back()
        .expect("a record");
    let data = start + 30 + SIGNATURE.len();
    let directory = signed.len() - 98 - (46 + SIGNATURE.len());
    for at in (start..data).chain(directory..signed.len()) {
        let mut changed = signed.clone();
        changed[at] ^= 0x21;
        let is_refused = Package::open(changed, Limits::default()).map_or(true, |package| {
            check(&package).map_or(true, |found| !found.is_empty())
                || signature::digests(&package).map_or(true, |digests| digests != before)
        });
        assert!(is_refused, "at {at}, {} behind the signature's record", at - start);
    }
    let unprepared = written(&sample(), Options::default());
    let refused = signature::put(&open(&unprepared), &mut Cursor::new(unprepared.clone()), b"").expect_err("no type");
    assert!(refused.to_string().contains("has no word of a signature"), "{refused}");
}

#[test]
fn whatever_is_changed_is_told_here_and_by_the_second_reading() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.msix");
    let good = written(&sample(), Options::default());
    let mut silent = Vec::new();
    for at in (0..good.len()).step_by(good.len() / 150) {
        let mut bad = good.clone();
        bad[at] ^= 0x21;
        let ours = findings(&bad);
        if ours.as_ref().is_ok_and(Vec::is_empty) {
            silent.push(at);
        }
    }
    // Versions, days and attributes in the directory mean nothing here; a signature is of them, too.
    let directory = good.windows(4).position(|bytes| bytes == b"PK\x01\x02").expect("a directory");
    assert!(
        silent.iter().all(|at| *at >= directory) && silent.len() < 3,
        "no byte of a part is without a rule: {silent:?}"
    );
    for at in [40, 6000, 60_000, good.len() - 200, good.len() - 60] {
        let mut bad = good.clone();
        bad[at] ^= 0x21;
        std::fs::write(&file, &bad).expect("written");
        let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/second_reading.py");
        let out = Command::new(python()).arg(judge).arg(&file).output().expect("python");
        assert!(!out.status.success(), "at {at}: {}", String::from_utf8_lossy(&out.stdout));
    }
    for cut in [0, 10, good.len() / 2, good.len() - 1] {
        assert!(findings(&good[..cut]).is_err(), "{cut} bytes");
    }
    let front = [&b"MZ"[..], &good].concat();
    assert!(findings(&front).is_err() || findings(&front).is_ok_and(|found| !found.is_empty()));
}

#[test]
fn what_parts_can_not_be_is_refused() {
    let begin = || Writer::new(Cursor::new(Vec::new()), Options::default()).expect("begun");
    for (name, said) in [
        (BLOCK_MAP, "can't be called"),
        (CONTENT_TYPES, "can't be called"),
        (SIGNATURE, "can't be called"),
        ("appxblockmap.XML", "can't be called"),
        ("../a", "can't be called"),
        ("a\\b", "can't be called"),
        ("", "can't be called"),
    ] {
        let e = begin().part(name, 0, false).expect_err(name).to_string();
        assert!(e.contains(said), "{e}");
    }
    let mut writer = begin();
    writer.part("a", 3, false).expect("a part");
    assert!(writer.data(b"abcd").expect_err("longer").to_string().contains("longer than it was said"));
    assert!(writer.part("b", 0, false).expect_err("shorter").to_string().contains("lacks"));
    let mut writer = begin();
    writer.part("a", 0, false).expect("a part");
    assert!(writer.part("A", 0, false).expect_err("twice").to_string().contains("already"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn any_parts_come_back(parts in prop::collection::btree_map("[a-zA-Zäß %+]{1,10}[a-z]", prop::collection::vec(any::<u8>(), 0..70_000), 0..5)) {
        let mut seen = std::collections::HashSet::new();
        let parts: Vec<(String, Vec<u8>)> = parts.into_iter().filter(|(name, _)| seen.insert(name.to_lowercase())).collect();
        let mut all: Vec<(&str, Vec<u8>, bool)> =
            parts.iter().map(|(name, bytes)| (name.as_str(), bytes.clone(), bytes.len() % 2 == 0)).collect();
        all.push(("AppxManifest.xml", b"<Package/>".to_vec(), false));
        let bytes = written(&all, Options { threads: 2, ..Options::default() });
        prop_assert_eq!(findings(&bytes), Ok(Vec::new()));
        let package = Package::open(bytes, Limits::default()).expect("a package");
        for (name, plain, _) in &all {
            let mut read = Vec::new();
            package.reader(package.find(name).expect("there")).expect("a reader").read_to_end(&mut read).expect("read");
            prop_assert!(&read == plain);
        }
    }

    #[test]
    fn any_bytes_are_answered(at in any::<prop::sample::Index>(), byte: u8) {
        let mut bytes = written(&sample()[4..], Options::default());
        let end = bytes.len();
        let place = end - 1 - at.index(end.min(3000));
        bytes[place] = byte;
        let _ = findings(&bytes);
    }
}

#[test]
fn parts_of_all_sizes_are_the_same_on_any_number_of_threads() {
    use opc::BLOCK;
    let sizes = [0, 0, 1, BLOCK - 1, BLOCK, BLOCK + 1, 3 * BLOCK, 0, 5, 5, 5, 2 * BLOCK, 0];
    let parts: Vec<(String, Vec<u8>)> = (0..4 * sizes.len())
        .map(|n| (format!("part {n}.txt"), test_support::prose(n as u64, sizes[n % sizes.len()])))
        .collect();
    let written = |threads: usize| {
        let mut writer =
            Writer::new(Cursor::new(Vec::new()), Options { threads, ..Options::default() }).expect("begun");
        let mut places = Vec::new();
        for (n, (name, bytes)) in parts.iter().enumerate() {
            writer.part(name, bytes.len() as u64, n % 3 == 0).expect("a part");
            // Asking where a stored one lies changes nothing.
            if n % 6 == 0 {
                places.push((n, writer.position().expect("a place") as usize));
            }
            bytes.chunks(50_000).for_each(|piece| writer.data(piece).expect("data"));
        }
        writer.part("AppxManifest.xml", 1, true).expect("a part");
        writer.data(b"x").expect("data");
        (writer.finish().expect("written").into_inner(), places)
    };
    let (bytes, places) = written(1);
    assert_eq!(findings(&bytes), Ok(Vec::new()));
    for (n, place) in places {
        assert!(bytes[place..].starts_with(&parts[n].1), "part {n}");
    }
    for threads in [2, 5] {
        assert!(written(threads).0 == bytes, "{threads} threads");
    }
}
