//! Packages that Windows installs by itself: read, taken apart, checked, compared, signed. No machine here installs one: a second
//! reading of their description judges them, and readers of their parts that others wrote.

use crate::common::Folder;
use crate::signing::{COMBWRIGHT, KEYS, keys, roots};
use opc::write::{Options, Writer};
use registry_hive::{Key, Value, kind};
use std::io::Cursor;
use std::process::Command;
use test_support::python;

const MANIFEST: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10" xmlns:uap="http://schemas.microsoft.com/appx/manifest/uap/windows10" xmlns:rescap="http://schemas.microsoft.com/appx/manifest/foundation/windows10/restrictedcapabilities" IgnorableNamespaces="uap rescap">
<Identity Name="works.fernhollow.combwright" Publisher="PUBLISHER" Version="2.4.0.0" ProcessorArchitecture="x64"/>
<Properties><DisplayName>Combwright</DisplayName><PublisherDisplayName>Fernhollow</PublisherDisplayName><Logo>Assets\StoreLogo.png</Logo></Properties>
<Dependencies><TargetDeviceFamily Name="Windows.Desktop" MinVersion="10.0.17763.0" MaxVersionTested="10.0.22621.0"/></Dependencies>
<Applications><Application Id="App" Executable="bin\combwright.exe" EntryPoint="Windows.FullTrustApplication"><uap:VisualElements DisplayName="Comb" Description="Hives" BackgroundColor="transparent" Square150x150Logo="a.png" Square44x44Logo="a.png"/></Application></Applications>
<Capabilities><rescap:Capability Name="runFullTrust"/></Capabilities></Package>"#;

/// The subject of a test key's certificate, for a manifest.
fn subject(kind: &str) -> String {
    let pem = std::fs::read(KEYS.at(&format!("{kind}/code-signing.pem"))).expect("a certificate");
    signatures::Certificate::all_from(&pem).expect("a certificate")[0].subject().replace(',', ", ")
}

/// A package with a program, an odd name, and values in the registry.
pub(crate) fn package(publisher: &str) -> Vec<u8> {
    let mut root = Key::new("ROOT");
    let product = root.make(&["REGISTRY", "MACHINE", "SOFTWARE", "Fernhollow"]);
    product.values.push(Value::new("Edition", kind::SZ, registry_hive::text("Honey")));
    product.values.push(Value::new("Frames", kind::DWORD, vec![12, 0, 0, 0]));
    let hive = registry_hive::write(&root, &Default::default()).expect("a hive");
    let options = Options { signed: true, ..Options::default() };
    let mut writer = Writer::new(Cursor::new(Vec::new()), options).expect("begun");
    let manifest = MANIFEST.replace("PUBLISHER", publisher);
    for (name, bytes) in [
        ("bin/combwright.exe", COMBWRIGHT),
        ("data/größe & [x] 50%.txt", b"honey".as_slice()),
        ("VFS/ProgramFilesCommonX64/Fernhollow/comb.dll", b"comb"),
        ("Registry.dat", &hive),
        ("AppxManifest.xml", manifest.as_bytes()),
    ] {
        writer.part(name, bytes.len() as u64, false).expect("a part");
        writer.data(bytes).expect("data");
    }
    writer.finish().expect("written").into_inner()
}

fn sign(folder: &Folder, kind: &str, more: &[&str]) -> (i32, String) {
    let keys = keys(kind);
    let mut words = vec!["sign", "a.msix"];
    words.extend(keys.iter().map(String::as_str));
    words.extend(more);
    folder.run(&words)
}

#[test]
fn a_package_is_listed_taken_apart_checked_and_compared() {
    let folder = Folder::new();
    folder.write("a.msix", package("CN=Fernhollow"));
    insta::assert_snapshot!(folder.ok(&["inspect", "a.msix"]), @r#"
    a.msix (msix)
    Combwright 2.4.0.0
      id           works.fernhollow.combwright
      publisher    Fernhollow
      platform     windows-x64

    files (5, 18.0 kB)
      ├─ AppxManifest.xml                         1.09 kB, mode 644
      ├─ Registry.dat                             8.19 kB, mode 644
      ├─ VFS/                                     1 file, 4 bytes, not listed itself
      │  └─ ProgramFilesCommonX64/                1 file, 4 bytes, not listed itself
      │     └─ Fernhollow/                        1 file, 4 bytes, not listed itself
      │        └─ comb.dll                        4 bytes, mode 644
      ├─ bin/                                     1 file, 8.70 kB, not listed itself
      │  └─ combwright.exe                        8.70 kB, mode 644
      └─ data/                                    1 file, 5 bytes, not listed itself
         └─ größe & [x] 50%.txt                   5 bytes, mode 644

    programs
      app: bin/combwright.exe

    shortcuts
      menu: “Comb” starts app (Hives)

    registry values
      machine: SOFTWARE\Fernhollow · Edition = "Honey"
      machine: SOFTWARE\Fernhollow · Frames = 12

    rules
      minimum-windows: 10.0.17763

    further items
      capabilities: runFullTrust
      publisher: CN=Fernhollow
      system: Windows.Desktop from 10.0.17763.0, tested up to 10.0.22621.0
    "#);
    folder.ok(&["check", "a.msix"]);
    folder.ok(&["extract", "a.msix", "out"]);
    assert_eq!(std::fs::read(folder.at("out/bin/combwright.exe")).expect("there"), COMBWRIGHT);
    assert_eq!(std::fs::read_to_string(folder.at("out/data/größe & [x] 50%.txt")).expect("there"), "honey");
    insta::assert_snapshot!(folder.ok(&["inspect", "out/Registry.dat"]), @r#"
    out/Registry.dat (registry hive)
    (no name or version given)

    files (1, 8.19 kB)
      └─ Registry.dat                             8.19 kB, mode 644

    registry values
      machine: SOFTWARE\Fernhollow · Edition = "Honey"
      machine: SOFTWARE\Fernhollow · Frames = 12
    "#);
    folder.ok(&["check", "out/Registry.dat"]);
    // Without installing it: where everything is seen.
    insta::assert_snapshot!(folder.ok(&["inspect", "--as-installed", "a.msix"]), @r#"
    works.fernhollow.combwright_2.4.0.0_x64__6p51fjn7rbxg6
      family  works.fernhollow.combwright_6p51fjn7rbxg6
      folder  C:\Program Files\WindowsApps\works.fernhollow.combwright_2.4.0.0_x64__6p51fjn7rbxg6

    its programs see, as if they were there
      C:\Program Files\Common Files\Fernhollow\comb.dll  VFS/ProgramFilesCommonX64/Fernhollow/comb.dll

    in its own folder, where nobody may write
      AppxManifest.xml
      Registry.dat
      bin\combwright.exe
      data\größe & [x] 50%.txt

    registry values that only its programs see
      HKLM\SOFTWARE\Fernhollow · Edition = "Honey"
      HKLM\SOFTWARE\Fernhollow · Frames = 12
    "#);
    let (code, said) = folder.run(&["inspect", "--as-installed", "out/Registry.dat"]);
    assert!(code == 1 && said.contains("has no virtual folders"), "{said}");
    // Another publisher is another manifest.
    folder.write("b.msix", package("CN=Somebody"));
    let (code, said) = folder.run(&["compare", "a.msix", "b.msix"]);
    assert!(code == 5 && said.contains("AppxManifest.xml"), "{said}");
    // Whatever is changed in it is told.
    let good = package("CN=Fernhollow");
    let mut changed = good.clone();
    let at = good.windows(17).position(|bytes| bytes == b"</BlockMap>").unwrap_or(5000);
    changed[at] ^= 1;
    folder.write("changed.msix", &changed);
    let (code, said) = folder.run(&["check", "changed.msix"]);
    assert!(code == 4 || code == 1, "{code}: {said}");
    folder.write("short.msix", &good[..good.len() / 2]);
    assert_eq!(folder.run(&["check", "short.msix"]).0, 4);
    // An archive with a file of that name is an archive.
    folder.write("hive", b"regf and nothing");
    let (code, said) = folder.run(&["inspect", "hive"]);
    assert!(code == 4 && said.contains("hive"), "{said}");
}

#[test]
fn a_package_is_signed_by_its_publisher_only_and_every_change_is_refused() {
    let folder = Folder::new();
    let (own, root) = (subject("rsa-3072"), roots("rsa-3072"));
    folder.write("a.msix", package("CN=Somebody"));
    let (code, said) = sign(&folder, "rsa-3072", &[]);
    assert_eq!(code, 1, "{said}");
    assert!(said.contains("its manifest names the publisher \"CN=Somebody\""), "{said}");
    let plain = package(&own);
    folder.write("a.msix", &plain);
    let (code, said) = sign(&folder, "rsa-3072", &["--digest", "sha512"]);
    assert!(code == 1 && said.contains("are signed with SHA-256"), "{said}");
    assert!(std::fs::read(folder.at("a.msix")).expect("there") == plain, "nothing was written");
    let (code, said) = sign(&folder, "rsa-3072", &[]);
    assert_eq!(code, 0, "{said}");
    folder.ok(&["verify", "a.msix", "--roots", &root]);
    folder.ok(&["check", "a.msix"]);
    let seven = Command::new("7zz").args(["t", "-y"]).arg(folder.at("a.msix")).output().expect("`./test` installs it");
    assert!(seven.status.success());
    let (code, said) = sign(&folder, "rsa-3072", &["--existing", "beside"]);
    assert!(code == 1 && said.contains("packages have room for one"), "{said}");
    // The second reading works out the digests, which the message holds, and openssl checks the message.
    let bytes = std::fs::read(folder.at("a.msix")).expect("there");
    let open = opc::read::Package::open(bytes.clone(), Default::default()).expect("a package");
    let digests = opc::signature::digests(&open).expect("digests");
    let message = opc::signature::message(&open).expect("read").expect("signed");
    let hexadecimal: String = digests.iter().map(|byte| format!("{byte:02x}")).collect();
    let judge = concat!(env!("CARGO_MANIFEST_DIR"), "/../../formats/opc/tests/second_reading.py");
    let said = Command::new(python()).arg(judge).arg(folder.at("a.msix")).arg(hexadecimal).output().expect("python");
    assert_eq!(String::from_utf8_lossy(&said.stdout).trim(), "ok");
    assert!(message.windows(digests.len()).any(|bytes| bytes == digests), "the message holds them");
    folder.write("message", &message);
    let mut read = Command::new("openssl");
    read.args(["pkcs7", "-inform", "DER", "-print_certs", "-noout", "-in", "message"]).current_dir(folder.path());
    let mut read = read.output().expect("openssl");
    read.stdout.extend(&read.stderr);
    assert!(String::from_utf8_lossy(&read.stdout).contains("Fernhollow (TEST ONLY)"));
    // Every part of the file counts.
    let mut accepted = Vec::new();
    for at in (0..bytes.len()).step_by(bytes.len() / 40) {
        let mut changed = bytes.clone();
        changed[at] ^= 0x21;
        folder.write("changed.msix", changed);
        if folder.run(&["verify", "changed.msix", "--roots", &root]).0 == 0 {
            accepted.push(at);
        }
    }
    assert_eq!(accepted, Vec::<usize>::new());
    assert_eq!(folder.run(&["verify", "a.msix", "--roots", &roots("strangers")]).0, 8, "nobody who is trusted");
}
