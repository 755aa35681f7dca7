//! Cells and the numbers in them: every offset and length is checked before it is used.

use crate::structs::BLOCK;
use crate::{Error, Result};

/// The cells of a hive. Offsets are from behind the block in front.
#[derive(Debug, Clone, Copy)]
pub struct Cells<'b> {
    /// The bins.
    pub bins: &'b [u8],
}

/// A number at a place.
pub fn u16_at(bytes: &[u8], at: usize) -> Result<u16> {
    let two = bytes.get(at..at.saturating_add(2)).ok_or_else(|| Error::at(at, "a record is cut off"))?;
    Ok(u16::from_le_bytes([two[0], two[1]]))
}

/// A number at a place.
pub fn u32_at(bytes: &[u8], at: usize) -> Result<u32> {
    let four = bytes.get(at..at.saturating_add(4)).ok_or_else(|| Error::at(at, "a record is cut off"))?;
    Ok(u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
}

impl<'b> Cells<'b> {
    /// What a cell that is in use holds.
    pub fn get(self, offset: u32) -> Result<&'b [u8]> {
        let at = offset as usize;
        let bad = |what: &str| Error::at(BLOCK.saturating_add(at), what.to_owned());
        let size = u32_at(self.bins, at).map_err(|_| bad("a record lies outside of the file"))? as i32;
        if !at.is_multiple_of(8) || size >= 0 {
            return Err(bad("no record begins here that is in use"));
        }
        let length = size.unsigned_abs() as usize;
        if length < 8 || !length.is_multiple_of(8) {
            return Err(bad("a record has an impossible length"));
        }
        let end = at.checked_add(length).filter(|end| *end <= self.bins.len());
        end.map(|end| &self.bins[at + 4..end]).ok_or_else(|| bad("a record reaches out of the file"))
    }

    /// The same for a record that begins with two letters.
    pub fn named(self, offset: u32, letters: &[u8; 2]) -> Result<&'b [u8]> {
        let bytes = self.get(offset)?;
        if bytes.get(..2) == Some(letters) {
            return Ok(bytes);
        }
        let what = format!("here should be a record {:?}", String::from_utf8_lossy(letters));
        Err(Error::at(BLOCK.saturating_add(offset as usize), what))
    }

    /// So many offsets of a list.
    pub fn list(self, offset: u32, count: usize) -> Result<Vec<u32>> {
        let bytes = self.get(offset)?;
        if count > bytes.len() / 4 {
            return Err(Error::at(BLOCK.saturating_add(offset as usize), "a list is shorter than it is said to be"));
        }
        (0..count).map(|n| u32_at(bytes, n * 4)).collect()
    }
}

/// The checksum of the block in front.
pub fn checksum(block: &[u8]) -> u32 {
    let words = block[..508].as_chunks::<4>().0.iter().map(|word| u32::from_le_bytes(*word));
    match words.fold(0, |all, word| all ^ word) {
        0 => 1,
        u32::MAX => u32::MAX - 1,
        sum => sum,
    }
}
