//! The reader: any bytes in, data or an error out; never a crash, endless loop or memory beyond the [`Limits`].

mod file;
mod inode;
mod metadata;

use crate::codec::Algorithm;
use crate::structs::*;
use crate::{Error, Result};
pub use file::{BlockOrHole, BlockPlace, FileReader};
pub use inode::{DirPlace, Entry, FilePlace, Inode, InodeRef, Kind};
pub use read_at::ReadAt;
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex};
use zerocopy::IntoBytes;

/// What a reader is willing to hold or go through.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Names in the whole image (and so in one folder).
    pub max_entries: u64,
    /// Folders inside folders.
    pub max_depth: usize,
    /// Blocks of one file.
    pub max_blocks_in_file: u64,
}

impl Default for Limits {
    /// Ten million names, 512 levels, files of 16 million blocks (16 TB of the largest).
    fn default() -> Self {
        Self { max_entries: 10_000_000, max_depth: 512, max_blocks_in_file: 16 << 20 }
    }
}

/// An opened image.
pub struct Image<R: ReadAt> {
    source: R,
    base: u64,
    superblock: Superblock,
    algorithm: Algorithm,
    owners: Vec<u32>,
    directory_end: u64,
    limits: Limits,
    cache: Mutex<metadata::Cache>,
    fragments: Mutex<VecDeque<(u64, Arc<Vec<u8>>)>>,
}

/// One step of a [walk](Image::walk): a path (without the root's slash) and its inode.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Visited {
    /// Names joined with `/`.
    pub path: Vec<u8>,
    /// What is there.
    pub inode: Inode,
}

impl<R: ReadAt> Image<R> {
    /// Opens the image that begins at byte `base` of the source.
    ///
    /// # Errors
    /// [`Error::Format`] when it is no squashfs 4.0 image, is truncated, or is packed with a codec other than gzip, xz
    /// or zstd.
    pub fn open(source: R, base: u64, limits: Limits) -> Result<Self> {
        let mut superblock: Superblock = zerocopy::FromZeros::new_zeroed();
        let length = source.length()?.saturating_sub(base);
        if length < size_of::<Superblock>() as u64 {
            return Err(Error::format(0, "too short for a squashfs image"));
        }
        source.read_exact_at(superblock.as_mut_bytes(), base)?;
        let s = &superblock;
        if s.magic.get() != MAGIC {
            return Err(Error::format(0, "not a squashfs image"));
        }
        if (s.major.get(), s.minor.get()) != (4, 0) {
            return Err(Error::format(28, format!("squashfs version {}.{}, not 4.0", s.major, s.minor)));
        }
        let log = u32::from(s.block_log.get());
        if !(12..=20).contains(&log) || s.block_size.get() != 1 << log {
            return Err(Error::format(12, format!("a block size of {} bytes", s.block_size)));
        }
        let algorithm = Algorithm::from_id(s.compression.get()).map_err(|e| match s.compression.get() {
            // lzma, lzo and lz4: known to others.
            2 | 3 | 5 => Error::Unsupported(e),
            _ => Error::format(20, e),
        })?;
        if s.bytes_used.get() > length {
            let what =
                format!("the image declares {} bytes, but only {length} are present: it is truncated", s.bytes_used);
            return Err(Error::format(40, what));
        }
        let in_order = s.inode_table.get() < s.directory_table.get()
            && s.directory_table.get() < s.id_table.get()
            && s.id_table.get() < s.bytes_used.get();
        if !in_order {
            return Err(Error::format(48, "the tables are out of order in the image"));
        }
        let directory_end = [s.fragment_table.get(), s.export_table.get(), s.id_table.get()].into_iter().min();
        let mut image = Self {
            source,
            base,
            superblock,
            algorithm,
            owners: Vec::new(),
            directory_end: directory_end.unwrap_or(0).max(superblock.directory_table.get()),
            limits,
            cache: Mutex::default(),
            fragments: Mutex::default(),
        };
        image.owners = image.read_owners()?;
        Ok(image)
    }

    fn read_owners(&self) -> Result<Vec<u32>> {
        let table = self.superblock.id_table.get();
        let count = usize::from(self.superblock.id_count.get());
        let mut owners = Vec::new();
        for block in 0..(count * 4).div_ceil(METADATA_SIZE) {
            let mut position = [0; 8];
            self.read_at(&mut position, table + block as u64 * 8)?;
            let mut m = self.metadata(u64::from_le_bytes(position), 0, table)?;
            for _ in 0..(count - owners.len()).min(METADATA_SIZE / 4) {
                owners.push(m.u32()?);
            }
        }
        Ok(owners)
    }

    /// The superblock.
    pub fn superblock(&self) -> &Superblock {
        &self.superblock
    }

    /// Bytes in a block.
    pub fn block_size(&self) -> u32 {
        self.superblock.block_size.get()
    }

    /// The codec's algorithm.
    pub fn algorithm(&self) -> Algorithm {
        self.algorithm
    }

    /// The image's length without padding, bytes.
    pub fn bytes_used(&self) -> u64 {
        self.superblock.bytes_used.get()
    }

    /// The source of bytes.
    pub fn source(&self) -> &R {
        &self.source
    }

    /// Where the root folder's inode stands.
    pub fn root(&self) -> InodeRef {
        InodeRef(self.superblock.root_inode.get())
    }

    /// Finds a path (names joined with `/`, no links followed); `None` when a name is not there.
    ///
    /// # Errors
    /// [`Error::Format`] for what it meets on the way.
    pub fn lookup(&self, path: &[u8]) -> Result<Option<Inode>> {
        let mut inode = self.inode(self.root())?;
        for name in path.split(|&b| b == b'/').filter(|n| !n.is_empty()) {
            if !matches!(inode.kind, Kind::Dir(_)) {
                return Ok(None);
            }
            match self.entries(&inode)?.into_iter().find(|e| e.name == name) {
                Some(entry) => inode = self.inode(entry.inode)?,
                None => return Ok(None),
            }
        }
        Ok(Some(inode))
    }

    /// Goes through everything below the root, each folder before what is in it, names in stored order.
    ///
    /// # Errors
    /// What the image makes fail, or `visit`; a folder that contains itself or has two parents is a format error.
    pub fn walk<E: From<Error>>(
        &self,
        mut visit: impl FnMut(Visited) -> std::result::Result<(), E>,
    ) -> std::result::Result<(), E> {
        let root = self.inode(self.root())?;
        let mut seen = HashSet::from([self.root()]);
        let mut count = 0;
        let mut stack = vec![(Vec::new(), self.entries(&root)?.into_iter())];
        while let Some((prefix, entries)) = stack.last_mut() {
            let Some(entry) = entries.next() else {
                stack.pop();
                continue;
            };
            let mut path = prefix.clone();
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend_from_slice(&entry.name);
            let inode = self.inode(entry.inode)?;
            count += 1;
            if count > self.limits.max_entries {
                return Err(Error::Limit(format!("more than {} names", self.limits.max_entries)).into());
            }
            if matches!(inode.kind, Kind::Dir(_)) {
                if !seen.insert(entry.inode) {
                    let shown = String::from_utf8_lossy(&path).into_owned();
                    return Err(Error::format(0, format!("the folder {shown:?} has two parents")).into());
                }
                if stack.len() >= self.limits.max_depth {
                    return Err(Error::Limit(format!("more than {} levels of folders", self.limits.max_depth)).into());
                }
                let below = self.entries(&inode)?.into_iter();
                visit(Visited { path: path.clone(), inode })?;
                stack.push((path, below));
            } else {
                visit(Visited { path, inode })?;
            }
        }
        Ok(())
    }
}
