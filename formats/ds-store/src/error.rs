//! What can go wrong, told apart: the bytes, the caller, the medium.

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The bytes are not a .DS_Store file, or a damaged one.
    #[error("{what} (at offset {offset:#x})")]
    Format {
        /// Where, in bytes from the file's start.
        offset: u64,
        /// What is wrong there.
        what: String,
    },
    /// More than the caller's limits allow, or than the format can hold.
    #[error("{0}")]
    Limit(String),
    /// The caller asked for something impossible.
    #[error("{0}")]
    Usage(String),
}

impl Error {
    pub(crate) fn format(offset: usize, what: impl Into<String>) -> Self {
        Self::Format { offset: offset as u64, what: what.into() }
    }
}

/// A result of this crate.
pub type Result<T> = std::result::Result<T, Error>;
