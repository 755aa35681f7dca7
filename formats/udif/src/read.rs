//! The reader: the disk that an image holds, readable at any offset. Any bytes in, data or an error out; never a crash,
//! an endless loop or memory beyond the [`Limits`].

use crate::codec::unpack;
use crate::structs::*;
use crate::{Error, Result};
use read_at::ReadAt;
use std::collections::VecDeque;
use std::io;
use std::sync::{Arc, Mutex};
use zerocopy::FromBytes;

/// What a reader is willing to hold.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of the property list with the tables.
    pub max_list: u64,
    /// Bytes of a chunk, unpacked.
    pub max_chunk: u64,
}

impl Default for Limits {
    /// 64 MiB each.
    fn default() -> Self {
        Self { max_list: 64 << 20, max_chunk: 64 << 20 }
    }
}

/// A run of sectors and where its bytes are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// See [`chunk`].
    pub kind: u32,
    /// The first byte on the disk.
    pub start: u64,
    /// Bytes on the disk.
    pub length: u64,
    /// Where the packed bytes stand in the file.
    pub offset: u64,
    /// How many they are.
    pub packed: u64,
}

/// A table of chunks.
#[derive(Debug, Clone)]
pub struct Part {
    /// What it says of itself.
    pub name: String,
    /// What it begins with.
    pub head: TableHead,
    /// Its chunks, without the last one, which has no data.
    pub runs: Vec<Run>,
    /// Whether that last one is there.
    pub ended: bool,
}

/// Something of another kind in the image: four letters, a number, bytes.
pub type OtherResource = (String, String, Vec<u8>);

/// An opened image. It reads as the disk that is in it.
pub struct Image<R: ReadAt> {
    pub(crate) source: R,
    pub(crate) trailer: Trailer,
    pub(crate) parts: Vec<Part>,
    others: Vec<OtherResource>,
    /// All runs by where they are on the disk.
    runs: Vec<Run>,
    length: u64,
    /// The chunks that were unpacked last.
    cache: Mutex<VecDeque<(u64, Arc<Vec<u8>>)>>,
}

/// How many unpacked chunks are kept.
const KEPT: usize = 8;

impl<R: ReadAt> Image<R> {
    /// Opens an image.
    ///
    /// # Errors
    /// [`Error::Format`] for anything else, and for what is not in this file alone.
    pub fn open(source: R, limits: Limits) -> Result<Self> {
        let size = source.length()?;
        let at = size.checked_sub(512).ok_or_else(|| Error::format(0, "fewer bytes than an image's trailer has"))?;
        let mut bytes = [0; 512];
        source.read_exact_at(&mut bytes, at)?;
        let trailer = Trailer::read_from_bytes(&bytes).expect("as many bytes as it has");
        if trailer.signature != *b"koly" {
            return Err(Error::format(at, "not a disk image"));
        }
        if trailer.segments.get() > 1 {
            return Err(Error::format(at, format!("the image continues in {} more files", trailer.segments.get() - 1)));
        }
        let (list_at, list_length) = (trailer.list_offset.get(), trailer.list_length.get());
        if list_length == 0 {
            return Err(Error::format(at, "the image has no property list; images that old are not read"));
        }
        if list_length > limits.max_list {
            return Err(Error::Limit(format!("a property list of {list_length} bytes")));
        }
        if list_at.checked_add(list_length).is_none_or(|end| end > at) {
            return Err(Error::format(at + 216, "the property list lies outside of the file"));
        }
        let mut list = vec![0; list_length as usize];
        source.read_exact_at(&mut list, list_at)?;
        let list = shallow_plist::value_of(&list);
        let list = list.ok_or_else(|| Error::format(list_at, "the property list can't be read"))?;
        let bad = |what: &str| Error::format(list_at, format!("the property list has no {what}"));
        let resources = list.as_dictionary().and_then(|d| d.get("resource-fork")).and_then(|r| r.as_dictionary());
        let resources = resources.ok_or_else(|| bad("resources"))?;
        let mut parts = Vec::new();
        let mut others = Vec::new();
        for (kind, all) in resources {
            for entry in all.as_array().into_iter().flatten() {
                let entry = entry.as_dictionary().ok_or_else(|| bad("entry"))?;
                let text = |key: &str| entry.get(key).and_then(|v| v.as_string()).unwrap_or_default().to_owned();
                let data = entry.get("Data").and_then(|v| v.as_data()).ok_or_else(|| bad("data of an entry"))?;
                if kind == "blkx" {
                    parts.push(
                        part(text("Name"), data, &trailer, at, limits).map_err(|why| Error::format(list_at, why))?,
                    );
                } else {
                    others.push((kind.clone(), text("ID"), data.to_vec()));
                }
            }
        }
        let mut runs: Vec<Run> = parts.iter().flat_map(|p| p.runs.iter().copied()).collect();
        runs.sort_by_key(|r| r.start);
        if let Some(pair) = runs.windows(2).find(|w| w[0].start + w[0].length > w[1].start) {
            return Err(Error::format(list_at, format!("two chunks hold the disk's byte {}", pair[1].start)));
        }
        let length = runs.last().map_or(0, |r| r.start + r.length);
        Ok(Self { source, trailer, parts, others, runs, length, cache: Mutex::default() })
    }

    /// What the file ends with.
    pub fn trailer(&self) -> &Trailer {
        &self.trailer
    }

    /// The tables of chunks.
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// What else the image carries, such as a licence.
    pub fn others(&self) -> &[OtherResource] {
        &self.others
    }

    /// A run's bytes, unpacked.
    pub(crate) fn unpacked(&self, run: &Run) -> Result<Vec<u8>> {
        let mut packed = vec![0; if run.has_data() { run.packed as usize } else { 0 }];
        self.source.read_exact_at(&mut packed, run.offset)?;
        unpack(run.kind, &packed, run.length as usize)
            .ok_or_else(|| Error::format(run.offset, format!("a chunk of type {:#x} isn't supported", run.kind)))
    }

    fn cached(&self, run: &Run) -> Result<Arc<Vec<u8>>> {
        let lock = || self.cache.lock().unwrap_or_else(|e| e.into_inner());
        if let Some((_, bytes)) = lock().iter().find(|(start, _)| *start == run.start) {
            return Ok(bytes.clone());
        }
        let bytes = Arc::new(self.unpacked(run)?);
        let mut cache = lock();
        cache.truncate(KEPT - 1);
        cache.push_front((run.start, bytes.clone()));
        Ok(bytes)
    }
}

impl Run {
    /// Whether anything of it stands in the file.
    pub fn has_data(&self) -> bool {
        !matches!(self.kind, chunk::ZERO | chunk::IGNORED)
    }
}

/// A table, or what is wrong with it.
fn part(name: String, data: &[u8], trailer: &Trailer, end: u64, limits: Limits) -> std::result::Result<Part, String> {
    let (head, rest) = TableHead::read_from_prefix(data).map_err(|_| format!("the table {name:?} is cut off"))?;
    if head.signature != *b"mish" {
        return Err(format!("the table {name:?} isn't a chunk table"));
    }
    let count = head.chunks.get() as usize;
    if count > rest.len() / size_of::<Chunk>() {
        return Err(format!("the table {name:?} has {count} chunks and no room for them"));
    }
    let mut part = Part { name, head, runs: Vec::new(), ended: false };
    for (n, bytes) in rest.chunks_exact(size_of::<Chunk>()).take(count).enumerate() {
        let chunk = Chunk::read_from_bytes(bytes).expect("as many bytes as it has");
        let kind = chunk.kind.get();
        if matches!(kind, chunk::COMMENT | chunk::END) {
            part.ended = kind == chunk::END;
            continue;
        }
        let bad = |why: &str| format!("chunk {n} of the table {:?} {why}", part.name);
        let on_disk = |sectors: u64| sectors.checked_mul(SECTOR).filter(|b| *b <= i64::MAX as u64 / 4);
        let first = head.first_sector.get().checked_add(chunk.first_sector.get()).and_then(on_disk);
        let (start, length) = first.zip(on_disk(chunk.sectors.get())).ok_or_else(|| bad("is nowhere"))?;
        let base = trailer.data_offset.get().checked_add(head.data_offset.get());
        let offset = base.and_then(|b| b.checked_add(chunk.offset.get())).ok_or_else(|| bad("is nowhere"))?;
        let run = Run { kind, start, length, offset, packed: chunk.length.get() };
        if length == 0 {
            continue;
        }
        if run.has_data() {
            if length > limits.max_chunk || run.packed > limits.max_chunk {
                return Err(bad(&format!("has {length} bytes, more than {}", limits.max_chunk)));
            }
            if offset.checked_add(run.packed).is_none_or(|e| e > end) {
                return Err(bad("lies outside of the file"));
            }
        }
        part.runs.push(run);
    }
    Ok(part)
}

impl<R: ReadAt> ReadAt for Image<R> {
    fn read_exact_at(&self, mut buffer: &mut [u8], mut offset: u64) -> io::Result<()> {
        while !buffer.is_empty() {
            let at = self.runs.partition_point(|r| r.start + r.length <= offset);
            let run = self.runs.get(at).ok_or(io::ErrorKind::UnexpectedEof)?;
            // Between chunks there is nothing.
            let gap = run.start.saturating_sub(offset).min(buffer.len() as u64) as usize;
            if gap > 0 {
                buffer[..gap].fill(0);
                (buffer, offset) = (&mut buffer[gap..], offset + gap as u64);
                continue;
            }
            let inside = offset - run.start;
            let n = (run.length - inside).min(buffer.len() as u64) as usize;
            if run.has_data() {
                let bytes = self.cached(run).map_err(|e| match e {
                    Error::Io(e) => e,
                    other => io::Error::new(io::ErrorKind::InvalidData, other),
                })?;
                buffer[..n].copy_from_slice(&bytes[inside as usize..inside as usize + n]);
            } else {
                buffer[..n].fill(0);
            }
            (buffer, offset) = (&mut buffer[n..], offset + n as u64);
        }
        Ok(())
    }

    fn length(&self) -> io::Result<u64> {
        Ok(self.length)
    }
}
