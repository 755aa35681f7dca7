//! Programs, shortcuts, file types, link schemes and variables of the manifest.

use super::Resolver;
use super::runtimes::Started;
use crate::footprint::{
    FileType, Footprint, LinkScheme, List, Place, Program, RelPath, Shortcut, Text, Variable, WorkingFolder,
};
use crate::problem::{Code, nearest};

/// The programs' keys: those that are there on this platform, and all.
#[derive(Clone, Copy)]
pub(super) struct Keys<'k> {
    pub here: &'k [&'k str],
    pub all: &'k [&'k str],
}

/// The same, held.
pub(super) struct OwnedKeys<'p> {
    pub here: Vec<&'p str>,
    pub all: Vec<&'p str>,
}

impl<'p> Resolver<'p> {
    /// What every system has.
    pub(super) fn common(&mut self, footprint: &mut Footprint) {
        footprint.programs = self.programs();
        let keys = self.keys(&footprint.programs);
        let keys = Keys { here: &keys.here, all: &keys.all };
        footprint.shortcuts = self.shortcuts(keys, &footprint.programs, footprint.product.summary.as_ref());
        footprint.file_types = self.file_types(keys);
        footprint.link_schemes = self.link_schemes(keys);
        footprint.environment = self.variables();
    }

    /// The programs' keys, in the order of the manifest.
    pub(super) fn keys(&self, programs: &List<Program>) -> OwnedKeys<'p> {
        let all: Vec<&'p str> = self.project.manifest.program.iter().map(|p| p.key.as_str()).collect();
        let here = all.iter().copied().filter(|key| programs.iter().any(|p| p.key == *key)).collect();
        OwnedKeys { here, all }
    }

    fn programs(&mut self) -> List<Program> {
        let before = self.problems.len();
        let programs = self.programs_of_manifest();
        self.programs_are_wrong = self.problems.len() > before;
        programs
    }

    fn programs_of_manifest(&mut self) -> List<Program> {
        let m = &self.project.manifest;
        let mut keys: Vec<&str> = Vec::new();
        let mut programs = Vec::new();
        for (n, program) in m.program.iter().enumerate() {
            let at = format!("program.{n}");
            let key_char = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
            if program.key.is_empty() || !program.key.chars().all(key_char) {
                let why = "keys consist of lower-case letters, digits and hyphens";
                self.problem(&format!("{at}.key"), format!("{:?} can't be a key", program.key), why, "key = \"app\"");
            }
            if !self.applies(&program.platforms) {
                continue;
            }
            if keys.contains(&program.key.as_str()) {
                let what = format!("two programs have the key {:?}", program.key);
                self.problem_of(Code::Duplicate, &format!("{at}.key"), what, "", "a different key for one of them");
                continue;
            }
            let Some(Started { file, mut arguments, mut unset, mut environment }) = self.started(&at, program) else {
                continue;
            };
            keys.push(&program.key);
            if let Some(folder) = &program.working_folder {
                self.one_line(&format!("{at}.working-folder"), folder);
            }
            let working_folder = match program.working_folder.as_deref() {
                None | Some("unchanged") => WorkingFolder::Unchanged,
                Some("home") => WorkingFolder::Home,
                Some("install" | ".") => WorkingFolder::Install,
                Some(other) => match RelPath::new(other) {
                    Ok(path) => WorkingFolder::Inside(path),
                    Err(why) => {
                        let what = format!("the working folder {other:?} {why}");
                        self.problem(
                            &format!("{at}.working-folder"),
                            what,
                            "",
                            "`unchanged`, `home`, `install`, or a folder in the payload",
                        );
                        WorkingFolder::Unchanged
                    }
                },
            };
            for (name, value) in &program.environment {
                self.one_line(&format!("{at}.environment.{name}"), value);
                self.variable_name(&format!("{at}.environment.{name}.#key"), name);
            }
            for (n, name) in program.unset.iter().enumerate() {
                self.variable_name(&format!("{at}.unset.{n}"), name);
            }
            for (n, argument) in program.arguments.iter().enumerate() {
                self.one_line(&format!("{at}.arguments.{n}"), argument);
            }
            arguments.extend(program.arguments.iter().cloned());
            unset.extend(program.unset.iter().cloned());
            // What the manifest sets is meant.
            environment.extend(program.environment.clone());
            unset.retain(|name| !environment.contains_key(name));
            let program = Program {
                key: program.key.clone(),
                file,
                arguments,
                environment,
                unset,
                working_folder,
                console: program.console,
            };
            programs.push((program, at));
        }
        self.list(programs)
    }

    fn shortcuts(&mut self, keys: Keys, programs: &List<Program>, summary: Option<&Text>) -> List<Shortcut> {
        let summary = summary.cloned();
        let m = &self.project.manifest;
        let mut shortcuts = Vec::new();
        for (n, shortcut) in m.shortcut.iter().flatten().enumerate() {
            if !self.applies(&shortcut.platforms)
                || !self.known(&format!("shortcut.{n}.program"), &shortcut.program, keys)
            {
                continue;
            }
            let name = match &shortcut.name {
                Some(name) => self.text(&format!("shortcut.{n}.name"), name),
                None => {
                    self.default(&format!("shortcut {} · name", n + 1), &m.product.name, "the product's name");
                    m.product.name.clone().into()
                }
            };
            let description = match &shortcut.description {
                Some(description) => Some(self.text(&format!("shortcut.{n}.description"), description)),
                None => summary.clone(),
            };
            for (i, text) in shortcut.arguments.iter().enumerate() {
                self.one_line(&format!("shortcut.{n}.arguments.{i}"), text);
            }
            let places = shortcut.places.clone().unwrap_or_else(|| {
                self.default(&format!("shortcut {} · places", n + 1), "menu", "the desktop belongs to the user");
                vec![Place::Menu]
            });
            for place in places {
                let item = Shortcut {
                    place,
                    name: name.clone(),
                    program: shortcut.program.clone(),
                    arguments: shortcut.arguments.clone(),
                    description: description.clone(),
                };
                shortcuts.push((item, format!("shortcut.{n}")));
            }
        }
        let windowed = programs.iter().any(|p| !p.console);
        match keys.here.first() {
            Some(first) if m.shortcut.is_none() && windowed => {
                let value = format!("{first} in the menu, as “{}”", m.product.name);
                self.default("shortcut", &value, "users look for programs there");
                let item = Shortcut {
                    place: Place::Menu,
                    name: m.product.name.clone().into(),
                    program: (*first).to_owned(),
                    arguments: Vec::new(),
                    description: summary.clone(),
                };
                shortcuts.push((item, "product.name".into()));
            }
            Some(_) if m.shortcut.is_none() => self.default("shortcut", "none", "all programs are for a terminal"),
            Some(_) | None => {}
        }
        self.list(shortcuts)
    }

    fn file_types(&mut self, keys: Keys) -> List<FileType> {
        let m = &self.project.manifest;
        let mut types = Vec::new();
        for (n, kind) in m.file_type.iter().enumerate() {
            if !self.applies(&kind.platforms) || !self.known(&format!("file-type.{n}.program"), &kind.program, keys) {
                continue;
            }
            let mut extensions = Vec::new();
            for (i, extension) in kind.extensions.iter().enumerate() {
                let plain = extension.trim_start_matches("*.").trim_start_matches('.');
                if plain.is_empty() || !plain.chars().all(|c| c.is_alphanumeric() || "-_+.".contains(c)) {
                    let at = format!("file-type.{n}.extensions.{i}");
                    self.problem(
                        &at,
                        format!("{extension:?} can't be a file extension"),
                        "",
                        "letters and digits, such as \"comb\"",
                    );
                    continue;
                }
                extensions.push(plain.to_owned());
            }
            let Some(first) = extensions.first() else {
                self.problem_of(
                    Code::MissingKey,
                    &format!("file-type.{n}.extensions"),
                    "the file type has no extension".into(),
                    "",
                    "extensions = [\"comb\"]",
                );
                continue;
            };
            let mime = kind.mime.clone().unwrap_or_else(|| {
                let made = format!("application/x-{}-{}", m.product.id.rsplit('.').next().unwrap_or("x"), first)
                    .to_lowercase();
                self.default(
                    &format!("file-type {} · mime", n + 1),
                    &made,
                    "made from the product's id and the extension",
                );
                made
            });
            let mime_part =
                |p: &str| !p.is_empty() && p.chars().all(|c| c.is_ascii_alphanumeric() || "!#$&-^_.+".contains(c));
            if mime.split_once('/').is_none_or(|(a, b)| !mime_part(a) || !mime_part(b)) {
                self.problem(
                    &format!("file-type.{n}.mime"),
                    format!("{mime:?} isn't a media type"),
                    "",
                    "application/vnd.example.name",
                );
                continue;
            }
            let (name, program) = (self.text(&format!("file-type.{n}.name"), &kind.name), kind.program.clone());
            types.push((FileType { mime, extensions, name, program }, format!("file-type.{n}")));
        }
        self.list(types)
    }

    fn link_schemes(&mut self, keys: Keys) -> List<LinkScheme> {
        let m = &self.project.manifest;
        let mut links = Vec::new();
        for (n, link) in m.link_scheme.iter().enumerate() {
            if !self.applies(&link.platforms) || !self.known(&format!("link-scheme.{n}.program"), &link.program, keys) {
                continue;
            }
            let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "+-.".contains(c);
            if !link.scheme.starts_with(|c: char| c.is_ascii_lowercase()) || !link.scheme.chars().all(good) {
                let plain = link.scheme.trim_end_matches("://").trim_end_matches(':').to_lowercase();
                let what = format!("{:?} can't be a link scheme", link.scheme);
                self.problem(
                    &format!("link-scheme.{n}.scheme"),
                    what,
                    "it is the part before the colon",
                    format!("{plain:?}"),
                );
                continue;
            }
            let item = LinkScheme { scheme: link.scheme.clone(), program: link.program.clone() };
            links.push((item, format!("link-scheme.{n}")));
        }
        self.list(links)
    }

    fn variables(&mut self) -> List<Variable> {
        let m = &self.project.manifest;
        let mut variables = Vec::new();
        for (n, variable) in m.environment.iter().enumerate() {
            if !self.applies(&variable.platforms) {
                continue;
            }
            let Some(value) = self.select(&variable.value) else { continue };
            self.variable_name(&format!("environment.{n}.name"), &variable.name);
            self.one_line(&format!("environment.{n}.value"), &value);
            let item = Variable { name: variable.name.clone(), action: variable.action, value };
            variables.push((item, format!("environment.{n}")));
        }
        self.list(variables)
    }

    pub(super) fn known(&mut self, at: &str, key: &str, keys: Keys) -> bool {
        if keys.here.contains(&key) {
            return true;
        }
        // Nothing new is said of a program that is wrong itself.
        if self.programs_are_wrong {
            return false;
        }
        if keys.all.contains(&key) {
            let what = format!("the program {key:?} doesn't exist");
            self.problem_of(
                Code::UnknownProgram,
                at,
                what,
                "its `platforms` or its `file` exclude it",
                "limit this table with `platforms`, too",
            );
        } else {
            let near = nearest(key, keys.all.iter().copied());
            let instead = near.map_or_else(|| "add a [[program]] with this key".to_owned(), |n| format!("{n:?}"));
            self.problem_of(Code::UnknownProgram, at, format!("no program has the key {key:?}"), "", instead);
        }
        false
    }

    fn variable_name(&mut self, at: &str, name: &str) {
        let good = |c: char| c.is_ascii_alphanumeric() || c == '_';
        if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) || !name.chars().all(good) {
            self.problem(at, format!("{name:?} can't be a variable's name"), "", "letters, digits and _ only");
        }
    }

    pub(super) fn one_line(&mut self, at: &str, text: &str) {
        if text.chars().any(char::is_control) {
            self.problem(at, format!("{text:?} has a line break or control character"), "", "one line of text");
        }
    }
}
