//! The seal of a bundle, `_CodeSignature/CodeResources`: a property list with the digest of every file in it, and with the
//! rules that say which file counts how.

use crate::{CdHash, Error, Result};
use plist::{Dictionary, Value};
use regex::Regex;
use std::collections::BTreeMap;

/// How a file or folder of a bundle counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Not at all.
    Omitted,
    /// By its digest; it may be missing if that is so.
    Resource {
        /// It may be missing.
        optional: bool,
    },
    /// It is code, or a bundle, with a signature of its own.
    Nested,
}

/// One rule: which paths, how they count, and how much the rule weighs against others.
#[derive(Debug, Clone)]
struct Rule {
    pattern: String,
    expression: Regex,
    place: Place,
    weight: f64,
}

/// Which file counts how.
#[derive(Debug, Clone)]
pub struct Rules(Vec<Rule>);

const RESOURCE: Place = Place::Resource { optional: false };
const OPTIONAL: Place = Place::Resource { optional: true };

/// The rules that all bundles have which are signed today, in the order of their patterns.
const USUAL: [(&str, Place, f64); 13] = [
    (r".*\.dSYM($|/)", RESOURCE, 11.0),
    (r"^(.*/)?\.DS_Store$", Place::Omitted, 2000.0),
    (
        r"^(Frameworks|SharedFrameworks|PlugIns|Plug-ins|XPCServices|Helpers|MacOS|Library/(Automator|Spotlight|LoginItems))/",
        Place::Nested,
        10.0,
    ),
    (r"^.*", RESOURCE, 1.0),
    (r"^Info\.plist$", Place::Omitted, 20.0),
    (r"^PkgInfo$", Place::Omitted, 20.0),
    (r"^Resources/", RESOURCE, 20.0),
    (r"^Resources/.*\.lproj/", OPTIONAL, 1000.0),
    (r"^Resources/.*\.lproj/locversion.plist$", Place::Omitted, 1100.0),
    (r"^Resources/Base\.lproj/", RESOURCE, 1010.0),
    (r"^[^/]+$", Place::Nested, 10.0),
    (r"^embedded\.provisionprofile$", RESOURCE, 20.0),
    (r"^version\.plist$", RESOURCE, 20.0),
];

/// Those of the first form, for readers that know no other: there is a digest of each resource in it, and nothing else.
const FIRST: [(&str, Place, f64); 5] = [
    (r"^Resources/", RESOURCE, 1.0),
    (r"^Resources/.*\.lproj/", OPTIONAL, 1000.0),
    (r"^Resources/.*\.lproj/locversion.plist$", Place::Omitted, 1100.0),
    (r"^Resources/Base\.lproj/", RESOURCE, 1010.0),
    (r"^version.plist$", RESOURCE, 1.0),
];

/// More rules than any seal has, and longer patterns.
const MOST_RULES: usize = 200;
const LONGEST_PATTERN: usize = 1000;

impl Rules {
    /// Those that bundles have today.
    pub fn usual() -> Self {
        Self::of(&USUAL)
    }

    fn of(all: &[(&str, Place, f64)]) -> Self {
        let rule = |(pattern, place, weight): &(&str, Place, f64)| {
            let expression = Regex::new(pattern).ok()?;
            Some(Rule { pattern: (*pattern).to_owned(), expression, place: *place, weight: *weight })
        };
        Self(all.iter().filter_map(rule).collect())
    }

    /// How a path counts, from where the seal's paths begin.
    pub fn place(&self, path: &str) -> Place {
        let mut found: Option<&Rule> = None;
        for rule in self.0.iter().filter(|rule| rule.expression.is_match(path)) {
            if found.is_none_or(|other| rule.weight > other.weight) {
                found = Some(rule);
            }
        }
        found.map_or(Place::Omitted, |rule| rule.place)
    }

    fn to_list(&self) -> Value {
        let list = |rule: &Rule| {
            let mut own = Dictionary::new();
            match rule.place {
                Place::Omitted => drop(own.insert("omit".into(), true.into())),
                Place::Nested => drop(own.insert("nested".into(), true.into())),
                Place::Resource { optional: true } => drop(own.insert("optional".into(), true.into())),
                Place::Resource { optional: false } => {}
            }
            if rule.weight != 1.0 {
                own.insert("weight".into(), Value::Real(rule.weight));
            }
            let value = if own.is_empty() { Value::Boolean(true) } else { Value::Dictionary(own) };
            (rule.pattern.clone(), value)
        };
        Value::Dictionary(self.0.iter().map(list).collect())
    }

    fn read(list: &Dictionary) -> Result<Self> {
        let unsupported = |pattern: &str| Error::Unsupported(format!("the rule {pattern:?} of a seal"));
        if list.len() > MOST_RULES {
            return Err(Error::Limit(format!("a seal with {} rules", list.len())));
        }
        let mut all = Vec::new();
        for (pattern, value) in list {
            let yes =
                |key: &str| value.as_dictionary().and_then(|d| d.get(key)).and_then(Value::as_boolean).unwrap_or(false);
            let place = match value {
                Value::Boolean(true) => RESOURCE,
                Value::Boolean(false) => Place::Omitted,
                Value::Dictionary(_) if yes("omit") => Place::Omitted,
                Value::Dictionary(_) if yes("nested") => Place::Nested,
                Value::Dictionary(_) => Place::Resource { optional: yes("optional") },
                _ => return Err(unsupported(pattern)),
            };
            let weight = value.as_dictionary().and_then(|d| d.get("weight"));
            let weight = weight.and_then(|w| w.as_real().or_else(|| w.as_signed_integer().map(|n| n as f64)));
            if pattern.len() > LONGEST_PATTERN {
                return Err(Error::Limit("a rule of a seal is very long".into()));
            }
            let built = regex::RegexBuilder::new(pattern).size_limit(1 << 20).build();
            let expression = built.map_err(|_| unsupported(pattern))?;
            all.push(Rule { pattern: pattern.clone(), expression, place, weight: weight.unwrap_or(1.0) });
        }
        Ok(Self(all))
    }
}

/// What a seal says of one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sealed {
    /// A file.
    File {
        /// For older readers; others' seals may be without.
        sha1: Option<[u8; 20]>,
        /// What counts.
        sha256: [u8; 32],
        /// It may be missing.
        optional: bool,
    },
    /// A link.
    Link(String),
    /// Code, or a bundle, with a signature of its own.
    Nested {
        /// Which one.
        code: CdHash,
        /// How a later one is known.
        requirement: String,
    },
}

/// The seal of a bundle: what it says of each path, from the folder on that `_CodeSignature` is in.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Seal(pub BTreeMap<String, Sealed>);

/// A seal that was read.
#[derive(Debug, Clone)]
pub struct Found {
    /// What it says.
    pub seal: Seal,
    /// The rules that it goes by.
    pub rules: Rules,
}

fn table(all: impl IntoIterator<Item = (&'static str, Value)>) -> Value {
    Value::Dictionary(all.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
}

impl Seal {
    /// Its bytes.
    pub fn to_bytes(&self) -> Vec<u8> {
        let first = Rules::of(&FIRST);
        let (mut of_first, mut all) = (Dictionary::new(), Dictionary::new());
        for (path, sealed) in &self.0 {
            let value = match sealed {
                Sealed::File { sha1, sha256, optional } => {
                    if let (Some(sha1), Place::Resource { optional }) = (sha1, first.place(path)) {
                        let digest = Value::Data(sha1.to_vec());
                        let value =
                            if optional { table([("hash", digest), ("optional", true.into())]) } else { digest };
                        of_first.insert(path.clone(), value);
                    }
                    let optional = optional.then_some(("optional", Value::Boolean(true)));
                    let digest = [("hash2", Value::Data(sha256.to_vec()))];
                    table(digest.into_iter().chain(optional))
                }
                Sealed::Link(target) => table([("symlink", target.as_str().into())]),
                Sealed::Nested { code, requirement } => {
                    table([("cdhash", Value::Data(code.to_vec())), ("requirement", requirement.as_str().into())])
                }
            };
            all.insert(path.clone(), value);
        }
        let list = table([
            ("files", Value::Dictionary(of_first)),
            ("files2", Value::Dictionary(all)),
            ("rules", first.to_list()),
            ("rules2", Rules::usual().to_list()),
        ]);
        let mut bytes = Vec::new();
        // Writing into memory can't fail.
        let _ = list.to_writer_xml(&mut bytes);
        bytes.push(b'\n');
        bytes
    }

    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Format`] for what is none; [`Error::Unsupported`] for one without digests by SHA-256.
    pub fn read(bytes: &[u8]) -> Result<Found> {
        let bad = |what: &str| Error::format(0, format!("a seal {what}"));
        let list = shallow_plist::value_of(bytes).and_then(Value::into_dictionary);
        let list = list.ok_or_else(|| bad("that is no property list"))?;
        let part = |key: &str| list.get(key).and_then(Value::as_dictionary);
        let (Some(rules), Some(files)) = (part("rules2"), part("files2")) else {
            return Err(Error::Unsupported("a seal of the form that older systems than OS X 10.9.5 made".into()));
        };
        let mut all = BTreeMap::new();
        for (path, value) in files {
            // A digest alone is one by SHA-1.
            let own = value
                .as_dictionary()
                .ok_or_else(|| Error::Unsupported(format!("a seal with nothing but an SHA-1 digest of {path}")))?;
            let data = |key: &str| own.get(key).and_then(Value::as_data);
            let text = |key: &str| own.get(key).and_then(Value::as_string).map(str::to_owned);
            let sealed = if let Some(target) = text("symlink") {
                Sealed::Link(target)
            } else if let Some(requirement) = text("requirement") {
                let code = data("cdhash").and_then(|hash| hash.try_into().ok());
                Sealed::Nested { code: code.ok_or_else(|| bad("without the digest of nested code"))?, requirement }
            } else {
                let sha256 = data("hash2").and_then(|hash| hash.try_into().ok());
                Sealed::File {
                    sha1: data("hash").and_then(|hash| hash.try_into().ok()),
                    sha256: sha256
                        .ok_or_else(|| Error::Unsupported(format!("a seal without an SHA-256 digest of {path}")))?,
                    optional: own.get("optional").and_then(Value::as_boolean).unwrap_or(false),
                }
            };
            all.insert(path.clone(), sealed);
        }
        Ok(Found { seal: Self(all), rules: Rules::read(rules)? })
    }
}
