//! The reader: any bytes in, data or an error out.

use crate::{Error, Result};
use read_at::ReadAt;
use std::fmt;

const MAGIC_64: u32 = 0xFEED_FACF;
const MAGIC_32: u32 = 0xFEED_FACE;
const FAT: u32 = 0xCAFE_BABE;
const FAT_64: u32 = 0xCAFE_BABF;
/// A file that begins as a universal one with more parts than this is a Java class.
const MOST_PARTS: u32 = 20;
/// What an archive begins with.
const ARCHIVE: &[u8; 8] = b"!<arch>\n";
/// Load commands of one part, bytes and number.
const MOST_COMMANDS: u32 = 4 << 20;

/// Which processor a part is for: type and subtype.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Processor(pub u32, pub u32);

impl Processor {
    /// 64-bit x86.
    pub const X86_64: Self = Self(0x0100_0007, 3);
    /// 64-bit ARM.
    pub const ARM64: Self = Self(0x0100_000C, 0);

    /// Its usual name; none for one that macOS no longer runs on.
    pub fn name(self) -> Option<&'static str> {
        Some(match (self.0, self.1 & 0x00FF_FFFF) {
            (0x0100_0007, 8) => "x86_64h",
            (0x0100_0007, _) => "x86_64",
            (0x0100_000C, 2) => "arm64e",
            (0x0100_000C, _) => "arm64",
            (7, _) => "i386",
            (18, _) => "ppc",
            _ => return None,
        })
    }
}

impl fmt::Display for Processor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.pad(name),
            None => write!(f, "processor {:#x}", self.0),
        }
    }
}

impl fmt::Debug for Processor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// What a part is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// Something to be linked.
    Object,
    /// A program.
    Program,
    /// A library that is loaded by its path.
    Library,
    /// A library that is loaded when asked for.
    Bundle,
    /// Anything else, by its number.
    Other(u32),
}

/// A version of a system: 16, 8 and 8 bits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Version(pub u16, pub u8, pub u8);

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self(major, minor, patch) = self;
        if *patch == 0 { write!(f, "{major}.{minor}") } else { write!(f, "{major}.{minor}.{patch}") }
    }
}

impl fmt::Debug for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// A library that is loaded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Library {
    /// Where, as the program says it: absolute, or from `@rpath`, `@executable_path`, `@loader_path`.
    pub path: String,
    /// Whether the program starts without it too.
    pub optional: bool,
}

/// The part for one processor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slice {
    /// Whose.
    pub processor: Processor,
    /// Where it begins in the file.
    pub offset: u64,
    /// Bytes.
    pub size: u64,
    /// What it is.
    pub kind: FileKind,
    /// The smallest macOS that it runs on; none if it is for another system or does not say.
    pub minimum_system: Option<Version>,
    /// What it was built against.
    pub sdk: Option<Version>,
    /// What is loaded with it.
    pub libraries: Vec<Library>,
    /// For a library, the path that it goes by.
    pub own_path: Option<String>,
    /// Where `@rpath` looks.
    pub search_paths: Vec<String>,
    /// Where its signature is, from the part's start, and how long.
    pub signature: Option<(u32, u32)>,
    /// Bytes between the load commands and what follows: room for another command.
    pub room: u64,
}

/// A Mach-O file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// Its parts, in the file's order.
    pub slices: Vec<Slice>,
    /// Whether it is a universal file, even of one part.
    pub universal: bool,
}

struct Bytes<'b> {
    bytes: &'b [u8],
    big: bool,
    at: u64,
}

impl Bytes<'_> {
    fn u32(&self, at: usize) -> Result<u32> {
        let four = at.checked_add(4).and_then(|end| self.bytes.get(at..end)).and_then(|b| b.try_into().ok());
        let four = four.ok_or_else(|| Error::format(self.at + at as u64, "a load command is cut off"))?;
        Ok(if self.big { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) })
    }

    fn text(&self, at: usize) -> Result<String> {
        let start = self.u32(at)? as usize;
        let bytes = self.bytes.get(start..).filter(|_| start >= 12);
        let bytes = bytes.ok_or_else(|| Error::format(self.at, "a load command's text is outside of it"))?;
        let text = bytes.split(|b| *b == 0).next().unwrap_or_default();
        Ok(String::from_utf8_lossy(text).into_owned())
    }
}

fn version(number: u32) -> Version {
    Version((number >> 16) as u16, (number >> 8) as u8, number as u8)
}

fn exact<R: ReadAt>(source: &R, at: u64, length: usize) -> Result<Vec<u8>> {
    let mut bytes = vec![0; length];
    source.read_exact_at(&mut bytes, at).map_err(|e| match e.kind() {
        std::io::ErrorKind::UnexpectedEof => Error::format(at, "the file ends too early"),
        _ => Error::Io(e),
    })?;
    Ok(bytes)
}

fn slice<R: ReadAt>(source: &R, offset: u64, size: u64) -> Result<Slice> {
    let head = exact(source, offset, 32)?;
    let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    let (big, wide) = match (word(0), word(0).swap_bytes()) {
        (MAGIC_64, _) => (false, true),
        (MAGIC_32, _) => (false, false),
        (_, MAGIC_64) => (true, true),
        (_, MAGIC_32) => (true, false),
        _ => return Err(Error::format(offset, "a part of the universal file isn't a Mach-O file")),
    };
    let head = Bytes { bytes: &head, big, at: offset };
    let header = if wide { 32 } else { 28 };
    let (count, length) = (head.u32(16)?, head.u32(20)?);
    if length > MOST_COMMANDS || u64::from(length) + header > size || count > length / 8 {
        return Err(Error::format(offset + 16, format!("{count} load commands of {length} bytes")));
    }
    let mut slice = Slice {
        processor: Processor(head.u32(4)?, head.u32(8)?),
        offset,
        size,
        kind: match head.u32(12)? {
            1 => FileKind::Object,
            2 => FileKind::Program,
            6 => FileKind::Library,
            8 => FileKind::Bundle,
            other => FileKind::Other(other),
        },
        minimum_system: None,
        sdk: None,
        libraries: Vec::new(),
        own_path: None,
        search_paths: Vec::new(),
        signature: None,
        room: 0,
    };
    let commands = exact(source, offset + header, length as usize)?;
    let mut first_content = size;
    let mut at = 0;
    for _ in 0..count {
        let place = offset + header + at as u64;
        let rest = Bytes { bytes: &commands[at..], big, at: place };
        let (kind, length) = (rest.u32(0)?, rest.u32(4)? as usize);
        if length < 8 || length > rest.bytes.len() {
            return Err(Error::format(place, format!("a load command of {length} bytes")));
        }
        let command = Bytes { bytes: &commands[at..at + length], big, at: place };
        match kind {
            // LC_SEGMENT_64, LC_SEGMENT: their sections' offsets say where contents begin.
            0x19 | 0x01 => {
                let (head, section, at) = if kind == 0x19 { (72, 80, 48) } else { (56, 68, 40) };
                let sections = command.u32(head - 8)? as usize;
                for n in 0..sections.min(length / section) {
                    let from = u64::from(command.u32(head + n * section + at)?);
                    if from > 0 {
                        first_content = first_content.min(from);
                    }
                }
            }
            // LC_LOAD_DYLIB, …_WEAK, …_REEXPORT, …_LAZY, …_UPWARD
            0x0C | 0x8000_001F | 0x20 | 0x8000_0023 => {
                slice.libraries.push(Library { path: command.text(8)?, optional: false });
            }
            0x8000_0018 => slice.libraries.push(Library { path: command.text(8)?, optional: true }),
            // LC_ID_DYLIB, LC_RPATH, LC_CODE_SIGNATURE
            0x0D => slice.own_path = Some(command.text(8)?),
            0x8000_001C => slice.search_paths.push(command.text(8)?),
            0x1D => slice.signature = Some((command.u32(8)?, command.u32(12)?)),
            // LC_VERSION_MIN_MACOSX
            0x24 => {
                slice.minimum_system = Some(version(command.u32(8)?));
                slice.sdk = Some(version(command.u32(12)?));
            }
            // LC_BUILD_VERSION, for macOS (1) and what runs on it too (Mac Catalyst, 6, has versions of iOS).
            0x32 if command.u32(8)? == 1 => {
                slice.minimum_system = Some(version(command.u32(12)?));
                slice.sdk = Some(version(command.u32(16)?));
            }
            _ => {}
        }
        at += length;
    }
    slice.room = first_content.saturating_sub(header + at as u64);
    Ok(slice)
}

/// Reads what a file says of itself; nothing for one that is no Mach-O.
///
/// # Errors
/// [`Error::Format`] for one that is damaged; else as the medium's.
pub fn read<R: ReadAt>(source: &R) -> Result<Option<File>> {
    let length = source.length()?;
    if length < 28 {
        return Ok(None);
    }
    let head = exact(source, 0, 8)?;
    let number = |at: usize| u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    let count = number(4);
    match number(0) {
        FAT | FAT_64 if count > MOST_PARTS => Ok(None),
        kind @ (FAT | FAT_64) => {
            let wide = kind == FAT_64;
            let size = if wide { 32 } else { 20 };
            let table = exact(source, 8, count as usize * size)?;
            let mut slices = Vec::new();
            let mut taken: Vec<(u64, u64)> = Vec::new();
            for entry in table.chunks_exact(size) {
                let entry = Bytes { bytes: entry, big: true, at: 8 };
                let (offset, size) = if wide {
                    let pair =
                        |at: usize| Ok::<u64, Error>(u64::from(entry.u32(at)?) << 32 | u64::from(entry.u32(at + 4)?));
                    (pair(8)?, pair(16)?)
                } else {
                    (entry.u32(8)?.into(), entry.u32(12)?.into())
                };
                let end = offset.checked_add(size).filter(|end| *end <= length && offset >= 8);
                let end = end.ok_or_else(|| Error::format(8, "a part of the universal file lies outside of it"))?;
                if taken.iter().any(|(from, to)| offset < *to && *from < end) {
                    return Err(Error::format(8, "parts of the universal file overlap"));
                }
                taken.push((offset, end));
                // A universal archive of things to be linked is no code.
                if size >= 8 && exact(source, offset, 8)? == *ARCHIVE {
                    return Ok(None);
                }
                let slice = slice(source, offset, size)?;
                if slice.processor.0 != entry.u32(0)? {
                    return Err(Error::format(offset, "a part is for a different processor from the table's"));
                }
                slices.push(slice);
            }
            Ok(Some(File { slices, universal: true }))
        }
        word if [MAGIC_64, MAGIC_32].iter().any(|m| [*m, m.swap_bytes()].contains(&word)) => {
            Ok(Some(File { slices: vec![slice(source, 0, length)?], universal: false }))
        }
        _ => Ok(None),
    }
}
