//! Blocks: that each belongs to one file at most, and that the bitmap and the counts know it.

use super::Findings;
use super::catalog::Found;
use crate::Result;
use crate::read::{FileReader, Span, Volume};
use crate::structs::*;
use read_at::ReadAt;
use std::fmt;
use std::io::Read;

/// Whose blocks they are.
#[derive(Clone, Copy)]
enum Who {
    Own(&'static str),
    File(u32),
}

impl fmt::Display for Who {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        match self {
            Self::Own(name) => f.write_str(name),
            Self::File(cnid) => write!(f, "file {cnid}"),
        }
    }
}

/// Compares what all forks hold with the bitmap.
pub fn check<R: ReadAt>(volume: &Volume<R>, found: Vec<Found>, findings: &mut Findings) -> Result<()> {
    let header = &volume.header;
    let (block, blocks) = (u64::from(header.block_size.get()), header.blocks.get());
    // Blocks by where they begin, and whose they are.
    let mut spans: Vec<(Span, Who)> = Vec::new();
    let own = [
        (cnid::ALLOCATION, header.allocation, "the bitmap"),
        (cnid::EXTENTS, header.extents, "the extents tree"),
        (cnid::CATALOG, header.catalog, "the catalog"),
        (cnid::ATTRIBUTES, header.attribute_file, "the attributes tree"),
    ];
    let own = own.into_iter().map(|(cnid, fork, name)| (cnid, 0, fork, Who::Own(name)));
    let others = found.into_iter().map(|(cnid, kind, fork)| (cnid, kind, fork, Who::File(cnid)));
    for (cnid, kind, fork, who) in own.chain(others) {
        let place = volume.place(&fork, cnid, kind)?;
        let count: u64 = place.spans.iter().map(|s| u64::from(s.count)).sum();
        findings.same(&format!("blocks of {who}"), u64::from(fork.blocks.get()), count);
        spans.extend(place.spans.iter().map(|s| (*s, who)));
    }
    // The first blocks hold the header, the last ones its copy.
    let start = (HEADER_AT + 512).div_ceil(block) as u32;
    spans.push((Span { start: 0, count: start }, Who::Own("the header")));
    let end = (HEADER_AT.div_ceil(block) as u32).min(blocks);
    spans.push((Span { start: blocks - end, count: end }, Who::Own("the header's copy")));
    spans.sort_by_key(|(s, _)| (s.start, s.count));

    let mut bitmap =
        FileReader { source: &volume.source, place: volume.place(&header.allocation, cnid::ALLOCATION, 0)?, at: 0 };
    let mut bits = Bits { reader: &mut bitmap, buffer: vec![0; 1 << 16], length: 0, at: 0 };
    let (mut next, mut used) = (0, 0);
    for (span, who) in &spans {
        if span.start < next {
            findings.add(format!("block {} belongs to {who} and to another", span.start));
            continue;
        }
        bits.expect(span.start - next, false, next, findings)?;
        bits.expect(span.count, true, span.start, findings)?;
        next = span.start + span.count;
        used += span.count;
    }
    bits.expect(blocks.saturating_sub(next), false, next, findings)?;
    findings.same("free blocks", header.free_blocks.get(), blocks.saturating_sub(used));
    Ok(())
}

struct Bits<'b, R: Read> {
    reader: &'b mut R,
    buffer: Vec<u8>,
    /// Bits in the buffer, and how many of them have been looked at.
    length: usize,
    at: usize,
}

impl<R: Read> Bits<'_, R> {
    /// The next bits all have to be this.
    fn expect(&mut self, count: u32, set: bool, from: u32, findings: &mut Findings) -> Result<()> {
        let mut said = false;
        for n in 0..count {
            if self.at == self.length {
                self.length = self.reader.read(&mut self.buffer)? * 8;
                self.at = 0;
                if self.length == 0 {
                    findings.add("the bitmap ends too early");
                    return Ok(());
                }
            }
            let bit = self.buffer[self.at / 8] & (0x80 >> (self.at % 8)) != 0;
            self.at += 1;
            if bit != set && !said {
                findings.add(format!("the bitmap is wrong for block {}", from + n));
                said = true;
            }
        }
        Ok(())
    }
}
