//! Packages, written: parts one after the other, their blocks on several threads.

use crate::block_map::{Block, File, Writer as Map};
use crate::content_types::ContentTypes;
use crate::structs::{DEFLATED, Record, STORED, ends};
use crate::{BLOCK, BLOCK_MAP, CONTENT_TYPES, Error, Result, SIGNATURE, names};
use flate2::{Compress, Compression, FlushCompress, Status};
use ordered_pool::OrderedPool;
use sha2::{Digest, Sha256};
use std::collections::HashSet;
use std::io::{Seek, SeekFrom, Write};

/// The end of deflated data: a last block without anything.
const LAST: [u8; 2] = [3, 0];

/// How a package is written.
#[derive(Debug, Clone, Copy)]
pub struct Options {
    /// Threads that pack.
    pub threads: usize,
    /// How much is tried, 1 to 9.
    pub level: u32,
    /// Whether a signature will come: its type is listed already, because the list is signed.
    pub signed: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self { threads: 1, level: 6, signed: false }
    }
}

/// What became of a block.
struct Packed {
    hash: [u8; 32],
    crc: crc32fast::Hasher,
    bytes: Vec<u8>,
}

/// A part under way.
struct Open {
    record: Record,
    name: String,
    left: u64,
    buffer: Vec<u8>,
    blocks: Vec<Block>,
    crc: crc32fast::Hasher,
}

/// A package under way.
pub struct Writer<W: Write + Seek> {
    out: W,
    at: u64,
    options: Options,
    records: Vec<Record>,
    names: HashSet<String>,
    map: Map,
    types: ContentTypes,
    open: Option<Open>,
    pool: OrderedPool<(Vec<u8>, bool), Result<Packed>>,
}

/// Packs a block by itself, so that any block can be unpacked without those before it.
fn pack(deflate: &mut Compress, plain: Vec<u8>, stored: bool) -> Result<Packed> {
    let hash = Sha256::digest(&plain).into();
    let mut crc = crc32fast::Hasher::new();
    crc.update(&plain);
    if stored {
        return Ok(Packed { hash, crc, bytes: plain });
    }
    deflate.reset();
    let mut bytes = Vec::with_capacity(plain.len() + plain.len() / 100 + 64);
    loop {
        let read = deflate.total_in() as usize;
        let status = deflate.compress_vec(&plain[read..], &mut bytes, FlushCompress::Full);
        let status = status.map_err(|e| Error::Usage(e.to_string()))?;
        let is_done = deflate.total_in() as usize == plain.len() && bytes.len() < bytes.capacity();
        if status == Status::StreamEnd || is_done {
            return Ok(Packed { hash, crc, bytes });
        }
        bytes.reserve(1 << 12);
    }
}

impl<W: Write + Seek> Writer<W> {
    /// Begins a package where `out` stands, which has to be the beginning of its file.
    ///
    /// # Errors
    /// None so far.
    pub fn new(out: W, options: Options) -> Result<Self> {
        let threads = options.threads.max(1);
        let level = Compression::new(options.level.clamp(1, 9));
        let pool = OrderedPool::new(
            threads,
            threads * 4,
            move || Compress::new(level, false),
            |deflate, (plain, stored)| pack(deflate, plain, stored),
        );
        let (map, types) = (Map::new(), ContentTypes::default());
        Ok(Self { out, at: 0, options, records: Vec::new(), names: HashSet::new(), map, types, open: None, pool })
    }

    /// Begins a part of so many bytes; `stored` ones are not packed. An empty one never is.
    ///
    /// # Errors
    /// The part before lacks bytes, the name is none or taken, or the medium's.
    pub fn part(&mut self, name: &str, size: u64, stored: bool) -> Result<()> {
        self.end_part()?;
        let reserved = [BLOCK_MAP, CONTENT_TYPES, SIGNATURE].iter().any(|own| own.eq_ignore_ascii_case(name));
        if reserved || !names::is_allowed(name) {
            return Err(Error::Usage(format!("a part can't be called {name:?}")));
        }
        if !self.names.insert(name.to_lowercase()) {
            return Err(Error::Usage(format!("there is a part {name:?} already")));
        }
        self.types.add(name);
        self.begin(name, size, stored)
    }

    fn begin(&mut self, name: &str, size: u64, stored: bool) -> Result<()> {
        let method = if stored || size == 0 { STORED } else { DEFLATED };
        let inside = names::encoded(name).into_bytes();
        if inside.len() > usize::from(u16::MAX) {
            return Err(Error::Limit(format!("the name {name:?} is too long")));
        }
        let record = Record { name: inside, method, flags: 0, crc: 0, packed: 0, size, offset: self.at };
        // What is not known yet is filled in at the part's end.
        let head = record.local();
        self.out.write_all(&head)?;
        self.at += head.len() as u64;
        let (blocks, buffer) = (Vec::new(), Vec::with_capacity(BLOCK));
        self.open = Some(Open { record, name: name.to_owned(), left: size, buffer, blocks, crc: Default::default() });
        Ok(())
    }

    /// Where the next bytes go: behind a part's head, and behind what of it is written.
    pub fn position(&self) -> u64 {
        self.at
    }

    /// Bytes of the part.
    ///
    /// # Errors
    /// More than were said, or the medium's.
    pub fn data(&mut self, mut bytes: &[u8]) -> Result<()> {
        let Some(open) = &mut self.open else { return Err(Error::Usage("no part is open".into())) };
        let long = || Error::Usage(format!("the part {:?} is longer than it was said to be", open.name));
        open.left = open.left.checked_sub(bytes.len() as u64).ok_or_else(long)?;
        while let Some(open) = self.open.as_mut().filter(|_| !bytes.is_empty()) {
            let (now, later) = bytes.split_at(bytes.len().min(BLOCK - open.buffer.len()));
            open.buffer.extend_from_slice(now);
            bytes = later;
            if open.buffer.len() == BLOCK {
                self.submit()?;
            }
        }
        Ok(())
    }

    fn submit(&mut self) -> Result<()> {
        if self.pool.is_full() {
            self.take()?;
        }
        let Some(open) = &mut self.open else { return Ok(()) };
        let plain = std::mem::replace(&mut open.buffer, Vec::with_capacity(BLOCK));
        self.pool.submit((plain, open.record.method == STORED));
        Ok(())
    }

    /// Writes the oldest block that was packed; says whether there was one.
    fn take(&mut self) -> Result<bool> {
        let Some(packed) = self.pool.next().transpose()? else { return Ok(false) };
        let Some(open) = &mut self.open else { return Ok(false) };
        self.out.write_all(&packed.bytes)?;
        let length = packed.bytes.len() as u64;
        open.record.packed += length;
        self.at += length;
        open.crc.combine(&packed.crc);
        let stored = open.record.method == STORED;
        open.blocks.push(Block { hash: packed.hash, packed: (!stored).then_some(length) });
        Ok(true)
    }

    fn end_part(&mut self) -> Result<()> {
        match &self.open {
            None => return Ok(()),
            Some(open) if open.left > 0 => {
                return Err(Error::Usage(format!("the part {:?} lacks {} bytes", open.name, open.left)));
            }
            Some(open) if !open.buffer.is_empty() => self.submit()?,
            Some(_) => {}
        }
        while self.take()? {}
        let Some(mut open) = self.open.take() else { return Ok(()) };
        if open.record.method == DEFLATED {
            self.out.write_all(&LAST)?;
            self.at += LAST.len() as u64;
            open.record.packed += LAST.len() as u64;
        }
        open.record.crc = open.crc.finalize();
        let head = open.record.local();
        self.out.seek(SeekFrom::Start(open.record.offset))?;
        self.out.write_all(&head)?;
        self.out.seek(SeekFrom::Start(self.at))?;
        if ![BLOCK_MAP, CONTENT_TYPES].contains(&open.name.as_str()) {
            let head = head.len() as u64;
            self.map.add(&File { name: open.name, size: open.record.size, head, blocks: open.blocks });
        }
        self.records.push(open.record);
        Ok(())
    }

    /// Ends the package: the block map, the list of types, the directory.
    ///
    /// # Errors
    /// The last part lacks bytes, or the medium's.
    pub fn finish(mut self) -> Result<W> {
        self.end_part()?;
        let map = std::mem::replace(&mut self.map, Map::new()).finish();
        self.types.add(BLOCK_MAP);
        if self.options.signed {
            self.types.add(SIGNATURE);
        }
        for (name, bytes) in [(BLOCK_MAP, map), (CONTENT_TYPES, self.types.write())] {
            self.begin(name, bytes.len() as u64, false)?;
            self.data(&bytes)?;
            self.end_part()?;
        }
        let directory: Vec<u8> = self.records.iter().flat_map(Record::central).collect();
        self.out.write_all(&directory)?;
        self.out.write_all(&ends(self.records.len() as u64, directory.len() as u64, self.at))?;
        self.out.flush()?;
        Ok(self.out)
    }
}
