//! Bytes in the order of the network, each length checked.

use format_error::{Error, Result};

/// Bytes that are read one after the other.
#[derive(Debug, Clone)]
pub struct Bytes<'b> {
    all: &'b [u8],
    at: usize,
    /// Where they begin in the file.
    start: usize,
}

impl<'b> Bytes<'b> {
    pub fn new(all: &'b [u8]) -> Self {
        Self { all, at: 0, start: 0 }
    }

    /// Where the next byte stands in the file.
    pub fn offset(&self) -> usize {
        self.start + self.at
    }

    fn some(&mut self, count: usize) -> Result<&'b [u8]> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.all.len());
        let end = end.ok_or_else(|| Error::at(self.offset(), "it ends too early"))?;
        let some = &self.all[self.at..end];
        self.at = end;
        Ok(some)
    }

    pub fn take(&mut self, count: usize) -> Result<Self> {
        let start = self.offset();
        Ok(Self { all: self.some(count)?, at: 0, start })
    }

    pub fn rest(&self) -> &'b [u8] {
        &self.all[self.at..]
    }

    pub fn skip(&mut self, count: usize) -> Result<()> {
        self.some(count).map(|_| ())
    }

    pub fn u8(&mut self) -> Result<u8> {
        Ok(self.some(1)?[0])
    }

    pub fn u16(&mut self) -> Result<u16> {
        let some = self.some(2)?;
        Ok(u16::from_be_bytes([some[0], some[1]]))
    }

    pub fn u32(&mut self) -> Result<u32> {
        let some = self.some(4)?;
        Ok(u32::from_be_bytes([some[0], some[1], some[2], some[3]]))
    }

    /// The next number, which stays the next one.
    pub fn peek_u16(&self) -> Result<u16> {
        self.clone().u16()
    }
}
