//! What goes wrong in reading and writing file formats. One type for every format, so that whoever reads an image in an
//! image, or a cabinet in a database, passes one error on.

/// What went wrong.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The bytes aren't in the format, or are damaged.
    #[error("{what} (at offset {offset:#x})")]
    Format {
        /// Where, in bytes from the start of what is read.
        offset: u64,
        /// What is wrong there.
        what: String,
    },
    /// The format is intact, but uses a variant of it that isn't supported.
    #[error("{0}")]
    Unsupported(String),
    /// More than the format can hold, or than the caller allows.
    #[error("{0}")]
    Limit(String),
    /// The caller did something that the format doesn't have.
    #[error("{0}")]
    Usage(String),
    /// Reading or writing failed.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

impl Error {
    /// Something is wrong at an offset of a file.
    pub fn format(offset: u64, what: impl Into<String>) -> Self {
        Self::Format { offset, what: what.into() }
    }

    /// Something is wrong at an offset of bytes in memory.
    pub fn at(offset: usize, what: impl Into<String>) -> Self {
        Self::format(offset as u64, what)
    }
}

/// A result of reading or writing a format.
pub type Result<T> = std::result::Result<T, Error>;
