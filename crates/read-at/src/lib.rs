//! Where the bytes of a file system or a disk image come from: anything that can be read at an offset, by several
//! threads at once. Formats that lie in each other (a file system in an image) meet here.

mod overlay;

pub use overlay::Overlay;
use std::io::{self, Read, Seek, SeekFrom};

/// Bytes that can be read at any offset.
pub trait ReadAt: Send + Sync {
    /// Fills `buffer` from `offset`.
    ///
    /// # Errors
    /// [`io::ErrorKind::UnexpectedEof`] when the source ends before; else as the medium's.
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()>;

    /// The source's length, bytes.
    ///
    /// # Errors
    /// As the medium's.
    fn length(&self) -> io::Result<u64>;
}

#[cfg(unix)]
impl ReadAt for std::fs::File {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        std::os::unix::fs::FileExt::read_exact_at(self, buffer, offset)
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.metadata()?.len())
    }
}

#[cfg(windows)]
impl ReadAt for std::fs::File {
    fn read_exact_at(&self, mut buffer: &mut [u8], mut offset: u64) -> io::Result<()> {
        while !buffer.is_empty() {
            match std::os::windows::fs::FileExt::seek_read(self, buffer, offset)? {
                0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                n => {
                    buffer = &mut buffer[n..];
                    offset += n as u64;
                }
            }
        }
        Ok(())
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.metadata()?.len())
    }
}

fn from_memory(all: &[u8], buffer: &mut [u8], offset: u64) -> io::Result<()> {
    let start = usize::try_from(offset).ok();
    let range = start.and_then(|s| Some(s..s.checked_add(buffer.len())?));
    buffer.copy_from_slice(range.and_then(|r| all.get(r)).ok_or(io::ErrorKind::UnexpectedEof)?);
    Ok(())
}

impl ReadAt for Vec<u8> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        from_memory(self, buffer, offset)
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.len() as u64)
    }
}

impl ReadAt for std::sync::Arc<[u8]> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        from_memory(self, buffer, offset)
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.len() as u64)
    }
}

impl<R: ReadAt + ?Sized> ReadAt for Box<R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        (**self).read_exact_at(buffer, offset)
    }
    fn length(&self) -> io::Result<u64> {
        (**self).length()
    }
}

impl<R: ReadAt + ?Sized> ReadAt for &R {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        (**self).read_exact_at(buffer, offset)
    }
    fn length(&self) -> io::Result<u64> {
        (**self).length()
    }
}

/// A part of a source, as if it were all of it.
pub struct Part<R> {
    source: R,
    start: u64,
    length: u64,
}

impl<R: ReadAt> Part<R> {
    /// The `length` bytes from `start`, cut off where the source ends.
    ///
    /// # Errors
    /// As the medium's.
    pub fn new(source: R, start: u64, length: u64) -> io::Result<Self> {
        let length = length.min(source.length()?.saturating_sub(start));
        Ok(Self { source, start, length })
    }
}

impl<R: ReadAt> ReadAt for Part<R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let end = offset.checked_add(buffer.len() as u64).filter(|end| *end <= self.length);
        end.ok_or(io::ErrorKind::UnexpectedEof)?;
        self.source.read_exact_at(buffer, self.start + offset)
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.length)
    }
}

/// A source that is read from one place on.
#[derive(Debug, Clone)]
pub struct Cursor<R> {
    source: R,
    position: u64,
}

impl<R: ReadAt> Cursor<R> {
    /// From its beginning.
    pub fn new(source: R) -> Self {
        Self { source, position: 0 }
    }
}

impl<R: ReadAt> Read for Cursor<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = self.source.length()?.saturating_sub(self.position);
        let n = left.min(buffer.len() as u64) as usize;
        self.source.read_exact_at(&mut buffer[..n], self.position)?;
        self.position += n as u64;
        Ok(n)
    }
}

impl<R: ReadAt> Seek for Cursor<R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let (from, by) = match to {
            SeekFrom::Start(at) => (at, 0),
            SeekFrom::End(by) => (self.source.length()?, by),
            SeekFrom::Current(by) => (self.position, by),
        };
        let before = || io::Error::new(io::ErrorKind::InvalidInput, "before the beginning");
        self.position = from.checked_add_signed(by).ok_or_else(before)?;
        Ok(self.position)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_ends_where_it_says_or_where_its_source_does() {
        let bytes: Vec<u8> = (0..10).collect();
        let part = Part::new(&bytes, 3, 4).expect("a part");
        let mut two = [0; 2];
        part.read_exact_at(&mut two, 2).expect("inside");
        assert_eq!((two, part.length().expect("known")), ([5, 6], 4));
        for offset in [3, 4, u64::MAX] {
            assert!(part.read_exact_at(&mut two, offset).is_err(), "{offset}");
        }
        assert_eq!(Part::new(&bytes, 8, 100).and_then(|p| p.length()).expect("known"), 2);
        assert_eq!(Part::new(&bytes, 80, 100).and_then(|p| p.length()).expect("known"), 0);
    }
}
