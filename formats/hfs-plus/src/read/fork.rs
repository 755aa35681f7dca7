//! Bytes of a file: the blocks in which they are, wherever those lie.

use crate::structs::{Extent, Fork};
use crate::{Error, Result};
use read_at::ReadAt;
use std::io::{self, Read};

/// Blocks in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// The first block.
    pub start: u32,
    /// How many.
    pub count: u32,
}

/// All the blocks of a file, and how many bytes of them are its.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    /// Bytes.
    pub size: u64,
    /// The blocks, in the file's order.
    pub spans: Vec<Span>,
    base: u64,
    block: u64,
}

/// The extents of a record that are in use.
pub(super) fn used(extents: &[Extent]) -> impl Iterator<Item = Span> + '_ {
    let spans = extents.iter().map(|e| Span { start: e.start.get(), count: e.count.get() });
    spans.take_while(|s| s.count > 0)
}

impl Place {
    /// The blocks of a fork, with those beyond the eighth extent.
    pub(super) fn new(fork: &Fork, more: &[Span], volume: (u64, u64, u32)) -> Result<Self> {
        let (base, block, blocks) = volume;
        let spans: Vec<Span> = used(&fork.extents).chain(more.iter().copied()).collect();
        let mut room = 0;
        for span in &spans {
            if u64::from(span.start) + u64::from(span.count) > u64::from(blocks) {
                let why = format!("blocks {} and {} more are not all in the volume", span.start, span.count);
                return Err(Error::format(base + u64::from(span.start) * block, why));
            }
            room += u64::from(span.count) * block;
        }
        if fork.size.get() > room {
            let why = format!("a file of {} bytes has blocks for {room}", fork.size.get());
            return Err(Error::format(base, why));
        }
        Ok(Self { size: fork.size.get(), spans, base, block })
    }

    /// Where a byte of the file stands in the source, and how many more follow it there.
    fn find(&self, mut at: u64) -> Option<(u64, u64)> {
        for span in &self.spans {
            let length = u64::from(span.count) * self.block;
            if at < length {
                return Some((self.base + u64::from(span.start) * self.block + at, length - at));
            }
            at -= length;
        }
        None
    }

    /// Where a byte of the file stands in the source; the end for one behind it.
    pub(super) fn offset(&self, at: u64) -> u64 {
        self.find(at).map_or(self.base, |(offset, _)| offset)
    }

    /// Fills a buffer from a byte of the file on.
    pub(super) fn read_exact<R: ReadAt>(&self, source: &R, mut at: u64, mut into: &mut [u8]) -> Result<()> {
        if at + into.len() as u64 > self.size {
            return Err(Error::format(self.offset(at), "a file ends too early"));
        }
        while !into.is_empty() {
            let (offset, length) =
                self.find(at).ok_or_else(|| Error::format(self.base, "a file has too few blocks"))?;
            let n = length.min(into.len() as u64) as usize;
            let (now, rest) = into.split_at_mut(n);
            source.read_exact_at(now, offset).map_err(|e| match e.kind() {
                io::ErrorKind::UnexpectedEof => Error::format(offset, "the volume ends here, in the middle of a file"),
                _ => Error::Io(e),
            })?;
            at += n as u64;
            into = rest;
        }
        Ok(())
    }
}

/// Reads a file from its first byte to its last.
pub struct FileReader<'v, R> {
    pub(crate) source: &'v R,
    pub(crate) place: Place,
    pub(crate) at: u64,
}

impl<R: ReadAt> Read for FileReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = (self.place.size - self.at).min(buffer.len() as u64) as usize;
        let read = self.place.read_exact(self.source, self.at, &mut buffer[..n]);
        read.map_err(|e| match e {
            Error::Io(e) => e,
            other => io::Error::new(io::ErrorKind::InvalidData, other),
        })?;
        self.at += n as u64;
        Ok(n)
    }
}

impl<R: ReadAt> ReadAt for FileReader<'_, R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        if offset.checked_add(buffer.len() as u64).is_none_or(|end| end > self.place.size) {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.place.read_exact(self.source, offset, buffer).map_err(|e| match e {
            Error::Io(e) => e,
            other => io::Error::new(io::ErrorKind::InvalidData, other),
        })
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.place.size)
    }
}

impl<R> FileReader<'_, R> {
    /// In how many pieces the file lies.
    pub fn pieces(&self) -> usize {
        self.place.spans.len()
    }
}
