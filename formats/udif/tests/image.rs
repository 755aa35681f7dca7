//! What is written is read back, by us and by other readers; what is damaged is noticed; what is hostile is refused.

use hfs_plus::write::{Builder, Meta, Options as VolumeOptions};
use proptest::prelude::*;
use read_at::{Part, ReadAt};
use std::io::Write;
use test_support::{noise, prose};
use udif::Error;
use udif::codec::Codec;
use udif::partitions::{Content, partitions};
use udif::read::{Image, Limits};
use udif::write::{Options, Resource, Scheme, Writer};

/// A volume with text, noise and holes in it.
fn volume() -> Vec<u8> {
    let mut builder =
        Builder::new("Hives", VolumeOptions { time: 1_790_000_000, ..VolumeOptions::default() }).expect("a name");
    let files = [prose(1, 700_000), noise(2, 600_000), vec![0; 2_000_000], prose(3, 5)];
    for (n, bytes) in files.iter().enumerate() {
        builder.file(&format!("frame {n}"), bytes.len() as u64, Meta::file(0o644)).expect("added");
    }
    let mut writer = builder.lay_out().expect("laid out").write(Vec::new()).expect("begun");
    files.iter().for_each(|f| writer.data(f).expect("written"));
    writer.finish().expect("finished")
}

fn image(volume: &[u8], options: Options) -> Vec<u8> {
    let mut writer = Writer::new(Vec::new(), volume.len() as u64, options).expect("begun");
    // In pieces that do not fit the chunks.
    volume.chunks(77_777).for_each(|c| writer.write_all(c).expect("written"));
    writer.finish().expect("finished")
}

fn open(bytes: Vec<u8>) -> Image<Vec<u8>> {
    Image::open(bytes, Limits::default()).expect("an image")
}

/// The volume of an image's only partition with files.
fn inside(image: &Image<Vec<u8>>) -> Vec<u8> {
    let all = partitions(image).expect("partitions");
    let part = all.iter().find(|p| p.content == Content::Hfs).expect("a volume");
    let mut bytes = vec![0; part.length as usize];
    image.read_exact_at(&mut bytes, part.start).expect("read");
    bytes
}

fn every() -> Vec<Options> {
    let codecs = [Codec::Zlib(1), Codec::Zlib(9), Codec::Bzip2(9), Codec::Lzfse, Codec::Raw];
    let schemes = [Scheme::Gpt, Scheme::Bare];
    let all = codecs.into_iter().flat_map(|codec| schemes.map(|scheme| (codec, scheme)));
    all.map(|(codec, scheme)| Options { codec, scheme, id: [9; 16], ..Options::default() }).collect()
}

#[test]
fn every_codec_and_scheme_is_read_back_and_follows_every_rule() {
    let volume = volume();
    for options in every() {
        let bytes = image(&volume, options.clone());
        assert!(
            bytes == image(&volume, Options { threads: 3, ..options.clone() }),
            "the same for any number of threads"
        );
        let image = open(bytes);
        assert_eq!(udif::check::check(&image).expect("checked"), Vec::<String>::new(), "{options:?}");
        assert!(inside(&image) == volume, "{options:?}");
        let part = &partitions(&image).expect("partitions")[0];
        let disk = Part::new(&image, part.start, part.length).expect("a part");
        let files = hfs_plus::read::Volume::open(disk, hfs_plus::read::Limits::default()).expect("a volume");
        assert_eq!(hfs_plus::check::check(&files).expect("checked"), Vec::<String>::new());
    }
}

#[test]
fn zeros_take_no_room_and_noise_is_not_packed() {
    let mut volume = vec![0; 64 << 20];
    volume.extend(noise(5, 1 << 20));
    let bytes = image(&volume, Options { scheme: Scheme::Bare, ..Options::default() });
    assert!(bytes.len() < (1 << 20) + 6000, "{}", bytes.len());
    let image = open(bytes);
    assert_eq!(image.parts()[0].runs.len(), 3, "one run of zeros, two chunks of noise");
}

#[test]
fn other_things_in_the_image_are_kept() {
    let text = Resource { kind: "TEXT".into(), id: 5000, name: "English".into(), data: b"Count frames.".to_vec() };
    let image = open(image(&volume(), Options { resources: vec![text], ..Options::default() }));
    assert_eq!(image.others(), [("TEXT".to_owned(), "5000".to_owned(), b"Count frames.".to_vec())]);
}

#[test]
fn other_readers_agree() {
    let volume = volume();
    let folder = tempfile::tempdir().expect("a folder");
    for (n, options) in every().into_iter().enumerate() {
        let path = folder.path().join(format!("{n}.dmg"));
        let bytes = image(&volume, options.clone());
        std::fs::write(&path, &bytes).expect("written");
        let path = path.to_str().expect("text");
        let told = test_support::judge_says_yes("7zz", &["t", "-tdmg", path]);
        assert!(told.contains("Everything is Ok") && !told.contains("Warning"), "{options:?}: {told}");
        let listed = test_support::judge_says_yes("7zz", &["l", path]);
        assert!(listed.contains("frame 1"), "{options:?}: {listed}");
        let out = folder.path().join(format!("out{n}"));
        test_support::judge_says_yes("7zz", &["x", "-y", &format!("-o{}", out.display()), path]);
        let found = test_support::listing(&out).join("\n");
        assert!(found.contains("frame 2"), "{found}");
        // The whole disk, byte for byte, by a third reader; its own bzip2 fails at long runs, which 7zz reads.
        if !matches!(options.codec, Codec::Bzip2(_)) {
            let script = "import sys, pymodi\nh = pymodi.handle(); h.open(sys.argv[1])\nn = h.get_media_size()\nopen(sys.argv[2], 'wb').write(h.read_buffer(n))";
            let disk = folder.path().join("disk");
            test_support::judge_says_yes(&test_support::python(), &["-c", script, path, disk.to_str().expect("text")]);
            let ours = open(bytes.clone());
            let mut all = vec![0; ours.length().expect("known") as usize];
            ours.read_exact_at(&mut all, 0).expect("read");
            assert!(std::fs::read(&disk).expect("read") == all, "{options:?}");
            if options.scheme == Scheme::Gpt {
                // It checks both checksums of the partition table.
                let columns = ["-s", "-g", "-o", "START,NAME,TYPE"];
                let told =
                    test_support::judge_says_yes("partx", &[&columns[..], &[disk.to_str().expect("text")]].concat());
                assert_eq!(
                    told.split_whitespace().collect::<Vec<_>>(),
                    ["40", "disk", "image", "48465300-0000-11aa-aa11-00306543ecac"]
                );
            }
        }
        // And it says no to a damaged one.
        if !matches!(options.codec, Codec::Raw) {
            let mut bad = bytes;
            bad[20_000] ^= 0x10;
            std::fs::write(path, bad).expect("written");
            assert!(!test_support::judge("7zz", &["t", "-tdmg", path]).status.success(), "{options:?}");
        }
    }
}

#[test]
fn a_flipped_byte_is_noticed_wherever_it_counts() {
    let bytes = image(&volume(), Options::default());
    let list = open(bytes.clone()).trailer().list_offset.get() as usize;
    let is_noticed = |at: usize| {
        let mut bad = bytes.clone();
        bad[at] ^= 0x04;
        let findings = Image::open(bad, Limits::default()).map(|i| udif::check::check(&i));
        !matches!(findings, Ok(Ok(f)) if f.is_empty())
    };
    for at in (0..list).step_by(list / 40) {
        assert!(is_noticed(at), "the byte at {at} of the data");
    }
    let places: Vec<usize> = (bytes.len() - 512..bytes.len() - 284).step_by(7).collect();
    let noticed = places.iter().filter(|at| is_noticed(**at)).count();
    // The unused words of the trailer's checksums, and what this check does not need, have no other to compare with.
    assert!(noticed * 5 >= places.len(), "{noticed} of {}", places.len());
}

#[test]
fn what_is_no_image_is_refused_and_what_cannot_be_written_too() {
    for bad in [Vec::new(), vec![0; 511], vec![0; 5000], b"koly".repeat(128)] {
        assert!(matches!(Image::open(bad, Limits::default()), Err(Error::Format { .. })));
    }
    assert!(Writer::new(Vec::new(), 513, Options::default()).is_err());
    let mut writer = Writer::new(Vec::new(), 1024, Options::default()).expect("begun");
    assert!(writer.write_all(&[0; 1025]).is_err());
    let writer = Writer::new(Vec::new(), 1024, Options::default()).expect("begun");
    assert!(matches!(writer.finish(), Err(Error::Usage(_))));
}

/// An image of which a field of the trailer, at its end, says something else.
fn trailer_changed(good: &[u8], at: usize, number: u64) -> Vec<u8> {
    let mut bytes = good.to_vec();
    let start = bytes.len() - 512 + at;
    bytes[start..start + 8].copy_from_slice(&number.to_be_bytes());
    bytes
}

#[test]
fn what_is_wrong_with_an_image_is_said() {
    let good = image(&volume(), Options::default());
    let list = good.windows(6).rposition(|w| w == b"<plist").expect("a list");
    let list_changed = |old: &str, new: &str| {
        let (data, text) = good.split_at(list);
        let at = text.windows(old.len()).position(|w| w == old.as_bytes()).unwrap_or_else(|| panic!("no {old}"));
        [data, &text[..at], new.as_bytes(), &text[at + old.len()..]].concat()
    };
    let cases = [
        ("nothing", good.clone()),
        ("its end is missing", good[..good.len() - 512].to_vec()),
        ("its list is behind the file", trailer_changed(&good, 0xD8, 1 << 40)),
        ("its list has no bytes", trailer_changed(&good, 0xE0, 0)),
        ("its list is of terabytes", trailer_changed(&good, 0xE0, 1 << 40)),
        ("its list has another root", list_changed("<plist", "<plost")),
        ("its list has no tables", list_changed("<key>blkx</key>", "<key>blky</key>")),
        ("its list has no resources", list_changed("<key>resource-fork</key>", "<key>resource-fark</key>")),
    ];
    let mut out = String::new();
    for (what, bytes) in cases {
        let said = match Image::open(bytes, Limits::default()).and_then(|image| udif::check::check(&image)) {
            Ok(findings) if findings.is_empty() => "nothing is wrong".to_owned(),
            Ok(findings) => format!("found: {}", findings.join("; ")),
            Err(e) => e.to_string(),
        };
        out.push_str(&format!("{what}: {said}\n"));
    }
    insta::assert_snapshot!(out, @r#"
    nothing: nothing is wrong
    its end is missing: not a disk image (at offset 0xae74b)
    its list is behind the file: the property list lies outside of the file (at offset 0xaea23)
    its list has no bytes: the image has no property list; images that old are not read (at offset 0xae94b)
    its list is of terabytes: a property list of 1099511627776 bytes
    its list has another root: the property list can't be read (at offset 0xad39c)
    its list has no tables: found: the checksum of the tables: 0x75c10dde is declared, 0x0 was found; sectors of the disk: 0x19d9 is declared, 0x0 was found
    its list has no resources: the property list has no resources (at offset 0xad39c)
    "#);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn damaged_images_give_data_or_an_error(places in proptest::collection::vec((any::<u32>(), any::<u8>()), 1..6), cut in 0usize..3000) {
        thread_local!(static GOOD: Vec<u8> = image(&volume(), Options::default()));
        let mut bytes = GOOD.with(Clone::clone);
        // Mostly near the end, where lengths and offsets stand.
        for (n, (at, byte)) in places.into_iter().enumerate() {
            let from = if n % 2 == 0 { bytes.len() - 512 } else { bytes.len() - 12_000 };
            let at = from + at as usize % (bytes.len() - from);
            bytes[at] = byte;
        }
        if cut < 1000 {
            bytes.drain(100..100 + cut);
        }
        let limits = Limits { max_list: 1 << 20, max_chunk: 1 << 20 };
        if let Ok(image) = Image::open(bytes, limits) {
            let _ = (udif::check::check(&image), partitions(&image));
            let mut some = vec![0; 100_000];
            for at in [0, 4096, 1 << 20, u64::MAX - 5] {
                let _ = image.read_exact_at(&mut some, at);
            }
        }
    }
}
