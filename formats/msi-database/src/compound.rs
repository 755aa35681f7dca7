//! The container: a compound file of version 4 (sectors of 4096 bytes) is written, versions 3 and 4 are read. Source:
//! [MS-CFB]. Streams are written one after the other, each in one run of sectors, so that the allocation table needs no
//! memory; short ones share the mini stream.

mod read;
mod structs;
mod write;

pub use read::{Compound, Limits, StreamInfo, StreamReader};
pub use write::CompoundWriter;
