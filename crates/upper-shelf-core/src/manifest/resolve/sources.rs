//! What layers are made of and what lies elsewhere.

use super::{Resolver, written};
use crate::problem::{Code, nearest};
use crate::settings::{Origin, Source};

impl Resolver<'_> {
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
