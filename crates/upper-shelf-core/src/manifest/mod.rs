//! The manifest: as people write it ([`written`]), checked with every problem at once ([`read`](mod@read)), and resolved
//! for a platform with every default explained ([`resolve`](mod@resolve)).

mod formats;
mod keys;
mod libraries;
pub mod lock;
pub mod read;
pub mod reference;
pub mod resolve;
mod runtimes;
pub mod written;

use crate::problem::{Code, Failure, Kind, Problem};
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
    /// What is wrong with it though it could be read. Nothing is built as long as there is anything.
    pub problems: Vec<Problem>,
}

impl Project {
    /// The problem with the place of the key that it is about.
    pub fn located(&self, mut problem: Problem) -> Problem {
        if let Some(crate::problem::About::Setting(key)) = &problem.about {
            problem.span = problem.span.or(self.source.span(key));
            problem.about = None;
        }
        problem
    }
}

/// Longer than any that people keep: each problem of one shows its place, which takes longer with its length.
const LONGEST: u64 = 4 << 20;
/// Layers of a manifest.
const MOST_LAYERS: usize = 1000;

/// Reads the manifest at a path (a folder stands for the `shelf.toml` in it).
///
/// # Errors
/// Everything that is wrong with it, at once.
pub fn load(path: &Path, variables: read::Lookup) -> Result<Project, Failure> {
    let file = if path.is_dir() { path.join(FILE_NAME) } else { path.to_owned() };
    // A shell may hand over a manifest as a pipe.
    let bytes = crate::input::at_most(&file, LONGEST).map_err(|e| {
        let is_missing = e.kind() == std::io::ErrorKind::NotFound;
        let mut failure = Failure::io("can't read the manifest", &file, e);
        if is_missing {
            failure.kind = Kind::Problems;
            failure.problems[0].instead =
                Some("`upper-shelf init FOLDER` writes one for a folder of built files".into());
        }
        failure
    })?;
    let text = String::from_utf8(bytes).map_err(|e| {
        let at = e.utf8_error().valid_up_to();
        let problem = Problem::error(Code::Syntax, "the manifest isn't valid text").on(&file);
        Failure::new(Kind::Problems, problem.why(format!("byte {at} is not UTF-8")).instead("save it as UTF-8"))
    })?;
    let (manifest, source, problems) =
        read::read(&file, &text, variables).map_err(|problems| Failure::all(Kind::Problems, problems))?;
    if manifest.layer.len() > MOST_LAYERS {
        let problem = Problem::error(Code::OverLimit, format!("the manifest has {} layers", manifest.layer.len()));
        let problem = problem.at(source.span("layer")).why(format!("a manifest can have at most {MOST_LAYERS}"));
        return Err(Failure::new(Kind::Problems, problem.instead("one layer of the folder above, with `keep`")));
    }
    let folder = file.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
    Ok(Project { file, folder, manifest, source, problems })
}
