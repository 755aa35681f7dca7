//! ELF programs and libraries of Linux: which libraries they need, and where the loader looks for these.
//!
//! The facts are those of the System V ABI (chapters 4 and 5) and of `elf.h`. Only files of 64 bits with the lowest byte first are
//! understood: those of the processors that products are built for.

mod image;
mod run_path;

pub use image::{Linking, read};
pub use run_path::with_run_path;
