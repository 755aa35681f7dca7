//! Module images: the file `lib/modules` of a Java runtime, which holds all classes and resources of its modules.
//!
//! - [`Image::open`] reads the index only; contents are read one at a time, or copied by whoever knows where they stand.
//! - [`Writer`] makes an image of what it is given, in the order of names: the same input gives the same bytes.
//!
//! Source of the format's facts: images of Java 17 and 25 looked at from the outside. The format is the runtime's own and not
//! a standard; it has been the same since Java 9. See `docs/formats/module-image.md`.
//!
//! An entry is called `/module/folder/name.extension`. Beside the files of modules there are two trees that the runtime walks:
//! `/modules`, with every folder's entries, and `/packages`, with the modules that have a package.

mod hash;
mod names;
mod read;
mod write;

pub use format_error::{Error, Result};
pub use names::Name;
pub use read::{Entry, Image};
pub use write::{Content, Writer};

/// What an image begins with, in the byte order of its runtime's processor.
const MAGIC: u32 = 0xCAFE_DADA;
/// The only version there has been: 1.0.
const VERSION: u32 = 1 << 16;
/// Bytes of the header: seven numbers.
const HEADER: u64 = 28;
