//! The manifest: as people write it ([`written`]), checked with every problem at once ([`read`](mod@read)), and resolved
//! for a platform with every default explained ([`resolve`](mod@resolve)).

mod formats;
pub mod lock;
pub mod read;
pub mod reference;
pub mod resolve;
pub mod written;

use crate::problem::{Failure, Kind, Problem};
use std::path::{Path, PathBuf};

/// The manifest's usual name.
pub const FILE_NAME: &str = "shelf.toml";

/// A manifest that was read: its model, and what is known of its places.
#[derive(Debug, Clone)]
pub struct Project {
    /// The file.
    pub file: PathBuf,
    /// The folder that its paths are relative to.
    pub folder: PathBuf,
    /// The model as written.
    pub manifest: written::Manifest,
    /// Places.
    pub source: read::Source,
}

/// Reads the manifest at a path (a folder stands for the `shelf.toml` in it).
///
/// # Errors
/// Everything that is wrong with it, at once.
pub fn load(path: &Path, variables: read::Lookup) -> Result<Project, Failure> {
    let file = if path.is_dir() { path.join(FILE_NAME) } else { path.to_owned() };
    let bytes = std::fs::read(&file).map_err(|e| {
        let mut failure = Failure::io("can't read the manifest", &file, &e);
        if e.kind() == std::io::ErrorKind::NotFound {
            failure.kind = Kind::Problems;
            failure.problems[0].instead =
                Some("`upper-shelf init FOLDER` writes one for a folder of built files".into());
        }
        failure
    })?;
    let text = String::from_utf8(bytes).map_err(|e| {
        let at = e.utf8_error().valid_up_to();
        let problem = Problem::error("the manifest is not valid text").on(&file);
        Failure::new(Kind::Problems, problem.why(format!("byte {at} is not UTF-8")).instead("save it as UTF-8"))
    })?;
    let (manifest, source) =
        read::read(&file, &text, variables).map_err(|problems| Failure { kind: Kind::Problems, problems })?;
    let folder = file.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
    Ok(Project { file, folder, manifest, source })
}
