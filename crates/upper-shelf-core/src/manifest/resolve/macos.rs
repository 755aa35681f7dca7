//! What only macOS has.

use super::Resolver;
use crate::footprint::{BundleRules, Footprint, JsonText, SystemVersion};

impl Resolver<'_> {
    /// Adds what only macOS has.
    pub(super) fn macos(&mut self, footprint: &mut Footprint) {
        footprint.bundle = self.bundle();
        footprint.install.minimum_macos = self.project.manifest.install.minimum_macos.as_ref().and_then(|written| {
            let small = |n: Option<u32>| n.is_none_or(|n| n <= 255);
            let fits =
                |v: &SystemVersion| v.minor.is_some() && [Some(v.major), v.minor, v.patch].into_iter().all(small);
            let version = written.parse().ok().filter(fits);
            if version.is_none() {
                let what = format!("{written:?} isn't a version of macOS");
                self.problem("install.minimum-macos", what, "", "minimum-macos = \"11.0\"");
            }
            version
        });
    }

    /// What the bundle says besides.
    fn bundle(&mut self) -> BundleRules {
        let written = &self.project.manifest.bundle;
        for (language, name) in &written.names {
            self.one_line(&format!("bundle.names.{language}"), name);
            let is_fine = |c: char| c.is_ascii_alphanumeric() || c == '-';
            if !(2..=12).contains(&language.len()) || !language.chars().all(is_fine) {
                let what = format!("{language:?} isn't a language code");
                let why = "the system knows them as `de` or `pt-BR`";
                self.problem(&format!("bundle.names.{language}.#key"), what, why, "names = { de = \"…\" }");
            } else if name.trim().is_empty() {
                let what = "the name is empty".to_owned();
                self.problem(&format!("bundle.names.{language}"), what, "", "leave the language out");
            }
        }
        // Whatever a manifest can say, JSON can.
        let json = |value| JsonText(serde_json::to_string(value).unwrap_or_default());
        BundleRules {
            agent: written.agent,
            copyright: written.copyright.clone(),
            names: written.names.clone(),
            keys: written.keys.iter().map(|(key, value)| (key.clone(), json(value))).collect(),
        }
    }
}
