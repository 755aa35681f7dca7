//! Small files that a manifest names: pictures, licences. What is no file (a pipe, a device) or too large is refused
//! before anything is read: reading it might never end.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// More than any picture or licence has.
pub(crate) const SMALL: u64 = 64 << 20;

/// Says of a path that is no file what it is.
///
/// # Errors
/// It is no file, or can't be looked at.
pub(crate) fn is_file(path: &Path) -> io::Result<std::fs::Metadata> {
    let meta = std::fs::metadata(path)?;
    if meta.is_file() {
        return Ok(meta);
    }
    let what = if meta.is_dir() { "a folder" } else { "a pipe or a device" };
    Err(io::Error::new(io::ErrorKind::InvalidInput, format!("it is {what}, not a file")))
}

/// A whole file of at most [`SMALL`] bytes.
///
/// # Errors
/// It is no file, or longer, or can't be read.
pub(crate) fn read(path: &Path) -> io::Result<Vec<u8>> {
    is_file(path)?;
    at_most(path, SMALL)
}

/// What a path holds, if that is not more than so many bytes; of a pipe too, for which its writer is waited.
///
/// # Errors
/// It is longer, or can't be read.
pub(crate) fn at_most(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    File::open(path)?.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 <= most {
        return Ok(bytes);
    }
    Err(io::Error::new(io::ErrorKind::InvalidInput, format!("it is larger than {} MiB", most >> 20)))
}

/// The same as text.
///
/// # Errors
/// As [`read`], or it is not UTF-8.
pub(crate) fn read_text(path: &Path) -> io::Result<String> {
    String::from_utf8(read(path)?).map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8 text"))
}
