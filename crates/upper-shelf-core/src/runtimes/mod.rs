//! What programs run on and what comes along with them: a layer of the payload that is made smaller, and a way to start something on it.

mod java;

use crate::footprint::{Node, RelPath};
use crate::payload::gather::resolve;
use crate::payload::{Payload, patterns};
use crate::problem::{Code, Problem};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// What a runtime is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RuntimeKind {
    /// A Java runtime, or a development kit that has one.
    Java,
    /// Any other interpreter.
    Plain,
}

impl RuntimeKind {
    /// Its name in manifests.
    pub fn name(self) -> &'static str {
        match self {
            Self::Java => "java",
            Self::Plain => "plain",
        }
    }

    /// As people call it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Java => "Java",
            Self::Plain => "an interpreter",
        }
    }

    /// Variables that would bend the start of whatever runs on it.
    pub fn bending(self) -> &'static [&'static str] {
        match self {
            Self::Java => &["CLASSPATH", "JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS", "_JAVA_OPTIONS"],
            Self::Plain => &[],
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
    /// Its folder in the payload.
    pub into: RelPath,
    /// What of it comes along.
    pub keep: Keep,
    /// Modules that come along, too.
    pub also: Vec<String>,
    /// What does not.
    pub drop: Vec<String>,
    /// Its programs that start others, one of which has to be there.
    pub starters: Vec<RelPath>,
    /// Programs of it that people start, which therefore stay.
    pub programs: Vec<RelPath>,
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

/// A module of a runtime.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Module {
    /// Its name.
    pub name: String,
    /// Bytes of its classes and resources.
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

    fn amount(&self, payload: &Payload) -> Amount {
        let own = payload.files.iter().filter(|file| self.inside(&file.path).is_some());
        own.fold(Amount::default(), |sum, file| Amount { bytes: sum.bytes + file.size, files: sum.files + 1 })
    }

    /// Takes out of the payload what doesn't stay of this runtime: files, links to these, and folders that become empty.
    fn retain(&self, payload: &mut Payload, stays: impl Fn(&str) -> bool) {
        let keeps = |path: &RelPath| self.inside(path).is_none_or(&stays);
        // A file stays for each of its names.
        let named_again: HashSet<RelPath> = payload
            .others
            .iter()
            .filter_map(
                |node| if let Node::HardLink { path, to } = node { keeps(path).then(|| to.clone()) } else { None },
            )
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
        while self.loses_links(payload) {}
        let paths = payload.files.iter().map(|file| &file.path);
        let others = payload.others.iter().filter(|node| !node.is_folder()).map(Node::path);
        let full: HashSet<RelPath> =
            paths.chain(others).flat_map(|path| std::iter::successors(path.parent(), RelPath::parent)).collect();
        payload
            .others
            .retain(|node| !node.is_folder() || self.inside(node.path()).is_none() || full.contains(node.path()));
    }

    /// Takes out links that lead to nothing any more; says whether there were any: others may have led to these.
    fn loses_links(&self, payload: &mut Payload) -> bool {
        let paths = payload.files.iter().map(|file| file.path.as_str());
        let names: HashSet<String> =
            paths.chain(payload.others.iter().map(|node| node.path().as_str())).map(str::to_owned).collect();
        let before = payload.others.len();
        payload.others.retain(|node| match node {
            Node::Link { path, target } if self.inside(path).is_some() => {
                resolve(path, target).is_none_or(|to| names.contains(&to))
            }
            _ => true,
        });
        payload.others.len() < before
    }
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
            after: before,
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
            RuntimeKind::Plain => problems.extend(plain(runtime, payload)),
        }
        trimmed.after = runtime.amount(payload);
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
    let plain = missing.trim_end_matches(".exe").trim_end_matches('w');
    let all = || payload.files.iter().filter_map(|file| runtime.inside(&file.path));
    let other = all().find(|path| *path == plain || path.strip_suffix(".exe") == Some(plain));
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
