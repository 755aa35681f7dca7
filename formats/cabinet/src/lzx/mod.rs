//! The LZX encoder. A folder is one long stream; it is cut into segments that are parsed independently of each other
//! (each knows the window's worth of bytes before it), so that several threads can work, and written down one after
//! the other, so that the stream is whole. The bytes do not depend on the number of threads.
//!
//! Format: [MS-PATCH] section 2, with a cabinet's rule that the bit stream is aligned, and no match goes on, after each
//! frame of 32 KiB. The translation of x86 calls is switched off.

mod blocks;
mod costs;
mod emit;
mod huffman;
mod matches;
mod parse;

pub(crate) use emit::Emitter;
pub(crate) use parse::{Parsed, Parser};

/// Plain bytes of a segment: a multiple of the frame.
pub(crate) const SEGMENT: usize = 4 << 20;
/// Plain bytes of a frame, after which the bit stream is aligned.
pub(crate) const FRAME: usize = 32768;
pub(crate) const MIN_MATCH: usize = 2;
pub(crate) const MAX_MATCH: usize = 257;
/// Symbols of the main tree that are literals.
pub(crate) const LITERALS: usize = 256;
/// Length headers of each position slot in the main tree; the last says that a length symbol follows.
pub(crate) const LENGTH_HEADERS: usize = 8;
pub(crate) const LENGTH_SYMBOLS: usize = 249;
pub(crate) const ALIGNED_SYMBOLS: usize = 8;
/// The most symbols of a main tree: a window of 2 MiB.
pub(crate) const MAX_MAIN: usize = LITERALS + 50 * LENGTH_HEADERS;
/// Slots 0 to 2 mean the three offsets used last.
pub(crate) const REPEATS: usize = 3;

/// Position slots of a window of 2^`bits` bytes.
pub(crate) fn slots(bits: u8) -> usize {
    match bits {
        15..=19 => 2 * bits as usize,
        20 => 42,
        _ => 50,
    }
}

/// The extra bits of a slot.
pub(crate) const fn extra_bits(slot: usize) -> u32 {
    if slot < 4 {
        0
    } else if slot < 36 {
        (slot / 2 - 1) as u32
    } else {
        17
    }
}

/// The first formatted offset (offset + 2) of each slot, and one past the last.
pub(crate) const SLOT_BASE: [u32; 51] = {
    let mut base = [0; 51];
    let mut slot = 0;
    while slot < 50 {
        base[slot + 1] = base[slot] + (1 << extra_bits(slot));
        slot += 1;
    }
    base
};

/// The slot of an offset (1 or more) that is none of the repeated ones.
pub(crate) fn slot_of(offset: u32) -> usize {
    let formatted = offset + 2;
    if formatted >= 1 << 18 {
        return (34 + (formatted >> 17)) as usize;
    }
    let top = 31 - formatted.leading_zeros();
    (2 * top + (formatted >> (top - 1) & 1)) as usize
}

/// A literal, or a match.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Token {
    /// What follows the symbols: the part of the offset that the slot does not say.
    pub extra: u32,
    /// 1 for a literal, else the match's length.
    pub length: u16,
    /// The literal, or the match's position slot.
    pub value: u8,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_offset_lies_in_its_slot() {
        for offset in (1..2_097_150).step_by(7).chain(1..5000).chain([2_097_149]) {
            let slot = slot_of(offset);
            assert!((SLOT_BASE[slot]..SLOT_BASE[slot + 1]).contains(&(offset + 2)), "{offset} is not in slot {slot}");
        }
        assert_eq!(SLOT_BASE[50], 1 << 21);
    }
}
