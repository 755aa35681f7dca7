//! The reader: any bytes in, data or an error out; never a crash, an endless loop or memory beyond the [`Limits`].

mod fork;
mod records;
mod tree;

pub use fork::{FileReader, Place, Span};
pub use records::{Attributes, Entry, Kind};
pub(crate) use records::{attribute_key, catalog_key, units};
pub use tree::{Node, Tree};

use crate::structs::*;
use crate::{Error, Result};
use fork::used;
use read_at::ReadAt;
use std::collections::HashMap;
use zerocopy::FromBytes;

/// What a reader is willing to hold or go through.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Names in the whole volume, and extents beyond the eighth of their files.
    pub max_entries: u64,
    /// Folders inside folders.
    pub max_depth: usize,
    /// Bytes of all attributes together, and of a link's target.
    pub max_attributes: u64,
}

impl Default for Limits {
    /// Ten million names, 512 levels, 64 MiB.
    fn default() -> Self {
        Self { max_entries: 10_000_000, max_depth: 512, max_attributes: 64 << 20 }
    }
}

/// Extents beyond the eighth, by file and kind of fork (0 data, 0xFF resources).
pub(crate) type Overflow = HashMap<(u32, u8), Vec<(u32, Vec<Span>)>>;

/// An opened volume.
pub struct Volume<R: ReadAt> {
    pub(crate) source: R,
    /// Where the volume begins in the source: not at 0 inside the wrapper that old systems put around it.
    pub(crate) base: u64,
    pub(crate) header: VolumeHeader,
    pub(crate) overflow: Overflow,
    pub(crate) catalog: Tree,
    pub(crate) extents: Tree,
    pub(crate) attributes: Option<Tree>,
    pub(crate) limits: Limits,
}

fn header_at<R: ReadAt>(source: &R, base: u64) -> Result<VolumeHeader> {
    let mut bytes = [0; size_of::<VolumeHeader>()];
    source
        .read_exact_at(&mut bytes, base + HEADER_AT)
        .map_err(|_| Error::format(base + HEADER_AT, "the file ends before the volume's header"))?;
    Ok(VolumeHeader::read_from_bytes(&bytes).expect("as many bytes as it has"))
}

/// Where the volume is inside the wrapper of an older format, if that is what stands there.
fn inside_wrapper<R: ReadAt>(source: &R) -> Option<u64> {
    let mut bytes = [0; 162];
    source.read_exact_at(&mut bytes, HEADER_AT).ok()?;
    let u16_at = |at: usize| u64::from(u16::from_be_bytes([bytes[at], bytes[at + 1]]));
    let block = u64::from(u32::from_be_bytes([bytes[20], bytes[21], bytes[22], bytes[23]]));
    (bytes[..2] == *b"BD" && bytes[124..126] == *b"H+").then(|| u16_at(28) * 512 + u16_at(126) * block)
}

impl<R: ReadAt> Volume<R> {
    /// Opens the volume that the source begins with.
    ///
    /// # Errors
    /// [`Error::Format`] for anything else.
    pub fn open(source: R, limits: Limits) -> Result<Self> {
        let base = inside_wrapper(&source).unwrap_or(0);
        let header = header_at(&source, base)?;
        let known = [SIGNATURE, SIGNATURE_X].contains(&header.signature.get());
        if !known || !(4..=5).contains(&header.version.get()) {
            return Err(Error::format(base + HEADER_AT, "not an HFS+ volume"));
        }
        let block = header.block_size.get();
        if !block.is_power_of_two() || !(512..=1 << 20).contains(&block) {
            return Err(Error::format(base + HEADER_AT + 40, format!("blocks of {block} bytes")));
        }
        let shape = (base, u64::from(block), header.blocks.get());
        let extents = Tree::open(&source, Place::new(&header.extents, &[], shape)?, "extents tree")?;
        let mut overflow = Overflow::new();
        let mut count = 0;
        extents.leaves(&source, |key, data, offset| {
            let number = |at: usize| Some(u32::from_be_bytes(key.get(at..at + 4)?.try_into().ok()?));
            let record = <[Extent; 8]>::read_from_prefix(data).ok();
            let parts = number(2).zip(number(6)).zip(record);
            let ((file, from), (record, _)) = parts.ok_or_else(|| Error::format(offset, "not an extents record"))?;
            count += 8;
            if count > limits.max_entries {
                return Err(Error::Limit(format!("more than {} extents", limits.max_entries)));
            }
            overflow.entry((file, key[0])).or_default().push((from, used(&record).collect()));
            Ok(())
        })?;
        let place = |fork: &Fork, file: u32| Place::new(fork, &more(&overflow, fork, file, 0)?, shape);
        let catalog = Tree::open(&source, place(&header.catalog, cnid::CATALOG)?, "catalog")?;
        let attributes = match header.attribute_file.size.get() {
            0 => None,
            _ => Some(Tree::open(&source, place(&header.attribute_file, cnid::ATTRIBUTES)?, "attributes tree")?),
        };
        Ok(Self { source, base, header, overflow, catalog, extents, attributes, limits })
    }

    pub(crate) fn place(&self, fork: &Fork, file: u32, kind: u8) -> Result<Place> {
        let shape = (self.base, u64::from(self.header.block_size.get()), self.header.blocks.get());
        Place::new(fork, &more(&self.overflow, fork, file, kind)?, shape)
    }

    /// The volume header.
    pub fn header(&self) -> &VolumeHeader {
        &self.header
    }

    /// Bytes of the volume.
    pub fn length(&self) -> u64 {
        u64::from(self.header.blocks.get()) * u64::from(self.header.block_size.get())
    }

    /// A file's bytes.
    ///
    /// # Errors
    /// [`Error::Usage`] for a folder; [`Error::Format`] for blocks that are not there.
    pub fn read(&self, entry: &Entry) -> Result<FileReader<'_, R>> {
        let (fork, file) = entry.data().ok_or_else(|| Error::Usage(format!("{} is a folder", entry.path)))?;
        Ok(FileReader { source: &self.source, place: self.place(fork, file, 0)?, at: 0 })
    }

    /// A file's resources.
    ///
    /// # Errors
    /// As [`Self::read`].
    pub fn resources(&self, entry: &Entry) -> Result<FileReader<'_, R>> {
        let (fork, file) = entry.resources().ok_or_else(|| Error::Usage(format!("{} is a folder", entry.path)))?;
        Ok(FileReader { source: &self.source, place: self.place(fork, file, 0xFF)?, at: 0 })
    }
}

/// A file's extents beyond the eighth.
fn more(overflow: &Overflow, fork: &Fork, file: u32, kind: u8) -> Result<Vec<Span>> {
    let Some(records) = overflow.get(&(file, kind)) else { return Ok(Vec::new()) };
    let mut next: u32 = used(&fork.extents).fold(0, |sum, s| sum.wrapping_add(s.count));
    let mut all = Vec::new();
    for (from, spans) in records {
        if *from != next {
            return Err(Error::format(0, format!("the extents of file {file} continue at block {from}, not {next}")));
        }
        next = spans.iter().fold(next, |sum, s| sum.wrapping_add(s.count));
        all.extend(spans);
    }
    Ok(all)
}
