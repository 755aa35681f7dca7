//! Finds, for a position, the nearest earlier occurrence of each length: binary trees of suffixes for four bytes and
//! more, a table for three.

use super::MAX_MATCH;

const NONE: u32 = u32::MAX;
const HASH3_BITS: u32 = 15;
const HASH4_BITS: u32 = 16;

/// An earlier occurrence.
#[derive(Debug, Clone, Copy)]
pub(super) struct Match {
    pub length: u16,
    pub offset: u32,
}

pub(super) struct Finder {
    heads3: Vec<u32>,
    heads4: Vec<u32>,
    /// For each position in the window its two subtrees: smaller, greater.
    children: Vec<[u32; 2]>,
    mask: usize,
    max_offset: u32,
}

/// How hard to search.
#[derive(Debug, Clone, Copy)]
pub(super) struct Effort {
    /// Nodes looked at.
    pub depth: u32,
    /// A match of this length is good enough.
    pub nice: usize,
}

fn four(data: &[u8], at: usize) -> u32 {
    data[at..].first_chunk().map_or(0, |b| u32::from_le_bytes(*b))
}

/// How many bytes are equal at two places, `known` of which are known to be, at most `max`.
pub(super) fn equal(data: &[u8], a: usize, b: usize, known: usize, max: usize) -> usize {
    let mut n = known;
    let (x, y) = (&data[a..a + max], &data[b..b + max]);
    while let (Some(p), Some(q)) = (x[n..].first_chunk::<8>(), y[n..].first_chunk::<8>()) {
        let differ = u64::from_le_bytes(*p) ^ u64::from_le_bytes(*q);
        if differ != 0 {
            return n + (differ.trailing_zeros() / 8) as usize;
        }
        n += 8;
    }
    while n < max && x[n] == y[n] {
        n += 1;
    }
    n
}

impl Finder {
    pub fn new(window_bits: u8) -> Self {
        Self {
            heads3: vec![NONE; 1 << HASH3_BITS],
            heads4: vec![NONE; 1 << HASH4_BITS],
            children: vec![[NONE; 2]; 1 << window_bits],
            mask: (1 << window_bits) - 1,
            // A formatted offset is two more, and must be below the window's size.
            max_offset: (1 << window_bits) - 3,
        }
    }

    /// Forgets everything; the children need no clearing, nothing leads to them.
    pub fn clear(&mut self) {
        self.heads3.fill(NONE);
        self.heads4.fill(NONE);
    }

    /// Takes the position `at` into the trees, and hands each longer match found to `found`.
    pub fn step(&mut self, data: &[u8], at: usize, effort: Effort, mut found: impl FnMut(Match)) {
        let max = (data.len() - at).min(MAX_MATCH);
        if max < 4 {
            return;
        }
        let word = four(data, at);
        let hash3 = ((word << 8).wrapping_mul(0x9E37_79B1) >> (32 - HASH3_BITS)) as usize;
        let hash4 = (word.wrapping_mul(0x9E37_79B1) >> (32 - HASH4_BITS)) as usize;
        let here = at as u32;
        let mut best = 2;
        let three = std::mem::replace(&mut self.heads3[hash3], here);
        if three != NONE && here - three <= self.max_offset && (four(data, three as usize) ^ word) << 8 == 0 {
            best = 3;
            found(Match { length: 3, offset: here - three });
        }
        let nice = effort.nice.min(max);
        let mut node = std::mem::replace(&mut self.heads4[hash4], here);
        let (mut smaller, mut greater) = ((at & self.mask, 0), (at & self.mask, 1));
        let (mut smaller_len, mut greater_len) = (0, 0);
        let mut left = effort.depth;
        loop {
            if node == NONE || here - node > self.max_offset || left == 0 {
                self.children[smaller.0][smaller.1] = NONE;
                self.children[greater.0][greater.1] = NONE;
                return;
            }
            left -= 1;
            let pair = node as usize & self.mask;
            let length = equal(data, node as usize, at, smaller_len.min(greater_len), max);
            if length > best {
                best = length;
                found(Match { length: length as u16, offset: here - node });
            }
            if length >= nice {
                self.children[smaller.0][smaller.1] = self.children[pair][0];
                self.children[greater.0][greater.1] = self.children[pair][1];
                return;
            }
            if data[node as usize + length] < data[at + length] {
                self.children[smaller.0][smaller.1] = node;
                smaller = (pair, 1);
                smaller_len = length;
                node = self.children[pair][1];
            } else {
                self.children[greater.0][greater.1] = node;
                greater = (pair, 0);
                greater_len = length;
                node = self.children[pair][0];
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn matches_are_true_and_grow() {
        let data: Vec<u8> = (0..20_000u32).map(|n| (n.wrapping_mul(n / 7 + 3) >> 3) as u8 & 3).collect();
        let mut finder = Finder::new(15);
        let mut seen = 0;
        for at in 0..data.len() {
            let mut last = 2;
            finder.step(&data, at, Effort { depth: 50, nice: 100 }, |m| {
                let (length, from) = (m.length as usize, at - m.offset as usize);
                assert!(length > last && data[from..from + length] == data[at..at + length]);
                last = length;
                seen += 1;
            });
        }
        assert!(seen > 20_000);
    }
}
