//! The table of texts. In UTF-16 texts the letters 1 to 4 begin codes: a language's text, a folder of the system, a
//! variable, and an escape for these letters themselves. Older tables have one byte a letter.

use crate::{Error, Result};
use alloc::vec::Vec;

const LANGUAGE: u16 = 1;
const SHELL: u16 = 2;
const VARIABLE: u16 = 3;
const ESCAPE: u16 = 4;
/// Texts longer than this are refused.
const LONGEST: usize = 1 << 20;

/// A code in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Code {
    /// A text of the language's table.
    Language(u16),
    /// A folder of the system: two numbers, for one user and for everyone.
    Shell(u16),
    /// A variable.
    Variable(u16),
}

/// A code's number, as it stands behind the code.
pub fn parameter(n: u16) -> u16 {
    (n & 0x7F) | ((n & 0x3F80) << 1) | 0x8080
}

fn number(parameter: u16) -> u16 {
    (parameter & 0x7F) | ((parameter >> 1) & 0x3F80)
}

/// Appends a text's letters to `out`, letters that would begin a code escaped.
pub fn escaped(text: &str, out: &mut Vec<u16>) {
    for unit in text.encode_utf16() {
        if (LANGUAGE..=ESCAPE).contains(&unit) {
            out.push(ESCAPE);
        }
        out.push(unit);
    }
}

/// Appends a variable to `out`.
pub fn variable(n: u16, out: &mut Vec<u16>) {
    out.extend([VARIABLE, parameter(n)]);
}

/// The table's form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// UTF-16.
    Wide,
    /// One byte a letter, codes 1 to 4 as above.
    #[cfg(feature = "files")]
    Bytes,
    /// One byte a letter, codes 252 to 255.
    #[cfg(feature = "files")]
    OldBytes,
}

/// A table of texts, as units.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Texts {
    /// The units.
    pub units: Vec<u16>,
    /// Their form.
    pub form: Form,
}

impl Texts {
    #[cfg(feature = "files")]
    /// Whether the text at a place begins with a folder's code: it is a whole path then.
    pub fn begins_with_code(&self, at: i32) -> bool {
        let unit = usize::try_from(at).ok().and_then(|at| self.units.get(at)).copied().unwrap_or(0);
        match self.form {
            Form::Wide | Form::Bytes => (LANGUAGE..ESCAPE).contains(&unit),
            Form::OldBytes => unit > 252,
        }
    }

    /// The text at a place; `code` appends what a code stands for.
    ///
    /// # Errors
    /// [`Error::Format`] for a place outside the table, or a text without an end.
    pub fn get(&self, at: i32, mut code: impl FnMut(Code, &mut Vec<u16>)) -> Result<Vec<u16>> {
        let start = usize::try_from(at).map_err(|_| Error::format(0, "a text's offset is negative"))?;
        let rest =
            self.units.get(start..).ok_or_else(|| Error::format(start as u64, "a text lies outside the table"))?;
        let mut units = rest.iter().copied();
        let mut out = Vec::new();
        let ended = || Error::format(start as u64, "a text has no end");
        while let Some(unit) = units.next() {
            if unit == 0 {
                return Ok(out);
            }
            if out.len() > LONGEST {
                return Err(Error::Limit("a text is too long"));
            }
            let kind = match self.form {
                Form::Wide if unit <= ESCAPE => unit,
                #[cfg(feature = "files")]
                Form::Bytes if unit <= ESCAPE => unit,
                // The same codes, counted down from 255.
                #[cfg(feature = "files")]
                Form::OldBytes if unit >= 252 => [ESCAPE, VARIABLE, SHELL, LANGUAGE][usize::from(unit - 252)],
                _ => {
                    out.push(unit);
                    continue;
                }
            };
            let first = units.next().ok_or_else(ended)?;
            if kind == ESCAPE {
                out.push(first);
                continue;
            }
            let raw = match self.form {
                Form::Wide => first,
                #[cfg(feature = "files")]
                Form::Bytes | Form::OldBytes => first | (units.next().ok_or_else(ended)? << 8),
            };
            let n = match self.form {
                #[cfg(feature = "files")]
                Form::OldBytes | Form::Bytes => (raw & 0x7F) | ((raw >> 8) & 0x7F) << 7,
                Form::Wide => number(raw),
            };
            code(
                match kind {
                    LANGUAGE => Code::Language(n),
                    SHELL => Code::Shell(raw),
                    _ => Code::Variable(n),
                },
                &mut out,
            );
        }
        Err(ended())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_and_variables_come_back() {
        let mut units = alloc::vec![0];
        variable(21, &mut units);
        escaped("\\a\u{1}\u{4}b \u{1F41D}", &mut units);
        units.push(0);
        let texts = Texts { units, form: Form::Wide };
        let mut seen = Vec::new();
        let text = texts.get(1, |code, _| seen.push(code)).expect("a text");
        assert_eq!(alloc::string::String::from_utf16(&text).expect("letters"), "\\a\u{1}\u{4}b \u{1F41D}");
        assert_eq!(seen, [Code::Variable(21)]);
        for n in [0, 1, 21, 127, 128, 300, 0x3FFF] {
            assert_eq!(number(parameter(n)), n);
            assert!(parameter(n) & 0xFF != 0 && parameter(n) >> 8 != 0, "no zero ends the text");
        }
        assert!(texts.get(99, |_, _| ()).is_err() && texts.get(-1, |_, _| ()).is_err());
    }

    #[test]
    fn texts_of_bytes_are_read_in_both_forms() {
        let mut units: Vec<u16> = alloc::vec![253, 0x95, 0x80];
        units.extend("\\x".encode_utf16().chain([0]));
        let mut seen = Vec::new();
        let texts = Texts { units: units.clone(), form: Form::OldBytes };
        assert_eq!(texts.get(0, |code, _| seen.push(code)).expect("a text").len(), 2);
        units[0] = 3;
        let texts = Texts { units, form: Form::Bytes };
        assert_eq!(texts.get(0, |code, _| seen.push(code)).expect("a text").len(), 2);
        assert_eq!(seen, [Code::Variable(21), Code::Variable(21)]);
    }
}
