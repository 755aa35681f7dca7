//! The instructions, understood: who the product is, what goes onto the machine, what the wizard shows.

use crate::system::{code, lower, Fault, Result};
use alloc::collections::BTreeMap;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use nsis_archive::header::Header;
use nsis_archive::note::{kind, steps, Note, Step};
use nsis_archive::structs::{op, variable};
use nsis_archive::text::Code;

/// Stands for the product's folder in texts that are taken out of the header before that is known.
pub const INSTALL: &str = "\u{1}";

/// A file to be written.
pub struct FileItem {
    /// Below the product's folder.
    pub path: String,
    /// Its place in the stream.
    pub offset: u32,
    /// The number of the choice that it belongs to.
    pub choice: Option<usize>,
    /// Whether it stays when somebody changed it.
    pub kept: bool,
    /// When it was last changed.
    pub time: (u32, u32),
}

pub struct Program {
    pub key: String,
    pub file: String,
    /// 0 unchanged, 1 home, 2 the product's folder, 3 a folder in it.
    pub working: i32,
    pub working_path: String,
    pub arguments: Vec<String>,
}

pub struct Shortcut {
    /// 0 menu, 1 desktop, 2 startup.
    pub place: i32,
    pub name: String,
    pub program: String,
    pub description: String,
    pub arguments: Vec<String>,
}

pub struct FileType {
    pub mime: String,
    pub name: String,
    pub program: String,
    pub extensions: Vec<String>,
}

pub struct Value {
    /// 0 as installed, 1 the machine, 2 the person.
    pub root: i32,
    /// Whether 32-bit programs see it.
    pub narrow: bool,
    pub key: String,
    pub name: String,
    /// 0 text, 1 expandable, 2 number, 3 bytes, 4 list.
    pub kind: i32,
    pub number: i32,
    pub texts: Vec<String>,
}

pub struct Service {
    pub name: String,
    pub title: String,
    pub description: String,
    pub program: String,
    /// 0 automatic, 1 on demand, 2 disabled.
    pub start: i32,
    pub account: String,
    pub arguments: Vec<String>,
}

pub struct Choice {
    pub key: String,
    pub title: String,
    pub description: String,
    pub chosen: bool,
}

pub struct Control {
    pub kind: i32,
    pub at: [i32; 4],
    /// The number of its words, or -1.
    pub words: i32,
    pub action: i32,
    /// The page that the action goes to.
    pub page: String,
    /// What it changes.
    pub property: String,
    pub name: String,
}

pub struct Page {
    pub name: String,
    pub size: (i32, i32),
    pub default: i32,
    pub cancel: i32,
    pub controls: Vec<Control>,
}

pub struct Language {
    pub code: String,
    pub numbers: Vec<i32>,
    pub words: Vec<String>,
}

/// How a portable program runs.
pub struct Portable {
    pub program: String,
    pub beside: bool,
}

#[derive(Default)]
pub struct Product {
    pub id: String,
    pub name: String,
    pub version: String,
    pub publisher: String,
    pub summary: String,
    pub homepage: String,
    pub support: String,
    pub rules: BTreeMap<String, String>,
    pub programs: Vec<Program>,
    pub shortcuts: Vec<Shortcut>,
    pub file_types: Vec<FileType>,
    pub schemes: Vec<(String, String)>,
    /// Name, action (0 set, 1 prepend, 2 append), value.
    pub environment: Vec<(String, i32, String)>,
    pub values: Vec<Value>,
    pub services: Vec<Service>,
    pub fonts: Vec<(String, String)>,
    pub choices: Vec<Choice>,
    pub folders: Vec<String>,
    pub files: Vec<FileItem>,
    /// Path, and the file that it is a second name of.
    pub links: Vec<(String, String)>,
    /// Where in the stream the program that removes it is.
    pub uninstaller: Option<u32>,
    /// Plain bytes of all files.
    pub bytes: u64,
    pub pages: Vec<Page>,
    pub license: String,
    pub accent: u32,
    pub tint: u32,
    pub languages: Vec<Language>,
    pub word_keys: Vec<String>,
    pub portable: Option<Portable>,
}

/// Whether a path stays in the product's folder: nothing that a damaged or hostile package says leads out of it.
fn stays_inside(path: &str) -> bool {
    let bad = |name: &str| {
        name.is_empty() || name == "." || name == ".." || name.ends_with(['.', ' ']) || name.contains(['/', ':', '*', '?', '"', '<', '>', '|'])
            || name.chars().any(|c| (c as u32) < 32)
    };
    !path.is_empty() && !path.split('\\').any(bad)
}

/// The path below the product's folder.
fn inside(text: &str) -> Result<String> {
    let rest = text.strip_prefix(INSTALL).unwrap_or(text);
    let rest = rest.strip_prefix('\\').unwrap_or(rest);
    if rest.is_empty() || stays_inside(rest) {
        return Ok(rest.into());
    }
    Err(Fault::new(code::DAMAGED, "setup-damaged", format!("the path {rest:?} leads out of the folder")))
}

/// Takes a note's numbers one after the other.
struct Numbers<'h> {
    header: &'h Header,
    numbers: core::slice::Iter<'h, i32>,
}

fn bad() -> Fault {
    Fault::new(code::DAMAGED, "setup-damaged", "an instruction is not understood")
}

fn text(header: &Header, at: i32) -> Result<String> {
    if at < 0 {
        return Ok(String::new());
    }
    let units = header.texts.get(at, |code, out| {
        if code == Code::Variable(variable::INSTALL) {
            out.extend(INSTALL.encode_utf16());
        }
    });
    Ok(String::from_utf16_lossy(&units.map_err(|_| bad())?))
}

impl<'h> Numbers<'h> {
    fn number(&mut self) -> Result<i32> {
        self.numbers.next().copied().ok_or_else(bad)
    }

    fn text(&mut self) -> Result<String> {
        let at = self.number()?;
        text(self.header, at)
    }

    fn path(&mut self) -> Result<String> {
        inside(&self.text()?)
    }

    fn texts(&mut self) -> Result<Vec<String>> {
        let count = self.number()?;
        (0..count).map(|_| self.text()).collect()
    }
}

impl Product {
    pub fn read(header: &Header) -> Result<Self> {
        let mut it = Self::default();
        let (mut folder, mut choice, mut kept) = (String::new(), None, false);
        for step in steps(&header.entries).map_err(|_| bad())? {
            match step {
                Step::Entry(entry) if entry[0] == op::FOLDER => {
                    let path = inside(&text(header, entry[1])?)?;
                    if entry[2] == 1 {
                        folder = path;
                    } else if !path.is_empty() {
                        it.folders.push(path);
                    }
                }
                Step::Entry(entry) if entry[0] == op::FILE => {
                    let name = text(header, entry[2])?;
                    let path = if folder.is_empty() { name } else { format!("{folder}\\{name}") };
                    let offset = u32::try_from(entry[3]).map_err(|_| bad())?;
                    it.files.push(FileItem {
                        path: inside(&path)?,
                        offset,
                        choice,
                        kept,
                        time: (entry[4] as u32, entry[5] as u32),
                    });
                }
                Step::Entry(entry) if entry[0] == op::UNINSTALLER => it.uninstaller = Some(entry[2] as u32),
                Step::Entry(_) => {}
                Step::Note(note) => match note.kind {
                    kind::OF_CHOICE => choice = note.numbers.first().and_then(|n| usize::try_from(*n).ok()),
                    kind::KEPT => kept = note.numbers.first() == Some(&1),
                    _ => it.note(header, &note)?,
                },
            }
        }
        // What is not there can't be chosen, and is nobody's program.
        if it.id.is_empty() || !stays_inside(&it.id) || it.languages.is_empty() && it.portable.is_none() {
            return Err(bad());
        }
        Ok(it)
    }

    fn note(&mut self, header: &Header, note: &Note) -> Result<()> {
        let mut n = Numbers { header, numbers: note.numbers.iter() };
        match note.kind {
            kind::PRODUCT => {
                self.id = n.text()?;
                self.name = n.text()?;
                self.version = n.text()?;
                self.publisher = n.text()?;
                self.summary = n.text()?;
                self.homepage = n.text()?;
                self.support = n.text()?;
            }
            kind::RULE => {
                let key = n.text()?;
                self.rules.insert(key, n.text()?);
            }
            kind::PROGRAM => {
                let (key, file, working, working_path) = (n.text()?, n.path()?, n.number()?, n.path()?);
                let _console = n.number()?;
                self.programs.push(Program { key, file, working, working_path, arguments: n.texts()? });
            }
            kind::SHORTCUT => {
                let (place, name, program, description) = (n.number()?, n.text()?, n.text()?, n.text()?);
                if !stays_inside(&name) || name.contains('\\') {
                    return Err(bad());
                }
                self.shortcuts.push(Shortcut { place, name, program, description, arguments: n.texts()? });
            }
            kind::FILE_TYPE => {
                let (mime, name, program) = (n.text()?, n.text()?, n.text()?);
                self.file_types.push(FileType { mime, name, program, extensions: n.texts()? });
            }
            kind::LINK_SCHEME => {
                let scheme = n.text()?;
                self.schemes.push((scheme, n.text()?));
            }
            kind::ENVIRONMENT => {
                let (name, action) = (n.text()?, n.number()?);
                self.environment.push((name, action, n.text()?));
            }
            kind::REGISTRY => {
                let (root, narrow, key, name, kind) = (n.number()?, n.number()? == 1, n.text()?, n.text()?, n.number()?);
                let (number, texts) = if kind == 2 { (n.number()?, Vec::new()) } else { (0, n.texts()?) };
                self.values.push(Value { root, narrow, key, name, kind, number, texts });
            }
            kind::SERVICE => {
                let (name, title, description, program) = (n.text()?, n.text()?, n.text()?, n.text()?);
                let (start, account) = (n.number()?, n.text()?);
                self.services.push(Service { name, title, description, program, start, account, arguments: n.texts()? });
            }
            kind::FONT => {
                let file = n.path()?;
                self.fonts.push((file, n.text()?));
            }
            kind::CHOICE => {
                let (key, title, description) = (n.text()?, n.text()?, n.text()?);
                self.choices.push(Choice { key, title, description, chosen: n.number()? == 1 });
            }
            kind::HARD_LINK => {
                let path = n.path()?;
                self.links.push((path, n.path()?));
            }
            kind::FILES => {
                n.number()?;
                self.bytes = u64::from(n.number()? as u32) | u64::from(n.number()? as u32) << 32;
            }
            kind::PAGE => {
                let (name, width, height) = (n.text()?, n.number()?, n.number()?);
                let (default, cancel) = (n.number()?, n.number()?);
                self.pages.push(Page { name, size: (width, height), default, cancel, controls: Vec::new() });
            }
            kind::CONTROL => {
                let (name, kind) = (n.text()?, n.number()?);
                let at = [n.number()?, n.number()?, n.number()?, n.number()?];
                let (words, action, page, property) = (n.number()?, n.number()?, n.text()?, n.text()?);
                let page_of = self.pages.last_mut().ok_or_else(bad)?;
                page_of.controls.push(Control { kind, at, words, action, page, property, name });
            }
            kind::WIZARD => {
                self.accent = n.number()? as u32;
                self.tint = n.number()? as u32;
                self.license = n.text()?;
            }
            kind::LANGUAGE => {
                let code = n.text()?;
                let count = n.number()?;
                let numbers = (0..count).map(|_| n.number()).collect::<Result<_>>()?;
                self.languages.push(Language { code, numbers, words: n.texts()? });
            }
            kind::WORDS => self.word_keys = n.texts()?,
            kind::PORTABLE => {
                let program = n.text()?;
                self.portable = Some(Portable { program, beside: n.number()? == 1 });
            }
            // A newer writer may say more than this head knows.
            _ => {}
        }
        Ok(())
    }

    pub fn rule(&self, key: &str) -> &str {
        self.rules.get(key).map_or("", String::as_str)
    }

    pub fn program(&self, key: &str) -> Option<&Program> {
        self.programs.iter().find(|p| p.key == key)
    }

    /// A word in a language.
    pub fn word<'p>(&'p self, language: usize, key: &str) -> &'p str {
        let n = self.word_keys.iter().position(|k| k == key);
        n.and_then(|n| self.languages.get(language)?.words.get(n)).map_or("", String::as_str)
    }

    /// The language with this code, or that of the system, or the first.
    pub fn language(&self, code: &str) -> usize {
        let by_code = self.languages.iter().position(|l| lower(&l.code) == lower(code));
        // SAFETY: no preconditions.
        let system = i32::from(unsafe { windows_sys::Win32::Globalization::GetUserDefaultUILanguage() });
        let by_system = || self.languages.iter().position(|l| l.numbers.contains(&system));
        by_code.or_else(by_system).unwrap_or(0)
    }
}
