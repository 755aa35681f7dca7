//! Image by image: what the writer takes and refuses, and what the reader says of it.

use squashfs::codec::Codec;
use squashfs::read::{BlockOrHole, Image, Kind, Limits};
use squashfs::write::{Fragments, Meta, Options, Special, Writer};
use squashfs::{Error, Result};
use std::io::Cursor;

fn options() -> Options {
    Options { codec: Codec::Zstd { level: 1 }, block_size: 4096, threads: 2, time: 77, ..Options::default() }
}

fn write(build: impl FnOnce(&mut Writer<Cursor<Vec<u8>>>) -> Result<()>) -> Vec<u8> {
    let mut w = Writer::new(Cursor::new(Vec::new()), options()).expect("options");
    build(&mut w).expect("built");
    w.finish().expect("finished").0.into_inner()
}

fn file(w: &mut Writer<Cursor<Vec<u8>>>, path: &str, bytes: &[u8]) -> Result<()> {
    w.begin_file(path.as_bytes(), Meta::file(0o644))?;
    w.data(bytes)?;
    w.end_file(None)
}

fn open(bytes: Vec<u8>) -> Image<Vec<u8>> {
    Image::open(bytes, 0, Limits::default()).expect("opened")
}

#[test]
fn metadata_comes_back_as_it_was_given() {
    let xattrs = vec![("security.label".to_owned(), vec![0, 1, 2]), ("user.hive".to_owned(), b"orchard".to_vec())];
    let meta = Meta { mode: 0o4711, uid: 1234, gid: 70_000, mtime: Some(99), xattrs: xattrs.clone() };
    let image = open(write(|w| {
        w.begin_file(b"f", meta.clone())?;
        w.end_file(None)?;
        w.folder(b"d", Meta { xattrs: xattrs.clone(), ..Meta::file(0o700) })?;
        w.special(b"l", Meta { xattrs: xattrs.clone(), ..Meta::file(0o777) }, Special::Symlink(b"f".to_vec()))?;
        w.special(b"c", Meta::file(0o600), Special::CharDevice(0x501))?;
        w.special(b"p", Meta::file(0o600), Special::Fifo)
    }));
    let at = |path: &str| image.lookup(path.as_bytes()).expect("looked up").expect("there");
    let f = at("f");
    assert_eq!((f.mode, f.uid, f.gid, f.mtime, f.nlink), (0o4711, 1234, 70_000, 99, 1));
    for path in ["f", "d", "l"] {
        assert_eq!(image.xattrs(&at(path)).expect("read"), xattrs, "{path}");
    }
    assert_eq!(at("d").mtime, 77, "the image's own time stands in");
    assert_eq!(at("l").kind, Kind::Symlink(b"f".to_vec()));
    assert_eq!((at("c").kind, at("p").kind), (Kind::CharDevice(0x501), Kind::Fifo));
    assert!(image.lookup(b"f/x").expect("looked up").is_none());
    assert!(image.lookup(b"none").expect("looked up").is_none());
}

#[test]
fn holes_stay_holes_and_cost_nothing() {
    let bytes = write(|w| {
        w.begin_file(b"hole", Meta::file(0o644))?;
        w.data(b"a")?;
        w.zeros(1 << 30)?;
        w.data(b"z")?;
        w.end_file(None)
    });
    assert!(bytes.len() < 64 << 10, "{}", bytes.len());
    let image = open(bytes);
    let inode = image.lookup(b"hole").expect("looked up").expect("there");
    let Kind::File(place) = &inode.kind else { panic!("a file") };
    assert_eq!(place.size, (1 << 30) + 2);
    assert!(place.sparse > (1 << 30) - 8192);
    let mut reader = image.reader(&inode).expect("a reader");
    let mut total = 0u64;
    while let Some(block) = reader.next_block().expect("read") {
        total += match block {
            BlockOrHole::Bytes(b) => b.len() as u64,
            BlockOrHole::Hole(n) => n.into(),
        };
    }
    assert_eq!(total, (1 << 30) + 2);
}

#[test]
fn small_files_share_blocks_and_links_share_inodes() {
    let image = open(write(|w| {
        for n in 0..100 {
            file(w, &format!("{n:03}"), format!("file {n}").as_bytes())?;
        }
        w.hard_link(b"again", b"042")
    }));
    assert_eq!(image.superblock().fragment_count.get(), 1);
    assert_eq!(image.superblock().inode_count.get(), 101);
    let again = image.lookup(b"again").expect("looked up").expect("there");
    assert_eq!(again.nlink, 2);
    assert_eq!(image.read_to_vec(&again).expect("read"), b"file 42");
}

#[test]
fn what_can_not_be_held_is_refused_with_a_sentence() {
    let mut w = Writer::new(Cursor::new(Vec::new()), options()).expect("options");
    file(&mut w, "a", b"x").expect("written");
    let refused: Vec<Error> = [
        w.begin_file(b"a", Meta::file(0o644)).err(),
        w.begin_file(b"a/b", Meta::file(0o644)).err(),
        w.folder(b"../up", Meta::file(0o755)).err(),
        w.folder(&[b'n'; 257], Meta::file(0o755)).err(),
        w.special(b"l", Meta::file(0o777), Special::Symlink(vec![b'x'; 5000])).err(),
        w.hard_link(b"h", b"missing").err(),
        w.data(b"no file has begun").err(),
        w.end_file(None).err(),
    ]
    .into_iter()
    .map(|e| e.expect("refused"))
    .collect();
    assert!(refused.iter().all(|e| matches!(e, Error::Usage(_))), "{refused:?}");
    // All of that left the image as it was.
    let image = open(w.finish().expect("finished").0.into_inner());
    assert_eq!(image.superblock().inode_count.get(), 2);
    for (block_size, level) in [(1000, 1), (2 << 20, 1), (4096, 40)] {
        let bad = Options { block_size, codec: Codec::Zstd { level }, ..options() };
        assert!(matches!(Writer::new(Cursor::new(Vec::new()), bad), Err(Error::Usage(_))));
    }
    let mut w = Writer::new(Cursor::new(Vec::new()), options()).expect("options");
    w.begin_file(b"open", Meta::file(0o644)).expect("begun");
    assert!(matches!(w.finish(), Err(Error::Usage(_))));
}

#[test]
fn limits_are_kept_and_said() {
    let bytes = write(|w| (0..50).try_for_each(|n| file(w, &format!("d/{n}"), &[7; 9000])));
    let limits = Limits { max_entries: 10, ..Limits::default() };
    let image = Image::open(bytes.clone(), 0, limits).expect("opened");
    assert!(matches!(image.walk(|_| Ok::<_, Error>(())), Err(Error::Limit(_))));
    let image = Image::open(bytes.clone(), 0, Limits { max_depth: 1, ..Limits::default() }).expect("opened");
    assert!(matches!(image.walk(|_| Ok::<_, Error>(())), Err(Error::Limit(_))));
    let image = Image::open(bytes, 0, Limits { max_blocks_in_file: 1, ..Limits::default() }).expect("opened");
    assert!(matches!(image.lookup(b"d/1"), Err(Error::Limit(_))));
}

#[test]
fn deep_trees_and_long_listings_are_found_again() {
    let deep: String = (0..300).map(|n| format!("level-{n}/")).collect();
    let image = open(write(|w| {
        file(w, &format!("{deep}end"), b"deep")?;
        (0..5000).try_for_each(|n| file(w, &format!("wide/a-name-that-is-not-short-{n}"), &[]))
    }));
    let end = image.lookup(format!("{deep}end").as_bytes()).expect("looked up").expect("there");
    assert_eq!(image.read_to_vec(&end).expect("read"), b"deep");
    assert!(image.lookup(b"wide/a-name-that-is-not-short-4321").expect("looked up").is_some());
    let mut count = 0;
    let counted = image.walk(|_| {
        count += 1;
        Ok::<_, Error>(())
    });
    counted.expect("walked");
    assert_eq!(count, 300 + 1 + 1 + 5000);
}

#[test]
fn every_way_of_sharing_fragments_gives_the_same_files() {
    for fragments in [Fragments::Off, Fragments::SmallFiles, Fragments::AllTails] {
        let mut w = Writer::new(Cursor::new(Vec::new()), Options { fragments, ..options() }).expect("options");
        for (name, len) in [("a", 10), ("b", 4096), ("c", 4097), ("d", 9000), ("e", 0)] {
            w.begin_file(name.as_bytes(), Meta::file(0o644)).expect("begun");
            w.data(&test_support::prose(len as u64, len)).expect("written");
            w.end_file(None).expect("ended");
        }
        let image = open(w.finish().expect("finished").0.into_inner());
        for (name, len) in [("a", 10), ("b", 4096), ("c", 4097), ("d", 9000), ("e", 0)] {
            let inode = image.lookup(name.as_bytes()).expect("looked up").expect("there");
            assert_eq!(
                image.read_to_vec(&inode).expect("read"),
                test_support::prose(len as u64, len),
                "{name} {fragments:?}"
            );
        }
    }
}
