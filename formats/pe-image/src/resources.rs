//! The tree of resources: kind, name, language, bytes.

use crate::bytes::{part, u16_at, u32_at};
use crate::{Error, Result};
use std::collections::BTreeMap;

/// Kinds by number.
pub mod kinds {
    /// One picture of an icon.
    pub const ICON: u16 = 3;
    /// An icon: which pictures belong to it.
    pub const ICON_GROUP: u16 = 14;
    /// Version information.
    pub const VERSION: u16 = 16;
    /// The application's manifest.
    pub const MANIFEST: u16 = 24;
}

/// More entries than this no program has; a hostile one could have billions.
const MAX_ENTRIES: usize = 100_000;
/// Set in an offset: a folder, or a name.
const HIGH: u32 = 0x8000_0000;

/// What a kind, or a resource, is called. Names come before numbers, as the format has them.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Key {
    /// A name, in UTF-16.
    Name(Vec<u16>),
    /// A number.
    Id(u16),
}

/// Resources by kind, name and language.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Resources {
    all: BTreeMap<Key, BTreeMap<Key, BTreeMap<u16, Data>>>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Data {
    bytes: Vec<u8>,
    code_page: u32,
}

impl Resources {
    /// The names and languages of a kind's resources, with their bytes, in order.
    pub fn of_kind(&self, kind: u16) -> impl Iterator<Item = (&Key, u16, &[u8])> {
        let names = self.all.get(&Key::Id(kind)).into_iter().flatten();
        names.flat_map(|(name, languages)| languages.iter().map(move |(l, data)| (name, *l, &*data.bytes)))
    }

    /// Puts a resource in, in place of one of the same kind, name and language.
    pub fn put(&mut self, kind: u16, name: Key, language: u16, bytes: Vec<u8>) {
        let data = Data { bytes, code_page: 0 };
        self.all.entry(Key::Id(kind)).or_default().entry(name).or_default().insert(language, data);
    }

    /// Takes away what of a kind `gone` says.
    pub fn remove(&mut self, kind: u16, gone: impl Fn(&Key) -> bool) {
        if let Some(names) = self.all.get_mut(&Key::Id(kind)) {
            names.retain(|name, _| !gone(name));
            if names.is_empty() {
                self.all.remove(&Key::Id(kind));
            }
        }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.all.values().flat_map(BTreeMap::values).map(BTreeMap::len).sum()
    }

    /// Reads the tree; `offset` is its place in the file, `data` gives bytes in memory.
    pub(crate) fn read<'b>(tree: &[u8], offset: usize, data: impl Fn(u32, usize) -> Result<&'b [u8]>) -> Result<Self> {
        let mut it = Reader { tree, offset, left: MAX_ENTRIES };
        let mut all = Self::default();
        for (kind, at) in it.folder(0)? {
            let Place::Folder(at) = at else { continue };
            for (name, at) in it.folder(at)? {
                let Place::Folder(at) = at else { continue };
                for (language, at) in it.folder(at)? {
                    let (Place::Data(at), Key::Id(language)) = (at, language) else { continue };
                    let (address, len) = (it.u32(at)?, it.u32(at + 4)?);
                    let bytes = data(address, len as usize)?.to_vec();
                    let code_page = it.u32(at + 8)?;
                    let names = all.all.entry(kind.clone()).or_default();
                    names.entry(name.clone()).or_default().insert(language, Data { bytes, code_page });
                }
            }
        }
        Ok(all)
    }

    /// The section's bytes, when it begins at an address in memory.
    pub(crate) fn write(&self, address: u32) -> Result<Vec<u8>> {
        let folder = |entries: usize| 16 + entries * 8;
        let names: usize = self.all.values().map(|n| folder(n.len())).sum();
        let languages: usize = self.all.values().flat_map(BTreeMap::values).map(|l| folder(l.len())).sum();
        let (second, third) = (folder(self.all.len()), folder(self.all.len()) + names);
        let entries = third + languages;
        let strings = entries + self.count() * 16;
        let mut out = Out { folders: [Vec::new(), Vec::new(), Vec::new()], texts: Vec::new(), strings };
        let mut data_entries = Vec::new();
        let mut blobs: Vec<&Data> = Vec::new();
        let (mut at_second, mut at_third) = (second, third);
        out.head(0, self.all.keys());
        for (kind, names) in &self.all {
            out.entry(0, kind, at_second as u32 | HIGH);
            at_second += folder(names.len());
            out.head(1, names.keys());
            for (name, languages) in names {
                out.entry(1, name, at_third as u32 | HIGH);
                at_third += folder(languages.len());
                out.head(2, [Key::Id(0)].iter().cycle().take(languages.len()));
                for (language, data) in languages {
                    out.entry(2, &Key::Id(*language), (entries + blobs.len() * 16) as u32);
                    blobs.push(data);
                }
            }
        }
        let mut blob_at = (strings + out.texts.len()).next_multiple_of(8);
        let too_long = |_| Error::Limit("resources of more than 4 GiB".into());
        for data in &blobs {
            let at = u32::try_from(blob_at).map_err(too_long)?;
            let at = address.checked_add(at).ok_or_else(|| Error::Limit("resources of more than 4 GiB".into()))?;
            for number in [at, u32::try_from(data.bytes.len()).map_err(too_long)?, data.code_page, 0] {
                data_entries.extend_from_slice(&number.to_le_bytes());
            }
            blob_at = (blob_at + data.bytes.len()).next_multiple_of(8);
        }
        let mut bytes = out.folders.concat();
        bytes.extend(data_entries);
        bytes.extend(out.texts);
        for data in blobs {
            bytes.resize(bytes.len().next_multiple_of(8), 0);
            bytes.extend_from_slice(&data.bytes);
        }
        Ok(bytes)
    }
}

/// The three levels of folders, and the names.
struct Out {
    folders: [Vec<u8>; 3],
    texts: Vec<u8>,
    strings: usize,
}

impl Out {
    fn head<'k>(&mut self, level: usize, keys: impl Iterator<Item = &'k Key>) {
        let (names, ids): (Vec<&Key>, Vec<&Key>) = keys.partition(|k| matches!(k, Key::Name(_)));
        let out = &mut self.folders[level];
        out.extend_from_slice(&[0; 12]);
        out.extend_from_slice(&(names.len() as u16).to_le_bytes());
        out.extend_from_slice(&(ids.len() as u16).to_le_bytes());
    }

    fn entry(&mut self, level: usize, key: &Key, place: u32) {
        let name = match key {
            Key::Id(id) => u32::from(*id),
            Key::Name(name) => {
                let at = (self.strings + self.texts.len()) as u32 | HIGH;
                self.texts.extend_from_slice(&(name.len() as u16).to_le_bytes());
                self.texts.extend(name.iter().flat_map(|u| u.to_le_bytes()));
                at
            }
        };
        self.folders[level].extend_from_slice(&name.to_le_bytes());
        self.folders[level].extend_from_slice(&place.to_le_bytes());
    }
}

enum Place {
    Folder(usize),
    Data(usize),
}

struct Reader<'t> {
    tree: &'t [u8],
    offset: usize,
    left: usize,
}

impl Reader<'_> {
    /// An error with its place in the file.
    fn placed<T>(&self, result: Result<T>) -> Result<T> {
        result.map_err(|e| match e {
            Error::Format { offset, what } => Error::Format { offset: offset + self.offset as u64, what },
            other => other,
        })
    }

    fn u32(&self, at: usize) -> Result<u32> {
        self.placed(u32_at(self.tree, at))
    }

    fn folder(&mut self, at: usize) -> Result<Vec<(Key, Place)>> {
        let count = |n| self.placed(u16_at(self.tree, at + n)).map(usize::from);
        let count = count(12)? + count(14)?;
        let left = self.left.checked_sub(count);
        self.left = left.ok_or_else(|| Error::at(self.offset + at, "too many resources"))?;
        let mut entries = Vec::new();
        for n in 0..count {
            let (name, place) = (self.u32(at + 16 + n * 8)?, self.u32(at + 20 + n * 8)?);
            let key = if name & HIGH == 0 { Key::Id(name as u16) } else { self.name((name & !HIGH) as usize)? };
            let at = (place & !HIGH) as usize;
            entries.push((key, if place & HIGH == 0 { Place::Data(at) } else { Place::Folder(at) }));
        }
        Ok(entries)
    }

    fn name(&self, at: usize) -> Result<Key> {
        let len = self.placed(u16_at(self.tree, at))?;
        let bytes = self.placed(part(self.tree, at + 2, usize::from(len) * 2))?;
        Ok(Key::Name(bytes.as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b)).collect()))
    }
}
