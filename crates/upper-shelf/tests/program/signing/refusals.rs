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
    let at = |days: i64| now().checked_add_signed(days * DAY as i64).expect("a time");
    let wanted = Wanted { subject: &[(COMMON_NAME, name)], role, from: at(days.0), until: at(days.1) };
    let (mut who, _) = authority::identity(Generated::Rsa(2048), &wanted, by).expect("a key");
    who.chain.extend(by.map(|by| by.certificate().clone()));
    who
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
