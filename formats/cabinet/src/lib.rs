//! Cabinet files (MSCF), as Windows Installer packages hold them.
//!
//! - [`structs`]: the format's structures and constants, with their official names.
//! - [`mod@write`]: the streaming writer: stored, MSZIP, and LZX by an encoder of our own; packed on several threads, the
//!   same bytes for any number of them.
//! - [`read`]: the reader: takes any bytes and answers with data or an error that names the offset.
//!
//! ```
//! use cabinet::{Method, read::Cabinet, write::{Entry, Options, Writer}};
//! # fn main() -> cabinet::Result<()> {
//! let entries = vec![Entry::new("hive.txt", 11), Entry::new("frame.txt", 3)];
//! let options = Options { method: Method::Lzx(21), ..Options::default() };
//! let mut writer = Writer::new(std::io::Cursor::new(Vec::new()), entries, options)?;
//! writer.data(b"hello, hive")?;
//! writer.data(b"one")?;
//! let (file, _) = writer.finish()?;
//! let mut cabinet = Cabinet::open(file, Default::default())?;
//! let mut names = Vec::new();
//! cabinet.walk(|entry, bytes| {
//!     let mut text = String::new();
//!     std::io::Read::read_to_string(bytes, &mut text)?;
//!     names.push((entry.name.clone(), text));
//!     Ok::<_, cabinet::Error>(())
//! })?;
//! assert_eq!(names[0], ("hive.txt".into(), "hello, hive".into()));
//! # Ok(())
//! # }
//! ```

mod lzx;
pub mod read;
pub mod structs;
pub mod write;

pub use format_error::{Error, Result};
pub use structs::Method;
