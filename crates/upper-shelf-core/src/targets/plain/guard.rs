//! Stands in front of a reader of tar archives: it follows the headers as they pass, and ends the reading before a name, an
//! extension or a count takes more than the package may. The reader behind it keeps whole names in memory.

use crate::budget::Budget;
use std::io::{self, Read};
use tar::{EntryType, Header, PaxExtensions};

/// A block of the format (POSIX.1-2017, pax).
const BLOCK: u64 = 512;

/// What passes next.
enum Next {
    /// A header; so many of its bytes are there.
    Header(usize),
    /// More of a sparse file's map.
    Map(usize),
    /// What belongs to an entry and its padding; kept if it is an extension.
    Body { left: u64, kept: Option<Vec<u8>>, length: u64 },
}

/// The guard.
pub struct Guard<'b, R> {
    inner: R,
    budget: &'b Budget,
    next: Next,
    block: [u8; BLOCK as usize],
    /// The length that an extension gives the next entry.
    stated: Option<u64>,
}

impl<'b, R> Guard<'b, R> {
    /// In front of an archive's plain bytes.
    pub fn new(inner: R, budget: &'b Budget) -> Self {
        Self { inner, budget, next: Next::Header(0), block: [0; BLOCK as usize], stated: None }
    }

    /// A header or a part of a map is whole.
    fn begin(&mut self, header: &Header) -> io::Result<()> {
        let kind = header.entry_type();
        let is_extension = matches!(
            kind,
            EntryType::GNULongName | EntryType::GNULongLink | EntryType::XHeader | EntryType::XGlobalHeader
        );
        // Blocks of zeros end an archive; what follows is no entry.
        let stored = if self.block == [0; BLOCK as usize] { 0 } else { header.entry_size()? };
        let length = if is_extension { stored } else { self.stated.take().unwrap_or(stored) };
        if is_extension {
            self.budget.metadata(length)?;
        }
        let padded = length.checked_next_multiple_of(BLOCK).ok_or_else(|| io::Error::other("an entry is too long"))?;
        let kept = (kind == EntryType::XHeader).then(Vec::new);
        self.next = match padded {
            0 => Next::Header(0),
            left => Next::Body { left, kept, length },
        };
        Ok(())
    }

    fn pass(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            match &mut self.next {
                Next::Header(have) | Next::Map(have) => {
                    let n = bytes.len().min(self.block.len() - *have);
                    self.block[*have..*have + n].copy_from_slice(&bytes[..n]);
                    *have += n;
                    bytes = &bytes[n..];
                    if *have < self.block.len() {
                        continue;
                    }
                    let is_map = matches!(self.next, Next::Map(_));
                    let header = Header::from_byte_slice(&self.block).clone();
                    // GNU tar: whether more of the map follows a header, and a part of it.
                    let sparse = !is_map && header.entry_type() == EntryType::GNUSparse;
                    if sparse {
                        self.stated.get_or_insert(header.entry_size()?);
                    }
                    let follows = if is_map { self.block[504] != 0 } else { sparse && self.block[482] != 0 };
                    if follows {
                        self.budget.metadata(BLOCK)?;
                        self.next = Next::Map(0);
                    } else if is_map {
                        let length = self.stated.take().unwrap_or(0);
                        let left = length.next_multiple_of(BLOCK);
                        self.next = if left == 0 { Next::Header(0) } else { Next::Body { left, kept: None, length } };
                    } else {
                        self.begin(&header)?;
                    }
                }
                Next::Body { left, kept, length } => {
                    let n = usize::try_from(*left).unwrap_or(usize::MAX).min(bytes.len());
                    if let Some(kept) = kept {
                        kept.extend_from_slice(&bytes[..n]);
                    }
                    *left -= n as u64;
                    bytes = &bytes[n..];
                    if *left == 0 {
                        if let Some(kept) = kept {
                            let records = &kept[..usize::try_from(*length).unwrap_or(kept.len()).min(kept.len())];
                            let size = PaxExtensions::new(records)
                                .flatten()
                                .find(|e| e.key_bytes() == b"size")
                                .and_then(|e| e.value().ok()?.parse().ok());
                            self.stated = size.or(self.stated);
                        }
                        self.next = Next::Header(0);
                    }
                }
            }
        }
        Ok(())
    }
}

impl<R: Read> Read for Guard<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(into)?;
        self.pass(&into[..n])?;
        Ok(n)
    }
}
