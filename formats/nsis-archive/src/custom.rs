//! Instructions of our own, with a number that the format does not use: others' readers pass over them, our head finds
//! custom ones there, each a kind with numbers. Long ones go on in the next instructions.

use crate::{Error, Result};
use alloc::vec::Vec;

/// The instruction; the format's own end well below a hundred.
const NUMBER: i32 = 0x5553;
/// The kind of an instruction that goes on with the custom one before it.
const MORE: i32 = 0xFFFF;
/// Numbers in a custom instruction.
const MOST: usize = 1 << 16;

/// A custom instruction.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Custom {
    /// What it is.
    pub kind: u16,
    /// Its numbers: places of texts, or plain ones.
    pub numbers: Vec<i32>,
}

/// An instruction, or a custom one that several of them make up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// An instruction of the format.
    Entry([i32; 7]),
    /// A custom instruction.
    Custom(Custom),
}

impl Custom {
    /// Appends it to instructions.
    pub fn put(&self, entries: &mut Vec<[i32; 7]>) {
        let mut numbers = self.numbers.iter().copied();
        let count = self.numbers.len() as i32;
        let mut next = || numbers.next().unwrap_or(0);
        let mut left = self.numbers.len() as i64 - 4;
        entries.push([NUMBER, self.kind.into(), count, next(), next(), next(), next()]);
        while left > 0 {
            entries.push([NUMBER, MORE, next(), next(), next(), next(), next()]);
            left -= 5;
        }
    }
}

/// Instructions with their notes put together.
///
/// # Errors
/// [`Error::Format`] when a custom instruction is cut off, with the number of its instruction.
pub fn steps(entries: &[[i32; 7]]) -> Result<Vec<Step>> {
    let mut out = Vec::new();
    let mut rest = entries.iter().enumerate();
    while let Some((n, entry)) = rest.next() {
        if entry[0] != NUMBER {
            out.push(Step::Entry(*entry));
            continue;
        }
        let bad = || Error::format(n as u64, "a custom instruction is cut off");
        let kind = u16::try_from(entry[1]).ok().filter(|k| i32::from(*k) != MORE).ok_or_else(bad)?;
        let count = usize::try_from(entry[2]).ok().filter(|c| *c <= MOST).ok_or_else(bad)?;
        let mut numbers: Vec<i32> = entry[3..].to_vec();
        while numbers.len() < count {
            let (_, more) = rest.next().ok_or_else(bad)?;
            if more[..2] != [NUMBER, MORE] {
                return Err(bad());
            }
            numbers.extend(&more[2..]);
        }
        numbers.truncate(count);
        out.push(Step::Custom(Custom { kind, numbers }));
    }
    Ok(out)
}

/// What the notes of a setup program of ours are. Numbers that name a text are its place in the table; -1 is none.
/// Lists come last: their length, then their items.
pub mod kind {
    /// The product: id, name, version, publisher, summary, homepage, support.
    pub const PRODUCT: u16 = 1;
    /// A rule: key, value.
    pub const RULE: u16 = 2;
    /// A program: key, file, kind of its working folder, its path, whether it is for a terminal, arguments.
    pub const PROGRAM: u16 = 3;
    /// A shortcut: place, name, program, description, arguments.
    pub const SHORTCUT: u16 = 4;
    /// A file type: media type, name, program, endings.
    pub const FILE_TYPE: u16 = 5;
    /// A link scheme: scheme, program.
    pub const LINK_SCHEME: u16 = 6;
    /// A variable: name, action, value.
    pub const ENVIRONMENT: u16 = 7;
    /// A registry value: root, view, key, name, type, then the number or the list of texts.
    pub const REGISTRY: u16 = 8;
    /// A service: name, title, description, program, start, account, arguments.
    pub const SERVICE: u16 = 9;
    /// A font: file, title.
    pub const FONT: u16 = 10;
    /// A choice: key, title, description, whether it is chosen.
    pub const CHOICE: u16 = 11;
    /// The files behind it belong to this choice: its number, or -1.
    pub const OF_CHOICE: u16 = 12;
    /// The files behind it stay if somebody changed them: 1, or 0.
    pub const KEPT: u16 = 13;
    /// One more name of a file: path, and the file's.
    pub const HARD_LINK: u16 = 14;
    /// The files: how many, and the stream's plain length behind the header (low and high half).
    pub const FILES: u16 = 15;
    /// A page: name, width, height, number of its default and of its cancelling control, title.
    pub const PAGE: u16 = 16;
    /// A control of the page before: kind, left, top, width, height, words, action, page, property.
    pub const CONTROL: u16 = 17;
    /// The wizard: accent, tint, licence.
    pub const WIZARD: u16 = 18;
    /// A language: code, list of the system's numbers for it; its words follow as a list of texts.
    pub const LANGUAGE: u16 = 19;
    /// What the words are, in the languages' order: keys.
    pub const WORDS: u16 = 20;
    /// Whether the program unpacks and runs without installing: program, settings beside, arguments.
    pub const PORTABLE: u16 = 21;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn notes_of_all_lengths_come_back_between_instructions() {
        let mut entries = alloc::vec![[11, 5, 1, 0, 0, 0, 0]];
        let mut steps_in = alloc::vec![Step::Entry(entries[0])];
        for length in 0..20 {
            let custom = Custom { kind: length as u16, numbers: (0..length).collect() };
            custom.put(&mut entries);
            entries.push([2, 7, 0, 0, 0, 0, 0]);
            steps_in.extend([Step::Custom(custom), Step::Entry([2, 7, 0, 0, 0, 0, 0])]);
        }
        assert_eq!(steps(&entries).expect("steps"), steps_in);
        assert!(steps(&entries[..entries.len() - 3]).is_err());
    }
}
