//! Hives, written: cells one behind the other, each key before what it consists of.

use crate::cells::checksum;
use crate::structs::{
    BIN_HEAD, BLOCK, DEEPEST, INLINE, KEY_HEAD, LEAF, LONGEST_KEY, LONGEST_VALUE, NOWHERE, SECURITY_HEAD, SEGMENT,
    VALUE_HEAD, flag,
};
use crate::{Error, Key, Result, Value, hash, upper};

/// What else a hive says.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// When keys were written, in units of 100 ns since 1601.
    pub time: u64,
    /// The name of the file, of which the last 31 letters are kept.
    pub file_name: String,
}

/// More than the offsets of a hive reach.
const LARGEST: usize = 0x7FFF_F000;

/// A hive with a tree of keys.
///
/// # Errors
/// [`Error::Limit`] when a name is too long or has a letter that names can't have, when two are alike, when keys lie too deep,
/// or when it gets too large.
pub fn write(root: &Key, options: &Options) -> Result<Vec<u8>> {
    let mut out = Writer { bins: Vec::new(), bin: (0, 0), time: options.time, security: 0, keys: 0 };
    let descriptor = descriptor();
    let offset = out.reserve(KEY_HEAD + name(&root.name).0.len())?;
    out.security = out.reserve(SECURITY_HEAD + descriptor.len())?;
    out.key(root, offset, 0, 0)?;
    let mut security = b"sk\0\0".to_vec();
    security.extend([out.security, out.security, out.keys, descriptor.len() as u32].map(u32::to_le_bytes).concat());
    security.extend(descriptor);
    out.put(out.security, &security);
    out.close_bin();
    let mut block = vec![0; BLOCK];
    block[..4].copy_from_slice(b"regf");
    let numbers =
        [1, 1, options.time as u32, (options.time >> 32) as u32, 1, 5, 0, 1, offset, out.bins.len() as u32, 1];
    block[4..48].copy_from_slice(&numbers.map(u32::to_le_bytes).concat());
    let units: Vec<u16> = options.file_name.encode_utf16().collect();
    let last: Vec<u8> = units[units.len().saturating_sub(31)..].iter().flat_map(|unit| unit.to_le_bytes()).collect();
    block[48..48 + last.len()].copy_from_slice(&last);
    let sum = checksum(&block);
    block[508..512].copy_from_slice(&sum.to_le_bytes());
    block.extend(out.bins);
    Ok(block)
}

struct Writer {
    bins: Vec<u8>,
    /// Where the last bin begins, and how much of it is used.
    bin: (usize, usize),
    time: u64,
    security: u32,
    keys: u32,
}

impl Writer {
    /// Room for a cell of so many bytes.
    fn reserve(&mut self, bytes: usize) -> Result<u32> {
        let size = (bytes + 4).next_multiple_of(8);
        if self.bins.is_empty() || self.bin.1 + size > self.bins.len() - self.bin.0 {
            self.close_bin();
            let start = self.bins.len();
            let length = (size + BIN_HEAD).next_multiple_of(BLOCK);
            if start + length > LARGEST {
                return Err(Error::Limit("the registry's keys and values are too many for one file".into()));
            }
            self.bins.resize(start + length, 0);
            self.bins[start..start + 4].copy_from_slice(b"hbin");
            self.bins[start + 4..start + 12]
                .copy_from_slice(&[start as u32, length as u32].map(u32::to_le_bytes).concat());
            if start == 0 {
                self.bins[20..28].copy_from_slice(&self.time.to_le_bytes());
            }
            self.bin = (start, BIN_HEAD);
        }
        let offset = self.bin.0 + self.bin.1;
        self.bins[offset..offset + 4].copy_from_slice(&(-(size as i32)).to_le_bytes());
        self.bin.1 += size;
        Ok(offset as u32)
    }

    /// Makes what is left of the last bin one free cell.
    fn close_bin(&mut self) {
        let offset = self.bin.0 + self.bin.1;
        let left = self.bins.len().saturating_sub(offset);
        if left > 0 {
            self.bins[offset..offset + 4].copy_from_slice(&(left as u32).to_le_bytes());
        }
    }

    fn put(&mut self, offset: u32, bytes: &[u8]) {
        let at = offset as usize + 4;
        self.bins[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn cell(&mut self, bytes: &[u8]) -> Result<u32> {
        let offset = self.reserve(bytes.len())?;
        self.put(offset, bytes);
        Ok(offset)
    }

    fn list(&mut self, all: &[u32]) -> Result<u32> {
        if all.is_empty() {
            return Ok(NOWHERE);
        }
        self.cell(&all.iter().flat_map(|offset| offset.to_le_bytes()).collect::<Vec<u8>>())
    }

    fn key(&mut self, key: &Key, offset: u32, parent: u32, depth: usize) -> Result<()> {
        fits(&key.name, "key", LONGEST_KEY)?;
        if depth > DEEPEST {
            return Err(Error::Limit(format!("keys lie more than {DEEPEST} deep in each other")));
        }
        self.keys += 1;
        let mut values = Vec::new();
        for value in &key.values {
            values.push(self.value(value)?);
        }
        let values = self.list(&values)?;
        let mut below: Vec<(Vec<u16>, &Key)> = key.keys.iter().map(|key| (upper(&key.name), key)).collect();
        below.sort_by(|a, b| a.0.cmp(&b.0));
        if let Some(pair) = below.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            let what = format!("two keys below {:?} have the same name: {:?}", key.name, pair[0].1.name);
            return Err(Error::Limit(what));
        }
        let mut names: Vec<Vec<u16>> = key.values.iter().map(|value| upper(&value.name)).collect();
        names.sort();
        if let Some(pair) = names.windows(2).find(|pair| pair[0] == pair[1]) {
            let twice = String::from_utf16_lossy(&pair[0]);
            return Err(Error::Limit(format!("two values of {:?} have the same name: {twice:?}", key.name)));
        }
        let mut entries = Vec::new();
        for (_, key) in &below {
            let place = self.reserve(KEY_HEAD + name(&key.name).0.len())?;
            self.key(key, place, offset, depth + 1)?;
            entries.push((place, hash(&key.name)));
        }
        let mut leaves = Vec::new();
        for part in entries.chunks(LEAF) {
            let mut leaf = b"lh".to_vec();
            leaf.extend((part.len() as u16).to_le_bytes());
            part.iter().for_each(|(place, hash)| leaf.extend([*place, *hash].map(u32::to_le_bytes).concat()));
            leaves.push(self.cell(&leaf)?);
        }
        let below = match leaves[..] {
            [] => NOWHERE,
            [one] => one,
            _ => {
                let mut index = b"ri".to_vec();
                let count = u16::try_from(leaves.len());
                let count = count.map_err(|_| Error::Limit(format!("the key {:?} has too many below it", key.name)))?;
                index.extend(count.to_le_bytes());
                leaves.iter().for_each(|leaf| index.extend(leaf.to_le_bytes()));
                self.cell(&index)?
            }
        };
        let (bytes, narrow) = name(&key.name);
        let wide = |name: &str| name.encode_utf16().count() as u32 * 2;
        let flags = if narrow { flag::NARROW } else { 0 } | if depth == 0 { flag::ROOT | flag::NO_DELETE } else { 0 };
        let mut out = b"nk".to_vec();
        out.extend(flags.to_le_bytes());
        out.extend(self.time.to_le_bytes());
        let longest = [
            key.keys.iter().map(|key| wide(&key.name)).max().unwrap_or(0),
            0,
            key.values.iter().map(|value| wide(&value.name)).max().unwrap_or(0),
            key.values.iter().map(|value| value.data.len() as u32).max().unwrap_or(0),
        ];
        let places = [0, parent, entries.len() as u32, 0, below, NOWHERE, key.values.len() as u32, values];
        out.extend(places.map(u32::to_le_bytes).concat());
        out.extend([self.security, NOWHERE].map(u32::to_le_bytes).concat());
        out.extend(longest.map(u32::to_le_bytes).concat());
        out.extend(0u32.to_le_bytes());
        out.extend((bytes.len() as u16).to_le_bytes());
        out.extend([0, 0]);
        out.extend(bytes);
        self.put(offset, &out);
        Ok(())
    }

    fn value(&mut self, value: &Value) -> Result<u32> {
        fits(&value.name, "value", LONGEST_VALUE)?;
        let length = value.data.len() as u32;
        let (place, length) = match value.data.len() {
            0..=4 => {
                let mut four = [0; 4];
                four[..value.data.len()].copy_from_slice(&value.data);
                (u32::from_le_bytes(four), length | INLINE)
            }
            5..=SEGMENT => (self.cell(&value.data)?, length),
            _ if value.data.len() > LARGEST => return Err(Error::Limit("a value is too long".into())),
            _ => {
                let mut segments = Vec::new();
                for part in value.data.chunks(SEGMENT) {
                    segments.push(self.cell(part)?);
                }
                let count = u16::try_from(segments.len()).map_err(|_| Error::Limit("a value is too long".into()))?;
                let list = self.list(&segments)?;
                (self.cell(&[b"db", &count.to_le_bytes()[..], &list.to_le_bytes(), &[0; 4]].concat())?, length)
            }
        };
        let (bytes, narrow) = name(&value.name);
        let flags = if narrow && !bytes.is_empty() { flag::NARROW_VALUE } else { 0 };
        let mut out = b"vk".to_vec();
        out.extend((bytes.len() as u16).to_le_bytes());
        out.extend([length, place, value.kind].map(u32::to_le_bytes).concat());
        out.extend([flags, 0].map(u16::to_le_bytes).concat());
        debug_assert_eq!(out.len(), VALUE_HEAD);
        out.extend(bytes);
        self.cell(&out)
    }
}

/// A name's bytes: one a letter where that is enough.
fn name(name: &str) -> (Vec<u8>, bool) {
    let narrow: Option<Vec<u8>> = name.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
    match narrow {
        Some(bytes) => (bytes, true),
        None => (name.encode_utf16().flat_map(u16::to_le_bytes).collect(), false),
    }
}

fn fits(name: &str, of: &str, most: usize) -> Result<()> {
    let length = name.encode_utf16().count();
    if length > most {
        return Err(Error::Limit(format!("the name of a {of} has {length} letters, more than {most}")));
    }
    if of == "key" && (name.is_empty() || name.contains(['\\', '\0'])) {
        return Err(Error::Limit(format!("{name:?} can't be the name of a key")));
    }
    Ok(())
}

/// Who may do what: the system and administrators everything; users, and programs that are confined, may read.
fn descriptor() -> Vec<u8> {
    let name = |authority: u8, parts: &[u32]| {
        let mut out = vec![1, parts.len() as u8, 0, 0, 0, 0, 0, authority];
        parts.iter().for_each(|part| out.extend(part.to_le_bytes()));
        out
    };
    let (system, administrators) = (name(5, &[18]), name(5, &[32, 544]));
    let (users, confined) = (name(5, &[32, 545]), name(15, &[2, 1]));
    const ALL: u32 = 0xF003F;
    const READ: u32 = 0x20019;
    let mut entries = Vec::new();
    for (rights, who) in [(ALL, &system), (ALL, &administrators), (READ, &users), (READ, &confined)] {
        // Allowed, and for the keys below it, too.
        entries.extend([0, 2]);
        entries.extend((8 + who.len() as u16).to_le_bytes());
        entries.extend(rights.to_le_bytes());
        entries.extend(who);
    }
    let mut list = vec![2, 0];
    list.extend([8 + entries.len() as u16, 4, 0].map(u16::to_le_bytes).concat());
    list.extend(entries);
    let owner = 20 + list.len() as u32;
    let mut out = vec![1, 0, 0x04, 0x80];
    out.extend([owner, owner + administrators.len() as u32, 0, 20].map(u32::to_le_bytes).concat());
    [out, list, administrators, system].concat()
}
