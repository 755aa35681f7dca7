//! What symbols cost, in fractions of a bit, estimated from how often they occurred. Whole numbers only: the bytes of
//! an archive must not depend on a machine's floating point library.

use super::*;

/// Parts of a bit.
pub(super) const UNIT: u32 = 64;

/// 64 × log2(1 + n/256), rounded down.
const FRACTIONS: [u8; 256] = {
    let mut table = [0; 256];
    let mut n = 0;
    while n < 256 {
        let mut mantissa = (256 + n as u64) << 23;
        let (mut bits, mut left) = (0u8, 6);
        while left > 0 {
            mantissa = (mantissa * mantissa) >> 31;
            bits <<= 1;
            if mantissa >= 1 << 32 {
                mantissa >>= 1;
                bits |= 1;
            }
            left -= 1;
        }
        table[n] = bits;
        n += 1;
    }
    table
};

/// 64 × log2 of a number, 0 for 0.
pub(super) fn log2(n: u32) -> u32 {
    if n == 0 {
        return 0;
    }
    let top = 31 - n.leading_zeros();
    let fraction = if top >= 8 { n >> (top - 8) } else { n << (8 - top) } & 0xFF;
    top * UNIT + u32::from(FRACTIONS[fraction as usize])
}

/// How often symbols occur.
#[derive(Clone)]
pub(super) struct Counts {
    pub main: [u32; MAX_MAIN],
    pub length: [u32; LENGTH_SYMBOLS],
    pub aligned: [u32; ALIGNED_SYMBOLS],
}

impl Counts {
    pub fn new() -> Self {
        Self { main: [0; MAX_MAIN], length: [0; LENGTH_SYMBOLS], aligned: [0; ALIGNED_SYMBOLS] }
    }

    pub fn of(tokens: &[Token]) -> Self {
        let mut counts = Self::new();
        for token in tokens {
            if token.length == 1 {
                counts.main[token.value as usize] += 1;
                continue;
            }
            let header = (token.length as usize - MIN_MATCH).min(LENGTH_HEADERS - 1);
            counts.main[LITERALS + token.value as usize * LENGTH_HEADERS + header] += 1;
            if header == LENGTH_HEADERS - 1 {
                counts.length[token.length as usize - MIN_MATCH - header] += 1;
            }
            if extra_bits(token.value.into()) >= 3 {
                counts.aligned[token.extra as usize & 7] += 1;
            }
        }
        counts
    }

    pub fn add(&mut self, other: &Self) {
        self.main.iter_mut().zip(other.main).for_each(|(a, b)| *a += b);
        self.length.iter_mut().zip(other.length).for_each(|(a, b)| *a += b);
        self.aligned.iter_mut().zip(other.aligned).for_each(|(a, b)| *a += b);
    }

    /// What all symbols take with codes made for them, without the codes' own description.
    pub fn entropy(&self) -> u64 {
        entropy(&self.main) + entropy(&self.length) + entropy(&self.aligned)
    }
}

fn entropy(counts: &[u32]) -> u64 {
    let total = log2(counts.iter().sum());
    counts.iter().map(|c| u64::from(*c) * u64::from(total - log2(*c))).sum()
}

/// What each choice costs.
pub(super) struct Costs {
    pub literal: [u32; LITERALS],
    /// By slot and length, with the extra bits but without those that the aligned code stands for.
    pub matches: Vec<[u32; MAX_MATCH + 1]>,
    pub aligned: [u32; ALIGNED_SYMBOLS],
}

fn symbol_costs(counts: &[u32], costs: &mut [u32]) {
    // A symbol that has not occurred may yet be worth its price: half an occurrence.
    let total = log2(counts.iter().sum::<u32>() * 2 + counts.len() as u32);
    for (cost, count) in costs.iter_mut().zip(counts) {
        *cost = total - log2(2 * count + 1);
    }
}

impl Costs {
    pub fn new(window_bits: u8) -> Self {
        Self {
            literal: [0; LITERALS],
            matches: vec![[0; MAX_MATCH + 1]; slots(window_bits)],
            aligned: [0; ALIGNED_SYMBOLS],
        }
    }

    /// A guess for the first bytes.
    pub fn guess(&mut self) {
        let mut counts = Counts::new();
        counts.main[..LITERALS].fill(40);
        for slot in 0..self.matches.len() {
            counts.main[LITERALS + slot * LENGTH_HEADERS..][..LENGTH_HEADERS].fill(if slot < REPEATS {
                60
            } else {
                12
            });
        }
        counts.length.iter_mut().enumerate().for_each(|(n, c)| *c = 300 / (n as u32 + 8));
        counts.aligned.fill(10);
        self.learn(&counts);
    }

    pub fn learn(&mut self, counts: &Counts) {
        let mut main = [0; MAX_MAIN];
        let mut length = [0; LENGTH_SYMBOLS];
        let used = LITERALS + self.matches.len() * LENGTH_HEADERS;
        symbol_costs(&counts.main[..used], &mut main[..used]);
        symbol_costs(&counts.length, &mut length);
        symbol_costs(&counts.aligned, &mut self.aligned);
        self.literal.copy_from_slice(&main[..LITERALS]);
        for (slot, costs) in self.matches.iter_mut().enumerate() {
            let extra = extra_bits(slot);
            let bits = if extra >= 3 { extra - 3 } else { extra } * UNIT;
            let headers = &main[LITERALS + slot * LENGTH_HEADERS..][..LENGTH_HEADERS];
            for (cost, header) in costs[MIN_MATCH..].iter_mut().zip(&headers[..7]) {
                *cost = header + bits;
            }
            let long = headers[7] + bits;
            for (cost, length) in costs[MIN_MATCH + 7..].iter_mut().zip(&length) {
                *cost = long + length;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logarithms_are_right_to_a_unit() {
        for n in (1..70_000u32).chain([u32::MAX]) {
            let exact = f64::from(n).log2() * 64.0;
            assert!((f64::from(log2(n)) - exact).abs() < 1.5, "{n}: {} beside {exact}", log2(n));
        }
    }
}
