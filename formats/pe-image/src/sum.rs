//! The checksum in a program's headers. Windows insists on it for drivers only, but whoever looks at a file sees a wrong one.

use std::io::{self, Read, Seek, SeekFrom, Write};

/// Sets the checksum of a whole program file, with everything that was appended to it: 16-bit words with carry, its own
/// field as zero, plus the length.
///
/// # Errors
/// [`io::ErrorKind::InvalidData`] for what is no program; else as the medium's.
pub fn set_checksum(file: &mut (impl Read + Write + Seek)) -> io::Result<()> {
    let (field, sum) = checksum(file)?;
    file.seek(SeekFrom::Start(field))?;
    file.write_all(&sum.to_le_bytes())
}

/// Where the checksum stands, and what it should be.
///
/// # Errors
/// As [`set_checksum`].
pub(crate) fn checksum(file: &mut (impl Read + Seek)) -> io::Result<(u64, u32)> {
    let mut word = [0; 4];
    let mut read = |at: u64, file: &mut dyn ReadSeek| -> io::Result<u64> {
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut word)?;
        Ok(u32::from_le_bytes(word).into())
    };
    let headers = read(0x3C, file)?;
    if read(headers, file)? != u64::from(u32::from_le_bytes(*b"PE\0\0")) {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "not a program for Windows"));
    }
    // Behind the signature and the 20 bytes of the first header.
    let field = headers + 24 + 64;
    file.seek(SeekFrom::Start(0))?;
    let mut buffer = vec![0; 1 << 16];
    let (mut sum, mut length) = (0u64, 0u64);
    loop {
        // Whole buffers but for the last, so that words are never cut in two.
        let mut n = 0;
        while n < buffer.len() {
            match file.read(&mut buffer[n..])? {
                0 => break,
                more => n += more,
            }
        }
        // Its own field counts as zero.
        for at in (field..field + 4).filter_map(|at| at.checked_sub(length)).filter(|at| *at < n as u64) {
            buffer[at as usize] = 0;
        }
        let (words, rest) = buffer[..n].as_chunks::<2>();
        sum += words.iter().map(|w| u64::from(u16::from_le_bytes(*w))).sum::<u64>();
        sum += rest.first().map_or(0, |b| u64::from(*b));
        length += n as u64;
        if n < buffer.len() {
            break;
        }
    }
    while sum > 0xFFFF {
        sum = (sum & 0xFFFF) + (sum >> 16);
    }
    Ok((field, (sum + length) as u32))
}

trait ReadSeek: Read + Seek {}
impl<T: Read + Seek> ReadSeek for T {}
