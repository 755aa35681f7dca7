//! What only macOS has.

use super::Resolver;
use crate::footprint::{BundleRules, Footprint, JsonText, SystemVersion};
use crate::manifest::written::TargetName;
use crate::targets::bundle;
use crate::targets::dmg::{self, Plan};
use std::collections::BTreeMap;

impl Resolver<'_> {
    /// Adds what only macOS has.
    pub(super) fn macos(&mut self, footprint: &mut Footprint) {
        footprint.bundle = self.bundle();
        footprint.install.minimum_macos = self.project.manifest.install.smallest_macos.as_ref().and_then(|written| {
            let small = |n: Option<u32>| n.is_none_or(|n| n <= 255);
            let fits =
                |v: &SystemVersion| v.minor.is_some() && [Some(v.major), v.minor, v.patch].into_iter().all(small);
            let version = written.parse().ok().filter(fits);
            if version.is_none() {
                let what = format!("{written:?} is no version of macOS");
                self.problem("install.smallest-macos", what, "", "smallest-macos = \"11.0\"");
            }
            version
        });
    }

    /// What the bundle says besides.
    fn bundle(&mut self) -> BundleRules {
        let written = &self.project.manifest.bundle;
        for (language, name) in &written.names {
            let is_fine = |c: char| c.is_ascii_alphanumeric() || c == '-';
            if !(2..=12).contains(&language.len()) || !language.chars().all(is_fine) {
                let what = format!("{language:?} is no code of a language");
                let why = "the system knows them as `de` or `pt-BR`";
                self.problem(&format!("bundle.names.{language}"), what, why, "names = { de = \"…\" }");
            } else if name.trim().is_empty() {
                let what = "a name has no letters".to_owned();
                self.problem(&format!("bundle.names.{language}"), what, "", "leave the language out");
            }
        }
        for key in written.keys.keys() {
            if let Some(from) = bundle::list::written_from(key) {
                let what = format!("the key {key} can't be given here");
                let why = format!("it is written from {from}");
                self.problem(&format!("bundle.keys.{key}"), what, &why, format!("{from}, and not bundle.keys.{key}"));
            }
        }
        let mut reasons = BTreeMap::new();
        for (reason, text) in written.reasons.given() {
            let key = reason.name();
            if text.trim().is_empty() {
                let what = format!("the reason for {key} is empty");
                let why = "the system shows it to people when it asks them";
                self.problem(&format!("bundle.reasons.{key}"), what, why, format!("{key} = \"To photograph frames\""));
            }
            reasons.insert(reason, text.clone());
        }
        // Whatever a manifest can say, JSON can.
        let json = |value| JsonText(serde_json::to_string(value).unwrap_or_default());
        BundleRules {
            agent: written.agent,
            copyright: written.copyright.clone(),
            reasons,
            names: written.names.clone(),
            keys: written.keys.iter().map(|(key, value)| (key.clone(), json(value))).collect(),
        }
    }

    /// A file that the window needs.
    fn beside(&mut self, key: &str, path: &str) -> Vec<u8> {
        crate::input::read(&self.project.folder.join(path)).unwrap_or_else(|e| {
            self.problem(key, format!("{path} can't be read"), &e.to_string(), "a file beside the manifest");
            Vec::new()
        })
    }

    /// The window of disk images, with the files that it names.
    pub(super) fn disk_image(&mut self) -> Plan {
        let written = &self.project.manifest.disk_image;
        let mut plan = Plan::of(written);
        let build = &self.project.manifest.targets.build;
        let builds = build.as_ref().is_none_or(|b| b.contains(&TargetName::Dmg));
        if builds {
            if written.window.is_none() {
                let size = format!("[{}, {}]", plan.size.0, plan.size.1);
                self.default("disk-image.window", &size, "room for two symbols and an arrow between them");
            }
            if written.background.is_none() {
                let what = "a drawing in the colour of the icon";
                self.default("disk-image.background", what, "no picture is named");
            }
        }
        let languages = self.project.manifest.wizard.languages.clone().unwrap_or_default();
        let language = languages.first().map_or("en", String::as_str);
        plan.word = written.word.clone().or_else(|| dmg::drag(language).map(str::to_owned)).filter(|w| !w.is_empty());
        if let Some(word) = plan.word.clone().filter(|_| written.background.is_none()) {
            let why_not = plan.word_has_no_room();
            match (&written.word, why_not) {
                (Some(_), Some(why)) => {
                    self.problem("disk-image.word", format!("the words {word:?} can't be drawn"), &why, "word = \"\"");
                }
                (None, Some(_)) => plan.word = None,
                (None, None) if builds => {
                    self.default("disk-image.word", &format!("{word:?}"), "in the first language of the wizard");
                }
                (_, None) => {}
            }
        }
        plan.background = written.background.as_ref().map(|path| self.beside("disk-image.background", path));
        for (n, file) in written.file.iter().enumerate() {
            let bytes = self.beside(&format!("disk-image.file.{n}.from"), &file.from);
            let name = file.from.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
            plan.files.push((name, bytes, (file.at[0], file.at[1])));
        }
        plan
    }
}
