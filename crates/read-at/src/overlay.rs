//! A file that is put together of parts of another one and of bytes that lie over it.

use crate::ReadAt;
use std::io;

#[derive(Debug, Clone)]
enum What {
    /// The base's bytes from here on.
    Base(u64),
    Bytes(Vec<u8>),
    Zeros,
}

#[derive(Debug, Clone)]
struct Segment {
    start: u64,
    length: u64,
    what: What,
}

/// A file that is put together of parts of another one and of other bytes; nothing of it is copied.
#[derive(Debug, Clone)]
pub struct Overlay<R> {
    base: R,
    /// One after the other, none of them empty.
    segments: Vec<Segment>,
}

impl<R> Overlay<R> {
    /// Nothing of a file.
    pub fn new(base: R) -> Self {
        Self { base, segments: Vec::new() }
    }

    /// Its length, bytes.
    pub fn size(&self) -> u64 {
        self.segments.last().map_or(0, |last| last.start + last.length)
    }

    fn push(&mut self, length: u64, what: What) {
        if length > 0 {
            self.segments.push(Segment { start: self.size(), length, what });
        }
    }

    /// Adds bytes of the file.
    pub fn keep(&mut self, from: u64, length: u64) {
        self.push(length, What::Base(from));
    }

    /// Adds other bytes.
    pub fn add(&mut self, bytes: Vec<u8>) {
        self.push(bytes.len() as u64, What::Bytes(bytes));
    }

    /// Adds zeros up to a length, if it is not as long already.
    pub fn fill(&mut self, length: u64) {
        self.push(length.saturating_sub(self.size()), What::Zeros);
    }

    /// Puts other bytes in the place of those from `at` on; what would be behind the end is left out.
    pub fn patch(&mut self, at: u64, bytes: &[u8]) {
        let end = at.saturating_add(bytes.len() as u64).min(self.size());
        if at >= end {
            return;
        }
        let bytes = &bytes[..(end - at) as usize];
        let mut all = Vec::with_capacity(self.segments.len() + 2);
        for segment in self.segments.drain(..) {
            let over = segment.start + segment.length;
            if segment.start < at {
                all.push(part(&segment, segment.start, at.min(over)));
            }
            if segment.start <= at && at < over {
                all.push(Segment { start: at, length: end - at, what: What::Bytes(bytes.to_vec()) });
            }
            if over > end {
                all.push(part(&segment, segment.start.max(end), over));
            }
        }
        self.segments = all;
    }

    /// The same over another file with the same bytes.
    pub fn over<O>(&self, base: O) -> Overlay<O> {
        Overlay { base, segments: self.segments.clone() }
    }
}

/// What stands in a segment from `from` to `to`.
fn part(segment: &Segment, from: u64, to: u64) -> Segment {
    let skipped = from - segment.start;
    let what = match &segment.what {
        What::Base(at) => What::Base(at + skipped),
        What::Bytes(bytes) => What::Bytes(bytes[skipped as usize..(to - segment.start) as usize].to_vec()),
        What::Zeros => What::Zeros,
    };
    Segment { start: from, length: to - from, what }
}

impl<R: ReadAt> ReadAt for Overlay<R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let mut at = offset;
        let mut rest = buffer;
        let mut next = self.segments.partition_point(|segment| segment.start + segment.length <= offset);
        while !rest.is_empty() {
            let segment = self.segments.get(next).ok_or(io::ErrorKind::UnexpectedEof)?;
            let skipped = at - segment.start;
            let n = (segment.length - skipped).min(rest.len() as u64) as usize;
            let (here, behind) = rest.split_at_mut(n);
            match &segment.what {
                What::Base(from) => self.base.read_exact_at(here, from + skipped)?,
                What::Bytes(bytes) => here.copy_from_slice(&bytes[skipped as usize..skipped as usize + n]),
                What::Zeros => here.fill(0),
            }
            (rest, at, next) = (behind, at + n as u64, next + 1);
        }
        Ok(())
    }

    fn length(&self) -> io::Result<u64> {
        Ok(self.size())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(overlay: &Overlay<Vec<u8>>) -> Vec<u8> {
        let mut bytes = vec![0xEE; overlay.size() as usize];
        overlay.read_exact_at(&mut bytes, 0).expect("all of it");
        bytes
    }

    #[test]
    fn patches_over_every_seam_give_what_patched_bytes_give() {
        let base: Vec<u8> = (1..=20).collect();
        let made = || {
            let mut overlay = Overlay::new(base.clone());
            overlay.keep(4, 6);
            overlay.fill(9);
            overlay.add(vec![100, 101, 102]);
            overlay.keep(0, 3);
            overlay
        };
        let plain = vec![5, 6, 7, 8, 9, 10, 0, 0, 0, 100, 101, 102, 1, 2, 3];
        assert_eq!(all(&made()), plain);
        for at in 0..17 {
            for length in 0..8 {
                let bytes: Vec<u8> = (200..200 + length).collect();
                let (mut patched, mut wanted) = (made(), plain.clone());
                patched.patch(at, &bytes);
                for (place, byte) in (at as usize..).zip(&bytes).filter(|(place, _)| *place < plain.len()) {
                    wanted[place] = *byte;
                }
                assert_eq!(all(&patched), wanted, "{length} bytes at {at}");
                let mut from = [0; 3];
                patched.read_exact_at(&mut from, 11).expect("inside");
                assert_eq!(from, wanted[11..14], "read from the middle");
            }
        }
        assert!(made().read_exact_at(&mut [0; 2], 14).is_err(), "behind its end");
    }
}
