//! The streaming writer. Files arrive one after the other as chunks; full blocks are packed on several threads and
//! written in order; small files share fragment blocks; a file whose content was there before is stored once, by going
//! back to where it began. Only the tables wait in memory.

mod metadata;
mod tables;
mod tree;

use crate::codec::{Codec, Packer};
use crate::structs::*;
use crate::{Error, Result};
use metadata::MetadataWriter;
use ordered_pool::OrderedPool;
use std::collections::{HashMap, VecDeque};
use std::io::{Seek, SeekFrom, Write};
use tree::{Body, FileData, NodeId, Tree};
pub use tree::{Meta, Special};
use zerocopy::IntoBytes;

/// What the image is written to: it can be written at a position and cut off behind one.
pub trait Output: Write + Seek {
    /// Ends the output at `len` bytes.
    ///
    /// # Errors
    /// As the medium's.
    fn cut(&mut self, len: u64) -> std::io::Result<()>;
}

impl Output for std::fs::File {
    fn cut(&mut self, len: u64) -> std::io::Result<()> {
        self.set_len(len)
    }
}

impl Output for std::io::Cursor<Vec<u8>> {
    fn cut(&mut self, len: u64) -> std::io::Result<()> {
        self.get_mut().truncate(len as usize);
        Ok(())
    }
}

impl<O: Output + ?Sized> Output for &mut O {
    fn cut(&mut self, len: u64) -> std::io::Result<()> {
        (**self).cut(len)
    }
}

/// Which files' ends go into shared fragment blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fragments {
    /// None.
    Off,
    /// Files smaller than a block.
    SmallFiles,
    /// Those, and the last part of every larger file: a little smaller, a little slower to read.
    AllTails,
}

/// How an image is made.
#[derive(Debug, Clone)]
pub struct Options {
    /// Codec and level.
    pub codec: Codec,
    /// Bytes in a block: a power of two from 4 KiB to 1 MiB.
    pub block_size: u32,
    /// Threads that pack. They change the speed, never the bytes.
    pub threads: usize,
    /// The image's time, and that of every node without its own; seconds since 1970.
    pub time: u32,
    /// What goes into fragment blocks.
    pub fragments: Fragments,
    /// Whether a table for network file systems is written.
    pub exportable: bool,
    /// The image's length is made a multiple of this (a power of two); 4096 lets every kernel mount it.
    pub padding: u64,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            codec: Codec::Zstd { level: 9 },
            block_size: 1 << 20,
            threads: std::thread::available_parallelism().map_or(1, |n| n.get()),
            time: 0,
            fragments: Fragments::SmallFiles,
            exportable: true,
            padding: 4096,
        }
    }
}

/// What was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Summary {
    /// The image's length with padding, bytes.
    pub bytes: u64,
    /// Inodes.
    pub inodes: u32,
    /// Files whose content was there already.
    pub duplicates: u64,
    /// Plain bytes of those.
    pub duplicate_bytes: u64,
}

/// What happens to the output, in the order in which files were handed in.
enum Step {
    Begin(NodeId),
    Hole(NodeId),
    Block(NodeId),
    Fragment,
    End { node: NodeId, twin: Option<NodeId> },
}

struct Packed {
    bytes: Vec<u8>,
    word: u32,
}

struct Current {
    node: NodeId,
    plain: Vec<u8>,
    size: u64,
}

/// Writes one image. Call [`begin_file`](Self::begin_file), [`data`](Self::data) and [`end_file`](Self::end_file) for
/// each file, the other methods for everything else, and [`finish`](Self::finish) at the end.
pub struct Writer<O: Output> {
    out: O,
    base: u64,
    position: u64,
    options: Options,
    tree: Tree,
    pool: OrderedPool<Vec<u8>, Packed>,
    steps: VecDeque<Step>,
    current: Option<Current>,
    contents: HashMap<([u8; 32], u64), NodeId>,
    fragment: Vec<u8>,
    fragments_begun: u32,
    fragments: Vec<FragmentEntry>,
    summary: Summary,
}

impl<O: Output> Writer<O> {
    /// Begins an image at the output's current position.
    ///
    /// # Errors
    /// Options out of range; trouble with the output.
    pub fn new(mut out: O, options: Options) -> Result<Self> {
        if !options.block_size.is_power_of_two() || !(4096..=1 << 20).contains(&options.block_size) {
            return Err(Error::Usage("a block has 4 KiB to 1 MiB, a power of two".into()));
        }
        if !options.codec.levels().contains(&options.codec.level()) {
            let levels = options.codec.levels();
            return Err(Error::Usage(format!("levels go from {} to {}", levels.start(), levels.end())));
        }
        let base = out.stream_position()?;
        let (codec, block_size) = (options.codec, options.block_size);
        let pool = OrderedPool::new(
            options.threads,
            options.threads.max(1) * 2 + 1,
            move || Packer::new(codec, block_size),
            |packer: &mut Packer, plain: Vec<u8>| match packer.pack(&plain) {
                Some(bytes) => Packed { word: bytes.len() as u32, bytes },
                None => Packed { word: plain.len() as u32 | DATA_STORED, bytes: plain },
            },
        );
        let mut writer = Self {
            out,
            base,
            position: 0,
            options,
            tree: Tree::new(),
            pool,
            steps: VecDeque::new(),
            current: None,
            contents: HashMap::new(),
            fragment: Vec::new(),
            fragments_begun: 0,
            fragments: Vec::new(),
            summary: Summary::default(),
        };
        writer.put(&[0; size_of::<Superblock>()])?;
        if let Some(options) = writer.codec_options() {
            writer.put(&(options.len() as u16 | METADATA_STORED).to_le_bytes())?;
            writer.put(&options)?;
        }
        Ok(writer)
    }

    /// The codec's record behind the superblock, where its settings differ from what readers assume.
    fn codec_options(&self) -> Option<Vec<u8>> {
        match self.options.codec {
            // Readers take level and window (15 bits) as information only.
            Codec::Gzip { level } if level != 9 => {
                Some([level.min(9).to_le_bytes().as_slice(), &15u16.to_le_bytes(), &[0, 0]].concat())
            }
            Codec::Zstd { level } if level != 15 => Some(level.to_le_bytes().to_vec()),
            // No record: the dictionary is one block.
            Codec::Gzip { .. } | Codec::Zstd { .. } | Codec::Xz { .. } => None,
        }
    }

    /// Adds a folder; the empty path is the root. Parents that were not added get mode 0755.
    ///
    /// # Errors
    /// A malformed or taken path.
    pub fn folder(&mut self, path: &[u8], meta: Meta) -> Result<()> {
        self.tree.add(path, meta, Body::Dir(Default::default())).map(drop)
    }

    /// Adds a symbolic link, device, pipe or socket.
    ///
    /// # Errors
    /// A malformed or taken path.
    pub fn special(&mut self, path: &[u8], meta: Meta, special: Special) -> Result<()> {
        self.tree.add(path, meta, Body::Special(special)).map(drop)
    }

    /// Gives a file that was written already one more name.
    ///
    /// # Errors
    /// A malformed or taken path; no such file.
    pub fn hard_link(&mut self, path: &[u8], to: &[u8]) -> Result<()> {
        self.tree.add_link(path, to)
    }

    /// Begins a file.
    ///
    /// # Errors
    /// A malformed or taken path; another file has not ended.
    pub fn begin_file(&mut self, path: &[u8], meta: Meta) -> Result<()> {
        if self.current.is_some() {
            return Err(Error::Usage("a file begins before the last one has ended".into()));
        }
        let node = self.tree.add(path, meta, Body::File(FileData::default()))?;
        self.steps.push_back(Step::Begin(node));
        self.current = Some(Current { node, plain: Vec::new(), size: 0 });
        Ok(())
    }

    /// The next bytes of the file.
    ///
    /// # Errors
    /// No file has begun; trouble with the output.
    pub fn data(&mut self, mut bytes: &[u8]) -> Result<()> {
        let block = self.options.block_size as usize;
        let mut current = self.take_current()?;
        current.size += bytes.len() as u64;
        while !bytes.is_empty() {
            if current.plain.len() == block {
                self.full_block(&mut current)?;
            }
            let (now, later) = bytes.split_at(bytes.len().min(block - current.plain.len()));
            if current.plain.capacity() == 0 && !later.is_empty() {
                current.plain.reserve_exact(block);
            }
            current.plain.extend_from_slice(now);
            bytes = later;
        }
        self.current = Some(current);
        Ok(())
    }

    /// The next `count` bytes of the file are zero: a hole, in which whole blocks take no room.
    ///
    /// # Errors
    /// As [`data`](Self::data).
    pub fn zeros(&mut self, mut count: u64) -> Result<()> {
        let block = u64::from(self.options.block_size);
        while count > 0 {
            let held = self.current.as_ref().map_or(0, |c| c.plain.len() as u64) % block;
            if held == 0 && count >= block {
                let mut current = self.take_current()?;
                if !current.plain.is_empty() {
                    self.full_block(&mut current)?;
                }
                current.size += block;
                self.steps.push_back(Step::Hole(current.node));
                self.current = Some(current);
                count -= block;
            } else {
                let part = count.min(block - held);
                self.data(&vec![0; part as usize])?;
                count -= part;
            }
        }
        Ok(())
    }

    /// Ends the file. `content` identifies its bytes (a strong hash): files with the same one are stored once.
    ///
    /// # Errors
    /// No file has begun; trouble with the output.
    pub fn end_file(&mut self, content: Option<[u8; 32]>) -> Result<()> {
        let mut current = self.take_current()?;
        let node = current.node;
        let twin = content.filter(|_| current.size > 0).and_then(|id| {
            let twin = *self.contents.entry((id, current.size)).or_insert(node);
            (twin != node).then_some(twin)
        });
        if twin.is_some() {
            self.summary.duplicates += 1;
            self.summary.duplicate_bytes += current.size;
        }
        let (size, tail) = (current.size, current.plain.len());
        self.tree.file_mut(node).size = size;
        let small = size < u64::from(self.options.block_size);
        let to_fragment = match self.options.fragments {
            Fragments::Off => false,
            Fragments::SmallFiles => small,
            Fragments::AllTails => tail < self.options.block_size as usize,
        };
        let mut full_fragment = None;
        if twin.is_none() && tail > 0 {
            if to_fragment {
                if self.fragment.len() + tail > self.options.block_size as usize {
                    full_fragment = Some(std::mem::take(&mut self.fragment));
                    self.fragments_begun += 1;
                }
                self.tree.file_mut(node).fragment = Some((self.fragments_begun, self.fragment.len() as u32));
                self.fragment.extend_from_slice(&current.plain);
            } else {
                self.full_block(&mut current)?;
            }
        }
        self.steps.push_back(Step::End { node, twin });
        if let Some(block) = full_fragment {
            self.submit(block, Step::Fragment)?;
        }
        // Files without blocks leave steps behind that cost nothing: do them before they pile up.
        while self.steps.len() > 1024 {
            self.next_step()?;
        }
        Ok(())
    }

    fn take_current(&mut self) -> Result<Current> {
        self.current.take().ok_or_else(|| Error::Usage("no file has begun".into()))
    }

    /// Sends a block on its way (the last one of a file may be shorter).
    fn full_block(&mut self, current: &mut Current) -> Result<()> {
        let plain = std::mem::take(&mut current.plain);
        let whole = plain.len() == self.options.block_size as usize;
        if whole && is_zero(&plain) {
            self.steps.push_back(Step::Hole(current.node));
            current.plain = plain;
            current.plain.clear();
            return Ok(());
        }
        current.plain.reserve_exact(if whole { self.options.block_size as usize } else { 0 });
        self.submit(plain, Step::Block(current.node))
    }

    fn submit(&mut self, plain: Vec<u8>, step: Step) -> Result<()> {
        while self.pool.is_full() {
            self.next_step()?;
        }
        self.pool.submit(plain);
        self.steps.push_back(step);
        Ok(())
    }

    /// Does the oldest step.
    fn next_step(&mut self) -> Result<()> {
        match self.steps.pop_front() {
            None => {}
            Some(Step::Begin(node)) => self.tree.file_mut(node).start = self.position,
            Some(Step::Hole(node)) => {
                let block = u64::from(self.options.block_size);
                let data = self.tree.file_mut(node);
                data.blocks.push(0);
                data.sparse += block;
            }
            Some(Step::Block(node)) => {
                if let Some(packed) = self.pool.next() {
                    self.tree.file_mut(node).blocks.push(packed.word);
                    self.put(&packed.bytes)?;
                }
            }
            Some(Step::Fragment) => {
                if let Some(packed) = self.pool.next() {
                    let (start_block, size) = (self.position.into(), packed.word.into());
                    self.fragments.push(FragmentEntry { start_block, size, unused: 0.into() });
                    self.put(&packed.bytes)?;
                }
            }
            Some(Step::End { node, twin }) => {
                if let Some(twin) = twin {
                    let start = self.tree.file_mut(node).start;
                    if self.position != start {
                        self.position = start;
                        self.out.seek(SeekFrom::Start(self.base + start))?;
                    }
                    *self.tree.file_mut(node) = self.tree.file_mut(twin).clone();
                }
                let data = self.tree.file_mut(node);
                data.blocks.shrink_to_fit();
                // A sparse count may not exceed what the kernel can take off the size.
                data.sparse = data.sparse.min(data.size.saturating_sub(1));
                if data.blocks.is_empty() {
                    data.start = 0;
                }
            }
        }
        Ok(())
    }

    fn put(&mut self, bytes: &[u8]) -> Result<()> {
        self.out.write_all(bytes)?;
        self.position += bytes.len() as u64;
        Ok(())
    }

    /// Writes the tables and the superblock, cuts the output off behind the image, and gives the output back.
    ///
    /// # Errors
    /// A file that has not ended; more than the format's fields can count; trouble with the output.
    pub fn finish(mut self) -> Result<(O, Summary)> {
        if self.current.is_some() {
            return Err(Error::Usage("the image ends before its last file has ended".into()));
        }
        if !self.fragment.is_empty() {
            let block = std::mem::take(&mut self.fragment);
            self.submit(block, Step::Fragment)?;
        }
        while !self.steps.is_empty() {
            self.next_step()?;
        }
        let packer = || Packer::new(self.options.codec, self.options.block_size);
        let mut packers = (packer(), packer());
        let xattrs = tables::write_xattrs(&mut self.tree, &mut packers)?;
        let tables = tables::write_tree(&mut self.tree, &mut packers, self.options.time)?;

        let inode_table = self.position;
        self.put(&tables.inodes)?;
        let directory_table = self.position;
        self.put(&tables.directories)?;
        let fragments: Vec<u8> = self.fragments.iter().flat_map(|f| f.as_bytes().to_vec()).collect();
        let fragment_table =
            if self.fragments.is_empty() { NONE_64 } else { self.indexed_table(&fragments, &mut packers.0)? };
        let export_table = if self.options.exportable {
            let bytes: Vec<u8> = tables.references.iter().flat_map(|r| r.to_le_bytes()).collect();
            self.indexed_table(&bytes, &mut packers.0)?
        } else {
            NONE_64
        };
        let owners: Vec<u8> = tables.owners.iter().flat_map(|id| id.to_le_bytes()).collect();
        let id_table = self.indexed_table(&owners, &mut packers.0)?;
        let xattr_table = match xattrs {
            None => NONE_64,
            Some(xattrs) => {
                let kv_start = self.position;
                self.put(&xattrs.kv)?;
                let ids = self.position;
                self.put(&xattrs.ids)?;
                let table = self.position;
                let head = XattrTableHead { kv_start: kv_start.into(), count: xattrs.count.into(), unused: 0.into() };
                self.put(head.as_bytes())?;
                for start in xattrs.id_starts {
                    self.put(&(ids + start).to_le_bytes())?;
                }
                table
            }
        };
        let bytes_used = self.position;
        let mut flags = 0;
        let flag_if = |on: bool, flag: u16| if on { flag } else { 0 };
        flags |= flag_if(self.options.fragments == Fragments::Off, flags::NO_FRAGMENTS);
        flags |= flag_if(self.options.exportable, flags::EXPORTABLE);
        flags |= flag_if(xattr_table == NONE_64, flags::NO_XATTRS);
        flags |= flag_if(self.codec_options().is_some(), flags::COMPRESSOR_OPTIONS);
        flags |= flags::DUPLICATES;
        let superblock = Superblock {
            magic: MAGIC.into(),
            inode_count: tables.inode_count.into(),
            mkfs_time: self.options.time.into(),
            block_size: self.options.block_size.into(),
            fragment_count: (self.fragments.len() as u32).into(),
            compression: self.options.codec.id().into(),
            block_log: (self.options.block_size.trailing_zeros() as u16).into(),
            flags: flags.into(),
            id_count: (tables.owners.len() as u16).into(),
            major: 4.into(),
            minor: 0.into(),
            root_inode: tables.root.into(),
            bytes_used: bytes_used.into(),
            id_table: id_table.into(),
            xattr_table: xattr_table.into(),
            inode_table: inode_table.into(),
            directory_table: directory_table.into(),
            fragment_table: fragment_table.into(),
            export_table: export_table.into(),
        };
        let padding = bytes_used.next_multiple_of(self.options.padding.max(1)) - bytes_used;
        self.put(&vec![0; padding as usize])?;
        let end = self.base + self.position;
        self.out.cut(end)?;
        self.out.seek(SeekFrom::Start(self.base))?;
        self.out.write_all(superblock.as_bytes())?;
        self.out.seek(SeekFrom::Start(end))?;
        self.out.flush()?;
        self.summary.bytes = self.position;
        self.summary.inodes = tables.inode_count;
        Ok((self.out, self.summary))
    }

    /// Writes a table of small records as metadata blocks and then the positions of those; gives where these stand.
    fn indexed_table(&mut self, records: &[u8], packer: &mut Packer) -> Result<u64> {
        let mut blocks = MetadataWriter::new(packer);
        blocks.append(records);
        let (bytes, starts) = blocks.finish();
        let first = self.position;
        self.put(&bytes)?;
        let table = self.position;
        for start in starts {
            self.put(&(first + start).to_le_bytes())?;
        }
        Ok(table)
    }
}

fn is_zero(bytes: &[u8]) -> bool {
    bytes.iter().all(|&b| b == 0)
}
