//! Programs that nobody here wrote get other resources and stay what they are: judged by other readers, and by starting
//! them on a machine of Wine.

use pe_image::{Error, Image, Key, Resources, Version, kinds, set_icon};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use test_support::judge_says_yes;

const OURS: &[u8] = include_bytes!("../../../demo/files/built/windows-x64/combwright.exe");

fn wine_programs() -> Vec<PathBuf> {
    let folder = Path::new("/usr/lib/x86_64-linux-gnu/wine/x86_64-windows");
    let entries = std::fs::read_dir(folder).expect("the judge wine is installed by `./test`");
    let mut all: Vec<PathBuf> =
        entries.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "exe")).collect();
    all.sort();
    assert!(all.len() > 50);
    all
}

/// An icon of two pictures.
fn ico(color: u8) -> Vec<u8> {
    let mut folder = ico::IconDir::new(ico::ResourceType::Icon);
    for size in [16, 48] {
        let picture = ico::IconImage::from_rgba_data(size, size, [color, 90, 10, 255].repeat((size * size) as usize));
        folder.add_entry(ico::IconDirEntry::encode_as_bmp(&picture).expect("encoded"));
    }
    let mut out = std::io::Cursor::new(Vec::new());
    folder.write(&mut out).expect("written");
    out.into_inner()
}

/// Sizes and pixels of an icon's pictures.
fn pictures(ico: &[u8]) -> Vec<(u32, Vec<u8>)> {
    let folder = ico::IconDir::read(std::io::Cursor::new(ico)).expect("an icon");
    let pictures = folder.entries().iter().map(|e| e.decode().expect("a picture"));
    pictures.map(|p| (p.width(), p.rgba_data().to_vec())).collect()
}

fn version() -> Version {
    let texts =
        [("ProductName", "Bienen-Stöcke 蜂"), ("FileVersion", "2.4.0.7"), ("CompanyName", "Fernhollow Apiary Works")];
    let texts = texts.into_iter().map(|(k, v)| (k.to_owned(), v.to_owned())).collect();
    Version { file: [2, 4, 0, 7], product: [2, 4, 65535, 0], texts }
}

fn branded(program: &[u8]) -> pe_image::Result<Vec<u8>> {
    let image = Image::parse(program)?;
    let mut resources = image.resources()?;
    set_icon(&mut resources, &ico(200))?;
    version().put(&mut resources);
    image.with_resources(&resources)
}

/// All resources as text, from another reader.
fn others_view(bytes: &[u8]) -> Vec<String> {
    use object::read::pe::{PeFile64, ResourceDirectoryEntryData as Entry};
    let file = PeFile64::parse(bytes).expect("another reader takes it");
    let sections = file.section_table();
    let resources = file.data_directories().resource_directory(bytes, &sections).expect("in range").expect("resources");
    let mut all = Vec::new();
    let name = |n: object::read::pe::ResourceNameOrId| match n {
        object::read::pe::ResourceNameOrId::Name(n) => n.to_string_lossy(resources).expect("a name"),
        object::read::pe::ResourceNameOrId::Id(id) => id.to_string(),
    };
    for kind in resources.root().expect("a root").entries {
        let Entry::Table(names) = kind.data(resources).expect("a place") else { panic!("a kind is a folder") };
        for resource in names.entries {
            let Entry::Table(languages) = resource.data(resources).expect("a place") else {
                panic!("a name is a folder")
            };
            for language in languages.entries {
                let Entry::Data(data) = language.data(resources).expect("a place") else {
                    panic!("a language is data")
                };
                let bytes =
                    sections.pe_data_at(bytes, data.offset_to_data.get(object::LittleEndian)).expect("in a section");
                let len = data.size.get(object::LittleEndian) as usize;
                all.push(format!(
                    "{} {} {} {:?}",
                    name(kind.name_or_id()),
                    name(resource.name_or_id()),
                    name(language.name_or_id()),
                    &bytes[..len]
                ));
            }
        }
    }
    all
}

#[test]
fn the_resources_of_real_programs_come_back_and_everything_else_stays() {
    let mut with_resources = 0;
    for path in wine_programs() {
        let bytes = std::fs::read(&path).expect("read");
        let image = Image::parse(&bytes).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        let resources = image.resources().unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        if resources.count() == 0 {
            continue;
        }
        with_resources += 1;
        let written = image.with_resources(&resources).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        let again = Image::parse(&written).expect("reads back");
        assert_eq!(again.resources().expect("reads back"), resources, "{}", path.display());
        assert_eq!(others_view(&written), others_view(&bytes), "{}", path.display());
        for section in image.sections().iter().filter(|s| s.name != b".rsrc" && s.raw_size > 0) {
            let found = again.sections().iter().find(|s| *s == section).expect("the same section");
            let range = found.raw_at as usize..(found.raw_at + found.raw_size) as usize;
            assert!(written[range.clone()] == bytes[range], "{}", path.display());
        }
        // Once more gives the same bytes.
        assert!(again.with_resources(&resources).expect("written") == written);
    }
    assert!(with_resources > 50, "{with_resources}");
}

#[test]
fn icon_and_version_stand_in_any_program_and_another_tool_takes_the_icon_out() {
    let folder = tempfile::tempdir().expect("a folder");
    let programs = wine_programs().into_iter().step_by(12).map(|p| std::fs::read(p).expect("read"));
    for program in programs.chain([OURS.to_vec()]) {
        let before = Image::parse(&program).expect("a program").resources().expect("resources");
        let bytes = branded(&program).expect("branded");
        let resources = Image::parse(&bytes).expect("reads back").resources().expect("reads back");
        assert_eq!(Version::read(&resources).unwrap(), Some(version()));
        let manifests = |r: &Resources| r.of_kind(kinds::MANIFEST).map(|m| m.2.to_vec()).collect::<Vec<_>>();
        assert_eq!(manifests(&resources), manifests(&before), "what was not asked for stays");
        let path = folder.path().join("program.exe");
        std::fs::write(&path, &bytes).expect("written");
        let path = path.to_str().expect("text");
        let group = match resources.of_kind(kinds::ICON_GROUP).next().expect("an icon").0 {
            Key::Id(id) => id.to_string(),
            Key::Name(name) => String::from_utf16_lossy(name),
        };
        let out = folder.path().join("out.ico");
        judge_says_yes("wrestool", &["-x", "-t", "14", "-n", &group, "-o", out.to_str().expect("text"), path]);
        assert_eq!(
            pictures(&std::fs::read(&out).expect("extracted")),
            pictures(&ico(200)),
            "what was put in comes out"
        );
    }
}

#[test]
fn a_branded_program_still_runs() {
    let machine = test_support::wine::Wine::new();
    std::fs::write(machine.c().join("plain.exe"), OURS).expect("written");
    std::fs::write(machine.c().join("branded.exe"), branded(OURS).expect("branded")).expect("written");
    for name in ["plain", "branded"] {
        let out = machine.run(&[&format!("C:\\{name}.exe"), "--where", &format!("C:\\{name}.txt")]);
        assert!(out.status.success(), "{name}");
    }
    let said = |name: &str| std::fs::read_to_string(machine.c().join(format!("{name}.txt"))).expect("it ran");
    assert_eq!(said("branded").replace("branded", "plain"), said("plain"));
}

#[test]
fn the_first_icon_is_replaced_and_its_pictures_go_but_those_of_others_stay() {
    let mut resources = Resources::default();
    set_icon(&mut resources, &ico(1)).expect("set");
    let first: BTreeMap<Key, Vec<u8>> =
        resources.of_kind(kinds::ICON).map(|(k, _, b)| (k.clone(), b.to_vec())).collect();
    assert_eq!(first.len(), 2);
    // A second icon shares a picture with the first one.
    let mut group = resources.of_kind(kinds::ICON_GROUP).next().expect("a group").2.to_vec();
    group.truncate(6 + 14);
    group[4] = 1;
    resources.put(kinds::ICON_GROUP, Key::Id(7), 1033, group);
    set_icon(&mut resources, &ico(2)).expect("set");
    let groups: Vec<&Key> = resources.of_kind(kinds::ICON_GROUP).map(|g| g.0).collect();
    assert_eq!(groups, [&Key::Id(1), &Key::Id(7)]);
    let pictures: BTreeMap<Key, Vec<u8>> =
        resources.of_kind(kinds::ICON).map(|(k, _, b)| (k.clone(), b.to_vec())).collect();
    assert_eq!(pictures.len(), 3, "two new ones, and the one that the other icon has too");
    assert_eq!(pictures[&Key::Id(1)], first[&Key::Id(1)]);
    assert!(set_icon(&mut resources, b"no icon").is_err() && set_icon(&mut resources, &ico(3)[..50]).is_err());
}

#[test]
fn a_signature_goes_and_what_lies_behind_the_sections_stays() {
    let mut signed = OURS.to_vec();
    signed.extend_from_slice(b"before ");
    let at = signed.len() as u32;
    signed.extend_from_slice(b"a signature");
    signed.extend_from_slice(b"behind");
    let pe = u32::from_le_bytes(*signed[0x3C..].first_chunk().expect("a header")) as usize;
    // The fifth directory of a 64-bit program.
    let directory = pe + 24 + 112 + 4 * 8;
    signed[directory..directory + 4].copy_from_slice(&at.to_le_bytes());
    signed[directory + 4..directory + 8].copy_from_slice(&11u32.to_le_bytes());
    assert!(Image::parse(&signed).expect("reads").is_signed() && !Image::parse(OURS).expect("reads").is_signed());
    let bytes = branded(&signed).expect("branded");
    assert!(!Image::parse(&bytes).expect("reads").is_signed());
    assert!(bytes.ends_with(b"before behind"));
}

#[test]
fn what_is_no_program_is_refused_with_its_place() {
    for (bytes, said) in [
        (&b""[..], "not a PE file"),
        (b"\x7fELF", "not a PE file"),
        (b"MZ", "the file ends too early"),
        (&OURS[..300], "the file ends too early"),
    ] {
        let error = Image::parse(bytes).and_then(|i| i.resources()).expect_err("refused").to_string();
        assert!(error.contains(said) && error.contains("at offset"), "{error}");
    }
    let mut wrong = OURS.to_vec();
    wrong[0x3C..0x40].copy_from_slice(&u32::MAX.to_le_bytes());
    assert!(matches!(Image::parse(&wrong), Err(Error::Format { .. })));
}

#[test]
fn an_empty_resource_may_lie_where_the_section_ends() {
    // Of some length the ones before it fill the section to its end.
    for length in 0..520 {
        let mut resources = Resources::default();
        resources.put(18, Key::Id(0), 0, vec![7; length]);
        resources.put(18, Key::Id(1), 0, Vec::new());
        let written = Image::parse(OURS).expect("reads").with_resources(&resources).expect("written");
        assert_eq!(Image::parse(&written).expect("reads").resources().expect("reads"), resources, "{length}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_bytes_make_it_panic(changes in prop::collection::vec((0usize..4096, any::<u8>()), 1..30), cut in 0usize..20_000) {
        let mut bytes = branded(OURS).expect("branded");
        let headers = bytes.len();
        // Half of the changes meet the headers, half the resources at the end.
        for (n, (at, byte)) in changes.into_iter().enumerate() {
            let at = if n % 2 == 0 { at % 1024 } else { headers.saturating_sub(4096) + at };
            if let Some(place) = bytes.get_mut(at) {
                *place = byte;
            }
        }
        bytes.truncate(bytes.len().saturating_sub(cut / 4));
        if let Ok(image) = Image::parse(&bytes)
            && let Ok(mut resources) = image.resources()
        {
            let _ = Version::read(&resources);
            let _ = set_icon(&mut resources, &ico(9));
            let _ = image.with_resources(&resources);
        }
    }

    #[test]
    fn any_resources_come_back(all in prop::collection::vec((1u16..40, prop_oneof![any::<u16>().prop_map(Key::Id), prop::collection::vec(any::<u16>(), 1..9).prop_map(Key::Name)], any::<u16>(), prop::collection::vec(any::<u8>(), 0..200)), 0..40)) {
        let mut resources = Resources::default();
        for (kind, name, language, bytes) in all {
            resources.put(kind, name, language, bytes);
        }
        let written = Image::parse(OURS).expect("reads").with_resources(&resources).expect("written");
        prop_assert_eq!(Image::parse(&written).expect("reads").resources().expect("reads"), resources);
    }
}
