//! Windows program files (PE): what is in their headers, and their resources, read and written anew. Everything else of a
//! file stays as it is, byte for byte; a signature, which would not hold any more, is dropped.
//!
//! Source of the format's facts: Microsoft's "PE Format" and "Resource File Formats", as published.
//!
//! The reader takes any bytes: every offset and length is checked before it is used.

mod bytes;
mod icon;
mod image;
mod manifest;
mod resources;
mod sum;
mod version;

pub use icon::set_icon;
pub use image::{Image, Section};
pub use manifest::Manifest;
pub use resources::{Key, Resources, kinds};
pub use sum::set_checksum;
pub use version::Version;

/// What can go wrong.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// The bytes are no PE file, or a damaged one.
    #[error("{what} (at offset {offset:#x})")]
    Format {
        /// Where, in bytes from the file's start.
        offset: usize,
        /// What is wrong there.
        what: String,
    },
    /// It can't be written: a limit of the format, or of this file.
    #[error("{0}")]
    Limit(String),
}

impl Error {
    pub(crate) fn format(offset: usize, what: impl Into<String>) -> Self {
        Self::Format { offset, what: what.into() }
    }
}

/// A result of this crate.
pub type Result<T> = std::result::Result<T, Error>;
