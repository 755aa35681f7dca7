//! Where signatures stand in a program, and which of its bytes they sign.
//!
//! Source: Microsoft's "PE Format" (the attribute certificate table) and "Windows Authenticode Portable Executable
//! Signature Format". Outside of every digest are the checksum in the headers, the entry that says where the table is, and
//! the table itself; so the table is read in one form only: it ends the file, its parts begin at multiples of eight bytes,
//! and what fills the gaps is zero.

use crate::sum::checksum;
use crate::{Error, Result, set_checksum};
use read_at::{Cursor, Overlay, ReadAt};
use std::io::{Read, Seek, SeekFrom, Write};

/// The number of the directory's entry that says where the table is.
const ENTRY: u64 = 4;
/// The version of the table's parts that holds signed messages.
const REVISION: u16 = 0x0200;
/// The kind of such a part.
const SIGNED_DATA: u16 = 0x0002;
/// Parts begin at multiples of it.
const ALIGNMENT: u64 = 8;
/// The longest table that is read: signatures with timestamps and page hashes have some 100,000 bytes.
const LONGEST_TABLE: u64 = 16 << 20;

/// Where what is not signed stands, from the beginning of the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SignedParts {
    /// The checksum, four bytes.
    pub(crate) checksum: u64,
    /// The directory's entry, eight bytes.
    pub(crate) entry: u64,
    /// Where the table begins; where the file ends, if it has none.
    pub(crate) end: u64,
    /// The length of the file.
    length: u64,
}

pub(crate) fn bytes<const N: usize>(file: &mut (impl Read + Seek), at: u64) -> Result<[u8; N]> {
    let mut bytes = [0; N];
    file.seek(SeekFrom::Start(at))?;
    match file.read_exact(&mut bytes) {
        Err(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => {
            Err(Error::at(at as usize, "the file ends too early"))
        }
        result => Ok(result.map(|()| bytes)?),
    }
}

pub(crate) fn number(file: &mut (impl Read + Seek), at: u64) -> Result<u64> {
    Ok(u32::from_le_bytes(bytes(file, at)?).into())
}

impl SignedParts {
    /// Finds them.
    ///
    /// # Errors
    /// [`Error::Format`] for what is no program, has no room for a signature, or has a table in another form.
    pub fn find(file: &mut (impl Read + Seek)) -> Result<Self> {
        let length = file.seek(SeekFrom::End(0))?;
        if &bytes::<2>(file, 0)? != b"MZ" {
            return Err(Error::at(0, "not a PE file"));
        }
        let headers = number(file, 0x3C)?;
        if &bytes::<4>(file, headers)? != b"PE\0\0" {
            return Err(Error::at(headers as usize, "the PE signature is missing"));
        }
        let optional = headers + 24;
        let directory = optional
            + match u16::from_le_bytes(bytes(file, optional)?) {
                0x10B => 96,
                0x20B => 112,
                other => return Err(Error::at(optional as usize, format!("an optional header of type {other:#x}"))),
            };
        let room = u64::from(u16::from_le_bytes(bytes(file, headers + 20)?));
        let entry = directory + ENTRY * 8;
        if number(file, directory - 4)? <= ENTRY || entry + 8 > optional + room {
            return Err(Error::at(directory as usize, "its headers have no room for a signature"));
        }
        let (at, size) = (number(file, entry)?, number(file, entry + 4)?);
        let end = if size == 0 { length } else { at };
        if size != 0 && (at % ALIGNMENT != 0 || at < entry + 8 || at + size != length || size > LONGEST_TABLE) {
            let what = format!("the table of signatures is said to be {size} bytes at {at}, and does not end the file");
            return Err(Error::at(entry as usize, what));
        }
        Ok(Self { checksum: optional + 64, entry, end, length })
    }

    /// Whether there is a signature.
    pub fn is_signed(&self) -> bool {
        self.end < self.length
    }

    /// Gives out the bytes that are signed, in one pass, filled with zeros up to where a table could begin.
    ///
    /// # Errors
    /// The medium's; or the file has become shorter.
    pub fn feed(&self, file: &mut (impl Read + Seek), mut take: impl FnMut(&[u8])) -> Result<()> {
        let mut buffer = vec![0; 1 << 16];
        for (from, to) in [(0, self.checksum), (self.checksum + 4, self.entry), (self.entry + 8, self.end)] {
            file.seek(SeekFrom::Start(from))?;
            let mut left = to - from;
            while left > 0 {
                let most = left.min(buffer.len() as u64) as usize;
                file.read_exact(&mut buffer[..most])?;
                take(&buffer[..most]);
                left -= most as u64;
            }
        }
        take(&vec![0; (self.end.next_multiple_of(ALIGNMENT) - self.end) as usize]);
        Ok(())
    }

    /// The signed messages in its table, in their order.
    ///
    /// # Errors
    /// [`Error::Format`] when the table is not in the one form that is read.
    pub fn signatures(&self, file: &mut (impl Read + Seek)) -> Result<Vec<Vec<u8>>> {
        file.seek(SeekFrom::Start(self.end))?;
        let mut table = vec![0; (self.length - self.end) as usize];
        file.read_exact(&mut table)?;
        let (mut all, mut at) = (Vec::new(), 0);
        while at < table.len() {
            let here = self.end as usize + at;
            let head = table.get(at..at + 8).ok_or_else(|| Error::at(here, "a signature is cut off"))?;
            let length = u32::from_le_bytes([head[0], head[1], head[2], head[3]]) as usize;
            let (revision, kind) = (u16::from_le_bytes([head[4], head[5]]), u16::from_le_bytes([head[6], head[7]]));
            if (revision, kind) != (REVISION, SIGNED_DATA) {
                return Err(Error::at(here, format!("a signature of version {revision:#x} and kind {kind}")));
            }
            let next = at.saturating_add(length).next_multiple_of(ALIGNMENT as usize);
            let (true, Some(whole)) = (length > 8, table.get(at..next)) else {
                return Err(Error::at(here, format!("a signature of {length} bytes in a table of {}", table.len())));
            };
            // The message says how long it is; what fills up behind it is not signed.
            let inner = &whole[8..length];
            let own = message_length(inner).filter(|own| *own <= inner.len());
            let own = own.ok_or_else(|| Error::at(here + 8, "a signature that is no signed message"))?;
            if whole[8 + own..].iter().any(|byte| *byte != 0) || inner.len() - own >= ALIGNMENT as usize {
                return Err(Error::at(here + 8 + own, "something is hidden behind a signature"));
            }
            all.push(inner[..own].to_vec());
            at = next;
        }
        Ok(all)
    }

    /// The file as it is with these signatures, without a copy of it: what changes lies over what stays.
    ///
    /// # Errors
    /// As [`SignedParts::put`].
    pub fn signed<R: ReadAt>(&self, base: R, signatures: &[Vec<u8>]) -> Result<Overlay<R>> {
        let (padding, table, entry) = self.table(signatures)?;
        let mut overlay = Overlay::new(base);
        overlay.keep(0, self.end);
        overlay.add([padding, table].concat());
        overlay.patch(self.entry, &entry);
        let (at, sum) = checksum(&mut Cursor::new(&overlay))?;
        overlay.patch(at, &sum.to_le_bytes());
        Ok(overlay)
    }

    /// What fills up the file, the table behind that, and the directory's entry for it.
    fn table(&self, signatures: &[Vec<u8>]) -> Result<(Vec<u8>, Vec<u8>, [u8; 8])> {
        let mut table = Vec::new();
        for signature in signatures {
            let length = (signature.len() as u64 + 8).next_multiple_of(ALIGNMENT);
            table.extend((length as u32).to_le_bytes());
            table.extend(REVISION.to_le_bytes());
            table.extend(SIGNED_DATA.to_le_bytes());
            table.extend(signature);
            table.resize(table.len().next_multiple_of(ALIGNMENT as usize), 0);
        }
        if table.is_empty() {
            return Ok((Vec::new(), table, [0; 8]));
        }
        let at = self.end.next_multiple_of(ALIGNMENT);
        let too_long = || Error::at(self.entry as usize, "programs of more than 4 GiB can't be signed");
        let place = u32::try_from(at + table.len() as u64).map(|_| at as u32).map_err(|_| too_long())?;
        let mut entry = [0; 8];
        entry[..4].copy_from_slice(&place.to_le_bytes());
        entry[4..].copy_from_slice(&(table.len() as u32).to_le_bytes());
        Ok((vec![0; (at - self.end) as usize], table, entry))
    }

    /// Puts a table with these signatures in the place of the one that is there, or takes that away when there are none.
    /// The checksum follows.
    ///
    /// # Errors
    /// The medium's; [`Error::Format`] for a file of more than 4 GiB, which has no room for one.
    pub fn put(&self, file: &mut (impl Read + Write + Seek + SetLength), signatures: &[Vec<u8>]) -> Result<()> {
        let (padding, table, entry) = self.table(signatures)?;
        file.set_length(self.end)?;
        file.seek(SeekFrom::Start(self.end))?;
        file.write_all(&padding)?;
        file.write_all(&table)?;
        file.seek(SeekFrom::Start(self.entry))?;
        file.write_all(&entry)?;
        Ok(set_checksum(file)?)
    }

    /// Whether the checksum in the headers is right, or left out.
    ///
    /// # Errors
    /// The medium's.
    pub fn has_right_checksum(&self, file: &mut (impl Read + Seek)) -> Result<bool> {
        let (at, right) = checksum(file)?;
        let stated = u32::from_le_bytes(bytes(file, at)?);
        Ok(stated == 0 || stated == right)
    }
}

/// How long a value in DER is, its tag and length included.
fn message_length(bytes: &[u8]) -> Option<usize> {
    let (first, digits) = (*bytes.get(1)?, bytes.get(2..)?);
    if first < 0x80 {
        return Some(2 + usize::from(first));
    }
    let count = usize::from(first & 0x7F);
    let digits = digits.get(..count).filter(|_| (1..=4).contains(&count))?;
    Some(2 + count + digits.iter().fold(0, |all, byte| all << 8 | usize::from(*byte)))
}

/// What can be made shorter.
pub trait SetLength {
    /// Cuts it off.
    ///
    /// # Errors
    /// The medium's.
    fn set_length(&mut self, length: u64) -> std::io::Result<()>;
}

impl SetLength for std::fs::File {
    fn set_length(&mut self, length: u64) -> std::io::Result<()> {
        self.set_len(length)
    }
}

impl SetLength for std::io::Cursor<Vec<u8>> {
    fn set_length(&mut self, length: u64) -> std::io::Result<()> {
        self.get_mut().truncate(length as usize);
        Ok(())
    }
}
