//! What is under way on the disk and must not stay there when the program is stopped: by an error, by the user, by the
//! system. Each is taken away when its owner gives it up; a program that is told to end calls [`clear`].

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

static UNDER_WAY: Mutex<BTreeMap<PathBuf, Kind>> = Mutex::new(BTreeMap::new());

#[derive(Clone, Copy)]
enum Kind {
    File,
    Folder,
}

fn under_way() -> MutexGuard<'static, BTreeMap<PathBuf, Kind>> {
    UNDER_WAY.lock().unwrap_or_else(PoisonError::into_inner)
}

fn remove(path: &Path, kind: Kind) {
    // Nobody is left to hear that it can't be removed.
    let _ = match kind {
        Kind::File => std::fs::remove_file(path),
        Kind::Folder => std::fs::remove_dir_all(path),
    };
}

/// Something under way: removed when it is dropped, unless it is kept.
pub(crate) struct Litter(PathBuf);

impl Litter {
    pub(crate) fn file(path: &Path) -> Self {
        Self::of(path, Kind::File)
    }

    pub(crate) fn folder(path: &Path) -> Self {
        Self::of(path, Kind::Folder)
    }

    fn of(path: &Path, kind: Kind) -> Self {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        under_way().insert(path.clone(), kind);
        Self(path)
    }

    /// It is finished, and stays.
    pub(crate) fn keep(&self) {
        under_way().remove(&self.0);
    }
}

impl Drop for Litter {
    fn drop(&mut self) {
        if let Some(kind) = under_way().remove(&self.0) {
            remove(&self.0, kind);
        }
    }
}

/// Takes away all that is under way. For a program that is about to end: nothing new is begun while it does.
pub fn clear() {
    let all = under_way();
    for (path, kind) in all.iter() {
        remove(path, *kind);
    }
    // Whoever would finish something now waits here until the process is gone.
    std::mem::forget(all);
}

/// How the name of a file ends that is under way.
pub(crate) const PARTIAL: &str = ".upper-shelf-partial";

/// Where a file lies that belongs beside a package; beside a package under way it is under way too.
pub(crate) fn next_to(package: &Path, name: &str) -> PathBuf {
    let under_way = package.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.ends_with(PARTIAL));
    package.with_file_name(if under_way { format!(".{name}{PARTIAL}") } else { name.to_owned() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_up_goes_and_what_is_kept_stays() {
        let folder = tempfile::tempdir().expect("a folder");
        let (gone, kept) = (folder.path().join("gone"), folder.path().join("kept"));
        for path in [&gone, &kept] {
            std::fs::create_dir_all(path.join("inside")).expect("made");
        }
        drop(Litter::folder(&gone));
        Litter::folder(&kept).keep();
        assert!(!gone.exists() && kept.exists());
    }
}
