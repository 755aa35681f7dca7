//! Builds without a key: they stop with what has to be signed, and go on when it is. What comes out is what a build with the
//! key makes, byte for byte.

use super::builds::product_with_key;
use super::macos::product;
use super::*;
use crate::common::Folder;
use serde_json::Value;

/// The list, as it stands.
fn list(folder: &Folder) -> Value {
    serde_json::from_slice(&std::fs::read(folder.at("digests.json")).expect("a list")).expect("JSON")
}

/// Builds without the key until nothing is missing; what each round asks for.
fn rounds(folder: &Folder, output: &str, mut sign: impl FnMut(&Folder)) -> Vec<Vec<String>> {
    let mut all = Vec::new();
    loop {
        let (code, said) = folder.run(&["build", "--digests", "digests.json", "--output", output]);
        if code == 0 {
            return all;
        }
        assert_eq!(code, 9, "{said}");
        let list = list(folder);
        let missing = list["digests"].as_array().expect("a list").iter().filter(|entry| entry["signature"].is_null());
        all.push(missing.map(|entry| entry["file"].as_str().expect("text").to_owned()).collect());
        assert!(all.len() < 9, "{all:?}");
        sign(folder);
    }
}

/// Signs with `openssl`, which knows nothing of what it signs.
fn by_openssl(folder: &Folder) {
    let mut list = list(folder);
    for entry in list["digests"].as_array_mut().expect("a list") {
        if !entry["signature"].is_null() {
            continue;
        }
        let digits = entry["digest"].as_str().expect("text");
        let digest: Vec<u8> =
            (0..digits.len() / 2).map(|n| u8::from_str_radix(&digits[2 * n..2 * n + 2], 16).expect("digits")).collect();
        folder.write("digest", digest);
        let script = "openssl pkeyutl -sign -inkey kept/key.pem -in digest -pkeyopt digest:sha256 | openssl base64 -A";
        let out = Command::new("sh").args(["-c", script]).current_dir(folder.path()).output().expect("openssl");
        assert!(out.status.success(), "{}", text(&out));
        entry["signature"] = String::from_utf8(out.stdout).expect("text").into();
    }
    folder.write("digests.json", serde_json::to_vec_pretty(&list).expect("JSON"));
}

/// Takes the key out of the folder that is built in.
fn take_key_away(folder: &Folder) {
    std::fs::create_dir(folder.at("kept")).expect("a folder");
    std::fs::rename(folder.at("keys/code-signing.key.pem"), folder.at("kept/key.pem")).expect("moved");
}

/// All files of two folders are alike.
fn alike(folder: &Folder, one: &str, other: &str) {
    let names = folder.names(one);
    assert_eq!(names, folder.names(other));
    for name in names {
        let [a, b] = [one, other].map(|side| std::fs::read(folder.at(&format!("{side}/{name}"))).expect("read"));
        assert!(a == b, "{name} differs");
    }
}

#[test]
fn packages_for_windows_are_those_of_a_build_with_the_key() {
    let folder = product_with_key("");
    // An RSA key, as services have them.
    for file in ["code-signing.key.pem", "code-signing.pem"] {
        folder.write(&format!("keys/{file}"), std::fs::read(KEYS.at(&format!("rsa-3072/{file}"))).expect("read"));
    }
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", format!("{manifest}\n[signing.linux]\nkey = \"keys/code-signing.key.pem\"\ncertificate = \"keys/code-signing.pem\"\n"));
    folder.ok(&["build", "--output", "with"]);
    take_key_away(&folder);
    // What was signed before is remembered; here nobody remembers.
    std::fs::remove_dir_all(folder.cache()).expect("removed");
    let (code, said) = folder.run(&["build", "--digests", "digests.json"]);
    insta::assert_snapshot!(format!("{code}\n{}", said.split("waiting").nth(1).unwrap_or(&said)), @r#"
    9
    : 2 digests in digests.json have to be signed
     = next: upper-shelf sign --digests digests.json --key KEY, where the key is; then the same build again
    "#);
    assert!(folder.names("packages").is_empty(), "nothing is built yet");
    let asked = rounds(&folder, "without", by_openssl);
    insta::assert_snapshot!(format!("{asked:#?}"), @r#"
    [
        [
            "hives.exe",
            "uninstall.exe",
        ],
        [
            "Hives-Frames-1.0.0-windows-x64.exe",
            "Hives-Frames-1.0.0-windows-x64.msi",
            "Hives-Frames-1.0.0-windows-x64.portable.exe",
        ],
        [
            "SHA256SUMS",
        ],
    ]
    "#);
    alike(&folder, "with", "without");
    // The list is all that it takes to build once more.
    let _ = std::fs::remove_dir_all(folder.cache());
    folder.ok(&["build", "--digests", "digests.json", "--output", "again"]);
    alike(&folder, "with", "again");
}

#[test]
fn packages_for_macos_are_those_of_a_build_with_the_key() {
    let folder = product(&super::macos::SIGNING.replace("KEYS", "keys"));
    for file in ["code-signing.key.pem", "code-signing.pem"] {
        folder.write(&format!("keys/{file}"), std::fs::read(KEYS.at(&format!("p256/{file}"))).expect("read"));
    }
    super::macos::put_helper(&folder);
    folder.ok(&["build", "--output", "with"]);
    take_key_away(&folder);
    std::fs::remove_dir_all(folder.cache()).expect("removed");
    let asked = rounds(&folder, "without", |folder| {
        let said = folder.ok(&[
            "sign",
            "--digests",
            "digests.json",
            "--key",
            "kept/key.pem",
            "--certificate",
            "keys/code-signing.pem",
        ]);
        assert!(said.contains("signed by “Fernhollow (TEST ONLY)”"), "{said}");
    });
    insta::assert_snapshot!(format!("{asked:#?}"), @r#"
    [
        [
            "Hive.app/Contents/Helpers/Bee.app/Contents/MacOS/bee",
            "Hive.app/Contents/MacOS/jre/libjvm.dylib",
        ],
        [
            "Hive.app/Contents/MacOS/hive",
        ],
        [
            "Hive-1.0.0-macos-arm64.dmg",
        ],
    ]
    "#);
    alike(&folder, "with", "without");
}

#[test]
fn timestamps_stay_what_they_are_while_a_build_waits() {
    let clock = Authority::of("p256");
    let folder = product_with_key(&format!("timestamps = [\"{}\"]\n", clock.1));
    take_key_away(&folder);
    let key = ["--key", "kept/key.pem", "--certificate", "keys/code-signing.pem"];
    let asked = rounds(&folder, "packages", |folder| {
        // No memory but the list.
        let _ = std::fs::remove_dir_all(folder.cache());
        folder.ok(&[&["sign", "--digests", "digests.json"], &key[..]].concat());
    });
    assert_eq!(asked.len(), 2, "{asked:?}");
    let list = list(&folder);
    assert!(list["digests"].as_array().expect("a list").iter().all(|entry| entry["timestamp"].is_string()));
    drop(clock);
    let _ = std::fs::remove_dir_all(folder.cache());
    folder.ok(&["build", "--digests", "digests.json", "--output", "again"]);
    alike(&folder, "packages", "again");
}

#[test]
fn lists_keys_and_signatures_that_do_not_fit_are_told_and_nothing_is_built() {
    let folder = product_with_key("");
    take_key_away(&folder);
    let mut all = String::new();
    let mut say = |what: &str, (code, said): (i32, String)| {
        let _ = writeln!(all, "== {what}: {code}\n{said}");
        assert!(folder.names("packages").is_empty(), "{what}: {said}");
    };
    let build = || folder.run(&["build", "--digests", "digests.json"]);
    let own = ["--key", "kept/key.pem", "--certificate", "keys/code-signing.pem"];
    let sign = |key: &[&str]| folder.run(&[&["sign", "--digests", "digests.json"], key].concat());
    say("no list yet", sign(&own));
    assert_eq!(build().0, 9);
    let first = std::fs::read(folder.at("digests.json")).expect("a list");
    let strangers = keys("p384");
    say("the key of another certificate", sign(&strangers.iter().map(String::as_str).collect::<Vec<_>>()));
    // A signature of something else.
    let mut wrong = list(&folder);
    let entries = wrong["digests"].as_array_mut().expect("a list");
    entries.truncate(2);
    entries.iter_mut().for_each(|entry| entry["signature"] = "MEUCIQ==".into());
    folder.write("digests.json", serde_json::to_vec(&wrong).expect("JSON"));
    say("signatures of something else", build());
    folder.write("digests.json", "{\"digests\": [{\"file\": 1}]}");
    say("no list", build());
    folder.write("digests.json", &first);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace("certificate = \"keys/code-signing.pem\"\n", ""));
    say("no certificate", build());
    folder.write(
        "shelf.toml",
        manifest.replace(
            "[signing.windows]\nkey = \"keys/code-signing.key.pem\"\ncertificate = \"keys/code-signing.pem\"\n",
            "",
        ),
    );
    say("nothing to sign", build());
    folder.write("shelf.toml", manifest);
    // A full disk, or a folder that isn't there.
    say("no place for the list", folder.run(&["build", "--digests", "nowhere/digests.json"]));
    insta::assert_snapshot!(all, @r#"
    == no list yet: 3
    error: can't read digests.json
     = why: it doesn't exist


    == the key of another certificate: 1
    error: no digest in digests.json is for this key
     = why: 2 wait for the key of another certificate than “Fernhollow (TEST ONLY)”
     = instead: the key whose certificate the build names

    1 error; nothing was written

    == signatures of something else: 1
    error: the signature of hives.exe in digests.json doesn't fit
     = why: the signature does not fit: what was signed has been changed
     = instead: remove its line "signature", and sign the digest again

    1 error; nothing was written

    == no list: 1
    error: digests.json is no list of digests
     = why: invalid type: integer `1`, expected a string at line 1 column 23
     = instead: the file that `upper-shelf build --digests` wrote; without it the build begins anew

    1 error; nothing was written

    == no certificate: 1
    error: [signing.windows] names no certificate
      --> ./shelf.toml:91:7
       |
    91 | key = "keys/code-signing.key.pem"
       |       ^^^^^^^^^^^^^^^^^^^^^^^^^^^
       = why: the key is elsewhere, and signatures name it
       = instead: certificate = "FILE", which holds no secret

    1 error; nothing was written

    == nothing to sign: 1
    error: nothing that is built here is signed with a key
     = instead: [signing.windows], [signing.macos] or [signing.linux] in the manifest; or build without --digests

    1 error; nothing was written

    == no place for the list: 3
    error: can't write nowhere/digests.json
     = why: it doesn't exist
    "#);
}

/// A list with digests that wait, and how many these are.
fn waiting() -> (Folder, usize) {
    let folder = product_with_key("");
    take_key_away(&folder);
    for n in 0..40 {
        let program = [super::COMBWRIGHT, &[n]].concat();
        folder.write(&format!("built/tools/{n}.exe"), program);
    }
    assert_eq!(folder.run(&["build", "--digests", "digests.json"]).0, 9);
    let count = list(&folder)["digests"].as_array().expect("a list").len();
    assert!(count > 40, "{count}");
    (folder, count)
}

const OWN: [&str; 4] = ["--key", "kept/key.pem", "--certificate", "keys/code-signing.pem"];

#[test]
fn platforms_and_their_bundle_wait_side_by_side() {
    let folder = product_with_key("");
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    let manifest = manifest
        .replace("build = [\"msi\", \"nsis\", \"portable\", \"zip\"]", "build = [\"msi\", \"msix\"]")
        .replace("platforms = [\"windows-x64\"]", "platforms = [\"windows-x64\", \"windows-arm64\"]");
    folder.write("shelf.toml", format!("{manifest}\n[target.msix]\nbundle = true\n"));
    folder.ok(&["build", "--output", "with"]);
    take_key_away(&folder);
    std::fs::remove_dir_all(folder.cache()).expect("removed");
    let asked = rounds(&folder, "without", |folder| {
        folder.ok(&[&["sign", "--digests", "digests.json"], &OWN[..]].concat());
    });
    insta::assert_snapshot!(format!("{asked:#?}"), @r#"
    [
        [
            "hives.exe",
        ],
        [
            "Hives-Frames-1.0.0-windows-arm64.msi",
            "Hives-Frames-1.0.0-windows-arm64.msix",
            "Hives-Frames-1.0.0-windows-x64.msi",
            "Hives-Frames-1.0.0-windows-x64.msix",
        ],
        [
            "Hives-Frames-1.0.0-windows.msixbundle",
        ],
    ]
    "#);
    let names = folder.names("with");
    assert!(names.iter().any(|name| name.ends_with("-windows.msixbundle")), "{names:?}");
    alike(&folder, "with", "without");
}

#[test]
fn a_full_disk_leaves_the_list_as_it_was() {
    assert!(test_support::is_root(), "mounting needs root");
    let (folder, count) = waiting();
    let small = folder.at("small").to_string_lossy().into_owned();
    std::fs::create_dir(&small).expect("folder");
    let length = std::fs::metadata(folder.at("digests.json")).expect("a list").len();
    // Room for the list, and for half of another one.
    let size = format!("size={}k", (length + length / 2) / 1024 + 4);
    test_support::judge_says_yes("mount", &["-t", "tmpfs", "-o", &size, "tmpfs", &small]);
    std::fs::copy(folder.at("digests.json"), folder.at("small/digests.json")).expect("copied");
    let sign = folder.run(&[&["sign", "--digests", "small/digests.json"], &OWN[..]].concat());
    // The build has two digests more to ask for.
    folder.write("built/tools/more.exe", [super::COMBWRIGHT, b"more"].concat());
    let filler = vec![7; (length / 2) as usize];
    let _ = std::fs::write(folder.at("small/filler"), filler);
    let build = folder.run(&["build", "--digests", "small/digests.json"]);
    let left = folder.names("small");
    let after = std::fs::read(folder.at("small/digests.json"));
    test_support::judge_says_yes("umount", &[&small]);
    for (code, said) in [sign, build] {
        assert!(code == 3 && said.contains("can't write") && said.contains("no space"), "{code}: {said}");
    }
    assert_eq!(left, ["digests.json", "filler"]);
    assert!(after.expect("there") == std::fs::read(folder.at("digests.json")).expect("a list"));
    assert_eq!(count, list(&folder)["digests"].as_array().expect("a list").len());
    assert!(folder.names("packages").is_empty());
}

#[test]
fn killed_while_it_signs_the_list_is_the_old_one_or_the_new_one() {
    let (folder, count) = waiting();
    let before = std::fs::read(folder.at("digests.json")).expect("a list");
    let args = [&["sign", "--digests", "digests.json"], &OWN[..]].concat();
    let began = std::time::Instant::now();
    folder.ok(&args);
    let mut takes = began.elapsed();
    let mut killed = 0;
    for n in 0..16u32 {
        folder.write("digests.json", &before);
        let mut child = folder.command(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("started");
        std::thread::sleep(takes * n / 14);
        child.kill().expect("killed");
        match child.wait().expect("ended").success() {
            true => takes = takes * 3 / 4,
            false => killed += 1,
        }
        let digests = list(&folder)["digests"].as_array().expect("a list").clone();
        let signed = digests.iter().filter(|entry| entry["signature"].is_string()).count();
        assert!(digests.len() == count && (signed == 0 || signed == count), "{signed} of {count} are signed");
    }
    assert!(killed > 3, "most were really cut short, not {killed}");
    folder.ok(&args);
    assert_eq!(folder.run(&["build", "--digests", "digests.json"]).0, 9, "the packages wait now");
    let lists: Vec<String> = folder.names(".").into_iter().filter(|name| name.contains("digests")).collect();
    assert_eq!(lists, ["digests.json"], "the next one clears what was left");
}
