//! Images of a real runtime: read whole, and written anew with all or some of its modules, which that runtime's own programs
//! then take.

use module_image::{Content, Error, Image, Name, Writer};
use proptest::prelude::*;
use std::fs::File;
use std::path::Path;
use std::process::Command;
use std::sync::LazyLock;

const JAVA: &str = "/usr/lib/jvm/java-17-openjdk-amd64";

fn real() -> Image<File> {
    Image::open(File::open(format!("{JAVA}/lib/modules")).expect("openjdk-17-jdk-headless")).expect("an image")
}

fn written<R: read_at::ReadAt>(image: &Image<R>, keeps: impl Fn(&Name) -> bool) -> Vec<u8> {
    let mut writer = Writer::new();
    for entry in image.entries() {
        let entry = entry.expect("an entry");
        if !entry.name.is_of_a_tree() && keeps(&entry.name) {
            writer.add(&entry.name.to_string(), Content::Copied(entry)).expect("a name");
        }
    }
    let mut out = Vec::new();
    writer.write(image, &mut out).expect("written");
    out
}

#[test]
fn a_real_image_holds_what_its_own_reader_says() {
    let image = real();
    let object = image.find("/java.base/java/lang/Object.class").expect("an index").expect("there");
    assert_eq!(image.content(&object).expect("read")[..4], [0xca, 0xfe, 0xba, 0xbe]);
    assert!(image.find("/java.base/java/lang/Honey.class").expect("an index").is_none());
    // Every entry is found by its name.
    let mut count = 0;
    for entry in image.entries() {
        let entry = entry.expect("an entry");
        let name = entry.name.to_string();
        assert_eq!(image.find(&name).expect("an index"), Some(entry), "{name}");
        count += 1;
    }
    let list = Command::new(format!("{JAVA}/bin/jimage")).args(["list", &format!("{JAVA}/lib/modules")]).output();
    let list = String::from_utf8(list.expect("started").stdout).expect("text");
    let files = list.lines().filter(|line| line.starts_with("    ")).count();
    assert!(files > 20_000 && count > files, "{files} files, {count} entries");
}

#[test]
fn some_modules_make_an_image_that_the_runtimes_own_reader_finds_whole() {
    let image = real();
    let bytes = written(&image, |name| ["java.base", "java.logging"].contains(&name.module));
    assert_eq!(bytes, written(&image, |name| ["java.base", "java.logging"].contains(&name.module)));
    let small = Image::open(bytes.clone()).expect("an image");
    let mut count = 0;
    for entry in small.entries() {
        let entry = entry.expect("an entry");
        if entry.name.is_of_a_tree() {
            continue;
        }
        let name = entry.name.to_string();
        let there = image.find(&name).expect("an index").expect("there");
        assert!(small.content(&entry).expect("read") == image.content(&there).expect("read"), "{name}");
        count += 1;
    }
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("modules");
    std::fs::write(&file, &bytes).expect("written");
    let verified = Command::new(format!("{JAVA}/bin/jimage")).arg("verify").arg(&file).output().expect("started");
    let said = String::from_utf8_lossy(&verified.stdout).into_owned();
    assert!(verified.status.success() && !said.to_lowercase().contains("error"), "{said}");
    let list = Command::new(format!("{JAVA}/bin/jimage")).arg("list").arg(&file).output().expect("started");
    let files = String::from_utf8_lossy(&list.stdout).lines().filter(|line| line.starts_with("    ")).count();
    assert_eq!(files, count);
    assert!(bytes.len() < 30_000_000, "{}", bytes.len());
}

/// A small image of two modules.
fn small() -> Vec<u8> {
    static SMALL: LazyLock<Vec<u8>> = LazyLock::new(make_small);
    SMALL.clone()
}

fn make_small() -> Vec<u8> {
    let mut writer = Writer::new();
    let nothing = Image::open(File::open(Path::new(JAVA).join("lib/modules")).expect("there")).expect("an image");
    for (name, bytes) in [
        ("/hives/module-info.class", &b"descriptor"[..]),
        ("/hives/works/fernhollow/Hive.class", b"a hive"),
        ("/hives/works/fernhollow/Hive.properties", b""),
        ("/frames/works/fernhollow/frames/Frame.class", b"a frame"),
    ] {
        writer.add(name, Content::Memory(bytes.to_vec())).expect("a name");
    }
    let mut out = Vec::new();
    writer.write(&nothing, &mut out).expect("written");
    out
}

/// What an image says, and whatever is wrong with it.
fn all_of_it(bytes: Vec<u8>) -> Result<Vec<(String, Vec<u8>)>, Error> {
    let image = Image::open(bytes)?;
    let read =
        image.entries().map(|entry| entry.and_then(|entry| Ok((entry.name.to_string(), image.content(&entry)?))));
    let mut all = read.collect::<Result<Vec<_>, _>>()?;
    let _ = image.find("/hives/works/fernhollow/Hive.class")?;
    all.sort();
    Ok(all)
}

#[test]
fn names_lie_in_two_trees() {
    let names: Vec<String> = all_of_it(small()).expect("an image").into_iter().map(|(name, _)| name).collect();
    assert_eq!(
        names,
        [
            "/frames/works/fernhollow/frames/Frame.class",
            "/hives/module-info.class",
            "/hives/works/fernhollow/Hive.class",
            "/hives/works/fernhollow/Hive.properties",
            "/modules",
            "/modules/frames",
            "/modules/frames/works",
            "/modules/frames/works/fernhollow",
            "/modules/frames/works/fernhollow/frames",
            "/modules/hives",
            "/modules/hives/works",
            "/modules/hives/works/fernhollow",
            "/packages",
            "/packages/works",
            "/packages/works.fernhollow",
            "/packages/works.fernhollow.frames",
        ]
    );
    let mut writer = Writer::new();
    for name in ["Hive.class", "/Hive.class", "/modules/hives/Hive.class", "/hives/", "//Hive.class", "/hives/Hive."] {
        assert!(writer.add(name, Content::Memory(Vec::new())).is_err(), "{name}");
    }
}

#[test]
fn packed_contents_are_unpacked_and_what_is_packed_in_another_way_is_told() {
    use std::io::Write;
    let mut zlib = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
    zlib.write_all(&[b'h'; 5000]).expect("packed");
    let zlib = zlib.finish().expect("packed");
    // The text at `way` names how it is packed.
    let packed = |bytes: &[u8], size: u64, way: u32| {
        let mut all = 0xCAFE_FAFAu32.to_le_bytes().to_vec();
        all.extend((bytes.len() as u64).to_le_bytes());
        all.extend(size.to_le_bytes());
        all.extend(way.to_le_bytes());
        all.extend([0, 0, 0, 0, 1]);
        all.extend(bytes);
        all
    };
    let image = |content: Vec<u8>| {
        let mut writer = Writer::new();
        writer.add("/zip/compact-cp/a", Content::Memory(content.clone())).expect("a name");
        let mut bytes = Vec::new();
        writer.write(&Image::open(small()).expect("an image"), &mut bytes).expect("written");
        // Its size becomes its packed size.
        let size = (content.len() as u64).to_be_bytes();
        let size = &size[(content.len() as u64).leading_zeros() as usize / 8..];
        let attribute = [&[7 << 3 | (size.len() as u8 - 1)], size].concat();
        let at = bytes.windows(attribute.len()).position(|window| window == attribute).expect("a size");
        bytes[at] -= 1 << 3;
        bytes
    };
    // Without a size that fits, it is refused, and not trusted.
    let bytes = image(packed(&zlib, 5000, 1));
    let opened = Image::open(bytes).expect("an image");
    let entry = opened.find("/zip/compact-cp/a").expect("an index").expect("there");
    assert!(entry.is_packed());
    let e = opened.content(&entry).expect_err("another size").to_string();
    assert!(e.contains("has another length than it says"), "{e}");
    let bytes = image(packed(&zlib, 5000, 5));
    let opened = Image::open(bytes).expect("an image");
    let entry = opened.find("/zip/compact-cp/a").expect("an index").expect("there");
    let e = opened.content(&entry).expect_err("another way").to_string();
    assert!(e.contains("packed in a way (compact-cp)"), "{e}");
}

#[test]
fn what_is_no_image_is_told() {
    for (bytes, said) in [
        (vec![], "no module image"),
        (vec![7; 100], "no module image"),
        (0xCAFE_DADAu32.to_be_bytes().repeat(10), "the highest byte first"),
        ([0xCAFE_DADAu32, 2 << 16, 0, 0, 0, 0, 0].map(u32::to_le_bytes).concat(), "of version 2.0"),
        ([0xCAFE_DADAu32, 1 << 16, 0, 0, 0, 0, 0].map(u32::to_le_bytes).concat(), "0 entries in a table for 0"),
        ([0xCAFE_DADAu32, 1 << 16, 0, 1, 1, u32::MAX, u32::MAX].map(u32::to_le_bytes).concat(), "longer than it is"),
        ([0xCAFE_DADAu32, 1 << 16, 0, 1, u32::MAX, 0, 0].map(u32::to_le_bytes).concat(), "in a table for 4294967295"),
    ] {
        let e = Image::open(bytes).map(|_| ()).expect_err(said).to_string();
        assert!(e.contains(said), "{e}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn a_damaged_image_is_told_or_read_and_nothing_worse(at in 0usize..2000, byte: u8, end in 0usize..2000) {
        let mut bytes = small();
        bytes.truncate(bytes.len() - end % bytes.len().min(200));
        let at = at % bytes.len();
        bytes[at] = byte;
        let _ = all_of_it(bytes);
    }

    #[test]
    fn any_names_are_found_again(
        names in prop::collection::btree_set("/[a-c]{1,2}(/[a-c]{1,3}){0,3}/[a-z]{1,4}(\\.[a-z]{1,2}){0,2}", 1..60)
    ) {
        let real = Image::open(small()).expect("an image");
        let mut writer = Writer::new();
        for name in &names {
            writer.add(name, Content::Memory(name.as_bytes().to_vec())).expect("a name");
        }
        let mut out = Vec::new();
        writer.write(&real, &mut out).expect("written");
        let image = Image::open(out).expect("an image");
        for name in &names {
            let entry = image.find(name).expect("an index").expect("there");
            prop_assert_eq!(image.content(&entry).expect("read"), name.as_bytes());
        }
    }
}
