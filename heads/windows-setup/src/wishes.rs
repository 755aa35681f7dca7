//! What the machine should look like: the product's traces as values, services and shortcuts, for the folder and the
//! scope that were chosen.

use crate::places;
use crate::product::{Product, Program, INSTALL};
use crate::record::{Item, PROGRAM};
use crate::registry::{self, At, Data};
use crate::services::Config;
use crate::settings::{command_line, quoted};
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use windows_sys::Win32::System::Registry as reg;

/// What is chosen.
#[derive(Clone)]
pub struct Chosen {
    pub folder: String,
    pub machine: bool,
    /// One for each of the product's choices.
    pub choices: Vec<bool>,
    pub desktop: bool,
    pub startup: bool,
}

/// A shortcut to be written.
pub struct Link {
    pub path: String,
    pub target: String,
    pub arguments: String,
    pub folder: String,
    pub description: String,
}

#[derive(Default)]
pub struct Wishes {
    pub values: Vec<(At, Data)>,
    /// Items of variables, and whether they go to the front.
    pub items: Vec<(Item, bool)>,
    pub services: Vec<Config>,
    pub fonts: Vec<String>,
    pub links: Vec<Link>,
}

impl Chosen {
    /// A path below the product's folder.
    pub fn path(&self, inside: &str) -> String {
        if inside.is_empty() { self.folder.clone() } else { format!("{}\\{inside}", self.folder) }
    }

    /// A text with the product's folder put in.
    pub fn text(&self, text: &str) -> String {
        let folder = format!("{}\\", self.folder);
        text.replace(&format!("{INSTALL}/"), &folder).replace(INSTALL, &self.folder)
    }

    pub fn arguments(&self, own: &[String], more: &[String]) -> String {
        let all: Vec<String> = own.iter().chain(more).map(|a| self.text(a)).collect();
        command_line(&all)
    }

    pub fn working_folder(&self, program: &Program) -> String {
        match program.working {
            1 => places::home(),
            2 => self.folder.clone(),
            3 => self.path(&program.working_path),
            // Where the person stands; the shell stands in the program's own folder.
            _ => String::new(),
        }
    }
}

fn hex(text: &str) -> Vec<u8> {
    let digit = |b: u8| (b as char).to_digit(16).unwrap_or(0) as u8;
    text.as_bytes().chunks_exact(2).map(|p| digit(p[0]) << 4 | digit(p[1])).collect()
}

impl Wishes {
    pub fn new(product: &Product, chosen: &Chosen) -> Self {
        let mut it = Self::default();
        // A program whose file was not chosen is not there.
        let there = |file: &str| {
            product.files.iter().any(|f| f.path == file && f.choice.is_none_or(|c| chosen.choices.get(c) == Some(&true)))
        };
        let program = |key: &str| product.program(key).filter(|p| there(&p.file));
        let at = |key: String, name: &str| At { machine: chosen.machine, narrow: false, key, name: name.into() };
        for s in &product.shortcuts {
            let wanted = match s.place {
                1 => chosen.desktop,
                2 => chosen.startup,
                _ => true,
            };
            let Some(p) = program(&s.program).filter(|_| wanted) else { continue };
            it.links.push(Link {
                path: format!("{}\\{}.lnk", places::shortcuts(s.place, chosen.machine), s.name),
                target: chosen.path(&p.file),
                arguments: chosen.arguments(&p.arguments, &s.arguments),
                folder: chosen.working_folder(p),
                description: s.description.clone(),
            });
        }
        let open = |p: &Program| {
            let own = chosen.arguments(&p.arguments, &[]);
            let space = if own.is_empty() { "" } else { " " };
            format!("{}{space}{own} \"%1\"", quoted_path(&chosen.path(&p.file)))
        };
        const CLASSES: &str = r"Software\Classes\";
        let mut value = |at: At, data: Data| it.values.push((at, data));
        for t in &product.file_types {
            let Some(p) = program(&t.program) else { continue };
            let class = format!("{}.{}", product.id, t.extensions.first().map_or("", String::as_str));
            let key = format!("{CLASSES}{class}");
            value(at(key.clone(), ""), registry::text(&t.name));
            value(at(format!("{key}\\DefaultIcon"), ""), registry::text(&format!("{},0", chosen.path(&p.file))));
            value(at(format!("{key}\\shell\\open\\command"), ""), registry::text(&open(p)));
            for extension in &t.extensions {
                let key = format!("{CLASSES}.{extension}");
                value(at(key.clone(), ""), registry::text(&class));
                value(at(key.clone(), "Content Type"), registry::text(&t.mime));
                value(at(format!("{key}\\OpenWithProgids"), &class), registry::text(""));
            }
        }
        for (scheme, key) in &product.schemes {
            let Some(p) = program(key) else { continue };
            let key = format!("{CLASSES}{scheme}");
            value(at(key.clone(), ""), registry::text(&format!("URL:{scheme}")));
            value(at(key.clone(), "URL Protocol"), registry::text(""));
            value(at(format!("{key}\\shell\\open\\command"), ""), registry::text(&open(p)));
        }
        for v in &product.values {
            let texts: Vec<String> = v.texts.iter().map(|t| chosen.text(t)).collect();
            let first = texts.first().map_or("", String::as_str);
            let data = match v.kind {
                1 => (reg::REG_EXPAND_SZ, registry::text(first).1),
                2 => registry::number(v.number as u32),
                3 => (reg::REG_BINARY, hex(first)),
                4 => registry::list(&texts),
                _ => registry::text(first),
            };
            let machine = match v.root {
                1 => true,
                2 => false,
                _ => chosen.machine,
            };
            value(At { machine, narrow: v.narrow, key: chosen.text(&v.key), name: chosen.text(&v.name) }, data);
        }
        for (file, title) in product.fonts.iter().filter(|(file, _)| there(file)) {
            let key = r"Software\Microsoft\Windows NT\CurrentVersion\Fonts".into();
            value(at(key, &format!("{title} (TrueType)")), registry::text(&chosen.path(file)));
            it.fonts.push(chosen.path(file));
        }
        let variables =
            if chosen.machine { r"SYSTEM\CurrentControlSet\Control\Session Manager\Environment" } else { "Environment" };
        for (name, action, text) in &product.environment {
            let (at, text) = (at(variables.into(), name), chosen.text(text));
            match action {
                0 => it.values.push((at, registry::text(&text))),
                n => it.items.push((Item { at, text }, *n == 1)),
            }
        }
        for s in &product.services {
            let Some(p) = program(&s.program) else { continue };
            let own = chosen.arguments(&p.arguments, &s.arguments);
            let space = if own.is_empty() { "" } else { " " };
            it.services.push(Config {
                name: s.name.clone(),
                title: s.title.clone(),
                description: s.description.clone(),
                command: format!("{}{space}{own}", quoted_path(&chosen.path(&p.file))),
                start: s.start,
                account: s.account.clone(),
            });
        }
        it.entry(product, chosen);
        it
    }

    /// The entry in the list of applications, and where the next version finds this one.
    fn entry(&mut self, product: &Product, chosen: &Chosen) {
        let at = |name: &str| At {
            machine: chosen.machine,
            narrow: false,
            key: entry_key(&product.id),
            name: name.into(),
        };
        let remove = quoted_path(&chosen.path(PROGRAM));
        let icon = product.programs.first().map_or_else(|| chosen.path(PROGRAM), |p| chosen.path(&p.file));
        let support = if product.support.contains("://") { "HelpLink" } else { "Contact" };
        let mut texts = alloc::vec![
            ("DisplayName", product.name.clone()),
            ("DisplayVersion", product.version.clone()),
            ("Publisher", product.publisher.clone()),
            ("DisplayIcon", format!("{icon},0")),
            ("InstallLocation", chosen.folder.clone()),
            ("UninstallString", remove.clone()),
            ("QuietUninstallString", format!("{remove} /S")),
            ("Comments", product.summary.clone()),
            ("URLInfoAbout", product.homepage.clone()),
            (support, product.support.clone()),
        ];
        texts.retain(|(_, text)| !text.is_empty());
        self.values.extend(texts.into_iter().map(|(name, text)| (at(name), registry::text(&text))));
        let size = u32::try_from(product.bytes.div_ceil(1024)).unwrap_or(u32::MAX);
        for (name, n) in [("EstimatedSize", size), ("NoModify", 1), ("NoRepair", 1)] {
            self.values.push((at(name), registry::number(n)));
        }
        let own = At { machine: chosen.machine, narrow: false, key: own_key(&product.id), name: "InstallFolder".into() };
        self.values.push((own, registry::text(&chosen.folder)));
    }
}

fn entry_key(id: &str) -> String {
    format!(r"Software\Microsoft\Windows\CurrentVersion\Uninstall\{id}")
}

pub fn own_key(id: &str) -> String {
    format!(r"Software\{id}")
}

/// A path in quotes: with or without blanks nobody takes it apart in the wrong place.
pub fn quoted_path(path: &str) -> String {
    let quoted = quoted(path);
    if quoted.starts_with('"') { quoted } else { format!("\"{quoted}\"") }
}
