//! Independent programs read what the writer wrote: unsquashfs, 7zz, and the kernel's own driver. Each has a twin in
//! which it must say no.

use squashfs::codec::Codec;
use squashfs::read::{Image, Limits};
use squashfs::write::{Fragments, Meta, Options, Special, Writer};
use std::fs::File;
use std::path::Path;
use test_support::{judge, judge_says_yes, listing, noise, prose};

const CODECS: [Codec; 3] = [Codec::Gzip { level: 9 }, Codec::Zstd { level: 9 }, Codec::Xz { level: 6 }];

/// A tree with something of everything, written behind `base` bytes of something else.
fn write_odd_tree(path: &Path, base: u64, options: Options) {
    let mut out = File::create(path).expect("a file");
    std::io::Write::write_all(&mut out, &vec![0x90; base as usize]).expect("written");
    let mut w = Writer::new(out, options.clone()).expect("options");
    let block = options.block_size as usize;
    let id = |bytes: &[u8]| Some(*blake3::hash(bytes).as_bytes());
    w.folder(b"", Meta::file(0o755)).expect("root");
    w.folder(b"empty", Meta::file(0o700)).expect("folder");
    let file = |w: &mut Writer<File>, name: &str, bytes: &[u8]| {
        w.begin_file(name.as_bytes(), Meta::file(0o644)).expect("begin");
        for part in bytes.chunks(70_001) {
            w.data(part).expect("data");
        }
        w.end_file(id(bytes)).expect("end");
    };
    file(&mut w, "a/none", b"");
    file(&mut w, "a/small", b"a few bytes");
    file(&mut w, "a/exact", &prose(1, block));
    file(&mut w, "a/long", &prose(2, block * 3 + 777));
    file(&mut w, "a/noise", &noise(3, block * 2 + 5));
    file(&mut w, "b/long-again", &prose(2, block * 3 + 777));
    file(&mut w, "b/small-again", b"a few bytes");
    file(&mut w, "b/after", &prose(4, block + 1));
    for (name, seed) in [("дом", 5), ("蜂の巣", 6), ("naïve name with spaces", 7), ("\u{1F41D}", 8)] {
        file(&mut w, &format!("names/{name}"), &prose(seed, 3000));
    }
    w.begin_file(b"holes", Meta::file(0o755)).expect("begin");
    w.data(b"start").expect("data");
    w.zeros(block as u64 * 5).expect("zeros");
    w.data(b"end").expect("data");
    w.end_file(None).expect("end");
    w.begin_file(b"all-holes", Meta::file(0o600)).expect("begin");
    w.zeros(block as u64 * 40).expect("zeros");
    w.end_file(None).expect("end");
    for n in 0..1500 {
        file(&mut w, &format!("many/file-with-a-rather-long-name-{n:05}"), format!("{n}").as_bytes());
    }
    w.special(b"link", Meta::file(0o777), Special::Symlink(b"a/long".to_vec())).expect("link");
    w.special(b"dev-null", Meta::file(0o666), Special::CharDevice(0x103)).expect("device");
    w.special(b"loop", Meta::file(0o660), Special::BlockDevice(0x700)).expect("device");
    w.special(b"pipe", Meta::file(0o644), Special::Fifo).expect("pipe");
    w.special(b"socket", Meta::file(0o644), Special::Socket).expect("socket");
    w.hard_link(b"b/one-more-name", b"a/long").expect("hard link");
    let xattrs = vec![("user.colour".to_owned(), b"amber".to_vec()), ("user.empty".to_owned(), Vec::new())];
    for name in ["x/with", "x/the-same"] {
        let meta = Meta { mode: 0o4755, uid: 1000, gid: 100, mtime: Some(86400), xattrs: xattrs.clone() };
        w.begin_file(name.as_bytes(), meta).expect("begin");
        w.data(name.as_bytes()).expect("data");
        w.end_file(None).expect("end");
    }
    w.finish().expect("finish");
}

/// Unpacks with our reader into lines as [`listing`] gives them.
fn our_listing(path: &Path, base: u64) -> Vec<String> {
    use squashfs::read::Kind;
    let image = Image::open(File::open(path).expect("image"), base, Limits::default()).expect("opened");
    let mut lines = Vec::new();
    image
        .walk(|v| {
            let name = String::from_utf8(v.path.clone()).expect("utf-8");
            let mode = v.inode.mode;
            lines.push(match &v.inode.kind {
                Kind::Dir(_) => format!("{name}/ {mode:o}"),
                Kind::Symlink(target) => format!("{name} -> {}", String::from_utf8_lossy(target)),
                Kind::File(file) => {
                    let mut hash = blake3::Hasher::new();
                    hash.update_reader(image.reader(&v.inode)?)?;
                    let hash = hash.finalize().to_hex();
                    format!("{name} {mode:o} {} {}", file.size, &hash.as_str()[..16])
                }
                _ => format!("{name} special"),
            });
            Ok::<_, squashfs::Error>(())
        })
        .expect("walked");
    lines.sort();
    lines
}

#[test]
fn unsquashfs_gives_every_byte_back_for_every_codec_and_block_size() {
    for codec in CODECS {
        for (block_size, base) in [(4096, 0), (131_072, 4096), (1 << 20, 700_000)] {
            let dir = tempfile::tempdir().expect("a folder");
            let image = dir.path().join("image");
            write_odd_tree(&image, base, Options { codec, block_size, time: 1, ..Options::default() });
            let out = dir.path().join("out");
            let (image_s, out_s) = (image.to_str().expect("utf-8"), out.to_str().expect("utf-8"));
            judge_says_yes("unsquashfs", &["-no-progress", "-o", &base.to_string(), "-d", out_s, image_s]);
            assert_eq!(listing(&out), our_listing(&image, base), "{codec:?} {block_size}");
            let xattr = judge_says_yes("unsquashfs", &["-o", &base.to_string(), "-lln", image_s]);
            assert!(xattr.contains("squashfs-root/x/with"), "{xattr}");
        }
    }
}

#[test]
fn unsquashfs_says_no_to_a_damaged_block() {
    let dir = tempfile::tempdir().expect("a folder");
    let image = dir.path().join("image");
    write_odd_tree(&image, 0, Options { codec: CODECS[1], block_size: 131_072, ..Options::default() });
    let mut bytes = std::fs::read(&image).expect("read");
    bytes[2000..4000].fill(0xA5);
    std::fs::write(&image, bytes).expect("write");
    let out = dir.path().join("out");
    let out =
        judge("unsquashfs", &["-no-progress", "-d", out.to_str().expect("utf-8"), image.to_str().expect("utf-8")]);
    let text = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(!out.status.success() || text.contains("fail"), "{text}");
}

#[test]
fn seven_zip_tests_and_lists_it() {
    let dir = tempfile::tempdir().expect("a folder");
    for codec in CODECS {
        let image = dir.path().join("image.squashfs");
        let fragments = Fragments::AllTails;
        write_odd_tree(&image, 0, Options { codec, block_size: 65_536, fragments, ..Options::default() });
        let text = judge_says_yes("7zz", &["t", image.to_str().expect("utf-8")]);
        assert!(text.contains("Everything is Ok"), "{text}");
    }
    let image = dir.path().join("broken.squashfs");
    std::fs::write(&image, noise(1, 100_000)).expect("write");
    assert!(!judge("7zz", &["t", image.to_str().expect("utf-8")]).status.success());
}

/// The kernel reads xattrs, devices, hard links and looks names up through the index of large folders.
#[test]
fn the_kernel_mounts_it() {
    assert!(test_support::is_root(), "mounting needs root; `./test` says how to run as root");
    let dir = tempfile::tempdir().expect("a folder");
    for codec in CODECS {
        let image = dir.path().join("image");
        let at = dir.path().join("at");
        let base = 8192;
        write_odd_tree(&image, base, Options { codec, block_size: 1 << 20, time: 1, ..Options::default() });
        std::fs::create_dir_all(&at).expect("folder");
        let (image_s, at_s) = (image.to_str().expect("utf-8"), at.to_str().expect("utf-8"));
        judge_says_yes("mount", &["-t", "squashfs", "-o", &format!("ro,loop,offset={base}"), image_s, at_s]);
        let seen = listing(&at);
        let found = std::fs::read(at.join("many/file-with-a-rather-long-name-01203"));
        let attribute = judge("getfattr", &["--only-values", "-n", "user.colour", &format!("{at_s}/x/the-same")]);
        let links = std::os::unix::fs::MetadataExt::nlink(&at.join("a/long").metadata().expect("metadata"));
        test_support::unmount(std::path::Path::new(at_s));
        assert_eq!(seen, our_listing(&image, base), "{codec:?}");
        assert_eq!(found.expect("found by name"), b"1203");
        assert_eq!(attribute.stdout, b"amber");
        assert_eq!(links, 2);
    }
    let image = dir.path().join("cut");
    std::fs::write(&image, [b"hsqs".as_slice(), &[0; 5000]].concat()).expect("write");
    let no = judge("mount", &["-t", "squashfs", "-o", "ro,loop", image.to_str().expect("utf-8"), "/mnt"]);
    assert!(!no.status.success());
}

#[test]
fn any_number_of_threads_gives_the_same_bytes() {
    let dir = tempfile::tempdir().expect("a folder");
    let mut seen = Vec::new();
    for threads in [1, 2, 3, 8] {
        let image = dir.path().join(format!("image-{threads}"));
        write_odd_tree(&image, 0, Options { threads, block_size: 16_384, ..Options::default() });
        seen.push(blake3::hash(&std::fs::read(&image).expect("read")));
    }
    assert!(seen.iter().all(|hash| *hash == seen[0]), "{seen:?}");
}

#[test]
fn a_file_that_was_there_before_takes_no_room() {
    let write = |copies: usize| {
        let options = Options { block_size: 4096, fragments: Fragments::AllTails, ..Options::default() };
        let mut w = Writer::new(std::io::Cursor::new(Vec::new()), options).expect("options");
        let bytes = noise(9, 100_000);
        for n in 0..copies {
            w.begin_file(format!("{n}").as_bytes(), Meta::file(0o644)).expect("begin");
            w.data(&bytes).expect("data");
            w.end_file(Some([7; 32])).expect("end");
        }
        w.finish().expect("finish")
    };
    let ((_, one), (out, ten)) = (write(1), write(10));
    assert_eq!((ten.duplicates, ten.duplicate_bytes), (9, 900_000));
    assert!(ten.bytes <= one.bytes + 4096, "{one:?} {ten:?}");
    let image = Image::open(out.into_inner(), 0, Limits::default()).expect("opened");
    for n in 0..10 {
        let inode = image.lookup(format!("{n}").as_bytes()).expect("looked up").expect("there");
        assert!(image.read_to_vec(&inode).expect("read") == noise(9, 100_000));
    }
}
