//! Metadata blocks: runs of up to 8 KiB, each packed on its own behind a two-byte header.

use crate::codec::Packer;
use crate::structs::{METADATA_SIZE, METADATA_STORED};

/// Collects records into metadata blocks in memory; positions count from the table's first byte.
pub struct MetadataWriter<'p> {
    packer: &'p mut Packer,
    plain: Vec<u8>,
    packed: Vec<u8>,
    starts: Vec<u64>,
}

impl<'p> MetadataWriter<'p> {
    pub fn new(packer: &'p mut Packer) -> Self {
        Self { packer, plain: Vec::with_capacity(METADATA_SIZE), packed: Vec::new(), starts: Vec::new() }
    }

    /// Where the next byte will stand: the block's start in the packed table, and the offset in the plain block.
    pub fn position(&mut self) -> (u64, u16) {
        if self.plain.len() == METADATA_SIZE {
            self.flush();
        }
        (self.packed.len() as u64, self.plain.len() as u16)
    }

    /// [`Self::position`] as an inode reference.
    pub fn reference(&mut self) -> u64 {
        let (block, offset) = self.position();
        (block << 16) | u64::from(offset)
    }

    pub fn append(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            if self.plain.len() == METADATA_SIZE {
                self.flush();
            }
            let (now, later) = bytes.split_at(bytes.len().min(METADATA_SIZE - self.plain.len()));
            self.plain.extend_from_slice(now);
            bytes = later;
        }
    }

    fn flush(&mut self) {
        if self.plain.is_empty() {
            return;
        }
        self.starts.push(self.packed.len() as u64);
        match self.packer.pack(&self.plain) {
            Some(packed) => {
                self.packed.extend_from_slice(&(packed.len() as u16).to_le_bytes());
                self.packed.extend_from_slice(&packed);
            }
            None => {
                self.packed.extend_from_slice(&(self.plain.len() as u16 | METADATA_STORED).to_le_bytes());
                self.packed.extend_from_slice(&self.plain);
            }
        }
        self.plain.clear();
    }

    /// The packed table, and where each of its blocks starts in it.
    pub fn finish(mut self) -> (Vec<u8>, Vec<u64>) {
        self.flush();
        (self.packed, self.starts)
    }
}
