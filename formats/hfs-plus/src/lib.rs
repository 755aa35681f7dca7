//! HFS+ volumes, read, written and checked. This crate knows bytes and nothing of installers.
//!
//! | room | what is there |
//! |---|---|
//! | [`structs`] | the records as they stand on disk, once, for both halves |
//! | [`name`] | how names are stored, and the one order in which they can be found again |
//! | [`read`] | [`read::Volume`] over anything that can be read at an offset; takes any bytes and answers with data or an error |
//! | [`write`](mod@write) | [`write::Builder`]: says where everything will be, then streams it; the same input gives the same bytes |
//! | [`check`] | every rule that a volume has to follow, with all that is wrong |
//!
//! ```
//! use hfs_plus::{read::{Limits, Volume}, write::{Builder, Meta, Options}};
//!
//! let mut builder = Builder::new("Hives", Options { time: 1_790_000_000, ..Options::default() })?;
//! builder.folder("journal", Meta::folder(0o755))?;
//! builder.file("journal/first.comb", 10, Meta::file(0o644))?;
//! let mut writer = builder.lay_out()?.write(Vec::new())?;
//! writer.data(b"queen seen")?;
//! let bytes = writer.finish()?;
//!
//! let volume = Volume::open(bytes, Limits::default())?;
//! let all = volume.entries()?;
//! assert_eq!(all[1].path, "journal/first.comb");
//! assert!(hfs_plus::check::check(&volume)?.is_empty());
//! # Ok::<(), hfs_plus::Error>(())
//! ```

pub mod check;
pub mod name;
pub mod read;
pub mod structs;
pub mod write;

pub use format_error::{Error, Result};
