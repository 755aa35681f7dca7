//! Chooses literals and matches for a segment: frame by frame the cheapest way through a graph whose edges are literals,
//! matches and repeated offsets, twice, the second time with the costs that the first way showed.

use super::blocks::{Block, divide};
use super::costs::{Costs, Counts};
use super::matches::{Effort, Finder, Match, equal};
use super::*;

/// A match of this length is good enough. It is the same for every search: a suffix tree in which some were cut short
/// earlier than others is no longer in order.
const NICE: usize = 36;
/// Up to which search is worth its time; tried on programs and their data.
const EFFORT: Effort = Effort { depth: 24, nice: NICE };
/// For bytes before the segment, which only have to be found.
const HISTORY: Effort = Effort { depth: 8, nice: NICE };

/// A segment with the choices made for it.
pub(crate) struct Parsed {
    /// The plain bytes, with those before the segment.
    pub data: Vec<u8>,
    /// Where the segment begins.
    pub start: usize,
    pub tokens: Vec<Token>,
    /// Where each frame's tokens end.
    pub frames: Vec<Frame>,
    pub blocks: Vec<Block>,
}

#[derive(Clone, Copy)]
pub(crate) struct Frame {
    /// Where its tokens end.
    pub end: usize,
    /// The repeated offsets behind it; 0 where the segment does not know them.
    pub repeats: [u32; REPEATS],
}

#[derive(Clone, Copy)]
struct Node {
    cost: u32,
    /// The repeated offset or the formatted offset of the match that leads here.
    formatted: u32,
    length: u16,
    repeats: [u32; REPEATS],
}

const FAR: Node = Node { cost: u32::MAX, formatted: 0, length: 0, repeats: [0; REPEATS] };

/// A worker's tables: made once for a thread, used for many segments.
pub(crate) struct Parser {
    window_bits: u8,
    finder: Finder,
    costs: Costs,
    found: Vec<Match>,
    /// Where each position's matches end in `found`.
    ends: Vec<u32>,
    nodes: Vec<Node>,
}

fn after(repeats: [u32; REPEATS], formatted: u32) -> [u32; REPEATS] {
    let [a, b, c] = repeats;
    match formatted {
        0 => repeats,
        1 => [b, a, c],
        2 => [c, b, a],
        explicit => [explicit - 2, a, b],
    }
}

impl Parser {
    pub fn new(window_bits: u8) -> Self {
        Self {
            window_bits,
            finder: Finder::new(window_bits),
            costs: Costs::new(window_bits),
            found: Vec::new(),
            ends: Vec::new(),
            nodes: vec![FAR; FRAME + 1],
        }
    }

    /// Makes the choices for `data[start..]`; what stands before may be referred to. `first`: a folder begins here.
    pub fn parse(&mut self, data: Vec<u8>, start: usize, first: bool) -> Parsed {
        self.finder.clear();
        for at in 0..start {
            self.finder.step(&data, at, HISTORY, |_| {});
        }
        self.costs.guess();
        let mut repeats = if first { [1; REPEATS] } else { [0; REPEATS] };
        let (mut tokens, mut frames, mut counts) = (Vec::new(), Vec::new(), Vec::new());
        let mut at = start;
        while at < data.len() {
            let len = (data.len() - at).min(FRAME);
            self.find(&data, at, len);
            let begin = tokens.len();
            let mut count = Counts::new();
            for _ in 0..2 {
                tokens.truncate(begin);
                self.cheapest(&data, at, len, repeats);
                self.walk_back(&data, at, len, &mut tokens);
                count = Counts::of(&tokens[begin..]);
                self.costs.learn(&count);
            }
            repeats = self.nodes[len].repeats;
            frames.push(Frame { end: tokens.len(), repeats });
            counts.push(count);
            at += len;
        }
        let plain = data.len() - start;
        let blocks = divide(&counts, &frames, plain, self.window_bits);
        Parsed { data, start, tokens, frames, blocks }
    }

    /// Looks for matches at each position of a frame.
    fn find(&mut self, data: &[u8], from: usize, len: usize) {
        self.found.clear();
        self.ends.clear();
        let mut quiet = 0;
        for n in 0..len {
            let before = self.found.len();
            if quiet > 0 {
                quiet -= 1;
                self.finder.step(data, from + n, HISTORY, |_| {});
            } else {
                self.finder.step(data, from + n, EFFORT, |m| self.found.push(m));
                let longest = self.found[before..].last().map_or(0, |m| m.length as usize);
                if longest >= EFFORT.nice {
                    quiet = longest - 1;
                }
            }
            self.ends.push(self.found.len() as u32);
        }
    }

    /// The cheapest way to every position of a frame.
    fn cheapest(&mut self, data: &[u8], from: usize, len: usize, repeats: [u32; REPEATS]) {
        let (nodes, costs) = (&mut self.nodes[..=len], &self.costs);
        nodes.fill(FAR);
        nodes[0] = Node { cost: 0, formatted: 0, length: 0, repeats };
        let mut skip_to = 0;
        for n in 0..len {
            let node = &nodes[n];
            let parent = n - node.length as usize;
            let repeats = match node.length {
                0 => node.repeats,
                1 => nodes[parent].repeats,
                _ => after(nodes[parent].repeats, node.formatted),
            };
            nodes[n].repeats = repeats;
            if n < skip_to {
                continue;
            }
            let cost = nodes[n].cost;
            let mut reach = |length: usize, cost: u32, formatted: u32| {
                let to = &mut nodes[n + length];
                if cost < to.cost {
                    (to.cost, to.length, to.formatted) = (cost, length as u16, formatted);
                }
            };
            let at = from + n;
            reach(1, cost + costs.literal[data[at] as usize], 0);
            let max = (len - n).min(MAX_MATCH);
            if max < MIN_MATCH {
                continue;
            }
            let mut longest_repeat = 1;
            for (slot, offset) in repeats.iter().enumerate() {
                if *offset == 0 || *offset as usize > at || data[at - *offset as usize] != data[at] {
                    continue;
                }
                let length = equal(data, at - *offset as usize, at, 0, max);
                if length >= EFFORT.nice && length > longest_repeat {
                    reach(length, cost + costs.matches[slot][length], slot as u32);
                    skip_to = n + length;
                } else {
                    for l in MIN_MATCH..=length {
                        reach(l, cost + costs.matches[slot][l], slot as u32);
                    }
                }
                longest_repeat = longest_repeat.max(length);
            }
            if skip_to > n {
                continue;
            }
            let begin = if n == 0 { 0 } else { self.ends[n - 1] as usize };
            let mut shortest = MIN_MATCH;
            for found in &self.found[begin..self.ends[n] as usize] {
                let length = (found.length as usize).min(max);
                let (slot, formatted) = (slot_of(found.offset), found.offset + 2);
                let by_length = &costs.matches[slot];
                let cost = cost + if extra_bits(slot) >= 3 { costs.aligned[formatted as usize & 7] } else { 0 };
                if length >= EFFORT.nice {
                    reach(length, cost + by_length[length], formatted);
                    skip_to = n + length;
                    continue;
                }
                for (l, price) in by_length.iter().enumerate().take(length + 1).skip(shortest) {
                    reach(l, cost + price, formatted);
                }
                shortest = length + 1;
            }
        }
        let parent = &nodes[len - nodes[len].length as usize];
        let last = nodes[len];
        nodes[len].repeats = if last.length == 1 { parent.repeats } else { after(parent.repeats, last.formatted) };
    }

    fn walk_back(&self, data: &[u8], from: usize, len: usize, tokens: &mut Vec<Token>) {
        let begin = tokens.len();
        let mut n = len;
        while n > 0 {
            let Node { formatted, length, .. } = self.nodes[n];
            n -= length as usize;
            tokens.push(if length == 1 {
                Token { extra: 0, length, value: data[from + n] }
            } else if formatted < REPEATS as u32 {
                Token { extra: 0, length, value: formatted as u8 }
            } else {
                let slot = slot_of(formatted - 2);
                Token { extra: formatted - SLOT_BASE[slot], length, value: slot as u8 }
            });
        }
        tokens[begin..].reverse();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a decoder makes of the tokens.
    fn replay(parsed: &Parsed) -> Vec<u8> {
        let mut out = parsed.data[..parsed.start].to_vec();
        let mut repeats = [1u32; REPEATS];
        for token in &parsed.tokens {
            if token.length == 1 {
                out.push(token.value);
                continue;
            }
            let slot = token.value as usize;
            let formatted = if slot < REPEATS { slot as u32 } else { SLOT_BASE[slot] + token.extra };
            repeats = after(repeats, formatted);
            for _ in 0..token.length {
                out.push(out[out.len() - repeats[0] as usize]);
            }
        }
        out
    }

    /// Long runs of a few patterns: what makes matches long, and trees of suffixes deep.
    fn patterns(seed: u32, len: usize) -> Vec<u8> {
        let (mut state, mut out) = (seed | 1, Vec::new());
        let mut next = || {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state
        };
        while out.len() < len {
            let (word, times) = (next() % 3, next() % 40);
            let kind = next() % 5;
            for n in 0..times {
                let odd = if kind == 0 && n % 7 == next() % 7 { 1 } else { 0 };
                out.extend_from_slice(&[0xA9 ^ (word as u8) << 3 ^ odd, 0x61, 0x81, 2]);
            }
        }
        out.truncate(len);
        out
    }

    #[test]
    fn choices_make_the_bytes_that_they_stand_for() {
        for seed in 1..60 {
            let data = patterns(seed, 60_000);
            for start in [0, 20_000] {
                let parsed = Parser::new(15 + (seed % 7) as u8).parse(data.clone(), start, start == 0);
                assert!(replay(&parsed) == data, "seed {seed}, from {start}");
            }
        }
    }
}
