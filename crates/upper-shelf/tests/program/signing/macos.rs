//! Code, bundles and disk images of macOS: no Mac is here, so a second reading of the formats' descriptions judges them,
//! with readers of parts that others wrote. What is changed is refused by us and by that reading.

use super::*;
use crate::common::{Folder, PROGRAM, code, put_program, text};
use std::fmt::Write as _;
use std::path::PathBuf;
use std::process::Command;

const ARM64: &[u8] = include_bytes!("../../../../../demo/files/built/macos-arm64/combwright");
const X64: &[u8] = include_bytes!("../../../../../demo/files/built/macos-x64/combwright");

fn judge(name: &str, words: &[&str]) -> (bool, String) {
    let judges = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judges");
    let output = Command::new(python()).arg(format!("{judges}/{name}.py")).args(words).output();
    let output = output.expect("the judges are installed by `./test`");
    let said = text(&output);
    assert!(!said.contains("Traceback"), "{said}");
    (code(&output) == 0, said)
}

/// What the second reading says; `-` for code that nobody signed.
pub(super) fn second_reading(path: &Path, roots: &str) -> String {
    let (holds, said) = judge("apple", &[roots, path.to_str().expect("text")]);
    assert!(holds, "{said}");
    said
}

/// What is said, without the days on which keys that were made a moment ago will end.
fn undated(said: &str) -> String {
    let mut parts = said.split("until 20");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |all, part| all + "until DATE" + part.split_once(" UTC").map_or("", |(_, rest)| rest))
}

/// Whether we, and the second reading, accept something.
pub(super) fn both(path: &Path, roots: &str) -> (bool, bool) {
    let output = Command::new(PROGRAM).arg("verify").arg(path).args(["--roots", roots]).output().expect("started");
    assert!([0, 8].contains(&code(&output)), "{}", text(&output));
    (code(&output) == 0, judge("apple", &[roots, path.to_str().expect("text")]).0)
}

/// A program for both processors, by the format's description.
pub(super) fn universal() -> Vec<u8> {
    let mut out = [0xCAFE_BABEu32, 2].map(u32::to_be_bytes).concat();
    let (first, second) = (0x4000, 0x4000 + X64.len().next_multiple_of(0x4000));
    for (kind, of_kind, at, size, align) in
        [(0x0100_0007, 3, first, X64.len(), 12), (0x0100_000C, 0, second, ARM64.len(), 14)]
    {
        out.extend([kind, of_kind, at as u32, size as u32, align].map(u32::to_be_bytes).concat());
    }
    out.resize(first, 0);
    out.extend(X64);
    out.resize(second, 0);
    out.extend(ARM64);
    out
}

fn list(executable: &str, identifier: &str) -> String {
    format!(
        "<?xml version=\"1.0\"?><plist version=\"1.0\"><dict><key>CFBundleExecutable</key><string>{executable}</string>\
         <key>CFBundleIdentifier</key><string>{identifier}</string><key>CFBundleName</key><string>{executable}</string>\
         <key>CFBundleShortVersionString</key><string>1.0.0</string><key>CFBundleVersion</key><string>1.0.0</string>\
         <key>CFBundleIconFile</key><string>hive</string><key>CFBundlePackageType</key><string>APPL</string></dict></plist>"
    )
}

/// A bundle with everything in it that bundles have inside: a helper, a framework, a library, a program among resources.
pub(super) fn bundle() -> Folder {
    let folder = Folder::new();
    let inner = "Hive.app/Contents";
    let helper = format!("{inner}/Helpers/Bee.app/Contents");
    let framework = format!("{inner}/Frameworks/Comb.framework");
    folder
        .write(&format!("{inner}/MacOS/hive"), universal())
        .write(&format!("{inner}/Info.plist"), list("hive", "works.fernhollow.hive"))
        .write(&format!("{inner}/Resources/bin/tool"), ARM64)
        .write(&format!("{inner}/Resources/honey.txt"), "honey")
        .write(&format!("{inner}/Resources/de.lproj/words.strings"), "Honig")
        .write(&format!("{inner}/Frameworks/libqueen.dylib"), ARM64)
        .write(&format!("{helper}/MacOS/bee"), ARM64)
        .write(&format!("{helper}/Info.plist"), list("bee", "works.fernhollow.bee"))
        .write(&format!("{helper}/Resources/wing.txt"), "wing")
        .write(&format!("{framework}/Versions/A/Comb"), ARM64)
        .write(&format!("{framework}/Versions/A/Resources/Info.plist"), list("Comb", "works.fernhollow.comb"));
    for (target, link) in
        [("A", "Versions/Current"), ("Versions/Current/Comb", "Comb"), ("Versions/Current/Resources", "Resources")]
    {
        std::os::unix::fs::symlink(target, folder.at(&format!("{framework}/{link}"))).expect("a link");
    }
    folder
}

#[test]
fn code_signed_with_each_kind_of_key_is_accepted_and_whole() {
    let mut all = String::new();
    for kind in ["rsa-3072", "p256", "p384"] {
        let clock = Authority::of(kind);
        let folder = Folder::new();
        let allowed = "<plist version=\"1.0\"><dict><key>b.list</key><array><string>one</string></array>\
            <key>a.number</key><integer>300</integer><key>c.yes</key><true/><key>d.table</key><dict><key>x</key>\
            <integer>-1</integer></dict></dict></plist>";
        folder.write("thin", ARM64).write("both", universal()).write("allowed.plist", allowed);
        for (file, more) in [
            ("thin", vec![]),
            ("both", vec!["--timestamps", &clock.1, "--entitlements", "allowed.plist", "--identifier", "works.hive"]),
        ] {
            let (code, said) = sign(&folder, file, kind, &more);
            assert_eq!(code, 0, "{said}");
            let path = folder.at(file);
            assert_eq!(both(&path, &roots(kind)), (true, true), "{kind} {file}");
            assert_eq!(both(&path, &roots("strangers")), (false, false), "nobody who is trusted");
            let _ = write!(all, "{kind} {file}: {}", second_reading(&path, &roots(kind)));
            for reader in ["lief", "yara"] {
                let (good, said) = judge("code", &[reader, path.to_str().expect("text")]);
                assert!(good, "{reader}: {said}");
                let _ = writeln!(all, "  {reader}: {}", said.trim().replace('\n', " | "));
            }
        }
    }
    insta::assert_snapshot!(all, @r#"
    rsa-3072 thin: thin arm64
      lief: whole
      yara: [] ['Fernhollow (TEST ONLY)']
    rsa-3072 both: works.hive x86_64, works.hive arm64
      lief: whole | whole
      yara: ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)'] | ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)']
    p256 thin: thin arm64
      lief: whole
      yara: [] ['Fernhollow (TEST ONLY)']
    p256 both: works.hive x86_64, works.hive arm64
      lief: whole | whole
      yara: ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)'] | ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)']
    p384 thin: thin arm64
      lief: whole
      yara: [] ['Fernhollow (TEST ONLY)']
    p384 both: works.hive x86_64, works.hive arm64
      lief: whole | whole
      yara: ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)'] | ['a.number', 'b.list', 'c.yes', 'd.table', 'one', 'x'] ['Fernhollow (TEST ONLY)']
    "#);
}

#[test]
fn a_bundle_is_sealed_from_the_inside_out_and_every_change_is_refused() {
    let folder = bundle();
    let (code, said) = sign(&folder, "Hive.app", "p256", &[]);
    assert_eq!(code, 0, "{said}");
    let root = roots("p256");
    insta::assert_snapshot!(second_reading(&folder.at("Hive.app"), &root), @r#"
    Resources/bin/tool: works.fernhollow.hive.tool
    Bee.app: works.fernhollow.bee (arm64 guarded) []
    Comb.framework: works.fernhollow.comb (arm64 guarded) []
    Frameworks/libqueen.dylib: works.fernhollow.hive.libqueen.dylib
    Hive.app: works.fernhollow.hive (x86_64 guarded, arm64 guarded) []
    "#);
    insta::assert_snapshot!(undated(&folder.run(&["verify", "Hive.app", "--roots", &root]).1), @r#"
    ✓ Hive.app: signed by “Fernhollow (TEST ONLY)”
      signer     Fernhollow (TEST ONLY), ECDSA P-256, until DATE
      authority  Fernhollow authority (TEST ONLY), ECDSA P-256, until DATE
      code       works.fernhollow.hive
      runtime    hardened
      digest     SHA-256
      time       not known: there is no timestamp, so it holds only while its certificate does
      inside     4 programs signed by “Fernhollow (TEST ONLY)”
      not checked: whether a certificate was revoked
      not checked: whether Apple's notary has seen it
    "#);
    let inner = "Hive.app/Contents";
    let mut all = String::from("accepted by                            ours   second reading\n");
    let mut changed = |what: &str, change: &dyn Fn(&Folder)| {
        let copy = Folder::new();
        let done = Command::new("cp").arg("-a").arg(folder.at("Hive.app")).arg(copy.at("Hive.app")).status();
        assert!(done.expect("cp").success());
        change(&copy);
        let (ours, second) = both(&copy.at("Hive.app"), &root);
        let word = |yes| if yes { "yes" } else { "no" };
        let _ = writeln!(all, "{what:38} {:6} {}", word(ours), word(second));
    };
    let flip = |folder: &Folder, path: &str, at: usize| {
        let mut bytes = std::fs::read(folder.at(path)).expect("read");
        bytes[at] ^= 1;
        folder.write(path, bytes);
    };
    let remove = |folder: &Folder, path: &str| std::fs::remove_file(folder.at(path)).expect("removed");
    let path = |name: &str| format!("{inner}/{name}");
    let put = |folder: &Folder, name: &str, bytes: &dyn AsRef<[u8]>| {
        folder.write(&path(name), bytes);
    };
    changed("nothing", &|_| {});
    changed("a byte of the program", &|f| flip(f, &path("MacOS/hive"), 0x1800));
    changed("a byte between its processors' parts", &|f| {
        let bytes = std::fs::read(f.at(&path("MacOS/hive"))).expect("read");
        let second = u32::from_be_bytes(bytes[36..40].try_into().expect("four")) as usize;
        flip(f, &path("MacOS/hive"), second - 1);
    });
    changed("a byte of its other processor's part", &|f| {
        let bytes = std::fs::read(f.at(&path("MacOS/hive"))).expect("read");
        let second = u32::from_be_bytes(bytes[36..40].try_into().expect("four")) as usize;
        flip(f, &path("MacOS/hive"), second + 0x800);
    });
    changed("the property list", &|f| put(f, "Info.plist", &list("hive", "works.other")));
    changed("a resource", &|f| put(f, "Resources/honey.txt", &"sugar"));
    changed("a resource removed", &|f| remove(f, &path("Resources/honey.txt")));
    changed("a translation changed", &|f| put(f, "Resources/de.lproj/words.strings", &"Zucker"));
    changed("a translation removed", &|f| remove(f, &path("Resources/de.lproj/words.strings")));
    changed("a file added", &|f| put(f, "Resources/new.txt", &"new"));
    changed("a file added at the top", &|f| put(f, "new.txt", &"new"));
    changed("a file that nobody counts", &|f| put(f, "Resources/.DS_Store", &"seen"));
    changed("the seal", &|f| {
        let seal = path("_CodeSignature/CodeResources");
        let text = std::fs::read_to_string(f.at(&seal)).expect("read");
        f.write(&seal, text.replacen("<true/>", "<true/> ", 1));
    });
    changed("the seal removed", &|f| remove(f, &path("_CodeSignature/CodeResources")));
    changed("a resource of the helper", &|f| {
        put(f, "Helpers/Bee.app/Contents/Resources/wing.txt", &"feather");
    });
    changed("the helper's program unsigned", &|f| put(f, "Helpers/Bee.app/Contents/MacOS/bee", &ARM64));
    changed("the library unsigned", &|f| put(f, "Frameworks/libqueen.dylib", &ARM64));
    changed("a program among resources unsigned", &|f| put(f, "Resources/bin/tool", &ARM64));
    changed("another library in its place", &|f| {
        let (from, to) = (path("Frameworks/Comb.framework/Versions/A/Comb"), path("Frameworks/libqueen.dylib"));
        std::fs::copy(f.at(&from), f.at(&to)).expect("copied");
    });
    changed("a file beside a framework's versions", &|f| put(f, "Frameworks/Comb.framework/new", &"new"));
    changed("a link that leads elsewhere", &|f| {
        let link = f.at(&path("Frameworks/Comb.framework/Versions/Current"));
        std::fs::remove_file(&link).expect("removed");
        std::os::unix::fs::symlink("B", link).expect("a link");
    });
    insta::assert_snapshot!(all, @r#"
    accepted by                            ours   second reading
    nothing                                yes    yes
    a byte of the program                  no     no
    a byte between its processors' parts   no     no
    a byte of its other processor's part   no     no
    the property list                      no     no
    a resource                             no     no
    a resource removed                     no     no
    a translation changed                  no     no
    a translation removed                  yes    yes
    a file added                           no     no
    a file added at the top                no     no
    a file that nobody counts              yes    yes
    the seal                               no     no
    the seal removed                       no     no
    a resource of the helper               no     no
    the helper's program unsigned          no     no
    the library unsigned                   no     no
    a program among resources unsigned     no     no
    another library in its place           no     no
    a file beside a framework's versions   no     no
    a link that leads elsewhere            no     no
    "#);
}

#[test]
fn signed_again_it_is_the_same_and_what_is_signed_stays() {
    let folder = bundle();
    let seal = "Hive.app/Contents/_CodeSignature/CodeResources";
    let read = |folder: &Folder| {
        [seal, "Hive.app/Contents/MacOS/hive", "Hive.app/Contents/Helpers/Bee.app/Contents/MacOS/bee"]
            .map(|file| std::fs::read(folder.at(file)).expect("read"))
    };
    assert_eq!(sign(&folder, "Hive.app", "p256", &[]).0, 0);
    let first = read(&folder);
    let (code, said) = sign(&folder, "Hive.app", "p384", &[]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said, @r#"
    error: Hive.app is already signed by “Fernhollow (TEST ONLY)”
     = instead: `--existing replace` for another in its place

    1 error; nothing was written
    "#);
    assert_eq!(read(&folder), first, "nothing was written");
    assert_eq!(sign(&folder, "Hive.app", "p384", &["--existing", "replace"]).0, 0);
    assert_ne!(read(&folder), first);
    assert_eq!(both(&folder.at("Hive.app"), &roots("p384")), (true, true));
    assert_eq!(sign(&folder, "Hive.app", "p256", &["--existing", "replace"]).0, 0);
    assert_eq!(read(&folder), first, "the same key gives the same bytes");
    // Whatever is in a folder, it is none of ours unless it is a bundle.
    folder.write("plain/file", "text");
    let (code, said) = sign(&folder, "plain", "p256", &[]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said, @r#"
    error: plain can't be signed
     = why: it is a folder, and no bundle with a program in it
     = instead: a file, or an application bundle such as Name.app

    1 error; nothing was written
    "#);
    assert_eq!(folder.names("."), ["Hive.app", "plain"], "nothing is left beside them");
}

pub(super) fn product(more: &str) -> Folder {
    let folder = Folder::new();
    let keys = KEYS.at("p256");
    let manifest = format!(
        "[product]\nid = \"works.fernhollow.hive\"\nname = \"Hive\"\nversion = \"1.0.0\"\npublisher = \"Fernhollow\"\n\n\
         [[layer]]\nfrom = \"built\"\n\n[[program]]\nkey = \"app\"\nfile = \"hive\"\n\n\
         [targets]\nbuild = [\"dmg\", \"zip\"]\nplatforms = [\"macos-arm64\"]\n\n{more}"
    );
    let manifest = manifest.replace("KEYS", &keys.to_string_lossy());
    folder.write("shelf.toml", manifest).write("built/notes/read me.txt", "hello");
    put_program(&folder.at("built/hive"), ARM64);
    folder
}

/// A bundle inside of a product, and a library.
pub(super) fn put_helper(folder: &Folder) {
    folder.write("built/Helpers/Bee.app/Contents/MacOS/bee", ARM64);
    folder.write("built/Helpers/Bee.app/Contents/Info.plist", list("bee", "works.fernhollow.bee"));
    folder.write("built/Helpers/Bee.app/Contents/Resources/wing.txt", "wing");
    folder.write("built/jre/libjvm.dylib", ARM64);
}

pub(super) const SIGNING: &str =
    "[signing.macos]\nkey = \"KEYS/code-signing.key.pem\"\ncertificate = \"KEYS/code-signing.pem\"\n";

fn unzipped(folder: &Folder) -> PathBuf {
    let words = ["-q", "-o", "packages/Hive-1.0.0-macos-arm64.zip", "-d", "out"];
    let done = Command::new("unzip").args(words).current_dir(folder.path()).status();
    assert!(done.expect("unzip").success());
    folder.at("out/Hive.app")
}

#[test]
fn a_build_without_a_key_signs_ad_hoc_so_that_a_mac_starts_it() {
    let folder = product("");
    folder.ok(&["build"]);
    let app = unzipped(&folder);
    insta::assert_snapshot!(second_reading(&app, "-"), @r#"Hive.app: works.fernhollow.hive (arm64) []"#);
    let (code, said) = folder.run(&["verify", "packages/Hive-1.0.0-macos-arm64.dmg", "out/Hive.app"]);
    assert_eq!(code, 8);
    insta::assert_snapshot!(said, @r#"
    ✗ packages/Hive-1.0.0-macos-arm64.dmg: it is not signed
      inside     Hive.app
      - it is signed ad hoc: nobody says who made it

    ✗ out/Hive.app: signed ad hoc as works.fernhollow.hive, but something is wrong
      code       works.fernhollow.hive
      digest     SHA-256
      - it is signed ad hoc: nobody says who made it
      not checked: whether a certificate was revoked
      not checked: whether Apple's notary has seen it

    No authorities are trusted: name the file that holds their certificates with --roots.
    "#);
    // The launcher of a program with arguments is the bundle's program then.
    let folder = product("");
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace("file = \"hive\"", "file = \"hive\"\narguments = [\"--hum\"]"));
    folder.ok(&["build"]);
    insta::assert_snapshot!(second_reading(&unzipped(&folder), "-"), @r#"
    MacOS/hive: works.fernhollow.hive.hive
    Hive.app: works.fernhollow.hive (arm64) []
    "#);
}

#[test]
fn a_build_with_a_key_signs_programs_bundles_inside_and_the_image() {
    let folder = product(&format!("{SIGNING}entitlements = \"allowed.plist\"\n"));
    folder.write(
        "allowed.plist",
        "<plist version=\"1.0\"><dict><key>com.apple.security.network.client</key><true/></dict></plist>",
    );
    put_helper(&folder);
    let planned = folder.ok(&["plan"]);
    let planned = &planned[planned.find("signatures").expect("there")..planned.find("defaults").expect("there")];
    insta::assert_snapshot!(planned.replace(&KEYS.path().to_string_lossy().into_owned(), "KEYS"), @r#"
    signatures
      key         KEYS/p256/code-signing.key.pem
      signs       Helpers/Bee.app/Contents/MacOS/bee
      signs       hive
      signs       jre/libjvm.dylib
      signs       Hive-1.0.0-macos-arm64.dmg
      allows      com.apple.security.network.client
      allows      com.apple.security.cs.allow-dyld-environment-variables
                  Java needs it
      allows      com.apple.security.cs.allow-jit
                  Java needs it
      allows      com.apple.security.cs.allow-unsigned-executable-memory
                  Java needs it
      allows      com.apple.security.cs.disable-library-validation
                  Java needs it
    "#);
    let said = folder.ok(&["build"]);
    let said = said.lines().filter(|line| line.contains("signed")).collect::<Vec<_>>().join("\n");
    insta::assert_snapshot!(said, @r#"  signed   3 programs and 1 package by “Fernhollow (TEST ONLY)”, without a timestamp"#);
    let root = roots("p256");
    let app = unzipped(&folder);
    insta::assert_snapshot!(second_reading(&app, &root), @r#"
    Bee.app: works.fernhollow.bee (arm64 guarded) ['com.apple.security.cs.allow-dyld-environment-variables', 'com.apple.security.cs.allow-jit', 'com.apple.security.cs.allow-unsigned-executable-memory', 'com.apple.security.cs.disable-library-validation', 'com.apple.security.network.client']
    MacOS/jre/libjvm.dylib: works.fernhollow.hive.libjvm.dylib
    Hive.app: works.fernhollow.hive (arm64 guarded) ['com.apple.security.cs.allow-dyld-environment-variables', 'com.apple.security.cs.allow-jit', 'com.apple.security.cs.allow-unsigned-executable-memory', 'com.apple.security.cs.disable-library-validation', 'com.apple.security.network.client']
    "#);
    let image = folder.at("packages/Hive-1.0.0-macos-arm64.dmg");
    assert_eq!(both(&image, &root), (true, true));
    insta::assert_snapshot!(
        undated(&folder.run(&["verify", "packages/Hive-1.0.0-macos-arm64.dmg", "--roots", &root]).1),
        @r#"
    ✓ packages/Hive-1.0.0-macos-arm64.dmg: signed by “Fernhollow (TEST ONLY)”
      signer     Fernhollow (TEST ONLY), ECDSA P-256, until DATE
      authority  Fernhollow authority (TEST ONLY), ECDSA P-256, until DATE
      code       works.fernhollow.hive
      digest     SHA-256
      time       not known: there is no timestamp, so it holds only while its certificate does
      inside     3 programs signed by “Fernhollow (TEST ONLY)”
      not checked: whether a certificate was revoked
      not checked: whether Apple's notary has seen it
    "#);
    // Whatever is changed in the image is found.
    let good = std::fs::read(&image).expect("read");
    for at in [good.len() / 3, good.len() - 600, good.len() - 200, good.len() - 20] {
        let mut bytes = good.clone();
        bytes[at] ^= 1;
        folder.write("changed.dmg", bytes);
        assert_eq!(both(&folder.at("changed.dmg"), &root), (false, false), "at {at}");
    }
    // Read by others as before: `inspect` says who signed, and the same build gives the same bytes.
    let (code, said) = folder.run(&["inspect", "packages/Hive-1.0.0-macos-arm64.dmg"]);
    assert!(code == 0 && said.contains("signed by “Fernhollow (TEST ONLY)”"), "{said}");
    folder.ok(&["build", "--output", "again"]);
    assert!(good == std::fs::read(folder.at("again/Hive-1.0.0-macos-arm64.dmg")).expect("read"));
}

#[test]
fn a_finished_bundle_keeps_its_seal_until_the_manifest_says_otherwise() {
    let made = bundle();
    assert_eq!(sign(&made, "Hive.app", "p384", &[]).0, 0);
    for (more, by) in [("", "p384"), ("existing = \"replace\"\n", "p256")] {
        let folder = product(&format!("{SIGNING}{more}"));
        std::fs::remove_dir_all(folder.at("built")).expect("removed");
        std::fs::create_dir(folder.at("built")).expect("made");
        let done = Command::new("cp").arg("-a").arg(made.at("Hive.app")).arg(folder.at("built/Hive.app")).status();
        assert!(done.expect("cp").success());
        let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
        let manifest = manifest.replace("\"hive\"", "\"Hive.app/Contents/MacOS/hive\"").replace("\"zip\"", "\"tar\"");
        folder.write("shelf.toml", manifest);
        let said = folder.ok(&["build"]);
        assert_eq!(said.contains("keeps the signature of “Fernhollow (TEST ONLY)”"), more.is_empty(), "{said}");
        let archive = folder.at("packages/Hive-1.0.0-macos-arm64.tar.gz");
        let done = Command::new("tar").arg("xf").arg(archive).current_dir(folder.path()).status();
        assert!(done.expect("tar").success());
        let found = Command::new("find")
            .args([".", "-name", "Hive.app", "-path", "./Hive-*"])
            .current_dir(folder.path())
            .output();
        let found = text(&found.expect("find"));
        let app = folder.at(found.trim());
        assert_eq!(both(&app, &roots(by)), (true, true), "{more}");
    }
}

#[test]
fn what_a_mac_would_not_like_is_said_before() {
    let folder = product(&format!("{SIGNING}team = \"ABCDE12345\"\nentitlements = \"allowed.plist\"\n"));
    folder.write(
        "allowed.plist",
        "<plist version=\"1.0\"><dict><key>when</key><date>2026-01-01T00:00:00Z</date></dict></plist>",
    );
    let (code, said) = folder.run(&["check"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said.replace(&KEYS.path().to_string_lossy().into_owned(), "KEYS"), @r#"
    error: the certificate names no team; it has to be of ABCDE12345
      --> ./shelf.toml:21:8
       |
    21 | team = "ABCDE12345"
       |        ^^^^^^^^^^^^
       = why: programs share data and libraries only within a team
       = instead: the certificate of that team

    error: ./allowed.plist is no list of entitlements
      --> ./shelf.toml:22:16
       |
    22 | entitlements = "allowed.plist"
       |                ^^^^^^^^^^^^^^^
       = why: when can't be an entitlement: texts, whole numbers, yes and no, lists and tables of these are what it may be
       = instead: a property list, with a dictionary of entitlements in it

    2 errors; nothing was written
    "#);
    let folder = product("");
    let mut longer = ARM64.to_vec();
    longer.extend(b"payload behind everything");
    folder.write("built/lib/python3.11/seen.txt", "seen");
    put_program(&folder.at("built/lib/python3.11/tail"), &longer);
    std::os::unix::fs::symlink("../../notes", folder.at("built/lib/python3.11/out")).expect("a link");
    let (code, said) = folder.run(&["check"]);
    assert_eq!(code, 0, "{said}");
    insta::assert_snapshot!(said, @r#"
    ✓ macos-arm64: 4 files, 100 kB, for zip, dmg
    2 warnings.
    warning: a Mac takes the folder lib/python3.11 for a bundle, and it is none
     = why: its name has a dot, and it lies where programs are: a strict check of the signature fails
     = instead: a name without a dot

    warning: lib/python3.11/tail can't be signed
     = why: something stands behind its last segment (arm64)
     = instead: build it again; Macs with processors of Apple's own start nothing unsigned
    "#);
}

#[test]
fn a_folder_that_a_mac_would_take_for_a_bundle_lies_among_the_data() {
    let folder = product("");
    folder.write("built/lib/python3.11/seen.txt", "seen");
    std::fs::create_dir(folder.at("built/lib/python3.11/bin")).expect("made");
    put_program(&folder.at("built/lib/python3.11/bin/python3.11"), ARM64);
    put_program(&folder.at("built/lib/tool"), ARM64);
    folder.ok(&["build"]);
    let app = unzipped(&folder);
    insta::assert_snapshot!(second_reading(&app, "-"), @r#"
    Resources/lib/python3.11/bin/python3.11: works.fernhollow.hive.python3.11
    MacOS/lib/tool: works.fernhollow.hive.tool
    Hive.app: works.fernhollow.hive (arm64) []
    "#);
    let link = std::fs::read_link(app.join("Contents/MacOS/lib/python3.11")).expect("a link where it was");
    assert_eq!(link, std::path::Path::new("../../Resources/lib/python3.11"));
    // Read back it is the product's own folder.
    let listed = folder.ok(&["inspect", "packages/Hive-1.0.0-macos-arm64.dmg"]);
    assert!(listed.contains("├─ python3.11/") && !listed.contains("Resources"), "{listed}");
}

#[test]
fn a_developer_id_names_its_team_and_later_versions_are_known_by_it() {
    let folder = bundle();
    let openssl = |words: &str| {
        let output = Command::new("openssl").args(words.split_whitespace()).current_dir(folder.path()).output();
        let output = output.expect("the judge openssl is installed by `./test`");
        assert!(output.status.success(), "{}", text(&output));
    };
    folder.write(
        "extensions",
        "keyUsage = critical, digitalSignature\nextendedKeyUsage = critical, codeSigning\n\
         1.2.840.113635.100.6.1.13 = critical, ASN1:NULL\n",
    );
    openssl(
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout ca.key -out ca.pem -subj /CN=Authority",
    );
    openssl(
        "req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout own.key -out own.csr -subj /CN=Bees/OU=ABCDE12345",
    );
    openssl("x509 -req -in own.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 30 -extfile extensions -out own.pem");
    folder.ok(&["sign", "Hive.app", "--key", "own.key", "--certificate", "own.pem"]);
    let (code, said) = folder.run(&["verify", "Hive.app", "--roots", "ca.pem"]);
    assert_eq!(code, 0, "{said}");
    assert!(said.contains("code       works.fernhollow.hive, team ABCDE12345"), "{said}");
    let seal = std::fs::read_to_string(folder.at("Hive.app/Contents/_CodeSignature/CodeResources")).expect("read");
    let wanted = "identifier \"works.fernhollow.bee\" and anchor apple generic and certificate \
                  1[field.1.2.840.113635.100.6.2.6] /* exists */ and certificate leaf[field.1.2.840.113635.100.6.1.13] \
                  /* exists */ and certificate leaf[subject.OU] = \"ABCDE12345\"";
    assert!(seal.replace("&quot;", "\"").contains(wanted), "{seal}");
}

#[test]
fn a_full_disk_leaves_a_bundle_as_it_was() {
    let folder = bundle();
    let words = keys("p256").join(" ");
    let list = "find . -type f -exec sha256sum {} + | sort";
    let script = format!(
        "mkdir small && mount -t tmpfs -o size=500k tmpfs small && cp -a Hive.app small && cd small && {list} >../before && \
         {{ '{PROGRAM}' sign Hive.app {words}; echo $? >../code; {list} >../after; }}"
    );
    let mut command = Command::new("unshare");
    command.args(["-m", "sh", "-c", &script]).current_dir(folder.path()).env("XDG_CACHE_HOME", folder.cache());
    let said = text(&command.output().expect("util-linux"));
    let read = |name: &str| std::fs::read_to_string(folder.at(name)).expect(name);
    assert_eq!(read("code").trim(), "3", "{said}");
    assert!(said.contains("can't write"), "{said}");
    assert_eq!(read("before"), read("after"));
}
