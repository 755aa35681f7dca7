//! Where everything is, and then the bytes in that order.
//!
//! Boot blocks and header, bitmap, extents, attributes, catalog, targets of links, files, free blocks, and the block
//! with the copy of the header.

use super::tree::{Record, Shape, Tree};
use super::{Attribute, BLOCK, Builder, Item, Meta, What, number};
use crate::name::{folded, shown};
use crate::structs::*;
use crate::{Error, Result};
use std::io::Write;
use zerocopy::byteorder::big_endian::{I16, U16, U32, U64};
use zerocopy::{FromZeros, IntoBytes};

const CATALOG: Shape = Shape { node: 8192, longest_key: 516, attributes: 6 };
const ATTRIBUTES: Shape = Shape { node: 8192, longest_key: 266, attributes: 6 };
const EXTENTS: Shape = Shape { node: 4096, longest_key: 10, attributes: 2 };

/// A volume whose every byte has its place, without the files' own bytes.
pub struct Layout {
    /// Boot blocks with the header, and the bitmap.
    front: [Vec<u8>; 2],
    extents: Tree,
    attributes: Tree,
    catalog: Tree,
    named: Vec<Attribute>,
    items: Vec<Item>,
    /// The items as they stand in the catalog, and their first blocks.
    order: Vec<usize>,
    starts: Vec<u64>,
    /// Targets of links, each in blocks of its own.
    links: Vec<u8>,
    header: VolumeHeader,
    /// Sizes of the files, in the order in which they come.
    files: Vec<u64>,
    /// Bytes of the first ones.
    first: Vec<u8>,
    free: u32,
}

fn blocks(bytes: u64) -> u64 {
    bytes.div_ceil(BLOCK)
}

fn fork(start: u64, size: u64) -> Fork {
    let count = U32::new(blocks(size) as u32);
    let mut fork = Fork { size: U64::new(size), blocks: count, ..Fork::default() };
    if size > 0 {
        fork.extents[0] = Extent { start: U32::new(start as u32), count };
    }
    fork
}

fn times(meta: &Meta) -> [U32; 5] {
    let now = U32::new(meta.time.wrapping_add(EPOCH));
    [now, now, now, now, U32::ZERO]
}

fn units(name: &[u16]) -> impl Iterator<Item = u8> + '_ {
    (name.len() as u16).to_be_bytes().into_iter().chain(name.iter().flat_map(|u| u.to_be_bytes()))
}

fn catalog_key(parent: u32, name: &[u16]) -> Vec<u8> {
    let mut key = ((6 + 2 * name.len()) as u16).to_be_bytes().to_vec();
    key.extend(parent.to_be_bytes());
    key.extend(units(name));
    key
}

fn permissions(meta: &Meta, kind: u16) -> Permissions {
    Permissions {
        owner: U32::new(meta.owner),
        group: U32::new(meta.group),
        mode: U16::new(kind | meta.mode),
        ..Permissions::default()
    }
}

fn record(item: &Item, cnid: u32, start: u64) -> Vec<u8> {
    let flags = if item.has_attributes { HAS_ATTRIBUTES } else { 0 };
    if let What::Folder { valence } = item.what {
        let mut record = FolderRecord::new_zeroed();
        record.kind = U16::new(kind::FOLDER);
        record.flags = U16::new(flags);
        record.valence = U32::new(valence);
        record.cnid = U32::new(cnid);
        record.times = times(&item.meta);
        record.permissions = permissions(&item.meta, 0o040_000);
        record.finder_flags = U16::new(item.meta.finder);
        return record.as_bytes().to_vec();
    }
    let (size, kind) = match &item.what {
        What::Link { target } => (target.len() as u64, 0o120_000),
        What::File { size } => (*size, 0o100_000),
        What::Folder { .. } => unreachable!("it has returned"),
    };
    let mut record = FileRecord::new_zeroed();
    record.kind = U16::new(kind::FILE);
    record.flags = U16::new(flags | HAS_THREAD);
    record.cnid = U32::new(cnid);
    record.times = times(&item.meta);
    record.permissions = permissions(&item.meta, kind);
    // How many names the file has.
    record.permissions.special = U32::new(1);
    record.file_type.copy_from_slice(&item.meta.kind[..4]);
    record.creator.copy_from_slice(&item.meta.kind[4..]);
    record.finder_flags = U16::new(item.meta.finder);
    record.location = [I16::ZERO; 2];
    record.data = fork(start, size);
    record.as_bytes().to_vec()
}

fn thread(item: &Item) -> Vec<u8> {
    let kind = if matches!(item.what, What::Folder { .. }) { kind::FOLDER_THREAD } else { kind::FILE_THREAD };
    let head = ThreadRecord { kind: U16::new(kind), reserved: U16::ZERO, parent: U32::new(item.parent) };
    head.as_bytes().iter().copied().chain(units(&item.name)).collect()
}

/// The catalog's records; `starts` are the items' first blocks.
fn catalog<'i>(items: &'i [Item], order: &'i [usize], starts: &'i [u64]) -> impl Iterator<Item = Record> + 'i {
    // Records follow the number of the folder; a thread has no name and stands before all that are in its folder.
    let mut children = order.iter().peekable();
    let mut next = 0;
    std::iter::from_fn(move || {
        let thread_of = (next < items.len()).then(|| number(next));
        match (children.peek().map(|n| items[**n].parent), thread_of) {
            (Some(parent), thread) if thread.is_none_or(|t| parent < t) => {
                let n = *children.next()?;
                Some((catalog_key(parent, &items[n].name), record(&items[n], number(n), starts[n])))
            }
            (_, Some(cnid)) => {
                let n = next;
                next += 1;
                Some((catalog_key(cnid, &[]), thread(&items[n])))
            }
            _ => None,
        }
    })
}

fn sorted(mut all: Vec<Attribute>) -> Result<Vec<Attribute>> {
    all.sort_by(|a, b| (a.cnid, &a.name).cmp(&(b.cnid, &b.name)));
    if let Some(pair) = all.windows(2).find(|w| (w[0].cnid, &w[0].name) == (w[1].cnid, &w[1].name)) {
        return Err(Error::Usage(format!("the attribute {} appears twice", shown(&pair[0].name))));
    }
    Ok(all)
}

fn attributes(all: &[Attribute]) -> impl Iterator<Item = Record> + '_ {
    all.iter().map(|a| {
        let mut key = ((12 + 2 * a.name.len()) as u16).to_be_bytes().to_vec();
        key.extend([0, 0]);
        key.extend(a.cnid.to_be_bytes());
        key.extend(0u32.to_be_bytes());
        key.extend(units(&a.name));
        let mut data = attribute::INLINE.to_be_bytes().to_vec();
        data.extend([0; 8]);
        data.extend((a.value.len() as u32).to_be_bytes());
        data.extend(&a.value);
        data.resize(data.len().next_multiple_of(2), 0);
        (key, data)
    })
}

impl Layout {
    pub(super) fn new(builder: Builder) -> Result<Self> {
        let Builder { options, items, attributes: named, .. } = builder;
        // The order of names decides what can be found; equal ones can't both be there.
        let mut order: Vec<usize> = (0..items.len()).collect();
        let key = |n: &usize| {
            let item = &items[*n];
            (item.parent, item.name.iter().filter_map(|u| folded(*u)).collect::<Vec<u16>>())
        };
        order.sort_by_cached_key(key);
        if let Some(pair) = order.windows(2).find(|w| key(&w[0]) == key(&w[1])) {
            let (a, b) = (shown(&items[pair[0]].name), shown(&items[pair[1]].name));
            return Err(Error::Usage(format!("{a:?} and {b:?} in one folder are the same name to HFS+")));
        }

        let named = sorted(named)?;
        let attribute_tree = Tree::new(attributes(&named), ATTRIBUTES);
        let extent_tree = Tree::new(std::iter::empty(), EXTENTS);
        // Where files begin depends on the catalog's size, which does not depend on where they begin.
        let mut starts = vec![0; items.len()];
        let catalog_tree = Tree::new(catalog(&items, &order, &starts), CATALOG);
        let data: u64 = items
            .iter()
            .map(|i| match &i.what {
                What::File { size } => blocks(*size),
                What::Link { target } => blocks(target.len() as u64),
                What::Folder { .. } => 0,
            })
            .sum();
        let fixed = 1 + blocks(extent_tree.size()) + blocks(attribute_tree.size()) + blocks(catalog_tree.size());
        let without_map = fixed + data + u64::from(options.free_blocks) + 1;
        let mut map = 1;
        while (without_map + map).div_ceil(8) > map * BLOCK {
            map += 1;
        }
        let total = without_map + map;
        if total > u64::from(u32::MAX) {
            return Err(Error::Limit(format!("{total} blocks are more than a volume can have")));
        }

        let mut at = 1;
        let mut place = |bytes: u64| {
            let start = at;
            at += blocks(bytes);
            fork(start, bytes)
        };
        let allocation = place(map * BLOCK);
        let extents = place(extent_tree.size());
        let attribute_file = place(attribute_tree.size());
        let catalog_file = place(catalog_tree.size());
        let mut links = Vec::new();
        for (n, item) in items.iter().enumerate() {
            if let What::Link { target } = &item.what {
                starts[n] = at;
                at += blocks(target.len() as u64);
                links.extend(target);
                links.resize(links.len().next_multiple_of(BLOCK as usize), 0);
            }
        }
        let mut files = Vec::new();
        for (n, item) in items.iter().enumerate() {
            if let What::File { size } = item.what {
                starts[n] = at;
                at += blocks(size);
                files.push(size);
            }
        }

        let now = U32::new(options.time.wrapping_add(EPOCH));
        let folders = items.iter().filter(|i| matches!(i.what, What::Folder { .. })).count() as u32;
        let mut header = VolumeHeader::new_zeroed();
        header.signature = U16::new(SIGNATURE);
        header.version = U16::new(4);
        header.attributes = U32::new(UNMOUNTED);
        header.last_mounted = *b"10.0";
        (header.created, header.modified, header.checked) = (now, now, now);
        header.files = U32::new(items.len() as u32 - folders);
        // The root is not counted.
        header.folders = U32::new(folders - 1);
        header.block_size = U32::new(BLOCK as u32);
        header.blocks = U32::new(total as u32);
        header.free_blocks = U32::new(options.free_blocks);
        header.next_allocation = U32::new(if options.free_blocks > 0 { at as u32 } else { 0 });
        (header.resource_clump, header.data_clump) = (U32::new(65536), U32::new(65536));
        header.next_cnid = U32::new(number(items.len()).max(cnid::FIRST));
        header.writes = U32::new(1);
        header.encodings = U64::new(1);
        if options.opens {
            header.finder[2] = U32::new(cnid::ROOT);
        }
        header.finder[6] = U32::new((options.id >> 32) as u32);
        header.finder[7] = U32::new(options.id as u32);
        let clump = |mut fork: Fork| {
            fork.clump = U32::new(fork.size.get() as u32);
            fork
        };
        header.allocation = clump(allocation);
        header.extents = clump(extents);
        header.attribute_file = clump(attribute_file);
        header.catalog = clump(catalog_file);

        let mut first = vec![0; BLOCK as usize];
        first[HEADER_AT as usize..][..512].copy_from_slice(header.as_bytes());
        let mut bitmap = vec![0u8; (map * BLOCK) as usize];
        let used = |bitmap: &mut [u8], n: u64| bitmap[(n / 8) as usize] |= 0x80 >> (n % 8);
        bitmap[..(at / 8) as usize].fill(0xFF);
        (at / 8 * 8..at).for_each(|n| used(&mut bitmap, n));
        used(&mut bitmap, total - 1);
        Ok(Self {
            front: [first, bitmap],
            extents: extent_tree,
            attributes: attribute_tree,
            catalog: catalog_tree,
            named,
            items,
            order,
            starts,
            links,
            header,
            files,
            first: Vec::new(),
            free: options.free_blocks,
        })
    }

    /// Bytes of the whole volume.
    pub fn length(&self) -> u64 {
        u64::from(self.header.blocks.get()) * BLOCK
    }

    /// Has the bytes of the first files at hand already: [`Self::write`] writes them.
    ///
    /// # Errors
    /// [`Error::Usage`] if they are not as long as those files were said to be.
    pub fn with_first(mut self, files: &[Vec<u8>]) -> Result<Self> {
        if self.files.len() < files.len() || self.files.iter().zip(files).any(|(size, f)| *size != f.len() as u64) {
            return Err(Error::Usage("the first files differ in size from what was declared".into()));
        }
        self.first = files.concat();
        Ok(self)
    }

    /// Begins to write it.
    ///
    /// # Errors
    /// As the medium's.
    pub fn write<W: Write>(self, mut out: W) -> Result<Writer<W>> {
        // Nodes are whole blocks, and so is everything else.
        self.front.iter().try_for_each(|part| out.write_all(part))?;
        self.extents.write(std::iter::empty(), &mut out)?;
        self.attributes.write(attributes(&self.named), &mut out)?;
        self.catalog.write(catalog(&self.items, &self.order, &self.starts), &mut out)?;
        out.write_all(&self.links)?;
        let mut writer =
            Writer { out, header: self.header, files: self.files.into_iter(), left: 0, size: 0, free: self.free };
        writer.next_file();
        writer.data(&self.first)?;
        Ok(writer)
    }
}

/// Takes the files' bytes, one after the other.
pub struct Writer<W: Write> {
    out: W,
    header: VolumeHeader,
    files: std::vec::IntoIter<u64>,
    /// Bytes that the present file still has to get.
    left: u64,
    size: u64,
    free: u32,
}

impl<W: Write> Writer<W> {
    /// Goes on to the next file that has bytes at all.
    fn next_file(&mut self) -> bool {
        for size in self.files.by_ref() {
            if size > 0 {
                (self.left, self.size) = (size, size);
                return true;
            }
        }
        false
    }

    fn zeros(&mut self, mut count: u64) -> Result<()> {
        let zeros = [0; BLOCK as usize];
        while count > 0 {
            let n = count.min(BLOCK) as usize;
            self.out.write_all(&zeros[..n])?;
            count -= n as u64;
        }
        Ok(())
    }

    /// The next bytes of the files, in the order in which they were added; where one ends the next begins.
    ///
    /// # Errors
    /// [`Error::Usage`] for more bytes than all files were said to have; else as the medium's.
    pub fn data(&mut self, mut bytes: &[u8]) -> Result<()> {
        while !bytes.is_empty() {
            if self.left == 0 {
                return Err(Error::Usage("more bytes came than the files were declared to have".into()));
            }
            let n = self.left.min(bytes.len() as u64) as usize;
            self.out.write_all(&bytes[..n])?;
            self.left -= n as u64;
            bytes = &bytes[n..];
            if self.left == 0 {
                self.zeros(self.size.next_multiple_of(BLOCK) - self.size)?;
                self.next_file();
            }
        }
        Ok(())
    }

    /// Ends the volume.
    ///
    /// # Errors
    /// [`Error::Usage`] when bytes are missing; else as the medium's.
    pub fn finish(mut self) -> Result<W> {
        if self.left > 0 {
            return Err(Error::Usage(format!("{} bytes of a file are missing", self.left)));
        }
        self.zeros(u64::from(self.free) * BLOCK + BLOCK - HEADER_AT)?;
        self.out.write_all(self.header.as_bytes())?;
        self.zeros(512)?;
        Ok(self.out)
    }
}
