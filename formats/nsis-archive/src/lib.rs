//! The data block of NSIS setup programs: a list of instructions with their texts, and one solid stream with the bytes
//! of files. A head runs the instructions; a general archiver lists them; what they say is read back by the same code.
//!
//! - [`structs`]: the format's numbers, with their sources.
//! - [`text`]: the table of texts, in which a variable is a code between letters.
//! - [`header`]: instructions and texts as bytes, and back.
//! - [`custom`]: instructions of our own, which others' readers take for none.
//! - [`solid`]: the packed stream, unpacked.
//! - [`mod@write`], [`read`] (feature `files`): whole setup programs.
//!
//! Without the feature `files` it needs no standard library: heads are built so.
#![cfg_attr(not(feature = "files"), no_std)]

extern crate alloc;

pub mod custom;
mod error;
pub mod header;
#[cfg(feature = "files")]
pub mod read;
pub mod seal;
pub mod solid;
pub mod structs;
pub mod text;
#[cfg(feature = "files")]
pub mod write;

pub use error::{Error, Result};
pub use structs::Method;
