//! Divides a segment's frames among blocks, each with codes of its own: frames that are alike share them.

use super::costs::{Counts, UNIT};
use super::parse::Frame;
use super::*;

/// What one more block costs for the description of its codes, estimated.
const HEADER: u64 = 110 * 8 * UNIT as u64;

/// Some frames with the same codes.
pub(crate) struct Block {
    /// How many frames.
    pub frames: usize,
    /// Plain bytes.
    pub plain: usize,
    pub form: Form,
}

pub(crate) enum Form {
    /// Bytes as they are: nothing would make them smaller.
    Raw,
    Coded(Box<Codes>),
}

/// Code lengths.
pub(crate) struct Codes {
    pub main: [u8; MAX_MAIN],
    pub length: [u8; LENGTH_SYMBOLS],
    /// For the lowest three bits of offsets, where that saves something.
    pub aligned: Option<[u8; ALIGNED_SYMBOLS]>,
}

pub(super) fn divide(counts: &[Counts], frames: &[Frame], plain: usize, window_bits: u8) -> Vec<Block> {
    let mut blocks = Vec::new();
    let mut begin = 0;
    let mut together: Option<(Counts, u64)> = None;
    for (n, count) in counts.iter().enumerate() {
        let alone = count.entropy();
        together = Some(match together.take() {
            None => (count.clone(), alone),
            Some((before, cost)) => {
                let mut both = before.clone();
                both.add(count);
                let joint = both.entropy();
                if joint <= cost + alone + HEADER {
                    (both, joint)
                } else {
                    blocks.push(block(&before, &frames[begin..n], plain, begin, window_bits));
                    begin = n;
                    (count.clone(), alone)
                }
            }
        });
    }
    if let Some((last, _)) = together {
        blocks.push(block(&last, &frames[begin..], plain, begin, window_bits));
    }
    blocks
}

fn block(counts: &Counts, frames: &[Frame], plain: usize, begin: usize, window_bits: u8) -> Block {
    let plain = (plain - begin * FRAME).min(frames.len() * FRAME);
    let mut codes = Box::new(Codes { main: [0; MAX_MAIN], length: [0; LENGTH_SYMBOLS], aligned: None });
    let used = LITERALS + slots(window_bits) * LENGTH_HEADERS;
    huffman::lengths(&counts.main[..used], 16, &mut codes.main[..used]);
    huffman::lengths(&counts.length, 16, &mut codes.length);
    let mut aligned = [0; ALIGNED_SYMBOLS];
    huffman::lengths(&counts.aligned, 7, &mut aligned);
    let bits = |counts: &[u32], lengths: &[u8]| -> u64 {
        counts.iter().zip(lengths).map(|(c, l)| u64::from(*c) * u64::from(*l)).sum()
    };
    let verbatim = 3 * counts.aligned.iter().map(|c| u64::from(*c)).sum::<u64>();
    let coded = bits(&counts.aligned, &aligned) + 3 * ALIGNED_SYMBOLS as u64;
    if coded < verbatim {
        codes.aligned = Some(aligned);
    }
    let slot_bits: u64 = (0..slots(window_bits))
        .map(|slot| {
            let extra = extra_bits(slot);
            let each = u64::from(if extra >= 3 { extra - 3 } else { extra });
            let of_slot = &counts.main[LITERALS + slot * LENGTH_HEADERS..][..LENGTH_HEADERS];
            each * of_slot.iter().map(|c| u64::from(*c)).sum::<u64>()
        })
        .sum();
    let all = bits(&counts.main, &codes.main) + bits(&counts.length, &codes.length) + coded.min(verbatim) + slot_bits;
    let form = if all + HEADER / u64::from(UNIT) / 2 >= plain as u64 * 8 { Form::Raw } else { Form::Coded(codes) };
    Block { frames: frames.len(), plain, form }
}
