//! What the catalog holds, as a tree of names.

use super::{Tree, Volume};
use crate::name::shown;
use crate::structs::*;
use crate::{Error, Result};
use read_at::ReadAt;
use std::collections::{BTreeMap, HashMap};
use std::io::Read;
use zerocopy::FromBytes;

/// The folder of files that have several names: it is not shown, and neither is what is in it.
const SHARED: &str = "\0\0\0\0HFS+ Private Data";

/// What a name stands for.
#[derive(Debug, Clone)]
pub enum Kind {
    /// A folder.
    Folder(Box<FolderRecord>),
    /// A file, with the number of the file whose bytes it has: another's for a further name.
    File(Box<FileRecord>, u32),
    /// A symbolic link and where it leads.
    Link(Box<FileRecord>, String),
}

/// Something in the volume.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Names joined with `/`.
    pub path: String,
    /// Its number.
    pub cnid: u32,
    /// What it is.
    pub kind: Kind,
}

impl Entry {
    /// Owner, mode and flags.
    pub fn permissions(&self) -> &Permissions {
        match &self.kind {
            Kind::Folder(record) => &record.permissions,
            Kind::File(record, _) | Kind::Link(record, _) => &record.permissions,
        }
    }

    /// When it was last changed, seconds since 1970.
    pub fn time(&self) -> i64 {
        let times = match &self.kind {
            Kind::Folder(record) => &record.times,
            Kind::File(record, _) | Kind::Link(record, _) => &record.times,
        };
        i64::from(times[1].get()) - i64::from(EPOCH)
    }

    /// Bytes of a file; of a link's target for a link.
    pub fn size(&self) -> u64 {
        self.data().map_or(0, |(fork, _)| fork.size.get())
    }

    pub(crate) fn data(&self) -> Option<(&Fork, u32)> {
        match &self.kind {
            Kind::Folder(_) => None,
            Kind::File(record, file) => Some((&record.data, *file)),
            Kind::Link(record, _) => Some((&record.data, self.cnid)),
        }
    }

    pub(crate) fn resources(&self) -> Option<(&Fork, u32)> {
        match &self.kind {
            Kind::Folder(_) => None,
            Kind::File(record, file) => Some((&record.resource, *file)),
            Kind::Link(record, _) => Some((&record.resource, self.cnid)),
        }
    }
}

/// Values of attributes by the number of what has them, and by name.
pub type Attributes = BTreeMap<u32, BTreeMap<String, Vec<u8>>>;

enum Raw {
    Folder(Box<FolderRecord>),
    File(Box<FileRecord>),
}

/// A name with its length in front.
pub(crate) fn units(bytes: &[u8]) -> Option<Vec<u16>> {
    let (length, rest) = bytes.split_first_chunk::<2>()?;
    let rest = rest.get(..2 * usize::from(u16::from_be_bytes(*length)))?;
    Some(rest.chunks_exact(2).map(|u| u16::from_be_bytes([u[0], u[1]])).collect())
}

/// Folder and name of a catalog key.
pub(crate) fn catalog_key(key: &[u8]) -> Option<(u32, Vec<u16>)> {
    let (parent, name) = key.split_first_chunk::<4>()?;
    Some((u32::from_be_bytes(*parent), units(name)?))
}

impl<R: ReadAt> Volume<R> {
    /// The volume's name.
    ///
    /// # Errors
    /// [`Error::Format`] for a volume without a root.
    pub fn name(&self) -> Result<String> {
        let mut name = None;
        let first = self.catalog.node(&self.source, self.catalog.head.first_leaf.get())?;
        if first.head.records.get() > 0 {
            let (key, _) = first.pair(0)?;
            name = catalog_key(key).filter(|(parent, _)| *parent == cnid::ROOT_PARENT).map(|(_, name)| shown(&name));
        }
        name.ok_or_else(|| Error::format(first.offset(), "the volume has no root folder"))
    }

    /// Everything in the volume, each folder before what is in it, in the volume's own order.
    ///
    /// # Errors
    /// [`Error::Format`], [`Error::Limit`].
    pub fn entries(&self) -> Result<Vec<Entry>> {
        let mut children: HashMap<u32, Vec<(Vec<u16>, Raw)>> = HashMap::new();
        let mut count = 0;
        self.catalog.leaves(&self.source, |key, data, offset| {
            let bad = |what: &str| Error::format(offset, what);
            let (parent, name) = catalog_key(key).ok_or_else(|| bad("not a catalog key"))?;
            let kind = data.first_chunk::<2>().map(|k| u16::from_be_bytes(*k));
            let raw = match kind {
                Some(kind::FOLDER) => {
                    let record =
                        FolderRecord::read_from_prefix(data).map_err(|_| bad("a folder's record is cut off"))?;
                    Raw::Folder(Box::new(record.0))
                }
                Some(kind::FILE) => {
                    let record = FileRecord::read_from_prefix(data).map_err(|_| bad("a file's record is cut off"))?;
                    Raw::File(Box::new(record.0))
                }
                Some(kind::FOLDER_THREAD | kind::FILE_THREAD) => return Ok(()),
                _ => return Err(bad("a catalog record of unknown type")),
            };
            count += 1;
            if count > self.limits.max_entries {
                return Err(Error::Limit(format!("more than {} names", self.limits.max_entries)));
            }
            children.entry(parent).or_default().push((name, raw));
            Ok(())
        })?;
        let shared = self.shared(&mut children);
        let mut all = Vec::with_capacity(count as usize);
        // What is still to be listed: a folder's number, its path, its depth.
        let mut open = vec![(children.remove(&cnid::ROOT).unwrap_or_default().into_iter(), String::new())];
        while let Some((folder, path)) = open.last_mut() {
            let Some((name, raw)) = folder.next() else {
                open.pop();
                continue;
            };
            let name = shown(&name);
            let path = if path.is_empty() { name } else { format!("{path}/{name}") };
            match raw {
                Raw::Folder(record) => {
                    let cnid = record.cnid.get();
                    all.push(Entry { path: path.clone(), cnid, kind: Kind::Folder(record) });
                    // A folder that is inside itself has been taken out of the map, and is empty here.
                    let inside = children.remove(&cnid).unwrap_or_default();
                    if open.len() >= self.limits.max_depth {
                        return Err(Error::Limit(format!("folders more than {} deep", self.limits.max_depth)));
                    }
                    open.push((inside.into_iter(), path));
                }
                Raw::File(record) => all.push(self.file(path, record, &shared)?),
            }
        }
        Ok(all)
    }

    /// Takes the folder of files with several names out, by the number that their names give.
    fn shared(&self, children: &mut HashMap<u32, Vec<(Vec<u16>, Raw)>>) -> HashMap<u32, FileRecord> {
        let mut found = HashMap::new();
        let Some(root) = children.get_mut(&cnid::ROOT) else { return found };
        let is_it = |name: &[u16], raw: &Raw| matches!(raw, Raw::Folder(_)) && String::from_utf16_lossy(name) == SHARED;
        let Some(at) = root.iter().position(|(name, raw)| is_it(name, raw)) else { return found };
        let (_, Raw::Folder(folder)) = root.remove(at) else { return found };
        for (name, raw) in children.remove(&folder.cnid.get()).unwrap_or_default() {
            let number = shown(&name).strip_prefix("iNode").and_then(|n| n.parse().ok());
            if let (Some(number), Raw::File(record)) = (number, raw) {
                found.insert(number, *record);
            }
        }
        found
    }

    fn file(&self, path: String, record: Box<FileRecord>, shared: &HashMap<u32, FileRecord>) -> Result<Entry> {
        let cnid = record.cnid.get();
        if record.file_type == *b"hlnk" && record.creator == *b"hfs+" {
            let target = shared.get(&record.permissions.special.get());
            let target = target
                .ok_or_else(|| Error::format(0, format!("{path} is another name of a file that doesn't exist")))?;
            let file = target.cnid.get();
            return Ok(Entry { path, cnid, kind: Kind::File(Box::new(*target), file) });
        }
        if record.permissions.mode.get() & 0o170_000 != 0o120_000 {
            return Ok(Entry { path, cnid, kind: Kind::File(record, cnid) });
        }
        let size = record.data.size.get();
        if size > self.limits.max_attributes.min(1 << 16) {
            return Err(Error::Limit(format!("{path}: a link's target of {size} bytes")));
        }
        let place = self.place(&record.data, cnid, 0)?;
        let mut target = vec![0; size as usize];
        place.read_exact(&self.source, 0, &mut target)?;
        let target = String::from_utf8_lossy(&target).trim_end_matches('\0').to_owned();
        Ok(Entry { path, cnid, kind: Kind::Link(record, target) })
    }

    /// All extended attributes.
    ///
    /// # Errors
    /// [`Error::Format`], [`Error::Limit`].
    pub fn attributes(&self) -> Result<Attributes> {
        let mut all = Attributes::new();
        let Some(tree) = &self.attributes else { return Ok(all) };
        let mut left = self.limits.max_attributes;
        let mut take = |n: u64| match left.checked_sub(n) {
            Some(rest) => {
                left = rest;
                Ok(())
            }
            None => Err(Error::Limit(format!("attributes of more than {} bytes", self.limits.max_attributes))),
        };
        tree.leaves(&self.source, |key, data, offset| {
            let bad = || Error::format(offset, "not an attribute record");
            let (file, name) = attribute_key(key).ok_or_else(bad)?;
            take(name.len() as u64 + 64)?;
            let number = |at: usize| data.get(at..at + 4).map(|b| u32::from_be_bytes([b[0], b[1], b[2], b[3]]));
            let value = match number(0).ok_or_else(bad)? {
                attribute::INLINE => {
                    let length = number(12).ok_or_else(bad)? as usize;
                    take(length as u64)?;
                    data.get(16..).and_then(|d| d.get(..length)).ok_or_else(bad)?.to_vec()
                }
                attribute::FORK => {
                    let fork = data.get(8..).and_then(|d| Fork::read_from_prefix(d).ok()).ok_or_else(bad)?.0;
                    take(fork.size.get())?;
                    let place = self.place(&fork, 0, 1)?;
                    let mut value = Vec::new();
                    super::FileReader { source: &self.source, place, at: 0 }.read_to_end(&mut value)?;
                    value
                }
                // More extents of a large value; what has that many is refused above by its missing blocks.
                attribute::EXTENTS => return Ok(()),
                _ => return Err(bad()),
            };
            all.entry(file).or_default().insert(shown(&name), value);
            Ok(())
        })?;
        Ok(all)
    }

    /// The catalog's tree.
    pub fn catalog(&self) -> &Tree {
        &self.catalog
    }
}

/// File and name of an attribute's key.
pub(crate) fn attribute_key(key: &[u8]) -> Option<(u32, Vec<u16>)> {
    Some((u32::from_be_bytes(key.get(2..6)?.try_into().ok()?), units(key.get(10..)?)?))
}
