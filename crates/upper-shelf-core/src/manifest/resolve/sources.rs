//! What layers are made of and what lies elsewhere.

use super::{Resolver, written};
use crate::footprint::RelPath;
use crate::problem::{Code, nearest};
use crate::settings::{Origin, Source};
use std::path::PathBuf;

/// Where files come from and go to.
pub(super) struct Placed {
    pub source: Option<crate::settings::Source>,
    pub from: PathBuf,
    pub into: Option<RelPath>,
    pub label: String,
}

impl Resolver<'_> {
    /// Where files come from and go to, as a table `kind` says that stands at `at`: a source, a folder, and one in the payload.
    pub(super) fn placed(
        &mut self,
        at: &str,
        kind: &str,
        written: (Option<&str>, Option<&written::PerPlatform<String>>, Option<&written::PerPlatform<String>>),
    ) -> Option<Placed> {
        let (source, from, into) = written;
        let source = match source {
            None => None,
            Some(key) => Some(self.source(at, key)?),
        };
        let from = match (from, &source) {
            (Some(from), _) => self.select(from)?,
            (None, Some(_)) => String::new(),
            (None, None) => {
                let what = format!("a [[{kind}]] names no files");
                let instead = "from = \"a folder\", or source = \"the key of a [[source]]\"";
                self.problem_of(Code::MissingKey, at, what, "", instead);
                return None;
            }
        };
        self.one_line(&format!("{at}.from"), &from);
        if source.is_some() && !from.is_empty() && RelPath::new(from.trim_end_matches('/')).is_err() {
            let what = format!("{from:?} is no folder in a source");
            let why = "it must lie inside of what the source is unpacked to";
            self.problem(&format!("{at}.from"), what, why, "from = \"lib\"");
            return None;
        }
        let into = into.and_then(|into| self.select(into)).and_then(|into| {
            let at = format!("{at}.into");
            match RelPath::new(into.trim_end_matches('/')) {
                Ok(path) => {
                    self.one_line(&at, &into);
                    Some(path)
                }
                Err(why) => {
                    let what = format!("the folder {into:?} {why}");
                    self.problem(&at, what, "it must lie inside the payload", "into = \"share/art\"");
                    None
                }
            }
        });
        let label = match &source {
            Some(source) if from.is_empty() => source.key.clone(),
            Some(source) => format!("{}/{from}", source.key),
            None => from.clone(),
        };
        let from = if source.is_some() { (&from).into() } else { self.project.folder.join(&from) };
        Some(Placed { source, from, into, label })
    }

    /// The source that a table names, which stands at `at`.
    pub(super) fn source(&mut self, at: &str, key: &str) -> Option<Source> {
        let project = self.project;
        let Some((n, written)) = project.manifest.source.iter().enumerate().find(|(_, source)| source.key == key)
        else {
            let keys = project.manifest.source.iter().map(|source| source.key.as_str());
            let instead = match nearest(key, keys) {
                Some(near) => format!("source = {near:?}"),
                None => format!("[[source]]\nkey = {key:?}"),
            };
            self.problem_of(
                Code::UnknownSource,
                &format!("{at}.source"),
                format!("there is no source {key:?}"),
                "",
                instead,
            );
            return None;
        };
        if let Some(twin) = project.manifest.source.iter().skip(n + 1).position(|source| source.key == key) {
            let what = format!("two sources have the key {key:?}");
            self.problem_of(Code::Duplicate, &format!("source.{}.key", n + 1 + twin), what, "", "another key");
            return None;
        }
        let at = |name: &str| format!("source.{n}.{name}");
        let chosen = |value: &Option<written::PerPlatform<String>>| value.as_ref().and_then(|value| self.select(value));
        let (url, file, sha256) = (chosen(&written.url), chosen(&written.file), chosen(&written.sha256));
        let digits = sha256.map(|text| text.to_lowercase());
        let is_digest = |text: &String| text.len() == 64 && text.bytes().all(|b| b.is_ascii_hexdigit());
        if let Some(wrong) = digits.as_ref().filter(|text| !is_digest(text)) {
            let what = format!("{wrong:?} is not a SHA-256");
            self.problem(&at("sha256"), what, "it has 64 hexadecimal digits", "what `sha256sum FILE` prints");
            return None;
        }
        let origin = match (url, file) {
            (Some(url), None) => {
                if !["https://", "http://", "file://"].iter().any(|scheme| url.starts_with(scheme)) {
                    let what = format!("{url:?} is not an address of a file");
                    self.problem(&at("url"), what, "", "\"https://…\"; or file = \"…\" for a file on this machine");
                    return None;
                }
                if digits.is_none() {
                    let what = format!("the source {key:?} has no SHA-256 for {}", self.platform);
                    let why = "what is fetched is used only if it is the very file that is meant";
                    self.problem_of(Code::MissingKey, &at("url"), what, why, "sha256 = \"…\"");
                    return None;
                }
                Origin::Address(url)
            }
            (None, Some(file)) => Origin::File(project.folder.join(file)),
            (Some(_), Some(_)) => {
                let what = format!("the source {key:?} has two origins");
                self.problem(&at("file"), what, "`url` is the other one", "one of the two");
                return None;
            }
            (None, None) => {
                let what = format!("the source {key:?} names no file and no address for {}", self.platform);
                let instead = "url = \"https://…\", or file = \"…\"";
                self.problem_of(Code::MissingKey, &at("key"), what, "", instead);
                return None;
            }
        };
        Some(Source { key: key.to_owned(), origin, sha256: digits, setting: format!("source.{n}") })
    }
}
