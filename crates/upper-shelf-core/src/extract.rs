//! From a package to a folder: the product's files as [`targets::read`] lists them. Nothing is written outside the
//! folder, whatever a package says: links are made last, so that no file passes through one.

use crate::footprint::{Footprint, RelPath, Trace};
use crate::manifest::written::TargetName;
use crate::payload::gather::{patterns, resolve};
use crate::problem::{Failure, Kind, Problem};
use crate::targets::{self, Depth, Loss, damaged};
use globset::GlobSet;
use serde::Serialize;
use std::collections::HashSet;
use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

/// What was extracted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Extracted {
    /// Where.
    pub folder: PathBuf,
    /// Files, with the further names of some.
    pub files: u64,
    /// Their bytes; a file with several names counts once.
    pub bytes: u64,
    /// What was not made.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<Loss>,
}

/// Writes the files of a package that fit one of the patterns (all, if there is none) into a folder, which must not be
/// there yet or be empty. It appears whole or not at all.
///
/// # Errors
/// [`Kind::Package`] for a damaged package, [`Kind::Problems`] for a malformed pattern, one that nothing fits, or a
/// folder with something in it; [`Kind::Machine`] for trouble with the disk.
pub fn extract(package: &Path, into: &Path, only: &[String]) -> Result<Extracted, Failure> {
    let chosen = if only.is_empty() { None } else { Some(pattern_set(only)?) };
    let (name, footprint) = targets::read(package, Depth::Listing)?;
    if fs::read_dir(into).is_ok_and(|mut d| d.next().is_some()) || into.is_file() {
        let problem = Problem::error(format!("{} is there already", into.display())).on(into);
        let problem = problem.why("nothing of it is overwritten").instead("name a new folder, or an empty one");
        return Err(Failure::new(Kind::Problems, problem));
    }
    let footprint = footprint.filter_map(|t| match (t.path(), &chosen) {
        (Some(path), Some(set)) if !set.is_match(path.as_str()) => None,
        (path, _) => path.is_some().then(|| t.clone()),
    });
    if let Some(only) = chosen.is_some().then_some(only).filter(|_| footprint.traces().is_empty()) {
        let problem = Problem::error(format!("nothing in {} fits {}", package.display(), only.join(", "))).on(package);
        return Err(Failure::new(Kind::Problems, problem.instead("`upper-shelf inspect` lists what is in it")));
    }
    let mut tree = Tree::begin(into)?;
    let failure = tree.fill(package, name, &footprint).err();
    match failure {
        None => tree.finish(into, &footprint),
        Some(failure) => Err(failure),
    }
}

fn pattern_set(only: &[String]) -> Result<GlobSet, Failure> {
    patterns(only).map_err(|why| Failure::new(Kind::Problems, Problem::error(why).instead("--only '*.dll'")))
}

/// Whether a link leads out of the tree. Steps upwards count only at its beginning: behind the name of another link
/// they would lead elsewhere than their letters say.
fn leaves(path: &RelPath, target: &str) -> bool {
    let mut names = target.split('/').skip_while(|n| matches!(*n, ".." | "." | ""));
    target.starts_with(['/', '\\'])
        || target.contains(':')
        || names.any(|n| n == "..")
        || resolve(path, target).is_none()
}

/// The folder under way; gone unless it is finished.
struct Tree {
    root: PathBuf,
    made: HashSet<RelPath>,
    result: Extracted,
    finished: bool,
}

impl Tree {
    fn begin(into: &Path) -> Result<Self, Failure> {
        let partial = |name: &str| format!(".{name}.{}.partial", std::process::id());
        // A folder that is there stays: somebody may stand in it.
        let root = if into.is_dir() {
            into.join(partial("extract"))
        } else {
            let name = into.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
            into.with_file_name(partial(&name))
        };
        if let Some(parent) = root.parent().filter(|p| !p.as_os_str().is_empty()) {
            fs::create_dir_all(parent).map_err(|e| Failure::io("can't make the folder", parent, &e))?;
        }
        fs::create_dir(&root).map_err(|e| Failure::io("can't make the folder", &root, &e))?;
        let result = Extracted { folder: into.to_owned(), files: 0, bytes: 0, left_out: Vec::new() };
        Ok(Self { root, made: HashSet::new(), result, finished: false })
    }

    fn at(&self, path: &RelPath) -> PathBuf {
        self.root.join(path.as_str())
    }

    fn folder(&mut self, path: &RelPath) -> io::Result<()> {
        if self.made.insert(path.clone()) {
            fs::create_dir_all(self.at(path))?;
        }
        Ok(())
    }

    /// Makes room for a name: the folders above it.
    fn place(&mut self, path: &RelPath) -> io::Result<PathBuf> {
        if let Some(parent) = path.parent() {
            self.folder(&parent)?;
        }
        Ok(self.at(path))
    }

    fn fill(&mut self, package: &Path, name: TargetName, of: &Footprint) -> Result<(), Failure> {
        let root = self.root.clone();
        let trouble = |path: &RelPath, e: &io::Error| {
            let failure = Failure::io("can't write", &root.join(path.as_str()), e);
            match e.kind() {
                // Two names of the package are one name here.
                io::ErrorKind::AlreadyExists | io::ErrorKind::IsADirectory | io::ErrorKind::NotADirectory => {
                    damaged(package, format!("{path} is in it twice, or is a file and a folder"))
                }
                _ => failure,
            }
        };
        let mut missing: HashSet<&RelPath> = HashSet::new();
        for trace in of.traces() {
            match trace {
                Trace::Folder { path, .. } => self.folder(path).map_err(|e| trouble(path, &e))?,
                Trace::File { path, .. } => drop(missing.insert(path)),
                _ => {}
            }
        }
        let mut failed = None;
        let read = targets::target(name).files(package, &mut |path, bytes| {
            if !missing.remove(path) {
                return Ok(());
            }
            self.file(path, bytes).map_err(|e| match e {
                Trouble::Reading(e) => e,
                Trouble::Writing(e) => {
                    failed = Some(trouble(path, &e));
                    e
                }
            })
        });
        if let Some(failure) = failed {
            return Err(failure);
        }
        read?;
        if let Some(first) = missing.iter().min() {
            let others = missing.len() - 1;
            let more = if others > 0 { format!(" and of {others} more") } else { String::new() };
            return Err(damaged(package, format!("the bytes of {first}{more} are not in it")));
        }
        for trace in of.traces() {
            if let Trace::HardLink { path, to } = trace {
                let place = self.place(path).map_err(|e| trouble(path, &e))?;
                // The file itself may not be among the chosen ones.
                if self.at(to).exists() {
                    fs::hard_link(self.at(to), place).map_err(|e| trouble(path, &e))?;
                    self.result.files += 1;
                } else {
                    let what = format!("{path} is left out");
                    self.result.left_out.push(Loss { what, why: format!("it is a further name of {to}") });
                }
            }
        }
        for trace in of.traces() {
            if let Trace::Link { path, target } = trace {
                if leaves(path, target) {
                    let why = format!("it leads out of the folder, to {target}");
                    self.result.left_out.push(Loss { what: format!("the link {path} is left out"), why });
                    continue;
                }
                let place = self.place(path).map_err(|e| trouble(path, &e))?;
                link(target, &place).map_err(|e| trouble(path, &e))?;
            }
        }
        Ok(())
    }

    fn file(&mut self, path: &RelPath, bytes: &mut dyn Read) -> Result<(), Trouble> {
        let place = self.place(path).map_err(Trouble::Writing)?;
        let file = fs::File::options().write(true).create_new(true).open(place).map_err(Trouble::Writing)?;
        let mut out = io::BufWriter::with_capacity(1 << 17, file);
        let mut buffer = [0; 1 << 16];
        loop {
            let n = bytes.read(&mut buffer).map_err(Trouble::Reading)?;
            if n == 0 {
                break;
            }
            out.write_all(&buffer[..n]).map_err(Trouble::Writing)?;
            self.result.bytes += n as u64;
        }
        self.result.files += 1;
        out.flush().map_err(Trouble::Writing)
    }

    fn finish(mut self, into: &Path, of: &Footprint) -> Result<Extracted, Failure> {
        let trouble = |e: io::Error| Failure::io("can't finish", into, &e);
        if into.is_dir() {
            for entry in fs::read_dir(&self.root).map_err(trouble)? {
                let entry = entry.map_err(trouble)?;
                fs::rename(entry.path(), into.join(entry.file_name())).map_err(trouble)?;
            }
            fs::remove_dir(&self.root).map_err(trouble)?;
        } else {
            fs::rename(&self.root, into).map_err(trouble)?;
        }
        self.finished = true;
        // Modes last and from the depth upwards: a folder may become one in which nothing can be written or moved.
        for trace in of.traces().iter().rev() {
            if let Trace::Folder { path, mode } | Trace::File { path, mode, .. } = trace {
                let place = into.join(path.as_str());
                set_mode(&place, *mode).map_err(|e| Failure::io("can't set the mode of", &place, &e))?;
            }
        }
        Ok(self.result.clone())
    }
}

impl Drop for Tree {
    fn drop(&mut self) {
        if !self.finished {
            let _ = fs::remove_dir_all(&self.root);
        }
    }
}

enum Trouble {
    Reading(io::Error),
    Writing(io::Error),
}

#[cfg(unix)]
fn link(target: &str, place: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(target, place)
}

#[cfg(windows)]
fn link(target: &str, place: &Path) -> io::Result<()> {
    std::os::windows::fs::symlink_file(target, place)
}

/// Special bits are not given to files that come from anywhere.
#[cfg(unix)]
fn set_mode(path: &Path, mode: u32) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o777))
}

#[cfg(not(unix))]
fn set_mode(_: &Path, _: u32) -> io::Result<()> {
    Ok(())
}
