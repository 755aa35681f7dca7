//! Writes down parsed segments, one after the other, as one LZX stream cut into frames.

use super::blocks::{Codes, Form};
use super::{huffman, *};

const PRETREE: usize = 20;
const VERBATIM: u32 = 1;
const ALIGNED: u32 = 2;
const UNCOMPRESSED: u32 = 3;

/// Bits, the highest first, in little-endian words of 16.
#[derive(Default)]
struct Bits {
    out: Vec<u8>,
    held: u64,
    count: u32,
}

impl Bits {
    fn put(&mut self, value: u32, count: u32) {
        self.held = self.held << count | u64::from(value);
        self.count += count;
        while self.count >= 16 {
            self.count -= 16;
            self.out.extend_from_slice(&((self.held >> self.count) as u16).to_le_bytes());
        }
    }

    fn align(&mut self) {
        if self.count > 0 {
            self.put(0, 16 - self.count);
        }
    }
}

/// One code with its words.
struct Words<'l> {
    lengths: &'l [u8],
    codes: Vec<u16>,
}

impl<'l> Words<'l> {
    fn new(lengths: &'l [u8]) -> Self {
        let mut codes = vec![0; lengths.len()];
        huffman::codes(lengths, &mut codes);
        Self { lengths, codes }
    }

    fn put(&self, bits: &mut Bits, symbol: usize) {
        bits.put(self.codes[symbol].into(), self.lengths[symbol].into());
    }
}

/// The stream of one folder.
pub(crate) struct Emitter {
    bits: Bits,
    begun: bool,
    main: [u8; MAX_MAIN],
    length: [u8; LENGTH_SYMBOLS],
    used: usize,
}

impl Emitter {
    pub fn new(window_bits: u8) -> Self {
        Self {
            bits: Bits::default(),
            begun: false,
            main: [0; MAX_MAIN],
            length: [0; LENGTH_SYMBOLS],
            used: LITERALS + slots(window_bits) * LENGTH_HEADERS,
        }
    }

    /// Writes a segment; hands out each frame's packed bytes with its number of plain ones.
    ///
    /// # Errors
    /// Those of `out`.
    pub fn segment<E>(&mut self, parsed: &Parsed, mut out: impl FnMut(&[u8], usize) -> Result<(), E>) -> Result<(), E> {
        if !self.begun {
            // No translation of x86 calls.
            self.bits.put(0, 1);
            self.begun = true;
        }
        let (mut frame, mut at, mut token) = (0, parsed.start, 0);
        for block in &parsed.blocks {
            let frames = &parsed.frames[frame..frame + block.frames];
            frame += block.frames;
            let end = at + block.plain;
            match &block.form {
                Form::Raw => {
                    self.bits.put(UNCOMPRESSED, 3);
                    self.bits.put(block.plain as u32 >> 8, 16);
                    self.bits.put(block.plain as u32 & 0xFF, 8);
                    self.bits.align();
                    let repeats = frames.last().map_or([1; REPEATS], |f| f.repeats);
                    for repeat in repeats {
                        // What the segment does not know it does not use either.
                        self.bits.out.extend_from_slice(&repeat.max(1).to_le_bytes());
                    }
                    for f in frames {
                        let plain = (end - at).min(FRAME);
                        self.bits.out.extend_from_slice(&parsed.data[at..at + plain]);
                        if plain % 2 == 1 {
                            self.bits.out.push(0);
                        }
                        at += plain;
                        token = f.end;
                        self.frame(plain, &mut out)?;
                    }
                }
                Form::Coded(codes) => {
                    self.header(block.plain as u32, codes);
                    let (main, length) = (Words::new(&codes.main[..self.used]), Words::new(&codes.length));
                    let aligned = codes.aligned.as_ref().map(|a| Words::new(a));
                    for f in frames {
                        for t in &parsed.tokens[token..f.end] {
                            put_token(&mut self.bits, t, &main, &length, aligned.as_ref());
                        }
                        token = f.end;
                        let plain = (end - at).min(FRAME);
                        at += plain;
                        self.frame(plain, &mut out)?;
                    }
                }
            }
        }
        Ok(())
    }

    fn frame<E>(&mut self, plain: usize, out: &mut impl FnMut(&[u8], usize) -> Result<(), E>) -> Result<(), E> {
        self.bits.align();
        let result = out(&self.bits.out, plain);
        self.bits.out.clear();
        result
    }

    fn header(&mut self, plain: u32, codes: &Codes) {
        self.bits.put(if codes.aligned.is_some() { ALIGNED } else { VERBATIM }, 3);
        self.bits.put(plain >> 8, 16);
        self.bits.put(plain & 0xFF, 8);
        for length in codes.aligned.iter().flatten() {
            self.bits.put((*length).into(), 3);
        }
        put_lengths(&mut self.bits, &self.main[..LITERALS], &codes.main[..LITERALS]);
        put_lengths(&mut self.bits, &self.main[LITERALS..self.used], &codes.main[LITERALS..self.used]);
        put_lengths(&mut self.bits, &self.length, &codes.length);
        self.main = codes.main;
        self.length = codes.length;
    }
}

fn put_token(bits: &mut Bits, t: &Token, main: &Words, length: &Words, aligned: Option<&Words>) {
    let value = t.value as usize;
    if t.length == 1 {
        return main.put(bits, value);
    }
    let header = (t.length as usize - MIN_MATCH).min(LENGTH_HEADERS - 1);
    main.put(bits, LITERALS + value * LENGTH_HEADERS + header);
    if header == LENGTH_HEADERS - 1 {
        length.put(bits, t.length as usize - MIN_MATCH - header);
    }
    let extra = extra_bits(value);
    match aligned {
        Some(aligned) if extra >= 3 => {
            bits.put(t.extra >> 3, extra - 3);
            aligned.put(bits, t.extra as usize & 7);
        }
        _ => bits.put(t.extra, extra),
    }
}

/// A step in the description of code lengths: a symbol of the pretree, and what follows it.
struct Step {
    symbol: u8,
    value: u32,
    bits: u32,
    /// Behind "the same again" stands another symbol.
    then: Option<u8>,
}

/// Describes code lengths by how they differ from the block's before.
fn put_lengths(bits: &mut Bits, before: &[u8], now: &[u8]) {
    let delta = |n: usize, length: u8| (before[n] + 17 - length) % 17;
    let mut steps = Vec::new();
    let mut n = 0;
    while n < now.len() {
        let run = now[n..].iter().take_while(|l| **l == now[n]).count();
        if now[n] == 0 && run >= 20 {
            let run = run.min(51);
            steps.push(Step { symbol: 18, value: run as u32 - 20, bits: 5, then: None });
            n += run;
        } else if now[n] == 0 && run >= 4 {
            let run = run.min(19);
            steps.push(Step { symbol: 17, value: run as u32 - 4, bits: 4, then: None });
            n += run;
        } else if run >= 4 {
            let run = run.min(5);
            steps.push(Step { symbol: 19, value: run as u32 - 4, bits: 1, then: Some(delta(n, now[n])) });
            n += run;
        } else {
            steps.push(Step { symbol: delta(n, now[n]), value: 0, bits: 0, then: None });
            n += 1;
        }
    }
    let mut counts = [0; PRETREE];
    for step in &steps {
        counts[step.symbol as usize] += 1;
        if let Some(then) = step.then {
            counts[then as usize] += 1;
        }
    }
    let mut lengths = [0; PRETREE];
    huffman::lengths(&counts, 15, &mut lengths);
    for length in lengths {
        bits.put(length.into(), 4);
    }
    let words = Words::new(&lengths);
    for step in steps {
        words.put(bits, step.symbol.into());
        bits.put(step.value, step.bits);
        if let Some(then) = step.then {
            words.put(bits, then.into());
        }
    }
}
