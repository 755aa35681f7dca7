//! Where a package's files and registry values are seen once it is installed, without installing it: packages that Windows
//! installs by itself lie in a folder of their own, and show some of theirs to their programs as if they were elsewhere.
//!
//! Source: Microsoft's published table of virtual folders, and its description of package identity.

use crate::app_manifest::AppManifest;
use crate::footprint::{Footprint, RegistryEntry, RegistryRoot, RegistryView};
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest, Sha256};

/// What is seen of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct AsInstalled {
    /// The name of this very package: name, version, processor and publisher.
    pub full_name: String,
    /// The name that all versions of it share.
    pub family_name: String,
    /// The folder that it is installed into, which nobody may write to.
    pub folder: String,
    /// Files, by where the package's own programs see them.
    pub files: Vec<SeenFile>,
    /// Values, by where the package's own programs see them; no other program does.
    pub registry: Vec<SeenValue>,
}

/// A file that is seen somewhere.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct SeenFile {
    /// Where it is seen.
    pub seen: String,
    /// Where it is in the package.
    pub path: String,
    /// Whether it is seen in the place of a virtual folder, and not only in the package's own.
    pub merged: bool,
}

/// A value that is seen somewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SeenValue {
    /// Its key.
    pub key: String,
    /// The value.
    pub value: RegistryEntry,
}

/// Virtual folders below `VFS`, and what they stand for on a usual machine.
const FOLDERS: [(&str, &str); 20] = [
    ("AppData", r"C:\Users\USER\AppData\Roaming"),
    ("AppVPackageDrive", r"C:"),
    ("AppVSystem32Catroot", r"C:\Windows\System32\catroot"),
    ("AppVSystem32Catroot2", r"C:\Windows\System32\catroot2"),
    ("AppVSystem32DriversEtc", r"C:\Windows\System32\drivers\etc"),
    ("AppVSystem32Driverstore", r"C:\Windows\System32\driverstore"),
    ("AppVSystem32Logfiles", r"C:\Windows\System32\logfiles"),
    ("AppVSystem32Spool", r"C:\Windows\System32\spool"),
    ("Common AppData", r"C:\ProgramData"),
    ("Common Desktop", r"C:\Users\Public\Desktop"),
    ("Common Programs", r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs"),
    ("Fonts", r"C:\Windows\Fonts"),
    ("Local AppData", r"C:\Users\USER\AppData\Local"),
    ("LocalAppDataLow", r"C:\Users\USER\AppData\LocalLow"),
    ("ProgramFilesCommonX64", r"C:\Program Files\Common Files"),
    ("ProgramFilesCommonX86", r"C:\Program Files (x86)\Common Files"),
    ("ProgramFilesX64", r"C:\Program Files"),
    ("ProgramFilesX86", r"C:\Program Files (x86)"),
    ("SystemX86", r"C:\Windows\SysWOW64"),
    ("Windows", r"C:\Windows"),
];

/// The same for 64-bit programs, whose names differ by the system's version.
const SYSTEM: [&str; 2] = ["SystemX64", "System"];

/// Which folder a virtual one stands for.
fn folder(name: &str) -> Option<&'static str> {
    if SYSTEM.iter().any(|system| system.eq_ignore_ascii_case(name)) {
        return Some(r"C:\Windows\System32");
    }
    FOLDERS.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, place)| *place)
}

/// The short form of a publisher in names of packages: the first 64 bits of its SHA-256, five to a letter.
pub(crate) fn publisher_id(publisher: &str) -> String {
    const LETTERS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
    let bytes: Vec<u8> = publisher.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let first = Sha256::digest(&bytes).iter().take(8).fold(0u128, |all, byte| all << 8 | u128::from(*byte));
    // One bit more, so that thirteen letters come out even.
    let bits = first << 1;
    (0..13).rev().map(|n| char::from(LETTERS[(bits >> (5 * n) & 31) as usize])).collect()
}

/// The full name and the family name of a package with a manifest.
pub(crate) fn names(manifest: &AppManifest) -> (String, String) {
    let id = publisher_id(&manifest.publisher);
    let processor = manifest.processor.as_deref().unwrap_or("neutral");
    (format!("{}_{}_{processor}__{id}", manifest.name, manifest.version), format!("{}_{id}", manifest.name))
}

impl AsInstalled {
    /// What is seen of a package with a manifest, whose footprint is known.
    pub(crate) fn of(manifest: &AppManifest, footprint: &Footprint) -> Self {
        let (full_name, family_name) = names(manifest);
        let folder = format!(r"C:\Program Files\WindowsApps\{full_name}");
        let mut files: Vec<SeenFile> = footprint.tree.iter().map(|node| seen(node.path().as_str(), &folder)).collect();
        files.sort();
        let registry = footprint.registry.iter().map(|entry| {
            let root = if entry.root == RegistryRoot::User { "HKCU" } else { "HKLM" };
            let key = match (entry.view, entry.key.split_once('\\')) {
                // Where 64-bit programs see what 32-bit ones see as `Software`.
                (RegistryView::Bits32, Some((first, rest))) => format!(r"{root}\{first}\WOW6432Node\{rest}"),
                _ => format!(r"{root}\{}", entry.key),
            };
            SeenValue { key, value: entry.clone() }
        });
        let registry = registry.collect();
        Self { family_name, full_name, folder, files, registry }
    }
}

fn seen(path: &str, own: &str) -> SeenFile {
    let mut parts = path.splitn(3, '/');
    let (first, second, rest) = (parts.next(), parts.next(), parts.next());
    let is_virtual = first.is_some_and(|first| first.eq_ignore_ascii_case("VFS"));
    let place = second.filter(|_| is_virtual).and_then(folder).zip(rest);
    let seen = match place {
        Some((place, rest)) => format!(r"{place}\{}", rest.replace('/', "\\")),
        None => format!(r"{own}\{}", path.replace('/', "\\")),
    };
    SeenFile { seen, path: path.to_owned(), merged: place.is_some() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::footprint::{Node, RegistryValue, RelPath};

    #[test]
    fn a_publisher_has_the_short_form_that_the_system_gives_it() {
        let known = "CN=Microsoft Corporation, O=Microsoft Corporation, L=Redmond, S=Washington, C=US";
        assert_eq!(publisher_id(known), "8wekyb3d8bbwe");
        assert_eq!(publisher_id("").len(), 13);
    }

    #[test]
    fn files_are_seen_where_their_virtual_folders_stand() {
        let manifest = AppManifest {
            name: "works.fernhollow.hive".into(),
            publisher: "CN=Fernhollow".into(),
            version: "1.2.3.0".into(),
            processor: Some("x64".into()),
            ..AppManifest::default()
        };
        let file =
            |path: &str| Node::File { path: RelPath::new(path).expect("a path"), mode: 0o644, size: 1, content: None };
        let value = |root| RegistryEntry {
            root,
            view: RegistryView::Own,
            key: r"SOFTWARE\Fernhollow".into(),
            name: None,
            value: RegistryValue::Text("honey".into()),
        };
        let paths = [
            "hive.exe",
            "VFS/ProgramFilesX64/Hive/a.dll",
            "vfs/systemx64/b.dll",
            "VFS/Nowhere/c",
            "VFS/Fonts",
            "VFS/Fonts/d.ttf",
        ];
        let footprint = Footprint {
            tree: paths.map(file).into_iter().collect(),
            registry: vec![
                value(RegistryRoot::Machine),
                value(RegistryRoot::User),
                RegistryEntry { view: RegistryView::Bits32, ..value(RegistryRoot::Machine) },
            ]
            .into(),
            ..Footprint::default()
        };
        let view = AsInstalled::of(&manifest, &footprint);
        let id = publisher_id("CN=Fernhollow");
        assert_eq!(view.full_name, format!("works.fernhollow.hive_1.2.3.0_x64__{id}"));
        assert_eq!(view.family_name, format!("works.fernhollow.hive_{id}"));
        let own = |path: &str| format!(r"{}\{path}", view.folder);
        let place = |path: &str| {
            let file = view.files.iter().find(|file| file.path == path).expect("there");
            (file.seen.clone(), file.merged)
        };
        for (path, seen, merged) in [
            ("hive.exe", own("hive.exe"), false),
            ("VFS/ProgramFilesX64/Hive/a.dll", r"C:\Program Files\Hive\a.dll".into(), true),
            ("vfs/systemx64/b.dll", r"C:\Windows\System32\b.dll".into(), true),
            ("VFS/Nowhere/c", own(r"VFS\Nowhere\c"), false),
            ("VFS/Fonts", own(r"VFS\Fonts"), false),
            ("VFS/Fonts/d.ttf", r"C:\Windows\Fonts\d.ttf".into(), true),
        ] {
            assert_eq!(place(path), (seen, merged), "{path}");
        }
        let keys: Vec<&str> = view.registry.iter().map(|value| value.key.as_str()).collect();
        for key in [r"HKLM\SOFTWARE\Fernhollow", r"HKCU\SOFTWARE\Fernhollow", r"HKLM\SOFTWARE\WOW6432Node\Fernhollow"] {
            assert!(keys.contains(&key), "{keys:?}");
        }
    }
}
