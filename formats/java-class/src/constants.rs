//! The constant pool: all names and texts of a class.

use crate::bytes::Bytes;
use format_error::{Error, Result};
use std::borrow::Cow;
use std::collections::BTreeSet;

/// One of them, as far as it is of interest.
#[derive(Debug, Clone, Copy)]
enum Constant<'b> {
    /// Bytes of a text.
    Utf8(&'b [u8]),
    /// A class, by the number of its name.
    Class(u16),
    /// A text that code uses, by the number of its bytes.
    Text(u16),
    /// A module or a package, by the number of its name.
    Name(u16),
    Other,
}

pub struct Constants<'b>(Vec<Constant<'b>>);

/// Text as class files have it: UTF-8, except for zeros and letters beyond the first plane, which no name has.
fn text(bytes: &[u8]) -> Cow<'_, str> {
    String::from_utf8_lossy(bytes)
}

impl<'b> Constants<'b> {
    pub fn read(at: &mut Bytes<'b>) -> Result<Self> {
        let count = usize::from(at.u16()?);
        let mut all = Vec::with_capacity(count);
        // The first one has the number 1.
        all.push(Constant::Other);
        while all.len() < count {
            let offset = at.offset();
            let one = match at.u8()? {
                1 => {
                    let length = at.u16()?;
                    Constant::Utf8(at.take(length.into())?.rest())
                }
                7 => Constant::Class(at.u16()?),
                8 => Constant::Text(at.u16()?),
                19 | 20 => Constant::Name(at.u16()?),
                16 => {
                    at.skip(2)?;
                    Constant::Other
                }
                15 => {
                    at.skip(3)?;
                    Constant::Other
                }
                3 | 4 | 9 | 10 | 11 | 12 | 17 | 18 => {
                    at.skip(4)?;
                    Constant::Other
                }
                5 | 6 => {
                    at.skip(8)?;
                    // Long numbers take two places.
                    all.push(Constant::Other);
                    Constant::Other
                }
                other => return Err(Error::at(offset, format!("there is no constant of kind {other}"))),
            };
            all.push(one);
        }
        Ok(Self(all))
    }

    fn bytes(&self, number: u16) -> Result<&'b [u8]> {
        match self.0.get(usize::from(number)) {
            Some(Constant::Utf8(bytes)) => Ok(bytes),
            _ => Err(Error::at(8, format!("the constant {number} is no text"))),
        }
    }

    pub fn text(&self, number: u16) -> Result<Cow<'b, str>> {
        self.bytes(number).map(text)
    }

    /// The name of a class.
    pub fn class(&self, number: u16) -> Result<Cow<'b, str>> {
        match self.0.get(usize::from(number)) {
            Some(Constant::Class(name)) => self.text(*name),
            _ => Err(Error::at(8, format!("the constant {number} is no class"))),
        }
    }

    /// The name of a module or a package.
    pub fn name(&self, number: u16) -> Result<Cow<'b, str>> {
        match self.0.get(usize::from(number)) {
            Some(Constant::Name(name)) => self.text(*name),
            _ => Err(Error::at(8, format!("the constant {number} is no module and no package"))),
        }
    }

    /// All classes that are named, in descriptors, too.
    pub fn classes(&self) -> Result<BTreeSet<Cow<'b, str>>> {
        let mut all = BTreeSet::new();
        for one in &self.0 {
            match one {
                Constant::Class(name) => match self.bytes(*name)? {
                    array @ [b'[', ..] => in_descriptor(array, &mut all),
                    name => drop(all.insert(text(name))),
                },
                Constant::Utf8(bytes @ [b'(' | b'[' | b'L' | b'<', ..]) => in_descriptor(bytes, &mut all),
                Constant::Utf8(_) | Constant::Text(_) | Constant::Name(_) | Constant::Other => {}
            }
        }
        Ok(all)
    }

    /// The texts that code uses.
    pub fn texts(&self) -> Result<Vec<Cow<'b, str>>> {
        let texts = self.0.iter().filter_map(|one| if let Constant::Text(number) = one { Some(*number) } else { None });
        texts.map(|number| self.text(number)).collect()
    }
}

/// Whether a letter may be in the name of a class, or between its parts.
fn is_of_a_name(byte: u8) -> bool {
    byte >= 0x80 || byte.is_ascii_alphanumeric() || b"/$_-".contains(&byte)
}

/// The classes in a descriptor or a signature: `L`, a name, and `;` or `<`. What looks like one and is none does no harm: it is
/// looked for, and not found.
fn in_descriptor<'b>(bytes: &'b [u8], all: &mut BTreeSet<Cow<'b, str>>) {
    let mut at = 0;
    while let Some(start) = bytes[at..].iter().position(|byte| *byte == b'L').map(|found| at + found + 1) {
        let length = bytes[start..].iter().position(|byte| !is_of_a_name(*byte)).unwrap_or(bytes.len() - start);
        at = start + length;
        if length > 0 && matches!(bytes.get(at), Some(b';' | b'<')) {
            all.insert(text(&bytes[start..at]));
        }
    }
}
