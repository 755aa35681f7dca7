//! The seal: 512 bytes before the data block with a hash of the whole program, so that a damaged or altered one is
//! noticed before anything is changed. What signing changes later is left out of it.
//!
//! It is a form of our own, where the format has room for anything; the format itself only has a CRC32 at its end.

use crate::{Error, Result};
use sha2::{Digest, Sha256};

/// Bytes of the seal.
pub const LENGTH: usize = 512;
/// Bytes in front of the data block of a program that removes a product, as a package holds it: what signing changes in
/// that program's head (see [`changeable`]), and the length of the block. Behind the block stands the signature, if it has
/// one: the program is put together from this where it is installed.
pub const BEFORE_BLOCK: usize = 4 + 8 + 4;
/// How it begins.
pub const SIGN: [u8; 16] = *b"Upper Shelf seal";

/// The places in a program for Windows that signing changes: its checksum, and where the signature is.
///
/// # Errors
/// [`Error::Format`] for what is no such program.
pub fn changeable(head: &[u8]) -> Result<[(usize, usize); 2]> {
    let bad = || Error::format(0, "not a PE file");
    let u32_at = |at: usize| -> Result<usize> {
        let b = head.get(at..).and_then(|b| b.get(..4)).ok_or_else(bad)?;
        Ok(u32::from_le_bytes([b[0], b[1], b[2], b[3]]) as usize)
    };
    let optional = u32_at(0x3C)?.checked_add(24).ok_or_else(bad)?;
    let kind = u32_at(optional)? & 0xFFFF;
    let directories = optional + if kind == 0x20B { 112 } else { 96 };
    if directories + 40 > head.len() {
        return Err(bad());
    }
    Ok([(optional + 64, 4), (directories + 4 * 8, 8)])
}

/// A hash under way.
pub struct Hash(Sha256);

impl Default for Hash {
    fn default() -> Self {
        Self(Sha256::new())
    }
}

impl Hash {
    /// Takes the program's first bytes, up to the seal; what signing changes counts as zero.
    ///
    /// # Errors
    /// As [`changeable`].
    pub fn head(&mut self, head: &[u8]) -> Result<()> {
        let mut at = 0;
        for (start, length) in changeable(head)? {
            self.0.update(&head[at..start]);
            self.0.update(&[0; 8][..length]);
            at = start + length;
        }
        self.0.update(&head[at..]);
        Ok(())
    }

    /// Takes the data block, in order.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The plain hash of what was taken.
    pub fn plain(self) -> [u8; 32] {
        self.0.finalize().into()
    }

    /// The seal.
    pub fn seal(self) -> [u8; LENGTH] {
        let mut seal = [0; LENGTH];
        seal[..16].copy_from_slice(&SIGN);
        seal[16..48].copy_from_slice(&self.plain());
        seal
    }
}
