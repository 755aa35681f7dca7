//! Where an image's bytes come from: anything that can be read at an offset, by several threads at once.

use std::io;

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

impl ReadAt for Vec<u8> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let start = usize::try_from(offset).ok();
        let range = start.and_then(|s| Some(s..s.checked_add(buffer.len())?));
        let bytes = range.and_then(|r| self.get(r)).ok_or(io::ErrorKind::UnexpectedEof)?;
        buffer.copy_from_slice(bytes);
        Ok(())
    }
    fn length(&self) -> io::Result<u64> {
        Ok(self.len() as u64)
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
