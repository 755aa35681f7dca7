//! Keys and signatures against another implementation, GnuPG, in both directions.
#![cfg(feature = "pgp")]

use open_pgp::{PublicKeys, SecretKey};
use std::path::PathBuf;
use std::process::{Command, Output, Stdio};

const DATA: &[u8] = b"frames of honey";

/// A folder of keys, with an agent that ends with it.
struct Home(tempfile::TempDir);

impl Home {
    fn new() -> Self {
        // The agent's socket wants a short path.
        Self(tempfile::Builder::new().prefix("pgp").tempdir_in("/tmp").expect("a folder"))
    }

    fn at(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn run(&self, words: &[&str]) -> Output {
        let mut command = Command::new("gpg");
        command.args(["--batch", "--yes", "--quiet", "--pinentry-mode", "loopback"]).args(words);
        let command = command.env("GNUPGHOME", self.0.path()).current_dir(self.0.path()).stdin(Stdio::null());
        command.output().expect("`./test` installs it")
    }

    fn ok(&self, words: &[&str]) -> Vec<u8> {
        let out = self.run(words);
        assert!(out.status.success(), "{words:?}: {}", String::from_utf8_lossy(&out.stderr));
        out.stdout
    }

    /// A key that a secret protects or not, and that ends some time or never.
    fn key(&self, name: &str, kind: &str, secret: &str, ends: &str) {
        self.ok(&[
            "--passphrase",
            secret,
            "--quick-gen-key",
            &format!("{name} <{name}@fernhollow.example>"),
            kind,
            "sign",
            ends,
        ]);
    }

    fn fingerprint(&self, name: &str) -> String {
        let listed = String::from_utf8(self.ok(&["--with-colons", "--list-keys", name])).expect("text");
        let line = listed.lines().find(|line| line.starts_with("fpr")).expect("a fingerprint");
        line.split(':').nth(9).expect("digits").to_owned()
    }

    fn public(&self, name: &str) -> PublicKeys {
        PublicKeys::read(&self.ok(&["--armor", "--export", name])).expect("keys")
    }

    fn secret(&self, name: &str, secret: &str) -> SecretKey {
        let exported = self.ok(&["--armor", "--passphrase", secret, "--export-secret-keys", name]);
        SecretKey::read(&exported).expect("a key")
    }

    /// A signature of [`DATA`].
    fn sign(&self, name: &str, secret: &str, more: &[&str]) -> Vec<u8> {
        std::fs::write(self.at("data"), DATA).expect("written");
        let words = ["--passphrase", secret, "--local-user", name, "--output", "-", "--detach-sign"];
        self.ok(&[more, &words, &["data"]].concat())
    }

    /// Whether it accepts a signature of [`DATA`].
    fn accepts(&self, signature: &str) -> bool {
        std::fs::write(self.at("data"), DATA).expect("written");
        std::fs::write(self.at("data.asc"), signature).expect("written");
        self.run(&["--verify", "data.asc", "data"]).status.success()
    }
}

impl Drop for Home {
    fn drop(&mut self) {
        let mut end = Command::new("gpgconf");
        let _ = end.args(["--kill", "all"]).env("GNUPGHOME", self.0.path()).stdin(Stdio::null()).output();
    }
}

fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("after 1970").as_secs()
}

fn verify(keys: &PublicKeys, signature: &[u8], now: u64) -> Result<Vec<String>, String> {
    keys.verify(signature, &mut &DATA[..], now).map(|report| report.problems).map_err(|e| e.to_string())
}

#[test]
fn keys_of_each_kind_sign_and_check_in_both_directions() {
    let home = Home::new();
    for (name, kind, secret) in [
        ("swarm", "ed25519", ""),
        ("rsa", "rsa2048", ""),
        ("nist", "nistp256", ""),
        ("locked", "ed25519", "Honig und Wachs"),
    ] {
        home.key(name, kind, secret, "never");
        let mut key = home.secret(name, secret);
        assert_eq!(key.is_protected(), !secret.is_empty(), "{name}");
        if key.is_protected() {
            assert_eq!(key.unlock("honig").expect_err("wrong").to_string(), "the secret is wrong");
            assert!(key.sign(&mut &DATA[..], now()).is_err(), "locked");
            key.unlock(secret).expect("right");
        }
        let signature = key.sign(&mut &DATA[..], now()).expect("signed");
        assert!(home.accepts(&signature), "{name}");
        assert!(!home.accepts(&signature.replace('A', "B")), "{name}");
        let public = PublicKeys::read(key.public().expect("text").as_bytes()).expect("keys");
        let report = public.verify(signature.as_bytes(), &mut &DATA[..], now()).expect("fits");
        assert_eq!(report.key.user, format!("{name} <{name}@fernhollow.example>"));
        assert_eq!((report.key.fingerprint, report.problems), (home.fingerprint(name), Vec::new()));
        // Theirs, as text and as bytes.
        for more in [&["--armor"][..], &[]] {
            let theirs = home.sign(name, secret, more);
            assert_eq!(verify(&home.public(name), &theirs, now()), Ok(Vec::new()), "{name}");
            let other = home.public(name).verify(&theirs, &mut &b"wax"[..], now()).expect_err("other data");
            assert_eq!(other.to_string(), "the file was changed after it was signed, or the signature was");
        }
    }
    // The same key, data and time: the same bytes.
    let key = home.secret("swarm", "");
    assert_eq!(key.sign(&mut &DATA[..], 1_800_000_000), key.sign(&mut &DATA[..], 1_800_000_000));
    let said = verify(&home.public("rsa"), &home.sign("swarm", "", &[]), now()).expect_err("another key");
    assert!(said.ends_with("is not among the known ones"), "{said}");
    // Known keys may come in several files or blocks.
    let mut both = home.public("rsa");
    both.extend(home.public("swarm"));
    assert_eq!(verify(&both, &home.sign("swarm", "", &[]), now()), Ok(Vec::new()));
    let blocks = [home.ok(&["--armor", "--export", "rsa"]), home.ok(&["--armor", "--export", "swarm"])].concat();
    let all = PublicKeys::read(&blocks).expect("keys");
    assert_eq!(verify(&all, &home.sign("swarm", "", &[]), now()), Ok(Vec::new()));
}

#[test]
fn subkeys_sign_as_long_as_they_are_bound_and_neither_expired_nor_revoked() {
    let home = Home::new();
    home.key("queen", "ed25519", "", "never");
    let main = home.fingerprint("queen");
    home.ok(&["--passphrase", "", "--quick-add-key", &main, "ed25519", "sign", "10d"]);
    home.ok(&["--passphrase", "", "--quick-add-key", &main, "cv25519", "encr", "never"]);
    let key = home.secret("queen", "");
    let signature = key.sign(&mut &DATA[..], now()).expect("signed");
    assert!(home.accepts(&signature));
    assert!(key.facts().until.is_some(), "the part below the main key signs, and it ends");
    assert_eq!(verify(&home.public("queen"), signature.as_bytes(), now()), Ok(Vec::new()));
    let later = verify(&home.public("queen"), signature.as_bytes(), now() + 11 * 86_400);
    assert_eq!(later, Ok(vec!["the part of the key that signs has expired".to_owned()]));
    let early = verify(&home.public("queen"), signature.as_bytes(), now() - 86_400);
    assert_eq!(early, Ok(vec!["the signature says that it was made in the future, or not when".to_owned()]));
    // Revoked: the owner says that the key is no longer his.
    let certificate = home.at(&format!("openpgp-revocs.d/{main}.rev"));
    let text = std::fs::read_to_string(certificate).expect("made with the key").replace(":-----BEGIN", "-----BEGIN");
    std::fs::write(home.at("revoked"), text).expect("written");
    home.ok(&["--import", "revoked"]);
    let said = verify(&home.public("queen"), signature.as_bytes(), now());
    assert_eq!(said, Ok(vec!["the key was revoked".to_owned()]));
    assert!(!home.accepts(&signature) || said.is_ok());
}

#[test]
fn weak_digests_and_other_kinds_of_signatures_are_refused() {
    let home = Home::new();
    home.key("bee", "rsa2048", "", "never");
    let keys = home.public("bee");
    let weak = home.sign("bee", "", &["--digest-algo", "SHA1"]);
    let said = verify(&keys, &weak, now()).expect_err("weak");
    assert!(said.contains("no longer protects anything"), "{said}");
    let of_text = home.sign("bee", "", &["--textmode"]);
    assert_eq!(
        verify(&keys, &of_text, now()).expect_err("of text"),
        "the signature is of another kind of thing than a file"
    );
    for (what, bytes) in [("nothing", &b""[..]), ("text", b"hello"), ("a key", &home.ok(&["--export", "bee"]))] {
        assert!(verify(&keys, bytes, now()).is_err(), "{what}");
    }
    assert!(PublicKeys::read(b"hello").is_err() && SecretKey::read(b"hello").is_err());
    // Whatever is changed in it, or cut off, it is refused.
    let good = home.sign("bee", "", &[]);
    for at in 0..good.len() {
        let mut changed = good.clone();
        changed[at] ^= 1;
        let accepted = verify(&keys, &changed, now()).is_ok_and(|problems| problems.is_empty());
        // What is not signed says only whose key it was.
        assert!(!accepted || keys.verify(&changed, &mut &b"wax"[..], now()).is_err(), "byte {at}");
        assert!(verify(&keys, &good[..at], now()).is_err(), "{at} bytes");
    }
}
