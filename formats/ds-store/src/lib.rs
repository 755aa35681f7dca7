//! How a folder's window looks on macOS: the file `.DS_Store`, the alias record by which it names the picture behind
//! the symbols, and both as a plain description ([`Window`]).
//!
//! Apple has not published these formats. What is written here was compared with independent readers and with what
//! is known of the format from those who took it apart.
//!
//! ```
//! use ds_store::{Item, Window};
//!
//! let window = Window { size: (640, 400), items: vec![Item::new("Combwright.app", 160, 200)], ..Window::default() };
//! let bytes = ds_store::write(&window.records()?)?;
//! assert_eq!(Window::of(&ds_store::read(&bytes)?)?, window);
//! # Ok::<(), ds_store::Error>(())
//! ```

mod alias;
mod store;
mod window;

pub use alias::Alias;
pub use format_error::{Error, Result};
pub use store::{Record, Value, read, write};
pub use window::{Item, Window};
