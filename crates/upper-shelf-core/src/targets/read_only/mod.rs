//! Formats that packages of others are read in and none is built in.

mod cabinet;
mod hive;
mod program;

pub use cabinet::Cabinet;
pub use hive::{Hive, limits as hive_limits};
pub use program::Program;

use super::damaged;
use crate::footprint::RelPath;
use crate::problem::Failure;
use std::path::Path;

/// The name of a file that is no package, as the path of the only file in it.
fn own_path(package: &Path) -> Result<RelPath, Failure> {
    let name = package.file_name().unwrap_or_default().to_string_lossy();
    RelPath::new(name.into_owned()).map_err(|why| damaged(package, format!("its name {why}")))
}
