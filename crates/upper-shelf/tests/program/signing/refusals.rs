//! Signatures that are what they should be in all but one thing, made by the library that makes ours: who refuses which.

use super::*;
use crate::common::Folder;
use pe_image::SignedParts;
use signatures::authenticode::{self, Imprint, Named, Subject};
use signatures::authority::{self, COMMON_NAME, Role, Wanted};
use signatures::key::{Generated, Identity};
use signatures::message::{self, Attribute};
use signatures::timestamp::{self, Request};
use signatures::{Hash, oid};
use std::io::Cursor;

const DAY: u64 = 86_400;

fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("after 1970").as_secs()
}

/// Who signs, by whom, and for so many days from now.
fn identity(name: &str, role: Role, days: (i64, i64), by: Option<&Identity>) -> Identity {
    of_kind(Generated::Rsa(2048), name, role, days, by).0
}

/// The same with a key of some kind, and the key as PKCS #8.
fn of_kind(
    kind: Generated,
    name: &str,
    role: Role,
    days: (i64, i64),
    by: Option<&Identity>,
) -> (Identity, authority::PrivateKeyBytes) {
    let at = |days: i64| now().checked_add_signed(days * DAY as i64).expect("a time");
    let wanted = Wanted { subject: &[(COMMON_NAME, name)], role, from: at(days.0), until: at(days.1) };
    let (mut who, key) = authority::identity(kind, &wanted, by).expect("a key");
    who.chain.extend(by.map(|by| by.certificate().clone()));
    (who, key)
}

fn digest(parts: &SignedParts) -> Vec<u8> {
    let mut digester = Hash::Sha256.digester();
    parts.feed(&mut Cursor::new(COMBWRIGHT), |bytes| digester.update(bytes)).expect("read");
    digester.finish()
}

fn pages(parts: &SignedParts) -> Vec<u8> {
    let of = |parts: &[&[u8]]| Hash::Sha256.of(&parts.concat());
    parts.pages(&mut Cursor::new(COMBWRIGHT), 32, of).expect("pages")
}

/// A signature, with a timestamp of a clock that says it is so many days from now.
fn signature(who: &Identity, digest: &[u8], pages: Option<&[u8]>, clock: Option<(&Identity, i64)>) -> Vec<u8> {
    let imprint = Imprint { hash: Hash::Sha256, digest, pages };
    let unsigned = authenticode::prepare(Subject::Program, imprint, &who.chain, &Named::default()).expect("prepared");
    let made = who.signer.sign(Hash::Sha256, unsigned.to_sign()).expect("signed");
    let stamps = clock.map(|(clock, days)| {
        let request = Request::of(Hash::Sha256, &made).expect("a request");
        let at = now().checked_add_signed(days * DAY as i64).expect("a time");
        let answer = authority::answer(&request.der(), clock, at, &[7]).expect("an answer");
        Attribute { oid: oid::SPC_TIMESTAMP, value: timestamp::token(&answer).expect("a token").to_vec() }
    });
    unsigned.finish(&made, stamps.as_slice()).expect("a message")
}

#[test]
fn signatures_that_are_wrong_in_one_thing_are_refused() {
    let parts = SignedParts::find(&mut Cursor::new(COMBWRIGHT)).expect("a program");
    let (whole, own_pages) = (digest(&parts), pages(&parts));
    let (mut other, mut other_pages) = (whole.clone(), own_pages.clone());
    other[0] ^= 1;
    other_pages[40] ^= 1;
    let root = identity("Root", Role::Authority, (-900, 900), None);
    let strangers = identity("Stranger's root", Role::Authority, (-900, 900), None);
    let clock = identity("Clock", Role::Timestamps, (-900, 900), Some(&root));
    let good = identity("Releases", Role::Code, (-90, 90), Some(&root));
    let expired = identity("Expired", Role::Code, (-90, -1), Some(&root));
    let later = identity("Later", Role::Code, (10, 90), Some(&root));
    let stranger = identity("Stranger", Role::Code, (-90, 90), Some(&strangers));
    let plain = |who: &Identity| signature(who, &whole, None, None);
    let beside = |first: &[u8], value: Vec<u8>| {
        message::with_unsigned(first, &Attribute { oid: oid::SPC_NESTED_SIGNATURE, value }).expect("a message")
    };
    let cases = [
        ("good", plain(&good)),
        ("good, page by page", signature(&good, &whole, Some(&own_pages), None)),
        ("good, with a timestamp", signature(&good, &whole, None, Some((&clock, -3)))),
        ("good, and a good one beside it", beside(&plain(&good), plain(&good))),
        ("expired", plain(&expired)),
        ("expired, timestamp before", signature(&expired, &whole, None, Some((&clock, -30)))),
        ("expired, timestamp after", signature(&expired, &whole, None, Some((&clock, 0)))),
        ("not valid yet", plain(&later)),
        ("a certificate for timestamps", plain(&clock)),
        ("an authority's certificate", plain(&root)),
        ("a stranger", plain(&stranger)),
        ("a timestamp by a code certificate", signature(&good, &whole, None, Some((&stranger, -3)))),
        ("the digest of another program", signature(&good, &other, None, None)),
        ("the pages of another program", signature(&good, &whole, Some(&other_pages), None)),
        ("a page too few", signature(&good, &whole, Some(&own_pages[..own_pages.len() - 36]), None)),
        ("a stranger beside a good one", beside(&plain(&good), plain(&stranger))),
        ("another program's beside it", beside(&plain(&good), signature(&good, &other, None, None))),
    ];
    let folder = Folder::new();
    folder.write("root.pem", root.certificate().pem());
    let roots = folder.at("root.pem").to_string_lossy().into_owned();
    let machine = test_support::wine::Wine::new();
    let mut all = table().replace('\n', "     the system\n");
    for (what, made) in cases {
        let mut file = Cursor::new(COMBWRIGHT.to_vec());
        parts.put(&mut file, &[made]).expect("written");
        folder.write("app.exe", file.into_inner());
        row(&mut all, what, &folder.at("app.exe"), &roots);
        // It knows none of these authorities: of it is asked only whether the signature fits.
        let own = machine.bring(&folder.at("app.exe"), "app.exe");
        let said = if machine.trusts(&own) { "yes" } else { "no" };
        all.truncate(all.trim_end().len());
        let _ = writeln!(all, "{:width$}{said}", "", width = 75 - all.lines().last().unwrap_or_default().len());
    }
    insta::assert_snapshot!(all, @r#"
    accepted by                        ours  second reading  lief  signify     the system
    good                               yes   yes             yes   yes         yes
    good, page by page                 yes   yes             yes   yes         yes
    good, with a timestamp             yes   yes             yes   yes         yes
    good, and a good one beside it     yes   yes             yes   yes         yes
    expired                            no    no              no    no          yes
    expired, timestamp before          yes   yes             yes   yes         yes
    expired, timestamp after           no    no              yes   no          yes
    not valid yet                      no    no              no    no          yes
    a certificate for timestamps       no    no              yes   no          yes
    an authority's certificate         no    no              yes   no          yes
    a stranger                         no    no              yes   no          yes
    a timestamp by a code certificate  no    no              yes   no          yes
    the digest of another program      no    no              no    no          no
    the pages of another program       no    no              yes   no          yes
    a page too few                     no    no              yes   yes         yes
    a stranger beside a good one       no    no              yes   no          yes
    another program's beside it        no    no              yes   no          yes
    "#);
}

/// Puts a key where `sign` finds it: `key.pem` and `chain.pem`.
fn hand_over(folder: &Folder, who: &Identity, key: &[u8]) {
    folder.write("key.der", key);
    let words = "pkcs8 -inform DER -nocrypt -in key.der -out key.pem";
    let out = Command::new("openssl").args(words.split(' ')).current_dir(folder.path()).output().expect("openssl");
    assert!(out.status.success(), "{}", text(&out));
    folder.write("chain.pem", who.chain.iter().map(|one| one.pem()).collect::<String>());
}

#[test]
fn certificates_that_are_wrong_are_refused_in_every_format_and_with_every_kind_of_key() {
    let folder = Folder::new();
    let product = crate::common::hives::product_for("msi", "1.0.0", "");
    let msi = std::fs::read(crate::common::hives::build(&product)).expect("read");
    // All that is in an image is signed with its key, or it is not trusted: it is built with that.
    let mac = super::macos::product("[signing.macos]\nkey = \"key.pem\"\ncertificate = \"chain.pem\"\n");
    let image = mac.at("packages/Hive-1.0.0-macos-arm64.dmg");
    let openssl = |roots: &str| {
        let words =
            "cms -verify -binary -inform DER -purpose any -out /dev/null -in notes.txt.p7s -content notes.txt -CAfile";
        let mut openssl = Command::new("openssl");
        let out = openssl.args(words.split(' ')).arg(roots).current_dir(folder.path()).output().expect("openssl");
        code(&out) == 0
    };
    let mut all = String::new();
    for (kind, name) in [(Generated::Rsa(2048), "RSA"), (Generated::P256, "P-256"), (Generated::P384, "P-384")] {
        let root = of_kind(kind, "Root", Role::Authority, (-900, 900), None).0;
        let strangers = of_kind(kind, "Stranger's root", Role::Authority, (-900, 900), None).0;
        folder.write("root.pem", root.certificate().pem());
        let roots = folder.at("root.pem").to_string_lossy().into_owned();
        let _ = writeln!(all, "{name:24} {:13} {:13} {:13} {:13} any file", "msi", "msix", "program", "image");
        for (what, role, days, by, clock) in [
            ("good", Role::Code, (-90, 90), &root, "+0d"),
            ("expired", Role::Code, (-90, -1), &root, "-30d"),
            ("not valid yet", Role::Code, (10, 90), &root, "+30d"),
            ("a stranger's", Role::Code, (-90, 90), &strangers, "+0d"),
            ("for timestamps", Role::Timestamps, (-90, 90), &root, "+0d"),
            ("expired, clock right", Role::Code, (-90, -1), &root, "+0d"),
        ] {
            let (who, key) = of_kind(kind, "Releases", role, days, Some(by));
            let mut is_signed = Vec::new();
            hand_over(&folder, &who, &key);
            hand_over(&mac, &who, &key);
            let subject = who.certificate().subject();
            for (file, bytes) in [
                ("hives.msi", msi.clone()),
                ("hives.msix", crate::msix::package(&subject)),
                ("hive", super::macos::universal()),
                ("hive.dmg", Vec::new()),
                ("notes.txt", b"Queens are marked.".to_vec()),
            ] {
                let _ = std::fs::remove_file(folder.at("notes.txt.p7s"));
                folder.write(file, &bytes);
                // Whoever signs has a clock of their own.
                let mut sign = Command::new("faketime");
                sign.args(["-f", clock, PROGRAM, "sign", file, "--key", "key.pem", "--certificate", "chain.pem"]);
                sign.args(["--existing", "replace"]).current_dir(folder.path()).env("XDG_CACHE_HOME", folder.cache());
                match file {
                    // Its digests are SHA-256 whatever the key is.
                    "hives.msix" => _ = sign.args(["--digest", "sha256"]),
                    "hive.dmg" => {
                        let _ = std::fs::remove_file(&image);
                        sign = Command::new("faketime");
                        sign.args(["-f", clock, PROGRAM, "build", "--platform", "macos-arm64", "--target", "dmg"]);
                        sign.current_dir(mac.path()).env("XDG_CACHE_HOME", mac.cache());
                    }
                    _ => {}
                }
                let out = sign.output().expect("`./test` installs it");
                is_signed.push(code(&out) == 0);
                if file == "hive.dmg" {
                    assert_eq!(image.exists(), code(&out) == 0, "{}", text(&out));
                    continue;
                }
                if code(&out) != 0 {
                    assert!(std::fs::read(folder.at(file)).expect("read") == bytes, "{file}: {}", text(&out));
                    assert!(!folder.at("notes.txt.p7s").exists() || file != "notes.txt", "{}", text(&out));
                }
            }
            assert!(is_signed.iter().all(|one| *one == is_signed[0]), "{what}: {is_signed:?}");
            if !is_signed[0] {
                let _ = writeln!(all, "  {what:22} is not signed with");
                continue;
            }
            let at = |file: &str| folder.at(file);
            let ours = |file: &str| accepts("ours", &at(file), &roots);
            let (program, disk_image) = (super::macos::both(&at("hive"), &roots), super::macos::both(&image, &roots));
            let said = [
                (ours("hives.msi"), Some(accepts("signify", &at("hives.msi"), &roots))),
                // Nobody else here reads its digests and asks for whom to trust.
                (ours("hives.msix"), None),
                (program.0, Some(program.1)),
                (disk_image.0, Some(disk_image.1)),
                (ours("notes.txt"), Some(openssl(&roots))),
            ];
            let word = |yes: bool| if yes { "yes" } else { "no" };
            let cells = said.map(|(ours, other)| match other {
                Some(other) => format!("{:13}", format!("{} / {}", word(ours), word(other))),
                None => format!("{:13}", word(ours)),
            });
            let _ = writeln!(all, "  {what:22} {}", cells.join(" ").trim_end());
        }
    }
    insta::assert_snapshot!(all, @r#"
    RSA                      msi           msix          program       image         any file
      good                   yes / yes     yes           yes / yes     yes / yes     yes / yes
      expired                no / no       no            no / no       no / no       no / no
      not valid yet          no / no       no            no / no       no / no       no / no
      a stranger's           no / no       no            no / no       no / no       no / no
      for timestamps         is not signed with
      expired, clock right   is not signed with
    P-256                    msi           msix          program       image         any file
      good                   yes / yes     yes           yes / yes     yes / yes     yes / yes
      expired                no / no       no            no / no       no / no       no / no
      not valid yet          no / no       no            no / no       no / no       no / no
      a stranger's           no / no       no            no / no       no / no       no / no
      for timestamps         is not signed with
      expired, clock right   is not signed with
    P-384                    msi           msix          program       image         any file
      good                   yes / yes     yes           yes / yes     yes / yes     yes / yes
      expired                no / no       no            no / no       no / no       no / no
      not valid yet          no / no       no            no / no       no / no       no / no
      a stranger's           no / no       no            no / no       no / no       no / no
      for timestamps         is not signed with
      expired, clock right   is not signed with
    "#);
}
