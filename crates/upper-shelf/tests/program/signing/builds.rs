//! Builds that sign: what they sign, what they leave, and what they say before.

use super::keys::protected;
use super::*;
use crate::common::Folder;
use std::fmt::Write as _;
use std::process::Command;

const SIGNING: &str = r#"
[signing.windows]
key = "keys/code-signing.key.pem"
certificate = "keys/code-signing.pem"
"#;

/// A product whose manifest names a key, with a library that somebody else has signed.
pub(super) fn product_with_key(more: &str) -> Folder {
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
        (
            "two places for a secret",
            "key = \"keys",
            "secret-variable = \"A\"\nsecret-keyring = \"hives/key\"\nkey = \"keys",
        ),
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
       = why: authorities are asked over http:// or https://
       = instead: "http://…"

    1 error; nothing was written

    == two places for a secret: 1
    error: [signing.windows] names two places for one secret
      --> ./shelf.toml:92:18
       |
    92 | secret-keyring = "hives/key"
       |                  ^^^^^^^^^^^
       = why: `secret-variable` names the other
       = instead: one of the two

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
       = instead: one of key, certificate, secret-variable, secret-keyring, timestamps, timestamp-roots, digest, page-hashes

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
    // A list that is not what was signed says nothing of files.
    assert!(code == 8 && said.contains("has been changed") && !said.contains("shelf.toml"), "{said}");
    let (code, said) = sign(&folder, "packages/SHA256SUMS", "p256", &["--existing", "replace"]);
    assert_eq!(code, 0, "{said}");
    let (code, said) = verify();
    assert!(code == 8 && said.contains("names no file beside it"), "{said}");
}
