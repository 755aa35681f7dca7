//! The instructions of a setup program, laid out from a footprint: the same ones that its head runs and that are read
//! back.

use super::rules;
use crate::footprint::{
    Choice, EnvironmentAction, FileType, Font, Footprint, InstallRules, LinkScheme, Node, Place, RegistryEntry,
    RegistryRoot, RegistryValue, RegistryView, RelPath, Service, ServiceStart, Shortcut, Variable, WorkingFolder,
};
use crate::languages::language_numbers;
use crate::problem::Failure;
use crate::settings::{SettingsPlace, SetupCompression};
use crate::signing::Signer;
use crate::targets::{Job, order};
use crate::wizard::{Action, FILES_IN_USE, Kind, Page, WORDS, Wizard, pages, removal};
use nsis_archive::Result;
use nsis_archive::custom::{Custom, kind};
use nsis_archive::header::{Header, TextBuilder};
use nsis_archive::read::INSTALL;
use nsis_archive::seal;
use nsis_archive::structs::{ALIGNMENT, UNINSTALLER, op};
use nsis_archive::write::{Offsets, Options, block};
use std::collections::HashMap;

/// The words of a choice's title and of its description, which the head looks for.
pub fn title_word(choice: &str) -> String {
    format!("choice:{choice}")
}
pub fn about_word(choice: &str) -> String {
    format!("about:{choice}")
}

/// The program that removes the product, and the record of what is installed.
pub const UNINSTALL_PROGRAM: &str = "uninstall.exe";
pub const RECORD: &str = "uninstall.dat";

/// Instructions under way.
pub struct Program {
    texts: TextBuilder,
    entries: Vec<[i32; 7]>,
}

impl Program {
    fn new() -> Self {
        Self { texts: TextBuilder::new(INSTALL), entries: Vec::new() }
    }

    fn custom(&mut self, kind: u16, numbers: Vec<i32>) {
        Custom { kind, numbers }.put(&mut self.entries);
    }

    /// A text in which every letter means itself: a name.
    fn text(&mut self, text: &str) -> i32 {
        self.texts.add_plain(text)
    }

    /// A text in which `{install}` stands for the product's folder.
    fn template(&mut self, text: &str) -> i32 {
        self.texts.add(text)
    }

    /// A path in the product's folder.
    fn inside(&mut self, path: Option<&RelPath>) -> i32 {
        self.texts.add_inside(&path.map_or(String::new(), |p| p.as_str().replace('/', "\\")))
    }

    fn maybe(&mut self, text: Option<&str>) -> i32 {
        text.map_or(-1, |t| self.text(t))
    }

    fn list(&mut self, texts: &[String], mut numbers: Vec<i32>) -> Vec<i32> {
        numbers.push(texts.len() as i32);
        numbers.extend(texts.iter().map(|t| self.text(t)));
        numbers
    }

    /// A list of texts in which `{install}` stands for the product's folder.
    fn templates(&mut self, texts: &[String], mut numbers: Vec<i32>) -> Vec<i32> {
        numbers.push(texts.len() as i32);
        numbers.extend(texts.iter().map(|t| self.template(t)));
        numbers
    }

    fn identity(&mut self, footprint: &Footprint) {
        let p = &footprint.product;
        let (summary, texts) =
            (p.summary.as_deref(), [&p.id, &p.name, &p.version, &p.publisher, &p.homepage, &p.support]);
        let [id, name, version, publisher, homepage, support] = texts.map(|t| t.as_deref());
        let all = [id, name, version, publisher, summary, homepage, support];
        let numbers = all.into_iter().map(|t| self.maybe(t)).collect();
        self.custom(kind::PRODUCT, numbers);
    }

    /// Everything but files, which come in the order of their stream.
    fn footprint(&mut self, footprint: &Footprint) {
        let Footprint {
            product: _,
            // The head is the one for it.
            platform: _,
            tree,
            programs,
            shortcuts,
            file_types,
            link_schemes,
            environment,
            registry,
            services,
            fonts,
            commands: _,
            shell_files: _,
            permissions: _,
            choices,
            icons: _,
            install,
            bundle: _,
            foreign: _,
        } = footprint;
        tree.iter().for_each(|node| self.node(node));
        programs.iter().for_each(|program| self.program(program));
        shortcuts.iter().for_each(|shortcut| self.shortcut(shortcut));
        for FileType { mime, extensions, name, program } in file_types {
            let numbers = vec![self.text(mime), self.text(name), self.text(program)];
            let numbers = self.list(extensions, numbers);
            self.custom(kind::FILE_TYPE, numbers);
        }
        for LinkScheme { scheme, program } in link_schemes {
            let numbers = vec![self.text(scheme), self.text(program)];
            self.custom(kind::LINK_SCHEME, numbers);
        }
        for Variable { name, action, value } in environment {
            let action = match action {
                EnvironmentAction::Set => 0,
                EnvironmentAction::Prepend => 1,
                EnvironmentAction::Append => 2,
            };
            let numbers = vec![self.text(name), action, self.template(value)];
            self.custom(kind::ENVIRONMENT, numbers);
        }
        registry.iter().for_each(|entry| self.registry(entry));
        services.iter().for_each(|service| self.service(service));
        for Font { file, title } in fonts {
            let numbers = vec![self.inside(Some(file)), self.text(title)];
            self.custom(kind::FONT, numbers);
        }
        // Their files are marked where they are packed.
        for Choice { key, title, description, chosen, files: _ } in choices {
            let (key, title) = (self.text(key), self.text(title));
            let numbers = vec![key, title, self.maybe(description.as_deref()), i32::from(*chosen)];
            self.custom(kind::CHOICE, numbers);
        }
        self.rules(install);
    }

    fn rules(&mut self, install: &InstallRules) {
        for (name, value) in rules::write(install) {
            let numbers = vec![self.text(name), self.text(&value)];
            self.custom(kind::RULE, numbers);
        }
    }

    fn node(&mut self, node: &Node) {
        match node {
            Node::HardLink { path, to } => {
                let numbers = vec![self.inside(Some(path)), self.inside(Some(to))];
                self.custom(kind::HARD_LINK, numbers);
            }
            Node::Folder { path, .. } => {
                let at = self.inside(Some(path));
                self.entries.push([op::FOLDER, at, 0, 0, 0, 0, 0]);
            }
            // Symbolic links are not carried.
            Node::File { .. } | Node::Link { .. } => {}
        }
    }

    fn program(&mut self, program: &crate::footprint::Program) {
        let crate::footprint::Program { key, file, arguments, working_folder, console, .. } = program;
        let (working, path) = match working_folder {
            WorkingFolder::Unchanged => (0, self.text("")),
            WorkingFolder::Home => (1, self.text("")),
            WorkingFolder::Install => (2, self.text("")),
            WorkingFolder::Inside(path) => (3, self.inside(Some(path))),
        };
        let (key, file) = (self.text(key), self.inside(Some(file)));
        let numbers = vec![key, file, working, path, i32::from(*console)];
        let numbers = self.templates(arguments, numbers);
        self.custom(kind::PROGRAM, numbers);
    }

    fn shortcut(&mut self, shortcut: &Shortcut) {
        let Shortcut { place, name, program, arguments, description } = shortcut;
        let place = match place {
            Place::Menu => 0,
            Place::Desktop => 1,
            Place::Startup => 2,
        };
        let numbers = vec![place, self.text(name), self.text(program), self.maybe(description.as_deref())];
        let numbers = self.templates(arguments, numbers);
        self.custom(kind::SHORTCUT, numbers);
    }

    fn registry(&mut self, entry: &RegistryEntry) {
        let RegistryEntry { root, view, key, name, value } = entry;
        let root = match root {
            RegistryRoot::Installed => 0,
            RegistryRoot::Machine => 1,
            RegistryRoot::User => 2,
        };
        let narrow = i32::from(*view == RegistryView::Bits32);
        let name = name.as_deref().map_or(-1, |n| self.template(n));
        let mut numbers = vec![root, narrow, self.template(key), name];
        let (kind, texts) = match value {
            RegistryValue::Text(text) => (0, vec![text.clone()]),
            RegistryValue::Expandable(text) => (1, vec![text.clone()]),
            RegistryValue::Number(n) => {
                numbers.extend([2, *n as i32]);
                return self.custom(kind::REGISTRY, numbers);
            }
            RegistryValue::Bytes(hex) => (3, vec![hex.clone()]),
            RegistryValue::List(list) => (4, list.clone()),
        };
        numbers.push(kind);
        let numbers = self.templates(&texts, numbers);
        self.custom(kind::REGISTRY, numbers);
    }

    fn service(&mut self, s: &Service) {
        let start = match s.start {
            ServiceStart::Automatic => 0,
            ServiceStart::OnDemand => 1,
            ServiceStart::Disabled => 2,
        };
        let mut numbers = vec![self.text(&s.name), self.text(&s.title), self.maybe(s.description.as_deref())];
        numbers.extend([self.text(&s.program), start, self.maybe(s.account.as_deref())]);
        let numbers = self.templates(&s.arguments, numbers);
        self.custom(kind::SERVICE, numbers);
    }

    /// The files, in the order of the stream; then `more` bytes of the program that removes the product.
    fn files(&mut self, job: &Job, remover: Option<u64>) -> Result<()> {
        let mut choices: HashMap<&RelPath, i32> = HashMap::new();
        for (number, choice) in (0..).zip(&job.footprint.choices) {
            choices.extend(choice.files.iter().map(|f| (f, number)));
        }
        let kept = &job.footprint.install.keep_changed;
        let mut offsets = Offsets::default();
        let time = (u64::from(job.time) + 11_644_473_600) * 10_000_000;
        let (mut folder, mut choice, mut keep) = (None, -1, 0);
        for file in job.files {
            let parent = file.path.parent();
            if folder.as_ref() != Some(&parent) {
                let at = self.inside(parent.as_ref());
                self.entries.push([op::FOLDER, at, 1, 0, 0, 0, 0]);
                folder = Some(parent);
            }
            let of = choices.get(&file.path).copied().unwrap_or(-1);
            if of != choice {
                choice = of;
                self.custom(kind::OF_CHOICE, vec![of]);
            }
            let stays = i32::from(kept.contains(&file.path));
            if stays != keep {
                keep = stays;
                self.custom(kind::KEPT, vec![stays]);
            }
            let (name, at) = (self.text(file.path.name()), offsets.next(file.size)?);
            self.entries.push([op::FILE, 0, name, at, time as i32, (time >> 32) as i32, 0]);
        }
        let plain = offsets.total();
        if let Some(length) = remover {
            let name = self.texts.add_inside(UNINSTALL_PROGRAM);
            let at = offsets.next(length)?;
            self.entries.push([op::UNINSTALLER, name, at, 0, 0, 0, 0]);
        }
        let bytes = plain - 4 * job.files.len() as u64;
        self.custom(kind::FILES, vec![job.files.len() as i32, bytes as i32, (bytes >> 32) as i32]);
        Ok(())
    }

    fn wizard(&mut self, footprint: &Footprint, wizard: &Wizard, pages: &[Page]) {
        let color = |[r, g, b]: [u8; 3]| i32::from(r) | i32::from(g) << 8 | i32::from(b) << 16;
        self.custom(kind::WIZARD, vec![color(wizard.accent), color(wizard.tint())]);
        let license = wizard.license.as_ref().filter(|_| pages.iter().any(|p| p.name == "License"));
        let mut keys: Vec<String> = WORDS.iter().map(|w| w.0.to_owned()).collect();
        // The licence's text, and what choices are called in each language, stand behind the words of pages.
        keys.extend(license.map(|_| LICENSE_WORD.to_owned()));
        let in_several = |c: &&Choice| {
            !c.title.others().is_empty() || c.description.as_ref().is_some_and(|d| !d.others().is_empty())
        };
        let choices: Vec<&Choice> = footprint.choices.iter().filter(in_several).collect();
        keys.extend(choices.iter().flat_map(|c| [title_word(&c.key), about_word(&c.key)]));
        let numbers = self.list(&keys, Vec::new());
        self.custom(kind::WORDS, numbers);
        for language in &wizard.languages {
            let numbers = language_numbers(&language.code);
            let mut all = vec![self.text(&language.code), numbers.len() as i32];
            all.extend(numbers.iter().map(|n| *n as i32));
            let mut words: Vec<String> = WORDS.iter().map(|w| language.word(w.0, footprint)).collect();
            words.extend(license.map(|text| text.of(&language.code).to_owned()));
            words.extend(choices.iter().flat_map(|Choice { title, description, .. }| {
                let about = description.as_ref().map_or("", |d| d.of(&language.code));
                [title.of(&language.code).to_owned(), about.to_owned()]
            }));
            let all = self.list(&words, all);
            self.custom(kind::LANGUAGE, all);
        }
        for page in pages {
            let at = |name: &str| page.controls.iter().position(|c| c.name == name).map_or(-1, |n| n as i32);
            let numbers = vec![self.text(page.name), page.size.0, page.size.1, at(page.default), at(page.cancel)];
            self.custom(kind::PAGE, numbers);
            for control in &page.controls {
                let word = if control.kind == Kind::License { LICENSE_WORD } else { control.words };
                let words = keys.iter().position(|key| key == word).map_or(-1, |n| n as i32);
                let (action, goes_to) = action(control.action);
                // A button waits for the box that its condition names.
                let property = control.only_if.split(' ').next().filter(|p| !p.is_empty()).unwrap_or(control.property);
                let (x, y, width, height) = control.at;
                let mut numbers = vec![self.text(control.name), control_kind(control.kind), x, y, width, height];
                numbers.extend([words, action, self.text(goes_to), self.text(property)]);
                self.custom(kind::CONTROL, numbers);
            }
        }
    }

    fn finish(self) -> Header {
        Header { flags: 0, entries: self.entries, texts: self.texts.finish() }
    }
}

/// The key of the licence's text among the words of a language.
const LICENSE_WORD: &str = "license-text";

fn control_kind(kind: Kind) -> i32 {
    match kind {
        Kind::Strip => 0,
        Kind::Picture => 1,
        Kind::Accent => 2,
        Kind::Title => 3,
        Kind::Below => 4,
        Kind::Text => 5,
        Kind::Line => 6,
        Kind::Button => 7,
        Kind::Check => 8,
        Kind::Folder => 9,
        Kind::Parts => 10,
        Kind::License => 11,
        Kind::Scope => 12,
        Kind::Progress => 13,
        Kind::Doing => 14,
        Kind::Programs => 15,
    }
}

fn action(action: Action) -> (i32, &'static str) {
    match action {
        Action::None => (0, ""),
        Action::Go(page) => (1, page),
        Action::Install => (2, ""),
        Action::Repair => (3, ""),
        Action::Remove => (4, ""),
        Action::AskCancel => (5, ""),
        Action::Stop => (6, ""),
        Action::Stay => (7, ""),
        Action::LookAgain => (8, ""),
        Action::GoOn => (9, ""),
        Action::ClosePrograms => (10, ""),
        Action::Finish => (11, ""),
        Action::Close => (12, ""),
    }
}

/// The pages of a setup program: it closes programs by itself, so one of the two pages for that is enough.
fn own_pages(footprint: &Footprint, wizard: &Wizard) -> Vec<Page> {
    pages(footprint, wizard).into_iter().filter(|p| p.name != FILES_IN_USE).collect()
}

/// All pages that people see: of the setup program, and of the one that removes the product.
pub fn shown(footprint: &Footprint, wizard: &Wizard) -> Vec<Page> {
    own_pages(footprint, wizard).into_iter().chain([removal()]).collect()
}

/// The instructions of a setup program, and the data block of the program that removes the product.
pub fn setup(job: &Job, head: &[u8]) -> std::result::Result<(Header, Vec<u8>), Failure> {
    let stored = uninstaller(job, head)?;
    let header = instructions(job, stored.len() as u64).map_err(super::failure)?;
    Ok((header, stored))
}

/// The program that removes the product, as a package holds it.
pub fn uninstaller(job: &Job, head: &[u8]) -> std::result::Result<Vec<u8>, Failure> {
    let block = removal_block(job).map_err(super::failure)?;
    stored_uninstaller(head, &block, job.signer)
}

/// The data block of the program that removes the product. It says nothing of the files, so that it is the same, and signed
/// once, whatever becomes of them.
fn removal_block(job: &Job) -> Result<Vec<u8>> {
    let Footprint { product, platform, choices, install, .. } = job.footprint;
    let (product, choices, install) = (product.clone(), choices.clone(), install.clone());
    let footprint = &Footprint { product, platform: *platform, choices, install, ..Footprint::default() };
    let all = own_pages(job.footprint, job.wizard);
    let mut remover = Program::new();
    remover.identity(footprint);
    remover.rules(&footprint.install);
    let mut own = vec![removal()];
    let wanted = ["Progress", "Done", "Cancelled", "Failed", crate::wizard::FILES_IN_USE_CLOSABLE, "AskCancel"];
    own.extend(all.iter().filter(|p| wanted.contains(&p.name)).cloned());
    remover.wizard(footprint, job.wizard, &own);
    // The head that removes is the one that installs: it unpacks in one way.
    let method = match super::compression(job) {
        SetupCompression::Lzma => nsis_archive::Method::Lzma { filtered: false },
        SetupCompression::Deflate => nsis_archive::Method::Deflate,
    };
    let options = Options { method, dictionary: 1 << 16, flags: UNINSTALLER, ..Options::default() };
    block(&remover.finish().write()?, &options)
}

/// The program that removes the product, as a package holds it: it is put together from the setup program's own head where
/// it is installed, and must then be what was signed here.
fn stored_uninstaller(head: &[u8], block: &[u8], signer: Option<&Signer>) -> std::result::Result<Vec<u8>, Failure> {
    let mut changed = vec![0; seal::BEFORE_BLOCK - 4];
    let mut signature = Vec::new();
    if let Some(signer) = signer {
        let mut whole = head.to_vec();
        whole.resize(whole.len().next_multiple_of(ALIGNMENT as usize), 0);
        let places = seal::changeable(&whole).map_err(super::failure)?;
        places.into_iter().for_each(|(at, length)| whole[at..at + length].fill(0));
        let mut hash = seal::Hash::default();
        hash.head(&whole).map_err(super::failure)?;
        hash.update(block);
        whole.extend(hash.seal());
        whole.extend(block);
        let signed = signer.bytes(&whole, UNINSTALL_PROGRAM)?;
        changed = places.into_iter().flat_map(|(at, length)| signed[at..at + length].to_vec()).collect();
        signature = signed[whole.len()..].to_vec();
    }
    Ok([&changed[..], &(block.len() as u32).to_le_bytes(), block, &signature].concat())
}

/// The instructions of a setup program, with the length of what its uninstaller is made of.
fn instructions(job: &Job, uninstaller: u64) -> Result<Header> {
    let footprint = job.footprint;
    let all = own_pages(footprint, job.wizard);
    let mut program = Program::new();
    program.identity(footprint);
    program.footprint(footprint);
    if let Some(entry) = order::entry(&footprint.product) {
        program.registry(&entry);
    }
    program.wizard(footprint, job.wizard, &all);
    program.files(job, Some(uninstaller))?;
    Ok(program.finish())
}

/// The instructions of a portable program that starts `start`.
pub fn portable(job: &Job, start: &str) -> Result<Header> {
    let mut program = Program::new();
    program.identity(job.footprint);
    program.footprint(job.footprint);
    let beside = job.settings.portable.settings == SettingsPlace::ProgramFolder;
    let numbers = vec![program.text(start), i32::from(beside)];
    program.custom(kind::PORTABLE, numbers);
    program.files(job, None)?;
    Ok(program.finish())
}
