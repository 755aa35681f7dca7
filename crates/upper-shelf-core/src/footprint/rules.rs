//! How a product goes onto a machine, and what its application bundle says: rules, each with its own type.

use super::{Item, Kind, RelPath};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::str::FromStr;

/// For whom a product is installed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scope {
    /// Everyone on the machine.
    #[default]
    Machine,
    /// One user, without administrator rights.
    User,
    /// As the user who installs it says.
    Asked,
}

/// Whether an older version may replace a newer one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Downgrade {
    /// No.
    #[default]
    Blocked,
    /// Yes.
    Allowed,
}

/// When an upgrade takes the old version away.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Upgrade {
    /// Before the new one comes: nothing of the old one is left over.
    #[default]
    Early,
    /// After the new one has come: files that did not change are not touched.
    Late,
}

/// Gives each its name in manifests, and the way back.
macro_rules! names {
    ($type:ident, $($variant:ident $name:literal),+) => {
        impl $type {
            /// Its name in manifests.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name,)+
                }
            }

            /// The one with a name.
            pub fn named(name: &str) -> Option<Self> {
                match name {
                    $($name => Some(Self::$variant),)+
                    _ => None,
                }
            }
        }
    };
}
names!(Scope, Machine "machine", User "user", Asked "asked");
names!(Downgrade, Blocked "blocked", Allowed "allowed");
names!(Upgrade, Early "early", Late "late");

/// A version of an operating system: one to three numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SystemVersion {
    /// The first number.
    pub major: u32,
    /// The second one, if it is said.
    pub minor: Option<u32>,
    /// The third one, if it is said: on Windows the build.
    pub patch: Option<u32>,
}

impl FromStr for SystemVersion {
    type Err = &'static str;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut numbers = [None; 3];
        let parts: Vec<&str> = text.split('.').collect();
        if parts.len() > numbers.len() {
            return Err("has more than three numbers");
        }
        for (number, part) in numbers.iter_mut().zip(parts) {
            if part.is_empty() || !part.bytes().all(|b| b.is_ascii_digit()) {
                return Err("has something other than numbers separated by dots");
            }
            *number = Some(part.parse().map_err(|_| "has a number that is too large")?);
        }
        let [major, minor, patch] = numbers;
        Ok(Self { major: major.ok_or("has no number")?, minor, patch })
    }
}

impl fmt::Display for SystemVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.major)?;
        self.minor.iter().chain(&self.patch).try_for_each(|n| write!(f, ".{n}"))
    }
}

impl Serialize for SystemVersion {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for SystemVersion {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let text = String::deserialize(d)?;
        text.parse().map_err(|why| serde::de::Error::custom(format!("the version {text:?} {why}")))
    }
}

/// How the product goes onto a machine: for whom, over which versions, on which systems. What a package does not say is
/// `None` or empty.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct InstallRules {
    /// For whom.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub scope: Option<Scope>,
    /// The folder below the system's folder of programs, with slashes.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub folder: Option<String>,
    /// The oldest Windows that it runs on.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub minimum_windows: Option<SystemVersion>,
    /// The oldest macOS that it runs on.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub minimum_macos: Option<SystemVersion>,
    /// Over a newer version.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub downgrade: Option<Downgrade>,
    /// Over an older version.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub upgrade: Option<Upgrade>,
    /// What all versions have in common for Windows Installer: a GUID in braces.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub upgrade_code: Option<String>,
    /// The key of the program that the wizard offers to start at its end.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub start_at_end: Option<String>,
    /// Files that stay once somebody has changed them.
    #[serde(skip_serializing_if = "BTreeSet::is_empty", default)]
    pub keep_changed: BTreeSet<RelPath>,
}

impl InstallRules {
    /// For whom; where it is not said, for everyone.
    pub fn scope(&self) -> Scope {
        self.scope.unwrap_or_default()
    }

    /// The folder below the system's folder of programs, as Windows writes it; empty where it is not said.
    pub fn windows_folder(&self) -> String {
        self.folder.as_deref().unwrap_or_default().replace('/', "\\")
    }

    /// Each rule that is said, by name.
    pub fn rules(&self) -> Vec<Rule> {
        let Self {
            scope,
            folder,
            minimum_windows,
            minimum_macos,
            downgrade,
            upgrade,
            upgrade_code,
            start_at_end,
            keep_changed,
        } = self;
        let mut rules = Vec::new();
        let mut rule = |name: &'static str, value: Option<String>| {
            rules.extend(value.map(|value| Rule { name, of: None, value }));
        };
        rule("downgrade", downgrade.map(|d| d.name().into()));
        rule("folder", folder.clone());
        rule("minimum-macos", minimum_macos.map(|v| v.to_string()));
        rule("minimum-windows", minimum_windows.map(|v| v.to_string()));
        rule("scope", scope.map(|s| s.name().into()));
        rule("start-at-end", start_at_end.clone());
        rule("upgrade", upgrade.map(|u| u.name().into()));
        rule("upgrade-code", upgrade_code.clone());
        rules.extend(keep_changed.iter().map(|path| Rule {
            name: "keep-changed",
            of: Some(path.to_string()),
            value: "yes".into(),
        }));
        rules
    }
}

/// A value of a property list, as the text of its JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct JsonText(pub String);

/// What an application bundle of macOS says of its product besides.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BundleRules {
    /// Whether it has no window of its own at first, and no place in the dock.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub agent: bool,
    /// Whose it is.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub copyright: Option<String>,
    /// The product's names by languages.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub names: BTreeMap<String, String>,
    /// Further keys of the property list.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub keys: BTreeMap<String, JsonText>,
}

impl BundleRules {
    /// Each rule that is said, by name.
    pub fn rules(&self) -> Vec<Rule> {
        let Self { agent, copyright, names, keys } = self;
        let mut rules = Vec::new();
        let mut rule = |name: &'static str, of: Option<&str>, value: &str| {
            rules.push(Rule { name, of: of.map(str::to_owned), value: value.to_owned() });
        };
        if *agent {
            rule("agent", None, "yes");
        }
        if let Some(copyright) = copyright {
            rule("copyright", None, copyright);
        }
        keys.iter().for_each(|(key, value)| rule("key", Some(key), &value.0));
        names.iter().for_each(|(language, name)| rule("name", Some(language), name));
        rules
    }
}

/// One rule as people read it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Rule {
    /// Its name.
    pub name: &'static str,
    /// What it is for, where there are several of a name: a language, a key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// What holds.
    pub value: String,
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)?;
        self.of.iter().try_for_each(|of| write!(f, " {of}"))?;
        write!(f, ": {}", self.value)
    }
}

impl Item for Rule {
    const KIND: Kind = Kind::Rule;
    fn name(&self) -> Cow<'_, str> {
        match &self.of {
            Some(of) => format!("{} {of}", self.name).into(),
            None => self.name.into(),
        }
    }
}
