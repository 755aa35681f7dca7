//! Unpacking an image into a folder: nothing outside it is ever touched, whatever the image says.

use crate::image::{Bundle, Source};
use crate::Failure;
use squashfs::read::{BlockOrHole, Image, Inode, Kind};
use std::fs;
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Trouble with the image, or with the disk.
pub enum Trouble {
    Image(squashfs::Error),
    Disk(PathBuf, io::Error),
}

impl From<squashfs::Error> for Trouble {
    fn from(e: squashfs::Error) -> Self {
        Self::Image(e)
    }
}

impl Trouble {
    pub fn into_failure(self, bundle: &Bundle) -> Failure {
        match self {
            Self::Image(e) => bundle.damaged(e),
            Self::Disk(path, e) => Failure::new(format!("{} can't be written: {e}.", path.display())),
        }
    }
}

/// Unpacks into `to`, which may be there already (files in it are replaced; links in the way are never followed).
pub fn into_existing(image: &Image<Source>, to: &Path, pattern: Option<&[u8]>) -> Result<(), Trouble> {
    unpack(image, to, pattern)
}

/// Unpacks everything that fits the pattern.
pub fn unpack(image: &Image<Source>, to: &Path, pattern: Option<&[u8]>) -> Result<(), Trouble> {
    folder(to)?;
    // Folders get their modes at the end: one that can't be written to may have files in it.
    let mut folders: Vec<(PathBuf, u16)> = Vec::new();
    image.walk(|v| {
        let wanted = pattern.is_none_or(|p| fits(p.strip_prefix(b"./").unwrap_or(p), &v.path));
        let path = to.join(std::ffi::OsStr::from_bytes(&v.path));
        if let Kind::Dir(_) = v.inode.kind {
            if wanted {
                parents(to, &v.path)?;
                folder(&path)?;
                folders.push((path, v.inode.mode));
            }
            return Ok(());
        }
        if !wanted {
            return Ok(());
        }
        parents(to, &v.path)?;
        let _ = fs::remove_file(&path);
        match &v.inode.kind {
            Kind::File(_) => file(image, &v.inode, &path),
            Kind::Symlink(target) => {
                let target = std::ffi::OsStr::from_bytes(target);
                std::os::unix::fs::symlink(target, &path).map_err(|e| Trouble::Disk(path, e))
            }
            // An application has no use for them, and users may not make them.
            Kind::Dir(_) | Kind::BlockDevice(_) | Kind::CharDevice(_) | Kind::Fifo | Kind::Socket => Ok(()),
        }
    })?;
    for (path, mode) in folders.into_iter().rev() {
        let mode = fs::Permissions::from_mode(u32::from(mode) & 0o777 | 0o500);
        fs::set_permissions(&path, mode).map_err(|e| Trouble::Disk(path, e))?;
    }
    Ok(())
}

/// Makes a folder unless it is there; a link in its place is refused.
fn folder(path: &Path) -> Result<(), Trouble> {
    match fs::DirBuilder::new().mode(0o755).create(path) {
        Ok(()) => Ok(()),
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => match fs::symlink_metadata(path) {
            Ok(meta) if meta.is_dir() => Ok(()),
            _ => Err(Trouble::Disk(path.to_owned(), e)),
        },
        Err(e) => Err(Trouble::Disk(path.to_owned(), e)),
    }
}

/// With a pattern, a file's folders may not have been made yet.
fn parents(to: &Path, path: &[u8]) -> Result<(), Trouble> {
    for (at, _) in path.iter().enumerate().filter(|(_, b)| **b == b'/') {
        folder(&to.join(std::ffi::OsStr::from_bytes(&path[..at])))?;
    }
    Ok(())
}

fn file(image: &Image<Source>, inode: &Inode, path: &Path) -> Result<(), Trouble> {
    let disk = |e| Trouble::Disk(path.to_owned(), e);
    // Never with the set-user-id bit: whoever unpacks would give it away.
    let mode = u32::from(inode.mode) & 0o777;
    let mut out = fs::OpenOptions::new().write(true).create_new(true).mode(mode | 0o200).open(path).map_err(disk)?;
    let mut reader = image.reader(inode)?;
    let mut hole_at_end = false;
    while let Some(block) = reader.next_block()? {
        hole_at_end = matches!(block, BlockOrHole::Hole(_));
        match block {
            BlockOrHole::Bytes(bytes) => out.write_all(bytes).map_err(disk)?,
            BlockOrHole::Hole(len) => drop(out.seek(SeekFrom::Current(len.into())).map_err(disk)?),
        }
    }
    if hole_at_end {
        let len = out.stream_position().map_err(disk)?;
        out.set_len(len).map_err(disk)?;
    }
    out.set_permissions(fs::Permissions::from_mode(mode)).map_err(disk)
}

/// `*` stands for any bytes, `?` for one. A pattern that names a folder stands for all that is in it.
fn fits(pattern: &[u8], path: &[u8]) -> bool {
    let whole = matches(pattern, path);
    whole || path.iter().enumerate().any(|(at, &b)| b == b'/' && matches(pattern, &path[..at]))
}

/// Goes back to the last `*` only, so that no pattern takes more than pattern × path steps.
fn matches(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t, mut star) = (0, 0, None);
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, t));
                p += 1;
            }
            Some(&c) if c == b'?' || c == text[t] => {
                p += 1;
                t += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    (p, t) = (at + 1, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|&c| c == b'*')
}
