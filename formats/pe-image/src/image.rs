//! The headers: processor, sections, where the resources are; and a file with other resources.

use crate::bytes::{aligned, part, put_u32, u16_at, u32_at};
use crate::resources::Resources;
use crate::{Error, Result};

/// Directories: resources, signatures.
const RESOURCES: usize = 2;
const SIGNATURES: usize = 4;
const SECTION_HEADER: usize = 40;
/// Sections that a loader takes.
const MAX_SECTIONS: usize = 96;
/// Initialised data, readable.
const RESOURCE_SECTION: u32 = 0x4000_0040;

/// A section's header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Section {
    /// Its name, without the zeros behind it.
    pub name: Vec<u8>,
    /// Bytes in memory.
    pub virtual_size: u32,
    /// Where it begins in memory, from the image's start.
    pub address: u32,
    /// Bytes in the file.
    pub raw_size: u32,
    /// Where these begin.
    pub raw_at: u32,
}

impl Section {
    fn raw_end(&self) -> u64 {
        if self.raw_size == 0 { 0 } else { u64::from(self.raw_at) + u64::from(self.raw_size) }
    }
}

/// An open file.
#[derive(Debug, Clone)]
pub struct Image<'b> {
    bytes: &'b [u8],
    /// The COFF header.
    coff: usize,
    /// The optional header.
    optional: usize,
    /// The first directory, and how many there are.
    directories: (usize, usize),
    section_table: usize,
    sections: Vec<Section>,
    machine: u16,
    section_alignment: u32,
    file_alignment: u32,
}

impl<'b> Image<'b> {
    /// Reads the headers.
    ///
    /// # Errors
    /// [`Error::Format`] for what is no PE file, or a damaged one.
    pub fn parse(bytes: &'b [u8]) -> Result<Self> {
        if bytes.get(..2) != Some(b"MZ") {
            return Err(Error::at(0, "not a PE file"));
        }
        let pe = u32_at(bytes, 0x3C)? as usize;
        if part(bytes, pe, 4)? != b"PE\0\0" {
            return Err(Error::at(pe, "the PE signature is missing"));
        }
        let coff = pe + 4;
        let count = usize::from(u16_at(bytes, coff + 2)?);
        if count > MAX_SECTIONS {
            return Err(Error::at(coff + 2, format!("{count} sections")));
        }
        let optional = coff + 20;
        let optional_size = usize::from(u16_at(bytes, coff + 16)?);
        let before_directories = match u16_at(bytes, optional)? {
            0x10B => 96,
            0x20B => 112,
            other => return Err(Error::at(optional, format!("an optional header of type {other:#x}"))),
        };
        let (section_alignment, file_alignment) = (u32_at(bytes, optional + 32)?, u32_at(bytes, optional + 36)?);
        for (alignment, at) in [(section_alignment, 32), (file_alignment, 36)] {
            if !alignment.is_power_of_two() || alignment > 1 << 26 {
                return Err(Error::at(optional + at, format!("an alignment of {alignment} bytes")));
            }
        }
        let stated = u32_at(bytes, optional + before_directories - 4)? as usize;
        let room = optional_size.saturating_sub(before_directories) / 8;
        let directories = (optional + before_directories, stated.min(room).min(16));
        let section_table = optional + optional_size;
        let mut sections = Vec::with_capacity(count);
        for n in 0..count {
            let at = section_table + n * SECTION_HEADER;
            let name = part(bytes, at, 8)?;
            sections.push(Section {
                name: name.iter().copied().take_while(|b| *b != 0).collect(),
                virtual_size: u32_at(bytes, at + 8)?,
                address: u32_at(bytes, at + 12)?,
                raw_size: u32_at(bytes, at + 16)?,
                raw_at: u32_at(bytes, at + 20)?,
            });
        }
        let machine = u16_at(bytes, coff)?;
        Ok(Self {
            bytes,
            coff,
            optional,
            directories,
            section_table,
            sections,
            machine,
            section_alignment,
            file_alignment,
        })
    }

    /// The processor's number: 0x8664 for x86_64, 0x14C for x86, 0xAA64 for arm64.
    pub fn machine(&self) -> u16 {
        self.machine
    }

    /// Where its subsystem stands: 2 with windows of its own, 3 in a terminal.
    pub fn subsystem_at(&self) -> usize {
        self.optional + 68
    }

    /// Its sections, in the table's order.
    pub fn sections(&self) -> &[Section] {
        &self.sections
    }

    /// Where a directory is and how long: an address in memory, but for signatures, which have a place in the file.
    fn directory(&self, n: usize) -> Result<(u32, u32)> {
        if n >= self.directories.1 {
            return Ok((0, 0));
        }
        let at = self.directories.0 + n * 8;
        Ok((u32_at(self.bytes, at)?, u32_at(self.bytes, at + 4)?))
    }

    /// Whether it carries a signature.
    pub fn is_signed(&self) -> bool {
        self.directory(SIGNATURES).is_ok_and(|(at, len)| at != 0 && len != 0)
    }

    /// The place in the file of bytes in memory.
    fn file_offset(&self, address: u32) -> Result<usize> {
        let inside = |s: &&Section| address.checked_sub(s.address).is_some_and(|n| n < s.raw_size);
        let section = self.sections.iter().find(inside);
        let section = section.ok_or_else(|| Error::at(0, format!("the address {address:#x} is in no section")))?;
        Ok(section.raw_at as usize + (address - section.address) as usize)
    }

    /// Its resources; none if there are none.
    ///
    /// # Errors
    /// [`Error::Format`] when they are damaged.
    pub fn resources(&self) -> Result<Resources> {
        let (address, size) = self.directory(RESOURCES)?;
        if address == 0 || size == 0 {
            return Ok(Resources::default());
        }
        let start = self.file_offset(address)?;
        let tree =
            self.bytes.get(start..).ok_or_else(|| Error::at(start, "the resources begin past the end of the file"))?;
        Resources::read(tree, start, |address, len| {
            // An empty one may lie where the section ends, which is in none.
            if len == 0 { Ok(&[]) } else { part(self.bytes, self.file_offset(address)?, len) }
        })
    }

    /// Where the sections' bytes end in the file.
    fn raw_end(&self) -> usize {
        let end = self.sections.iter().map(Section::raw_end).max().unwrap_or(0);
        usize::try_from(end).unwrap_or(usize::MAX).clamp(self.headers_end(), self.bytes.len().max(self.headers_end()))
    }

    fn headers_end(&self) -> usize {
        self.section_table + self.sections.len() * SECTION_HEADER
    }

    /// The section that holds the resources and nothing else, if it is the last one, so that it can be of any size.
    fn last_is_resources(&self) -> Result<Option<&Section>> {
        let (address, _) = self.directory(RESOURCES)?;
        let Some(last) = self.sections.iter().max_by_key(|s| s.address) else { return Ok(None) };
        let ends_the_file = self.sections.iter().all(|s| s.raw_end() <= last.raw_end());
        Ok(Some(last).filter(|s| address != 0 && s.address == address && s.raw_size > 0 && ends_the_file))
    }

    /// The file with other resources and without signatures. What lies behind its sections stays behind them.
    ///
    /// # Errors
    /// [`Error::Limit`] when the headers have no room for one more section, or no directory of resources.
    pub fn with_resources(&self, resources: &Resources) -> Result<Vec<u8>> {
        if self.directories.1 <= RESOURCES {
            return Err(Error::Limit("its headers have no place for resources".into()));
        }
        let old = self.last_is_resources()?.cloned();
        let end = self.raw_end().min(self.bytes.len());
        let (address, raw_at) = match &old {
            Some(old) => (old.address, old.raw_at),
            None => {
                let next = self.sections.iter().map(|s| s.address.saturating_add(s.virtual_size.max(s.raw_size))).max();
                let address = aligned(next.unwrap_or(self.section_alignment), self.section_alignment)?;
                let end = u32::try_from(end).map_err(|_| Error::Limit("the file would pass 4 GiB".into()))?;
                (address, aligned(end, self.file_alignment)?)
            }
        };
        let data = resources.write(address)?;
        let length = u32::try_from(data.len()).map_err(|_| Error::Limit("resources of more than 4 GiB".into()))?;
        let raw_size = aligned(length, self.file_alignment)?;
        let kept = if old.is_some() { raw_at as usize } else { end };
        let mut out = part(self.bytes, 0, kept)?.to_vec();
        out.resize(raw_at as usize, 0);
        out.extend_from_slice(&data);
        out.resize(raw_at as usize + raw_size as usize, 0);
        let new_end = out.len();
        out.extend(self.behind(end)?);

        let header = match &old {
            Some(old) => self.section_table + SECTION_HEADER * self.sections.iter().position(|s| s == old).unwrap_or(0),
            None => self.new_header(&mut out)?,
        };
        for (at, value) in [(8, length), (12, address), (16, raw_size), (20, raw_at)] {
            put_u32(&mut out, header + at, value)?;
        }
        let directory = self.directories.0 + RESOURCES * 8;
        put_u32(&mut out, directory, address)?;
        put_u32(&mut out, directory + 4, length)?;
        if self.directories.1 > SIGNATURES {
            put_u32(&mut out, self.directories.0 + SIGNATURES * 8, 0)?;
            put_u32(&mut out, self.directories.0 + SIGNATURES * 8 + 4, 0)?;
        }
        let old_size = old.as_ref().map_or(0, |o| o.raw_size);
        let initialised = u32_at(&out, self.optional + 8)?;
        put_u32(&mut out, self.optional + 8, initialised.wrapping_sub(old_size).wrapping_add(raw_size))?;
        let image_end =
            address.checked_add(length).ok_or_else(|| Error::Limit("an image of more than 4 GiB".into()))?;
        put_u32(&mut out, self.optional + 56, aligned(image_end, self.section_alignment)?)?;
        // Symbols of some compilers lie behind the sections.
        let symbols = u32_at(&out, self.coff + 8)? as usize;
        if symbols >= end && symbols != 0 {
            let moved = symbols - end + new_end;
            put_u32(&mut out, self.coff + 8, u32::try_from(moved).unwrap_or(0))?;
        }
        crate::sum::set_checksum(&mut std::io::Cursor::new(&mut out)).map_err(|e| Error::Limit(e.to_string()))?;
        Ok(out)
    }

    /// What lies behind the sections, without signatures.
    fn behind(&self, end: usize) -> Result<Vec<u8>> {
        let (at, len) = self.directory(SIGNATURES)?;
        let (at, len) = (at as usize, len as usize);
        let mut rest = self.bytes[end..].to_vec();
        if len > 0 && at >= end && at + len <= self.bytes.len() {
            rest.drain(at - end..at - end + len);
        }
        Ok(rest)
    }

    /// Adds a section's header behind the last one.
    fn new_header(&self, out: &mut [u8]) -> Result<usize> {
        let at = self.headers_end();
        let first = self.sections.iter().filter(|s| s.raw_size > 0).map(|s| s.raw_at as usize).min();
        let limit = first.unwrap_or(usize::MAX).min(u32_at(out, self.optional + 60)? as usize);
        let is_free = out.get(at..at + SECTION_HEADER).is_some_and(|b| b.iter().all(|b| *b == 0));
        if self.sections.len() >= MAX_SECTIONS || at + SECTION_HEADER > limit || !is_free {
            return Err(Error::Limit("its headers have no room for one more section".into()));
        }
        out[at..at + 8].copy_from_slice(b".rsrc\0\0\0");
        put_u32(out, at + 36, RESOURCE_SECTION)?;
        let count = (self.sections.len() + 1) as u16;
        out[self.coff + 2..self.coff + 4].copy_from_slice(&count.to_le_bytes());
        Ok(at)
    }
}
