//! UDIF disk images (`.dmg`), written, read and checked. This crate knows bytes: neither file systems nor installers.
//!
//! | room | what is there |
//! |---|---|
//! | [`structs`] | the records as they stand in the file, once, for both halves |
//! | [`codec`] | zlib, bzip2, lzfse and what old images have, as pure functions from chunk to chunk |
//! | [`write`](mod@write) | [`write::Writer`] takes the volume's bytes as a stream and packs them on several threads |
//! | [`read`] | [`read::Image`]: the disk inside, readable at any offset; takes any bytes and answers with data or an error |
//! | [`partitions`] | what is on the disk: a partition table of either kind, or a bare volume |
//! | [`check`] | every checksum and count, with all that is wrong |
//!
//! ```
//! use read_at::ReadAt;
//! use std::io::Write;
//! use udif::{read::{Image, Limits}, write::{Options, Writer}};
//!
//! let mut writer = Writer::new(Vec::new(), 512 * 2000, Options::default())?;
//! writer.write_all(&[7; 512 * 2000])?;
//! let bytes = writer.finish()?;
//!
//! let image = Image::open(bytes, Limits::default())?;
//! let mut some = [0; 3];
//! image.read_exact_at(&mut some, 40 * 512 + 100_000)?;
//! assert_eq!(some, [7; 3]);
//! assert!(udif::check::check(&image)?.is_empty());
//! # Ok::<(), udif::Error>(())
//! ```

pub mod check;
pub mod codec;
pub mod partitions;
pub mod read;
pub mod signature;
pub mod structs;
pub mod write;

pub use format_error::{Error, Result};
