//! Where a toolkit or a system keeps its libraries and what these load.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// Folders of libraries below a toolkit's or a system's, the first ones first; what stands for processors and systems is found by itself.
const LIBRARIES: [&str; 9] =
    ["", "usr/lib", "lib", "usr/lib64", "lib64", "usr/local/lib", "bin", "usr/bin", "Library/bin"];
const SHARE: [&str; 3] = ["usr/share", "share", "usr/local/share"];

/// The folders of one place that libraries come from.
pub struct Folders {
    /// The place itself.
    pub root: PathBuf,
    /// Those with libraries.
    pub libraries: Vec<PathBuf>,
    /// Those with what is the same for every processor.
    pub share: Vec<PathBuf>,
}

impl Folders {
    /// Looks for them, for a processor by the name that such folders bear.
    pub fn new(root: &Path, triplet: Option<&str>) -> Self {
        let mut libraries: Vec<PathBuf> = Vec::new();
        let mut add = |folder: PathBuf| {
            // A folder has several names where `lib` leads to `usr/lib`.
            let same = |other: &PathBuf| other.canonicalize().ok() == folder.canonicalize().ok();
            if folder.is_dir() && !libraries.iter().any(same) {
                libraries.push(folder);
            }
        };
        for name in LIBRARIES {
            // A toolkit's folder and one of libraries can be the same.
            let folder = if name.is_empty() { root.to_path_buf() } else { root.join(name) };
            if let Some(triplet) = triplet.filter(|_| name.ends_with("lib")) {
                add(folder.join(triplet));
            }
            if root.parent().is_some() || !name.is_empty() {
                add(folder);
            }
        }
        // A folder of libraries has its `share` further up.
        let ups = root.ancestors().take(4).filter(|up| up.parent().is_some());
        let share = SHARE.iter().map(|name| root.join(name)).chain(ups.map(|up| up.join("share")));
        let share = share.filter(|folder| folder.is_dir()).collect();
        Self { root: root.to_path_buf(), libraries, share }
    }

    /// Where a tree is: below `lib`, `share`, or the place itself.
    pub fn tree(&self, place: &str) -> Option<PathBuf> {
        let all: Vec<PathBuf> = match place.split_once('/') {
            Some(("lib", rest)) => self.libraries.iter().map(|folder| folder.join(rest)).collect(),
            Some(("share", rest)) => self.share.iter().map(|folder| folder.join(rest)).collect(),
            _ => vec![self.root.join(place)],
        };
        all.into_iter().find(|folder| folder.is_dir())
    }

    /// The path in the payload for a file of this place: as `lib/…`, `share/…`, or as it is.
    pub fn as_placed(&self, file: &Path) -> Option<String> {
        let inside = |folders: &[PathBuf], name: &str| {
            let rest = folders
                .iter()
                .filter(|folder| **folder != self.root)
                .find_map(|folder| file.strip_prefix(folder).ok())?;
            Some(format!("{name}/{}", rest.to_str()?.replace('\\', "/")))
        };
        inside(&self.libraries, "lib")
            .or_else(|| inside(&self.share, "share"))
            .or_else(|| Some(file.strip_prefix(&self.root).ok()?.to_str()?.replace('\\', "/")))
    }
}

/// The files of a folder by their names, as the system compares them.
pub fn index(folder: &Path, key: impl Fn(&str) -> String) -> HashMap<String, PathBuf> {
    let all = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut paths: Vec<PathBuf> = all.map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    // Of names that the system takes for the same, the first one counts, in whatever order the disk has them.
    paths.sort_by(|a, b| b.cmp(a));
    let named = |path: PathBuf| Some((key(path.file_name()?.to_str()?), path));
    paths.into_iter().filter_map(named).collect()
}

/// All files below a folder with their paths there, in their order; no more than so many.
///
/// # Errors
/// There are more, or it can't be read.
pub fn walk(folder: &Path, most: usize) -> std::io::Result<Vec<(String, PathBuf)>> {
    let mut all = Vec::new();
    let mut next = vec![(String::new(), folder.to_path_buf())];
    while let Some((inside, folder)) = next.pop() {
        for entry in std::fs::read_dir(&folder)? {
            let entry = entry?;
            let Some(name) = entry.file_name().to_str().map(|name| format!("{inside}{name}")) else { continue };
            // Links to folders may lead in a circle.
            if entry.file_type()?.is_dir() {
                next.push((format!("{name}/"), entry.path()));
            } else if entry.path().is_file() {
                all.push((name, entry.path()));
            }
            if all.len() > most {
                return Err(std::io::Error::other(format!("there are more than {most} files in it")));
            }
        }
    }
    all.sort();
    Ok(all)
}
