//! Parts of signatures: what is written is read again, and whatever bytes come, an answer does.

use code_signature::{
    Blobs, Directory, Entitlements, Error, HashKind, Place, Requirement, Rules, Seal, Sealed, list_of_directories,
    page_hashes, slot,
};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn directory() -> impl Strategy<Value = Directory> {
    let kinds = prop::sample::select(vec![HashKind::Sha1, HashKind::Sha256, HashKind::Sha384]);
    let named = ("[a-z][a-z.-]{0,30}", prop::option::of("[A-Z0-9]{10}"));
    let limits = prop_oneof![1..100_000u64, Just(5 << 30)];
    let slots = prop::collection::btree_set(1..9u32, 0..5);
    (named, any::<u32>(), kinds, limits, slots, any::<(u64, u64, u64)>(), any::<u32>()).prop_map(
        |((identifier, team), flags, hash, limit, slots, executable, runtime)| {
            let length = hash.of(b"").len();
            // One digest for very long files: they need not be there.
            let page_bits = if limit > 1 << 20 { 0 } else { 12 };
            let count = if page_bits == 0 { 1 } else { limit.div_ceil(4096) as usize };
            let special: BTreeMap<u32, Vec<u8>> = slots.into_iter().map(|n| (n, vec![n as u8; length])).collect();
            let pages = vec![7; count * length];
            Directory { identifier, team, flags, hash, page_bits, limit, special, pages, executable, runtime }
        },
    )
}

fn requirement() -> impl Strategy<Value = Requirement> {
    let leaf = prop_oneof![
        "[a-z. ]{0,20}".prop_map(Requirement::Identifier),
        Just(Requirement::Apple),
        (-1..3i32, any::<[u8; 20]>()).prop_map(|(n, digest)| Requirement::Certificate(n, digest)),
        (-1..3i32, "[a-z.]{1,12}", "[A-Z]{0,9}").prop_map(|(n, field, value)| Requirement::Field(n, field, value)),
        (0..3i32, prop::collection::vec(any::<u8>(), 1..12)).prop_map(|(n, oid)| Requirement::Extension(n, oid)),
        any::<[u8; 20]>().prop_map(Requirement::Code),
    ];
    leaf.prop_recursive(5, 20, 2, |inner| {
        let pair = (inner.clone(), inner);
        prop_oneof![
            pair.clone().prop_map(|(a, b)| Requirement::And(Box::new(a), Box::new(b))),
            pair.prop_map(|(a, b)| Requirement::Or(Box::new(a), Box::new(b))),
        ]
    })
}

fn seal() -> impl Strategy<Value = Seal> {
    let sealed = prop_oneof![
        (prop::option::of(any::<[u8; 20]>()), any::<[u8; 32]>(), any::<bool>())
            .prop_map(|(sha1, sha256, optional)| Sealed::File { sha1, sha256, optional }),
        "[a-z/.]{1,20}".prop_map(Sealed::Link),
        (any::<[u8; 20]>(), "[a-z \"]{1,20}").prop_map(|(code, requirement)| Sealed::Nested { code, requirement }),
    ];
    prop::collection::btree_map("(Resources|MacOS)/[a-zä<& ]{1,9}", sealed, 0..8).prop_map(Seal)
}

proptest! {
    #[test]
    fn a_directory_is_read_as_it_was_written(directory in directory()) {
        let bytes = directory.to_bytes();
        prop_assert_eq!(Directory::read(&bytes).expect("read"), directory);
    }

    #[test]
    fn a_requirement_is_read_as_it_was_written(requirement in requirement()) {
        let bytes = requirement.to_bytes();
        prop_assert_eq!(Requirement::read(&bytes).expect("read"), Some(requirement));
        prop_assert_eq!(Requirement::read(&Requirement::none()).expect("read"), None);
    }

    #[test]
    fn a_seal_is_read_as_it_was_written(seal in seal()) {
        let found = Seal::read(&seal.to_bytes()).expect("read").seal;
        // What only older readers look at is not read again.
        let plain = |seal: &Seal| {
            let mut seal = seal.clone();
            for sealed in seal.0.values_mut() {
                if let Sealed::File { sha1, .. } = sealed {
                    *sha1 = None;
                }
            }
            seal
        };
        prop_assert_eq!(plain(&found), plain(&seal));
    }

    #[test]
    fn whatever_bytes_come_an_answer_does(directory in directory(), requirement in requirement(), at in any::<prop::sample::Index>(), to in any::<u8>(), cut in any::<prop::sample::Index>()) {
        let parts = vec![(slot::DIRECTORY, directory.to_bytes()), (slot::REQUIREMENTS, requirement.to_bytes())];
        let mut bytes = Blobs::new(parts).to_bytes();
        let n = at.index(bytes.len());
        bytes[n] = to;
        bytes.truncate(cut.index(bytes.len() + 1).max(bytes.len() / 2));
        if let Ok(blobs) = Blobs::read(&bytes) {
            for (_, part) in &blobs.parts {
                let _ = (Directory::read(part), Requirement::read(part), Entitlements::read(part), Seal::read(part));
            }
        }
        let _ = (Directory::read(&bytes), Requirement::read(&bytes), Seal::read(&bytes));
    }
}

#[test]
fn nothing_hides_between_parts_or_behind_them() {
    let good = Blobs::new(vec![(slot::DIRECTORY, Requirement::none()), (slot::REQUIREMENTS, Requirement::none())]);
    let bytes = good.to_bytes();
    let padded = [&bytes[..], &[0; 9]].concat();
    assert_eq!(Blobs::read(&padded).expect("zeros fill it up"), good);
    assert!(matches!(Blobs::read(&[&bytes[..], b"x"].concat()), Err(Error::Format { .. })));
    // The second part said to be where the first one is.
    let mut twice = bytes.clone();
    twice.copy_within(16..20, 24);
    assert!(Blobs::read(&twice).is_err());
}

#[test]
fn a_page_is_digested_up_to_where_the_file_ends() {
    let bytes: Vec<u8> = (0..10_000u32).map(|n| n as u8).collect();
    let pages = page_hashes(&bytes, 9_000, 12, HashKind::Sha256).expect("read");
    let wanted: Vec<u8> =
        [&bytes[..4096], &bytes[4096..8192], &bytes[8192..9000]].iter().flat_map(|p| HashKind::Sha256.of(p)).collect();
    assert_eq!(pages, wanted);
    let whole = page_hashes(&bytes, 9_000, 0, HashKind::Sha384).expect("read");
    assert_eq!(whole, HashKind::Sha384.of(&bytes[..9000]));
    assert!(page_hashes(&bytes, 10_001, 12, HashKind::Sha256).is_err(), "longer than the file");
}

#[test]
fn requirements_are_written_as_the_trade_reads_them() {
    let developer = Requirement::of_developer("works.fernhollow.hive", "ABCDE12345");
    assert_eq!(
        developer.to_string(),
        "identifier \"works.fernhollow.hive\" and anchor apple generic and certificate 1[field.1.2.840.113635.100.6.2.6] \
         /* exists */ and certificate leaf[field.1.2.840.113635.100.6.1.13] /* exists */ and certificate \
         leaf[subject.OU] = \"ABCDE12345\""
    );
    let code = Requirement::of_code(&[[1; 20], [0xAB; 20]]).expect("two");
    assert_eq!(code.to_string(), format!("cdhash H\"{}\" or cdhash H\"{}\"", "01".repeat(20), "ab".repeat(20)));
    let both = Requirement::Apple.and(code);
    assert!(both.to_string().starts_with("anchor apple generic and (cdhash"), "{both}");
}

#[test]
fn rules_say_what_counts_how() {
    let rules = Rules::usual();
    let all = [
        ("MacOS/helper", Place::Nested),
        ("Frameworks/X.framework", Place::Nested),
        ("embedded.provisionprofile", Place::Resource { optional: false }),
        ("Info.plist", Place::Omitted),
        ("PkgInfo", Place::Omitted),
        ("notes.txt", Place::Nested),
        ("Resources/notes.txt", Place::Resource { optional: false }),
        ("Resources/de.lproj/words.strings", Place::Resource { optional: true }),
        ("Resources/de.lproj/locversion.plist", Place::Omitted),
        ("Resources/Base.lproj/Main.nib", Place::Resource { optional: false }),
        ("Resources/.DS_Store", Place::Omitted),
        ("SharedSupport/manual.pdf", Place::Resource { optional: false }),
        ("MacOS/hive.dSYM/Contents/Info.plist", Place::Resource { optional: false }),
    ];
    for (path, place) in all {
        assert_eq!(rules.place(path), place, "{path}");
    }
}

#[test]
fn a_seal_that_is_too_old_or_too_odd_is_refused_in_a_sentence() {
    let list = |inner: &str| format!("<plist version=\"1.0\"><dict>{inner}</dict></plist>").into_bytes();
    let said = |bytes: &[u8]| Seal::read(bytes).map(|found| found.seal.0.len()).expect_err("refused").to_string();
    assert!(said(b"no list").contains("no property list"));
    assert!(said(&list("<key>files</key><dict/><key>rules</key><dict/>")).contains("10.9.5"));
    let files =
        |value: &str| list(&format!("<key>rules2</key><dict/><key>files2</key><dict><key>a</key>{value}</dict>"));
    assert!(said(&files("<data>AAAA</data>")).contains("SHA-1"));
    assert!(said(&files("<dict><key>requirement</key><string>x</string></dict>")).contains("nested code"));
    let rules = "<key>files2</key><dict/><key>rules2</key><dict><key>(</key><true/></dict>";
    assert!(said(&list(rules)).contains("the rule \"(\""));
    // Rules that would take long elsewhere take no longer than others here.
    let slow = "<key>files2</key><dict/><key>rules2</key><dict><key>^(a+)+$</key><true/></dict>";
    let found = Seal::read(&list(slow)).expect("read");
    assert_eq!(found.rules.place(&format!("{}b", "a".repeat(50_000))), Place::Omitted);
}

#[test]
fn entitlements_are_lists_of_what_can_be_said_in_both_forms() {
    let list = |inner: &str| format!("<plist version=\"1.0\"><dict>{inner}</dict></plist>").into_bytes();
    let good = Entitlements::from_list(&list("<key>b</key><true/><key>a</key><integer>-129</integer>")).expect("read");
    let [plain, der] = good.to_parts();
    assert_eq!(Entitlements::read(&plain).expect("read"), good);
    assert!(good.fits(&der));
    // { 1, { { "a", -129 }, { "b", true } } }, sorted.
    let wanted = b"\x70\x16\x02\x01\x01\xb0\x11\x30\x07\x0c\x01a\x02\x02\xff\x7f\x30\x06\x0c\x01b\x01\x01\xff";
    assert_eq!(der[8..], wanted[..]);
    for bad in ["<key>a</key><real>1.5</real>", "<key>a</key><data>AAAA</data>"] {
        assert!(Entitlements::from_list(&list(bad)).is_err(), "{bad}");
    }
    assert!(Entitlements::from_list(b"<plist version=\"1.0\"><array/></plist>").is_err());
}

#[test]
fn the_list_of_directories_is_a_property_list() {
    let text = String::from_utf8(list_of_directories(&[[0; 20]])).expect("text");
    assert!(text.contains("<key>cdhashes</key>") && text.contains("AAAAAAAAAAAAAAAAAAAAAAAAAAA="), "{text}");
}
