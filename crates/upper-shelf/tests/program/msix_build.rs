//! Packages that Windows installs by itself, built: what is in them is judged by a second reading of their published
//! description, and by readers of their parts that others wrote.

use crate::common::Folder;
use crate::signing::{COMBWRIGHT, KEYS, roots};
use std::path::Path;
use std::process::{Command, Stdio};
use test_support::python;

/// A product with something of everything, signed with a test key.
fn product(more: &str) -> Folder {
    let folder = Folder::new();
    folder.write("built/hive.exe", COMBWRIGHT);
    folder.write("built/bin/frames.exe", COMBWRIGHT);
    folder.write("built/data/größe & [x] 50%.txt", "honey".repeat(30_000));
    folder.write("built/empty.txt", "");
    folder.write("built/fonts/bee.ttf", std::fs::read("../../demo/files/fonts/journal.ttf").expect("a font"));
    let key = KEYS.at("rsa-3072");
    let manifest = format!(
        r#"
[product]
id = "works.fernhollow.hives"
name = "Hives & Frames"
version = "2.4"
publisher = "Fernhollow"
summary = "Counts <frames>"

[[layer]]
from = "built"

[[program]]
key = "app"
file = "hive.exe"
working-folder = "unchanged"

[[program]]
key = "frame-count"
file = "bin/frames.exe"
command = "frames"
console = true
working-folder = "unchanged"

[[shortcut]]
program = "app"
places = ["menu", "desktop", "startup"]

[[file-type]]
program = "app"
extensions = ["HIV", "exe"]
name = "Hive journal"
mime = "application/x-hive"

[[link-scheme]]
program = "app"
scheme = "hives"

[[registry]]
root = "machine"
key = 'Software\Fernhollow\Hives'
name = "Season"
value = {{ number = 2026 }}

[[registry]]
root = "user"
key = 'Software\Fernhollow\Hives'
value = ["amber", "white"]

[[service]]
name = "HiveWatch"
program = "app"
arguments = ["--watch", "a b"]

[[font]]
file = "fonts/bee.ttf"
title = "Bee"

[signing.windows]
key = '{}'
certificate = '{}'

[targets]
platforms = ["windows-x64"]
build = ["msix"]
{more}"#,
        key.join("code-signing.key.pem").display(),
        key.join("code-signing.pem").display(),
    );
    folder.write("shelf.toml", manifest);
    folder
}

fn second_reading(package: &Path) -> String {
    let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judges/app_manifest.py");
    let said = Command::new(python()).arg(judge).arg(package).output().expect("python");
    String::from_utf8_lossy(&said.stdout).into_owned() + &String::from_utf8_lossy(&said.stderr)
}

/// A text without sizes: signatures are not always equally long.
fn without_sizes(text: &str) -> String {
    let words: Vec<&str> = text.split(' ').collect();
    let is_unit = |word: &&str| ["bytes", "kB"].iter().any(|unit| word.starts_with(unit));
    let is_number = |word: &str| word.trim_start_matches('(').chars().all(|c| c.is_ascii_digit() || c == '.');
    let shown = words.iter().enumerate().map(|(n, word)| match words.get(n + 1) {
        Some(next) if is_unit(next) && is_number(word) => "N",
        _ => word,
    });
    shown.collect::<Vec<_>>().join(" ")
}

#[test]
fn a_package_is_what_its_description_demands() {
    let folder = product("");
    folder.ok(&["build"]);
    let name = "packages/Hives-Frames-2.4-windows-x64.msix";
    insta::assert_snapshot!(second_reading(&folder.at(name)), @r#"
    works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y
    App “Hives & Frames” default
    FrameCount “Hives & Frames” none
    Frames “Hives & Frames” none
    localSystemServices, packagedServices, runFullTrust
    ok
    "#);
    insta::assert_snapshot!(without_sizes(&folder.ok(&["inspect", name])), @r#"
    packages/Hives-Frames-2.4-windows-x64.msix (msix)
    signed by “Fernhollow (TEST ONLY)”; `upper-shelf verify` checks whether to trust that
    Hives & Frames 2.4
      id           works.fernhollow.hives
      publisher    Fernhollow
      summary      Counts <frames>
      platform     windows-x64

    files (6, N kB)
      ├─ bin/                                     1 file, N kB, not listed itself
      │  └─ frames.exe                            N kB, mode 644
      ├─ commands/                                1 file, N kB, not listed itself
      │  └─ frames.exe                            N kB, mode 644
      ├─ data/                                    1 file, N kB, not listed itself
      │  └─ größe & [x] 50%.txt                   N kB, mode 644
      ├─ empty.txt                                N bytes, mode 644
      ├─ fonts/                                   1 file, N kB, not listed itself
      │  └─ bee.ttf                               N kB, mode 644
      └─ hive.exe                                 N kB, mode 644

    programs
      app: hive.exe
      frame-count: bin/frames.exe, in a terminal
      frames: commands/frames.exe, in a terminal

    shortcuts
      desktop: “Hives & Frames” starts app (Counts <frames>)
      menu: “Hives & Frames” starts app (Counts <frames>)
      startup: “Hives & Frames” starts app

    file types
      .hiv: “Hive journal” (application/x-hive) opens with app

    link schemes
      hives: links open with app

    registry values
      machine: Software\Fernhollow\Hives · Season = 2026
      user: Software\Fernhollow\Hives · (its own value) = ["amber", "white"]

    services
      HiveWatch: “HiveWatch” runs app "--watch" "a b", starts with the system

    fonts
      “bee.ttf” from fonts/bee.ttf

    commands
      frames starts frames

    rules
      minimum-windows: 10.0.19041
    "#);
    folder.ok(&["check", name]);
    folder.ok(&["verify", name, "--roots", &roots("rsa-3072")]);
    // Blocks, digests and records, by a second reading.
    let bytes = std::fs::read(folder.at(name)).expect("there");
    let open = opc::read::Package::open(bytes, Default::default()).expect("a package");
    let digests = opc::signature::digests(&open).expect("digests");
    let digests: String = digests.iter().map(|byte| format!("{byte:02x}")).collect();
    let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/../../formats/opc/tests/second_reading.py");
    let said = Command::new(python()).arg(judge).arg(folder.at(name)).arg(digests).output().expect("python");
    assert_eq!(String::from_utf8_lossy(&said.stdout).trim(), "ok");
    folder.ok(&["extract", name, "out"]);
    assert_eq!(
        std::fs::read_to_string(folder.at("out/data/größe & [x] 50%.txt")).expect("there"),
        "honey".repeat(30_000)
    );
    let mut seven = Command::new("7zz");
    seven.args(["x", "-y", "-oseven"]).arg(folder.at(name)).current_dir(folder.path());
    assert!(seven.output().expect("`./test` installs it").status.success());
    // Its values, by a reader of hives that others wrote.
    let read = |hive: &str, key: &str| {
        let lines = "import sys\nfrom Registry import Registry\nfor v in Registry.Registry(sys.argv[1]).open(sys.argv[2]).values(): print(v.name(), v.value())";
        let said = Command::new(python()).args(["-c", lines, hive, key]).current_dir(folder.path()).output();
        String::from_utf8_lossy(&said.expect("python").stdout).trim().to_owned()
    };
    assert_eq!(read("seven/Registry.dat", r"REGISTRY\MACHINE\Software\Fernhollow\Hives"), "Season 2026");
    let of_user = read("seven/User.dat", r"REGISTRY\USER\[{AppVCurrentUserSID}]\Software\Fernhollow\Hives");
    assert!(of_user.starts_with("(default) ['amber', 'white'"), "{of_user}");
    insta::assert_snapshot!(folder.ok(&["inspect", "--as-installed", name]), @r#"
    works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y
      family  works.fernhollow.hives_adz77e7698j0y
      folder  C:\Program Files\WindowsApps\works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y

    in its own folder, where nobody may write
      AppxManifest.xml
      PackageIcons\Logo.png
      PackageIcons\Square150.png
      PackageIcons\Square44.png
      Registry.dat
      User.dat
      bin\frames.exe
      commands\frames.exe
      data\größe & [x] 50%.txt
      empty.txt
      fonts\bee.ttf
      hive.exe

    registry values that only its programs see
      HKLM\Software\Fernhollow\Hives · Season = 2026
      HKCU\Software\Fernhollow\Hives · (default) = ["amber", "white"]
    "#);
    insta::assert_snapshot!(std::fs::read_to_string(folder.at(&format!("{name}.DEPLOY.md"))).expect("a page"), @r#"
    # Deploying Hives & Frames 2.4

    `Hives-Frames-2.4-windows-x64.msix`, by Fernhollow. Windows installs it by itself, for each user.

    ## Commands

    In PowerShell; those for everyone need administrator rights.

    | to | command |
    |---|---|
    | install or upgrade, for yourself | `Add-AppxPackage -Path "Hives-Frames-2.4-windows-x64.msix"` |
    | provide it for everyone, now and later | `Add-AppxProvisionedPackage -Online -PackagePath "Hives-Frames-2.4-windows-x64.msix" -SkipLicense` |
    | repair | `Get-AppxPackage works.fernhollow.hives \| Reset-AppxPackage` |
    | remove, for yourself | `Remove-AppxPackage works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y` |
    | remove for everyone | `Remove-AppxProvisionedPackage -Online -AllUsers -PackageName works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y` |

    `Reset-AppxPackage` also removes the user's data of the program. It is there since Windows 10 2004.

    ## Trust

    Windows installs it only if it is signed with a certificate of the subject
    `CN=Fernhollow (TEST ONLY), O=Fernhollow`
    that leads to an authority which the machine trusts. The certificate of an authority of your own belongs in the machine's store *Trusted Root Certification Authorities*; a certificate that nobody issued, in *Trusted People*:
    `Import-Certificate -FilePath FILE.cer -CertStoreLocation Cert:\LocalMachine\TrustedPeople`

    ## How to detect the installation

    - Name: `works.fernhollow.hives`; `Get-AppxPackage works.fernhollow.hives` shows it for the user, with `-AllUsers` for everyone
    - Version: `2.4.0.0`
    - Full name: `works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y` (changes with each version)
    - Family name: `works.fernhollow.hives_adz77e7698j0y` (the same in every version)
    - Folder: `(Get-AppxPackage works.fernhollow.hives).InstallLocation`; nobody may write there

    ## What it is for the system

    - Programs: `hive.exe`, `bin/frames.exe`, `commands/frames.exe`
    - “Hives & Frames” starts when the user signs in; users can turn that off in the settings
    - At a prompt: `frames`
    - The service `HiveWatch`: installing it needs administrator rights
    - Rights: `localSystemServices`, `packagedServices`, `runFullTrust`
    - Registry values of its own, which only its programs see: `reg query` and policies don't
    - What its programs write to the machine's registry and to `%APPDATA%` is kept apart, and goes when it is removed

    ## Errors

    | code | means |
    |---|---|
    | 0x80073CF0 | the package can't be opened: damaged, or another publisher than its certificate's |
    | 0x80073CF3 | another package of the same name is in the way, or Windows is too old, or the processor is another one |
    | 0x80073CFB | the same version with other contents is installed: remove it first |
    | 0x80073D06 | a newer version is installed; `-ForceUpdateFromAnyVersion` replaces it |
    | 0x80073D02 | its programs are running: close them, or `-ForceApplicationShutdown` |
    | 0x800B0109 | the certificate leads to no authority that the machine trusts |
    | 0x800B0100 | it isn't signed |
    | 0x80070070 | not enough disk space |

    It requires Windows 10.0.19041 or later.

    It doesn't replace the product's MSI or setup program, nor do they replace it: remove one before you install the other. What they kept in the registry and in the user's folders stays theirs.
    "#);
    // The same again gives the same.
    let first = std::fs::read(folder.at(name)).expect("there");
    folder.ok(&["build"]);
    assert!(std::fs::read(folder.at(name)).expect("there") == first);
}

#[test]
fn a_plan_says_what_the_system_will_call_it_and_what_is_lost() {
    let said = product("").ok(&["plan"]);
    let packages =
        said.split_once("\npackages\n").and_then(|(_, rest)| rest.split_once("\nsignatures")).expect("there").0;
    insta::assert_snapshot!(packages, @r#"
    Hives-Frames-2.4-windows-x64.msix
      publisher     CN=Fernhollow (TEST ONLY), O=Fernhollow
      full name     works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y
      family name   works.fernhollow.hives_adz77e7698j0y
      Windows 10 makes no shortcuts on the desktop: packages have had them since Windows 11; users can drag one from the menu
      the file type “Hive journal” doesn't get the extension exe: the system lets packages open no such files
      the rule scope: machine is left out: each user installs it; an administrator can provide it for everyone
      the icon is there in one density, and stands on a plate in the taskbar: other densities and shapes need an index of resources
    "#);
}

#[test]
fn what_such_a_package_cannot_be_is_said_early() {
    for (from, to, told) in [
        ("version = \"2.4\"", "version = \"1.2.3.4.5\"", "it has 5 numbers"),
        ("version = \"2.4\"", "version = \"1.70000\"", "70000 is more than 65535"),
        ("version = \"2.4\"", "version = \"2.4.0-beta.1\"", "whole numbers separated by dots"),
        ("id = \"works.", "id = \"works.of.the.fernhollow.apiary.and.all.its.neighbours.", "3 to 50 letters"),
        ("[targets]", "[target.msix]\npublisher = \"CN=Somebody\"\n[targets]", "isn't the subject of the certificate"),
        ("[targets]", "[target.msix]\nname = \"a_b\"\n[targets]", "3 to 50 letters"),
        ("[targets]", "[target.msix]\ntested-windows = \"eleven\"\n[targets]", "the tested Windows"),
        ("[targets]", "[target.msix]\nlevel = 12\n[targets]", "level"),
        ("[targets]", "[target.msix]\ncapabilities = [\"flyHigh\"]\n[targets]", "\"flyHigh\" is not a capability"),
        ("[targets]", "[target.msix]\ncapabilities = [\"allowelevation\"]\n[targets]", "instead: \"allowElevation\""),
        ("[targets]", "[target.msix]\ncapabilities = [\"webcam\"]\n[targets]", "camera = true"),
        (
            "[targets]",
            "[[target.msix.framework]]\nname = \"Bee.Runtime\"\npublisher = \"CN=Bee\"\nversion = \"1.x\"\n[targets]",
            "whole numbers separated by dots",
        ),
        (
            "[targets]",
            "[[target.msix.framework]]\nname = \"Bee_Runtime\"\npublisher = \"CN=Bee\"\nversion = \"1\"\n[targets]",
            "Name of PackageDependency can't be",
        ),
    ] {
        let folder = product("");
        let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("there").replacen(from, to, 1);
        folder.write("shelf.toml", text);
        let (code, said) = folder.run(&["plan"]);
        assert!(code == 1 && said.contains(told), "{to}: {code} {said}");
        assert!(!folder.at("packages").exists());
    }
    // Names that the package has itself.
    for name in ["AppxManifest.xml", "registry.dat", "PackageIcons/a.png", "appxmetadata/a"] {
        let folder = product("");
        folder.write(&format!("built/{name}"), "x");
        let (code, said) = folder.run(&["plan"]);
        assert!(code == 1 && said.contains("the payload has a file") && said.contains(name), "{name}: {said}");
    }
    // Nobody's.
    let folder = product("");
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    let (before, after) = text.split_once("[signing.windows]").expect("there");
    folder.write("shelf.toml", format!("{before}{}", &after[after.find("[targets]").expect("there")..]));
    let (code, said) = folder.run(&["plan"]);
    assert!(code == 1 && said.contains("the publisher of the MSIX package isn't known"), "{said}");
    // With a publisher it is built, and says that nobody can install it yet; who signs it later has to be that one.
    folder.write(
        "shelf.toml",
        format!(
            "{before}[target.msix]\npublisher = \"CN=Somebody, C=AT\"\n{}",
            &after[after.find("[targets]").expect("there")..]
        ),
    );
    let said = folder.ok(&["build"]);
    assert!(said.contains("the MSIX package isn't signed, and Windows installs signed ones only"), "{said}");
}

#[test]
fn packages_for_several_processors_become_one_bundle_with_a_file_for_updates() {
    let folder = product(
        "[target.msix]\nbundle = true\n[target.msix.app-installer]\naddress = \"https://fernhollow.example/packages/\"\nprompt = \"ask\"\n",
    );
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    folder.write("shelf.toml", text.replace("[\"windows-x64\"]", "[\"windows-x64\", \"windows-arm64\"]"));
    let said = folder.ok(&["build"]);
    let name = "packages/Hives-Frames-2.4-windows.msixbundle";
    assert!(said.contains("Hives-Frames-2.4-windows.msixbundle"), "{said}");
    folder.ok(&["check", name]);
    insta::assert_snapshot!(second_reading(&folder.at(name)), @r#"
    bundle works.fernhollow.hives 2.4.0.0
    works.fernhollow.hives_2.4.0.0_x64__adz77e7698j0y
    App “Hives & Frames” default
    FrameCount “Hives & Frames” none
    Frames “Hives & Frames” none
    localSystemServices, packagedServices, runFullTrust
    works.fernhollow.hives_2.4.0.0_arm64__adz77e7698j0y
    App “Hives & Frames” default
    FrameCount “Hives & Frames” none
    Frames “Hives & Frames” none
    localSystemServices, packagedServices, runFullTrust
    ok
    "#);
    folder.ok(&["verify", name, "--roots", &roots("rsa-3072")]);
    insta::assert_snapshot!(without_sizes(&folder.ok(&["inspect", name])), @r#"
    packages/Hives-Frames-2.4-windows.msixbundle (msix)
    signed by “Fernhollow (TEST ONLY)”; `upper-shelf verify` checks whether to trust that
    (not said) 2.4.0.0
      id           works.fernhollow.hives

    files (3, N kB)
      ├─ AppxMetadata/                            1 file, N bytes, not listed itself
      │  └─ AppxBundleManifest.xml                N bytes, mode 644
      ├─ Hives-Frames-2.4-windows-arm64.msix      N kB, mode 644
      └─ Hives-Frames-2.4-windows-x64.msix        N kB, mode 644

    further items
      packages: Hives-Frames-2.4-windows-x64.msix, Hives-Frames-2.4-windows-arm64.msix
      publisher: CN=Fernhollow (TEST ONLY), O=Fernhollow
    "#);
    // Each package is in it as it is, and lies where the bundle's manifest says.
    folder.ok(&["extract", name, "out"]);
    let bundle = std::fs::read(folder.at(name)).expect("there");
    let manifest = std::fs::read_to_string(folder.at("out/AppxMetadata/AppxBundleManifest.xml")).expect("there");
    for platform in ["windows-x64", "windows-arm64"] {
        let package = format!("Hives-Frames-2.4-{platform}.msix");
        let own = std::fs::read(folder.at(&format!("packages/{package}"))).expect("there");
        assert!(std::fs::read(folder.at(&format!("out/{package}"))).expect("there") == own);
        let entry = manifest.split("<Package ").find(|entry| entry.contains(&package)).expect("an entry");
        let number = |name: &str| -> usize {
            let rest = entry.split_once(&format!("{name}=\"")).expect("there").1;
            rest.split('"').next().and_then(|n| n.parse().ok()).expect("a number")
        };
        assert!(bundle[number("Offset")..][..number("Size")] == own);
    }
    insta::assert_snapshot!(std::fs::read_to_string(folder.at("packages/Hives-Frames-windows.appinstaller")).expect("there"), @r#"
    <?xml version="1.0" encoding="utf-8"?>
    <AppInstaller xmlns="http://schemas.microsoft.com/appx/appinstaller/2018" Uri="https://fernhollow.example/packages/Hives-Frames-windows.appinstaller" Version="2.4.0.0">
      <MainBundle Name="works.fernhollow.hives" Publisher="CN=Fernhollow (TEST ONLY), O=Fernhollow" Version="2.4.0.0" Uri="https://fernhollow.example/packages/Hives-Frames-2.4-windows.msixbundle"/>
      <UpdateSettings>
        <OnLaunch HoursBetweenUpdateChecks="24" ShowPrompt="true"/>
        <AutomaticBackgroundTask/>
      </UpdateSettings>
    </AppInstaller>
    "#);
    // One package alone is no bundle, and has that file itself.
    folder.ok(&["build", "--platform", "windows-x64", "--output", "one"]);
    assert!(!folder.at("one/Hives-Frames-2.4-windows.msixbundle").exists());
    let own = std::fs::read_to_string(folder.at("one/Hives-Frames-windows-x64.appinstaller")).expect("there");
    assert!(own.contains("<MainPackage ") && own.contains("Hives-Frames-2.4-windows-x64.msix"), "{own}");
}

#[test]
fn a_package_of_many_sizes_is_the_same_on_any_number_of_threads() {
    let folder = product("");
    for (n, size) in [0, 1, 65_535, 65_536, 65_537, 200_000].into_iter().enumerate() {
        folder.write(&format!("built/sizes/{n}.bin"), test_support::noise(n as u64, size));
        folder.write(&format!("built/sizes/{n}.txt"), test_support::prose(n as u64, size));
    }
    let built = |threads: &str| {
        let out = format!("out-{threads}");
        folder.ok(&["build", "--threads", threads, "--output", &out]);
        std::fs::read(folder.at(&format!("{out}/Hives-Frames-2.4-windows-x64.msix"))).expect("there")
    };
    assert!(built("1") == built("3"));
}

#[test]
fn what_the_manifest_has_a_package_declare_is_planned_carried_and_seen() {
    let folder = product(
        "[permissions]\ncamera = true\n[target.msix]\n\
         capabilities = [\"allowElevation\", \"globalMediaControl\", \"usb\", \"runFullTrust\", \"rescap:packageQuery\"]\n\
         [[target.msix.framework]]\nname = \"Bee.Runtime.14\"\npublisher = \"CN=Bee, C=AT\"\nversion = \"14.0\"\n",
    );
    let said = folder.ok(&["plan"]);
    assert!(said.contains("needs         Bee.Runtime.14 from 14.0.0.0"), "{said}");
    folder.ok(&["build"]);
    let name = "packages/Hives-Frames-2.4-windows-x64.msix";
    let judged = second_reading(&folder.at(name));
    insta::assert_snapshot!(judged.lines().rev().take(2).collect::<Vec<_>>().join("\n"), @r#"
    ok
    globalMediaControl, allowElevation, localSystemServices, packageQuery, packagedServices, runFullTrust, usb, webcam
    "#);
    folder.ok(&["check", name]);
    let said = folder.ok(&["inspect", name]);
    insta::assert_snapshot!(said.split_once("\n\nfurther items").expect("there").1, @r#"
    capabilities: allowElevation, globalMediaControl, packageQuery, usb
    needs: Bee.Runtime.14 from 14.0.0.0
    "#);
    // It is seen by who compares, too.
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    folder.write("shelf.toml", manifest.replace("14.0\"", "14.2\""));
    folder.ok(&["build", "--output", "newer"]);
    let (code, said) = folder.run(&["compare", name, "newer/Hives-Frames-2.4-windows-x64.msix"]);
    assert!(code == 5 && said.contains("14.2.0.0"), "{code}: {said}");
}

/// A program of ours that changes the registry and writes files, with texts at its end.
fn program_with(texts: &[u8]) -> Vec<u8> {
    [include_bytes!("../../../upper-shelf-core/heads/setup-lzma-x64.exe").as_slice(), texts].concat()
}

#[test]
fn programs_that_a_package_hinders_are_named_and_how_sure_that_is() {
    let folder = product("");
    folder.write("built/tools/change.exe", program_with(b"..HKEY_LOCAL_MACHINE\\Software\\Hives.."));
    folder.write("built/tools/plain.exe", program_with(b"..HKEY_CURRENT_USER.."));
    folder.write("built/tools/raise.exe", program_with(b"<requestedExecutionLevel level=\"requireAdministrator\"/>"));
    let wide: Vec<u8> = "\\Settings.INI".encode_utf16().flat_map(u16::to_le_bytes).collect();
    folder.write("built/tools/keep.exe", program_with(&wide));
    folder.write("built/tools/settings.ini", "[hives]");
    // Beside another program of the same text nothing of that name lies.
    folder.write("built/other/keep.exe", program_with(&wide));
    let warned = |folder: &Folder| {
        let said = folder.ok(&["plan"]);
        let warnings = said.split("\nwarning: ").skip(1).filter(|one| one.contains("MSIX package"));
        warnings.map(|one| one.split("\n\n").next().unwrap_or_default().to_owned()).collect::<Vec<_>>().join("\n\n")
    };
    insta::assert_snapshot!(warned(&folder), @r#"
    from an MSIX package, Windows won't start tools/raise.exe
      --> ./shelf.toml:62:1
       |
    62 | [targets]
       | ^^^^^^^^^
       = why: it demands an administrator's rights, and the package doesn't declare that
       = instead: [target.msix]
                  capabilities = ["allowElevation"]


    likely to write to the machine's registry, which fails in an MSIX package: tools/change.exe
      --> ./shelf.toml:62:1
       |
    62 | [targets]
       | ^^^^^^^^^
       = why: it uses RegCreateKeyEx and contains the text HKEY_LOCAL_MACHINE
       = instead: let it write to HKEY_CURRENT_USER; values that are always the same belong in [[registry]]


    may write into the program's folder, which fails in an MSIX package: tools/keep.exe
      --> ./shelf.toml:62:1
       |
    62 | [targets]
       | ^^^^^^^^^
       = why: it looks for its own folder and writes files, and contains the name of settings.ini, which lies beside it
       = instead: let it write to %LOCALAPPDATA%; or have Windows redirect it:
                  [target.msix]
                  capabilities = ["packageWriteRedirectionCompatibilityShim"]
    "#);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    let declared = "[target.msix]\ncapabilities = [\"allowElevation\", \"packageWriteRedirectionCompatibilityShim\"]\n";
    folder.write("shelf.toml", format!("{manifest}{declared}"));
    let said = warned(&folder);
    assert!(
        said.contains("machine's registry") && !said.contains("settings.ini") && !said.contains("raise.exe"),
        "{said}"
    );
    // Nobody else warns of what only such packages hinder.
    folder.write("shelf.toml", manifest.replace("build = [\"msix\"]", "build = [\"zip\"]"));
    assert_eq!(warned(&folder), "");
}

#[test]
fn killed_at_any_moment_a_bundle_is_whole_or_not_there_and_a_full_disk_leaves_none() {
    let folder = product("[target.msix]\nbundle = true\n");
    let text = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    folder.write("shelf.toml", text.replace("[\"windows-x64\"]", "[\"windows-x64\", \"windows-arm64\"]"));
    folder.write("built/data/noise", test_support::noise(7, 3_000_000));
    folder.ok(&["build"]);
    let name = "packages/Hives-Frames-2.4-windows.msixbundle";
    let whole = std::fs::read(folder.at(name)).expect("a bundle");
    let began = std::time::Instant::now();
    folder.ok(&["build"]);
    let mut takes = began.elapsed();
    let (mut killed, mut n) = (0, 0);
    // How much time a build gets changes with what else the machine does.
    while killed < 6 && n < 40 {
        n += 1;
        std::fs::remove_file(folder.at(name)).ok();
        let mut child =
            folder.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("started");
        // Most of them late, when the bundle is made.
        std::thread::sleep(takes * (13 + (n - 1) * 4 % 9) / 22);
        child.kill().expect("killed");
        let was_killed = !child.wait().expect("ended").success();
        killed += u32::from(was_killed);
        if !was_killed {
            takes = takes * 3 / 4;
        }
        if let Ok(there) = std::fs::read(folder.at(name)) {
            assert!(there == whole, "a bundle that is there is intact");
        }
    }
    assert_eq!(killed, 6, "so many builds were really cut short in {n}");
    folder.ok(&["build"]);
    assert!(std::fs::read(folder.at(name)).expect("a bundle") == whole);
    assert_eq!(folder.names("packages").iter().filter(|name| name.starts_with('.')).count(), 0, "litter is cleared");
    // Room for both packages, and not for the bundle of them.
    assert!(test_support::is_root(), "mounting needs root");
    let small = folder.at("small").to_string_lossy().into_owned();
    std::fs::create_dir(&small).expect("folder");
    let size = format!("size={}k", whole.len() * 3 / 2 / 1024);
    test_support::judge_says_yes("mount", &["-t", "tmpfs", "-o", &size, "tmpfs", &small]);
    let (code, said) = folder.run(&["build", "--output", "small"]);
    let left = folder.names("small");
    test_support::judge_says_yes("umount", &[&small]);
    assert!(code == 3 && said.contains("no space left"), "{code}: {said}");
    assert!(!left.iter().any(|name| name.contains("msixbundle")), "{left:?}");
}
