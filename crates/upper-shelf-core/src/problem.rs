//! What is wrong, where, why, and what to write instead: all that can be said at once, for people and for machines.

mod code;

pub use code::Code;

use crate::footprint::{Item, TraceKey};
use serde::Serialize;
use std::fmt;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// How much a problem matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Nothing is built.
    Error,
    /// It is built, and somebody should look.
    Warning,
}

/// A place in a text file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Span {
    /// The file.
    pub file: PathBuf,
    /// From 1.
    pub line: usize,
    /// In characters, from 1.
    pub column: usize,
    /// How many characters are meant.
    pub width: usize,
    /// The line itself.
    pub text: String,
}

impl Span {
    /// The same without what stands behind the equals sign, which may be a secret.
    pub fn without_value(mut self) -> Self {
        if let Some(equals) = self.text.find('=') {
            self.text.replace_range(equals.., "= …");
        }
        self
    }

    /// The place of a byte range in a text.
    pub fn of(file: &Path, text: &str, range: Range<usize>) -> Self {
        let start = range.start.min(text.len());
        let line_start = text[..start].rfind('\n').map_or(0, |n| n + 1);
        let line_end = text[start..].find('\n').map_or(text.len(), |n| start + n);
        let end = range.end.clamp(start, line_end);
        Self {
            file: file.to_owned(),
            line: text[..start].matches('\n').count() + 1,
            column: text[line_start..start].chars().count() + 1,
            width: text[start..end].chars().count().max(1),
            text: text[line_start..line_end].trim_end().to_owned(),
        }
    }
}

/// What a problem is about. Whoever knows the manifest looks up where that is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum About {
    /// An item of the footprint, and which of its keys in the manifest.
    Item(TraceKey<'static>, Option<&'static str>),
    /// A setting, by its keys in the manifest with dots between them.
    Setting(String),
}

/// One thing that is wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Problem {
    /// How much it matters.
    pub severity: Severity,
    /// What kind of problem it is.
    pub code: Code,
    /// What is wrong, without a full stop.
    pub what: String,
    /// Where it is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub span: Option<Span>,
    /// The file or folder that it is about, if it is not about a place in a text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<PathBuf>,
    /// What it is about, as long as nobody has looked up where that is written.
    #[serde(skip)]
    pub about: Option<About>,
    /// Why it matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to write or do instead.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instead: Option<String>,
}

impl Problem {
    /// An error.
    pub fn error(code: Code, what: impl Into<String>) -> Self {
        Self {
            severity: Severity::Error,
            code,
            what: what.into(),
            span: None,
            path: None,
            about: None,
            why: None,
            instead: None,
        }
    }
    /// A warning.
    pub fn warning(code: Code, what: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, what) }
    }
    /// Adds the place in a text.
    pub fn at(mut self, span: Option<Span>) -> Self {
        self.span = span;
        self
    }
    /// Adds the item that it is about.
    pub fn about(mut self, item: &impl Item) -> Self {
        self.about = Some(About::Item(item.key().into_owned(), None));
        self
    }
    /// Adds the item that it is about, and the key that is wrong.
    pub fn about_key(mut self, item: &impl Item, key: &'static str) -> Self {
        self.about = Some(About::Item(item.key().into_owned(), Some(key)));
        self
    }
    /// Adds the setting that it is about: its keys with dots between them.
    pub fn about_setting(mut self, key: impl Into<String>) -> Self {
        self.about = Some(About::Setting(key.into()));
        self
    }
    /// Adds the file that it is about.
    pub fn on(mut self, path: impl Into<PathBuf>) -> Self {
        self.path = Some(path.into());
        self
    }
    /// Adds why it matters.
    pub fn why(mut self, why: impl Into<String>) -> Self {
        self.why = Some(why.into());
        self
    }
    /// Adds what to do.
    pub fn instead(mut self, instead: impl Into<String>) -> Self {
        self.instead = Some(instead.into());
        self
    }
    /// Whether it stops a build.
    pub fn is_error(&self) -> bool {
        self.severity == Severity::Error
    }
}

/// What kind of failure ended a command; each kind has its exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The manifest or the files have problems that the user can mend.
    Problems,
    /// The machine: no permission, no space, a file that vanished.
    Machine,
    /// A package that can't be read.
    Package,
    /// The product's identity differs from the one it was released under.
    Identity,
    /// Somebody else is building the same package.
    Busy,
    /// Signatures that have to come from elsewhere are not there yet.
    Awaited,
}

/// Why a command failed: everything that is known at once.
#[derive(Debug, Clone, Serialize, thiserror::Error, schemars::JsonSchema)]
pub struct Failure {
    /// What kind.
    pub kind: Kind,
    /// All of it, errors and warnings, in the order of their places.
    pub problems: Vec<Problem>,
    /// What a library or the system said, for whoever walks the chain of errors.
    #[serde(skip)]
    pub source: Option<Arc<dyn std::error::Error + Send + Sync>>,
}

impl Failure {
    /// With one problem.
    pub fn new(kind: Kind, problem: Problem) -> Self {
        Self::all(kind, vec![problem])
    }

    /// With several.
    pub fn all(kind: Kind, problems: Vec<Problem>) -> Self {
        Self { kind, problems, source: None }
    }

    /// Keeps the error that led to it.
    pub fn caused_by(mut self, source: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> Self {
        self.source = Some(source.into().into());
        self
    }

    /// Trouble with the machine at a path.
    pub fn io(doing: &str, path: &Path, e: std::io::Error) -> Self {
        use std::io::ErrorKind as K;
        let (code, why, instead) = match e.kind() {
            K::StorageFull => (
                Code::DiskFull,
                "there is no space left on the disk",
                "free some space, or choose another output folder",
            ),
            K::PermissionDenied => {
                (Code::PermissionDenied, "permission denied", "check the permissions of the file and its folder")
            }
            K::ReadOnlyFilesystem => {
                (Code::ReadOnlyDisk, "the folder is on a read-only file system", "choose another output folder")
            }
            K::NotFound => (Code::NotFound, "it doesn't exist", ""),
            _ => (Code::InputOutput, "", ""),
        };
        let why = if why.is_empty() { e.to_string() } else { why.to_owned() };
        let problem = Problem::error(code, format!("{doing} {}", path.display())).on(path).why(why);
        let problem = if instead.is_empty() { problem } else { problem.instead(instead) };
        Self::new(Kind::Machine, problem).caused_by(e)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, problem) in self.problems.iter().enumerate() {
            let gap = if n > 0 { "; " } else { "" };
            write!(f, "{gap}{}", problem.what)?;
            if let Some(why) = &problem.why {
                write!(f, ": {why}")?;
            }
        }
        Ok(())
    }
}

/// The known name nearest to what was written, if one is near.
pub fn nearest<'n>(written: &str, known: impl IntoIterator<Item = &'n str>) -> Option<&'n str> {
    let written = written.to_lowercase().replace('_', "-");
    let scored = known.into_iter().map(|k| (strsim::damerau_levenshtein(&written, k), k));
    let limit = (written.chars().count() / 2).clamp(1, 4);
    scored.filter(|(distance, _)| *distance <= limit).min().map(|(_, k)| k)
}
