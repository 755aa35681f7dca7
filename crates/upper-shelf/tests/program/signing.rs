//! Programs are signed and checked: by us, by readers that others wrote, and by a second reading of the formats'
//! descriptions. Whatever is changed, somebody refuses it, and we always do.

use crate::common::{Folder, PROGRAM, code, text};
use std::fmt::Write as _;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::LazyLock;
use test_support::python;

const COMBWRIGHT: &[u8] = include_bytes!("../../../../demo/files/built/windows-x64/combwright.exe");

const JUDGES: [&str; 4] = ["ours", "second reading", "lief", "signify"];

/// Keys of each kind, made once: those with RSA take their time.
static KEYS: LazyLock<Folder> = LazyLock::new(|| {
    let folder = Folder::new();
    for kind in ["rsa-3072", "p256", "p384"] {
        folder.ok(&["keys", "make", kind, "--publisher", "Fernhollow", "--kind", kind]);
    }
    folder.ok(&["keys", "make", "strangers", "--publisher", "Stranger", "--kind", "p256"]);
    folder
});

/// An authority for timestamps, until it is dropped.
struct Authority(Child, String);

impl Authority {
    fn of(keys: &str) -> Self {
        let mut command = Command::new(PROGRAM);
        command.args(["simulate", "timestamps", "--json"]).arg(KEYS.at(keys)).stdout(Stdio::piped());
        let mut child = command.spawn().expect("started");
        let mut out = BufReader::new(child.stdout.take().expect("piped"));
        let mut said = String::new();
        while !said.contains('}') {
            assert!(out.read_line(&mut said).expect("read") > 0, "{said}");
        }
        let ready: serde_json::Value = serde_json::from_str(&said).expect("JSON");
        let address = ready["address"].as_str().expect("an address").to_owned();
        Self(child, address)
    }
}

impl Drop for Authority {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The words of the command line for a kind of key.
fn keys(kind: &str) -> Vec<String> {
    let at = |name: &str| KEYS.at(&format!("{kind}/{name}")).to_string_lossy().into_owned();
    vec!["--key".into(), at("code-signing.key.pem"), "--certificate".into(), at("code-signing.pem")]
}

fn roots(kind: &str) -> String {
    KEYS.at(&format!("{kind}/test-authority.pem")).to_string_lossy().into_owned()
}

fn sign(folder: &Folder, file: &str, kind: &str, more: &[&str]) -> (i32, String) {
    let keys = keys(kind);
    let mut args = vec!["sign", file];
    args.extend(keys.iter().map(String::as_str));
    args.extend(more);
    folder.run(&args)
}

fn signed(kind: &str, more: &[&str]) -> Folder {
    let folder = Folder::new();
    folder.write("app.exe", COMBWRIGHT);
    let (code, said) = sign(&folder, "app.exe", kind, more);
    assert_eq!(code, 0, "{said}");
    folder
}

/// Whether a judge accepts a file.
fn accepts(judge: &str, file: &Path, roots: &str) -> bool {
    let judges = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judges");
    let output = match judge {
        "ours" => Command::new(PROGRAM).arg("verify").arg(file).args(["--roots", roots]).output(),
        "second reading" => {
            Command::new(python()).arg(format!("{judges}/authenticode.py")).arg(roots).arg(file).output()
        }
        other => Command::new(python()).arg(format!("{judges}/programs.py")).args([other, roots]).arg(file).output(),
    };
    let output = output.expect("the judges are installed by `./test`");
    let said = text(&output);
    // A judge that can't be started is no judge.
    assert!(!said.contains("Traceback") && !said.contains("No such file"), "{judge}: {said}");
    match code(&output) {
        0 => true,
        1 | 8 => false,
        other => panic!("{judge} ends with {other}: {said}"),
    }
}

/// What each judge says of a file: a cross for those that accept it.
fn row(out: &mut String, what: &str, file: &Path, roots: &str) {
    let said = JUDGES.map(|judge| if accepts(judge, file, roots) { "yes" } else { "no" });
    let _ = writeln!(out, "{what:34} {:5} {:15} {:5} {}", said[0], said[1], said[2], said[3]);
}

fn table() -> String {
    format!("{:34} {:5} {:15} {:5} {}\n", "accepted by", JUDGES[0], JUDGES[1], JUDGES[2], JUDGES[3])
}

#[test]
fn what_is_signed_with_each_kind_of_key_is_accepted_by_everybody() {
    let mut all = table();
    for kind in ["rsa-3072", "p256", "p384"] {
        let clock = Authority::of(kind);
        for (what, more) in [
            ("", vec![]),
            (", with a timestamp", vec!["--timestamps", &clock.1]),
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
    rsa-3072, SHA-512                  yes   yes             yes   yes
    rsa-3072, two signatures           yes   yes             yes   yes
    p256                               yes   yes             yes   yes
    p256, with a timestamp             yes   yes             yes   yes
    p256, SHA-512                      yes   yes             yes   yes
    p256, two signatures               yes   yes             yes   yes
    p384                               yes   yes             yes   yes
    p384, with a timestamp             yes   yes             yes   yes
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
    let more = ["--timestamps", &closed, "--timestamps", "https://clock.example/", "--timestamps", &address];
    let (code, said) = sign(&folder, "app.exe", "p256", &more);
    server.join().expect("no panic");
    assert_eq!(code, 3, "{said}");
    insta::assert_snapshot!(said.replace(&closed, "CLOSED").replace(&address, "BABBLE"), @r#"
    error: there is no timestamp
     = why: CLOSED: Connection refused (os error 111); https://clock.example/: authorities are asked over http://: what they answer is signed; BABBLE: what it answers is no timestamp
     = instead: try again later, or name further authorities; nothing was signed
    "#);
    assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
    assert_eq!(folder.names("."), ["app.exe"]);
    // The next one in the row is asked.
    let clock = Authority::of("p256");
    let (code, said) = sign(&folder, "app.exe", "p256", &["--timestamps", &closed, "--timestamps", &clock.1]);
    assert_eq!(code, 0, "{said}");
}

/// A key in a file with its certificate, protected by a secret.
fn protected(folder: &Folder, secret: &str) {
    let at = |name: &str| KEYS.at(&format!("p256/{name}"));
    let mut command = Command::new("openssl");
    command.args(["pkcs12", "-export", "-out", "key.p12", "-passout", "env:SECRET"]).env("SECRET", secret);
    command.arg("-inkey").arg(at("code-signing.key.pem")).arg("-in").arg(at("code-signing.pem"));
    let output = command.current_dir(folder.path()).output().expect("the judge openssl is installed by `./test`");
    assert!(output.status.success(), "{}", text(&output));
}

#[test]
fn secrets_come_from_a_variable_or_a_descriptor_and_are_never_told() {
    const SECRET: &str = "Honig, süß & dunkel";
    let folder = Folder::new();
    protected(&folder, SECRET);
    folder.write("secret", format!("{SECRET}\n")).write("wrong", "Wachs\n").write("empty", "");
    let sign = |words: &str, secret: &str| {
        folder.write("app.exe", COMBWRIGHT);
        let mut command = Command::new("sh");
        command.args(["-c", &format!("exec '{PROGRAM}' sign app.exe --key key.p12 {words}")]);
        command.current_dir(folder.path()).env("NO_COLOR", "1").env("KEY_SECRET", secret).stdin(Stdio::null());
        let output = command.env("XDG_CACHE_HOME", folder.cache()).output().expect("started");
        let said = folder.tidy(&text(&output));
        assert!(!said.contains("Honig") && !said.contains("Wachs"), "a secret is told: {said}");
        (code(&output), said)
    };
    for words in ["--secret-variable KEY_SECRET", "--secret-descriptor 3 3<secret", "--secret-descriptor 0 <secret"] {
        let (code, said) = sign(words, SECRET);
        assert_eq!(code, 0, "{words}: {said}");
        assert!(accepts("ours", &folder.at("app.exe"), &roots("p256")));
    }
    let mut all = String::new();
    for words in [
        "",
        "--secret-variable KEY_SECRET",
        "--secret-variable NO_SUCH_SECRET",
        "--secret-descriptor 3 3<wrong",
        "--secret-descriptor 3 3<empty",
        "--secret-descriptor 9",
    ] {
        let (code, said) = sign(words, "Wachs");
        let _ = writeln!(all, "{words}\n{}: {said}", code);
        assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
    }
    insta::assert_snapshot!(all, @r#"
    1: error: the key key.p12 can't be used
     = why: it is protected by a secret
     = instead: give its secret with --secret-variable or --secret-descriptor

    1 error; nothing was written

    --secret-variable KEY_SECRET
    1: error: the key key.p12 can't be used
     = why: the secret is wrong
     = instead: give its secret with --secret-variable or --secret-descriptor

    1 error; nothing was written

    --secret-variable NO_SUCH_SECRET
    1: error: the environment variable NO_SUCH_SECRET, which holds a secret, can't be used
     = why: it is not set
     = instead: set NO_SUCH_SECRET for this command only, from your build server's secret store

    1 error; nothing was written

    --secret-descriptor 3 3<wrong
    1: error: the key key.p12 can't be used
     = why: the secret is wrong
     = instead: give its secret with --secret-variable or --secret-descriptor

    1 error; nothing was written

    --secret-descriptor 3 3<empty
    1: error: no secret can be read from the file descriptor 3
     = why: it is empty
     = instead: upper-shelf sign … --secret-descriptor 3 3<FILE

    1 error; nothing was written

    --secret-descriptor 9
    1: error: no secret can be read from the file descriptor 9
     = why: it isn't open
     = instead: upper-shelf sign … --secret-descriptor 9 9<FILE

    1 error; nothing was written
    "#);
}

#[test]
fn keys_are_made_once_for_their_owner_and_explained() {
    use std::os::unix::fs::PermissionsExt;
    let folder = Folder::new();
    let said = folder.ok(&["keys", "make", "keys", "--publisher", "Fernhollow Apiary Works", "--kind", "p256"]);
    insta::assert_snapshot!(said, @r#"
    ✓ keys/test-authority.pem: the authority, for whoever is to trust it
    ✓ keys/code-signing.key.pem: a key for code
    ✓ keys/code-signing.pem: its certificate
    ✓ keys/timestamps.key.pem: a key for timestamps
    ✓ keys/timestamps.pem: its certificate
    They are for tests: nobody else trusts them. The private keys aren't protected; keep them out of version control.
    "#);
    for file in folder.names("keys") {
        let mode = folder.at(&format!("keys/{file}")).metadata().expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600, "{file}");
    }
    let (code, said) = folder.run(&["keys", "make", "keys", "--publisher", "Somebody else"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said, @r#"
    error: keys/test-authority.pem exists already
     = why: signatures that were made with it would no longer be trusted
     = instead: choose another folder

    1 error; nothing was written
    "#);
    let years = |text: &str| {
        // Days, digests and times change with every run.
        let digits = |c: char| if c.is_ascii_digit() { '0' } else { c };
        let line = |line: &str| match line.trim_start().split_once(' ') {
            Some(("valid", _)) => line.chars().map(digits).collect(),
            Some(("SHA-256", _)) => "  SHA-256  …".to_owned(),
            _ if line.contains(" until ") => line.chars().map(digits).collect(),
            _ => line.to_owned(),
        };
        text.lines().map(line).collect::<Vec<_>>().join("\n")
    };
    let said = folder.ok(&["keys", "explain", "keys/code-signing.pem", "--roots", "keys/test-authority.pem"]);
    insta::assert_snapshot!(years(&said), @r#"
    Fernhollow Apiary Works (TEST ONLY)
      subject  CN=Fernhollow Apiary Works (TEST ONLY),O=Fernhollow Apiary Works
      issuer   CN=Fernhollow Apiary Works authority (TEST ONLY),O=Fernhollow Apiary Works
      key      ECDSA P-256
      valid    0000-00-00 to 0000-00-00 00:00:00 UTC
      SHA-256  …
    ✓ code signing until 0000-00-00 00:00:00 UTC
      not for timestamping
    "#);
    let said = folder.ok(&["keys", "explain", "keys/timestamps.pem"]);
    insta::assert_snapshot!(years(&said), @r#"
    Fernhollow Apiary Works timestamps (TEST ONLY)
      subject  CN=Fernhollow Apiary Works timestamps (TEST ONLY),O=Fernhollow Apiary Works
      issuer   CN=Fernhollow Apiary Works authority (TEST ONLY),O=Fernhollow Apiary Works
      key      ECDSA P-256
      valid    0000-00-00 to 0000-00-00 00:00:00 UTC
      SHA-256  …
      not for code signing
    ✗ timestamping:
        the certificate of “Fernhollow Apiary Works authority (TEST ONLY)”, which issued “Fernhollow Apiary Works timestamps (TEST ONLY)”, is missing
    "#);
    let (code, said) = folder.run(&["keys", "explain", "keys/code-signing.key.pem"]);
    assert!(code == 1 && said.contains("holds no certificates"), "{said}");
    let open = PermissionsExt::from_mode(0o644);
    std::fs::set_permissions(folder.at("keys/code-signing.key.pem"), open).expect("mode");
    folder.write("app.exe", COMBWRIGHT);
    let args = ["--key", "keys/code-signing.key.pem", "--certificate", "keys/code-signing.pem"];
    let said = folder.ok(&[&["sign", "app.exe"], &args[..]].concat());
    assert!(said.contains("others on this machine can read the key"), "{said}");
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
    assert!(code == 1 && said.contains("installer packages have room for one"), "{said}");
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

const SIGNING: &str = r#"
[signing.windows]
key = "keys/code-signing.key.pem"
certificate = "keys/code-signing.pem"
"#;

/// A product whose manifest names a key, with a library that somebody else has signed.
fn product_with_key(more: &str) -> Folder {
    let folder = crate::common::hives::product_for("msi", "1.0.0", &format!("{SIGNING}{more}"));
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace(r#"build = ["msi"]"#, r#"build = ["msi", "nsis", "portable", "zip"]"#));
    for file in ["code-signing.key.pem", "code-signing.pem", "test-authority.pem"] {
        folder.write(&format!("keys/{file}"), std::fs::read(KEYS.at(&format!("p256/{file}"))).expect("read"));
    }
    let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    std::fs::set_permissions(folder.at("keys/code-signing.key.pem"), private).expect("mode");
    let theirs = signed("p384", &[]);
    folder.write("built/tools/theirs.dll", std::fs::read(theirs.at("app.exe")).expect("read"));
    folder
}

#[test]
fn a_build_signs_the_products_programs_and_its_packages_and_nothing_of_others() {
    let folder = product_with_key("");
    let planned = folder.ok(&["plan"]);
    let part = planned.split("\nsignatures\n").nth(1).and_then(|rest| rest.split("\n\n").next()).expect("there");
    insta::assert_snapshot!(part, @r#"
    key         keys/code-signing.key.pem
    signs       hives.exe
    signs       tools/scale.exe
    signs       Hives-Frames-1.0.0-windows-x64.msi
    signs       Hives-Frames-1.0.0-windows-x64.exe
    signs       Hives-Frames-1.0.0-windows-x64.portable.exe
    leaves      tools/theirs.dll, which “Fernhollow (TEST ONLY)” has signed
    "#);
    let said = folder.ok(&["build"]);
    let line = said.split("\n  signed ").nth(1).map(|rest| rest.lines().take(2).collect::<Vec<_>>().join("\n"));
    insta::assert_snapshot!(line.expect("there"), @r#"
    2 programs and 3 packages by “Fernhollow (TEST ONLY)”, without a timestamp
             tools/theirs.dll keeps the signature of “Fernhollow (TEST ONLY)”
    "#);
    let names = folder.names("packages");
    let packages: Vec<String> =
        names.iter().filter(|n| n.ends_with(".exe") || n.ends_with(".msi")).map(|n| format!("packages/{n}")).collect();
    assert_eq!(packages.len(), 3, "{names:?}");
    for package in &packages {
        for judge in if package.ends_with(".msi") { &["ours", "signify"][..] } else { &JUDGES[..] } {
            assert!(accepts(judge, &folder.at(package), &roots("p256")), "{judge} {package}");
        }
        folder.ok(&["check", package]);
        // What is inside is signed, too, whatever it is packed in.
        folder.ok(&["extract", package, &format!("out/{package}"), "--only", "*.{exe,dll}"]);
    }
    let zip = names.iter().find(|name| name.ends_with(".zip")).expect("a zip");
    folder.ok(&["extract", &format!("packages/{zip}"), "out/packages/zip", "--only", "*.{exe,dll}"]);
    for package in folder.names("out/packages") {
        let programs = test_support::listing(&folder.at(&format!("out/packages/{package}")));
        let mut seen = 0;
        for name in ["hives.exe", "tools/scale.exe", "tools/theirs.dll"] {
            let file = std::path::PathBuf::from(format!("out/packages/{package}/{name}"));
            let Ok(found) = folder.at(&file.to_string_lossy()).canonicalize() else { continue };
            seen += 1;
            let kind = if name.ends_with("theirs.dll") { "p384" } else { "p256" };
            assert!(accepts("ours", &found, &roots(kind)), "{package} {name}");
        }
        assert_eq!(seen, 3, "{programs:?}");
    }
    // What is left on a machine is signed, too: the setup program puts its uninstaller together there.
    let machine = test_support::wine::Wine::new();
    let setup = packages.iter().find(|p| p.ends_with(".exe") && !p.contains("portable")).expect("a setup program");
    let setup = machine.bring(&folder.at(setup), "hives.exe");
    assert_eq!(machine.code_of(&[&setup, "/S"], &[]), 0);
    let uninstaller = machine.c().join("Program Files/Hives & Frames/uninstall.exe");
    for judge in JUDGES {
        assert!(accepts(judge, &uninstaller, &roots("p256")), "{judge} of the uninstaller");
    }
    // Installed over itself it stays so.
    assert_eq!(machine.code_of(&[&setup, "/S"], &[]), 0);
    assert!(accepts("ours", &uninstaller, &roots("p256")));
    assert_eq!(machine.code_of(&[r"C:\Program Files\Hives & Frames\uninstall.exe", "/S"], &[]), 0);
    assert!(!uninstaller.exists());
    // Once more: the same bytes, whatever the number of threads.
    let read = || -> Vec<Vec<u8>> { packages.iter().map(|p| std::fs::read(folder.at(p)).expect("read")).collect() };
    let first = read();
    folder.ok(&["build", "--threads", "1"]);
    assert!(first == read(), "signed packages differ");
    assert_eq!(folder.names("packages"), names, "nothing else is left there");
    let output = folder.command(&["build", "--json"]).output().expect("started");
    let built: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
    assert_eq!(built[0]["signed-programs"], 2);
    assert_eq!(built[0]["foreign-signatures"][0]["path"], "tools/theirs.dll");
    let msi = built.as_array().and_then(|all| all.iter().find(|one| one["target"] == "msi")).expect("an MSI");
    assert_eq!(msi["signature"]["chain"][0]["name"], "Fernhollow (TEST ONLY)");
}

#[test]
fn what_is_wrong_with_a_key_is_said_before_anything_is_built() {
    let folder = product_with_key("");
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    protected(&folder, "Honig");
    let mut all = String::new();
    for (what, from, to) in [
        ("the file of the key is missing", "keys/code-signing.key.pem", "keys/missing.pem"),
        ("the file of the certificate is missing", "keys/code-signing.pem", "keys/missing.pem"),
        ("a certificate of another key", "keys/code-signing.pem", "keys/test-authority.pem"),
        ("no key", "keys/code-signing.key.pem", "keys/test-authority.pem"),
        ("a secret that is not there", "\"keys/code-signing.key.pem\"", "\"key.p12\"\nsecret-variable = \"NO_SECRET\""),
        ("an address", "key = \"keys", "timestamps = [\"clock.example\"]\nkey = \"keys"),
        ("an unknown digest", "key = \"keys", "digest = \"sha1\"\nkey = \"keys"),
        ("a secret in the manifest", "key = \"keys", "secret = \"Honig\"\nkey = \"keys"),
    ] {
        folder.write("shelf.toml", manifest.replacen(from, to, 1));
        let (code, said) = folder.run(&["build"]);
        let _ = writeln!(all, "== {what}: {code}\n{said}");
        assert!(!folder.at("packages").exists() || folder.names("packages").is_empty(), "{what}: {said}");
    }
    insta::assert_snapshot!(all, @r#"
    == the file of the key is missing: 1
    error: can't read ./keys/missing.pem
      --> ./shelf.toml:91:7
       |
    91 | key = "keys/missing.pem"
       |       ^^^^^^^^^^^^^^^^^^
       = why: it doesn't exist

    1 error; nothing was written

    == the file of the certificate is missing: 1
    error: can't read ./keys/missing.pem
      --> ./shelf.toml:92:15
       |
    92 | certificate = "keys/missing.pem"
       |               ^^^^^^^^^^^^^^^^^^
       = why: it doesn't exist

    1 error; nothing was written

    == a certificate of another key: 1
    error: the key ./keys/code-signing.key.pem can't be used
      --> ./shelf.toml:91:7
       |
    91 | key = "keys/code-signing.key.pem"
       |       ^^^^^^^^^^^^^^^^^^^^^^^^^^^
       = why: the certificate “Fernhollow authority (TEST ONLY)” is not that of the key (ECDSA P-256)
       = instead: certificate = "the file with the certificate of this very key"

    1 error; nothing was written

    == no key: 1
    error: the key ./keys/test-authority.pem can't be used
      --> ./shelf.toml:91:7
       |
    91 | key = "keys/test-authority.pem"
       |       ^^^^^^^^^^^^^^^^^^^^^^^^^
       = why: there is no private key in it
       = instead: a PKCS #12 file, a private key in the PEM form, or a URI as RFC 7512 has them

    1 error; nothing was written

    == a secret that is not there: 1
    warning: the key ./key.p12 can't be used
      --> ./shelf.toml:91:7
       |
    91 | key = …
       |       ^
       = why: it is protected by a secret
       = instead: set NO_SECRET for the build

    error: the environment variable NO_SECRET, which holds a secret, can't be used
     = why: it is not set
     = instead: set NO_SECRET for this command only, from your build server's secret store

    1 error; nothing was written

    == an address: 1
    error: "clock.example" is no address of an authority
      --> ./shelf.toml:91:15
       |
    91 | timestamps = ["clock.example"]
       |               ^^^^^^^^^^^^^^^
       = why: authorities are asked over http://: what they answer is signed
       = instead: "http://…"

    1 error; nothing was written

    == an unknown digest: 1
    error: unknown value "sha1" for `signing.windows.digest`
      --> ./shelf.toml:91:10
       |
    91 | digest = "sha1"
       |          ^^^^^^
       = instead: "sha512"

    1 error; nothing was written

    == a secret in the manifest: 1
    error: unknown key `secret` in `signing.windows`
      --> ./shelf.toml:91:1
       |
    91 | secret = …
       | ^^^^^^
       = instead: one of key, certificate, secret-variable, timestamps, timestamp-roots, digest

    1 error; nothing was written
    "#);
}

#[test]
fn a_clock_that_fails_while_packages_are_built_leaves_none() {
    let closed = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("an address");
    let folder = product_with_key(&format!("timestamps = [\"http://{closed}/\"]\n"));
    let (code, said) = folder.run(&["build"]);
    assert!(code == 3 && said.contains("there is no timestamp"), "{said}");
    assert!(folder.names("packages").is_empty(), "{:?}", folder.names("packages"));
    let clock = Authority::of("p256");
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace(&format!("http://{closed}/"), &clock.1));
    let said = folder.ok(&["build"]);
    assert!(said.contains("UTC"), "{said}");
}

#[test]
fn what_has_not_changed_keeps_its_signature_and_its_time() {
    let clock = Authority::of("p256");
    let folder = product_with_key(&format!("timestamps = [\"{}\"]\n", clock.1));
    folder.ok(&["build"]);
    let packages = folder.names("packages");
    let read = || packages.iter().map(|p| std::fs::read(folder.at(&format!("packages/{p}"))).expect("read"));
    let first: Vec<Vec<u8>> = read().collect();
    // Nobody says what time it is any more, and nobody has to.
    drop(clock);
    folder.ok(&["build"]);
    assert!(first.iter().eq(read().collect::<Vec<_>>().iter()), "a package changed");
    // What is kept is for its owner, and believed only if all of it is right.
    let kept = folder.cache().join("upper-shelf/signatures");
    let mode = std::os::unix::fs::PermissionsExt::mode(&kept.metadata().expect("there").permissions());
    assert_eq!(mode & 0o777, 0o700);
    for entry in std::fs::read_dir(&kept).expect("listed") {
        let file = entry.expect("an entry").path();
        let mut bytes = std::fs::read(&file).expect("read");
        let last = bytes.len() - 1;
        bytes[last] ^= 1;
        std::fs::write(&file, bytes).expect("written");
    }
    let (code, said) = folder.run(&["build"]);
    assert!(code == 3 && said.contains("there is no timestamp"), "{said}");
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
fn one_signature_is_for_all_packages_of_a_build() {
    let folder = Folder::least();
    let manifest = crate::common::LEAST.replace(r#"build = ["appimage"]"#, r#"build = ["appimage", "tar", "zip"]"#);
    folder.write("shelf.toml", format!("{manifest}{}", SIGNING.replace("windows", "linux")));
    for file in ["code-signing.key.pem", "code-signing.pem"] {
        folder.write(&format!("keys/{file}"), std::fs::read(KEYS.at(&format!("p256/{file}"))).expect("read"));
    }
    folder.ok(&["build"]);
    let names = folder.names("packages");
    insta::assert_snapshot!(names.join("\n"), @r#"
    Least-1.0.0-linux-x64.AppImage
    Least-1.0.0-linux-x64.tar.gz
    Least-1.0.0-linux-x64.zip
    SHA256SUMS
    SHA256SUMS.p7s
    "#);
    let check = || {
        crate::common::code(
            &Command::new("sha256sum")
                .args(["--strict", "-c", "SHA256SUMS"])
                .current_dir(folder.at("packages"))
                .output()
                .expect("coreutils"),
        )
    };
    let verify = || folder.run(&["verify", "packages/SHA256SUMS", "--roots", &roots("p256")]);
    assert!(check() == 0 && verify().0 == 0, "{}", verify().1);
    let first = std::fs::read(folder.at("packages/SHA256SUMS.p7s")).expect("read");
    folder.ok(&["build"]);
    assert!(
        first == std::fs::read(folder.at("packages/SHA256SUMS.p7s")).expect("read"),
        "the same packages, the same list"
    );
    let zip = names.iter().find(|name| name.ends_with(".zip")).expect("a zip");
    let tar = names.iter().find(|name| name.ends_with(".tar.gz")).expect("a tar");
    folder.write(&format!("packages/{zip}"), "another");
    std::fs::remove_file(folder.at(&format!("packages/{tar}"))).expect("removed");
    let (code, said) = verify();
    assert!(check() != 0 && code == 8, "{said}");
    assert!(said.contains(&format!("{zip} was changed after it was signed")), "{said}");
    assert!(said.contains(&format!("{tar} is missing")), "{said}");
    // Names that lead elsewhere are not followed.
    folder.write("packages/SHA256SUMS", format!("{}  ../shelf.toml\n", "0".repeat(64)));
    let (code, said) = verify();
    assert!(code == 8 && said.contains("names no file beside it") && said.contains("has been changed"), "{said}");
}

/// A token with keys that can't be copied, and the words that name one of them.
fn token(folder: &Folder, kinds: &[&str]) {
    std::fs::create_dir(folder.at("tokens")).expect("made");
    folder.write("softhsm2.conf", format!("directories.tokendir = {}\n", folder.at("tokens").display()));
    let util = |words: &str, key: Option<&str>| {
        let mut command = Command::new("softhsm2-util");
        command.args(words.split(' ')).env("SOFTHSM2_CONF", folder.at("softhsm2.conf"));
        if let Some(kind) = key {
            command.arg("--import").arg(KEYS.at(&format!("{kind}/code-signing.key.pem")));
        }
        let output = command.output().expect("the judge softhsm2 is installed by `./test`");
        assert!(output.status.success(), "{words}: {}", text(&output));
    };
    util("--init-token --free --label Releases --pin 123456 --so-pin 654321", None);
    for (n, kind) in kinds.iter().enumerate() {
        util(&format!("--token Releases --pin 123456 --label {kind} --id 0{}", n + 1), Some(kind));
    }
}

#[test]
fn a_key_in_a_token_signs_as_the_same_key_in_a_file_does() {
    let folder = Folder::new();
    let kinds = ["rsa-3072", "p256", "p384"];
    token(&folder, &kinds);
    let run = |uri: &str, kind: &str, secret: Option<&str>| {
        folder.write("app.exe", COMBWRIGHT);
        let certificate = KEYS.at(&format!("{kind}/code-signing.pem"));
        let mut command = folder.command(&["sign", "app.exe", "--key", uri, "--certificate"]);
        command.arg(certificate).env("SOFTHSM2_CONF", folder.at("softhsm2.conf")).stdin(Stdio::null());
        command.args(["--secret-variable", "TOKEN_SECRET"]);
        if let Some(secret) = secret {
            command.env("TOKEN_SECRET", secret);
        }
        let output = command.output().expect("started");
        (code(&output), folder.tidy(&text(&output)))
    };
    const MODULE: &str = "?module-path=/usr/lib/softhsm/libsofthsm2.so";
    for (n, kind) in kinds.iter().enumerate() {
        for key in [format!("object={kind}"), format!("id=%0{}", n + 1)] {
            let (code, said) = run(&format!("pkcs11:token=Releases;{key}{MODULE}"), kind, Some("123456"));
            assert_eq!(code, 0, "{said}");
            for judge in JUDGES {
                assert!(accepts(judge, &folder.at("app.exe"), &roots(kind)), "{judge} {kind}");
            }
        }
    }
    let (code, said) = run(&format!("pkcs11:token=Releases;object=rsa-3072{MODULE}"), "rsa-3072", Some("123456"));
    let of_file = signed("rsa-3072", &[]);
    let same =
        std::fs::read(folder.at("app.exe")).expect("read") == std::fs::read(of_file.at("app.exe")).expect("read");
    assert!(code == 0 && same, "{said}");
    let mut all = String::new();
    for (uri, kind, secret) in [
        ("pkcs11:token=Releases;object=p256", "p256", Some("000000")),
        ("pkcs11:token=Releases;object=p256", "p256", None),
        ("pkcs11:token=Releases;object=p256", "p384", Some("123456")),
        ("pkcs11:token=Releases;object=lost", "p256", Some("123456")),
        ("pkcs11:token=Lost;object=p256", "p256", Some("123456")),
        ("pkcs11:token=Releases;object=p256;slot-id=1", "p256", Some("123456")),
    ] {
        let (code, said) = run(&format!("{uri}{MODULE}"), kind, secret);
        assert!(!said.contains("123456") && !said.contains("000000"), "a secret is told: {said}");
        let _ =
            writeln!(all, "== {uri} {kind} {}: {code}\n{said}", if secret.is_some() { "with a secret" } else { "" });
        assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
    }
    let (code, said) =
        run("pkcs11:object=p256?module-path=/usr/lib/softhsm/libsofthsm2.so&pin-value=123456", "p256", None);
    let _ = writeln!(all, "== with a secret in the URI: {code}\n{said}");
    assert!(!said.contains("123456"), "a secret is told: {said}");
    let (code, said) = run("pkcs11:object=p256?module-path=/usr/lib/missing.so", "p256", None);
    let _ = writeln!(all, "== without the library: {code}\n{said}");
    insta::assert_snapshot!(all, @r#"
    == pkcs11:token=Releases;object=p256 p256 with a secret: 1
    error: the key pkcs11:token=Releases;object=p256 can't be used
     = why: the secret is wrong
     = instead: give its secret with --secret-variable or --secret-descriptor

    1 error; nothing was written

    == pkcs11:token=Releases;object=p256 p256 : 1
    error: the environment variable TOKEN_SECRET, which holds a secret, can't be used
     = why: it is not set
     = instead: set TOKEN_SECRET for this command only, from your build server's secret store

    1 error; nothing was written

    == pkcs11:token=Releases;object=p256 p384 with a secret: 1
    error: the key pkcs11:token=Releases;object=p256 can't be used
     = why: the certificate is not that of the key
     = instead: name the certificate of this very key with --certificate

    1 error; nothing was written

    == pkcs11:token=Releases;object=lost p256 with a secret: 1
    error: the key pkcs11:token=Releases;object=lost can't be used
     = why: the token has no such private key
     = instead: pkcs11:token=LABEL;object=LABEL?module-path=LIBRARY, with the token in its place

    1 error; nothing was written

    == pkcs11:token=Lost;object=p256 p256 with a secret: 1
    error: the key pkcs11:token=Lost;object=p256 can't be used
     = why: there is no token “Lost”: found “Releases”
     = instead: pkcs11:token=LABEL;object=LABEL?module-path=LIBRARY, with the token in its place

    1 error; nothing was written

    == pkcs11:token=Releases;object=p256;slot-id=1 p256 with a secret: 1
    error: the key pkcs11:token=Releases;object=p256;slot-id=1 can't be used
     = why: "slot-id" is not one of token, serial, object, id
     = instead: a PKCS #12 file, a private key in the PEM form, or a URI as RFC 7512 has them

    1 error; nothing was written

    == with a secret in the URI: 1
    error: the key pkcs11:object=p256 can't be used
     = why: no secret stands in a URI, nor where one is: name a variable or a descriptor for it
     = instead: give its secret with --secret-variable or --secret-descriptor

    1 error; nothing was written

    == without the library: 1
    error: the key pkcs11:object=p256 can't be used
     = why: the library /usr/lib/missing.so can't be used: /usr/lib/missing.so: cannot open shared object file: No such file or directory
     = instead: pkcs11:token=LABEL;object=LABEL?module-path=LIBRARY, with the token in its place

    1 error; nothing was written
    "#);
}
