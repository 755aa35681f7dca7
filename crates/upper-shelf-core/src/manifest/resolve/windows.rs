//! What only Windows knows: registry values, services, fonts, choices, and the rules for installing.

use super::Resolver;
use super::common::Keys;
use crate::footprint::{
    Choice, Downgrade, Font, Footprint, InstallRules, List, RegistryEntry, RegistryValue, RelPath, Scope, Service,
    Text, Upgrade,
};
use crate::guid::is_guid;
use crate::languages::language_numbers;
use crate::manifest::written::{self, WizardPage};
use crate::problem::{Code, nearest};
use crate::wizard::{Language, WORDS, Wizard, color};
use std::collections::BTreeSet;

impl Resolver<'_> {
    /// Adds what only Windows has.
    pub(super) fn windows(&mut self, footprint: &mut Footprint) {
        let keys = self.keys(&footprint.programs);
        let keys = Keys { here: &keys.here, all: &keys.all };
        footprint.registry = self.registry();
        footprint.services = self.services(keys);
        footprint.fonts = self.fonts();
        footprint.choices = self.choices();
        footprint.install = self.rules(keys);
    }

    fn registry(&mut self) -> List<RegistryEntry> {
        let m = &self.project.manifest;
        let mut entries = Vec::new();
        for (n, value) in m.registry.iter().enumerate() {
            if !self.applies(&value.platforms) {
                continue;
            }
            let at = format!("registry.{n}.key");
            self.one_line(&at, &value.key);
            if let Some(name) = &value.name {
                self.one_line(&format!("registry.{n}.name"), name);
            }
            if value.key.is_empty() || value.key.starts_with('\\') || value.key.ends_with('\\') {
                let what = format!("{:?} can't be a registry key", value.key);
                self.problem(
                    &at,
                    what,
                    "keys begin and end with a name, not with a backslash",
                    r"key = 'Software\Fernhollow\Combwright'",
                );
            }
            let at = format!("registry.{n}.value");
            let Some(data) = value.value.value() else {
                self.problem(
                    &at,
                    "a registry value has exactly one type".into(),
                    "",
                    "value = { text = \"…\" }, or one of expandable, number, bytes, list",
                );
                continue;
            };
            if let RegistryValue::Bytes(hex) = &data
                && (hex.len() % 2 != 0 || !hex.chars().all(|c| c.is_ascii_hexdigit()))
            {
                self.problem(
                    &at,
                    format!("{hex:?} isn't a sequence of bytes"),
                    "each byte is two hexadecimal digits",
                    "\"00ff\"",
                );
            }
            let (root, view) = (value.root, value.view);
            let name = value.name.clone().filter(|n| !n.is_empty());
            let item = RegistryEntry { root, view, key: value.key.clone(), name, value: data };
            entries.push((item, format!("registry.{n}")));
        }
        self.list(entries)
    }

    fn services(&mut self, keys: Keys) -> List<Service> {
        let m = &self.project.manifest;
        let mut services = Vec::new();
        for (n, service) in m.service.iter().enumerate() {
            if !self.applies(&service.platforms) || !self.known(&format!("service.{n}.program"), &service.program, keys)
            {
                continue;
            }
            let bad = |c: char| c.is_control() || c.is_whitespace() || "/\\".contains(c);
            if service.name.is_empty() || service.name.len() > 80 || service.name.contains(bad) {
                let at = format!("service.{n}.name");
                let what = format!("{:?} can't be a service's name", service.name);
                self.problem(
                    &at,
                    what,
                    "names have up to 80 characters, without spaces or slashes",
                    "name = \"HiveScale\"",
                );
            }
            let item = Service {
                name: service.name.clone(),
                title: service.title.clone().unwrap_or_else(|| service.name.clone()),
                description: service.description.clone(),
                program: service.program.clone(),
                arguments: service.arguments.clone(),
                start: service.start,
                account: service.account.clone(),
            };
            services.push((item, format!("service.{n}")));
        }
        self.list(services)
    }

    fn fonts(&mut self) -> List<Font> {
        let m = &self.project.manifest;
        let mut fonts = Vec::new();
        for (n, font) in m.font.iter().enumerate() {
            if !self.applies(&font.platforms) {
                continue;
            }
            self.one_line(&format!("font.{n}.title"), &font.title);
            match RelPath::new(font.file.replace('\\', "/")) {
                Ok(file) => fonts.push((Font { file, title: font.title.clone() }, format!("font.{n}"))),
                Err(why) => {
                    let what = format!("the font's file {:?} {why}", font.file);
                    self.problem(
                        &format!("font.{n}.file"),
                        what,
                        "it is a path inside the payload",
                        "file = \"fonts/a.ttf\"",
                    );
                }
            }
        }
        self.list(fonts)
    }

    fn choices(&mut self) -> List<Choice> {
        let m = &self.project.manifest;
        let mut choices = Vec::new();
        for (n, choice) in m.choice.iter().enumerate() {
            if !self.applies(&choice.platforms) {
                continue;
            }
            let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
            let named = choice.key.starts_with(|c: char| c.is_ascii_lowercase()) && choice.key.len() <= 30;
            if !named || !choice.key.chars().all(good) {
                let why = "keys consist of up to 30 lower-case letters, digits and hyphens";
                self.problem(
                    &format!("choice.{n}.key"),
                    format!("{:?} can't be a key", choice.key),
                    why,
                    "key = \"samples\"",
                );
            }
            let title = self.text(&format!("choice.{n}.title"), &choice.title);
            let description = choice.description.as_ref().map(|d| self.text(&format!("choice.{n}.description"), d));
            let key = choice.key.clone();
            let item = Choice { key, title, description, chosen: choice.chosen, files: Vec::new() };
            choices.push((item, format!("choice.{n}")));
        }
        self.list(choices)
    }

    /// The wizard, with all of its words.
    pub(super) fn wizard(&mut self) -> Wizard {
        let written = &self.project.manifest.wizard;
        let license = written.license.as_ref().and_then(|files| self.license(files));
        let mut wizard = Wizard { license, ..Wizard::default() };
        match written.accent.as_deref().map(|text| (text, color(text))) {
            None => {}
            Some((_, Some(accent))) => wizard.accent = accent,
            Some((text, None)) => {
                self.problem("wizard.accent", format!("{text:?} isn't a colour"), "", "accent = \"#e8a028\"");
            }
        }
        let codes = written.languages.clone().unwrap_or_else(|| {
            self.default("wizard.languages", "en, de", "these are built in; the language of the system is used");
            vec!["en".into(), "de".into()]
        });
        let mut languages = Vec::new();
        for (n, code) in codes.iter().enumerate() {
            let at = format!("wizard.languages.{n}");
            if language_numbers(code).is_empty() {
                self.problem(&at, format!("{code:?} isn't a known language"), "", "a two-letter code, such as \"de\"");
                continue;
            }
            for (key, words) in written.words.get(code).into_iter().flatten() {
                // A page may have several lines.
                self.one_line(&format!("wizard.words.{code}.{key}"), &words.replace('\n', " "));
            }
            match Language::new(code, written.words.get(code).unwrap_or(&Default::default())) {
                Ok(language) => languages.push(language),
                Err((missing, strange)) => {
                    if !missing.is_empty() {
                        let more = missing.len().saturating_sub(3);
                        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                        let first: Vec<&str> = missing.iter().copied().take(3).collect();
                        let what = format!("the language {code:?} has no words for {}{more}", first.join(", "));
                        let instead = format!("[wizard.words.{code}]\n{} = \"…\"", missing[0]);
                        self.problem(&at, what, "only en and de are built in", instead);
                    }
                    for key in strange {
                        let near = nearest(&key, WORDS.iter().map(|w| w.0));
                        let instead =
                            near.map_or_else(|| "one of the wizard's words".to_owned(), |n| format!("{n} = \"…\""));
                        self.problem(
                            &format!("wizard.words.{code}.{key}.#key"),
                            format!("{key:?} isn't one of the wizard's words"),
                            "",
                            instead,
                        );
                    }
                }
            }
        }
        if !languages.is_empty() {
            wizard.languages = languages;
        }
        wizard.left_out = self.pages_left_out();
        wizard
    }

    /// The licence's text, read from the file of each language.
    fn license(&mut self, written: &written::Text) -> Option<Text> {
        let files = self.text("wizard.license", written);
        let mut read = |path: &str| {
            let own = match written {
                written::Text::Same(_) => None,
                written::Text::Each(each) => each.iter().find(|(_, file)| *file == path),
            };
            let at = own.map_or("wizard.license".to_owned(), |(language, _)| format!("wizard.license.{language}"));
            crate::input::read_text(&self.project.folder.join(path))
                .map_err(|e| {
                    let what = format!("the licence {path} can't be read");
                    let instead = "a text file beside the manifest, in UTF-8";
                    self.problem_of(Code::Unreadable, &at, what, &e.to_string(), instead);
                })
                .ok()
        };
        let plain = if files.is_empty() { None } else { read(&files) };
        let others = files.others().iter().filter_map(|(language, file)| Some((language.clone(), read(file)?)));
        let others = others.collect();
        plain.map(|plain| Text::several(plain, others))
    }

    /// The pages of the wizard that the manifest does not list.
    fn pages_left_out(&mut self) -> Vec<&'static str> {
        let m = &self.project.manifest;
        let Some(pages) = &m.wizard.pages else { return Vec::new() };
        let has = |page| pages.contains(&page);
        let wrong = if pages.is_empty() {
            Some(("a wizard needs at least one page", "pages = [\"start\"]"))
        } else if has(WizardPage::License) && m.wizard.license.is_none() {
            Some(("the page `license` has no licence to show", "license = \"LICENSE.txt\""))
        } else if has(WizardPage::Choices) && m.choice.is_empty() {
            Some(("the page `choices` has no choices to show", "[[choice]]"))
        } else {
            None
        };
        if let Some((what, instead)) = wrong {
            self.problem("wizard.pages", what.to_owned(), "", instead);
        }
        let all = [
            (WizardPage::Start, "Start"),
            (WizardPage::License, "License"),
            (WizardPage::Folder, "Folder"),
            (WizardPage::Choices, "Choices"),
        ];
        all.into_iter().filter(|(page, _)| !has(*page)).map(|(_, name)| name).collect()
    }

    fn rules(&mut self, keys: Keys) -> InstallRules {
        let m = &self.project.manifest;
        let install = &m.install;
        let scope = install.scope.unwrap_or_else(|| {
            self.default("install.scope", "machine", "administrators deploy programs for all users");
            Scope::default()
        });
        let folder = install.folder.clone().unwrap_or_else(|| {
            let plain: String =
                m.product.name.chars().filter(|c| !"<>:\"/\\|?*".contains(*c) && !c.is_control()).collect();
            let plain = plain.trim().trim_end_matches('.').to_owned();
            self.default("install.folder", &plain, "the product's name");
            plain
        });
        let names: Vec<&str> = folder.split(['/', '\\']).collect();
        let bad = |name: &&str| {
            name.is_empty()
                || name.ends_with(['.', ' '])
                || name.contains(|c: char| "<>:\"|?*".contains(c) || c.is_control())
        };
        if names.iter().any(bad) || names.len() > 4 {
            let what = format!("{folder:?} can't be a folder below the programs folder");
            let why = "up to four names, each without < > : \" | ? *";
            self.problem("install.folder", what, why, "folder = \"Combwright\"");
        }
        let minimum_windows = install.minimum_windows.as_ref().and_then(|written| {
            let version = written.parse().ok().filter(|v: &crate::footprint::SystemVersion| v.minor.is_some());
            if version.is_none() {
                let what = format!("{written:?} isn't a version of Windows");
                self.problem("install.minimum-windows", what, "", "minimum-windows = \"10.0.17763\"");
            }
            version
        });
        let downgrade = install.downgrade.unwrap_or_else(|| {
            let why = "older versions can rarely read what newer ones have written";
            self.default("install.downgrade", "blocked", why);
            Downgrade::default()
        });
        let upgrade_code = m.target.msi.upgrade_code.as_ref().map(|code| {
            // Braces stand for variables in a manifest, so the code is written without.
            let upper = format!("{{{}}}", code.trim_matches(['{', '}']).to_uppercase());
            if !is_guid(&upper) {
                let what = format!("{code:?} can't be an upgrade code");
                let good = "upgrade-code = \"01234567-89AB-CDEF-0123-456789ABCDEF\"";
                self.problem("target.msi.upgrade-code", what, "it is a GUID, written without braces", good);
            }
            upper
        });
        let upgrade = install.upgrade.unwrap_or_else(|| {
            self.default("install.upgrade", "early", "nothing of the old version is left behind");
            Upgrade::default()
        });
        let start_at_end = install.start_at_end.clone().filter(|key| self.known("install.start-at-end", key, keys));
        InstallRules {
            scope: Some(scope),
            folder: Some(names.join("/")),
            minimum_windows,
            minimum_macos: None,
            downgrade: Some(downgrade),
            upgrade: Some(upgrade),
            upgrade_code,
            start_at_end,
            // They are known with the payload.
            keep_changed: BTreeSet::new(),
        }
    }
}
