//! Where bundles are found that somebody else made: in a folder, or in a disk image.

use super::tree::{Item, Open, Tree};
use super::verify::verify_bundle;
use crate::budget::{Budget, Exceeded};
use crate::payload::{Source, Stamp};
use crate::signing::{Certificate, Inside};
use code_signature::{Error, Result};
use hfs_plus::read::{Entry, Kind, Limits, Volume};
use read_at::ReadAt;
use std::fs::File;
use std::path::Path;
use udif::partitions::{Content, partitions};
use udif::read::Image;

/// A folder's own name, and everything in it: paths begin with that name.
pub(in crate::signing) fn folder(path: &Path) -> std::io::Result<(String, Tree)> {
    let whole = path.canonicalize()?;
    let name = whole.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut tree = Tree::default();
    tree.0.insert(name.clone(), Item::Folder);
    let mut waiting = vec![(whole, name.clone())];
    while let Some((folder, path)) = waiting.pop() {
        for entry in std::fs::read_dir(folder)? {
            let entry = entry?;
            let (kind, place) = (entry.file_type()?, entry.path());
            let path = format!("{path}/{}", entry.file_name().to_string_lossy());
            let item = if kind.is_dir() {
                waiting.push((place, path.clone()));
                Item::Folder
            } else if kind.is_symlink() {
                Item::Link(std::fs::read_link(place)?.to_string_lossy().into_owned())
            } else if kind.is_file() {
                let stamp = Stamp::of(&entry.metadata()?);
                Item::File(Source::Disk(place, stamp))
            } else {
                continue;
            };
            tree.0.insert(path, item);
        }
    }
    Ok((name, tree))
}

type Disk = Volume<read_at::Part<Image<File>>>;

/// A file on a volume.
struct OnVolume<'v> {
    volume: &'v Disk,
    entry: Entry,
}

impl Open for OnVolume<'_> {
    fn open(&self) -> std::io::Result<Box<dyn ReadAt + '_>> {
        let file = self.volume.read(&self.entry).map_err(std::io::Error::other)?;
        Ok(Box::new(file))
    }
}

/// The programs and bundles in a disk image; nothing for one whose volume can't be read here.
pub(in crate::signing) fn image(
    path: &Path,
    roots: &[Certificate],
    now: u64,
    limit: u64,
) -> Result<Option<Vec<Inside>>> {
    let bad = |e: udif::Error| Error::format(0, e.to_string());
    let file = File::open(path)?;
    // A small image can ask for terabytes.
    let budget = Budget::new(file.metadata()?.len(), limit);
    let over = |e: Exceeded| Error::Limit(e.to_string());
    let image = Image::open(file, udif::read::Limits::default()).map_err(bad)?;
    let parts = partitions(&image).map_err(bad)?;
    let Some(part) = parts.iter().find(|part| part.content == Content::Hfs) else { return Ok(None) };
    let disk = read_at::Part::new(image, part.start, part.length)?;
    let bad = |e: hfs_plus::Error| Error::format(0, e.to_string());
    let limits = Limits { max_entries: budget.most_names(), max_depth: budget.most_depth(), ..Limits::default() };
    let volume = Volume::open(disk, limits).map_err(bad)?;
    let mut tree = Tree::default();
    for entry in volume.entries().map_err(bad)? {
        let path = entry.path.clone();
        budget.name(&path).and_then(|()| budget.plain(entry.size())).map_err(over)?;
        let item = match &entry.kind {
            Kind::Folder(_) => Item::Folder,
            Kind::Link(_, target) => Item::Link(target.clone()),
            Kind::File(..) => Item::File(OnVolume { volume: &volume, entry }),
        };
        tree.0.insert(path, item);
    }
    // No bundle has an empty name: all of them are inside.
    verify_bundle(&tree, "", roots, now).map(|(_, _, inside)| Some(inside))
}
