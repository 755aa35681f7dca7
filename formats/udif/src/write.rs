//! The writer: takes the bytes of one volume, in order, packs chunks of them on several threads, and ends with tables
//! and checksums. The same bytes give the same image for any number of threads.

use crate::codec::{Codec, Packer};
use crate::partitions::Gpt;
use crate::structs::*;
use crate::{Error, Result};
use ordered_pool::OrderedPool;
use std::io::{self, Write};
use zerocopy::byteorder::big_endian::{U32, U64};
use zerocopy::{FromZeros, IntoBytes};

/// What lies around the volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scheme {
    /// A GUID partition table with one partition.
    Gpt,
    /// Nothing: the disk is the volume.
    Bare,
}

/// Something of another kind that the image carries, such as a licence that is shown before it opens.
#[derive(Debug, Clone)]
pub struct Resource {
    /// Four letters.
    pub kind: String,
    /// Its number.
    pub id: i16,
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub data: Vec<u8>,
}

/// How an image is written.
#[derive(Debug, Clone)]
pub struct Options {
    /// How chunks are packed.
    pub codec: Codec,
    /// Threads that pack.
    pub threads: usize,
    /// Sectors of a chunk.
    pub chunk_sectors: u32,
    /// What lies around the volume.
    pub scheme: Scheme,
    /// Tells the disk apart from others.
    pub id: [u8; 16],
    /// What else it carries.
    pub resources: Vec<Resource>,
}

impl Default for Options {
    /// zlib at level 9, one thread, chunks of 512 KiB, a partition table.
    fn default() -> Self {
        let (codec, scheme) = (Codec::Zlib(9), Scheme::Gpt);
        Self { codec, threads: 1, chunk_sectors: 1024, scheme, id: [0; 16], resources: Vec::new() }
    }
}

struct Table {
    name: String,
    first: u64,
    sectors: u64,
    chunks: Vec<Chunk>,
    crc: u32,
}

/// A chunk when a worker has done with it.
struct Packed {
    bytes: Vec<u8>,
    kind: u32,
    sectors: usize,
    /// Of the chunk as it was.
    plain: crc32fast::Hasher,
    /// Of its packed bytes.
    packed: crc32fast::Hasher,
}

fn summed(bytes: &[u8]) -> crc32fast::Hasher {
    let mut crc = crc32fast::Hasher::new();
    crc.update(bytes);
    crc
}

/// Takes a volume's bytes; an image comes out.
pub struct Writer<W: Write> {
    out: W,
    options: Options,
    pool: OrderedPool<Vec<u8>, Packed>,
    /// Parts of the disk that stand after the volume.
    after: Vec<(String, u64, Vec<u8>)>,
    buffer: Vec<u8>,
    /// Bytes of the volume that are still to come.
    left: u64,
    written: u64,
    data_crc: crc32fast::Hasher,
    tables: Vec<Table>,
    /// The present table's checksum so far.
    crc: crc32fast::Hasher,
}

fn is_zero(bytes: &[u8]) -> bool {
    // By whole words first: most chunks end this at the first one.
    let (words, rest) = bytes.as_chunks::<16>();
    words.iter().all(|w| *w == [0; 16]) && rest.iter().all(|b| *b == 0)
}

impl<W: Write> Writer<W> {
    /// Begins an image of a volume of so many bytes, whole sectors.
    ///
    /// # Errors
    /// [`Error::Usage`] for a volume that is none; else as the medium's.
    pub fn new(out: W, length: u64, options: Options) -> Result<Self> {
        if length == 0 || !length.is_multiple_of(SECTOR) {
            return Err(Error::Usage(format!("a volume of {length} bytes is not a whole number of sectors")));
        }
        if !(8..=1 << 17).contains(&options.chunk_sectors) {
            return Err(Error::Usage(format!("chunks of {} sectors", options.chunk_sectors)));
        }
        let codec = options.codec;
        let threads = options.threads.max(1);
        let pool = OrderedPool::new(
            threads,
            2 * threads + 2,
            move || Packer::new(codec),
            |packer, bytes: Vec<u8>| {
                let sectors = bytes.len() / SECTOR as usize;
                let plain = summed(&bytes);
                let (bytes, kind) = if is_zero(&bytes) {
                    (Vec::new(), chunk::ZERO)
                } else {
                    packer.pack(&bytes).map_or((bytes, chunk::RAW), |packed| (packed, packer.kind()))
                };
                let packed = summed(&bytes);
                Packed { bytes, kind, sectors, plain, packed }
            },
        );
        let sectors = length / SECTOR;
        let (before, after, start) = match options.scheme {
            Scheme::Bare => (Vec::new(), Vec::new(), 0),
            Scheme::Gpt => {
                let gpt = Gpt { sectors, id: options.id };
                (gpt.before(), gpt.after(), Gpt::START)
            }
        };
        let mut writer = Self {
            out,
            options,
            pool,
            after,
            buffer: Vec::new(),
            left: length,
            written: 0,
            data_crc: crc32fast::Hasher::new(),
            tables: Vec::new(),
            crc: crc32fast::Hasher::new(),
        };
        for part in before {
            writer.part(part)?;
        }
        let name = if writer.tables.is_empty() {
            "whole disk (Apple_HFS : 0)".to_owned()
        } else {
            "disk image (Apple_HFS : 4)".into()
        };
        writer.begin(name, start, sectors);
        Ok(writer)
    }

    fn begin(&mut self, name: String, first: u64, sectors: u64) {
        self.tables.push(Table { name, first, sectors, chunks: Vec::new(), crc: 0 });
        self.crc = crc32fast::Hasher::new();
    }

    /// A part of the disk that is not the volume.
    fn part(&mut self, (name, first, bytes): (String, u64, Vec<u8>)) -> Result<()> {
        self.begin(name, first, bytes.len() as u64 / SECTOR);
        self.submit(bytes)?;
        self.end()
    }

    fn submit(&mut self, bytes: Vec<u8>) -> Result<()> {
        if self.pool.is_full() {
            self.take()?;
        }
        self.pool.submit(bytes);
        Ok(())
    }

    /// Writes the oldest chunk that is under way; says whether there was one.
    fn take(&mut self) -> Result<bool> {
        let Some(Packed { bytes, kind, sectors, plain, packed }) = self.pool.next() else { return Ok(false) };
        self.crc.combine(&plain);
        self.data_crc.combine(&packed);
        self.out.write_all(&bytes)?;
        let table = self.tables.last_mut().expect("a chunk belongs to a table");
        let first = table.chunks.last().map_or(0, |c| c.first_sector.get() + c.sectors.get());
        let (offset, length) = (self.written, bytes.len() as u64);
        self.written += length;
        // Neighbours without data are one chunk.
        if let Some(last) = table.chunks.last_mut()
            && kind == chunk::ZERO
            && last.kind.get() == kind
        {
            last.sectors = U64::new(last.sectors.get() + sectors as u64);
            return Ok(true);
        }
        table.chunks.push(Chunk {
            kind: U32::new(kind),
            comment: U32::ZERO,
            first_sector: U64::new(first),
            sectors: U64::new(sectors as u64),
            offset: U64::new(offset),
            length: U64::new(length),
        });
        Ok(true)
    }

    fn end(&mut self) -> Result<()> {
        while self.take()? {}
        let crc = std::mem::take(&mut self.crc).finalize();
        let at = self.written;
        let table = self.tables.last_mut().expect("a table was begun");
        table.crc = crc;
        table.chunks.push(Chunk {
            kind: U32::new(chunk::END),
            comment: U32::ZERO,
            first_sector: U64::new(table.sectors),
            sectors: U64::ZERO,
            offset: U64::new(at),
            length: U64::ZERO,
        });
        Ok(())
    }

    fn table(&self, table: &Table, number: usize) -> Vec<u8> {
        let mut head = TableHead::new_zeroed();
        head.signature = *b"mish";
        head.version = U32::new(1);
        head.first_sector = U64::new(table.first);
        head.sectors = U64::new(table.sectors);
        head.buffers = U32::new(self.options.chunk_sectors + 8);
        head.descriptor = U32::new(number as u32);
        head.checksum = Checksum::crc32(table.crc);
        head.chunks = U32::new(table.chunks.len() as u32);
        [head.as_bytes(), table.chunks.as_bytes()].concat()
    }

    /// The property list with the tables and whatever else the image carries.
    fn list(&self) -> Result<Vec<u8>> {
        let entry = |name: &str, id: i64, attributes: &str, data: Vec<u8>| {
            let mut entry = plist::Dictionary::new();
            entry.insert("Attributes".into(), attributes.into());
            entry.insert("CFName".into(), name.into());
            entry.insert("Data".into(), plist::Value::Data(data));
            entry.insert("ID".into(), id.to_string().into());
            entry.insert("Name".into(), name.into());
            plist::Value::Dictionary(entry)
        };
        let tables = self.tables.iter().enumerate();
        let tables = tables.map(|(n, t)| entry(&t.name, n as i64 - 1, "0x0050", self.table(t, n))).collect();
        let mut all = plist::Dictionary::new();
        all.insert("blkx".into(), plist::Value::Array(tables));
        for resource in &self.options.resources {
            let value = entry(&resource.name, resource.id.into(), "0x0000", resource.data.clone());
            if !all.contains_key(&resource.kind) {
                all.insert(resource.kind.clone(), plist::Value::Array(Vec::new()));
            }
            if let Some(plist::Value::Array(of_kind)) = all.get_mut(&resource.kind) {
                of_kind.push(value);
            }
        }
        let mut list = plist::Dictionary::new();
        list.insert("resource-fork".into(), plist::Value::Dictionary(all));
        let mut text = Vec::new();
        let written = plist::Value::Dictionary(list).to_writer_xml(&mut text);
        written.map_err(|e| Error::Io(io::Error::other(e)))?;
        text.push(b'\n');
        Ok(text)
    }

    /// Ends the image.
    ///
    /// # Errors
    /// [`Error::Usage`] when bytes of the volume are missing; else as the medium's.
    pub fn finish(mut self) -> Result<W> {
        if self.left > 0 {
            return Err(Error::Usage(format!("{} bytes of the volume are missing", self.left)));
        }
        self.end()?;
        for part in std::mem::take(&mut self.after) {
            self.part(part)?;
        }
        let list = self.list()?;
        let mut master = crc32fast::Hasher::new();
        self.tables.iter().for_each(|t| master.update(&t.crc.to_be_bytes()));
        let mut trailer = Trailer::new_zeroed();
        trailer.signature = *b"koly";
        trailer.version = U32::new(4);
        trailer.header_size = U32::new(512);
        trailer.flags = U32::new(1);
        trailer.data_length = U64::new(self.written);
        (trailer.segment, trailer.segments) = (U32::new(1), U32::new(1));
        trailer.segment_id = self.options.id;
        trailer.data_checksum = Checksum::crc32(self.data_crc.clone().finalize());
        trailer.list_offset = U64::new(self.written);
        trailer.list_length = U64::new(list.len() as u64);
        trailer.master_checksum = Checksum::crc32(master.finalize());
        trailer.variant = U32::new(1);
        trailer.sectors = U64::new(self.tables.iter().map(|t| t.sectors).sum());
        self.out.write_all(&list)?;
        self.out.write_all(trailer.as_bytes())?;
        Ok(self.out)
    }
}

impl<W: Write> Write for Writer<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if bytes.len() as u64 > self.left {
            return Err(io::Error::other("more bytes came than the volume was declared to have"));
        }
        let size = self.options.chunk_sectors as usize * SECTOR as usize;
        let n = bytes.len().min(size - self.buffer.len());
        self.buffer.extend(&bytes[..n]);
        self.left -= n as u64;
        if self.buffer.len() == size || self.left == 0 {
            let chunk = std::mem::replace(&mut self.buffer, Vec::with_capacity(size));
            self.submit(chunk).map_err(|e| match e {
                Error::Io(e) => e,
                other => io::Error::other(other),
            })?;
        }
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
