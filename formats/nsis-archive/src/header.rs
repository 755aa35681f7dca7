//! The header: instructions and texts as bytes, and back.

use crate::structs::{ENTRY, HEADER_FIXED, SECTION, block};
use crate::text::{Form, Texts, escaped, variable};
use crate::{Error, Result};
use alloc::vec::Vec;

/// Instructions that a reader takes.
const MOST_ENTRIES: usize = 8 << 20;
/// The parts of a header, from its fifth byte on: place and count of each.
const PARTS: usize = 8;

/// A header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header {
    /// The format's flags; 0 in ours.
    pub flags: u32,
    /// Instructions.
    pub entries: Vec<[i32; 7]>,
    /// Texts.
    pub texts: Texts,
}

fn u32_at(bytes: &[u8], at: usize) -> Result<u32> {
    match bytes.get(at..).and_then(|b| b.get(..4)) {
        Some(b) => Ok(u32::from_le_bytes([b[0], b[1], b[2], b[3]])),
        None => Err(Error::format(at as u64, "the header ends too early")),
    }
}

impl Header {
    /// Reads a header's bytes.
    ///
    /// # Errors
    /// [`Error::Format`] when a part lies outside them.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        let flags = u32_at(bytes, 0)?;
        let part = |n: usize| -> Result<(usize, usize)> {
            Ok((u32_at(bytes, 4 + n * 8)? as usize, u32_at(bytes, 8 + n * 8)? as usize))
        };
        let (entries_at, count) = part(block::ENTRIES)?;
        if count > MOST_ENTRIES {
            return Err(Error::Limit("too many instructions"));
        }
        let mut entries = Vec::new();
        let length = count * ENTRY;
        let of_entries = bytes.get(entries_at..).and_then(|b| b.get(..length));
        let of_entries = of_entries.ok_or(Error::format(entries_at as u64, "instructions lie outside the header"))?;
        entries.reserve_exact(count);
        for entry in of_entries.chunks_exact(ENTRY) {
            let mut numbers = [0; 7];
            for (number, bytes) in numbers.iter_mut().zip(entry.chunks_exact(4)) {
                *number = i32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
            }
            entries.push(numbers);
        }
        let (strings_at, _) = part(block::STRINGS)?;
        let mut strings_end = bytes.len();
        for n in block::STRINGS + 1..PARTS {
            let (at, _) = part(n)?;
            if at > strings_at && at < strings_end {
                strings_end = at;
            }
        }
        let strings = bytes.get(strings_at..strings_end);
        let strings = strings.ok_or(Error::format(strings_at as u64, "texts lie outside the header"))?;
        Ok(Self { flags, entries, texts: texts(strings) })
    }

    /// Its bytes. There is one section, which holds all instructions.
    ///
    /// # Errors
    /// [`Error::Limit`] when it would pass the format's 2 GiB.
    pub fn write(&self) -> Result<Vec<u8>> {
        let sections_at = HEADER_FIXED;
        let entries_at = sections_at + SECTION;
        let strings_at = entries_at + self.entries.len() * ENTRY;
        let end = strings_at + self.texts.units.len() * 2;
        if end > i32::MAX as usize {
            return Err(Error::Limit("too many files for one setup program"));
        }
        let mut out = Vec::with_capacity(end);
        let mut put = |n: u32| out.extend_from_slice(&n.to_le_bytes());
        put(self.flags);
        let parts = [
            (HEADER_FIXED, 0),
            (sections_at, 1),
            (entries_at, self.entries.len()),
            (strings_at, self.texts.units.len()),
            (end, 0),
            (end, 0),
            (end, 0),
            (end, 0),
        ];
        for (at, count) in parts {
            put(at as u32);
            put(count as u32);
        }
        // The format's own root key, key and value names, colours, and length of a language's table: none.
        [0; 8].iter().for_each(|n| put(*n));
        // Places in the code that are called at certain moments: none.
        [u32::MAX; 10].iter().for_each(|n| put(*n));
        put(u32::MAX);
        [0; 33 + 5].iter().for_each(|n| put(*n));
        // The section: name, kinds of installation, flags, first instruction, how many, size.
        for n in [0, 1, 1, 0, self.entries.len() as u32, 0] {
            put(n);
        }
        out.resize(entries_at, 0);
        for number in self.entries.iter().flatten() {
            out.extend_from_slice(&number.to_le_bytes());
        }
        for unit in &self.texts.units {
            out.extend_from_slice(&unit.to_le_bytes());
        }
        Ok(out)
    }
}

fn texts(bytes: &[u8]) -> Texts {
    // The first text is empty: two zero bytes say that letters have two bytes.
    if bytes.starts_with(&[0, 0]) {
        let units = bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
        return Texts { units, form: Form::Wide };
    }
    texts_of_bytes(bytes)
}

/// Others' tables; a head reads its own only.
#[cfg(not(feature = "files"))]
fn texts_of_bytes(_: &[u8]) -> Texts {
    Texts { units: Vec::new(), form: Form::Wide }
}

#[cfg(feature = "files")]
fn texts_of_bytes(bytes: &[u8]) -> Texts {
    let units: Vec<u16> = bytes.iter().map(|b| u16::from(*b)).collect();
    // A variable's code stands in every installer of either kind.
    let old = bytes.windows(3).filter(|w| w[0] == 253 && w[1] & w[2] & 0x80 != 0).count();
    let new = bytes.windows(3).filter(|w| w[0] == 3 && w[1] & w[2] & 0x80 != 0).count();
    Texts { units, form: if old > new { Form::OldBytes } else { Form::Bytes } }
}

/// Builds a table of texts; a text that is there already is not stored again.
#[derive(Debug)]
pub struct TextBuilder {
    units: Vec<u16>,
    known: alloc::collections::BTreeMap<alloc::string::String, i32>,
    /// The token in texts that becomes the variable of the product's folder.
    token: &'static str,
}

impl TextBuilder {
    /// An empty table. `token` in texts stands for the product's folder.
    pub fn new(token: &'static str) -> Self {
        Self { units: alloc::vec![0], known: Default::default(), token }
    }

    /// A text's place.
    pub fn add(&mut self, text: &str) -> i32 {
        if text.is_empty() {
            return 0;
        }
        if let Some(at) = self.known.get(text) {
            return *at;
        }
        let at = self.units.len() as i32;
        for (n, part) in text.split(self.token).enumerate() {
            if n > 0 {
                variable(crate::structs::variable::INSTALL, &mut self.units);
            }
            escaped(part, &mut self.units);
        }
        self.units.push(0);
        self.known.insert(text.into(), at);
        at
    }

    /// The place of a text in which the token stands for nothing but its own letters: a name.
    pub fn add_plain(&mut self, text: &str) -> i32 {
        if !text.contains(self.token) {
            return self.add(text);
        }
        // No other text is known by a name that begins with a zero.
        let name = alloc::format!("\0{text}");
        if let Some(at) = self.known.get(&name) {
            return *at;
        }
        let at = self.units.len() as i32;
        escaped(text, &mut self.units);
        self.units.push(0);
        self.known.insert(name, at);
        at
    }

    /// The place of a path in the product's folder, each of whose names means its own letters.
    pub fn add_inside(&mut self, path: &str) -> i32 {
        let name = alloc::format!("\0\\{path}");
        if let Some(at) = self.known.get(&name) {
            return *at;
        }
        let at = self.units.len() as i32;
        variable(crate::structs::variable::INSTALL, &mut self.units);
        if !path.is_empty() {
            escaped("\\", &mut self.units);
            escaped(path, &mut self.units);
        }
        self.units.push(0);
        self.known.insert(name, at);
        at
    }

    /// The table.
    pub fn finish(self) -> Texts {
        Texts { units: self.units, form: Form::Wide }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_header_comes_back() {
        let mut texts = TextBuilder::new("{install}");
        let (a, b) = (texts.add("{install}\\hives"), texts.add("bees"));
        assert_eq!(texts.add("bees"), b);
        let plain = texts.add_plain("a{install}b");
        assert_eq!((texts.add_plain("a{install}b"), texts.add_plain("bees")), (plain, b));
        assert_ne!(texts.add("a{install}b"), plain);
        assert_eq!(texts.add_inside("hives"), texts.add_inside("hives"));
        let header = Header { flags: 0, entries: alloc::vec![[11, a, 1, 0, 0, 0, 0]; 3], texts: texts.finish() };
        let bytes = header.write().expect("bytes");
        assert_eq!(Header::parse(&bytes).expect("a header"), header);
        for length in 0..bytes.len() - header.texts.units.len() * 2 {
            assert!(Header::parse(&bytes[..length]).is_err(), "{length}");
        }
    }
}
