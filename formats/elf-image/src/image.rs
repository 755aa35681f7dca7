//! The parts of a file that the loader looks at.

use format_error::{Error, Result};
use read_at::ReadAt;

pub(crate) const LOAD: u32 = 1;
pub(crate) const DYNAMIC: u32 = 2;
const INTERPRETER: u32 = 3;
pub(crate) const NOTE: u32 = 4;
pub(crate) const NO_BITS: u32 = 8;

pub(crate) const NEEDED: u64 = 1;
pub(crate) const STRINGS: u64 = 5;
pub(crate) const STRINGS_SIZE: u64 = 10;
const NAME: u64 = 14;
/// Looked through for whatever is loaded by what this file loads, and before the variable of the loader.
pub(crate) const INHERITED_PATH: u64 = 15;
/// Looked through for this file's own needs only, and after that variable.
pub(crate) const OWN_PATH: u64 = 29;

/// Bytes of the headers and of their entries.
const HEADER: usize = 64;
pub(crate) const SEGMENT: u64 = 56;
pub(crate) const SECTION: u64 = 64;
pub(crate) const ENTRY: u64 = 16;
/// No file has more segments, entries or bytes of texts.
const MOST_SEGMENTS: u16 = 512;
const MOST_ENTRIES: u64 = 1 << 16;
const MOST_TEXT: u64 = 64 << 20;

/// What a file tells the loader.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Linking {
    /// Whether it can be started: it names the loader.
    pub is_program: bool,
    /// The name by which others need it.
    pub name: Option<String>,
    /// The libraries that it needs.
    pub needed: Vec<String>,
    /// Folders in which these are looked for, separated by colons.
    pub run_path: Option<String>,
    /// Whether these folders count for what its libraries need, too.
    pub is_inherited: bool,
}

#[derive(Debug, Clone, Copy)]
pub(crate) struct Segment {
    pub kind: u32,
    pub offset: u64,
    pub address: u64,
    pub in_file: u64,
    pub in_memory: u64,
    pub align: u64,
}

impl Segment {
    pub fn end(&self) -> u64 {
        self.offset.saturating_add(self.in_file)
    }

    pub fn end_in_memory(&self) -> u64 {
        self.address.saturating_add(self.in_memory)
    }
}

#[derive(Debug, Clone, Copy)]
pub(crate) struct Section {
    pub kind: u32,
    pub address: u64,
    pub offset: u64,
    pub size: u64,
}

/// A file that is linked dynamically.
#[derive(Debug)]
pub(crate) struct Image {
    pub size: u64,
    pub segments_at: u64,
    pub sections_at: u64,
    pub segments: Vec<Segment>,
    pub sections: Vec<Section>,
    /// Where its dynamic section is in the file, and how many entries it has room for.
    pub dynamic_at: u64,
    pub room: u64,
    /// Its entries, without the ones that end it: what they are, and what they say.
    pub entries: Vec<(u64, u64)>,
    /// Where the texts are, in memory.
    pub strings_address: u64,
    pub strings: Vec<u8>,
}

fn number(bytes: &[u8], at: usize, length: usize) -> u64 {
    bytes[at..at + length].iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

fn bytes(source: &impl ReadAt, size: u64, at: u64, length: u64, what: &str) -> Result<Vec<u8>> {
    if at.checked_add(length).is_none_or(|end| end > size) {
        return Err(Error::format(at, format!("{what} reach past the end of the file")));
    }
    let mut all = vec![0; length as usize];
    source.read_exact_at(&mut all, at)?;
    Ok(all)
}

impl Image {
    /// Nothing for what is no ELF file, or needs no loader.
    pub fn read(source: &impl ReadAt) -> Result<Option<Self>> {
        let size = source.length()?;
        let mut header = [0; HEADER];
        if size < HEADER as u64 {
            return Ok(None);
        }
        source.read_exact_at(&mut header, 0)?;
        if &header[..4] != b"\x7fELF" {
            return Ok(None);
        }
        if header[4..6] != [2, 1] {
            return Err(Error::Unsupported(
                "only ELF files of 64 bits with the lowest byte first are supported".to_owned(),
            ));
        }
        let (segments_at, sections_at) = (number(&header, 32, 8), number(&header, 40, 8));
        let count = number(&header, 56, 2) as u16;
        if count > MOST_SEGMENTS || count > 0 && number(&header, 54, 2) != SEGMENT {
            return Err(Error::at(54, "the table of segments is malformed"));
        }
        let table = bytes(source, size, segments_at, u64::from(count) * SEGMENT, "segments")?;
        let segment = |one: &[u8]| Segment {
            kind: number(one, 0, 4) as u32,
            offset: number(one, 8, 8),
            address: number(one, 16, 8),
            in_file: number(one, 32, 8),
            in_memory: number(one, 40, 8),
            align: number(one, 48, 8),
        };
        let segments: Vec<Segment> = table.chunks_exact(SEGMENT as usize).map(segment).collect();
        let Some(dynamic) = segments.iter().find(|segment| segment.kind == DYNAMIC) else { return Ok(None) };
        let count = number(&header, 60, 2);
        let has_sections = sections_at > 0 && count > 0 && number(&header, 58, 2) == SECTION;
        let table = match has_sections {
            true => bytes(source, size, sections_at, count * SECTION, "sections")?,
            false => Vec::new(),
        };
        let section = |one: &[u8]| Section {
            kind: number(one, 4, 4) as u32,
            address: number(one, 16, 8),
            offset: number(one, 24, 8),
            size: number(one, 32, 8),
        };
        let sections = table.chunks_exact(SECTION as usize).map(section).collect();
        let room = dynamic.in_file / ENTRY;
        if room > MOST_ENTRIES {
            return Err(Error::format(dynamic.offset, format!("a dynamic section of {room} entries")));
        }
        let table = bytes(source, size, dynamic.offset, room * ENTRY, "dynamic entries")?;
        let entries = table.chunks_exact(ENTRY as usize).map(|one| (number(one, 0, 8), number(one, 8, 8)));
        let entries: Vec<(u64, u64)> = entries.take_while(|(tag, _)| *tag != 0).collect();
        let value = |wanted: u64| entries.iter().find(|(tag, _)| *tag == wanted).map(|(_, value)| *value);
        let (address, length) = (value(STRINGS).unwrap_or(0), value(STRINGS_SIZE).unwrap_or(0));
        if length > MOST_TEXT {
            return Err(Error::format(dynamic.offset, format!("{length} bytes of names")));
        }
        let (strings_address, dynamic_at) = (address, dynamic.offset);
        let strings = match in_file(&segments, address) {
            Some(at) => bytes(source, size, at, length, "names")?,
            None if length == 0 => Vec::new(),
            None => return Err(Error::format(dynamic.offset, "the names lie in no segment")),
        };
        Ok(Some(Self {
            size,
            segments_at,
            sections_at: if has_sections { sections_at } else { 0 },
            segments,
            sections,
            dynamic_at,
            room,
            entries,
            strings_address,
            strings,
        }))
    }

    /// A text of the file.
    pub fn text(&self, at: u64) -> Result<String> {
        let rest = usize::try_from(at).ok().and_then(|at| self.strings.get(at..));
        let text = rest.and_then(|rest| rest.split(|b| *b == 0).next());
        let text = text.ok_or_else(|| Error::format(self.dynamic_at, format!("there is no name at {at}")))?;
        Ok(String::from_utf8_lossy(text).into_owned())
    }

    pub fn linking(&self) -> Result<Linking> {
        let mut linking = Linking {
            is_program: self.segments.iter().any(|segment| segment.kind == INTERPRETER),
            ..Linking::default()
        };
        for (tag, value) in &self.entries {
            match *tag {
                NEEDED => linking.needed.push(self.text(*value)?),
                NAME => linking.name = Some(self.text(*value)?),
                OWN_PATH => (linking.run_path, linking.is_inherited) = (Some(self.text(*value)?), false),
                // Of the two, the loader takes the other one.
                INHERITED_PATH if linking.run_path.is_none() => {
                    (linking.run_path, linking.is_inherited) = (Some(self.text(*value)?), true);
                }
                _ => {}
            }
        }
        Ok(linking)
    }
}

/// Where in the file an address lies.
pub(crate) fn in_file(segments: &[Segment], address: u64) -> Option<u64> {
    let holds = |s: &&Segment| s.kind == LOAD && s.address <= address && address - s.address < s.in_file;
    segments.iter().find(holds).map(|segment| segment.offset.saturating_add(address - segment.address))
}

/// What a file tells the loader; nothing for what is no ELF file, or is not linked dynamically.
///
/// # Errors
/// It is damaged, of 32 bits, or can't be read.
pub fn read(source: &impl ReadAt) -> Result<Option<Linking>> {
    Image::read(source)?.map(|image| image.linking()).transpose()
}
