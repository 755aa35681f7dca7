//! Numbers at places, each checked.

use crate::{Error, Result};

fn short(at: usize) -> Error {
    Error::at(at, "the file ends too early")
}

pub fn part(bytes: &[u8], at: usize, len: usize) -> Result<&[u8]> {
    at.checked_add(len).and_then(|end| bytes.get(at..end)).ok_or_else(|| short(at))
}

pub fn u16_at(bytes: &[u8], at: usize) -> Result<u16> {
    let part = bytes.get(at..).and_then(|b| b.first_chunk());
    part.map(|b| u16::from_le_bytes(*b)).ok_or_else(|| short(at))
}

pub fn u32_at(bytes: &[u8], at: usize) -> Result<u32> {
    let part = bytes.get(at..).and_then(|b| b.first_chunk());
    part.map(|b| u32::from_le_bytes(*b)).ok_or_else(|| short(at))
}

/// Puts a number into bytes that were read from there before.
pub fn put_u32(bytes: &mut [u8], at: usize, value: u32) -> Result<()> {
    let place = bytes.get_mut(at..).and_then(|b| b.first_chunk_mut::<4>());
    *place.ok_or_else(|| short(at))? = value.to_le_bytes();
    Ok(())
}

/// The next multiple of a power of two.
pub fn aligned(value: u32, to: u32) -> Result<u32> {
    value.checked_next_multiple_of(to).ok_or_else(|| Error::Limit("the file would pass 4 GiB".into()))
}
