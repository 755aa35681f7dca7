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
mod pages;
mod resources;
mod signature;
mod sum;
mod version;

pub use format_error::{Error, Result};
pub use icon::set_icon;
pub use image::{Image, Section};
pub use manifest::Manifest;
pub use resources::{Key, Resources, kinds};
pub use signature::{SetLength, SignedParts};
pub use sum::set_checksum;
pub use version::Version;
