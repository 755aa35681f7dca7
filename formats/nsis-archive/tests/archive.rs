//! Whole programs: written, read back, and taken apart by a general archiver.

use nsis_archive::header::{Header, TextBuilder};
use nsis_archive::read::Archive;
use nsis_archive::structs::{self, op};
use nsis_archive::write::{Offsets, Options, Writer, block};
use nsis_archive::{Method, read};
use std::fs::File;
use std::io::{Cursor, Read};
use std::path::Path;
use test_support::{judge, noise, prose};

/// Any program of Windows: the least that has the places that signing changes.
fn head() -> Vec<u8> {
    include_bytes!("../../../heads/window-reader/prebuilt/window-reader.exe").to_vec()
}

fn files() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("hives\\a.txt", prose(1, 200_000)),
        ("hives\\Bienen-Stöcke 🐝.txt", b"frames\n".to_vec()),
        ("hives\\empty", Vec::new()),
        ("hives\\noise.bin", noise(2, 70_000)),
        ("hives\\frames.exe", head()),
    ]
}

fn header(files: &[(&str, Vec<u8>)]) -> Header {
    let mut texts = TextBuilder::new(read::INSTALL);
    let mut entries = vec![[op::FOLDER, texts.add(r"{install}\hives"), 1, 0, 0, 0, 0]];
    let mut offsets = Offsets::default();
    for (path, bytes) in files {
        let at = offsets.next(bytes.len() as u64).expect("room");
        let name = texts.add(path.trim_start_matches("hives\\"));
        entries.push([op::FILE, 0, name, at, 0, 0, 0]);
    }
    Header { flags: 0, entries, texts: texts.finish() }
}

fn program(files: &[(&str, Vec<u8>)], options: &Options) -> Vec<u8> {
    let header = header(files).write().expect("a header");
    let mut writer = Writer::new(Cursor::new(Vec::new()), &head(), &header, options).expect("begun");
    for (_, bytes) in files {
        writer.file(bytes.len() as u64).expect("begun");
        bytes.chunks(7000).for_each(|c| writer.data(c).expect("written"));
    }
    writer.finish().expect("finished").0.into_inner()
}

const METHODS: [Method; 4] =
    [Method::Lzma { filtered: false }, Method::Lzma { filtered: true }, Method::Deflate, Method::Stored];

fn options(method: Method) -> Options {
    Options { method, dictionary: 1 << 20, ..Options::default() }
}

type Contents = Vec<(String, Vec<u8>)>;

fn contents(bytes: &[u8]) -> nsis_archive::Result<Contents> {
    let mut archive = Archive::open(Cursor::new(bytes))?.ok_or(nsis_archive::Error::Source)?;
    let items = archive.items()?;
    let mut all = Vec::new();
    archive.walk(&items, |n, _, bytes| {
        let mut content = Vec::new();
        bytes.read_to_end(&mut content)?;
        all.push((items[n].path.clone(), content));
        Ok(())
    })?;
    Ok(all)
}

#[test]
fn programs_come_back_with_every_method() {
    for method in METHODS {
        if method == Method::Stored {
            continue; // a stream that is not packed has no sign in the format
        }
        let bytes = program(&files(), &options(method));
        let expected: Vec<_> = files().into_iter().map(|(p, b)| (format!("{{install}}\\{p}"), b)).collect();
        assert_eq!(contents(&bytes).expect("contents"), expected, "{method:?}");
        let mut archive = Archive::open(Cursor::new(&bytes)).expect("open").expect("a program");
        assert_eq!(archive.method, method);
        assert_eq!(archive.findings().expect("read"), Vec::<String>::new());
        assert_eq!(program(&files(), &options(method)), bytes, "the same bytes each time");
    }
    let many = Options { threads: 3, ..options(Method::Deflate) };
    assert_eq!(program(&files(), &many), program(&files(), &options(Method::Deflate)), "with three threads too");
}

#[test]
fn a_general_archiver_lists_tests_and_extracts_them() {
    let folder = tempfile::tempdir().expect("a folder");
    for method in [METHODS[0], METHODS[1], METHODS[2]] {
        let path = folder.path().join("setup.exe");
        std::fs::write(&path, program(&files(), &options(method))).expect("written");
        let listed = judge("7zz", &["l", "-slt", path.to_str().expect("text")]);
        let text = String::from_utf8_lossy(&listed.stdout).into_owned();
        assert!(listed.status.success() && text.contains("Type = Nsis"), "{method:?}: {text}");
        assert!(judge("7zz", &["t", path.to_str().expect("text")]).status.success(), "{method:?}");
        let out = folder.path().join("out");
        let to = format!("-o{}", out.display());
        assert!(judge("7zz", &["x", "-y", &to, path.to_str().expect("text")]).status.success());
        for (name, bytes) in files() {
            // The folder of the product is the archive's top.
            let file = find(&out, &name.replace('\\', "/"));
            assert!(file == bytes, "{method:?}: {name}");
        }
        std::fs::remove_dir_all(out).expect("removed");
    }
    // And it says no to a damaged one.
    let mut bytes = program(&files(), &options(METHODS[0]));
    let at = bytes.len() - 30_000;
    bytes[at..at + 200].fill(0x55);
    let path = folder.path().join("damaged.exe");
    std::fs::write(&path, bytes).expect("written");
    assert!(!judge("7zz", &["t", path.to_str().expect("text")]).status.success());
}

fn find(out: &Path, name: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let path = [out.join(name), out.join("$INSTDIR").join(name)].into_iter().find(|p| p.exists());
    let path = path.unwrap_or_else(|| panic!("{name} is not in {:?}", test_support::listing(out)));
    File::open(path).and_then(|mut f| f.read_to_end(&mut bytes)).expect("read");
    bytes
}

#[test]
fn every_flipped_byte_is_noticed() {
    let small = vec![("hives\\a.txt", prose(3, 900))];
    let bytes = program(&small, &options(METHODS[0]));
    let start = head().len().next_multiple_of(512);
    for at in (0..bytes.len()).filter(|at| *at >= start || at % 97 == 0) {
        let mut bad = bytes.clone();
        bad[at] ^= 0x10;
        let noticed = match Archive::open(Cursor::new(&bad)) {
            Ok(Some(mut archive)) => !archive.findings().expect("read").is_empty(),
            _ => true,
        };
        // The rest of the seal's 512 bytes is nobody's, but the CRC32 does not know it either way.
        let of_seal = at >= start + 48 && at < start + 512;
        let [(sum, _), (signature, _)] = nsis_archive::seal::changeable(&bytes).expect("a program");
        let by_signing = (sum..sum + 4).contains(&at) || (signature..signature + 8).contains(&at);
        assert!(noticed || of_seal || by_signing, "{at}");
    }
    for length in (0..bytes.len()).step_by(61) {
        assert!(contents(&bytes[..length]).is_err(), "cut at {length}");
    }
}

#[test]
fn files_packed_one_by_one_are_read_too() {
    // As other writers may do it: a packed header, then blocks, packed or not.
    let texts_and_entries = |offsets: &[i32]| {
        let mut texts = TextBuilder::new(read::INSTALL);
        let mut entries = vec![[op::FOLDER, texts.add("{install}"), 1, 0, 0, 0, 0]];
        for (n, at) in offsets.iter().enumerate() {
            entries.push([op::FILE, 0, texts.add(&format!("f{n}")), *at, 0, 0, 0]);
        }
        Header { flags: 0, entries, texts: texts.finish() }.write().expect("a header")
    };
    let deflate = |bytes: &[u8]| {
        let mut out = Vec::new();
        flate2::read::DeflateEncoder::new(bytes, flate2::Compression::best()).read_to_end(&mut out).expect("packed");
        out
    };
    let (one, two) = (prose(5, 5000), noise(6, 300));
    let packed = deflate(&one);
    let header = texts_and_entries(&[0, packed.len() as i32 + 4, 0]);
    let small = deflate(&header);
    let mut body = Vec::new();
    for (bytes, flag) in [(&small, 1u32 << 31), (&packed, 1 << 31), (&two, 0)] {
        body.extend((bytes.len() as u32 | flag).to_le_bytes());
        body.extend(bytes);
    }
    let mut file = vec![0; 1024];
    file.extend(0u32.to_le_bytes());
    file.extend(nsis_archive::structs::SIGN);
    file.extend((header.len() as u32).to_le_bytes());
    file.extend((28 + body.len() as u32 + 4).to_le_bytes());
    file.extend(body);
    file.extend([0; 4]);
    let all = contents(&file).expect("contents");
    let expected = [("f0", &one), ("f2", &one), ("f1", &two)].map(|(n, b)| (format!("{{install}}\\{n}"), b.clone()));
    assert_eq!(all, expected);
    let mut archive = Archive::open(Cursor::new(&file)).expect("open").expect("a program");
    assert_eq!(archive.findings().expect("read").len(), 1, "its CRC32 is wrong");
}

#[test]
fn a_block_alone_is_read() {
    let header = header(&files());
    let bytes =
        block(&header.write().expect("a header"), &Options { flags: 1, ..options(METHODS[0]) }).expect("a block");
    let archive = Archive::open(Cursor::new(&bytes)).expect("open").expect("a program");
    assert!(archive.is_uninstaller());
    assert_eq!(archive.header, header);
    assert!(Archive::open(Cursor::new(prose(1, 5000))).expect("read").is_none());
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(200))]
    #[test]
    fn damaged_programs_give_errors_and_never_a_crash(flips in proptest::collection::vec((0.0..1.0f64, 0u8..), 1..6)) {
        let mut bytes = program(&[("hives\\a.txt", prose(3, 3000))], &options(METHODS[1]));
        for (at, value) in flips {
            let at = (at * bytes.len() as f64) as usize;
            bytes[at] = value;
        }
        let _ = contents(&bytes);
    }
}

/// A program whose header was changed before it was packed.
fn program_with(change: impl FnOnce(&mut Header)) -> Vec<u8> {
    let files = &files()[..2];
    let mut header = header(files);
    change(&mut header);
    let header = header.write().expect("a header");
    let options = options(Method::Deflate);
    let mut writer = Writer::new(Cursor::new(Vec::new()), &head(), &header, &options).expect("begun");
    for (_, bytes) in files {
        writer.file(bytes.len() as u64).expect("begun");
        writer.data(bytes).expect("written");
    }
    writer.finish().expect("finished").0.into_inner()
}

/// A good program with some bytes of its data block put in other places' stead.
fn program_changed(at: usize, bytes: &[u8]) -> Vec<u8> {
    let mut program = program_with(|_| {});
    let start = program.windows(16).position(|w| w == structs::SIGN).expect("a data block") - 4;
    program[start + at..start + at + bytes.len()].copy_from_slice(bytes);
    program
}

#[test]
fn what_is_wrong_with_a_program_is_said_with_its_place() {
    let cut = |length: usize| {
        let mut program = program_with(|_| {});
        program.truncate(program.len() - length);
        program
    };
    let cases = [
        ("nothing", program_with(|_| {})),
        ("four bytes are missing", cut(4)),
        ("a block longer than the file", program_changed(24, &u32::MAX.to_le_bytes())),
        ("a block without room for anything", program_changed(24, &20u32.to_le_bytes())),
        ("a header of more than 64 MiB", program_changed(20, &(65u32 << 20).to_le_bytes())),
        ("a header longer than what was packed", program_changed(20, &9000u32.to_le_bytes())),
        ("packed bytes that are none", program_changed(32, &[0xFF; 24])),
        ("a file in front of all others", program_with(|h| h.entries[1][3] = -5)),
        ("a file behind all bytes", program_with(|h| h.entries[2][3] = 1 << 30)),
        ("a file inside another one", program_with(|h| h.entries[2][3] = 100)),
        ("a name behind all texts", program_with(|h| h.entries[1][2] = 1 << 20)),
        ("a name in front of all texts", program_with(|h| h.entries[1][2] = i32::MIN)),
    ];
    let mut out = String::new();
    for (what, bytes) in cases {
        let said = match contents(&bytes) {
            Ok(files) => format!("{} files", files.len()),
            Err(e) => e.to_string(),
        };
        out.push_str(&format!("{what}: {said}\n"));
    }
    insta::assert_snapshot!(out, @r#"
    nothing: 2 files
    four bytes are missing: the file is shorter than its first header states (at offset 0x2218)
    a block longer than the file: the file is shorter than its first header states (at offset 0x2218)
    a block without room for anything: the file is shorter than its first header states (at offset 0x2218)
    a header of more than 64 MiB: its header would be larger than 64 MiB (at offset 0x2214)
    a header longer than what was packed: the header's length differs from the first header's (at offset 0x0)
    packed bytes that are none: the packed bytes are damaged (at offset 0x0)
    a file in front of all others: a file's offset is negative (at offset 0x1)
    a file behind all bytes: the packed bytes end too early (at offset 0x31731)
    a file inside another one: a file begins inside another one (at offset 0xa46)
    a name behind all texts: a text lies outside the table (at offset 0x100000)
    a name in front of all texts: a text's offset is negative (at offset 0x0)
    "#);
}
