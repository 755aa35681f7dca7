//! `shelf.lock` beside the manifest remembers the identity under which the product was first built. Systems find an
//! installed version by it, so a change is the one mistake that can't be mended after a release.

use super::Project;
use crate::problem::{Code, Failure, Kind, Problem};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

#[derive(Serialize, Deserialize, schemars::JsonSchema)]
struct Lock {
    id: String,
}

const HEAD: &str = "\
# The identity that this product was first built under. Keep this file with the manifest, in version control.
# Installed copies are found by it: with another id, a new version does not replace the old one.
";

/// The lock file of a project.
pub fn path(project: &Project) -> PathBuf {
    project.file.with_extension("lock")
}

/// Compares the product's id with the remembered one; `Ok(false)` when nothing is remembered yet.
///
/// # Errors
/// [`Kind::Identity`] when they differ; [`Kind::Machine`] when the file can't be read.
pub fn check(project: &Project) -> Result<bool, Failure> {
    let file = path(project);
    let text = match std::fs::read_to_string(&file) {
        Ok(text) => text,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(false),
        Err(e) => return Err(Failure::io("can't read", &file, e)),
    };
    let lock: Lock = toml::from_str(&text).map_err(|e| {
        let problem = Problem::error(Code::DamagedLock, format!("{} is damaged", file.display()))
            .on(&file)
            .why(e.message().to_owned());
        Failure::new(
            Kind::Identity,
            problem.instead("restore it from version control: it has to contain the id of the released product"),
        )
    })?;
    let id = &project.manifest.product.id;
    if lock.id == *id {
        return Ok(true);
    }
    let problem = Problem::error(Code::IdChanged, format!("the product's id changed from {} to {id}", lock.id));
    let problem = problem.at(project.source.span("product.id")).why(
        "installed copies are found by their id: people who have the old one would get a second copy beside it, \
         the old one would never be updated or removed, and its settings, pins and permissions would stay with it",
    );
    let advice = format!(
        "id = {:?}; or, if nothing was ever released under it, delete {} and build again",
        lock.id,
        file.display()
    );
    Err(Failure::new(Kind::Identity, problem.instead(advice)))
}

/// Remembers the product's id, unless one is remembered.
///
/// # Errors
/// [`Kind::Machine`] when the file can't be written.
pub fn remember(project: &Project) -> Result<(), Failure> {
    // An example is no identity: nobody releases under it.
    if check(project)? || is_example(&project.manifest.product.id) {
        return Ok(());
    }
    let file = path(project);
    let lock = Lock { id: project.manifest.product.id.clone() };
    let text = format!("{HEAD}{}", toml::to_string(&lock).unwrap_or_default());
    // Written beside and renamed: never half a lock.
    let partial = file.with_extension("lock.partial");
    let written = std::fs::write(&partial, text).and_then(|()| std::fs::rename(&partial, &file));
    written.map_err(|e| {
        let _ = std::fs::remove_file(&partial);
        Failure::io("can't write", &file, e)
    })
}

/// Whether an id is the placeholder that a proposed manifest begins with.
pub fn is_example(id: &str) -> bool {
    id.starts_with("com.example.")
}
