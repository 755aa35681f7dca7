//! Digests of a program's pages, which a signature can hold beside the one of the whole: a system that reads a program page by
//! page can tell a changed one without reading the rest.
//!
//! Source: Microsoft's "Windows Authenticode Portable Executable Signature Format" names the attribute; the form of the table is
//! known from signed programs: for each page its place in the file (four bytes) and its digest, the headers first, then the
//! pages of the sections in the order of the section table, and at the end the place where the last section ends, with zeros.

use crate::signature::{SignedParts, bytes, number};
use crate::{Error, Result};
use std::io::{Read, Seek, SeekFrom};

/// The sections of a program are in pages of as many bytes as its headers say, which are never fewer or more than these.
const SMALLEST: u64 = 512;
const LARGEST: u64 = 1 << 20;

impl SignedParts {
    /// The table of the digests of all pages; `digest` makes one, of `length` bytes, out of parts.
    ///
    /// # Errors
    /// The medium's; [`Error::Format`] when sections overlap the headers or lie outside of what is signed.
    pub fn pages(
        &self,
        file: &mut (impl Read + Seek),
        length: usize,
        mut digest: impl FnMut(&[&[u8]]) -> Vec<u8>,
    ) -> Result<Vec<u8>> {
        let headers = number(file, 0x3C)?;
        let sections = u64::from(u16::from_le_bytes(bytes(file, headers + 6)?));
        let optional = u64::from(u16::from_le_bytes(bytes(file, headers + 20)?));
        let page = number(file, headers + 24 + 32)?;
        let own = number(file, headers + 24 + 60)?;
        let wrong = |what: &str| Error::at(headers as usize, what.to_owned());
        if !page.is_power_of_two() || !(SMALLEST..=LARGEST).contains(&page) {
            return Err(wrong("its pages have a size that no system uses"));
        }
        let table = headers + 24 + optional;
        if own < self.entry + 8 || own < table + sections * 40 || own > page || own > self.end {
            return Err(wrong("its headers don't fit into the first page"));
        }
        let mut out = Vec::new();
        let mut add = |at: u64, digest: &[u8]| {
            // Programs that are signed have less than 4 GiB.
            out.extend((at as u32).to_le_bytes());
            out.extend(digest);
        };
        let zeros = vec![0; page as usize];
        let mut buffer = vec![0; page as usize];
        file.seek(SeekFrom::Start(0))?;
        file.read_exact(&mut buffer[..own as usize])?;
        let [sum, entry] = [self.checksum, self.entry].map(|at| at as usize);
        let rest = [&buffer[..sum], &buffer[sum + 4..entry], &buffer[entry + 8..own as usize]];
        add(0, &digest(&[rest[0], rest[1], rest[2], &zeros[own as usize..]]));
        let mut last = own;
        for n in 0..sections {
            let (size, at) = (number(file, table + n * 40 + 16)?, number(file, table + n * 40 + 20)?);
            if size == 0 {
                continue;
            }
            if at < last || at + size > self.end {
                return Err(wrong("its sections overlap, or lie outside of what is signed"));
            }
            last = at + size;
            file.seek(SeekFrom::Start(at))?;
            for start in (at..last).step_by(page as usize) {
                let long = (last - start).min(page) as usize;
                file.read_exact(&mut buffer[..long])?;
                add(start, &digest(&[&buffer[..long], &zeros[long..]]));
            }
        }
        add(last, &vec![0; length]);
        Ok(out)
    }
}
