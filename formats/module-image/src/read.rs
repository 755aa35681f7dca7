//! Reads images.

use crate::names::Name;
use crate::{HEADER, MAGIC, VERSION, hash};
use format_error::{Error, Result};
use read_at::ReadAt;
use std::io::Read;

/// More entries than any runtime has, some 30,000.
const MOST_ENTRIES: u32 = 1 << 21;
/// The longest content that is unpacked, bytes.
const LONGEST: u64 = 256 << 20;
/// What packed contents begin with.
const PACKED: u32 = 0xCAFE_FAFA;
const PACKED_HEADER: usize = 29;
/// A content is packed by so many ways one after the other.
const MOST_WAYS: usize = 4;

/// An image whose index has been read.
pub struct Image<R> {
    source: R,
    table: Vec<u32>,
    offsets: Vec<u32>,
    locations: Vec<u8>,
    strings: Vec<u8>,
    contents: u64,
    length: u64,
}

/// An entry of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry<'i> {
    /// Its name.
    pub name: Name<'i>,
    /// Where its content stands, from the first one on.
    offset: u64,
    /// Bytes of its packed content; 0 if it is not packed.
    packed: u64,
    /// Bytes of its content.
    pub size: u64,
}

impl Entry<'_> {
    /// Whether its content is packed.
    pub fn is_packed(&self) -> bool {
        self.packed > 0
    }
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    let bytes = bytes.get(at..)?.first_chunk::<4>()?;
    Some(u32::from_le_bytes(*bytes))
}

impl<R: ReadAt> Image<R> {
    /// Reads the index of an image.
    ///
    /// # Errors
    /// It is none, it is damaged, or it is one for processors of the other byte order.
    pub fn open(source: R) -> Result<Self> {
        let length = source.length()?;
        let mut header = [0; HEADER as usize];
        let is_short = length < HEADER;
        if !is_short {
            source.read_exact_at(&mut header, 0)?;
        }
        let [magic, version, _flags, entries, table, locations, strings] =
            std::array::from_fn(|n| number(&header, 4 * n).unwrap_or(0));
        if magic == MAGIC.swap_bytes() {
            return Err(Error::Unsupported("it is an image for processors that have the highest byte first".into()));
        }
        if is_short || magic != MAGIC {
            return Err(Error::at(0, "it is no module image"));
        }
        if version != VERSION {
            let (major, minor) = (version >> 16, version & 0xffff);
            return Err(Error::Unsupported(format!("it is a module image of version {major}.{minor}, and not 1.0")));
        }
        if table == 0 || table > MOST_ENTRIES || entries > table {
            return Err(Error::at(12, format!("it has {entries} entries in a table for {table}")));
        }
        let index = u64::from(table) * 8 + u64::from(locations) + u64::from(strings);
        if HEADER + index > length {
            return Err(Error::at(20, "its index is longer than it is"));
        }
        let mut at = HEADER;
        let mut next = |bytes: u64| -> Result<Vec<u8>> {
            // No more than the file has.
            let mut all = vec![0; bytes as usize];
            source.read_exact_at(&mut all, at)?;
            at += bytes;
            Ok(all)
        };
        let numbers = |bytes: Vec<u8>| bytes.as_chunks::<4>().0.iter().map(|n| u32::from_le_bytes(*n)).collect();
        let (first, second) = (next(u64::from(table) * 4)?, next(u64::from(table) * 4)?);
        let (locations, strings) = (next(locations.into())?, next(strings.into())?);
        let contents = HEADER + index;
        Ok(Self { source, table: numbers(first), offsets: numbers(second), locations, strings, contents, length })
    }

    fn string(&self, at: u64) -> Result<&str> {
        let wrong = |what| Error::format(HEADER, format!("the text {at} {what}"));
        let start =
            usize::try_from(at).ok().filter(|at| *at < self.strings.len()).ok_or_else(|| wrong("isn't there"))?;
        let text = &self.strings[start..];
        let end = text.iter().position(|byte| *byte == 0).ok_or_else(|| wrong("has no end"))?;
        std::str::from_utf8(&text[..end]).map_err(|_| wrong("is not UTF-8"))
    }

    fn entry(&self, location: u32) -> Result<Entry<'_>> {
        let mut values = [0u64; 8];
        let mut at = location as usize;
        let wrong = || Error::format(HEADER, format!("the entry at {location} of the index is damaged"));
        loop {
            let head = *self.locations.get(at).ok_or_else(wrong)?;
            let (kind, length) = (usize::from(head >> 3), usize::from(head & 7) + 1);
            if kind == 0 {
                break;
            }
            let bytes = self.locations.get(at + 1..at + 1 + length).ok_or_else(wrong)?;
            *values.get_mut(kind).ok_or_else(wrong)? = bytes.iter().fold(0, |n, byte| n << 8 | u64::from(*byte));
            at += 1 + length;
        }
        let [_, module, folder, base, extension, offset, packed, size] = values;
        let name = Name {
            module: self.string(module)?,
            folder: self.string(folder)?,
            base: self.string(base)?,
            extension: self.string(extension)?,
        };
        let there = if packed > 0 { packed } else { size };
        let end = offset.checked_add(there).and_then(|end| end.checked_add(self.contents));
        if end.is_none_or(|end| end > self.length) {
            return Err(Error::format(self.contents, format!("{name} ends after the end of the image")));
        }
        Ok(Entry { name, offset, packed, size })
    }

    /// All entries, those of the two trees too, in no order.
    pub fn entries(&self) -> impl Iterator<Item = Result<Entry<'_>>> {
        // What the first byte of the index is for: places without an entry.
        self.offsets.iter().filter(|location| **location != 0).map(|location| self.entry(*location))
    }

    /// The entry of a name.
    ///
    /// # Errors
    /// The index is damaged.
    pub fn find(&self, name: &str) -> Result<Option<Entry<'_>>> {
        let place = hash::place(name.as_bytes(), |n| self.table[n] as i32, self.table.len());
        let Some(location) = place.and_then(|place| self.offsets.get(place)) else { return Ok(None) };
        let entry = self.entry(*location)?;
        Ok((entry.name.to_string() == name).then_some(entry))
    }

    /// Where the bytes of an entry stand in the file, as they are there, and how many these are.
    pub fn range(&self, entry: &Entry) -> (u64, u64) {
        (self.contents + entry.offset, if entry.packed > 0 { entry.packed } else { entry.size })
    }

    /// What the image is read from.
    pub fn source(&self) -> &R {
        &self.source
    }

    /// The content of an entry, unpacked.
    ///
    /// # Errors
    /// It is damaged, or packed in another way than by zlib.
    pub fn content(&self, entry: &Entry) -> Result<Vec<u8>> {
        let (start, length) = self.range(entry);
        let wrong = |what: &str| Error::format(start, format!("{} {what}", entry.name));
        if length > LONGEST || entry.size > LONGEST {
            return Err(Error::Limit(format!("{} is too long", entry.name)));
        }
        let mut bytes = vec![0; length as usize];
        self.source.read_exact_at(&mut bytes, start)?;
        if !entry.is_packed() {
            return Ok(bytes);
        }
        for _ in 0..MOST_WAYS {
            if number(&bytes, 0) != Some(PACKED) {
                break;
            }
            let head = bytes.first_chunk::<PACKED_HEADER>().ok_or_else(|| wrong("ends too early"))?;
            let size = u64::from_le_bytes(*head[12..].first_chunk().expect("29 bytes"));
            let way = self.string(number(head, 20).unwrap_or(0).into())?;
            if way != "zip" {
                let what = format!("{} is packed in a way ({way}) that can't be unpacked here", entry.name);
                return Err(Error::Unsupported(what));
            }
            let mut unpacked = Vec::new();
            let more = flate2::read::ZlibDecoder::new(&bytes[PACKED_HEADER..]).take(size.min(LONGEST) + 1);
            { more }.read_to_end(&mut unpacked).map_err(|e| wrong(&format!("can't be unpacked: {e}")))?;
            if unpacked.len() as u64 != size {
                return Err(wrong("has another length than it says"));
            }
            bytes = unpacked;
        }
        if bytes.len() as u64 == entry.size { Ok(bytes) } else { Err(wrong("has another length than it says")) }
    }
}
