//! A part of a file whose hash is known, and a table of what its pieces contribute to that hash. Whoever reads anywhere in
//! it learns of a flipped bit there and then, without having read the rest.
//!
//! BLAKE3 is a tree: the hash of the whole is made from the values of its parts ("chaining values" in the specification,
//! section 2.1). The table holds those of pieces of 128 KiB. It needs no protection of its own, because it gives the
//! known hash only if all of it is right.

use blake3::Hasher;
use blake3::hazmat::{HasherExt, Mode, left_subtree_len, merge_subtrees_non_root, merge_subtrees_root};
use read_at::ReadAt;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};

/// Bytes of a piece; the last one may be shorter.
pub const PIECE: u64 = 1 << 17;

/// What one piece contributes to the hash of the whole.
pub type Value = [u8; 32];

/// Pieces in so many bytes.
pub fn pieces(length: u64) -> u64 {
    length.div_ceil(PIECE).max(1)
}

/// Reads `length` bytes from `start` and gives the values of all pieces. Of a single piece it is the hash itself.
///
/// # Errors
/// As the source's.
pub fn values(source: &impl ReadAt, start: u64, length: u64) -> io::Result<Vec<Value>> {
    let mut buffer = Vec::new();
    (0..pieces(length)).map(|n| value(source, start, length, n, &mut buffer)).collect()
}

fn value(source: &impl ReadAt, start: u64, length: u64, piece: u64, buffer: &mut Vec<u8>) -> io::Result<Value> {
    let at = piece * PIECE;
    // No more than a piece: it fits.
    buffer.resize((length - at).min(PIECE) as usize, 0);
    source.read_exact_at(buffer, start + at)?;
    if length <= PIECE {
        return Ok(*blake3::hash(buffer).as_bytes());
    }
    Ok(Hasher::new().set_input_offset(at).update(buffer).finalize_non_root())
}

/// The hash of the whole, `length` bytes, from the values of its pieces; `None` if they are not as many as it has.
pub fn hash(values: &[Value], length: u64) -> Option<[u8; 32]> {
    if values.len() as u64 != pieces(length) {
        return None;
    }
    if let [only] = values {
        return Some(*only);
    }
    let (left, right) = halves(values, length);
    Some(*merge_subtrees_root(&left, &right, Mode::Hash).as_bytes())
}

/// The values of the two subtrees of more than one piece.
fn halves(values: &[Value], length: u64) -> (Value, Value) {
    let left = left_subtree_len(length);
    let (first, second) = values.split_at((left / PIECE) as usize);
    (joined(first, left), joined(second, length - left))
}

fn joined(values: &[Value], length: u64) -> Value {
    if let [only] = values {
        return *only;
    }
    let (left, right) = halves(values, length);
    merge_subtrees_non_root(&left, &right, Mode::Hash)
}

/// A source of which one part is checked.
pub struct Checked<R> {
    source: R,
    start: u64,
    length: u64,
    values: Vec<Value>,
    /// Pieces that were found to be right.
    right: Vec<AtomicBool>,
}

impl<R: ReadAt> Checked<R> {
    /// A source whose part of `length` bytes from `start` has this hash.
    ///
    /// # Errors
    /// The values don't give the hash: they, or it, were changed.
    pub fn new(source: R, start: u64, length: u64, values: Vec<Value>, expected: &[u8; 32]) -> io::Result<Self> {
        if hash(&values, length).as_ref() != Some(expected) {
            return Err(io::Error::other("the table of its checksums was changed after it was written"));
        }
        let right = values.iter().map(|_| AtomicBool::new(false)).collect();
        Ok(Self { source, start, length, values, right })
    }

    /// A source of which nothing is known: nothing is checked.
    pub fn unknown(source: R) -> Self {
        Self { source, start: 0, length: 0, values: Vec::new(), right: Vec::new() }
    }

    /// Whether anything is checked.
    pub fn is_checked(&self) -> bool {
        !self.values.is_empty()
    }

    /// The source itself.
    pub fn source(&self) -> &R {
        &self.source
    }

    fn check(&self, piece: usize, buffer: &mut Vec<u8>) -> io::Result<()> {
        if self.right[piece].load(Ordering::Relaxed) {
            return Ok(());
        }
        if value(&self.source, self.start, self.length, piece as u64, buffer)? != self.values[piece] {
            let at = self.start + piece as u64 * PIECE;
            let what = format!("from byte {at} on, its content was changed after it was packed");
            return Err(io::Error::new(io::ErrorKind::InvalidData, what));
        }
        self.right[piece].store(true, Ordering::Relaxed);
        Ok(())
    }
}

impl<R: ReadAt> ReadAt for Checked<R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        // The part of what is asked for that is known, in its own places.
        let first = offset.max(self.start) - self.start;
        let end = offset.saturating_add(buffer.len() as u64).saturating_sub(self.start).min(self.length);
        if first < end {
            let mut piece = Vec::new();
            for n in first / PIECE..=(end - 1) / PIECE {
                self.check(n as usize, &mut piece)?;
            }
        }
        self.source.read_exact_at(buffer, offset)
    }

    fn length(&self) -> io::Result<u64> {
        self.source.length()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn noise(length: usize) -> Vec<u8> {
        (0..length as u64).map(|n| (n.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56) as u8).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn pieces_give_the_hash_of_the_whole_and_each_flipped_bit_is_noticed(
            length in prop_oneof![0usize..3000, (0usize..9, -2isize..3).prop_map(|(n, d)| (n * (PIECE as usize)).saturating_add_signed(d))],
            before in 0usize..600,
            behind in 0usize..600,
            flipped: prop::sample::Index,
            read: (prop::sample::Index, prop::sample::Index),
        ) {
            let mut bytes = noise(before + length + behind);
            let (start, long) = (before as u64, length as u64);
            let values = values(&bytes, start, long).expect("read");
            let whole = *blake3::hash(&bytes[before..before + length]).as_bytes();
            prop_assert_eq!(hash(&values, long), Some(whole));
            let checked = Checked::new(bytes.clone(), start, long, values.clone(), &whole).expect("right");
            let (a, b) = (read.0.index(bytes.len() + 1), read.1.index(bytes.len() + 1));
            let (a, b) = (a.min(b), a.max(b));
            let mut seen = vec![0; b - a];
            checked.read_exact_at(&mut seen, a as u64).expect("read");
            prop_assert_eq!(&seen, &bytes[a..b]);
            if length > 0 {
                let at = before + flipped.index(length);
                bytes[at] ^= 0x10;
                let checked = Checked::new(bytes, start, long, values.clone(), &whole).expect("the table is right");
                let said = checked.read_exact_at(&mut [0], at as u64).expect_err("noticed");
                prop_assert!(said.to_string().contains("was changed after it was packed"));
                let mut values = values;
                let n = flipped.index(values.len());
                values[n][flipped.index(32)] ^= 1;
                prop_assert!(Checked::new(Vec::new(), start, long, values, &whole).is_err());
            }
        }
    }
}
