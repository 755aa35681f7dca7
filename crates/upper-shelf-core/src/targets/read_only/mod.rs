//! Formats that packages of others are read in and none is built in.

mod cabinet;
mod program;

pub use cabinet::Cabinet;
pub use program::Program;
