//! The streaming writer. The files' names and sizes are known first, so that every structure has its place before the
//! first byte of data comes; only the folders' offsets and the cabinet's length are filled in at the end.

use crate::lzx::{Emitter, Parsed, Parser, SEGMENT};
use crate::structs::*;
use crate::{Error, Result};
use flate2::{Compress, Compression, FlushCompress, Status};
use ordered_pool::OrderedPool;
use std::io::{Seek, SeekFrom, Write};
use zerocopy::IntoBytes;

/// Plain bytes that one job of MSZIP packs.
const MSZIP_JOB: usize = 16 * BLOCK;

/// A file to be written.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its name; up to 255 bytes, no zero among them.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// Seconds since 1970.
    pub time: u32,
}

impl Entry {
    /// A file of 1980.
    pub fn new(name: impl Into<String>, size: u64) -> Self {
        Self { name: name.into(), size, time: 0 }
    }
}

/// How a cabinet is made.
#[derive(Debug, Clone)]
pub struct Options {
    /// The compression.
    pub method: Method,
    /// The effort of [`Method::Mszip`]: 1 (fast) to 9 (small).
    pub level: u32,
    /// Threads that pack. They change the speed, never the bytes.
    pub threads: usize,
    /// A folder (the unit that is unpacked as a whole) ends behind the file with which it reaches so many plain bytes.
    pub folder: u64,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            method: Method::Lzx(21),
            level: 8,
            threads: std::thread::available_parallelism().map_or(1, |n| n.get()),
            folder: 512 << 20,
        }
    }
}

/// What was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Summary {
    /// The cabinet's length, bytes.
    pub bytes: u64,
    /// Folders in it.
    pub folders: u16,
}

/// What a worker gets: some of a folder's bytes with those before them.
struct Job {
    data: Vec<u8>,
    start: usize,
    first: bool,
}

enum Packed {
    /// Blocks: packed and plain length of each, and all packed bytes.
    Blocks(Vec<(usize, usize)>, Vec<u8>),
    Parsed(Box<Parsed>),
}

/// Where a folder ends, in bytes of all plain data, and what is known of it later.
struct FolderPlan {
    end: u64,
    blocks: u64,
    offset: u64,
}

/// Writes one cabinet. Hand in the bytes of all entries, one after the other, with [`data`](Self::data).
pub struct Writer<O: Write + Seek> {
    out: O,
    base: u64,
    position: u64,
    options: Options,
    folders: Vec<FolderPlan>,
    files_end: u64,
    file_count: u16,
    /// The folder whose bytes come in, and the one whose blocks go out.
    incoming: usize,
    outgoing: usize,
    received: u64,
    buffer: Vec<u8>,
    history: usize,
    first: bool,
    pool: OrderedPool<Job, Packed>,
    /// For each job under way: the folder it belongs to.
    under_way: std::collections::VecDeque<usize>,
    emitter: Emitter,
}

fn worker(method: Method, level: u32) -> impl FnMut(Job) -> Packed {
    let mut parser = if let Method::Lzx(bits) = method { Some(Parser::new(bits)) } else { None };
    let mut deflate = Compress::new(Compression::new(level), false);
    move |job| match (method, &mut parser) {
        (Method::Lzx(_), Some(parser)) => Packed::Parsed(Box::new(parser.parse(job.data, job.start, job.first))),
        (Method::Mszip, _) => mszip(&mut deflate, &job),
        _ => {
            let blocks = job.data[job.start..].chunks(BLOCK).map(|c| (c.len(), c.len())).collect();
            Packed::Blocks(blocks, job.data[job.start..].to_vec())
        }
    }
}

/// Blocks of `CK` and a raw deflate stream that may refer to the 32 KiB before.
fn mszip(deflate: &mut Compress, job: &Job) -> Packed {
    let (mut blocks, mut out) = (Vec::new(), Vec::with_capacity(job.data.len() / 2));
    let mut at = job.start;
    while at < job.data.len() {
        let end = (at + BLOCK).min(job.data.len());
        let before = out.len();
        out.extend_from_slice(b"CK");
        deflate.reset();
        if at > 0 {
            // A raw stream takes a dictionary at any time; without one the block is only larger.
            let _ = deflate.set_dictionary(&job.data[at.saturating_sub(BLOCK)..at]);
        }
        let mut room = vec![0; BLOCK + 1024];
        let done = deflate.compress(&job.data[at..end], &mut room, FlushCompress::Finish);
        let n = deflate.total_out() as usize;
        if matches!(done, Ok(Status::StreamEnd)) && n < end - at {
            out.extend_from_slice(&room[..n]);
        } else {
            // One stored block of deflate: last, type 0, length and its complement.
            let length = (end - at) as u16;
            out.push(1);
            out.extend_from_slice(&length.to_le_bytes());
            out.extend_from_slice(&(!length).to_le_bytes());
            out.extend_from_slice(&job.data[at..end]);
        }
        blocks.push((out.len() - before, end - at));
        at = end;
    }
    Packed::Blocks(blocks, out)
}

impl<O: Write + Seek> Writer<O> {
    /// Begins a cabinet at the output's current position.
    ///
    /// # Errors
    /// [`Error::Limit`] for more than the format holds; a name that can't be one; trouble with the output.
    pub fn new(mut out: O, entries: Vec<Entry>, options: Options) -> Result<Self> {
        if entries.len() > MAX_FILES {
            return Err(Error::Limit(format!("a cabinet holds {MAX_FILES} files, not {}", entries.len())));
        }
        if let Method::Lzx(bits) = options.method
            && !(15..=21).contains(&bits)
        {
            return Err(Error::Usage("an LZX window has 15 to 21 bits".into()));
        }
        let base = out.stream_position()?;
        let mut folders: Vec<FolderPlan> = Vec::new();
        let (mut begin, mut all) = (0, 0u64);
        let mut records = Vec::new();
        for entry in &entries {
            if entry.name.is_empty() || entry.name.len() > 255 || entry.name.contains('\0') {
                return Err(Error::Usage(format!("{:?} can't be a file's name in a cabinet", entry.name)));
            }
            let most = MAX_BLOCKS * BLOCK as u64;
            if entry.size > most {
                return Err(Error::Limit(format!("{} has more than {most} bytes", entry.name)));
            }
            let full =
                folders.last().is_none_or(|f| f.end - begin >= options.folder || f.end - begin + entry.size > most);
            if full {
                begin = all;
                folders.push(FolderPlan { end: all, blocks: 0, offset: 0 });
            }
            let folder = folders.len() - 1;
            let (date, time) = dos_time(entry.time);
            let utf = if entry.name.is_ascii() { 0 } else { ATTRIBUTE_NAME_IS_UTF };
            let record = File {
                size: (entry.size as u32).into(),
                folder_offset: ((all - begin) as u32).into(),
                folder: (folder as u16).into(),
                date: date.into(),
                time: time.into(),
                attributes: (ATTRIBUTE_ARCHIVE | utf).into(),
            };
            records.extend_from_slice(record.as_bytes());
            records.extend_from_slice(entry.name.as_bytes());
            records.push(0);
            all += entry.size;
            folders[folder].end = all;
        }
        let mut from = 0;
        for folder in &mut folders {
            folder.blocks = (folder.end - from).div_ceil(BLOCK as u64);
            from = folder.end;
        }
        if folders.len() >= FOLDER_CONTINUED as usize {
            return Err(Error::Limit(format!("a cabinet can't have {} folders", folders.len())));
        }
        let head = size_of::<Header>() + folders.len() * size_of::<Folder>();
        out.write_all(&vec![0; head])?;
        out.write_all(&records)?;
        let files_end = (head + records.len()) as u64;
        let (method, level) = (options.method, options.level.clamp(1, 9));
        let capacity = options.threads.max(1) + 1;
        let pool = OrderedPool::new(options.threads, capacity, move || worker(method, level), |work, job| work(job));
        let emitter = Emitter::new(if let Method::Lzx(bits) = method { bits } else { 15 });
        Ok(Self {
            out,
            base,
            position: files_end,
            options,
            folders,
            files_end,
            file_count: entries.len() as u16,
            incoming: 0,
            outgoing: usize::MAX,
            received: 0,
            buffer: Vec::new(),
            history: 0,
            first: true,
            pool,
            under_way: Default::default(),
            emitter,
        })
    }

    /// Plain bytes of a job.
    fn job(&self) -> usize {
        if let Method::Lzx(_) = self.options.method { SEGMENT } else { MSZIP_JOB }
    }

    /// How many bytes a job knows before its own.
    fn reach(&self) -> usize {
        match self.options.method {
            Method::Stored => 0,
            Method::Mszip => BLOCK,
            Method::Lzx(bits) => 1 << bits,
        }
    }

    /// The next bytes of the entries.
    ///
    /// # Errors
    /// More bytes than the entries have; trouble with the output.
    pub fn data(&mut self, mut bytes: &[u8]) -> Result<()> {
        while !bytes.is_empty() {
            while self.folders.get(self.incoming).is_some_and(|f| f.end == self.received) {
                self.send()?;
                self.incoming += 1;
                self.buffer.clear();
                (self.history, self.first) = (0, true);
            }
            let Some(folder) = self.folders.get(self.incoming) else {
                return Err(Error::Usage("more bytes came than the entries have".into()));
            };
            let in_folder = folder.end - self.received;
            let room = self.history + self.job() - self.buffer.len();
            let n = bytes.len().min(room).min(usize::try_from(in_folder).unwrap_or(usize::MAX));
            if self.buffer.capacity() == 0 {
                self.buffer.reserve_exact(self.history + self.job().min(in_folder as usize));
            }
            self.buffer.extend_from_slice(&bytes[..n]);
            self.received += n as u64;
            bytes = &bytes[n..];
            if self.buffer.len() == self.history + self.job() {
                self.send()?;
            }
        }
        Ok(())
    }

    /// Sends what has come on its way.
    fn send(&mut self) -> Result<()> {
        if self.buffer.len() == self.history {
            return Ok(());
        }
        while self.pool.is_full() {
            self.take()?;
        }
        let keep = self.reach().min(self.buffer.len());
        let left = self.folders[self.incoming].end - self.received;
        let mut next = Vec::new();
        if left > 0 {
            next.reserve_exact(keep + self.job().min(left as usize));
            next.extend_from_slice(&self.buffer[self.buffer.len() - keep..]);
        }
        let data = std::mem::replace(&mut self.buffer, next);
        self.pool.submit(Job { data, start: self.history, first: self.first });
        self.under_way.push_back(self.incoming);
        self.history = self.buffer.len();
        self.first = false;
        Ok(())
    }

    /// Writes down the oldest job's result.
    fn take(&mut self) -> Result<()> {
        let (Some(packed), Some(folder)) = (self.pool.next(), self.under_way.pop_front()) else { return Ok(()) };
        if self.outgoing != folder {
            self.outgoing = folder;
            self.folders[folder].offset = self.position;
            if let Method::Lzx(bits) = self.options.method {
                self.emitter = Emitter::new(bits);
            }
        }
        let (out, position) = (&mut self.out, &mut self.position);
        let mut block = |packed: &[u8], plain: usize| -> Result<()> {
            let (packed_len, plain) = (packed.len() as u16, plain as u16);
            let head =
                Data { checksum: checksum(packed, plain).into(), packed: packed_len.into(), plain: plain.into() };
            out.write_all(head.as_bytes())?;
            out.write_all(packed)?;
            *position += (size_of::<Data>() + packed.len()) as u64;
            Ok(())
        };
        match packed {
            Packed::Parsed(parsed) => self.emitter.segment(&parsed, block),
            Packed::Blocks(blocks, bytes) => {
                let mut at = 0;
                for (packed, plain) in blocks {
                    block(&bytes[at..at + packed], plain)?;
                    at += packed;
                }
                Ok(())
            }
        }
    }

    /// Writes what is under way and the header, and gives the output back.
    ///
    /// # Errors
    /// Fewer bytes than the entries have; a cabinet of 2 GiB or more; trouble with the output.
    pub fn finish(mut self) -> Result<(O, Summary)> {
        self.send()?;
        let all = self.folders.last().map_or(0, |f| f.end);
        if self.received != all {
            return Err(Error::Usage(format!("the entries have {all} bytes, but {} came", self.received)));
        }
        while !self.under_way.is_empty() {
            self.take()?;
        }
        if self.position > i32::MAX as u64 {
            return Err(Error::Limit(format!("a cabinet of {} bytes is longer than 2 GiB", self.position)));
        }
        let folder_bytes = (self.folders.len() * size_of::<Folder>()) as u32;
        let header = Header {
            signature: SIGNATURE,
            reserved1: 0.into(),
            cabinet_size: (self.position as u32).into(),
            reserved2: 0.into(),
            files_offset: (size_of::<Header>() as u32 + folder_bytes).into(),
            reserved3: 0.into(),
            version_minor: 3,
            version_major: 1,
            folders: (self.folders.len() as u16).into(),
            files: self.file_count.into(),
            flags: 0.into(),
            set_id: 0.into(),
            index: 0.into(),
        };
        self.out.seek(SeekFrom::Start(self.base))?;
        self.out.write_all(header.as_bytes())?;
        for folder in &self.folders {
            let offset = if folder.blocks == 0 { self.files_end } else { folder.offset };
            let (blocks, compression) = ((folder.blocks as u16).into(), self.options.method.field().into());
            let record = Folder { data_offset: (offset as u32).into(), blocks, compression };
            self.out.write_all(record.as_bytes())?;
        }
        self.out.seek(SeekFrom::Start(self.base + self.position))?;
        self.out.flush()?;
        let summary = Summary { bytes: self.position, folders: self.folders.len() as u16 };
        Ok((self.out, summary))
    }
}
