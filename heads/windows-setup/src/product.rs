//! The instructions, understood: who the product is, what goes onto the machine, what the wizard shows. Notes stay as
//! they stand in the package; whoever wants one of their numbers or texts asks for it.

use crate::system::{code, Fault, Result};
use crate::text::{cat, path, t, Text, EMPTY};
use alloc::boxed::Box;
use alloc::vec::Vec;
use nsis_archive::custom::{kind, steps, Custom, Step};
use nsis_archive::header::Header;
use nsis_archive::structs::{op, variable};
use nsis_archive::text::{Code, Texts};

/// Stands for the product's folder in texts that are taken out of the header before that is known.
const SIGN: u16 = 1;
pub const INSTALL: Text = t!("\u{1}");

/// A file to be written.
pub struct FileItem {
    /// Below the product's folder.
    pub path: Text,
    /// Its place in the stream.
    pub offset: u32,
    /// The number of the choice that it belongs to, or -1.
    pub choice: i32,
    /// Whether it stays when somebody changed it.
    pub kept: bool,
    /// When it was last changed.
    pub time: (u32, u32),
}

/// A custom instruction whose numbers and texts are asked for by their places; see `nsis_archive::custom::kind` for what is where.
#[derive(Clone, Copy)]
pub struct Instruction {
    custom: &'static Custom,
    texts: &'static Texts,
}

impl Instruction {
    pub fn number(self, n: usize) -> i32 {
        self.custom.numbers.get(n).copied().unwrap_or(0)
    }

    #[inline(never)]
    pub fn text(self, n: usize) -> Text {
        text(self.texts, self.custom.numbers.get(n).copied().unwrap_or(-1))
    }

    /// The list that begins at a place, with its length.
    pub fn list(self, n: usize) -> Vec<Text> {
        let mut all = Vec::new();
        for place in 0..self.number(n).max(0) as usize {
            all.push(self.text(n + 1 + place));
        }
        all
    }
}

/// A text of the table. Most stand there as they are meant.
fn text(texts: &'static Texts, at: i32) -> Text {
    let units = usize::try_from(at).ok().and_then(|at| texts.units.get(at..)).unwrap_or(&[]);
    for (n, unit) in units.iter().enumerate() {
        if *unit == 0 {
            // SAFETY: the zero is there, and the table is never given back.
            return unsafe { Text::at(units[..=n].as_ptr()) };
        }
        if *unit <= 4 {
            break;
        }
    }
    let meant = texts.get(at, |code, out| {
        if code == Code::Variable(variable::INSTALL) {
            out.push(SIGN);
        }
    });
    meant.map_or(EMPTY, |units| Text::up_to_zero(&units))
}

/// A page of the wizard: name, width, height, numbers of its default and of its cancelling control.
pub struct Page {
    pub item: Instruction,
    /// Name, kind, left, top, width, height, words, action, page, property.
    pub controls: Vec<Instruction>,
}

/// Places in a control's instruction.
pub mod control {
    pub const NAME: usize = 0;
    pub const KIND: usize = 1;
    pub const AT: usize = 2;
    pub const WORDS: usize = 6;
    pub const ACTION: usize = 7;
    pub const PAGE: usize = 8;
    pub const PROPERTY: usize = 9;
}

pub struct Product {
    pub id: Text,
    pub name: Text,
    pub version: Text,
    /// All instructions, in their order.
    pub instructions: Vec<(u16, Instruction)>,
    pub programs: Vec<Instruction>,
    pub choices: Vec<Instruction>,
    pub languages: Vec<Instruction>,
    pub word_keys: Vec<Text>,
    pub pages: Vec<Page>,
    pub portable: Option<Instruction>,
    /// Who it is: id, name, version, publisher, summary, homepage, support.
    pub identity: Instruction,
    /// Accent, tint, licence.
    pub wizard: Instruction,
    pub folders: Vec<Text>,
    pub files: Vec<FileItem>,
    /// Where in the stream the program that removes it is.
    pub uninstaller: Option<u32>,
    /// Plain bytes of all files.
    pub bytes: u64,
}

/// Whether a path stays in the product's folder: nothing that a damaged or hostile package says leads out of it.
pub fn stays_inside(path: Text) -> bool {
    setup_rules::path::stays_inside(path.units())
}

/// The path below the product's folder; nothing stands for that itself.
fn inside(text: Text) -> Result<Text> {
    match setup_rules::path::inside(text.units()) {
        Some(rest) => Ok(text.skip(text.len() - rest.len())),
        None => {
            let detail = cat(&[t!("the path "), text, t!(" leads out of the folder")]);
            Err(Fault::new(code::DAMAGED, t!("setup-damaged"), detail))
        }
    }
}

fn bad() -> Fault {
    Fault::new(code::DAMAGED, t!("setup-damaged"), t!("an instruction is not understood"))
}

impl Product {
    pub fn read(header: &'static Header) -> Result<&'static Self> {
        let texts = &header.texts;
        let steps: &'static [Step] = steps(&header.entries).map_err(|_| bad())?.leak();
        let nothing = Instruction { custom: Box::leak(Box::new(Custom { kind: 0, numbers: Vec::new() })), texts };
        let mut it = Self {
            id: EMPTY,
            name: EMPTY,
            version: EMPTY,
            instructions: Vec::new(),
            programs: Vec::new(),
            choices: Vec::new(),
            languages: Vec::new(),
            word_keys: Vec::new(),
            pages: Vec::new(),
            portable: None,
            identity: nothing,
            wizard: nothing,
            folders: Vec::new(),
            files: Vec::new(),
            uninstaller: None,
            bytes: 0,
        };
        let (mut folder, mut choice, mut kept) = (EMPTY, -1, false);
        for step in steps {
            match step {
                Step::Entry(entry) if entry[0] == op::FOLDER => {
                    let path = inside(text(texts, entry[1]))?;
                    if entry[2] == 1 {
                        folder = path;
                    } else if !path.is_empty() {
                        it.folders.push(path);
                    }
                }
                Step::Entry(entry) if entry[0] == op::FILE => {
                    let name = text(texts, entry[2]);
                    let path = inside(if folder.is_empty() { name } else { path(folder, name) })?;
                    if path.is_empty() || entry[3] < 0 {
                        return Err(bad());
                    }
                    let time = (entry[4] as u32, entry[5] as u32);
                    it.files.push(FileItem { path, offset: entry[3] as u32, choice, kept, time });
                }
                Step::Entry(entry) if entry[0] == op::UNINSTALLER => it.uninstaller = Some(entry[2] as u32),
                Step::Entry(_) => {}
                Step::Custom(custom) => {
                    let item = Instruction { custom, texts };
                    match custom.kind {
                        kind::OF_CHOICE => choice = item.number(0),
                        kind::KEPT => kept = item.number(0) == 1,
                        _ => it.keep(custom.kind, item)?,
                    }
                }
            }
        }
        // What is not there can't be chosen, and is nobody's program.
        if !stays_inside(it.id) || it.languages.is_empty() && it.portable.is_none() {
            return Err(bad());
        }
        Ok(Box::leak(Box::new(it)))
    }

    /// Files an item where it is looked for. What leads out of the folder is refused; a newer writer may say more than
    /// this head knows.
    fn keep(&mut self, kind: u16, item: Instruction) -> Result<()> {
        self.instructions.push((kind, item));
        match kind {
            kind::PRODUCT => {
                self.identity = item;
                (self.id, self.name, self.version) = (item.text(0), item.text(1), item.text(2));
            }
            kind::PROGRAM => {
                inside(item.text(1))?;
                inside(item.text(3))?;
                self.programs.push(item);
            }
            kind::SHORTCUT if !stays_inside(item.text(1)) || item.text(1).has(b"\\") => return Err(bad()),
            kind::FONT => drop(inside(item.text(0))?),
            kind::CHOICE => self.choices.push(item),
            kind::HARD_LINK => {
                inside(item.text(0))?;
                inside(item.text(1))?;
            }
            kind::FILES => self.bytes = u64::from(item.number(1) as u32) | u64::from(item.number(2) as u32) << 32,
            kind::PAGE => self.pages.push(Page { item, controls: Vec::new() }),
            kind::CONTROL => self.pages.last_mut().ok_or_else(bad)?.controls.push(item),
            kind::WIZARD => self.wizard = item,
            kind::LANGUAGE => self.languages.push(item),
            kind::WORDS => self.word_keys = item.list(0),
            kind::PORTABLE => self.portable = Some(item),
            _ => {}
        }
        Ok(())
    }

    /// One more names of files: the path, and the file's.
    pub fn links(&self) -> Vec<(Text, Text)> {
        let mut all = Vec::new();
        for (kind, item) in &self.instructions {
            if *kind == kind::HARD_LINK {
                all.push((below(item.text(0)), below(item.text(1))));
            }
        }
        all
    }

    pub fn rule(&self, key: Text) -> Text {
        let of_key = |(kind, item): &&(u16, Instruction)| *kind == kind::RULE && item.text(0).is(key);
        self.instructions.iter().find(of_key).map_or(EMPTY, |(_, item)| item.text(1))
    }

    pub fn program(&self, key: Text) -> Option<Program> {
        self.programs.iter().find(|p| p.text(0).is(key)).map(|item| Program::of(*item))
    }

    /// A word in a language.
    pub fn word(&self, language: usize, key: Text) -> Text {
        match self.word_keys.iter().position(|k| k.is(key)) {
            Some(n) => self.word_at(language, n),
            None => EMPTY,
        }
    }

    /// The word of this number.
    pub fn word_at(&self, language: usize, n: usize) -> Text {
        let Some(language) = self.languages.get(language) else { return EMPTY };
        // Behind the code, the system's numbers with their count, and the count of the words.
        let words = 2 + language.number(1).max(0) as usize;
        if n < language.number(words).max(0) as usize {
            language.text(words + 1 + n)
        } else {
            EMPTY
        }
    }

    /// The language with this code, or that of the system, or the first.
    pub fn language(&self, code: Text) -> usize {
        // SAFETY: no preconditions.
        let system = unsafe { windows_sys::Win32::Globalization::GetUserDefaultUILanguage() };
        let (mut found, mut best) = (0, 0);
        for (n, language) in self.languages.iter().enumerate() {
            if language.text(0).same(code) {
                return n;
            }
            let numbers = language.number(1).max(0) as usize;
            for k in 0..numbers {
                let fit = setup_rules::language::fit(system, language.number(2 + k) as u16);
                if fit > best {
                    (found, best) = (n, fit);
                }
            }
        }
        found
    }
}

/// The path of a text that was looked at when the package was read.
pub fn below(text: Text) -> Text {
    inside(text).unwrap_or(EMPTY)
}

pub struct Program {
    pub file: Text,
    /// 0 unchanged, 1 home, 2 the product's folder, 3 a folder in it.
    pub working: i32,
    pub working_path: Text,
    pub arguments: Vec<Text>,
}

impl Program {
    pub fn of(item: Instruction) -> Self {
        let (file, working_path) = (below(item.text(1)), below(item.text(3)));
        Self { file, working: item.number(2), working_path, arguments: item.list(5) }
    }
}
