//! What can go wrong, told apart: the bytes, a limit, the medium.

use core::fmt;

/// What can go wrong.
#[derive(Debug)]
pub enum Error {
    /// The bytes are damaged, or no data block.
    Format {
        /// Where, in bytes from the start of the header or of the file.
        offset: u64,
        /// What is wrong there.
        what: &'static str,
    },
    /// More than the format can hold, or than this reader takes.
    Limit(&'static str),
    /// The source of bytes failed.
    Source,
    /// The medium.
    #[cfg(feature = "files")]
    Io(std::io::Error),
}

impl Error {
    pub(crate) fn format(offset: u64, what: &'static str) -> Self {
        Self::Format { offset, what }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Format { offset, what } => write!(f, "{what} (at offset {offset:#x})"),
            Self::Limit(what) => f.write_str(what),
            Self::Source => f.write_str("its bytes can't be read"),
            #[cfg(feature = "files")]
            Self::Io(e) => e.fmt(f),
        }
    }
}

impl core::error::Error for Error {}

#[cfg(feature = "files")]
impl From<std::io::Error> for Error {
    fn from(e: std::io::Error) -> Self {
        Self::Io(e)
    }
}

/// A result of this crate.
pub type Result<T> = core::result::Result<T, Error>;
