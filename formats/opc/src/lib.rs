//! Packages in the form that Windows installs (MSIX): ZIP archives of parts, with a map of their blocks and a list of their
//! types.
//!
//! - [`write::Writer`] makes one, parts one after the other, blocks on several threads with the same bytes.
//! - [`read::Package`] reads any, and [`check()`](check::check) says what of the rules one breaks.
//! - [`signature`] says what a signature is of, and puts one in.
//!
//! Sources of the format's facts: APPNOTE.TXT 6.3 (ZIP), ECMA-376 part 2 (parts, names, types), and Microsoft's published
//! descriptions of the block map and of packages. What is signed in which form is published nowhere; it is what signed packages
//! hold (see `docs/formats/opc.md`).
//!
//! ```
//! use opc::{read::Package, write::{Options, Writer}};
//! let mut writer = Writer::new(std::io::Cursor::new(Vec::new()), Options::default())?;
//! writer.part("AppxManifest.xml", 9, false)?;
//! writer.data(b"<Package>")?;
//! let bytes = writer.finish()?.into_inner();
//! let package = Package::open(bytes, Default::default())?;
//! assert_eq!(package.parts()[0].name, "AppxManifest.xml");
//! assert_eq!(opc::check::check(&package)?, Vec::<String>::new());
//! # Ok::<(), opc::Error>(())
//! ```

mod block_map;
pub mod check;
mod content_types;
pub mod names;
pub mod read;
pub mod signature;
mod structs;
pub mod write;

pub use format_error::{Error, Result};

/// The part that lists the blocks of all others.
pub const BLOCK_MAP: &str = "AppxBlockMap.xml";
/// The part that says what kind of data each part is.
pub const CONTENT_TYPES: &str = "[Content_Types].xml";
/// The part that holds the signature.
pub const SIGNATURE: &str = "AppxSignature.p7x";
/// The part that holds digests of programs.
pub const CODE_INTEGRITY: &str = "AppxMetadata/CodeIntegrity.cat";
/// The part that says what a package is.
pub const MANIFEST: &str = "AppxManifest.xml";
/// The same, of a bundle of packages.
pub const BUNDLE_MANIFEST: &str = "AppxMetadata/AppxBundleManifest.xml";

/// How many plain bytes a block has.
pub const BLOCK: usize = 1 << 16;
