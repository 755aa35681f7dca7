//! Lock files of Node's packages: which packages a product has, which of them it needs, and on which systems. Source: the format's own
//! documentation of `package-lock.json` (versions 1 to 3).

use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

/// The file, as far as it is read.
#[derive(Deserialize)]
struct Written {
    #[serde(default)]
    packages: BTreeMap<String, Package>,
    #[serde(default)]
    dependencies: BTreeMap<String, Nested>,
}

/// One package.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Package {
    pub version: Option<String>,
    /// Only for development.
    #[serde(default)]
    pub dev: bool,
    /// It may be missing.
    #[serde(default)]
    pub optional: bool,
    /// A link to a folder of the product.
    #[serde(default)]
    pub link: bool,
    #[serde(default)]
    os: Several,
    #[serde(default)]
    cpu: Several,
    #[serde(default)]
    libc: Several,
    #[serde(default)]
    dependencies: BTreeMap<String, serde_json::Value>,
    #[serde(default)]
    optional_dependencies: BTreeMap<String, serde_json::Value>,
    #[serde(default)]
    peer_dependencies: BTreeMap<String, serde_json::Value>,
}

/// The same in the first version, each with those that lie in its own folder.
#[derive(Deserialize)]
struct Nested {
    version: Option<String>,
    #[serde(default)]
    dev: bool,
    #[serde(default)]
    optional: bool,
    #[serde(default)]
    requires: serde_json::Value,
    #[serde(default)]
    dependencies: BTreeMap<String, Nested>,
}

/// One word or several.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(untagged)]
enum Several {
    #[default]
    None,
    One(String),
    All(Vec<String>),
}

impl Several {
    /// Whether a word is wanted: `linux`, or anything but `!linux`.
    fn has(&self, word: &str) -> bool {
        let all: &[String] = match self {
            Self::None => return true,
            Self::One(one) => std::slice::from_ref(one),
            Self::All(all) => all,
        };
        let refuses = |one: &String| one.strip_prefix('!') == Some(word);
        let wants = |one: &String| one == word || one == "any";
        let only_refuses = all.iter().all(|one| one.starts_with('!'));
        !all.iter().any(refuses) && (only_refuses || all.iter().any(wants))
    }
}

/// All packages of a lock file, by their folders from its own (`node_modules/hives`), with reasons.
#[derive(Debug)]
pub struct Lock {
    pub packages: BTreeMap<String, Package>,
    /// Why a package is needed, for those that are reached from the product.
    pub reasons: BTreeMap<String, String>,
}

fn flatten(nested: BTreeMap<String, Nested>, folder: &str, depth: usize, all: &mut BTreeMap<String, Package>) {
    // Deeper than any folder may be.
    if depth > 60 {
        return;
    }
    for (name, one) in nested {
        let own = format!("{folder}node_modules/{name}");
        let dependencies = one.requires.as_object().cloned().unwrap_or_default().into_iter().collect();
        let (version, dev, optional) = (one.version, one.dev, one.optional);
        flatten(one.dependencies, &format!("{own}/"), depth + 1, all);
        all.insert(own, Package { version, dev, optional, dependencies, ..Package::default() });
    }
}

impl Lock {
    /// Reads one.
    ///
    /// # Errors
    /// It is no lock file.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        if !bytes.trim_ascii_start().starts_with(b"{") {
            return Err("it holds no object".into());
        }
        let Written { mut packages, dependencies } = serde_json::from_slice(bytes).map_err(|e| e.to_string())?;
        if packages.is_empty() {
            flatten(dependencies, "", 0, &mut packages);
        }
        let reasons = reasons(&packages);
        Ok(Self { packages, reasons })
    }

    /// The folder of the package that a file below the lock file's folder belongs to.
    pub fn package_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        let mut at = path;
        while let Some((folder, _)) = at.rsplit_once('/') {
            if self.packages.contains_key(folder) {
                return Some(folder);
            }
            at = folder;
        }
        None
    }
}

impl Package {
    /// Why it is of no use to a product on a system; nothing if it is.
    pub fn useless(&self, os: &str, cpu: &str) -> Option<String> {
        let told = if self.dev {
            "only for development".into()
        } else if !self.os.has(os) {
            "for another system".into()
        } else if !self.cpu.has(cpu) {
            "for another processor".into()
        } else if !self.libc.has("glibc") {
            "for another C library".into()
        } else {
            return None;
        };
        Some(told)
    }
}

/// Follows what packages need, from the product on: each is looked for beside and above whoever needs it.
fn reasons(packages: &BTreeMap<String, Package>) -> BTreeMap<String, String> {
    let mut reasons: BTreeMap<String, String> = BTreeMap::new();
    let mut seen = BTreeSet::from([""]);
    let mut next = vec![""];
    while let Some(at) = next.pop() {
        let Some(package) = packages.get(at) else { continue };
        let name = at.rsplit("node_modules/").next().unwrap_or(at);
        let all = [&package.dependencies, &package.optional_dependencies, &package.peer_dependencies];
        for wanted in all.into_iter().flat_map(|some| some.keys()) {
            let mut folder = at;
            let found = loop {
                let slash = if folder.is_empty() { "" } else { "/" };
                if let Some((found, _)) = packages.get_key_value(&format!("{folder}{slash}node_modules/{wanted}")) {
                    break Some(found.as_str());
                }
                if folder.is_empty() {
                    break None;
                }
                folder = folder.rsplit_once("node_modules/").map_or("", |(above, _)| above.trim_end_matches('/'));
            };
            if let Some(found) = found.filter(|found| seen.insert(found)) {
                let why = if at.is_empty() { "the product needs it".to_owned() } else { format!("{name} needs it") };
                reasons.insert(found.to_owned(), why);
                next.push(found);
            }
        }
    }
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_found_by_their_folders_with_whoever_needs_them() {
        let lock = r#"{"packages": {
            "": {"dependencies": {"hives": "1"}, "devDependencies": {"bees": "1"}},
            "node_modules/bees": {"version": "1.0.0", "dev": true},
            "node_modules/hives": {"version": "1.2.0", "dependencies": {"wax": "2", "@mill/comb": "1"}},
            "node_modules/hives/node_modules/wax": {"version": "2.0.0", "dependencies": {"comb": "1"}},
            "node_modules/@mill/comb": {"os": ["!win32"], "cpu": ["x64"], "libc": "glibc"},
            "node_modules/comb": {}
        }}"#;
        let lock = Lock::read(lock.as_bytes()).expect("a lock file");
        let told: Vec<String> = lock.reasons.iter().map(|(name, why)| format!("{name}: {why}")).collect();
        assert_eq!(
            told,
            [
                "node_modules/@mill/comb: hives needs it",
                "node_modules/comb: wax needs it",
                "node_modules/hives: the product needs it",
                "node_modules/hives/node_modules/wax: hives needs it",
            ]
        );
        let useless = |name: &str, os, cpu| lock.packages[name].useless(os, cpu).unwrap_or_default();
        assert_eq!(useless("node_modules/bees", "linux", "x64"), "only for development");
        assert_eq!(useless("node_modules/@mill/comb", "win32", "x64"), "for another system");
        assert_eq!(useless("node_modules/@mill/comb", "linux", "arm64"), "for another processor");
        assert_eq!(useless("node_modules/@mill/comb", "linux", "x64"), "");
        let of = |path| lock.package_of(path);
        assert_eq!(of("node_modules/hives/node_modules/wax/index.js"), Some("node_modules/hives/node_modules/wax"));
        assert_eq!((of("node_modules/@mill/comb/a/b.js"), of("server.js")), (Some("node_modules/@mill/comb"), None));
    }

    #[test]
    fn the_first_version_is_read_and_what_is_none_is_told() {
        let lock = r#"{"lockfileVersion": 1, "dependencies": {"hives": {"version": "1.0.0",
            "dependencies": {"wax": {"version": "2.0.0", "dev": true}}}}}"#;
        let lock = Lock::read(lock.as_bytes()).expect("a lock file");
        assert!(lock.packages["node_modules/hives/node_modules/wax"].dev && !lock.packages["node_modules/hives"].dev);
        assert!(Lock::read(b"[]").is_err() && Lock::read(b"{\"packages\": 1}").is_err());
    }
}
