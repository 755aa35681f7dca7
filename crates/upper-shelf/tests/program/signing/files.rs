//! Files that are signed by themselves, and what of a change is refused by whom.

use super::*;
use crate::common::Folder;
use std::fmt::Write as _;
use std::process::Command;

#[test]
fn what_is_signed_with_each_kind_of_key_is_accepted_by_everybody() {
    let mut all = table();
    for kind in ["rsa-3072", "p256", "p384"] {
        let clock = Authority::of(kind);
        for (what, more) in [
            ("", vec![]),
            (", with a timestamp", vec!["--timestamps", &clock.1]),
            (", page by page", vec!["--page-hashes"]),
            (", SHA-512", vec!["--digest", "sha512", "--name", "Combwright", "--page", "https://fernhollow.example"]),
        ] {
            let folder = signed(kind, &more);
            row(&mut all, &format!("{kind}{what}"), &folder.at("app.exe"), &roots(kind));
        }
        let folder = signed(kind, &[]);
        let (code, said) = sign(&folder, "app.exe", kind, &["--existing", "beside", "--timestamps", &clock.1]);
        assert_eq!(code, 0, "{said}");
        row(&mut all, &format!("{kind}, two signatures"), &folder.at("app.exe"), &roots(kind));
    }
    insta::assert_snapshot!(all, @r#"
    accepted by                        ours  second reading  lief  signify
    rsa-3072                           yes   yes             yes   yes
    rsa-3072, with a timestamp         yes   yes             yes   yes
    rsa-3072, page by page             yes   yes             yes   yes
    rsa-3072, SHA-512                  yes   yes             yes   yes
    rsa-3072, two signatures           yes   yes             yes   yes
    p256                               yes   yes             yes   yes
    p256, with a timestamp             yes   yes             yes   yes
    p256, page by page                 yes   yes             yes   yes
    p256, SHA-512                      yes   yes             yes   yes
    p256, two signatures               yes   yes             yes   yes
    p384                               yes   yes             yes   yes
    p384, with a timestamp             yes   yes             yes   yes
    p384, page by page                 yes   yes             yes   yes
    p384, SHA-512                      yes   yes             yes   yes
    p384, two signatures               yes   yes             yes   yes
    "#);
}

#[test]
fn whatever_is_changed_is_refused() {
    let clock = Authority::of("p256");
    let folder = signed("p256", &["--timestamps", &clock.1]);
    let good = std::fs::read(folder.at("app.exe")).expect("read");
    let table_at = COMBWRIGHT.len().next_multiple_of(8);
    let headers = u32::from_le_bytes(good[60..64].try_into().expect("four bytes")) as usize;
    let mut all = table();
    let mut changed = |what: &str, change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = good.clone();
        change(&mut bytes);
        folder.write("changed.exe", bytes);
        row(&mut all, what, &folder.at("changed.exe"), &roots("p256"));
    };
    // Where a text of the signature stands.
    let find = |bytes: &[u8], text: &[u8]| bytes.windows(text.len()).position(|w| w == text).expect("there");
    changed("nothing", &|_| {});
    changed("a byte of the code", &|b| b[0x600] ^= 1);
    changed("a byte of the headers", &|b| b[headers + 8] ^= 1);
    changed("the checksum", &|b| b[headers + 24 + 64] ^= 1);
    changed("the last byte before the table", &|b| b[table_at - 1] ^= 1);
    changed("a byte of the certificate", &|b| {
        let at = table_at + find(&b[table_at..], b"Fernhollow");
        b[at] ^= 1;
    });
    changed("the signed digest", &|b| {
        let oid = [0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20];
        let at = table_at + find(&b[table_at..], &oid) + oid.len();
        b[at] ^= 1;
    });
    changed("the time", &|b| {
        let at = b.len() - find(&b.iter().rev().copied().collect::<Vec<_>>(), b"Z") - 3;
        let year = (table_at..b.len() - 4).find(|n| b[*n..].starts_with(b"\x18\x0f20")).unwrap_or(at);
        b[year + 10] ^= 1;
    });
    changed("the last byte of the signature", &|b| {
        let last = b.iter().rposition(|byte| *byte != 0).expect("there");
        b[last] ^= 1;
    });
    changed("behind the signature", &|b| b.extend([0; 8]));
    changed("data behind the signature", &|b| b.extend(b"payload!"));
    changed("the signature cut off", &|b| b.truncate(table_at + 64));
    changed("the length of the table", &|b| b[table_at] ^= 8);
    changed("without the table's end", &|b| b.truncate(b.len() - 8));
    insta::assert_snapshot!(all, @r#"
    accepted by                        ours  second reading  lief  signify
    nothing                            yes   yes             yes   yes
    a byte of the code                 no    no              no    no
    a byte of the headers              no    no              no    no
    the checksum                       no    no              yes   yes
    the last byte before the table     no    no              no    no
    a byte of the certificate          no    no              no    no
    the signed digest                  no    no              no    no
    the time                           no    no              yes   no
    the last byte of the signature     no    no              yes   no
    behind the signature               no    no              no    no
    data behind the signature          no    no              no    no
    the signature cut off              no    no              no    no
    the length of the table            no    no              no    no
    without the table's end            no    no              no    no
    "#);
    assert!(!accepts("ours", &folder.at("app.exe"), &roots("strangers")), "nobody who is trusted");
}

#[test]
fn what_has_the_wrong_certificate_or_somebody_elses_timestamp_is_refused() {
    let mut all = table();
    let at = |name: &str| KEYS.at(&format!("p256/{name}")).to_string_lossy().into_owned();
    let folder = Folder::new();
    folder.write("app.exe", COMBWRIGHT);
    let (code, said) =
        folder.run(&["sign", "app.exe", "--key", &at("timestamps.key.pem"), "--certificate", &at("timestamps.pem")]);
    assert!(code == 1 && said.contains("it is not a certificate for code signing"), "{said}");
    assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT, "nothing was written");
    // The authority's own certificate signs nothing: no key is left for it.
    let stranger = Authority::of("strangers");
    let folder = signed("p256", &["--timestamps", &stranger.1]);
    row(&mut all, "a timestamp of a stranger", &folder.at("app.exe"), &roots("p256"));
    let (code, said) = sign(&Folder::new(), "none.exe", "p256", &[]);
    assert!(code == 3 && said.contains("none.exe"), "{said}");
    insta::assert_snapshot!(all, @r#"
    accepted by                        ours  second reading  lief  signify
    a timestamp of a stranger          no    no              yes   no
    "#);
    let args = ["verify", "app.exe", "--roots", &roots("p256")];
    let (code, said) = folder.run(&args);
    assert_eq!(code, 8);
    assert!(said.contains("its timestamp: the"), "{said}");
    // Asked for the authorities that may say when, it is not even put into the file.
    let folder = Folder::new();
    folder.write("app.exe", COMBWRIGHT);
    let (code, said) =
        sign(&folder, "app.exe", "p256", &["--timestamps", &stranger.1, "--timestamp-roots", &roots("p256")]);
    assert!(code == 3 && said.contains("there is no timestamp"), "{said}");
    assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
}

#[test]
fn the_same_key_and_program_give_the_same_bytes() {
    for kind in ["rsa-3072", "p256", "p384"] {
        let read = |folder: Folder| std::fs::read(folder.at("app.exe")).expect("read");
        let first = read(signed(kind, &[]));
        assert!(first == read(signed(kind, &[])), "{kind}");
        // Signed again in its place, too.
        let folder = signed(kind, &["--digest", "sha512"]);
        let (code, said) = sign(&folder, "app.exe", kind, &["--existing", "replace"]);
        assert_eq!(code, 0, "{said}");
        assert!(first == read(folder), "{kind}");
    }
}

#[test]
fn a_file_that_is_signed_already_is_left_alone_until_somebody_says_what_to_do() {
    let folder = signed("p256", &[]);
    let before = std::fs::read(folder.at("app.exe")).expect("read");
    folder.write("library.dll", COMBWRIGHT);
    let keys = keys("p384");
    let mut args = vec!["sign", "app.exe", "library.dll", "missing.exe"];
    args.extend(keys.iter().map(String::as_str));
    let (code, said) = folder.run(&args);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said, @r#"
    error: app.exe is already signed by “Fernhollow (TEST ONLY)”
     = instead: `--existing replace` for another in its place, `--existing beside` for one more

    error: can't read missing.exe
     = why: it doesn't exist

    2 errors; nothing was written
    "#);
    assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), before);
    assert_eq!(std::fs::read(folder.at("library.dll")).expect("read"), COMBWRIGHT, "all or none");
    assert_eq!(folder.names("."), ["app.exe", "library.dll"], "nothing is left beside them");
}

#[test]
fn when_no_authority_answers_nothing_is_signed_and_each_reason_is_told() {
    let silent = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let closed = silent.local_addr().expect("an address");
    drop(silent);
    let babble = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}/", babble.local_addr().expect("an address"));
    let server = std::thread::spawn(move || {
        use std::io::{Read, Write};
        let (mut stream, _) = babble.accept().expect("called");
        let _ = stream.read(&mut [0; 4096]);
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\nhello");
    });
    let folder = Folder::new();
    folder.write("app.exe", COMBWRIGHT);
    let closed = format!("http://{closed}/");
    let more = ["--timestamps", &closed, "--timestamps", "ftp://clock.example/", "--timestamps", &address];
    let (code, said) = sign(&folder, "app.exe", "p256", &more);
    server.join().expect("no panic");
    assert_eq!(code, 3, "{said}");
    insta::assert_snapshot!(said.replace(&closed, "CLOSED").replace(&address, "BABBLE"), @r#"
    error: there is no timestamp
     = why: CLOSED: Connection refused (os error 111); ftp://clock.example/: authorities are asked over http:// or https://; BABBLE: what it answers is no timestamp
     = instead: try again later, or name further authorities; nothing was signed
    "#);
    assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
    assert_eq!(folder.names("."), ["app.exe"]);
    // The next one in the row is asked.
    let clock = Authority::of("p256");
    let (code, said) = sign(&folder, "app.exe", "p256", &["--timestamps", &closed, "--timestamps", &clock.1]);
    assert_eq!(code, 0, "{said}");
}

#[test]
fn what_verify_says_of_good_bad_and_unsigned_files() {
    let folder = signed("p256", &["--name", "Combwright"]);
    let good = std::fs::read(folder.at("app.exe")).expect("read");
    folder.write("plain.exe", COMBWRIGHT).write("notes.txt", "no program");
    let mut bad = good.clone();
    bad[0x600] ^= 1;
    folder.write("bad.exe", bad);
    let years = |text: String| text.chars().map(|c| if c.is_ascii_digit() { '0' } else { c }).collect::<String>();
    let roots = roots("p256");
    let (code, said) = folder.run(&["verify", "app.exe", "--roots", &roots]);
    assert_eq!(code, 0);
    insta::assert_snapshot!(years(said), @r#"
    ✓ app.exe: signed by “Fernhollow (TEST ONLY)”
      product    Combwright
      signer     Fernhollow (TEST ONLY), ECDSA P-000, until 0000-00-00 00:00:00 UTC
      authority  Fernhollow authority (TEST ONLY), ECDSA P-000, until 0000-00-00 00:00:00 UTC
      digest     SHA-000
      time       not known: there is no timestamp, so it holds only while its certificate does
      not checked: whether a certificate was revoked
    "#);
    let (code, said) = folder.run(&["verify", "bad.exe", "plain.exe", "notes.txt", "--roots", &roots]);
    assert_eq!(code, 8);
    insta::assert_snapshot!(years(said), @r#"
    ✗ bad.exe: signed by “Fernhollow (TEST ONLY)”, but something is wrong
      product    Combwright
      signer     Fernhollow (TEST ONLY), ECDSA P-000, until 0000-00-00 00:00:00 UTC
      authority  Fernhollow authority (TEST ONLY), ECDSA P-000, until 0000-00-00 00:00:00 UTC
      digest     SHA-000
      time       not known: there is no timestamp, so it holds only while its certificate does
      - the file was changed after it was signed
      - the checksum in its headers is wrong
      not checked: whether a certificate was revoked

    ✗ plain.exe: it is not signed

    ✗ notes.txt: it is not signed: there is no notes.txt.p0s beside it
    "#);
    let (code, said) = folder.run(&["verify", "app.exe"]);
    assert_eq!(code, 8);
    insta::assert_snapshot!(years(said), @r#"
    ✗ app.exe: signed by “Fernhollow (TEST ONLY)”, but something is wrong
      product    Combwright
      signer     Fernhollow (TEST ONLY), ECDSA P-000, until 0000-00-00 00:00:00 UTC
      digest     SHA-000
      time       not known: there is no timestamp, so it holds only while its certificate does
      - the certificate of “Fernhollow authority (TEST ONLY)”, which issued “Fernhollow (TEST ONLY)”, is missing
      not checked: whether a certificate was revoked

    No authorities are trusted: name the file that holds their certificates with --roots.
    "#);
    let (code, said) = folder.run(&["verify", "--json", "app.exe", "--roots", &roots]);
    let verdicts: serde_json::Value = serde_json::from_str(&said).expect("JSON");
    assert_eq!(
        (code, &verdicts[0]["good"], &verdicts[0]["signatures"][0]["digest"]),
        (0, &true.into(), &"SHA-256".into())
    );
}

/// A package of a product with a bit of everything, signed.
fn package(format: &str, more: &[&str]) -> (Folder, String) {
    let folder = crate::common::hives::product_for(format, "1.0.0", "");
    let package = crate::common::hives::build(&folder);
    let name = package.strip_prefix(folder.path()).expect("inside").to_string_lossy().into_owned();
    let (code, said) = sign(&folder, &name, "p256", more);
    assert_eq!(code, 0, "{said}");
    (folder, name)
}

#[test]
fn an_installer_package_is_signed_whole_and_every_change_is_refused() {
    let clock = Authority::of("p256");
    let (folder, name) = package("msi", &["--timestamps", &clock.1, "--name", "Hives & Frames"]);
    let good = std::fs::read(folder.at(&name)).expect("read");
    let mut all = format!("{:34} {:5} {}\n", "accepted by", "ours", "signify");
    let mut said = |what: &str, bytes: &[u8]| {
        folder.write("changed.msi", bytes);
        let at = folder.at("changed.msi");
        let said = ["ours", "signify"].map(|judge| if accepts(judge, &at, &roots("p256")) { "yes" } else { "no" });
        let _ = writeln!(all, "{what:34} {:5} {}", said[0], said[1]);
    };
    said("nothing", &good);
    let find = |text: &[u8]| good.windows(text.len()).position(|w| w == text).expect("there");
    let changed = |at: usize, with: u8| {
        let mut bytes = good.clone();
        bytes[at] ^= with;
        bytes
    };
    let name_of = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
    said("a byte of a table", &changed(find(b"works.fernhollow"), 1));
    said("a byte of the cabinet", &changed(find(b"MSCF") + 200, 1));
    // The directory's entries: the class of the root, the state and the dates of a stream.
    let root = find(&name_of("Root Entry"));
    said("the root's class", &changed(root + 80, 1));
    said("the root's notes", &changed(root + 96, 1));
    let entry = root + 128;
    said("a stream's name", &changed(entry, 1));
    said("a stream's notes", &changed(entry + 96, 1));
    said("a stream's date", &changed(entry + 108, 1));
    said("the signature", &changed(find(b"Fernhollow (TEST ONLY)"), 1));
    insta::assert_snapshot!(all, @r#"
    accepted by                        ours  signify
    nothing                            yes   yes
    a byte of a table                  no    no
    a byte of the cabinet              no    no
    the root's class                   no    no
    the root's notes                   no    no
    a stream's name                    no    no
    a stream's notes                   no    no
    a stream's date                    no    no
    the signature                      no    no
    "#);
    // It is still a package like any other.
    let said = folder.ok(&["check", &name]);
    assert!(said.contains("msi"), "{said}");
    let (code, said) = sign(&folder, &name, "p256", &["--existing", "beside"]);
    assert!(code == 1 && said.contains("packages have room for one"), "{said}");
    // Without a timestamp, the same bytes each time; and what was there before is gone.
    let (code, said) = sign(&folder, &name, "p256", &["--existing", "replace"]);
    assert_eq!(code, 0, "{said}");
    let (other, _) = package("msi", &[]);
    assert!(std::fs::read(folder.at(&name)).expect("read") == std::fs::read(other.at(&name)).expect("read"));
}

#[test]
fn a_signed_setup_program_installs_and_removes_and_a_changed_one_does_not() {
    let (folder, name) = package("nsis", &[]);
    let machine = test_support::wine::Wine::new();
    let setup = machine.bring(&folder.at(&name), "hives.exe");
    assert_eq!(machine.code_of(&[&setup, "/S"], &[]), 0);
    let installed = machine.c().join("Program Files/Hives & Frames");
    assert!(installed.join("hives.exe").is_file());
    assert_eq!(machine.code_of(&[r"C:\Program Files\Hives & Frames\uninstall.exe", "/S"], &[]), 0);
    assert!(!installed.join("hives.exe").exists());
    let mut bytes = std::fs::read(folder.at(&name)).expect("read");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    folder.write("changed.exe", bytes);
    let changed = machine.bring(&folder.at("changed.exe"), "changed.exe");
    assert_eq!(machine.code_of(&[&changed, "/S"], &[]), 13, "damaged");
    // Our own readers live with what stands behind the data.
    let said = folder.ok(&["inspect", &name]);
    assert!(said.contains("Hives & Frames") && said.contains("signed by “Fernhollow (TEST ONLY)”"), "{said}");
}

#[test]
fn a_file_without_a_place_for_it_gets_its_signature_beside_itself() {
    let clock = Authority::of("p256");
    let folder = Folder::new();
    folder.write("hives.tar.gz", test_support::noise(3, 700_000));
    let (code, said) = sign(&folder, "hives.tar.gz", "p256", &["--timestamps", &clock.1]);
    assert_eq!(code, 0, "{said}");
    assert_eq!(folder.names("."), ["hives.tar.gz", "hives.tar.gz.p7s"]);
    let judged = |file: &str| {
        let words = "cms -verify -binary -inform DER -purpose any -out /dev/null -in hives.tar.gz.p7s";
        let mut openssl = Command::new("openssl");
        openssl.args(words.split(' ')).args(["-content", file, "-CAfile", &roots("p256")]);
        crate::common::code(&openssl.current_dir(folder.path()).output().expect("openssl")) == 0
    };
    let verify = |file: &str| folder.run(&["verify", file, "--roots", &roots("p256")]);
    assert!(judged("hives.tar.gz") && verify("hives.tar.gz").0 == 0, "{}", verify("hives.tar.gz").1);
    let (code, said) = sign(&folder, "hives.tar.gz", "p256", &[]);
    assert!(code == 1 && said.contains("hives.tar.gz.p7s is there already"), "{said}");
    let mut bytes = std::fs::read(folder.at("hives.tar.gz")).expect("read");
    bytes[400_000] ^= 1;
    folder.write("hives.tar.gz", bytes);
    let (code, said) = verify("hives.tar.gz");
    assert!(!judged("hives.tar.gz") && code == 8 && said.contains("what was signed has been changed"), "{said}");
    let (code, said) = sign(&folder, "hives.tar.gz", "p384", &["--existing", "replace"]);
    assert_eq!(code, 0, "{said}");
    assert_eq!(folder.run(&["verify", "hives.tar.gz", "--roots", &roots("p384")]).0, 0);
    folder.write("other.tar.gz", "unsigned");
    let (code, said) = verify("other.tar.gz");
    assert!(code == 8 && said.contains("there is no other.tar.gz.p7s beside it"), "{said}");
}

#[test]
fn a_pipe_is_refused_and_not_waited_for() {
    let folder = Folder::new();
    test_support::judge_says_yes("mkfifo", &[folder.at("pipe").to_str().expect("text")]);
    for (code, said) in [sign(&folder, "pipe", "p256", &[]), folder.run(&["verify", "pipe"])] {
        assert!(code == 3 && said.contains("it is a pipe or a device, not a file"), "{code}: {said}");
    }
}
