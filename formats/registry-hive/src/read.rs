//! Hives, read: whoever made them.

use crate::cells::{Cells, u16_at, u32_at};
use crate::structs::{BLOCK, DEEPEST, INLINE, KEY_HEAD, NOWHERE, SEGMENT, VALUE_HEAD, flag};
use crate::{Error, Key, Result, Value};

/// How much of a hive is read.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Keys and values.
    pub items: u64,
    /// Bytes of names and of data.
    pub bytes: u64,
}

/// Enough for a system's own hives.
pub const LIMITS: Limits = Limits { items: 2_000_000, bytes: 512 << 20 };

/// The first key of a hive, with all that is below it.
///
/// # Errors
/// [`Error::Format`] for what is none or damaged, [`Error::Limit`] for one that holds too much.
pub fn read(bytes: &[u8]) -> Result<Key> {
    read_within(bytes, LIMITS)
}

/// The same within limits of one's own.
///
/// # Errors
/// As [`read`].
pub fn read_within(bytes: &[u8], limits: Limits) -> Result<Key> {
    let (cells, root) = open(bytes)?;
    let mut reader = Reader { cells, left: limits };
    reader.key(root, 0)
}

/// The cells of a hive, and where its first key is.
pub(crate) fn open(bytes: &[u8]) -> Result<(Cells<'_>, u32)> {
    if bytes.get(..4) != Some(b"regf") {
        return Err(Error::at(0, "not a registry hive"));
    }
    if bytes.len() < BLOCK {
        return Err(Error::at(bytes.len(), "the file ends too early"));
    }
    if (u32_at(bytes, 20)?, u32_at(bytes, 28)?, u32_at(bytes, 32)?) != (1, 0, 1) {
        return Err(Error::Unsupported("a registry hive of another kind or version".into()));
    }
    let length = u32_at(bytes, 40)? as usize;
    let end = BLOCK.saturating_add(length);
    let bins = bytes.get(BLOCK..end).ok_or_else(|| Error::at(40, "the hive is said to be longer than the file"))?;
    Ok((Cells { bins }, u32_at(bytes, 36)?))
}

/// A key's own record.
pub(crate) struct Node {
    pub flags: u16,
    pub parent: u32,
    pub below: (u32, u32),
    pub values: (u32, u32),
    pub security: u32,
    pub class: u32,
    /// The longest name of a key below it, of a value, and the longest data.
    pub longest: [u32; 3],
    pub name: String,
}

/// A value's own record.
pub(crate) struct Record {
    pub name: String,
    pub length: u32,
    pub place: u32,
    pub kind: u32,
}

/// An entry of a list of keys: where the key is, and the hash of its name if the list has one.
pub(crate) type Entry = (u32, Option<u32>);

fn name(bytes: &[u8], narrow: bool) -> String {
    if narrow {
        return bytes.iter().map(|byte| char::from(*byte)).collect();
    }
    let units: Vec<u16> = bytes.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit)).collect();
    String::from_utf16_lossy(&units)
}

pub(crate) fn node(cells: Cells, offset: u32) -> Result<Node> {
    let bytes = cells.named(offset, b"nk")?;
    let long = usize::from(u16_at(bytes, 72)?);
    let flags = u16_at(bytes, 2)?;
    let own = bytes.get(KEY_HEAD..KEY_HEAD + long);
    let own = own.ok_or_else(|| Error::at(BLOCK + offset as usize, "the name of a key is cut off"))?;
    Ok(Node {
        flags,
        parent: u32_at(bytes, 16)?,
        below: (u32_at(bytes, 20)?, u32_at(bytes, 28)?),
        values: (u32_at(bytes, 36)?, u32_at(bytes, 40)?),
        security: u32_at(bytes, 44)?,
        class: u32_at(bytes, 48)?,
        longest: [u32_at(bytes, 52)?, u32_at(bytes, 60)?, u32_at(bytes, 64)?],
        name: name(own, flags & flag::NARROW != 0),
    })
}

pub(crate) fn record(cells: Cells, offset: u32) -> Result<Record> {
    let bytes = cells.named(offset, b"vk")?;
    let long = usize::from(u16_at(bytes, 2)?);
    let own = bytes.get(VALUE_HEAD..VALUE_HEAD + long);
    let own = own.ok_or_else(|| Error::at(BLOCK + offset as usize, "the name of a value is cut off"))?;
    let narrow = u16_at(bytes, 16)? & flag::NARROW_VALUE != 0;
    let [length, place, kind] = [u32_at(bytes, 4)?, u32_at(bytes, 8)?, u32_at(bytes, 12)?];
    Ok(Record { name: name(own, narrow), length, place, kind })
}

/// The keys that a list names, those of lists in it among them.
pub(crate) fn entries(cells: Cells, offset: u32, used: &mut dyn FnMut(u32)) -> Result<Vec<Entry>> {
    used(offset);
    let bytes = cells.get(offset)?;
    let here = BLOCK + offset as usize;
    let count = usize::from(u16_at(bytes, 2)?);
    let short = || Error::at(here, "a list of keys is shorter than it is said to be");
    match &bytes[..2] {
        b"lf" | b"lh" => {
            let hashed = &bytes[..2] == b"lh";
            let all = bytes.get(4..4 + count * 8).ok_or_else(short)?.as_chunks::<8>().0.iter();
            all.map(|entry| Ok((u32_at(entry, 0)?, if hashed { Some(u32_at(entry, 4)?) } else { None }))).collect()
        }
        b"li" => {
            let all = bytes.get(4..4 + count * 4).ok_or_else(short)?.as_chunks::<4>().0.iter();
            all.map(|entry| Ok((u32::from_le_bytes(*entry), None))).collect()
        }
        b"ri" => {
            let mut all = Vec::new();
            for list in bytes.get(4..4 + count * 4).ok_or_else(short)?.as_chunks::<4>().0 {
                let list = u32::from_le_bytes(*list);
                if cells.get(list)?.starts_with(b"ri") {
                    return Err(Error::at(here, "a list of lists is inside of another one"));
                }
                all.extend(entries(cells, list, used)?);
            }
            Ok(all)
        }
        _ => Err(Error::at(here, "here should be a list of keys")),
    }
}

/// The bytes of a value.
pub(crate) fn data(cells: Cells, record: &Record, used: &mut dyn FnMut(u32)) -> Result<Vec<u8>> {
    let length = (record.length & !INLINE) as usize;
    let here = BLOCK.saturating_add(record.place as usize);
    if record.length & INLINE != 0 {
        let four = record.place.to_le_bytes();
        return four.get(..length).map(<[u8]>::to_vec).ok_or_else(|| Error::at(here, "a short value is too long"));
    }
    if length == 0 {
        return Ok(Vec::new());
    }
    used(record.place);
    let bytes = cells.get(record.place)?;
    let short = || Error::at(here, "a value is shorter than it is said to be");
    if length <= SEGMENT || !bytes.starts_with(b"db") {
        return bytes.get(..length).map(<[u8]>::to_vec).ok_or_else(short);
    }
    let (count, list) = (usize::from(u16_at(bytes, 2)?), u32_at(bytes, 4)?);
    if count != length.div_ceil(SEGMENT) {
        return Err(Error::at(here, "a long value has another number of parts than its length says"));
    }
    used(list);
    let mut out = Vec::new();
    for part in cells.list(list, count)? {
        used(part);
        let wanted = (length - out.len()).min(SEGMENT);
        out.extend_from_slice(cells.get(part)?.get(..wanted).ok_or_else(short)?);
    }
    Ok(out)
}

struct Reader<'b> {
    cells: Cells<'b>,
    left: Limits,
}

impl Reader<'_> {
    fn spend(&mut self, bytes: usize) -> Result<()> {
        let many = || Error::Limit("the hive holds more keys, values or bytes than is read".into());
        self.left.items = self.left.items.checked_sub(1).ok_or_else(many)?;
        self.left.bytes = self.left.bytes.checked_sub(bytes as u64).ok_or_else(many)?;
        Ok(())
    }

    fn key(&mut self, offset: u32, depth: usize) -> Result<Key> {
        if depth > DEEPEST {
            return Err(Error::at(BLOCK + offset as usize, "keys lie too deep in each other, or in a circle"));
        }
        let own = node(self.cells, offset)?;
        self.spend(own.name.len())?;
        let mut key = Key::new(&own.name);
        if own.values.0 > 0 {
            for place in self.cells.list(own.values.1, own.values.0 as usize)? {
                let record = record(self.cells, place)?;
                self.spend(record.name.len() + (record.length & !INLINE) as usize)?;
                let data = data(self.cells, &record, &mut |_| {})?;
                key.values.push(Value { name: record.name, kind: record.kind, data });
            }
        }
        if own.below.0 > 0 && own.below.1 != NOWHERE {
            for (place, _) in entries(self.cells, own.below.1, &mut |_| {})? {
                key.keys.push(self.key(place, depth + 1)?);
            }
        }
        Ok(key)
    }
}
