//! The summary information: a property set of one section. Source: [MS-OLEPS], and Windows Installer's documentation for
//! what the numbers mean in a package.

use crate::{Error, Result};
use std::collections::BTreeMap;

/// The stream's name, which is not packed.
pub const STREAM: &str = "\u{5}SummaryInformation";
/// {F29F85E0-4FF9-1068-AB91-08002B27B3D9} in its stored byte order.
const FORMAT: [u8; 16] =
    [0xE0, 0x85, 0x9F, 0xF2, 0xF9, 0x4F, 0x68, 0x10, 0xAB, 0x91, 0x08, 0x00, 0x2B, 0x27, 0xB3, 0xD9];
const VT_I2: u32 = 2;
const VT_I4: u32 = 3;
const VT_LPSTR: u32 = 30;
const VT_FILETIME: u32 = 64;

/// The code page of the strings.
pub const CODE_PAGE: u32 = 1;
/// `Installation Database`.
pub const TITLE: u32 = 2;
/// The product's name.
pub const SUBJECT: u32 = 3;
/// The publisher.
pub const AUTHOR: u32 = 4;
/// Key words.
pub const KEYWORDS: u32 = 5;
/// What it is for.
pub const COMMENTS: u32 = 6;
/// Processor and languages: `x64;1033`.
pub const TEMPLATE: u32 = 7;
/// The package code.
pub const REVISION: u32 = 9;
/// When it was made.
pub const CREATED: u32 = 12;
/// When it was last saved.
pub const SAVED: u32 = 13;
/// The smallest version of Windows Installer, times 100.
pub const PAGE_COUNT: u32 = 14;
/// The kind of source: bit 0 short names, bit 1 compressed, bit 3 no elevation.
pub const WORD_COUNT: u32 = 15;
/// What made it.
pub const APPLICATION: u32 = 18;
/// 2: opened for reading only is recommended.
pub const SECURITY: u32 = 19;

/// A property.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Property {
    /// A number of two bytes.
    Short(i16),
    /// A number of four bytes.
    Long(i32),
    /// Text.
    Text(String),
    /// 100 nanoseconds since 1601.
    Time(u64),
}

/// A summary: properties by number.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Summary {
    /// The properties.
    pub properties: BTreeMap<u32, Property>,
}

impl Summary {
    /// A text; empty if there is none.
    pub fn text(&self, id: u32) -> &str {
        if let Some(Property::Text(text)) = self.properties.get(&id) { text } else { "" }
    }

    /// A number.
    pub fn number(&self, id: u32) -> Option<i32> {
        match self.properties.get(&id) {
            Some(Property::Short(n)) => Some(i32::from(*n)),
            Some(Property::Long(n)) => Some(*n),
            _ => None,
        }
    }

    /// The stream's bytes; text goes through `encode`.
    pub(crate) fn write(&self, encode: impl Fn(&str) -> Vec<u8>) -> Vec<u8> {
        let mut offsets = Vec::new();
        let mut values = Vec::new();
        let head = 8 + self.properties.len() * 8;
        for (id, property) in &self.properties {
            offsets.extend_from_slice(&id.to_le_bytes());
            offsets.extend_from_slice(&((head + values.len()) as u32).to_le_bytes());
            match property {
                Property::Short(n) => {
                    values.extend_from_slice(&VT_I2.to_le_bytes());
                    values.extend_from_slice(&i32::from(*n).to_le_bytes());
                }
                Property::Long(n) => {
                    values.extend_from_slice(&VT_I4.to_le_bytes());
                    values.extend_from_slice(&n.to_le_bytes());
                }
                Property::Text(text) => {
                    let mut bytes = encode(text);
                    bytes.push(0);
                    values.extend_from_slice(&VT_LPSTR.to_le_bytes());
                    values.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
                    values.extend_from_slice(&bytes);
                    values.resize(values.len().next_multiple_of(4), 0);
                }
                Property::Time(time) => {
                    values.extend_from_slice(&VT_FILETIME.to_le_bytes());
                    values.extend_from_slice(&time.to_le_bytes());
                }
            }
        }
        let mut out = Vec::new();
        // Byte order, version, system (Windows 10), class, one section at 48.
        out.extend_from_slice(&[0xFE, 0xFF, 0, 0, 10, 0, 2, 0]);
        out.extend_from_slice(&[0; 16]);
        out.extend_from_slice(&1u32.to_le_bytes());
        out.extend_from_slice(&FORMAT);
        out.extend_from_slice(&48u32.to_le_bytes());
        out.extend_from_slice(&((head + values.len()) as u32).to_le_bytes());
        out.extend_from_slice(&(self.properties.len() as u32).to_le_bytes());
        out.extend(offsets);
        out.extend(values);
        out
    }

    /// From the stream's bytes; text goes through `decode`, which gets the code page that the summary names.
    ///
    /// # Errors
    /// [`Error::Format`], with the offset in the stream.
    pub(crate) fn read(bytes: &[u8], decode: impl Fn(&[u8], u32) -> String) -> Result<Self> {
        let bad = |at: usize, what: &str| Error::format(at as u64, format!("summary information: {what}"));
        let long = |at: usize| {
            let four = bytes.get(at..).and_then(|b| b.first_chunk::<4>());
            four.map(|b| u32::from_le_bytes(*b)).ok_or_else(|| bad(at, "cut off"))
        };
        if !bytes.starts_with(&[0xFE, 0xFF]) {
            return Err(bad(0, "not a property set"));
        }
        let section = long(44)? as usize;
        let count = long(section.saturating_add(4))?;
        if count > 1000 {
            return Err(bad(section, "more than 1000 properties"));
        }
        let mut places = Vec::new();
        for n in 0..count as usize {
            let at = section + 8 + n * 8;
            places.push((long(at)?, section.saturating_add(long(at + 4)? as usize)));
        }
        let mut code_page = 1252;
        if let Some((_, at)) = places.iter().find(|(id, _)| *id == CODE_PAGE) {
            code_page = long(at.saturating_add(4))? & 0xFFFF;
        }
        let mut properties = BTreeMap::new();
        for (id, at) in places {
            let value = at.saturating_add(4);
            let property = match long(at)? & 0xFFFF {
                VT_I2 => Property::Short(long(value)? as i16),
                VT_I4 => Property::Long(long(value)? as i32),
                VT_LPSTR => {
                    let length = long(value)? as usize;
                    let begin = value.saturating_add(4);
                    let text =
                        bytes.get(begin..begin.saturating_add(length)).ok_or_else(|| bad(at, "a text is cut off"))?;
                    let end = text.iter().position(|b| *b == 0).unwrap_or(text.len());
                    Property::Text(decode(&text[..end], code_page))
                }
                VT_FILETIME => Property::Time(u64::from(long(value)?) | u64::from(long(value + 4)?) << 32),
                _ => continue,
            };
            properties.insert(id, property);
        }
        Ok(Self { properties })
    }
}

/// A moment in seconds since 1970 as 100 nanoseconds since 1601.
pub fn file_time(seconds: u32) -> u64 {
    (u64::from(seconds) + 11_644_473_600) * 10_000_000
}
