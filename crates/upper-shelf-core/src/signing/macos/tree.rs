//! The files of a bundle, wherever they come from, and the bundles among them.

use super::code::parts_of;
use crate::payload::Source;
use code_signature::{Error, Result};
use mach_o::SignedParts;
use plist::Value;
use read_at::ReadAt;
use std::collections::BTreeMap;

/// A file that can be opened.
pub trait Open: Sync {
    /// Opens it for reading at any place.
    ///
    /// # Errors
    /// It can't be read.
    fn open(&self) -> std::io::Result<Box<dyn ReadAt + '_>>;
}

impl Open for Source {
    fn open(&self) -> std::io::Result<Box<dyn ReadAt + '_>> {
        Self::open(self).map(|file| file as Box<dyn ReadAt>)
    }
}

/// Something in a bundle.
#[derive(Debug, Clone)]
pub enum Item<S = Source> {
    /// A folder.
    Folder,
    /// A link and where it leads.
    Link(String),
    /// A file.
    File(S),
}

/// Files, folders and links by their paths.
#[derive(Debug, Clone)]
pub struct Tree<S = Source>(pub BTreeMap<String, Item<S>>);

/// Endings of files that are never code, however they begin: they need not be opened.
const NEVER: [&str; 12] = ["txt", "png", "svg", "json", "html", "md", "icns", "plist", "class", "xml", "css", "js"];

/// Whether a file of this name may be code.
pub fn may_be_code(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_lowercase());
    !ending.is_some_and(|ending| NEVER.contains(&ending.as_str()))
}

/// The longest property list of a bundle that is read, and the longest seal, which is as long as it has paths.
const LONGEST_LIST: u64 = 16 << 20;
const LONGEST_SEAL: u64 = 64 << 10;
const SEALED_PATH: u64 = 1 << 10;

/// A bundle in a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BundleFolder {
    /// Its folder, such as `Combwright.app`.
    pub node: String,
    /// The folder that its seal's paths begin from: `Contents`, or a framework's version.
    pub base: String,
    /// Its property list.
    pub info: String,
    /// Its program or library, if it names one that is there.
    pub main: Option<String>,
    /// What it calls itself.
    pub identifier: Option<String>,
}

impl BundleFolder {
    /// Its seal.
    pub fn seal(&self) -> String {
        format!("{}/{SEAL}", self.base)
    }
}

/// Whether a path below a bundle's base is the seal's own, or the notary's: no seal lists these.
pub(super) fn is_of_the_seal(path: &str) -> bool {
    path == "_CodeSignature" || path.starts_with("_CodeSignature/") || path == "CodeResources"
}

/// The folder of the bundle or framework that a property list belongs to.
pub fn bundle_of(info: &str) -> Option<String> {
    folders_of(info).map(|(node, ..)| node)
}

/// A seal's path below a bundle's base.
pub const SEAL: &str = "_CodeSignature/CodeResources";

impl<S> Default for Tree<S> {
    fn default() -> Self {
        Self(BTreeMap::new())
    }
}

impl<S: Open> Tree<S> {
    /// Whole bytes of a small file.
    pub fn bytes(&self, path: &str, most: u64) -> Result<Vec<u8>> {
        let Some(Item::File(source)) = self.0.get(path) else {
            return Err(Error::Usage(format!("there is no file {path}")));
        };
        let file = source.open()?;
        let length = file.length()?;
        if length > most {
            return Err(Error::Limit(format!("{path} has {length} bytes")));
        }
        let mut bytes = vec![0; length as usize];
        file.read_exact_at(&mut bytes, 0)?;
        Ok(bytes)
    }

    /// The bytes of a bundle's seal.
    pub fn seal(&self, bundle: &BundleFolder) -> Result<Vec<u8>> {
        let paths = self.below(&bundle.base).count() as u64;
        self.bytes(&bundle.seal(), LONGEST_SEAL + paths * SEALED_PATH)
    }

    /// The bytes of a bundle's property list.
    pub fn info(&self, bundle: &BundleFolder) -> Result<Vec<u8>> {
        self.bytes(&bundle.info, LONGEST_LIST)
    }

    /// Everything below a folder, with paths from there on.
    pub fn below<'t>(&'t self, folder: &str) -> impl Iterator<Item = (&'t str, &'t Item<S>)> {
        let prefix = format!("{folder}/");
        let from = self.0.range(prefix.clone()..);
        let cut = prefix.len();
        from.take_while(move |(path, _)| path.starts_with(&prefix)).map(move |(path, item)| (&path[cut..], item))
    }

    /// The code that is in a file, if it is code.
    pub fn code(&self, path: &str) -> Result<Option<SignedParts>> {
        let Some(Item::File(source)) = self.0.get(path) else { return Ok(None) };
        parts_of(source)?.transpose()
    }

    /// Whether it is the version of its framework that speaks for it.
    pub fn is_present(&self, bundle: &BundleFolder) -> bool {
        match self.0.get(&format!("{}/Versions/Current", bundle.node)) {
            Some(Item::Link(version)) => bundle.base == format!("{}/Versions/{version}", bundle.node),
            _ => true,
        }
    }

    /// What lies in a framework beside its versions: no seal covers that, and only links to the present one belong there.
    pub fn beside_versions(&self, bundle: &BundleFolder) -> Vec<String> {
        if !bundle.base.starts_with(&format!("{}/Versions/", bundle.node)) {
            return Vec::new();
        }
        let is_fine = |path: &str, item: &Item<S>| match item {
            Item::Link(target) => target.starts_with("Versions/Current/") || path == "Versions/Current",
            Item::Folder => path == "Versions",
            Item::File(_) => false,
        };
        let at_top = self.below(&bundle.node).filter(|(path, _)| !path.contains('/'));
        at_top
            .filter(|(path, item)| !is_fine(path, item))
            .map(|(path, _)| format!("{path} lies beside its versions"))
            .collect()
    }

    /// All code, and what looks like code and can't be read as such.
    #[allow(clippy::type_complexity)]
    pub fn all_code(&self) -> Result<(BTreeMap<String, SignedParts>, Vec<(String, Error)>)> {
        let (mut code, mut bad) = (BTreeMap::new(), Vec::new());
        for (path, item) in &self.0 {
            let Item::File(source) = item else { continue };
            if !may_be_code(path) {
                continue;
            }
            match parts_of(source)? {
                None => {}
                Some(Ok(parts)) => drop(code.insert(path.clone(), parts)),
                // What is still to be linked is only a file.
                Some(Err(Error::Usage(_))) => {}
                Some(Err(e)) => bad.push((path.clone(), e)),
            }
        }
        Ok((code, bad))
    }

    /// All bundles, those inside of others first.
    pub fn bundles(&self) -> Vec<BundleFolder> {
        let mut all: Vec<BundleFolder> = Vec::new();
        let files = self.0.iter().filter(|(path, item)| path.ends_with("/Info.plist") && matches!(item, Item::File(_)));
        for (path, _) in files {
            let Some((node, base, code)) = folders_of(path) else { continue };
            let list = self.bytes(path, LONGEST_LIST).ok().and_then(|bytes| shallow_plist::value_of(&bytes));
            let list = list.and_then(Value::into_dictionary).unwrap_or_default();
            let text = |key: &str| list.get(key).and_then(Value::as_string).map(str::to_owned);
            let main = text("CFBundleExecutable").map(|name| format!("{code}/{name}"));
            let main = main.filter(|main| self.code(main).is_ok_and(|found| found.is_some()));
            all.push(BundleFolder { node, base, info: path.clone(), main, identifier: text("CFBundleIdentifier") });
        }
        all.sort_by_key(|bundle| (std::cmp::Reverse(bundle.base.matches('/').count()), bundle.base.clone()));
        all
    }
}

/// The bundle that a property list belongs to: its folder, the base of its seal, and where its program lies.
fn folders_of(info: &str) -> Option<(String, String, String)> {
    if let Some(node) = info.strip_suffix("/Contents/Info.plist") {
        let base = format!("{node}/Contents");
        return Some((node.to_owned(), base.clone(), format!("{base}/MacOS")));
    }
    let base = info.strip_suffix("/Resources/Info.plist")?;
    if base.ends_with(".framework") {
        return Some((base.to_owned(), base.to_owned(), base.to_owned()));
    }
    let (versions, _) = base.rsplit_once('/')?;
    let node = versions.strip_suffix("/Versions").filter(|node| node.ends_with(".framework"))?;
    Some((node.to_owned(), base.to_owned(), base.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bundle_is_known_by_where_its_property_list_is() {
        let found = |info: &str| folders_of(info).map(|(node, base, code)| format!("{node} {base} {code}"));
        assert_eq!(found("A.app/Contents/Info.plist").as_deref(), Some("A.app A.app/Contents A.app/Contents/MacOS"));
        let framework = "A.app/Contents/Frameworks/Q.framework";
        let wanted = format!("{framework} {framework}/Versions/A {framework}/Versions/A");
        assert_eq!(found(&format!("{framework}/Versions/A/Resources/Info.plist")), Some(wanted));
        let wanted = format!("{framework} {framework} {framework}");
        assert_eq!(found(&format!("{framework}/Resources/Info.plist")), Some(wanted));
        assert_eq!(found("A.app/Contents/Resources/data/Resources/Info.plist"), None);
    }
}
