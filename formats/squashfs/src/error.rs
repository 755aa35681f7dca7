//! What can go wrong, told apart: trouble with the image (and where), misuse by the caller, and input/output.

/// Why an image could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The bytes are not a well-formed image.
    #[error("damaged squashfs image at byte {offset}: {what}")]
    Format {
        /// Offset from the image's first byte.
        offset: u64,
        /// What is wrong there.
        what: String,
    },
    /// The image may be well formed, but is made in a way that is not known here.
    #[error("{0}")]
    Unsupported(String),
    /// The image is well formed but asks for more than the caller's [`Limits`](crate::read::Limits) allow.
    #[error("the squashfs image exceeds a limit: {0}")]
    Limit(String),
    /// The caller asked for something that squashfs can't hold.
    #[error("{0}")]
    Usage(String),
    /// Reading or writing failed.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

impl Error {
    pub(crate) fn format(offset: u64, what: impl Into<String>) -> Self {
        Self::Format { offset, what: what.into() }
    }
}

/// A result of this crate.
pub type Result<T> = std::result::Result<T, Error>;
