//! Packages, written: parts one after the other, their blocks on several threads.

use crate::block_map::{Block, File, Writer as Map};
use crate::content_types::ContentTypes;
use crate::structs::{DEFLATED, Record, STORED, ends};
use crate::{BLOCK, BLOCK_MAP, CONTENT_TYPES, Error, Result, SIGNATURE, names};
use flate2::{Compress, Compression, FlushCompress, Status};
use ordered_pool::OrderedPool;
use sha2::{Digest, Sha256};
use std::collections::{HashSet, VecDeque};
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

/// A block to be packed, with room for what becomes of it.
struct Plain {
    bytes: Vec<u8>,
    room: Vec<u8>,
    stored: bool,
}

/// What became of a block, and room for another one.
struct Packed {
    hash: [u8; 32],
    crc: crc32fast::Hasher,
    bytes: Vec<u8>,
    room: Vec<u8>,
}

/// A part under way: several can be, and their blocks come back in order.
struct Open {
    record: Record,
    name: String,
    left: u64,
    buffer: Vec<u8>,
    blocks: Vec<Block>,
    crc: crc32fast::Hasher,
    /// Blocks that were handed in.
    submitted: usize,
    /// Whether all of it was handed in.
    closed: bool,
    /// Whether its record stands in front of its blocks, and whether that is the right one already.
    begun: bool,
    sealed: bool,
}

impl Open {
    /// Whether every block is written that will be.
    fn is_whole(&self) -> bool {
        self.closed && self.blocks.len() == self.submitted
    }

    /// What is known once every block is packed.
    fn end(&mut self) {
        if self.record.method == DEFLATED {
            self.record.packed += LAST.len() as u64;
        }
        self.record.crc = self.crc.clone().finalize();
    }
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
    open: VecDeque<Open>,
    pool: OrderedPool<Plain, Result<Packed>>,
    /// Room of blocks that are written: memory that is given back and asked for again costs more than the hashing.
    spare: Vec<Vec<u8>>,
}

/// Packs a block by itself, so that any block can be unpacked without those before it.
fn pack(deflate: &mut Compress, Plain { bytes: plain, room, stored }: Plain) -> Result<Packed> {
    let hash = Sha256::digest(&plain).into();
    let mut crc = crc32fast::Hasher::new();
    crc.update(&plain);
    if stored {
        return Ok(Packed { hash, crc, bytes: plain, room });
    }
    deflate.reset();
    let mut bytes = room;
    bytes.clear();
    bytes.reserve(plain.len() + plain.len() / 100 + 64);
    loop {
        let read = deflate.total_in() as usize;
        let status = deflate.compress_vec(&plain[read..], &mut bytes, FlushCompress::Full);
        let status = status.map_err(|e| Error::Usage(e.to_string()))?;
        let is_done = deflate.total_in() as usize == plain.len() && bytes.len() < bytes.capacity();
        if status == Status::StreamEnd || is_done {
            return Ok(Packed { hash, crc, bytes, room: plain });
        }
        bytes.reserve(1 << 12);
    }
}

/// Writes the record in front of a part's blocks, where everything in front of it is written.
fn begin_front(out: &mut impl Write, at: &mut u64, open: &mut Open) -> Result<()> {
    open.record.offset = *at;
    open.begun = true;
    let head = open.record.local();
    out.write_all(&head)?;
    *at += head.len() as u64;
    Ok(())
}

impl<W: Write + Seek> Writer<W> {
    /// Begins a package where `out` stands, which has to be the beginning of its file.
    ///
    /// # Errors
    /// None so far.
    pub fn new(out: W, options: Options) -> Result<Self> {
        let threads = options.threads.max(1);
        let level = Compression::new(options.level.clamp(1, 9));
        let pool = OrderedPool::new(threads, threads * 4, move || Compress::new(level, false), pack);
        let (map, types) = (Map::new(), ContentTypes::default());
        let (records, names, spare) = (Vec::new(), HashSet::new(), Vec::new());
        let open = VecDeque::new();
        Ok(Self { out, at: 0, options, records, names, map, types, open, pool, spare })
    }

    /// Begins a part of so many bytes; `stored` ones are not packed. An empty one never is.
    ///
    /// # Errors
    /// The part before lacks bytes, the name is none or taken, or the medium's.
    pub fn part(&mut self, name: &str, size: u64, stored: bool) -> Result<()> {
        self.close()?;
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
        // Where it lies is known when those in front of it are written.
        let record = Record { name: inside, method, flags: 0, crc: 0, packed: 0, size, offset: 0 };
        let (buffer, name) = (self.room(), name.to_owned());
        self.open.push_back(Open {
            record,
            name,
            left: size,
            buffer,
            blocks: Vec::new(),
            crc: Default::default(),
            submitted: 0,
            closed: false,
            begun: false,
            sealed: false,
        });
        Ok(())
    }

    /// Where the part's first byte will lie that was begun last.
    ///
    /// # Errors
    /// No part is open, or the medium's.
    pub fn position(&mut self) -> Result<u64> {
        while self.take()? {}
        self.settle()?;
        let Some(open) = self.open.front_mut() else { return Err(Error::Usage("no part is open".into())) };
        if !open.begun {
            begin_front(&mut self.out, &mut self.at, open)?;
        }
        Ok(open.record.offset + open.record.local().len() as u64)
    }

    /// Bytes of the part.
    ///
    /// # Errors
    /// More than were said, or the medium's.
    pub fn data(&mut self, mut bytes: &[u8]) -> Result<()> {
        let open = self.open.back_mut().filter(|open| !open.closed);
        let Some(open) = open else { return Err(Error::Usage("no part is open".into())) };
        let long = || Error::Usage(format!("the part {:?} is longer than it was said to be", open.name));
        open.left = open.left.checked_sub(bytes.len() as u64).ok_or_else(long)?;
        while let Some(open) = self.open.back_mut().filter(|_| !bytes.is_empty()) {
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
        let (buffer, room) = (self.room(), self.room());
        let Some(open) = self.open.back_mut() else { return Ok(()) };
        open.submitted += 1;
        let bytes = std::mem::replace(&mut open.buffer, buffer);
        self.pool.submit(Plain { bytes, room, stored: open.record.method == STORED });
        Ok(())
    }

    /// Room for a block, without anything in it.
    fn room(&mut self) -> Vec<u8> {
        let mut room = self.spare.pop().unwrap_or_else(|| Vec::with_capacity(BLOCK));
        room.clear();
        room
    }

    /// Writes the oldest block that was packed; says whether there was one.
    fn take(&mut self) -> Result<bool> {
        let Some(packed) = self.pool.next().transpose()? else { return Ok(false) };
        // Parts without blocks may lie in front of it.
        self.settle()?;
        let Some(open) = self.open.front_mut() else { return Ok(false) };
        let length = packed.bytes.len() as u64;
        open.record.packed += length;
        open.crc.combine(&packed.crc);
        let stored = open.record.method == STORED;
        open.blocks.push(Block { hash: packed.hash, packed: (!stored).then_some(length) });
        if !open.begun {
            // Of a part with one block all is known before anything is written.
            if open.is_whole() {
                open.end();
                open.sealed = true;
            }
            begin_front(&mut self.out, &mut self.at, open)?;
        }
        self.out.write_all(&packed.bytes)?;
        self.at += length;
        self.spare.extend([packed.bytes, packed.room]);
        self.settle()?;
        Ok(true)
    }

    /// No more comes of the part that is open.
    fn close(&mut self) -> Result<()> {
        let Some(open) = self.open.back_mut().filter(|open| !open.closed) else { return Ok(()) };
        if open.left > 0 {
            return Err(Error::Usage(format!("the part {:?} lacks {} bytes", open.name, open.left)));
        }
        if !open.buffer.is_empty() {
            self.submit()?;
        }
        // What waits for its turn needs no room.
        if let Some(open) = self.open.back_mut() {
            open.closed = true;
            let buffer = std::mem::take(&mut open.buffer);
            self.spare.push(buffer);
        }
        self.settle()
    }

    /// Ends the parts whose blocks are all written.
    fn settle(&mut self) -> Result<()> {
        while self.open.front().is_some_and(Open::is_whole) {
            let Some(mut open) = self.open.pop_front() else { break };
            let is_deflated = open.record.method == DEFLATED;
            if is_deflated {
                self.out.write_all(&LAST)?;
                self.at += LAST.len() as u64;
            }
            if !open.sealed {
                open.end();
                if open.begun {
                    self.out.seek(SeekFrom::Start(open.record.offset))?;
                    self.out.write_all(&open.record.local())?;
                    self.out.seek(SeekFrom::Start(self.at))?;
                } else {
                    begin_front(&mut self.out, &mut self.at, &mut open)?;
                }
            }
            if ![BLOCK_MAP, CONTENT_TYPES].contains(&open.name.as_str()) {
                let head = open.record.local().len() as u64;
                self.map.add(&File { name: open.name, size: open.record.size, head, blocks: open.blocks });
            }
            self.records.push(open.record);
        }
        Ok(())
    }

    /// Ends the part that is open, and waits for all.
    fn end_part(&mut self) -> Result<()> {
        self.close()?;
        while self.take()? {}
        self.settle()
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
