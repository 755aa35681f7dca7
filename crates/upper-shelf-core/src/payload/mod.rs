//! The payload: the files of one platform after all layers. [`gather`] looks at names, sizes and modes only;
//! [`feed::feed`] reads every file once, for all packages at a time.

pub(crate) mod brand;
pub mod feed;
pub(crate) mod gather;
pub(crate) mod kinds;
pub(crate) mod launcher;
pub mod names;
pub(crate) mod universal;

use crate::footprint::{Node, RelPath};
use crate::problem::Span;
pub use gather::{gather, patterns};
use read_at::{Overlay, ReadAt};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

/// A layer as resolved for one platform.
#[derive(Debug, Clone)]
pub struct Layer {
    /// The folder (or single file) that is followed; in a source, its place there.
    pub from: PathBuf,
    /// The source that it lies in.
    pub source: Option<crate::settings::Source>,
    /// Where it goes in the payload.
    pub into: Option<RelPath>,
    /// Only what fits one of these, if there are any.
    pub keep: Vec<String>,
    /// Nothing that fits one of these.
    pub drop: Vec<String>,
    /// How permission bits are taken.
    pub modes: Modes,
    /// What fits one of these may be started.
    pub executable: Vec<String>,
    /// As written, for reports.
    pub label: String,
    /// Where it is written.
    pub span: Option<Span>,
    /// Its keys in the manifest, as problems name them.
    pub setting: String,
}

/// Where a file's bytes come from.
#[derive(Debug, Clone)]
pub enum Source {
    /// A file, which must stay as it was when it was looked at.
    Disk(PathBuf, Stamp),
    /// Bytes in memory.
    Memory(Arc<[u8]>),
    /// A program with a signature, or with the folders of its libraries: what changes lies over its bytes, which must stay as they were.
    Changed(Box<Source>, Overlay<()>),
    /// Programs of macOS for one processor each, as one for all of them; each must stay as it was.
    Joined(Arc<[(PathBuf, Stamp)]>),
}

/// What a file looked like when it was gathered: a later look must see the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Bytes.
    pub size: u64,
    /// Modification time, nanoseconds since 1970 (negative before).
    pub modified: i128,
    /// Device and inode, where the system has them.
    pub inode: (u64, u64),
}

impl Stamp {
    /// Of a file's metadata.
    pub fn of(meta: &std::fs::Metadata) -> Self {
        let modified = meta.modified().map_or(0, |t| match t.duration_since(std::time::UNIX_EPOCH) {
            Ok(after) => after.as_nanos() as i128,
            Err(before) => -(before.duration().as_nanos() as i128),
        });
        #[cfg(unix)]
        let inode = {
            use std::os::unix::fs::MetadataExt;
            (meta.dev(), meta.ino())
        };
        #[cfg(not(unix))]
        let inode = (0, 0);
        Self { size: meta.len(), modified, inode }
    }
}

/// A file to be read.
#[derive(Debug, Clone)]
pub struct PayloadFile {
    /// Where it stands in the payload.
    pub path: RelPath,
    /// Permission bits.
    pub mode: u32,
    /// Bytes.
    pub size: u64,
    /// Its bytes.
    pub source: Source,
    /// Index of its layer.
    pub layer: usize,
    /// Whether it is one more name of a file that stands before it, which packages that can say so don't hold again.
    pub further_name: bool,
}

impl Source {
    /// Opens it for reading at any place.
    ///
    /// # Errors
    /// It can't be read, or changed since it was gathered.
    pub(crate) fn open(&self) -> std::io::Result<Box<dyn ReadAt>> {
        Ok(match self {
            Self::Memory(bytes) => Box::new(Arc::clone(bytes)),
            Self::Disk(path, stamp) => {
                let file = std::fs::File::open(path)?;
                if Stamp::of(&file.metadata()?) != *stamp {
                    return Err(std::io::Error::other("it changed since it was looked at"));
                }
                Box::new(file)
            }
            Self::Joined(parts) => {
                let files = universal::parts(parts).map_err(|(_, e)| e)?;
                Box::new(mach_o::Joined::new(files).map_err(std::io::Error::other)?)
            }
            Self::Changed(base, overlay) => Box::new(overlay.over(base.open()?)),
        })
    }
}

impl PayloadFile {
    /// All its bytes, for one that is small enough to be changed in memory.
    ///
    /// # Errors
    /// It can't be read, it changed since it was gathered, or it is joined from several.
    pub(crate) fn bytes(&self) -> std::io::Result<Vec<u8>> {
        match &self.source {
            Source::Memory(bytes) => Ok(bytes.to_vec()),
            Source::Joined(_) => Err(std::io::Error::other("it is a program of macOS")),
            Source::Changed(..) => Err(std::io::Error::other("it is changed already")),
            Source::Disk(path, stamp) => {
                let bytes = std::fs::read(path)?;
                let same = Stamp::of(&path.metadata()?) == *stamp && bytes.len() as u64 == stamp.size;
                if same { Ok(bytes) } else { Err(std::io::Error::other("it changed while it was read")) }
            }
        }
    }
}

/// How permission bits are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Modes {
    /// 755 for folders and what its owner may run (for Windows: what is named `.exe`), 644 for the rest: the same on every
    /// build machine that has modes.
    #[default]
    Usual,
    /// As they are on disk.
    Exact,
    /// 755 for programs and scripts, recognised by content, and 644 for the rest: the same where files have no modes
    /// (Windows), whose `usual` this is.
    Content,
}

/// What a layer brings.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Share {
    /// The layer, as the manifest names it.
    pub layer: String,
    /// Plain bytes.
    pub bytes: u64,
    /// How many files.
    pub files: u64,
}

/// The files of one platform.
#[derive(Debug, Clone, Default)]
pub struct Payload {
    /// Files in stable order.
    pub files: Vec<PayloadFile>,
    /// Folders, links and hard links.
    pub others: Vec<Node>,
    /// Plain bytes each layer contributes, and its files.
    pub shares: Vec<Share>,
    /// Files that others of a later layer lie over; only where it matters what they were.
    pub under: Vec<(RelPath, PathBuf, Stamp)>,
}

impl Payload {
    /// All files, those too that are further names of one: what packages hold that keep every name's bytes. `None` if no
    /// file has several names. A further name stands where it would stand as a file of its own, so that such packages are
    /// the same whether the payload has one file with several names or several files.
    pub fn with_further_names(&self) -> Option<Vec<PayloadFile>> {
        let mut further: Vec<(&RelPath, &RelPath)> = self
            .others
            .iter()
            .filter_map(|t| if let Node::HardLink { path, to } = t { Some((path, to)) } else { None })
            .collect();
        if further.is_empty() {
            return None;
        }
        further.sort();
        let by_path: HashMap<&RelPath, &PayloadFile> = self.files.iter().map(|f| (&f.path, f)).collect();
        let again = |(path, to): (&RelPath, &RelPath)| {
            let file = by_path.get(to)?;
            Some(PayloadFile { path: path.clone(), further_name: true, ..(*file).clone() })
        };
        let mut all = Vec::with_capacity(self.files.len() + further.len());
        let mut further = further.into_iter().peekable();
        for file in &self.files {
            while let Some(before) = further.next_if(|(path, to)| *path < &file.path && *to < &file.path) {
                all.extend(again(before));
            }
            all.push(file.clone());
        }
        all.extend(further.filter_map(again));
        Some(all)
    }

    /// The tree of everything in it; hashes are not known before it is read.
    pub fn tree(&self) -> impl Iterator<Item = Node> + '_ {
        let files =
            self.files.iter().map(|f| Node::File { path: f.path.clone(), mode: f.mode, size: f.size, content: None });
        files.chain(self.others.iter().cloned())
    }
}
