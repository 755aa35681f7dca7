//! OpenPGP: AppImages with their signature inside, lists with one beside them, and whom to believe.

use super::*;
use crate::common::{Folder, LEAST};
use std::process::Command;

/// A product for Linux with a key, and the key's public half in `known.asc`.
fn product() -> Folder {
    let folder = Folder::least();
    folder.write("shelf.toml", format!("{LEAST}\n[signing.openpgp]\nkey = \"key.asc\"\n"));
    make_key(&folder, "Fernhollow", "key.asc", "known.asc");
    folder
}

/// A key by GnuPG, as private and as public text.
fn make_key(folder: &Folder, name: &str, private: &str, public: &str) {
    let script = format!(
        "set -e; export GNUPGHOME=$(mktemp -d /tmp/pgpXXXXXX); trap 'gpgconf --kill all; rm -rf $GNUPGHOME' EXIT
         pgp() {{ gpg --batch --quiet --pinentry-mode loopback --passphrase '' \"$@\"; }}
         pgp --quick-gen-key '{name} <releases@fernhollow.example>' ed25519 sign never
         pgp --armor --export-secret-keys >{private}; pgp --armor --export >{public}; chmod 600 {private}"
    );
    let out = Command::new("sh").args(["-c", &script]).current_dir(folder.path()).stdin(Stdio::null()).output();
    let out = out.expect("`./test` installs it");
    assert!(out.status.success(), "{}", text(&out));
}

/// Whether `gpgv` accepts a signature of a file with known keys.
fn gpgv(folder: &Folder, signature: &str, file: &str) -> bool {
    let script = format!("rm -f ring; gpg --dearmor <known.asc >ring && gpgv --keyring ./ring {signature} {file}");
    let home = folder.at("home");
    std::fs::create_dir_all(&home).expect("a folder");
    let out = Command::new("sh").args(["-c", &script]).current_dir(folder.path()).env("GNUPGHOME", home).output();
    out.expect("`./test` installs it").status.success()
}

/// What is said, without times and fingerprints.
fn tidy(said: &str) -> String {
    let plain = |line: &str| {
        let words = line.trim_start();
        let label = ["key ", "time "].iter().find(|label| words.starts_with(**label));
        label.map_or(line.to_owned(), |label| format!("  {label}…"))
    };
    said.lines().map(plain).collect::<Vec<_>>().join("\n")
}

#[test]
fn an_appimage_holds_its_signature_and_the_list_of_packages_has_one_beside_it() {
    let folder = product();
    let planned = folder.ok(&["plan"]);
    let part = planned.split("signatures with OpenPGP\n").nth(1).and_then(|rest| rest.split("\n\n").next());
    insta::assert_snapshot!(part.expect("there"), @r#"
    key         key.asc
    signs       Least-1.0.0-linux-x64.AppImage
    signs       SHA256SUMS, the list of all packages
    "#);
    let said = folder.ok(&["build"]);
    assert!(said.contains("signed   1 package by “Fernhollow <releases@fernhollow.example>”\n"), "{said}");
    assert_eq!(folder.names("packages"), ["Least-1.0.0-linux-x64.AppImage", "SHA256SUMS", "SHA256SUMS.asc"]);
    let image = "packages/Least-1.0.0-linux-x64.AppImage";
    folder.ok(&["check", image]);
    let said = folder.ok(&["inspect", image]);
    assert!(said.contains("signed by “Fernhollow <releases@fernhollow.example>”"), "{said}");
    let (code, said) = folder.run(&["verify", image, "packages/SHA256SUMS", "--openpgp-keys", "known.asc"]);
    insta::assert_snapshot!(format!("{code}\n{}", tidy(&said)), @r#"
    0
    ✓ packages/Least-1.0.0-linux-x64.AppImage: signed by “Fernhollow <releases@fernhollow.example>”
      signer     Fernhollow <releases@fernhollow.example>, Ed25519 by OpenPGP
      key …
      time …
      digest     SHA-256

    ✓ packages/SHA256SUMS: signed by “Fernhollow <releases@fernhollow.example>”
      signer     Fernhollow <releases@fernhollow.example>, Ed25519 by OpenPGP
      key …
      time …
      digest     SHA-256
    "#);
    assert!(gpgv(&folder, "packages/SHA256SUMS.asc", "packages/SHA256SUMS"));
    // What `gpgv` says of the signature inside: of the digest of the file with both sections empty.
    let bytes = std::fs::read(folder.at(image)).expect("read");
    let script = format!(
        "set -e; cp {image} bare; for s in sha256_sig sig_key; do
           set -- $(readelf -SW bare | awk -v s=.$s '$0 ~ s {{ sub(/.*\\] */, \"\"); print $4, $5 }}')
           dd if={image} bs=1 skip=$((0x$1)) count=$((0x$2)) 2>/dev/null | tr -d '\\0' >$s
           dd if=/dev/zero of=bare bs=1 seek=$((0x$1)) count=$((0x$2)) conv=notrunc 2>/dev/null
         done; sha256sum bare | cut -c1-64 | tr -d '\\n' >digest"
    );
    let done = Command::new("sh").args(["-c", &script]).current_dir(folder.path()).output().expect("started");
    assert!(done.status.success(), "{}", text(&done));
    assert!(gpgv(&folder, "sha256_sig", "digest"));
    let [inside, known] = ["sig_key", "known.asc"].map(|name| std::fs::read_to_string(folder.at(name)).expect("text"));
    assert!(inside.starts_with("-----BEGIN PGP PUBLIC KEY BLOCK-----") && known.starts_with(&inside[..36]));
    // It starts as before, and the same build gives the same bytes: what was signed stays.
    let run = Command::new(folder.at(image)).arg("hello").env("APPIMAGE_EXTRACT_AND_RUN", "1").output();
    assert_eq!(String::from_utf8_lossy(&run.expect("started").stdout), "least hello\n");
    folder.ok(&["build"]);
    assert!(bytes == std::fs::read(folder.at(image)).expect("read"), "the signature stays");
    // Whatever is changed is found.
    for (what, at) in [("the head", 0x1000), ("the image", bytes.len() - 5)] {
        let mut changed = bytes.clone();
        changed[at] ^= 1;
        folder.write("changed.AppImage", changed);
        let (code, said) = folder.run(&["verify", "changed.AppImage", "--openpgp-keys", "known.asc"]);
        assert!(code == 8 && said.contains("the file was changed after it was signed"), "{what}: {said}");
    }
    // Nobody is known, or somebody else.
    make_key(&folder, "Stranger", "other.key", "other.asc");
    let (first, unknown) = folder.run(&["verify", image]);
    let (second, stranger) = folder.run(&["verify", image, "--openpgp-keys", "other.asc"]);
    assert!((first, second) == (8, 8) && stranger.contains("is not among the known ones"), "{stranger}");
    assert!(unknown.contains("name the file of known keys with --openpgp-keys"), "{unknown}");
    // A changed package is told by the list.
    folder.write(image, b"something else");
    let (code, said) = folder.run(&["verify", "packages/SHA256SUMS", "--openpgp-keys", "known.asc"]);
    assert!(code == 8 && said.contains("Least-1.0.0-linux-x64.AppImage was changed after it was signed"), "{said}");
}

#[test]
fn files_are_signed_with_a_key_of_openpgp_once_and_as_somebody_says() {
    let folder = product();
    let plain = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", plain.split("\n[signing").next().expect("there"));
    folder.ok(&["build"]);
    let image = "packages/Least-1.0.0-linux-x64.AppImage";
    folder.write("notes.txt", "notes");
    let said = folder.ok(&["sign", image, "notes.txt", "--key", "key.asc"]);
    insta::assert_snapshot!(said, @r#"
    ✓ packages/Least-1.0.0-linux-x64.AppImage: signed by “Fernhollow <releases@fernhollow.example>”
    ✓ notes.txt: signed by “Fernhollow <releases@fernhollow.example>”
    "#);
    assert!(gpgv(&folder, "notes.txt.asc", "notes.txt"));
    folder.ok(&["verify", image, "notes.txt", "--openpgp-keys", "known.asc"]);
    let mode = std::fs::metadata(folder.at(image)).expect("there").permissions();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&mode) & 0o111, 0o111, "it can still be started");
    let mut all = String::new();
    for words in [
        &["sign", image, "notes.txt", "--key", "key.asc"][..],
        &["sign", "notes.txt", "--key", "key.asc", "--timestamps", "http://127.0.0.1:9/"],
        &["sign", "notes.txt", "--key", "known.asc"],
        &["verify", "notes.txt", "--openpgp-keys", "key.asc"],
        &["verify", "notes.txt", "--openpgp-keys", "missing.asc"],
    ] {
        let (code, said) = folder.run(words);
        let _ = writeln!(all, "== {}: {code}\n{said}", words[1..].join(" "));
    }
    insta::assert_snapshot!(all, @r#"
    == packages/Least-1.0.0-linux-x64.AppImage notes.txt --key key.asc: 1
    error: packages/Least-1.0.0-linux-x64.AppImage is already signed by somebody
     = instead: `--existing replace` for another in its place

    error: notes.txt.asc is there already
     = instead: `--existing replace` for another in its place

    2 errors; nothing was written

    == notes.txt --key key.asc --timestamps http://127.0.0.1:9/: 1
    error: a key of OpenPGP has no certificates, timestamps or lists of digests
     = instead: leave out --certificate, --timestamps, --digest, --digests and `--existing beside`

    1 error; nothing was written

    == notes.txt --key known.asc: 1
    error: the key known.asc can't be used
     = why: there is no private key in it
     = instead: a PKCS #12 file, a private key in the PEM form, or a URI as RFC 7512 has them

    1 error; nothing was written

    == notes.txt --openpgp-keys key.asc: 1
    error: key.asc holds no public keys of OpenPGP
     = why: the public keys can't be read: unexpected block type: PGP PRIVATE KEY BLOCK

    1 error; nothing was written

    == notes.txt --openpgp-keys missing.asc: 3
    error: can't read missing.asc
     = why: it doesn't exist
    "#);
    folder.ok(&["sign", image, "notes.txt", "--key", "key.asc", "--existing", "replace"]);
    folder.ok(&["verify", image, "notes.txt", "--openpgp-keys", "known.asc"]);
    assert_eq!(folder.names("packages").len(), 1, "nothing is left beside it");
    // With a signature of each kind beside it, a file is checked by whatever is named to be trusted.
    let (code, said) = sign(&folder, "notes.txt", "p256", &[]);
    assert_eq!(code, 0, "{said}");
    let root = roots("p256");
    for (words, unchecked) in [
        (&["--roots", &root][..], Some("not checked: its OpenPGP signature")),
        (&["--openpgp-keys", "known.asc"], Some("not checked: the signature in notes.txt.p7s")),
        (&["--roots", &root, "--openpgp-keys", "known.asc"], None),
    ] {
        let said = folder.ok(&[&["verify", "notes.txt"], words].concat());
        assert_eq!(unchecked.is_some_and(|what| said.contains(what)), unchecked.is_some(), "{said}");
    }
    folder.write("notes.txt", "other notes");
    assert_eq!(folder.run(&["verify", "notes.txt", "--roots", &root, "--openpgp-keys", "known.asc"]).0, 8);
}
