//! Cabinets written here are read back by us and by independent judges; damaged ones are refused.

use cabinet::read::{Cabinet, Limits};
use cabinet::write::{Entry, Options, Writer};
use cabinet::{Error, Method};
use proptest::prelude::*;
use std::io::Cursor;
use test_support::{judge, judge_says_yes, noise};

const METHODS: [Method; 5] = [Method::Stored, Method::Mszip, Method::Lzx(15), Method::Lzx(18), Method::Lzx(21)];

fn write(files: &[(String, Vec<u8>)], options: Options) -> Vec<u8> {
    let entries =
        files.iter().map(|(name, bytes)| Entry { time: 1_767_225_600, ..Entry::new(name, bytes.len() as u64) });
    let mut writer = Writer::new(Cursor::new(Vec::new()), entries.collect(), options).expect("begun");
    for (_, bytes) in files {
        // Odd pieces, so that blocks and pieces do not fall together.
        bytes.chunks(70_001).for_each(|piece| writer.data(piece).expect("written"));
    }
    writer.finish().expect("finished").0.into_inner()
}

fn read(bytes: &[u8]) -> cabinet::Result<Vec<(String, Vec<u8>)>> {
    let mut files = Vec::new();
    Cabinet::open(Cursor::new(bytes), Limits::default())?.walk(|entry, plain| {
        let mut bytes = Vec::new();
        plain.read_to_end(&mut bytes)?;
        files.push((entry.name.clone(), bytes));
        Ok::<_, Error>(())
    })?;
    Ok(files)
}

/// Text, noise, zeros, nothing, sizes around the block's, far repetitions: what makes an encoder stumble.
fn odd_files() -> Vec<(String, Vec<u8>)> {
    let text: Vec<u8> =
        (0..400_000u32).flat_map(|n| format!("frame {} of hive {}\n", n % 977, n / 31).into_bytes()).collect();
    let random = noise(7, 3_000_000);
    let mut far = random[..600_000].to_vec();
    far.extend(vec![0; 1_400_000]);
    far.extend_from_slice(&random[..600_000]);
    let mut files = vec![
        ("empty.txt".to_owned(), Vec::new()),
        ("one.bin".into(), vec![7]),
        ("block.bin".into(), vec![1; 32768]),
        ("block-and-one.bin".into(), text[..32769].to_vec()),
        ("text.txt".into(), text[..5_000_001].to_vec()),
        ("noise.bin".into(), random),
        ("far.bin".into(), far),
        ("zeros.bin".into(), vec![0; 9_000_000]),
        ("Bienen-Stöcke.txt".into(), b"hum".to_vec()),
    ];
    files.extend((0..300).map(|n| (format!("many/{n:03}.txt"), noise(n, (n * 13 % 500) as usize))));
    files
}

fn options(method: Method) -> Options {
    Options { method, threads: 2, ..Options::default() }
}

#[test]
fn every_method_gives_every_byte_back() {
    for method in METHODS {
        let files = odd_files();
        assert!(read(&write(&files, options(method))).expect("read") == files, "{method:?}");
    }
}

#[test]
fn several_folders_give_every_byte_back() {
    for method in METHODS {
        let files = odd_files();
        let bytes = write(&files, Options { folder: 1_000_000, ..options(method) });
        assert!(Cabinet::open(Cursor::new(&bytes), Limits::default()).expect("opened").folders().len() > 4);
        assert!(read(&bytes).expect("read") == files, "{method:?}");
    }
}

#[test]
fn any_number_of_threads_makes_the_same_bytes() {
    let files = odd_files();
    for method in [Method::Mszip, Method::Lzx(18)] {
        let one = write(&files, Options { threads: 1, ..options(method) });
        for threads in [2, 3, 8] {
            assert!(write(&files, Options { threads, ..options(method) }) == one, "{method:?}, {threads} threads");
        }
    }
}

/// `7zz t` and `cabextract` unpack what we wrote, byte for byte; with one byte flipped they say no.
#[test]
fn judges_unpack_every_method() {
    for method in METHODS {
        let folder = tempfile::tempdir().expect("a folder");
        let files = odd_files();
        let path = folder.path().join("a.cab");
        let mut bytes = write(&files, Options { folder: 6_000_000, ..options(method) });
        std::fs::write(&path, &bytes).expect("written");
        let package = path.to_str().expect("text");
        for program in ["cabextract", "7zz"] {
            let out = folder.path().join(program);
            let out_text = out.to_str().expect("text");
            match program {
                "7zz" => judge_says_yes(program, &["x", "-y", &format!("-o{out_text}"), package]),
                _ => judge_says_yes(program, &["-q", "-d", out_text, package]),
            };
            for (name, plain) in &files {
                assert!(std::fs::read(out.join(name)).expect("unpacked") == *plain, "{program}, {method:?}: {name}");
            }
        }
        let middle = bytes.len() / 2;
        bytes[middle] ^= 0x10;
        std::fs::write(&path, &bytes).expect("written");
        assert!(!judge("7zz", &["t", package]).status.success(), "7zz takes damage in {method:?}");
        assert!(!judge("cabextract", &["-qt", package]).status.success());
    }
}

#[test]
fn what_the_format_cannot_hold_is_said_before_anything_is_packed() {
    let begin = |entries| Writer::new(Cursor::new(Vec::new()), entries, Options::default()).map(drop);
    let message = |entries| begin(entries).expect_err("refused").to_string();
    assert_eq!(message(vec![Entry::new("a", 1 << 31)]), "a has more than 2147450880 bytes");
    assert_eq!(
        message((0..70_000).map(|n| Entry::new(n.to_string(), 0)).collect()),
        "a cabinet holds 65535 files, not 70000"
    );
    assert_eq!(message(vec![Entry::new("", 0)]), "\"\" can't be a file's name in a cabinet");
    let mut writer = Writer::new(Cursor::new(Vec::new()), vec![Entry::new("a", 3)], Options::default()).expect("begun");
    writer.data(b"ab").expect("written");
    assert_eq!(writer.finish().err().map(|e| e.to_string()).as_deref(), Some("the entries have 3 bytes, but 2 came"));
}

#[test]
fn errors_say_what_and_where() {
    let files = vec![("a.txt".to_owned(), noise(1, 40_000)), ("b.txt".into(), noise(2, 10))];
    let good = write(&files, options(Method::Mszip));
    let with = |at: usize, value: u8| {
        let mut bytes = good.clone();
        bytes[at] = value;
        read(&bytes).expect_err("refused").to_string()
    };
    assert_eq!(with(0, b'X'), "not a cabinet (at offset 0x0)");
    assert_eq!(with(25, 9), "cabinet version 9 isn't supported (at offset 0x19)");
    assert_eq!(with(42, 2), "compression 0x2 isn't supported (at offset 0x58)");
    assert_eq!(with(0x2c + 8, 5), "a file of folder 5, but there are 1 (at offset 0x2c)");
    assert_eq!(
        with(good.len() - 1, !good[good.len() - 1]),
        format!("a block's checksum is wrong (at offset {:#x})", second_block(&good))
    );
    assert_eq!(
        read(&good[..good.len() - 1]).expect_err("refused").to_string(),
        format!("the cabinet is cut off (at offset {:#x})", second_block(&good) + 8)
    );
}

fn second_block(bytes: &[u8]) -> usize {
    let first = u32::from_le_bytes(*bytes[36..].first_chunk().expect("long enough")) as usize;
    first + 8 + usize::from(u16::from_le_bytes(*bytes[first + 4..].first_chunk().expect("long enough")))
}

fn small() -> Vec<(String, Vec<u8>)> {
    vec![("a".into(), odd_files()[4].1[..70_000].to_vec()), ("b".into(), noise(3, 40_000)), ("c".into(), vec![9; 5000])]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(30))]

    #[test]
    fn damage_is_an_error_or_other_bytes_but_never_a_crash(at in 0usize..60_000, value: u8, cut in 0usize..60_000, method in 0usize..5) {
        let mut bytes = write(&small(), options(METHODS[method]));
        let at = at % bytes.len();
        bytes[at] = value;
        let _ = read(&bytes);
        bytes.truncate(cut % (bytes.len() + 1));
        prop_assert!(read(&bytes).is_err());
    }

    #[test]
    fn generated_files_come_back(pieces in proptest::collection::vec((0usize..4, 0usize..70_000, any::<u64>()), 1..8), method in 0usize..5) {
        let files: Vec<(String, Vec<u8>)> = pieces.iter().enumerate().map(|(n, (kind, len, seed))| {
            let bytes = match kind {
                0 => noise(*seed, *len),
                1 => vec![*seed as u8; *len],
                2 => noise(*seed, *len).iter().map(|b| b & 1).collect(),
                _ => noise(*seed, 97).into_iter().cycle().take(*len).collect(),
            };
            (format!("f{n}"), bytes)
        }).collect();
        prop_assert!(read(&write(&files, options(METHODS[method]))).expect("read") == files);
    }
}
