//! Packages, read: the directory first, then parts as they are asked for.

use crate::structs::{CENTRAL_HEAD, DEFLATED, END, Fields, LARGE_END, LOCAL, LOCAL_HEAD, LOCATOR, Record, STORED};
use crate::{Error, Result, names};
use flate2::read::DeflateDecoder;
use read_at::{Part as Piece, ReadAt};
use std::io::{BufReader, Read};

/// How much of a package is read.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Parts.
    pub parts: u64,
    /// Bytes of the directory, and of each part that says what others are.
    pub metadata: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { parts: 1_000_000, metadata: 256 << 20 }
    }
}

/// A part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Its name, with slashes.
    pub name: String,
    /// Plain bytes.
    pub size: u64,
    pub(crate) record: Record,
}

/// A package.
#[derive(Debug)]
pub struct Package<R> {
    source: R,
    parts: Vec<Part>,
    pub(crate) limits: Limits,
    /// Where the directory begins, and its length.
    pub(crate) directory: (u64, u64),
    /// The records behind the directory.
    pub(crate) ends: Vec<u8>,
    /// The records of the directory.
    pub(crate) records: Vec<u8>,
}

/// The longest comment that an archive ends with.
const COMMENT: u64 = 0xFFFF;

impl<R: ReadAt> Package<R> {
    /// Reads the directory of a package.
    ///
    /// # Errors
    /// [`Error::Format`] for what is no archive, or damaged; [`Error::Limit`] for one with too many parts.
    pub fn open(source: R, limits: Limits) -> Result<Self> {
        let length = source.length()?;
        let tail_at = length.saturating_sub(COMMENT + 22);
        let mut tail = vec![0; (length - tail_at) as usize];
        source.read_exact_at(&mut tail, tail_at)?;
        let end = tail.windows(22).rposition(|bytes| bytes.starts_with(&END.to_le_bytes()));
        let end = end.ok_or_else(|| Error::format(0, "not a ZIP archive: it has no directory"))?;
        let mut fields = Fields(&tail[end..]);
        // The mark, numbers of disks, and how many parts are on this one.
        fields.skip::<10>()?;
        let (mut count, mut size, mut offset) =
            (u64::from(fields.u16()?), u64::from(fields.u32()?), u64::from(fields.u32()?));
        let end_at = tail_at + end as u64;
        let mut ends_at = end_at;
        if count == 0xFFFF || size == u64::from(u32::MAX) || offset == u64::from(u32::MAX) {
            let mut locator = [0; 20];
            let at = end_at.checked_sub(20).ok_or_else(|| Error::format(end_at, "the large directory is missing"))?;
            source.read_exact_at(&mut locator, at)?;
            let mut fields = Fields(&locator);
            let is_locator = fields.u32()? == LOCATOR;
            fields.u32()?;
            let at = fields.u64()?;
            let mut large = [0; 56];
            if !is_locator || at.checked_add(76).is_none_or(|after| after > end_at) {
                return Err(Error::format(end_at, "the large directory is missing"));
            }
            source.read_exact_at(&mut large, at)?;
            let mut fields = Fields(&large);
            if fields.u32()? != LARGE_END {
                return Err(Error::format(at, "the large directory is missing"));
            }
            fields.skip::<28>()?;
            (count, size, offset) = (fields.u64()?, fields.u64()?, fields.u64()?);
            ends_at = at;
        }
        if offset.checked_add(size).is_none_or(|end| end > ends_at) || count > size / CENTRAL_HEAD as u64 {
            return Err(Error::format(end_at, "the directory lies outside of the archive"));
        }
        if count > limits.parts || size > limits.metadata {
            return Err(Error::Limit(format!(
                "it has {count} parts in a directory of {size} bytes, which is too much"
            )));
        }
        let mut records = vec![0; size as usize];
        source.read_exact_at(&mut records, offset)?;
        let mut ends = vec![0; (length - ends_at) as usize];
        source.read_exact_at(&mut ends, ends_at)?;
        let (mut parts, mut at) = (Vec::new(), 0);
        for _ in 0..count {
            let here = offset + at as u64;
            let (record, length) = Record::read(&records[at..]).map_err(|e| Error::format(here, e.to_string()))?;
            at += length;
            let name = names::decoded(&record.name);
            let name = name.ok_or_else(|| Error::format(here, "a part has a name that is none"))?;
            if record.offset.saturating_add(LOCAL_HEAD as u64).saturating_add(record.packed) > offset {
                return Err(Error::format(here, format!("the part {name:?} lies outside of the archive")));
            }
            parts.push(Part { name, size: record.size, record });
        }
        if at != records.len() {
            return Err(Error::format(offset, "the directory holds more than its records"));
        }
        Ok(Self { source, parts, limits, directory: (offset, size), ends, records })
    }

    /// All parts, in the order of the directory.
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// The part of a name, whatever its case.
    pub fn find(&self, name: &str) -> Option<&Part> {
        self.parts.iter().find(|part| part.name.eq_ignore_ascii_case(name))
    }

    /// What it is read from.
    pub fn source(&self) -> &R {
        &self.source
    }

    /// The part's own record in the archive: its bytes, and where its data begins.
    pub(crate) fn head(&self, part: &Part) -> Result<(Vec<u8>, u64)> {
        let at = part.record.offset;
        let mut fixed = [0; LOCAL_HEAD];
        self.source.read_exact_at(&mut fixed, at)?;
        let mut fields = Fields(&fixed[26..]);
        let length = LOCAL_HEAD as u64 + u64::from(fields.u16()?) + u64::from(fields.u16()?);
        let data = at + length;
        if Fields(&fixed).u32()? != LOCAL || data + part.record.packed > self.directory.0 {
            return Err(Error::format(at, format!("the part {:?} does not begin where it is said to", part.name)));
        }
        let mut head = vec![0; length as usize];
        self.source.read_exact_at(&mut head, at)?;
        Ok((head, data))
    }

    /// Where the bytes of a part begin in the archive.
    ///
    /// # Errors
    /// Its own record is not where the directory says.
    pub fn data_at(&self, part: &Part) -> Result<u64> {
        Ok(self.head(part)?.1)
    }

    /// The packed bytes of a part.
    pub(crate) fn packed(&self, part: &Part) -> Result<Piece<&R>> {
        let (_, data) = self.head(part)?;
        Ok(Piece::new(&self.source, data, part.record.packed)?)
    }

    /// The bytes of a part, as they are read; never more than it is said to have.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for a part that is packed or encrypted in a way that packages don't have.
    pub fn reader<'p>(&'p self, part: &Part) -> Result<Box<dyn Read + 'p>> {
        if part.record.flags & 1 != 0 {
            return Err(Error::Unsupported(format!("the part {:?} is encrypted", part.name)));
        }
        let packed = read_at::Cursor::new(self.packed(part)?);
        match part.record.method {
            STORED => Ok(Box::new(packed.take(part.size))),
            DEFLATED => Ok(Box::new(DeflateDecoder::new(BufReader::with_capacity(1 << 16, packed)).take(part.size))),
            other => Err(Error::Unsupported(format!("the part {:?} is packed by the method {other}", part.name))),
        }
    }

    /// All bytes of a part that says what others are; none if it is not there.
    ///
    /// # Errors
    /// It is too long, damaged, or can't be read.
    pub fn whole(&self, name: &str) -> Result<Option<Vec<u8>>> {
        let Some(part) = self.find(name) else { return Ok(None) };
        if part.size > self.limits.metadata {
            return Err(Error::Limit(format!("the part {name:?} has {} bytes, which is too much", part.size)));
        }
        let mut bytes = Vec::new();
        self.reader(part)?.read_to_end(&mut bytes)?;
        if bytes.len() as u64 != part.size || crc32fast::hash(&bytes) != part.record.crc {
            return Err(Error::format(part.record.offset, format!("the part {name:?} is damaged")));
        }
        Ok(Some(bytes))
    }
}
