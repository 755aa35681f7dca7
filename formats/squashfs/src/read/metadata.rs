//! Reading metadata blocks, with a small cache of unpacked ones.

use super::{Image, ReadAt};
use crate::structs::{METADATA_SIZE, METADATA_STORED};
use crate::{Error, Result};
use std::collections::HashMap;
use std::io;
use std::sync::Arc;
use zerocopy::{FromBytes, FromZeros, IntoBytes};

/// Unpacked metadata blocks by their position, each with the position behind it.
pub(super) type Block = (Arc<[u8]>, u64);

#[derive(Default)]
pub(super) struct Cache {
    blocks: HashMap<u64, Block>,
}

/// 512 blocks of 8 KiB: at most 4 MiB.
const CACHED_BLOCKS: usize = 512;

impl<R: ReadAt> Image<R> {
    /// Unpacks the metadata block at `at`, which may not reach beyond `end`.
    pub(super) fn metadata_block(&self, at: u64, end: u64) -> Result<Block> {
        if let Some(block) = self.cache.lock().unwrap_or_else(|e| e.into_inner()).blocks.get(&at) {
            return Ok(block.clone());
        }
        let mut head = [0; 2];
        if at.checked_add(2).is_none_or(|n| n > end) {
            return Err(Error::format(at, "a metadata block lies outside its table"));
        }
        self.read_at(&mut head, at)?;
        let word = u16::from_le_bytes(head);
        let len = usize::from(word & !METADATA_STORED);
        let next = at + 2 + len as u64;
        if len == 0 || len > METADATA_SIZE || next > end {
            return Err(Error::format(at, format!("a metadata block of {len} bytes does not fit")));
        }
        let mut packed = [0; METADATA_SIZE];
        let packed = &mut packed[..len];
        self.read_at(packed, at + 2)?;
        let block: Arc<[u8]> = if word & METADATA_STORED != 0 {
            (&*packed).into()
        } else {
            let mut plain = [0; METADATA_SIZE];
            let n = self.algorithm.unpack(packed, &mut plain).map_err(|e| Error::format(at, e))?;
            plain[..n].into()
        };
        let mut cache = self.cache.lock().unwrap_or_else(|e| e.into_inner());
        if cache.blocks.len() >= CACHED_BLOCKS {
            cache.blocks.clear();
        }
        cache.blocks.insert(at, (block.clone(), next));
        Ok((block, next))
    }

    /// A reader at `offset` into the plain bytes of the metadata block at `at`, in a table that ends at `end`.
    pub(super) fn metadata(&self, at: u64, offset: u16, end: u64) -> Result<Metadata<'_, R>> {
        let (block, next) = self.metadata_block(at, end)?;
        if usize::from(offset) > block.len() {
            return Err(Error::format(at, "an offset past its metadata block"));
        }
        Ok(Metadata { image: self, block, at, next, end, offset: offset.into() })
    }
}

/// Reads records across metadata blocks.
pub(super) struct Metadata<'i, R: ReadAt> {
    image: &'i Image<R>,
    block: Arc<[u8]>,
    at: u64,
    next: u64,
    end: u64,
    offset: usize,
}

impl<R: ReadAt> Metadata<'_, R> {
    /// The position of the current block, for error messages.
    pub fn at(&self) -> u64 {
        self.at
    }

    pub fn bytes(&mut self, mut out: &mut [u8]) -> Result<()> {
        while !out.is_empty() {
            if self.offset == self.block.len() {
                let (block, next) = self.image.metadata_block(self.next, self.end)?;
                (self.at, self.next, self.block, self.offset) = (self.next, next, block, 0);
            }
            let n = out.len().min(self.block.len() - self.offset);
            let (now, later) = out.split_at_mut(n);
            now.copy_from_slice(&self.block[self.offset..self.offset + n]);
            self.offset += n;
            out = later;
        }
        Ok(())
    }

    pub fn vec(&mut self, len: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; len];
        self.bytes(&mut bytes)?;
        Ok(bytes)
    }

    pub fn record<T: FromBytes + FromZeros + IntoBytes>(&mut self) -> Result<T> {
        let mut record = T::new_zeroed();
        self.bytes(record.as_mut_bytes())?;
        Ok(record)
    }

    pub fn u32(&mut self) -> Result<u32> {
        let mut bytes = [0; 4];
        self.bytes(&mut bytes)?;
        Ok(u32::from_le_bytes(bytes))
    }
}

impl<R: ReadAt> Image<R> {
    /// Reads at an offset from the image's first byte; an end that comes too early is a matter of format.
    pub(super) fn read_at(&self, out: &mut [u8], at: u64) -> Result<()> {
        let absolute = self.base.checked_add(at).ok_or_else(|| Error::format(at, "an offset past the largest file"))?;
        self.source.read_exact_at(out, absolute).map_err(|e| match e.kind() {
            io::ErrorKind::UnexpectedEof => Error::format(at, "the image ends here: it is truncated"),
            _ => Error::Io(e),
        })
    }
}
