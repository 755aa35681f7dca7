//! Any bytes at all: the reader answers with data or an error, in bounded time and memory. And what the writer takes,
//! the reader gives back.

use proptest::prelude::*;
use squashfs::codec::Codec;
use squashfs::read::{Image, Kind, Limits};
use squashfs::write::{Fragments, Meta, Options, Special, Writer};
use std::collections::BTreeMap;
use std::io::Cursor;

/// Goes through everything an image offers and reads the first megabyte of each file.
fn read_all(bytes: Vec<u8>) -> squashfs::Result<u64> {
    let limits = Limits { max_entries: 10_000, ..Limits::default() };
    let image = Image::open(bytes, 0, limits)?;
    let mut total = 0;
    image.walk(|v| {
        image.xattrs(&v.inode)?;
        if let Kind::File(_) = v.inode.kind {
            let mut reader = image.reader(&v.inode)?;
            let mut seen = 0;
            while let Some(block) = reader.next_block()? {
                seen += match block {
                    squashfs::read::BlockOrHole::Bytes(b) => b.len() as u64,
                    squashfs::read::BlockOrHole::Hole(n) => n.into(),
                };
                if seen > 1 << 20 {
                    break;
                }
            }
            total += seen;
        }
        Ok::<_, squashfs::Error>(())
    })?;
    Ok(total)
}

fn sample(codec: Codec) -> Vec<u8> {
    let options = Options { codec, block_size: 4096, threads: 1, ..Options::default() };
    let mut w = Writer::new(Cursor::new(Vec::new()), options).expect("options");
    for n in 0..40 {
        let meta = Meta { xattrs: vec![("user.n".into(), vec![n])], ..Meta::file(0o644) };
        w.begin_file(format!("d{}/f{n}", n % 5).as_bytes(), meta).expect("begin");
        w.data(&test_support::prose(n.into(), usize::from(n) * 400)).expect("data");
        w.end_file(None).expect("end");
    }
    w.special(b"l", Meta::file(0o777), Special::Symlink(b"d1/f1".to_vec())).expect("link");
    w.finish().expect("finish").0.into_inner()
}

#[test]
fn every_truncation_is_an_error_not_a_panic() {
    let whole = sample(Codec::Zstd { level: 3 });
    let used = Image::open(whole.clone(), 0, Limits::default()).expect("opened").bytes_used() as usize;
    for len in (0..used).step_by(7) {
        assert!(read_all(whole[..len].to_vec()).is_err(), "cut to {len} of {used}");
    }
    assert!(read_all(whole).is_ok());
}

/// A directory entry that leads back to the root must not be followed for ever.
#[test]
fn a_folder_inside_itself_is_refused() {
    let options = Options { codec: Codec::Zstd { level: 1 }, threads: 1, ..Options::default() };
    let mut w = Writer::new(Cursor::new(Vec::new()), options).expect("options");
    w.folder(b"a", Meta::file(0o755)).expect("folder");
    let mut bytes = w.finish().expect("finish").0.into_inner();
    // With two inodes the root's reference is the second: the entry of `a` is turned to it.
    let superblock = *Image::open(bytes.clone(), 0, Limits::default()).expect("opened").superblock();
    let table = superblock.directory_table.get() as usize;
    let root = superblock.root_inode.get() as u16;
    // Metadata header (2, stored), directory header (12), then the entry's offset.
    bytes[table + 14..table + 16].copy_from_slice(&root.to_le_bytes());
    let error = read_all(bytes).expect_err("refused").to_string();
    assert!(error.contains("two parents"), "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn flipped_bytes_never_panic(
        codec in 0..3usize,
        flips in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..12),
    ) {
        thread_local!(static SAMPLES: [Vec<u8>; 3] =
            [sample(Codec::Gzip { level: 6 }), sample(Codec::Zstd { level: 3 }), sample(Codec::Xz { level: 1 })]);
        let mut bytes = SAMPLES.with(|s| s[codec].clone());
        for (at, value) in flips {
            let at = at.index(bytes.len());
            bytes[at] = value;
        }
        let _ = read_all(bytes);
    }

    #[test]
    fn a_made_up_superblock_never_panics(mut head in prop::collection::vec(any::<u8>(), 96..400), log in 12..21u16) {
        head[..4].copy_from_slice(b"hsqs");
        head[12..16].copy_from_slice(&(1u32 << log).to_le_bytes());
        head[20..24].copy_from_slice(&[6, 0, log as u8, 0]);
        head[28..32].copy_from_slice(&[4, 0, 0, 0]);
        let _ = read_all(head);
    }
}

#[derive(Debug, Clone)]
enum Piece {
    Text(u64, usize),
    Zeros(u64),
}

fn files() -> impl Strategy<Value = BTreeMap<String, Vec<Piece>>> {
    let piece = prop_oneof![
        3 => (0..20u64, 0..20_000usize).prop_map(|(s, n)| Piece::Text(s, n)),
        1 => (0..30_000u64).prop_map(Piece::Zeros),
    ];
    let name = "[a-c]{1,2}(/[a-däß ]{1,3}){0,3}";
    prop::collection::btree_map(name, prop::collection::vec(piece, 0..4), 0..30)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn what_was_written_is_read(
        files in files(),
        log in 12..17u32,
        codec in prop_oneof![Just(Codec::Gzip { level: 4 }), Just(Codec::Zstd { level: 3 }), Just(Codec::Xz { level: 0 })],
        fragments in prop_oneof![Just(Fragments::Off), Just(Fragments::SmallFiles), Just(Fragments::AllTails)],
    ) {
        let options = Options { codec, block_size: 1 << log, fragments, threads: 2, ..Options::default() };
        let mut w = Writer::new(Cursor::new(Vec::new()), options).expect("options");
        let mut expected = BTreeMap::new();
        for (name, pieces) in files {
            // A name that is a folder of another one, or below a file, is refused and leaves everything else alone.
            if w.begin_file(name.as_bytes(), Meta::file(0o640)).is_err() {
                continue;
            }
            let mut plain = Vec::new();
            for piece in pieces {
                match piece {
                    Piece::Text(seed, len) => {
                        let text = test_support::prose(seed, len);
                        w.data(&text).expect("data");
                        plain.extend(text);
                    }
                    Piece::Zeros(n) => {
                        w.zeros(n).expect("zeros");
                        plain.resize(plain.len() + n as usize, 0);
                    }
                }
            }
            w.end_file(Some(*blake3::hash(&plain).as_bytes())).expect("end");
            expected.insert(name, plain);
        }
        let bytes = w.finish().expect("finish").0.into_inner();
        let image = Image::open(bytes, 0, Limits::default()).expect("opened");
        let mut seen = BTreeMap::new();
        image.walk(|v| {
            if let Kind::File(_) = v.inode.kind {
                seen.insert(String::from_utf8(v.path.clone()).expect("utf-8"), image.read_to_vec(&v.inode)?);
            }
            Ok::<_, squashfs::Error>(())
        }).expect("walked");
        prop_assert_eq!(seen, expected);
    }
}
