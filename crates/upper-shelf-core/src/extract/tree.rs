//! The folder under way. Everything in it is made through handles of open folders that follow no links, so that nothing
//! on the way can lead elsewhere, whoever else works on the disk at the same time.

use super::Extracted;
use crate::budget::Package;
use crate::footprint::{Footprint, Node, RelPath};
use crate::litter::Litter;
use crate::payload::gather::resolve;
use crate::problem::Failure;
use crate::targets::{Format, Loss, damaged};
use cap_fs_ext::DirExt;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, OpenOptions};
use std::collections::HashSet;
use std::fs;
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};

/// Shorter rows of zeros are written.
const HOLE: usize = 4096;

/// The folder under way; gone unless it is finished.
pub(super) struct Tree {
    root: PathBuf,
    litter: Litter,
    /// The open folders from the top to where something was put last, with their names.
    open: Vec<(String, Dir)>,
    top: Dir,
    result: Extracted,
}

enum Trouble {
    Reading(io::Error),
    Writing(io::Error),
}

impl Tree {
    pub(super) fn begin(into: &Path) -> Result<Self, Failure> {
        let partial = |name: &str| format!(".{name}.{}.partial", std::process::id());
        // A folder that is there stays: somebody may stand in it.
        let root = if into.is_dir() {
            into.join(partial("extract"))
        } else {
            let name = into.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
            into.with_file_name(partial(&name))
        };
        if let Some(parent) = root.parent().filter(|p| !p.as_os_str().is_empty()) {
            fs::create_dir_all(parent).map_err(|e| Failure::io("can't create the folder", parent, e))?;
        }
        let trouble = |e: io::Error| Failure::io("can't create the folder", &root, e);
        fs::create_dir(&root).map_err(trouble)?;
        let litter = Litter::folder(&root);
        let top = Dir::open_ambient_dir(&root, ambient_authority()).map_err(trouble)?;
        let result = Extracted { folder: into.to_owned(), files: 0, bytes: 0, left_out: Vec::new() };
        Ok(Self { root, litter, open: Vec::new(), top, result })
    }

    /// The open folder with a path, made if need be. What is no folder of this tree's own is an error.
    fn folder(&mut self, path: Option<&RelPath>) -> io::Result<&Dir> {
        let names: Vec<&str> = path.map(|p| p.as_str().split('/').collect()).unwrap_or_default();
        let same = self.open.iter().zip(&names).take_while(|((open, _), name)| open == *name).count();
        self.open.truncate(same);
        for name in &names[same..] {
            let above = self.open.last().map_or(&self.top, |(_, dir)| dir);
            let dir = match above.open_dir_nofollow(name) {
                Err(e) if e.kind() == io::ErrorKind::NotFound => {
                    above.create_dir(name)?;
                    above.open_dir_nofollow(name)?
                }
                other => other?,
            };
            self.open.push(((*name).to_owned(), dir));
        }
        Ok(self.open.last().map_or(&self.top, |(_, dir)| dir))
    }

    pub(super) fn fill(&mut self, package: &Package, format: &dyn Format, of: &Footprint) -> Result<(), Failure> {
        let root = self.root.clone();
        let trouble = |path: &RelPath, e: io::Error| {
            let is_loop = cfg!(unix) && e.raw_os_error() == Some(link_in_the_way());
            match e.kind() {
                // Two names of the package are one name here.
                io::ErrorKind::AlreadyExists | io::ErrorKind::IsADirectory | io::ErrorKind::NotADirectory => {
                    damaged(package, format!("{path} appears twice, or is both a file and a folder"))
                }
                _ if is_loop => damaged(package, format!("{path} lies behind a link")),
                _ => Failure::io("can't write", &root.join(path.as_str()), e),
            }
        };
        let mut missing: HashSet<&RelPath> = HashSet::new();
        for node in &of.tree {
            match node {
                Node::Folder { path, .. } => drop(self.folder(Some(path)).map_err(|e| trouble(path, e))?),
                Node::File { path, .. } => drop(missing.insert(path)),
                // They come last.
                Node::HardLink { .. } | Node::Link { .. } => {}
            }
        }
        let modes = modes_of(of);
        let mut failed = None;
        let read = format.files(package, &mut |path, bytes| {
            if !missing.remove(path) {
                return Ok(());
            }
            self.file(path, modes.get(path).copied(), bytes).map_err(|e| match e {
                Trouble::Reading(e) => e,
                Trouble::Writing(e) => {
                    let kind = e.kind();
                    failed = Some(trouble(path, e));
                    kind.into()
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
            return Err(damaged(package, format!("the content of {first}{more} is missing")));
        }
        for (path, to) in of.hard_links() {
            // The file itself may not be among the chosen ones.
            if self.hard_link(path, to).map_err(|e| trouble(path, e))? {
                self.result.files += 1;
            } else {
                let what = format!("{path} is left out");
                self.result.left_out.push(Loss { what, why: format!("it is a further name of {to}") });
            }
        }
        // Links come last: no file passes through one.
        for node in &of.tree {
            if let Node::Link { path, target } = node {
                if leaves(path, target) {
                    let why = format!("it leads out of the folder, to {target}");
                    self.result.left_out.push(Loss { what: format!("the link {path} is left out"), why });
                    continue;
                }
                let dir = self.folder(path.parent().as_ref()).map_err(|e| trouble(path, e))?;
                link(dir, target, path.name()).map_err(|e| trouble(path, e))?;
            }
        }
        Ok(())
    }

    /// Writes a file.
    fn file(&mut self, path: &RelPath, mode: Option<u32>, bytes: &mut dyn Read) -> Result<(), Trouble> {
        let dir = self.folder(path.parent().as_ref()).map_err(Trouble::Writing)?;
        let file = dir.open_with(path.name(), OpenOptions::new().write(true).create_new(true));
        let mut out = io::BufWriter::with_capacity(1 << 17, file.map_err(Trouble::Writing)?);
        let mut buffer = [0; 1 << 16];
        let mut hole = 0;
        loop {
            let n = bytes.read(&mut buffer).map_err(Trouble::Reading)?;
            if n == 0 {
                break;
            }
            self.result.bytes += n as u64;
            // Holes stay holes: a row of zeros takes no room on the disk.
            if n >= HOLE && buffer[..n].iter().all(|b| *b == 0) {
                hole += n as i64;
                continue;
            }
            if hole > 0 {
                out.seek_relative(std::mem::take(&mut hole)).map_err(Trouble::Writing)?;
            }
            out.write_all(&buffer[..n]).map_err(Trouble::Writing)?;
        }
        self.result.files += 1;
        let mut file = out.into_inner().map_err(|e| Trouble::Writing(e.into_error()))?;
        if hole > 0 {
            let end = file.stream_position().map_err(Trouble::Writing)? + hole as u64;
            file.set_len(end).map_err(Trouble::Writing)?;
        }
        mode.map_or(Ok(()), |mode| file_mode(&file, mode)).map_err(Trouble::Writing)
    }

    /// Gives a file one more name; false if it is not there.
    fn hard_link(&mut self, path: &RelPath, to: &RelPath) -> io::Result<bool> {
        let from = match to.parent() {
            // Asking must not make the folder.
            Some(parent) if self.top.symlink_metadata(parent.as_str()).is_err() => return Ok(false),
            parent => self.folder(parent.as_ref())?.try_clone()?,
        };
        if from.symlink_metadata(to.name()).is_err() {
            return Ok(false);
        }
        let dir = self.folder(path.parent().as_ref())?;
        from.hard_link(to.name(), dir, path.name())?;
        Ok(true)
    }

    pub(super) fn finish(mut self, into: &Path, of: &Footprint) -> Result<Extracted, Failure> {
        let trouble = |e: io::Error| Failure::io("can't finish", into, e);
        self.open.clear();
        if into.is_dir() {
            for entry in fs::read_dir(&self.root).map_err(trouble)? {
                let entry = entry.map_err(trouble)?;
                fs::rename(entry.path(), into.join(entry.file_name())).map_err(trouble)?;
            }
            fs::remove_dir(&self.root).map_err(trouble)?;
            self.top = Dir::open_ambient_dir(into, ambient_authority()).map_err(trouble)?;
        } else {
            fs::rename(&self.root, into).map_err(trouble)?;
        }
        self.litter.keep();
        // Modes of folders last and from the depth upwards: one may become a folder in which nothing can be moved.
        for node in of.tree.iter().rev() {
            if let Node::Folder { path, mode } = node {
                let done = self.folder(Some(path)).and_then(|dir| folder_mode(dir, *mode));
                done.map_err(|e| Failure::io("can't set the mode of", &into.join(path.as_str()), e))?;
            }
        }
        Ok(self.result)
    }
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

fn modes_of(of: &Footprint) -> std::collections::HashMap<&RelPath, u32> {
    of.tree
        .iter()
        .filter_map(|n| if let Node::File { path, mode, .. } = n { Some((path, *mode)) } else { None })
        .collect()
}

/// What the system answers when a link is in the way of an open that follows none.
#[cfg(unix)]
fn link_in_the_way() -> i32 {
    rustix::io::Errno::LOOP.raw_os_error()
}

#[cfg(not(unix))]
fn link_in_the_way() -> i32 {
    0
}

#[cfg(unix)]
fn link(dir: &Dir, target: &str, name: &str) -> io::Result<()> {
    dir.symlink(target, name)
}

#[cfg(windows)]
fn link(dir: &Dir, target: &str, name: &str) -> io::Result<()> {
    dir.symlink_file(target.replace('/', "\\"), name)
}

/// Special bits are not given to files that come from anywhere.
#[cfg(unix)]
fn permissions(mode: u32) -> cap_std::fs::Permissions {
    cap_std::fs::PermissionsExt::from_mode(mode & 0o777)
}

#[cfg(unix)]
fn file_mode(file: &cap_std::fs::File, mode: u32) -> io::Result<()> {
    file.set_permissions(permissions(mode))
}

#[cfg(unix)]
fn folder_mode(dir: &Dir, mode: u32) -> io::Result<()> {
    dir.set_permissions(".", permissions(mode))
}

#[cfg(not(unix))]
fn file_mode(_: &cap_std::fs::File, _: u32) -> io::Result<()> {
    Ok(())
}

#[cfg(not(unix))]
fn folder_mode(_: &Dir, _: u32) -> io::Result<()> {
    Ok(())
}
