//! The packed stream, unpacked: a length and the header, then for each file a length and its bytes.

use crate::structs::Method;
use crate::{Error, Result};
use alloc::boxed::Box;
use alloc::vec;
use alloc::vec::Vec;
#[cfg(feature = "lzma")]
use lzma_rust2::{LzmaReader, Read as _, filter::bcj::BcjReader};
#[cfg(feature = "deflate")]
use miniz_oxide::inflate::stream::{InflateState, inflate};
#[cfg(feature = "deflate")]
use miniz_oxide::{DataFormat, MZError, MZFlush, MZStatus};

/// The largest dictionary that is taken: what it needs in memory.
const DICTIONARY: u32 = 256 << 20;
const BUFFER: usize = 1 << 16;

/// Where bytes come from.
pub trait Input {
    /// Fills a part of `into`; 0 at the end.
    ///
    /// # Errors
    /// [`Error::Source`], or what the medium said.
    fn read(&mut self, into: &mut [u8]) -> Result<usize>;
}

impl<I: Input + ?Sized> Input for Box<I> {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        (**self).read(into)
    }
}

/// What gives the decoders their bytes, some at a time.
struct Buffered<I> {
    input: I,
    buffer: Vec<u8>,
    at: usize,
    end: usize,
}

impl<I: Input> Buffered<I> {
    fn new(input: I) -> Self {
        Self { input, buffer: vec![0; BUFFER], at: 0, end: 0 }
    }

    /// What is there, after reading on if nothing is.
    fn fill(&mut self) -> Result<&[u8]> {
        if self.at == self.end {
            self.at = 0;
            self.end = self.input.read(&mut self.buffer)?;
        }
        Ok(&self.buffer[self.at..self.end])
    }

    /// So many bytes without taking them, if there are as many.
    fn peek(&mut self, count: usize) -> Result<&[u8]> {
        while self.end < count {
            let n = self.input.read(&mut self.buffer[self.end..])?;
            if n == 0 {
                break;
            }
            self.end += n;
        }
        Ok(&self.buffer[..self.end])
    }
}

#[cfg(feature = "lzma")]
impl<I: Input> lzma_rust2::Read for Buffered<I> {
    fn read(&mut self, into: &mut [u8]) -> core::result::Result<usize, lzma_rust2::Error> {
        let there = self.fill().map_err(|_| lzma_rust2::Error::Other("source"))?;
        let n = there.len().min(into.len());
        into[..n].copy_from_slice(&there[..n]);
        self.at += n;
        Ok(n)
    }
}

enum Decoder<I: Input> {
    #[cfg(feature = "lzma")]
    Lzma(Box<LzmaReader<Buffered<I>>>),
    #[cfg(feature = "lzma")]
    Filtered(Box<BcjReader<LzmaReader<Buffered<I>>>>),
    #[cfg(feature = "deflate")]
    Deflate(Buffered<I>, Box<InflateState>),
    Stored(Buffered<I>),
}

/// A stream being unpacked.
pub struct Solid<I: Input> {
    decoder: Decoder<I>,
    /// How it is packed.
    pub method: Method,
    /// Its dictionary, for LZMA.
    pub dictionary: u32,
    /// Plain bytes that were given out.
    pub at: u64,
}

/// What a stream's first bytes say.
pub fn method(first: &[u8]) -> (Method, u32) {
    let lzma = |b: &[u8]| {
        let dictionary = u32::from_le_bytes([*b.get(1)?, *b.get(2)?, *b.get(3)?, *b.get(4)?]);
        // A stream of LZMA begins with a zero.
        (b[0] == 0x5D && dictionary.is_power_of_two() && b.get(5) == Some(&0)).then_some(dictionary)
    };
    if let Some(dictionary) = lzma(first) {
        return (Method::Lzma { filtered: false }, dictionary);
    }
    match first.first() {
        Some(filter @ (0 | 1)) => match lzma(&first[1..]) {
            Some(dictionary) => (Method::Lzma { filtered: *filter == 1 }, dictionary),
            None => (Method::Deflate, 0),
        },
        _ => (Method::Deflate, 0),
    }
}

impl<I: Input> Solid<I> {
    /// Looks at the stream's first bytes and gets ready.
    ///
    /// # Errors
    /// [`Error::Limit`] when it would need more memory than is taken.
    pub fn open(input: I) -> Result<Self> {
        let mut input = Buffered::new(input);
        let (method, dictionary) = method(input.peek(8)?);
        Self::with(input, method, dictionary)
    }

    /// The stream as it stands, not packed.
    ///
    /// # Errors
    /// Never.
    pub fn stored(input: I) -> Result<Self> {
        Self::with(Buffered::new(input), Method::Stored, 0)
    }

    #[inline(never)]
    fn with(input: Buffered<I>, method: Method, dictionary: u32) -> Result<Self> {
        if dictionary > DICTIONARY {
            return Err(Error::Limit("it would need more than 256 MiB of memory"));
        }
        let decoder = match method {
            #[cfg(feature = "lzma")]
            Method::Lzma { filtered } => {
                let mut input = input;
                // The byte of the filter is optional.
                let first = input.peek(1)?.first().copied();
                input.at = if first == Some(0x5D) { 5 } else { 6 };
                let lzma = LzmaReader::new_with_props(input, u64::MAX, 0x5D, dictionary, None).map_err(failed)?;
                if filtered {
                    Decoder::Filtered(Box::new(BcjReader::new_x86(lzma, 0)))
                } else {
                    Decoder::Lzma(Box::new(lzma))
                }
            }
            #[cfg(feature = "deflate")]
            Method::Deflate => Decoder::Deflate(input, InflateState::new_boxed(DataFormat::Raw)),
            Method::Stored => Decoder::Stored(input),
            #[cfg(not(all(feature = "lzma", feature = "deflate")))]
            _ => return Err(Error::Limit("it is compressed in a way that isn't supported")),
        };
        Ok(Self { decoder, method, dictionary, at: 0 })
    }

    /// Fills a part of `into` with plain bytes; 0 at the end.
    ///
    /// # Errors
    /// [`Error::Format`] for a damaged stream, with the plain offset.
    pub fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        let at = self.at;
        let n = match &mut self.decoder {
            #[cfg(feature = "lzma")]
            Decoder::Lzma(lzma) => lzma.read(into).map_err(|e| failed_at(e, at))?,
            #[cfg(feature = "lzma")]
            Decoder::Filtered(lzma) => lzma.read(into).map_err(|e| failed_at(e, at))?,
            #[cfg(feature = "deflate")]
            Decoder::Deflate(input, state) => inflated(input, state, into, at)?,
            Decoder::Stored(input) => {
                let there = input.fill()?;
                let n = there.len().min(into.len());
                into[..n].copy_from_slice(&there[..n]);
                input.at += n;
                n
            }
        };
        self.at += n as u64;
        Ok(n)
    }

    /// Fills all of `into`.
    ///
    /// # Errors
    /// As [`read`](Self::read); also when it ends before.
    pub fn exact(&mut self, into: &mut [u8]) -> Result<()> {
        let mut done = 0;
        while done < into.len() {
            match self.read(&mut into[done..])? {
                0 => return Err(Error::format(self.at, "the packed bytes end too early")),
                n => done += n,
            }
        }
        Ok(())
    }

    /// The next length.
    ///
    /// # Errors
    /// As [`exact`](Self::exact).
    pub fn length(&mut self) -> Result<u32> {
        let mut bytes = [0; 4];
        self.exact(&mut bytes)?;
        Ok(u32::from_le_bytes(bytes))
    }

    /// The header's bytes, which have to be the stream's first; `stated` is what the first header says of them.
    ///
    /// # Errors
    /// [`Error::Format`] when the two lengths differ.
    pub fn header(&mut self, stated: u32) -> Result<Vec<u8>> {
        if self.length()? != stated {
            return Err(Error::format(0, "the header's length differs from the first header's"));
        }
        self.bytes(stated)
    }

    /// So many bytes; what is not there takes no memory.
    ///
    /// # Errors
    /// As [`exact`](Self::exact).
    pub fn bytes(&mut self, count: u32) -> Result<Vec<u8>> {
        let mut bytes = Vec::new();
        while bytes.len() < count as usize {
            let done = bytes.len();
            bytes.resize((count as usize).min(done + (1 << 20)), 0);
            self.exact(&mut bytes[done..])?;
        }
        Ok(bytes)
    }
}

#[cfg(feature = "deflate")]
fn inflated<I: Input>(input: &mut Buffered<I>, state: &mut InflateState, into: &mut [u8], at: u64) -> Result<usize> {
    loop {
        let there = input.fill()?;
        let ended = there.is_empty();
        let result = inflate(state, there, into, MZFlush::None);
        input.at += result.bytes_consumed;
        match result.status {
            Ok(MZStatus::StreamEnd) => return Ok(result.bytes_written),
            Ok(_) | Err(MZError::Buf) if result.bytes_written > 0 || into.is_empty() => return Ok(result.bytes_written),
            Ok(_) | Err(MZError::Buf) if !ended => {}
            _ => return Err(Error::format(at, "the packed bytes are damaged")),
        }
    }
}

#[cfg(feature = "lzma")]
fn failed(e: lzma_rust2::Error) -> Error {
    failed_at(e, 0)
}

#[cfg(feature = "lzma")]
fn failed_at(e: lzma_rust2::Error, at: u64) -> Error {
    match e {
        lzma_rust2::Error::OutOfMemory(_) => Error::Limit("there is not enough memory"),
        lzma_rust2::Error::Other(_) => Error::Source,
        lzma_rust2::Error::Eof => Error::format(at, "the packed bytes end too early"),
        _ => Error::format(at, "the packed bytes are damaged"),
    }
}
