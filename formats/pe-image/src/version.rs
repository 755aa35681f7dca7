//! Version information: numbers for programs, texts for people.

use crate::bytes::{part, u16_at, u32_at};
use crate::resources::{Key, Resources, kinds};
use crate::{Error, Result};
use std::collections::BTreeMap;

const SIGN: u32 = 0xFEEF_04BD;
/// American English, UTF-16.
const LANGUAGE: u16 = 1033;
const CODE_PAGE: u16 = 1200;

/// What a program says of itself in its properties.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Version {
    /// The file's version.
    pub file: [u16; 4],
    /// The product's.
    pub product: [u16; 4],
    /// Texts by Windows' own names for them: `CompanyName`, `FileDescription`, `FileVersion`, `InternalName`,
    /// `LegalCopyright`, `OriginalFilename`, `ProductName`, `ProductVersion`.
    pub texts: BTreeMap<String, String>,
}

impl Version {
    /// What the resources say; `None` if they say nothing.
    ///
    /// # Errors
    /// [`Error::Format`] when it is damaged; offsets count from the resource's start.
    pub fn read(resources: &Resources) -> Result<Option<Self>> {
        let Some((.., bytes)) = resources.of_kind(kinds::VERSION).next() else { return Ok(None) };
        let root = Block::read(bytes, 0)?;
        let fixed = root.value;
        if u32_at(fixed, 0)? != SIGN {
            return Err(Error::at(0, "the signature of the version information is missing"));
        }
        let numbers = |at: usize| -> Result<[u16; 4]> {
            Ok([u16_at(fixed, at + 2)?, u16_at(fixed, at)?, u16_at(fixed, at + 6)?, u16_at(fixed, at + 4)?])
        };
        let mut version = Self { file: numbers(8)?, product: numbers(16)?, texts: BTreeMap::new() };
        for child in root.children()? {
            if child.key != "StringFileInfo" {
                continue;
            }
            for table in child.children()? {
                for text in table.children()? {
                    let units: Vec<u16> =
                        text.value.as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b)).collect();
                    let value = String::from_utf16_lossy(&units).trim_end_matches('\0').to_owned();
                    version.texts.entry(text.key).or_insert(value);
                }
            }
        }
        Ok(Some(version))
    }

    /// Puts it into the resources, in place of all that they said before.
    pub fn put(&self, resources: &mut Resources) {
        resources.remove(kinds::VERSION, |_| true);
        resources.put(kinds::VERSION, Key::Id(1), LANGUAGE, self.bytes());
    }

    fn bytes(&self) -> Vec<u8> {
        let double = |n: [u16; 4]| [u32::from(n[0]) << 16 | u32::from(n[1]), u32::from(n[2]) << 16 | u32::from(n[3])];
        let ([f1, f2], [p1, p2]) = (double(self.file), double(self.product));
        // Structure version 1.0, flags: none of 63, for 32-bit Windows, an application.
        let fixed: Vec<u8> = [SIGN, 0x1_0000, f1, f2, p1, p2, 63, 0, 0x4_0004, 1, 0, 0, 0]
            .into_iter()
            .flat_map(u32::to_le_bytes)
            .collect();
        let texts = self.texts.iter().map(|(key, value)| {
            let units: Vec<u16> = value.encode_utf16().chain([0]).collect();
            let bytes: Vec<u8> = units.iter().flat_map(|u| u.to_le_bytes()).collect();
            // The length of a text counts units, not bytes.
            block(key, true, units.len(), &bytes, &[])
        });
        let table = block(&format!("{LANGUAGE:04x}{CODE_PAGE:04x}"), true, 0, &[], &texts.collect::<Vec<_>>());
        let strings = block("StringFileInfo", true, 0, &[], &[table]);
        let pair = [LANGUAGE.to_le_bytes(), CODE_PAGE.to_le_bytes()].concat();
        let translation = block("Translation", false, pair.len(), &pair, &[]);
        let variables = block("VarFileInfo", true, 0, &[], &[translation]);
        block("VS_VERSION_INFO", false, fixed.len(), &fixed, &[strings, variables])
    }
}

fn pad(bytes: &mut Vec<u8>) {
    bytes.resize(bytes.len().next_multiple_of(4), 0);
}

/// A block: length, length of the value, kind, key, value, blocks inside; each part at a multiple of four.
fn block(key: &str, is_text: bool, value_len: usize, value: &[u8], inside: &[Vec<u8>]) -> Vec<u8> {
    let mut out = vec![0, 0];
    out.extend_from_slice(&(value_len as u16).to_le_bytes());
    out.extend_from_slice(&u16::from(is_text).to_le_bytes());
    out.extend(key.encode_utf16().chain([0]).flat_map(u16::to_le_bytes));
    pad(&mut out);
    out.extend_from_slice(value);
    for block in inside {
        pad(&mut out);
        out.extend_from_slice(block);
    }
    let length = (out.len() as u16).to_le_bytes();
    out[..2].copy_from_slice(&length);
    out
}

struct Block<'b> {
    key: String,
    value: &'b [u8],
    inside: &'b [u8],
    at: usize,
}

impl<'b> Block<'b> {
    fn read(bytes: &'b [u8], at: usize) -> Result<Self> {
        let length = usize::from(u16_at(bytes, 0)?);
        let is_text = u16_at(bytes, 4)? == 1;
        let value_len = usize::from(u16_at(bytes, 2)?) * if is_text { 2 } else { 1 };
        let bytes = part(bytes, 0, length)?;
        let units = bytes.get(6..).unwrap_or_default().as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b));
        let key: Vec<u16> = units.take_while(|u| *u != 0).collect();
        let value_at = (6 + (key.len() + 1) * 2).next_multiple_of(4).min(length);
        // Some tools count bytes where units are meant: a value ends with its block at the latest.
        let value_end = (value_at + value_len).min(length);
        let inside_at = value_end.next_multiple_of(4).min(length);
        let key = String::from_utf16_lossy(&key);
        Ok(Self { key, value: &bytes[value_at..value_end], inside: &bytes[inside_at..], at: at + inside_at })
    }

    fn children(&self) -> Result<Vec<Block<'b>>> {
        let mut all = Vec::new();
        let mut at = 0;
        while at + 6 <= self.inside.len() {
            let length = usize::from(u16_at(self.inside, at)?);
            if length < 6 {
                return Err(Error::at(self.at + at, format!("a block of {length} bytes")));
            }
            all.push(Block::read(&self.inside[at..], self.at + at)?);
            at = (at + length).next_multiple_of(4);
        }
        Ok(all)
    }
}
