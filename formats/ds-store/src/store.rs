//! The file: blocks of powers of two, a list of them, and one tree of records.
//!
//! All offsets count from byte 4. The first 32 bytes name the list of blocks; the list has addresses (offset, and the
//! size's logarithm in the low five bits), names of blocks (`DSDB`), and what is free by size.

use crate::{Error, Result};

/// A block for the tree's only node.
const NODE: u32 = 4096;
const LIST_AT: u32 = 2048;
/// Addresses are listed in groups of so many.
const GROUP: usize = 256;
/// Nodes inside nodes, and records, that a reader goes through.
const DEEPEST: u32 = 32;
const MOST: usize = 100_000;

/// What a record holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Yes or no.
    Bool(bool),
    /// A number of 32 bits.
    Long(u32),
    /// A number of which 16 bits count.
    Short(u32),
    /// A number or time of 64 bits, with its type.
    Wide([u8; 4], u64),
    /// Four letters.
    Type([u8; 4]),
    /// Text.
    Text(String),
    /// Bytes.
    Blob(Vec<u8>),
}

/// One property of one name in the folder; `.` is the folder itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// Whose.
    pub name: String,
    /// Which: four letters.
    pub code: [u8; 4],
    /// What.
    pub value: Value,
}

fn units(text: &str) -> Vec<u8> {
    let units: Vec<u16> = text.encode_utf16().collect();
    let length = (units.len() as u32).to_be_bytes();
    length.into_iter().chain(units.into_iter().flat_map(u16::to_be_bytes)).collect()
}

fn record(record: &Record) -> Vec<u8> {
    let mut bytes = units(&record.name);
    bytes.extend(record.code);
    let mut put = |kind: &[u8; 4], data: &[u8]| {
        bytes.extend(kind);
        bytes.extend(data);
    };
    match &record.value {
        Value::Bool(yes) => put(b"bool", &[u8::from(*yes)]),
        Value::Long(n) => put(b"long", &n.to_be_bytes()),
        Value::Short(n) => put(b"shor", &n.to_be_bytes()),
        Value::Wide(kind, n) => put(kind, &n.to_be_bytes()),
        Value::Type(letters) => put(b"type", letters),
        Value::Text(text) => put(b"ustr", &units(text)),
        Value::Blob(data) => {
            put(b"blob", &(data.len() as u32).to_be_bytes());
            bytes.extend(data);
        }
    }
    bytes
}

/// A file of these records.
///
/// # Errors
/// [`Error::Limit`] for more than fit into one node (4 KiB), [`Error::Usage`] for one that is there twice.
pub fn write(records: &[Record]) -> Result<Vec<u8>> {
    let mut sorted: Vec<&Record> = records.iter().collect();
    sorted.sort_by_key(|r| (r.name.to_lowercase(), r.code));
    if let Some(pair) = sorted.windows(2).find(|p| (&p[0].name, p[0].code) == (&p[1].name, p[1].code)) {
        let code = String::from_utf8_lossy(&pair[0].code).into_owned();
        return Err(Error::Usage(format!("{code} of {:?} appears twice", pair[0].name)));
    }
    let mut node = [0u32.to_be_bytes(), (sorted.len() as u32).to_be_bytes()].concat();
    sorted.iter().for_each(|r| node.extend(record(r)));
    if node.len() > NODE as usize {
        return Err(Error::Limit(format!("the window's records have {} of at most {NODE} bytes", node.len())));
    }
    // Header, tree's head (32 bytes each), list of blocks, node; each at a multiple of its size.
    let mut bytes = vec![0; 4 + 2 * NODE as usize];
    bytes[..4].copy_from_slice(&1u32.to_be_bytes());
    let mut put = |at: u32, words: &[u32]| {
        let all: Vec<u8> = words.iter().flat_map(|w| w.to_be_bytes()).collect();
        bytes[4 + at as usize..][..all.len()].copy_from_slice(&all);
    };
    put(0, &[u32::from_be_bytes(*b"Bud1"), LIST_AT, LIST_AT, LIST_AT, 0x100C, 0x87, 0x200B, 0]);
    put(32, &[2, 0, sorted.len() as u32, 1, NODE]);
    put(LIST_AT, &[3, 0, LIST_AT | 11, 32 | 5, NODE | 12]);
    let names = LIST_AT + 8 + 4 * GROUP as u32;
    put(names, &[1]);
    let mut free: Vec<u32> = vec![0; 5];
    // What lies between: one block of each size from 64 to 1024; and behind the file as much as can be counted.
    for size in 5..32 {
        match size {
            6..=10 => free.extend([1, 1 << size]),
            13..=30 => free.extend([1, 1 << size]),
            _ => free.push(0),
        }
    }
    put(names + 4 + 9, &free);
    bytes[4 + names as usize + 4..][..9].copy_from_slice(b"\x04DSDB\0\0\0\x01");
    bytes[4 + NODE as usize..][..node.len()].copy_from_slice(&node);
    Ok(bytes)
}

struct Reader<'r> {
    bytes: &'r [u8],
    at: usize,
}

impl<'r> Reader<'r> {
    fn take(&mut self, count: usize) -> Result<&'r [u8]> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or_else(|| Error::at(self.at, "the file ends too early"))?;
        let taken = &self.bytes[self.at..end];
        self.at = end;
        Ok(taken)
    }

    fn u32(&mut self) -> Result<u32> {
        Ok(u32::from_be_bytes(self.take(4)?.try_into().expect("four bytes")))
    }

    fn letters(&mut self) -> Result<[u8; 4]> {
        Ok(self.take(4)?.try_into().expect("four bytes"))
    }

    fn text(&mut self) -> Result<String> {
        let count = self.u32()? as usize;
        let bytes = self.take(count.saturating_mul(2))?;
        let units: Vec<u16> = bytes.chunks_exact(2).map(|u| u16::from_be_bytes([u[0], u[1]])).collect();
        Ok(String::from_utf16_lossy(&units))
    }

    fn record(&mut self) -> Result<Record> {
        let (name, code) = (self.text()?, self.letters()?);
        let at = self.at;
        let value = match &self.letters()? {
            b"bool" => Value::Bool(self.take(1)?[0] != 0),
            b"long" => Value::Long(self.u32()?),
            b"shor" => Value::Short(self.u32()?),
            kind @ (b"comp" | b"dutc") => {
                Value::Wide(*kind, u64::from_be_bytes(self.take(8)?.try_into().expect("eight bytes")))
            }
            b"type" => Value::Type(self.letters()?),
            b"ustr" => Value::Text(self.text()?),
            b"blob" => {
                let length = self.u32()? as usize;
                Value::Blob(self.take(length)?.to_vec())
            }
            other => {
                let other = String::from_utf8_lossy(other).into_owned();
                return Err(Error::at(at, format!("a record of unknown type {other:?}")));
            }
        };
        Ok(Record { name, code, value })
    }
}

/// All records of a file, in their order.
///
/// # Errors
/// [`Error::Format`] for anything else.
pub fn read(bytes: &[u8]) -> Result<Vec<Record>> {
    let from = |at: u32| Reader { bytes, at: 4 + at as usize };
    let mut head = Reader { bytes, at: 0 };
    if head.u32()? != 1 || head.take(4)? != b"Bud1" {
        return Err(Error::at(0, "not a .DS_Store file"));
    }
    let mut list = from(head.u32()?);
    let count = list.u32()? as usize;
    list.u32()?;
    if count > MOST {
        return Err(Error::at(list.at, format!("{count} blocks")));
    }
    let blocks: Vec<u32> = (0..count).map(|_| list.u32()).collect::<Result<_>>()?;
    list.take((count.next_multiple_of(GROUP).max(GROUP) - count) * 4)?;
    let block = |number: u32| {
        let address = blocks.get(number as usize).filter(|a| **a != 0);
        let address = address.ok_or_else(|| Error::at(0, format!("there is no block {number}")))?;
        Ok::<_, Error>(from(address & !0x1F))
    };
    let mut tree = None;
    for _ in 0..list.u32()?.min(GROUP as u32) {
        let length = usize::from(list.take(1)?[0]);
        let name = list.take(length)?;
        let number = list.u32()?;
        if name == b"DSDB" {
            tree = Some(number);
        }
    }
    let tree = tree.ok_or_else(|| Error::at(list.at, "the tree of records is missing"))?;
    let mut all = Vec::new();
    // Nodes that are still to be read: number and depth; or a record that stands between two of them.
    enum Next {
        Node(u32, u32),
        Record(Record),
    }
    let mut open = vec![Next::Node(block(tree)?.u32()?, 0)];
    let mut seen = 0;
    while let Some(next) = open.pop() {
        let (number, depth) = match next {
            Next::Node(number, depth) => (number, depth),
            Next::Record(record) => {
                all.push(record);
                continue;
            }
        };
        seen += 1;
        if depth > DEEPEST || seen > blocks.len() {
            return Err(Error::at(0, "the tree of records leads back into itself"));
        }
        let mut node = block(number)?;
        let (last, count) = (node.u32()?, node.u32()?);
        if all.len() + open.len() + count as usize > MOST {
            return Err(Error::Limit(format!("more than {MOST} records")));
        }
        let mut inside = Vec::new();
        for _ in 0..count {
            if last != 0 {
                inside.push(Next::Node(node.u32()?, depth + 1));
            }
            inside.push(Next::Record(node.record()?));
        }
        if last != 0 {
            inside.push(Next::Node(last, depth + 1));
        }
        open.extend(inside.into_iter().rev());
    }
    Ok(all)
}
