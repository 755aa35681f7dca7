//! Setup programs, written: the head, the seal, the first header, the packed stream, and the CRC32 of all behind the
//! first 512 bytes. The stream is packed while it comes; memory is that of the packer, whatever the files are.

use crate::seal;
use crate::structs::{ALIGNMENT, FIRST_HEADER, Method, SIGN};
use crate::{Error, Result};
use flate2::{Compress, Compression, FlushCompress, Status};
use lzma_packer::Packer as Lzma;
use ordered_pool::OrderedPool;
use std::io::{Cursor, Read, Seek, SeekFrom, Write};

/// Plain bytes that are deflated side by side.
const PART: usize = 1 << 20;
const WINDOW: usize = 1 << 15;
/// Lengths and places in the format are numbers of 31 bits.
const MOST: u64 = i32::MAX as u64;

/// How it is packed.
#[derive(Debug, Clone)]
pub struct Options {
    /// The method.
    pub method: Method,
    /// For LZMA: bytes of the dictionary, a power of two. The packer takes about twelve times as much memory, on
    /// two threads fourteen times, the customer's machine once.
    pub dictionary: u32,
    /// Threads that pack; LZMA has work for two. The result is the same for any number.
    pub threads: usize,
    /// The first header's flags.
    pub flags: u32,
}

impl Default for Options {
    fn default() -> Self {
        Self { method: Method::Lzma { filtered: false }, dictionary: 32 << 20, threads: 1, flags: 0 }
    }
}

/// A setup program under way.
pub struct Writer<W: Read + Write + Seek> {
    out: W,
    /// The head, filled up to a multiple of 512.
    head: Vec<u8>,
    packer: Packer,
    /// Packed bytes so far.
    packed: u64,
    header_length: u32,
    flags: u32,
    /// Plain bytes of the file under way that are still to come.
    left: u64,
    /// Plain bytes behind the header.
    plain: u64,
}

enum Packer {
    Lzma(Box<Lzma>, Vec<u8>),
    Deflate(Deflater),
    Stored,
}

struct Deflater {
    pool: OrderedPool<(Vec<u8>, Vec<u8>, bool), Vec<u8>>,
    part: Vec<u8>,
    window: Vec<u8>,
}

/// Where the next file's length will stand: what instructions name files by.
#[derive(Debug, Default, Clone, Copy)]
pub struct Offsets(u64);

impl Offsets {
    /// The offset of the next file, which has so many bytes.
    ///
    /// # Errors
    /// [`Error::Limit`] beyond the format's 2 GiB.
    pub fn next(&mut self, size: u64) -> Result<i32> {
        let at = self.0;
        self.0 += size + 4;
        if self.0 > MOST {
            return Err(Error::Limit("a setup program holds up to 2 GiB of files"));
        }
        Ok(at as i32)
    }

    /// Plain bytes so far.
    pub fn total(self) -> u64 {
        self.0
    }
}

impl<W: Read + Write + Seek> Writer<W> {
    /// Begins a program with the head's bytes (none for a data block alone) and the header.
    ///
    /// # Errors
    /// The medium; [`Error::Limit`] for a dictionary that the packer does not take.
    pub fn new(mut out: W, head: &[u8], header: &[u8], options: &Options) -> Result<Self> {
        let mut head = head.to_vec();
        if !head.is_empty() {
            head.resize(head.len().next_multiple_of(ALIGNMENT as usize), 0);
            out.write_all(&head)?;
            out.write_all(&[0; seal::LENGTH])?;
        }
        out.write_all(&[0; FIRST_HEADER])?;
        let packer = match options.method {
            Method::Lzma { filtered } => {
                Packer::Lzma(Box::new(lzma(options.dictionary, filtered, options.threads)?), vec![0; 1 << 16])
            }
            Method::Deflate => Packer::Deflate(Deflater::new(options.threads)),
            Method::Stored => Packer::Stored,
        };
        let header_length = u32::try_from(header.len()).map_err(|_| Error::Limit("a header of more than 4 GiB"))?;
        let mut it = Self { out, head, packer, packed: 0, header_length, flags: options.flags, left: 0, plain: 0 };
        if let Method::Lzma { filtered } = options.method {
            let mut first = vec![];
            if filtered {
                first.push(1);
            }
            first.push(0x5D);
            first.extend(options.dictionary.to_le_bytes());
            it.out.write_all(&first)?;
            it.packed = first.len() as u64;
        }
        it.pack(&header_length.to_le_bytes())?;
        it.pack(header)?;
        Ok(it)
    }

    /// Begins the next file, of so many bytes.
    ///
    /// # Errors
    /// As [`data`](Self::data).
    pub fn file(&mut self, size: u64) -> Result<()> {
        if self.left > 0 {
            return Err(Error::Limit("a file has fewer bytes than declared"));
        }
        let length = u32::try_from(size).ok().filter(|s| u64::from(*s) <= MOST);
        let length = length.ok_or(Error::Limit("a setup program holds up to 2 GiB of files"))?;
        self.left = size;
        self.plain += 4;
        self.pack(&length.to_le_bytes())
    }

    /// The next bytes of the file.
    ///
    /// # Errors
    /// The medium; [`Error::Limit`] for more bytes than were said.
    pub fn data(&mut self, bytes: &[u8]) -> Result<()> {
        let left = self.left.checked_sub(bytes.len() as u64);
        self.left = left.ok_or(Error::Limit("a file has more bytes than declared"))?;
        self.plain += bytes.len() as u64;
        self.pack(bytes)
    }

    fn pack(&mut self, bytes: &[u8]) -> Result<()> {
        let (out, packed) = (&mut self.out, &mut self.packed);
        let mut put = |bytes: &[u8]| -> Result<()> {
            *packed += bytes.len() as u64;
            Ok(out.write_all(bytes)?)
        };
        match &mut self.packer {
            Packer::Lzma(lzma, buffer) => run(lzma, bytes, false, buffer, put),
            Packer::Deflate(deflater) => deflater.take(bytes, put),
            Packer::Stored => put(bytes),
        }
    }

    /// Ends the program; gives the medium and its whole length.
    ///
    /// # Errors
    /// The medium; [`Error::Limit`] beyond the format's 2 GiB.
    pub fn finish(mut self) -> Result<(W, u64)> {
        let (out, packed) = (&mut self.out, &mut self.packed);
        let mut put = |bytes: &[u8]| -> Result<()> {
            *packed += bytes.len() as u64;
            Ok(out.write_all(bytes)?)
        };
        match &mut self.packer {
            Packer::Lzma(lzma, buffer) => run(lzma, &[], true, buffer, &mut put)?,
            Packer::Deflate(deflater) => deflater.finish(&mut put)?,
            Packer::Stored => {}
        }
        if self.packed.max(self.plain) > MOST {
            return Err(Error::Limit("a setup program holds up to 2 GiB"));
        }
        let start = self.head.len() as u64 + if self.head.is_empty() { 0 } else { seal::LENGTH as u64 };
        let mut first = Vec::with_capacity(FIRST_HEADER);
        first.extend(self.flags.to_le_bytes());
        first.extend(SIGN);
        first.extend(self.header_length.to_le_bytes());
        first.extend((FIRST_HEADER as u32 + self.packed as u32 + 4).to_le_bytes());
        self.out.seek(SeekFrom::Start(start))?;
        self.out.write_all(&first)?;
        // The seal covers the CRC32, and the CRC32 the seal's place: that counts as zero there.
        let mut crc = crc32fast::Hasher::new();
        let mut hash = seal::Hash::default();
        if !self.head.is_empty() {
            crc.update(self.head.get(ALIGNMENT as usize..).unwrap_or_default());
            crc.update(&[0; seal::LENGTH]);
            hash.head(&self.head)?;
        }
        self.out.seek(SeekFrom::Start(start))?;
        let mut buffer = vec![0; 1 << 16];
        let mut left = FIRST_HEADER as u64 + self.packed;
        while left > 0 {
            let n = left.min(buffer.len() as u64) as usize;
            self.out.read_exact(&mut buffer[..n])?;
            crc.update(&buffer[..n]);
            hash.update(&buffer[..n]);
            left -= n as u64;
        }
        let crc = crc.finalize().to_le_bytes();
        hash.update(&crc);
        self.out.seek(SeekFrom::Start(start + FIRST_HEADER as u64 + self.packed))?;
        self.out.write_all(&crc)?;
        if !self.head.is_empty() {
            self.out.seek(SeekFrom::Start(self.head.len() as u64))?;
            self.out.write_all(&hash.seal())?;
        }
        self.out.flush()?;
        Ok((self.out, start + FIRST_HEADER as u64 + self.packed + 4))
    }
}

/// A data block with a header and no files, such as a program that removes a product has.
///
/// # Errors
/// As [`Writer`].
pub fn block(header: &[u8], options: &Options) -> Result<Vec<u8>> {
    let (out, _) = Writer::new(Cursor::new(Vec::new()), &[], header, options)?.finish()?;
    Ok(out.into_inner())
}

fn lzma(dictionary: u32, filtered: bool, threads: usize) -> Result<Lzma> {
    Lzma::new(dictionary, filtered, threads).map_err(|_| Error::Limit("the packer doesn't support this dictionary"))
}

fn run(
    packer: &mut Lzma,
    mut bytes: &[u8],
    finish: bool,
    buffer: &mut [u8],
    mut put: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    loop {
        let step = packer.step(bytes, buffer, finish);
        let step = step.map_err(|_| Error::Limit("the packer failed: there is not enough memory"))?;
        bytes = &bytes[step.taken..];
        put(&buffer[..step.given])?;
        if if finish { step.ended } else { bytes.is_empty() } {
            return Ok(());
        }
    }
}

impl Deflater {
    fn new(threads: usize) -> Self {
        let work = |_: &mut (), (window, part, last): (Vec<u8>, Vec<u8>, bool)| deflated(&window, &part, last);
        Self {
            pool: OrderedPool::new(threads, threads * 2 + 2, || (), work),
            part: Vec::with_capacity(PART),
            window: Vec::new(),
        }
    }

    fn take(&mut self, mut bytes: &[u8], mut put: impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
        while !bytes.is_empty() {
            let n = bytes.len().min(PART - self.part.len());
            self.part.extend_from_slice(&bytes[..n]);
            bytes = &bytes[n..];
            if self.part.len() == PART {
                self.submit(false, &mut put)?;
            }
        }
        Ok(())
    }

    fn submit(&mut self, last: bool, put: &mut impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
        while self.pool.is_full() {
            put(&self.pool.next().unwrap_or_default())?;
        }
        let part = std::mem::replace(&mut self.part, Vec::with_capacity(PART));
        // Each part may refer to the end of the one before.
        let window = part[part.len().saturating_sub(WINDOW)..].to_vec();
        self.pool.submit((std::mem::replace(&mut self.window, window), part, last));
        Ok(())
    }

    fn finish(&mut self, put: &mut impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
        self.submit(true, put)?;
        for bytes in self.pool.by_ref() {
            put(&bytes)?;
        }
        Ok(())
    }
}

fn deflated(window: &[u8], part: &[u8], last: bool) -> Vec<u8> {
    let mut deflate = Compress::new(Compression::new(9), false);
    if !window.is_empty() {
        // It only fails after compressing has begun.
        let _ = deflate.set_dictionary(window);
    }
    let mut out = Vec::with_capacity(part.len() / 2 + 1024);
    let flush = if last { FlushCompress::Finish } else { FlushCompress::Sync };
    loop {
        let done = deflate.total_in() as usize;
        if out.capacity() - out.len() < 1024 {
            out.reserve(out.capacity().max(1 << 16));
        }
        let room = out.capacity() - out.len();
        let before = out.len();
        let status = deflate.compress_vec(&part[done..], &mut out, flush);
        // A flush is over when it leaves room.
        let over = match status {
            Ok(Status::StreamEnd) | Err(_) => true,
            Ok(_) => !last && deflate.total_in() as usize == part.len() && out.len() - before < room,
        };
        if over {
            return out;
        }
    }
}
