//! Squashfs 4.0 images, read and written. This crate knows bytes and nothing of installers.
//!
//! | room | what is there |
//! |---|---|
//! | [`structs`] | the records as they stand on disk, once, for both halves |
//! | [`read`] | [`read::Image`] over anything that can be read at an offset; takes any bytes and answers with data or an error |
//! | [`write`](mod@write) | [`write::Writer`]: streams, packs blocks on several threads, the same bytes for any number of them |
//! | [`codec`] | gzip, zstd, xz as pure functions from block to block |
//!
//! ```
//! use squashfs::{codec::Codec, read::{Image, Limits}, write::{Meta, Options, Writer}};
//! use std::io::Cursor;
//!
//! let mut out = Cursor::new(Vec::new());
//! let mut writer = Writer::new(&mut out, Options { codec: Codec::Zstd { level: 9 }, ..Options::default() })?;
//! writer.begin_file(b"hives/first.comb", Meta::file(0o644))?;
//! writer.data(b"queen seen")?;
//! writer.end_file(None)?;
//! writer.finish()?;
//!
//! let image = Image::open(out.into_inner(), 0, Limits::default())?;
//! let file = image.lookup(b"hives/first.comb")?.expect("it was written");
//! assert_eq!(image.read_to_vec(&file)?, b"queen seen");
//! # Ok::<(), squashfs::Error>(())
//! ```

pub mod codec;
pub mod read;
pub mod structs;
#[cfg(feature = "write")]
pub mod write;

pub use format_error::{Error, Result};
