//! Keys: where they are kept, who hears their secrets, what is said of them.

use super::*;
use crate::common::{Folder, PROGRAM, code, text};
use std::fmt::Write as _;
use std::process::{Command, Stdio};

/// A key in a file with its certificate, protected by a secret.
pub(super) fn protected(folder: &Folder, secret: &str) {
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

/// A program that stands between, with words of its own for the service.
fn service(folder: &Folder, kind: &str, more: &str) {
    let keys = KEYS.at(kind);
    folder.script("service", &format!("exec '{PROGRAM}' simulate signing-service '{}' {more}", keys.display()));
}

#[test]
fn a_key_that_only_a_service_uses_signs_as_the_same_key_in_a_file_does() {
    for kind in ["rsa-3072", "p384"] {
        let wanted = std::fs::read(signed(kind, &[]).at("app.exe")).expect("read");
        let folder = Folder::new();
        folder.write("app.exe", COMBWRIGHT);
        service(&folder, kind, "--delay 20");
        let (code, said) = folder.run(&["sign", "app.exe", "--key", "program:./service"]);
        assert_eq!(code, 0, "{said}");
        assert!(std::fs::read(folder.at("app.exe")).expect("read") == wanted, "{kind}");
    }
}

#[test]
fn a_service_that_fails_lies_or_babbles_leaves_nothing_signed() {
    let mut all = String::new();
    for (what, script) in [
        ("refuses", "--fail-after 0"),
        ("lies", "--lie"),
        ("babbles", "| sed -u 's/.*/hello/'"),
        ("ends", "</dev/null"),
        ("no program", ""),
    ] {
        let folder = Folder::new();
        folder.write("app.exe", COMBWRIGHT);
        service(&folder, "p256", script);
        if what == "no program" {
            std::fs::remove_file(folder.at("service")).expect("removed");
        }
        let (code, said) = folder.run(&["sign", "app.exe", "--key", "program:./service"]);
        let _ = writeln!(all, "{what}, {code}: {said}");
        assert_eq!(std::fs::read(folder.at("app.exe")).expect("read"), COMBWRIGHT);
        assert!(!folder.names(".").iter().any(|name| name.contains("partial")), "{what}");
    }
    insta::assert_snapshot!(all, @r#"
    refuses, 1: error: app.exe can't be signed
     = why: the service says: no more signatures today

    1 error; nothing was written

    lies, 1: error: app.exe can't be signed
     = why: the signature does not fit: what was signed has been changed

    1 error; nothing was written

    babbles, 3: error: the key program:./service can't be used
     = why: what the program answers is no line of JSON: hello
     = instead: a program that speaks as docs/signing.md says; try it by itself


    ends, 3: error: the key program:./service can't be used
     = why: the program ended without an answer
     = instead: a program that speaks as docs/signing.md says; try it by itself


    no program, 3: error: the key program:./service can't be used
     = why: the program can't be started: No such file or directory (os error 2)
     = instead: a program that speaks as docs/signing.md says; try it by itself
    "#);
}

/// A keyring on a bus of its own: with an entry that holds a secret, `words` are run. All of it ends with the test.
fn with_keyring(folder: &Folder, secret: &str, words: &str) -> (i32, String) {
    let script = format!(
        "export HOME=$PWD/home XDG_DATA_HOME=$PWD/home XDG_RUNTIME_DIR=$PWD/home; mkdir -p $HOME; chmod 700 $HOME
         printf honey | gnome-keyring-daemon --foreground --unlock --components=secrets >/dev/null 2>&1 & daemon=$!
         trap 'kill $daemon' EXIT
         # Whoever asks before it is there would have the bus start another one, which is locked.
         for n in $(seq 100); do
           dbus-send --print-reply --dest=org.freedesktop.DBus / org.freedesktop.DBus.NameHasOwner \
             string:org.freedesktop.secrets 2>/dev/null | grep -q true && break; sleep 0.2
         done
         printf '%s' '{secret}' | timeout 20 secret-tool store --label=test service upper-shelf username releases \
           target default application rust-keyring
         {PROGRAM} {words}"
    );
    let mut command = Command::new("timeout");
    command.args(["--kill-after=5", "120", "dbus-run-session", "--", "sh", "-c", &script]);
    command.current_dir(folder.path()).env("NO_COLOR", "1").env("XDG_CACHE_HOME", folder.cache());
    let out = command.stdin(Stdio::null()).output().expect("`./test` installs it");
    (code(&out), folder.tidy(&text(&out)))
}

#[test]
fn the_systems_keyring_holds_the_secret_of_a_key() {
    let folder = Folder::new();
    protected(&folder, "Honig und Wachs");
    folder.write("app.exe", COMBWRIGHT);
    let (code, said) =
        with_keyring(&folder, "Honig und Wachs", "sign app.exe --key key.p12 --secret-keyring upper-shelf/releases");
    assert_eq!(code, 0, "{said}");
    assert!(accepts("ours", &folder.at("app.exe"), &roots("p256")));
    let (code, said) = with_keyring(
        &folder,
        "wrong",
        "sign app.exe --existing replace --key key.p12 --secret-keyring upper-shelf/releases",
    );
    assert!(code == 1 && said.contains("the secret is wrong"), "{said}");
    let (code, said) = with_keyring(
        &folder,
        "Honig",
        "sign app.exe --existing replace --key key.p12 --secret-keyring upper-shelf/none",
    );
    assert!(code == 1 && said.contains("there is no such entry"), "{said}");
    // Without a keyring at all.
    let words =
        ["sign", "app.exe", "--existing", "replace", "--key", "key.p12", "--secret-keyring", "upper-shelf/releases"];
    let out = folder.command(&words).env("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere").output().expect("started");
    let said = text(&out);
    let what = "the secret upper-shelf/releases can't be had from the system's keyring";
    assert!(out.status.code() == Some(1) && said.contains(what), "{said}");
}
