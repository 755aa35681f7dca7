//! Mach-O files: programs and libraries of macOS, for one processor or several. This crate reads what a packager has to
//! know of them (processors, smallest system, libraries, search paths, signature), and joins files for one processor
//! into a universal one; and it says where a signature goes. It knows nothing of installers.
//!
//! Sources: Apple's open headers `mach-o/loader.h` and `mach-o/fat.h`, whose names and numbers these are.
//!
//! ```
//! // Anything else is no error: most files are no Mach-O.
//! assert!(mach_o::read(&b"#!/bin/sh\n".to_vec())?.is_none());
//! # Ok::<(), mach_o::Error>(())
//! ```

mod join;
mod read;
mod sign;

pub use format_error::{Error, Result};
pub use join::{Joined, join, joined_size};
pub use read::{File, FileKind, Library, Processor, Slice, Version, read};
pub use sign::{SignedParts, SignedSlice};
