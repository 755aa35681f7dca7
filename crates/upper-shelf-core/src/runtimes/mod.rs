//! What programs run on and what comes along with them: a layer of the payload that is made smaller, and a way to start something on it.

mod java;
pub(crate) mod natives;
mod node;
pub(crate) mod php;
mod python;

use crate::footprint::{Node, RelPath};
use crate::payload::gather::resolve;
use crate::payload::{Payload, PayloadFile, Source, patterns};
use crate::platform::Platform;
use crate::problem::{Code, Problem, nearest};
use globset::GlobSet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// What a runtime is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RuntimeKind {
    /// A Java runtime, or a development kit that has one.
    Java,
    /// An interpreter of Python with its library.
    Python,
    /// An interpreter of JavaScript, with the product's packages.
    Node,
    /// An interpreter of PHP, with its extensions.
    Php,
    /// Any other interpreter.
    Plain,
}

impl RuntimeKind {
    /// Its name in manifests.
    pub fn name(self) -> &'static str {
        match self {
            Self::Java => "java",
            Self::Python => "python",
            Self::Node => "node",
            Self::Php => "php",
            Self::Plain => "plain",
        }
    }

    /// As people call it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Java => "Java",
            Self::Python => "Python",
            Self::Node => "Node",
            Self::Php => "PHP",
            Self::Plain => "an interpreter",
        }
    }

    /// Variables that it is started with, for its folder as `{install}` has it.
    pub fn setting(self, home: &str) -> Vec<(&'static str, String)> {
        match self {
            // Where its settings are, and none of the machine's own.
            Self::Php => {
                vec![("PHPRC", home.to_owned()), (php::HOME, home.to_owned()), ("PHP_INI_SCAN_DIR", String::new())]
            }
            Self::Java | Self::Python | Self::Node | Self::Plain => Vec::new(),
        }
    }

    /// Variables that would bend the start of whatever runs on it.
    pub fn bending(self) -> &'static [&'static str] {
        match self {
            Self::Java => &["CLASSPATH", "JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS", "_JAVA_OPTIONS"],
            // All of Python's own are ignored; these would reach programs that it starts.
            Self::Python => &["PYTHONHOME", "PYTHONINSPECT", "PYTHONPATH", "PYTHONSTARTUP", "__PYVENV_LAUNCHER__"],
            Self::Node => &["NODE_OPTIONS", "NODE_PATH", "NODE_REPL_EXTERNAL_MODULE"],
            Self::Php | Self::Plain => &[],
        }
    }
}

/// What of a runtime comes along.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keep {
    /// What the product uses.
    Used,
    /// All of it.
    All,
    /// What is named, and what that needs.
    These(Vec<String>),
}

impl<'de> Deserialize<'de> for Keep {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either {
            Word(String),
            These(Vec<String>),
        }
        match Either::deserialize(d)? {
            Either::Word(word) if word == "used" => Ok(Self::Used),
            Either::Word(word) if word == "all" => Ok(Self::All),
            Either::Word(word) => Err(serde::de::Error::custom(format!(
                "`keep` is \"used\", \"all\" or a list of what is kept, and not {word:?}"
            ))),
            Either::These(these) => Ok(Self::These(these)),
        }
    }
}

impl JsonSchema for Keep {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Keep".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "`used`, `all`, or a list of what is kept.",
            "anyOf": [{ "type": "array", "items": { "type": "string" } }, { "type": "string", "enum": ["used", "all"] }],
        })
    }
}

/// A runtime as resolved for one platform.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Runtime {
    /// Its key.
    pub key: String,
    /// What it is.
    pub kind: RuntimeKind,
    /// The platform that it is for.
    pub platform: Platform,
    /// Its folder in the payload.
    pub into: RelPath,
    /// What of it comes along.
    pub keep: Keep,
    /// Parts that come along, too.
    pub also: Vec<String>,
    /// What does not.
    pub drop: Vec<String>,
    /// Its programs that start others, one of which has to be there.
    pub starters: Vec<RelPath>,
    /// Programs of it that people start, which therefore stay.
    pub programs: Vec<RelPath>,
    /// Scripts and archives that it starts.
    pub scripts: Vec<RelPath>,
    /// Its keys in the manifest, as problems name them.
    pub setting: String,
}

/// Bytes and files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct Amount {
    /// Bytes.
    pub bytes: u64,
    /// Files.
    pub files: u64,
}

/// A module of a runtime; a package of Node, an extension of PHP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Module {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub bytes: u64,
    /// Why it comes along; nothing for one that doesn't.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// A module that was left out, and may be looked for all the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Doubt {
    /// The module.
    pub module: String,
    /// What speaks for it.
    pub why: String,
}

/// What became of a runtime.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Trimmed {
    /// Its key.
    pub key: String,
    /// What it is.
    pub kind: RuntimeKind,
    /// Its version, as it says itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Its folder in the payload.
    pub into: String,
    /// What it was.
    pub before: Amount,
    /// What comes along.
    pub after: Amount,
    /// Its modules, if it has any, in the order of their names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub modules: Vec<Module>,
    /// What is not certain.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub doubts: Vec<Doubt>,
    /// Texts of licences that come along.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub licences: Vec<String>,
}

impl Runtime {
    /// A path of the payload as one in its folder.
    fn inside<'p>(&self, path: &'p RelPath) -> Option<&'p str> {
        path.as_str().strip_prefix(self.into.as_str())?.strip_prefix('/')
    }

    fn problem(&self, what: String, key: &str) -> Problem {
        Problem::error(Code::Runtime, what).about_setting(format!("{}.{key}", self.setting))
    }

    /// A file in its folder.
    fn file<'p>(&self, payload: &'p Payload, path: &str) -> Option<&'p PayloadFile> {
        let path = RelPath::new(path).ok()?.below(&self.into);
        let at = payload.files.binary_search_by(|file| file.path.cmp(&path)).ok()?;
        payload.files.get(at)
    }

    /// Puts other content into a file in its folder.
    fn put(&self, payload: &mut Payload, path: &str, source: Source, size: u64) {
        let Some(path) = RelPath::new(path).ok().map(|path| path.below(&self.into)) else { return };
        if let Some(file) = payload.files.iter_mut().find(|file| file.path == path) {
            if let Some(share) = payload.shares.get_mut(file.layer) {
                share.bytes = share.bytes + size - file.size;
            }
            (file.source, file.size) = (source, size);
        }
    }

    /// Its programs that are started, with what links lead to, as paths in its folder.
    fn started(&self, payload: &Payload) -> HashSet<String> {
        let mut all = HashSet::new();
        let mut next: Vec<RelPath> = self.programs.clone();
        while let Some(path) = next.pop() {
            let Some(inside) = self.inside(&path) else { continue };
            if !all.insert(inside.to_owned()) {
                continue;
            }
            next.extend(payload.others.iter().filter(|node| *node.path() == path).filter_map(|node| match node {
                Node::Link { path, target } => RelPath::new(resolve(path, target)?).ok(),
                Node::HardLink { to, .. } => Some(to.clone()),
                _ => None,
            }));
        }
        all
    }

    fn amount(&self, payload: &Payload) -> Amount {
        let own = payload.files.iter().filter(|file| self.inside(&file.path).is_some());
        own.fold(Amount::default(), |sum, file| Amount { bytes: sum.bytes + file.size, files: sum.files + 1 })
    }

    /// Takes out of the payload what doesn't stay of this runtime.
    fn retain(&self, payload: &mut Payload, stays: impl Fn(&str) -> bool) {
        retain(payload, |path| self.inside(path).is_some(), |path| self.inside(path).is_none_or(&stays));
    }
}

/// What a manifest wants of a runtime's parts, beside what is found.
struct Wanted {
    /// Parts that come along, with the reason.
    roots: BTreeMap<String, String>,
    /// Parts that don't.
    without: BTreeSet<String>,
    /// Files that don't.
    drop: Option<GlobSet>,
    problems: Vec<Problem>,
}

impl Wanted {
    /// Takes `keep`, `also` and `drop` apart: names of parts, and patterns of files. `meant` gives the parts that a name means, nothing for an
    /// unknown one, of which `absent` begins to tell.
    fn new<'n>(
        runtime: &Runtime,
        absent: &str,
        names: impl Iterator<Item = &'n str> + Clone,
        meant: impl Fn(&str) -> Option<Vec<String>>,
    ) -> Self {
        let (mut roots, mut without, mut globs, mut problems) =
            (BTreeMap::new(), BTreeSet::new(), Vec::new(), Vec::new());
        let unknown = |name: &str, key: String| {
            let problem = runtime.problem(format!("{absent} {name}"), &key);
            match nearest(name, names.clone()) {
                Some(near) => problem.instead(format!("{near:?}")),
                None => problem.instead("`upper-shelf runtimes --why` shows those that are there"),
            }
        };
        // Of an interpreter of Node they are patterns.
        let these: &[String] = match &runtime.keep {
            Keep::These(these) if runtime.kind != RuntimeKind::Node => these,
            Keep::These(_) | Keep::Used | Keep::All => &[],
        };
        for (key, list) in [("keep", these), ("also", &runtime.also[..])] {
            for (n, name) in list.iter().enumerate() {
                match meant(name) {
                    Some(parts) => parts.into_iter().for_each(|part| {
                        roots.entry(part).or_insert_with(|| format!("the manifest wants it (`{key}`)"));
                    }),
                    None => problems.push(unknown(name, format!("{key}.{n}"))),
                }
            }
        }
        for (n, name) in runtime.drop.iter().enumerate() {
            match meant(name).filter(|_| !name.contains('*')) {
                Some(parts) => without.extend(parts),
                None if name.contains(['/', '*']) && !name.starts_with('@') => globs.push(name.clone()),
                None => problems.push(unknown(name, format!("drop.{n}"))),
            }
        }
        let drop = match patterns(&globs) {
            Ok(set) => (!globs.is_empty()).then_some(set),
            Err(why) => {
                problems.push(runtime.problem(why, "drop"));
                None
            }
        };
        Self { roots, without, drop, problems }
    }
}

/// Takes out of the payload what doesn't stay of some of it: files, links to these, and folders that become empty.
fn retain(payload: &mut Payload, is_own: impl Fn(&RelPath) -> bool, stays: impl Fn(&RelPath) -> bool) {
    let keeps = |path: &RelPath| !is_own(path) || stays(path);
    // A file stays for each of its names.
    let named_again: HashSet<RelPath> = payload
        .others
        .iter()
        .filter_map(|node| if let Node::HardLink { path, to } = node { keeps(path).then(|| to.clone()) } else { None })
        .collect();
    let shares = &mut payload.shares;
    payload.files.retain(|file| {
        let is_kept = keeps(&file.path) || named_again.contains(&file.path);
        if let Some(share) = shares.get_mut(file.layer).filter(|_| !is_kept) {
            share.bytes -= file.size;
            share.files -= 1;
        }
        is_kept
    });
    payload.others.retain(|node| node.is_folder() || keeps(node.path()));
    while loses_links(payload, &is_own) {}
    let paths = payload.files.iter().map(|file| &file.path);
    let others = payload.others.iter().filter(|node| !node.is_folder()).map(Node::path);
    let full: HashSet<RelPath> =
        paths.chain(others).flat_map(|path| std::iter::successors(path.parent(), RelPath::parent)).collect();
    payload.others.retain(|node| !node.is_folder() || !is_own(node.path()) || full.contains(node.path()));
}

/// Takes out links that lead to nothing any more; says whether there were any: others may have led to these.
fn loses_links(payload: &mut Payload, is_own: impl Fn(&RelPath) -> bool) -> bool {
    let paths = payload.files.iter().map(|file| file.path.as_str());
    let names: HashSet<String> =
        paths.chain(payload.others.iter().map(|node| node.path().as_str())).map(str::to_owned).collect();
    let before = payload.others.len();
    payload.others.retain(|node| match node {
        Node::Link { path, target } if is_own(path) => resolve(path, target).is_none_or(|to| names.contains(&to)),
        _ => true,
    });
    payload.others.len() < before
}

/// Makes the runtimes of a payload smaller. Gives what became of them, and what is wrong or noteworthy.
pub fn trim(runtimes: &[Runtime], payload: &mut Payload) -> (Vec<Trimmed>, Vec<Problem>) {
    let (mut all, mut problems) = (Vec::new(), Vec::new());
    for runtime in runtimes {
        let before = runtime.amount(payload);
        if before.files == 0 {
            // That its layer is empty is said.
            continue;
        }
        let mut trimmed = Trimmed {
            key: runtime.key.clone(),
            kind: runtime.kind,
            version: None,
            into: runtime.into.to_string(),
            before,
            after: Amount::default(),
            modules: Vec::new(),
            doubts: Vec::new(),
            licences: Vec::new(),
        };
        if let Some(problem) = without_starter(runtime, payload) {
            problems.push(problem);
            continue;
        }
        match runtime.kind {
            RuntimeKind::Java => problems.extend(java::trim(runtime, payload, &mut trimmed)),
            RuntimeKind::Python => problems.extend(python::trim(runtime, payload, &mut trimmed)),
            RuntimeKind::Node => problems.extend(node::trim(runtime, payload, &mut trimmed)),
            RuntimeKind::Php => problems.extend(php::trim(runtime, payload, &mut trimmed)),
            RuntimeKind::Plain => problems.extend(plain(runtime, payload)),
        }
        let own = runtime.amount(payload);
        trimmed.after = Amount { bytes: trimmed.after.bytes + own.bytes, files: trimmed.after.files + own.files };
        trimmed.licences = licences(runtime, payload);
        all.push(trimmed);
    }
    (all, problems)
}

/// A runtime that has no program to start others, as one for another system.
fn without_starter(runtime: &Runtime, payload: &Payload) -> Option<Problem> {
    let has = |path: &RelPath| payload.tree().any(|node| node.path() == path);
    if runtime.starters.is_empty() || runtime.starters.iter().any(has) {
        return None;
    }
    let missing = runtime.inside(&runtime.starters[0])?.to_owned();
    let what = format!("the runtime {:?} has no program {missing}", runtime.key);
    // The same without what other systems add to it, or with that; or the same further down.
    let name =
        |path: &str| path.rsplit('/').next().unwrap_or(path).trim_end_matches(".exe").trim_end_matches('w').to_owned();
    let plain = name(&missing);
    let all = || payload.files.iter().filter_map(|file| runtime.inside(&file.path));
    // `python3` is `python` elsewhere.
    let is_other = |path: &&str| {
        let is_in_place = path.strip_prefix("bin/").unwrap_or(path).matches('/').count() == 0;
        let other = name(path);
        is_in_place
            && (other == plain || plain.strip_suffix('3') == Some(&other) || other.strip_suffix('3') == Some(&plain))
    };
    let other = all().find(is_other);
    let below = all().filter_map(|path| path.strip_suffix(&missing)?.strip_suffix('/')).min();
    let problem = runtime.problem(what, "from");
    Some(match (other, below) {
        (Some(other), _) => problem.why(format!("it is one for another system: it has {other}")).instead(
            "the runtime of this system: from = { linux = \"…\", windows = \"…\" }, or a source with `file` or `url` like that",
        ),
        (None, Some(folder)) => problem.why("it lies further down").instead(format!("the folder {folder} in it")),
        (None, None) => problem.why("`from` is another folder, or the runtime is not whole").instead("the runtime's own folder"),
    })
}

/// Of an interpreter that nothing is known of, the files that are named.
fn plain(runtime: &Runtime, payload: &mut Payload) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut globs = |key: &str, all: &[String]| match patterns(all) {
        Ok(set) => Some(set),
        Err(why) => {
            problems.push(runtime.problem(why, key));
            None
        }
    };
    let keep = match &runtime.keep {
        Keep::These(these) => globs("keep", these),
        Keep::All | Keep::Used => None,
    };
    let drop = globs("drop", &runtime.drop);
    runtime.retain(payload, |path| {
        keep.as_ref().is_none_or(|keep| keep.is_match(path)) && drop.as_ref().is_none_or(|drop| !drop.is_match(path))
    });
    problems
}

/// Texts of licences: they lie in a folder for them, or are called so.
fn licences(runtime: &Runtime, payload: &Payload) -> Vec<String> {
    let is_one = |path: &&str| {
        let name = path.rsplit('/').next().unwrap_or_default().to_uppercase();
        path.starts_with("legal/")
            || ["LICENSE", "LICENCE", "COPYING", "NOTICE"].iter().any(|start| name.starts_with(start))
    };
    let own = payload.files.iter().filter_map(|file| runtime.inside(&file.path));
    own.filter(is_one).map(str::to_owned).collect()
}
