//! Images of ours and of others, read back: what a launcher, desktop entries and the files themselves say.

use super::{HEAD_HASH, MARK, PADDED, hash_of};
use crate::budget::{Budget, Package};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Foreign, IconImage, Identity, Node, RelPath};
use crate::platform::Platform;
use crate::problem::Failure;
use crate::targets::launcher::{self, Script};
use crate::targets::linux_desktop::{self, Desktop};
use crate::targets::{Depth, Visit, damaged, unsupported};
use squashfs::read::{Image, Inode, Kind as InodeKind, Limits};
use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::atomic::{AtomicUsize, Ordering};

/// A package's image.
pub(super) struct Opened {
    pub(super) image: Image<File>,
    pub(super) offset: u64,
    platform: Option<Platform>,
}

/// `None` for what is no AppImage.
pub(super) fn open(package: &Package) -> Result<Option<Opened>, Failure> {
    let io = |e: io::Error| Failure::io("can't read", package, e);
    let mut file = File::open(package).map_err(io)?;
    let mut head = [0; 64];
    if file.read_exact(&mut head).is_err() || head[..4] != *b"\x7fELF" || head[8..11] != *MARK {
        return Ok(None);
    }
    let offset = elf_end(&head).ok_or_else(|| damaged(package, "its head is not a 64-bit ELF file"))?;
    let platform = match head[18] {
        62 => Some(Platform::LinuxX64),
        183 => Some(Platform::LinuxArm64),
        _ => None,
    };
    let limits = Limits {
        max_entries: package.budget.most_names(),
        max_depth: package.budget.most_depth(),
        ..Limits::default()
    };
    let image = Image::open(file, offset, limits).map_err(|e| match e {
        squashfs::Error::Unsupported(why) => unsupported(package, format!("its image is {why}")),
        e => damaged(package, e),
    })?;
    Ok(Some(Opened { image, offset, platform }))
}

/// Where the ELF file ends: behind its section headers.
fn elf_end(head: &[u8; 64]) -> Option<u64> {
    let number = |at: usize, len: usize| head[at..at + len].iter().rev().fold(0u64, |n, b| n << 8 | u64::from(*b));
    if head[4] != 2 || head[5] != 1 {
        return None;
    }
    number(40, 8).checked_add(number(58, 2) * number(60, 2))
}

/// A head of ours keeps the image's hash: nothing in the image itself notices every flipped bit.
pub(super) fn check_hash(image: &Image<File>, offset: u64) -> io::Result<Result<(), String>> {
    use object::{Object, ObjectSection};
    // Heads of other makers may be of any size; ours is not.
    if offset > 4 << 20 {
        return Ok(Ok(()));
    }
    let mut file = image.source();
    let mut head = vec![0; offset as usize];
    file.seek(SeekFrom::Start(0))?;
    file.read_exact(&mut head)?;
    let elf = object::File::parse(head.as_slice()).ok();
    let section = |name| elf.as_ref().and_then(|e| e.section_by_name(name)?.data().ok()).unwrap_or_default();
    let stored = section(".content_hash");
    if stored.len() != 32 || stored == [0; 32] {
        return Ok(Ok(()));
    }
    let length = section(".image_length").try_into().map_or(0, u64::from_le_bytes);
    if length > 0 {
        let bytes = image.bytes_used();
        let mut values = vec![[0; 32]; usize::try_from(checked_read::pieces(bytes)).map_err(io::Error::other)?];
        file.seek(SeekFrom::Start(offset + bytes.next_multiple_of(PADDED)))?;
        let whole = file.read_exact(values.as_flattened_mut());
        if length != bytes || whole.is_err() || checked_read::hash(&values, bytes).is_none_or(|h| h != stored) {
            return Ok(Err("the table of checksums behind its image is not what was written".into()));
        }
    }
    file.seek(SeekFrom::Start(offset))?;
    let seen = hash_of(file.take(image.bytes_used()))?;
    Ok(if seen == stored {
        Ok(())
    } else {
        Err("its content was changed after it was packed: the hash in its head differs".into())
    })
}

struct Entry {
    path: String,
    inode: Inode,
}

/// Everything in an image.
pub(super) struct Tree {
    nodes: Vec<Entry>,
    /// What our launcher in it says: programs, and the folder with the product's own files.
    ours: Option<Script>,
    /// The hash of the program in front, as it says.
    pub(super) head: Option<String>,
}

impl Opened {
    pub(super) fn tree(&self, budget: &Budget) -> squashfs::Result<Tree> {
        let mut nodes = Vec::new();
        self.image.walk(|v| {
            // A file of several names comes with its list of blocks for each.
            let blocks = if let InodeKind::File(file) = &v.inode.kind { file.size / 4096 / 32 } else { 0 };
            budget.metadata(v.path.len() as u64 + blocks).map_err(io::Error::from)?;
            nodes.push(Entry { path: String::from_utf8_lossy(&v.path).into_owned(), inode: v.inode });
            Ok::<_, squashfs::Error>(())
        })?;
        let is_small = |n: &&Entry| matches!(&n.inode.kind, InodeKind::File(f) if f.size < 1 << 20);
        let script = nodes.iter().find(|n| n.path == "AppRun").filter(is_small);
        let script = script.map(|n| self.image.read_to_vec(&n.inode)).transpose()?.unwrap_or_default();
        let script = String::from_utf8_lossy(&script);
        let head = script.lines().find_map(|l| l.strip_prefix(HEAD_HASH)).map(str::to_owned);
        Ok(Tree { nodes, ours: launcher::read(&script), head })
    }
}

impl Tree {
    /// The product's own files, folders and links with their paths in the footprint, in its order: of a file's several
    /// names the first is the file.
    fn own(&self) -> Vec<(RelPath, &Entry)> {
        let below = |path: &str| match &self.ours {
            None => RelPath::new(path).ok(),
            Some(Script { install, .. }) => RelPath::new(path.strip_prefix(install)?.strip_prefix('/')?).ok(),
        };
        let mut own: Vec<(RelPath, &Entry)> = self.nodes.iter().filter_map(|n| Some((below(&n.path)?, n))).collect();
        own.sort_by(|a, b| a.0.cmp(&b.0));
        own
    }
}

pub(super) fn files(opened: &Opened, budget: &Budget, visit: Visit) -> squashfs::Result<()> {
    let tree = opened.tree(budget)?;
    // Twins are one inode; each path that the footprint lists as a file comes once.
    let mut seen = std::collections::HashSet::new();
    for (path, node) in tree.own() {
        let first = node.inode.nlink < 2 || seen.insert(node.inode.number);
        if matches!(node.inode.kind, InodeKind::File(_)) && first {
            visit(&path, &mut budget.meter(opened.image.reader(&node.inode)?))?;
        }
    }
    Ok(())
}

pub(super) fn read_image(opened: &Opened, tree: &Tree, depth: Depth, budget: &Budget) -> squashfs::Result<Footprint> {
    let Opened { image, platform, .. } = opened;
    let nodes = &tree.nodes;
    let mut desktop = linux_desktop::Files::new();
    let mut icons = Vec::new();
    for node in nodes {
        let InodeKind::File(file) = &node.inode.kind else { continue };
        let Some(path) = node.path.strip_prefix("usr/share/") else { continue };
        let icon = path.strip_prefix("icons/hicolor/").and_then(crate::icons::form_of_theme_path);
        match (icon, depth) {
            // In a listing an icon is known by its name; its bytes are not needed.
            (Some(form), Depth::Listing) => icons.push(IconImage { form, content: None }),
            _ if is_desktop_file(path) && file.size < 4 << 20 => {
                budget.metadata(file.size).map_err(io::Error::from)?;
                desktop.insert(path.to_owned(), image.read_to_vec(&node.inode)?);
            }
            _ => {}
        }
    }
    let Desktop { mut product, shortcuts, file_types, link_schemes, icons: drawn } = linux_desktop::read(&desktop);
    icons.extend(drawn);
    if tree.ours.is_none() {
        foreign_identity(image, nodes, &mut product)?;
    }
    let own = tree.own();
    let hashes = match depth {
        Depth::Listing => HashMap::new(),
        Depth::Contents => {
            let sizes = own
                .iter()
                .filter_map(|(_, n)| if let InodeKind::File(f) = &n.inode.kind { Some(f.size) } else { None });
            sizes.into_iter().try_for_each(|size| budget.plain(size)).map_err(io::Error::from)?;
            hash_files(image, own.iter().map(|(_, n)| *n))?
        }
    };
    let mut first_names: HashMap<u32, RelPath> = HashMap::new();
    let (mut found, mut left_out) = (Vec::new(), Vec::new());
    for (path, node) in own {
        let mode = u32::from(node.inode.mode);
        found.push(match &node.inode.kind {
            InodeKind::Dir(_) => Node::Folder { path, mode },
            InodeKind::Symlink(target) => Node::Link { path, target: String::from_utf8_lossy(target).into_owned() },
            InodeKind::File(file) => match first_names.get(&node.inode.number) {
                Some(to) if node.inode.nlink > 1 => Node::HardLink { path, to: to.clone() },
                _ => {
                    first_names.insert(node.inode.number, path.clone());
                    Node::File { path, mode, size: file.size, content: hashes.get(node.path.as_str()).copied() }
                }
            },
            // Applications bring no devices; one in somebody's image is not followed.
            InodeKind::BlockDevice(_) | InodeKind::CharDevice(_) | InodeKind::Fifo | InodeKind::Socket => {
                left_out.push(Foreign::LeftOut { what: format!("the pipe or device {path}") });
                continue;
            }
        });
    }
    let (programs, environment) =
        tree.ours.as_ref().map_or_else(Default::default, |s| (s.programs.clone(), s.environment.clone()));
    Ok(Footprint {
        product,
        platform: *platform,
        tree: found.into(),
        programs: programs.into(),
        shortcuts: shortcuts.into(),
        file_types: file_types.into(),
        link_schemes: link_schemes.into(),
        environment: environment.into(),
        icons: icons.into(),
        foreign: left_out.into(),
        ..Footprint::default()
    })
}

fn is_desktop_file(path: &str) -> bool {
    ["applications/", "metainfo/", "mime/packages/", "icons/hicolor/"].iter().any(|p| path.starts_with(p))
}

/// Another maker's image may say who it is in its root's desktop entry only.
fn foreign_identity(image: &Image<File>, nodes: &[Entry], product: &mut Identity) -> squashfs::Result<()> {
    let entry = nodes.iter().find(|n| n.path.ends_with(".desktop") && !n.path.contains('/'));
    let Some(Entry { path, inode }) = entry else { return Ok(()) };
    // It is often a link to the entry further in.
    let target = match &inode.kind {
        InodeKind::Symlink(target) => image.lookup(target)?,
        _ => Some(inode.clone()),
    };
    let Some(inode) = target.filter(|i| matches!(&i.kind, InodeKind::File(f) if f.size < 1 << 20)) else {
        return Ok(());
    };
    let text = String::from_utf8_lossy(&image.read_to_vec(&inode)?).into_owned();
    let value = |key: &str| text.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix('=').map(str::to_owned));
    let fill = |slot: &mut Option<String>, value: Option<String>| {
        if slot.is_none() {
            *slot = value;
        }
    };
    fill(&mut product.id, path.strip_suffix(".desktop").map(str::to_owned));
    fill(&mut product.name, value("Name"));
    product.summary = product.summary.take().or_else(|| value("Comment").map(Into::into));
    fill(&mut product.version, value("X-AppImage-Version"));
    Ok(())
}

/// The hashes of all files by path, on several threads; each file is read once.
fn hash_files<'n>(
    image: &Image<File>,
    nodes: impl Iterator<Item = &'n Entry>,
) -> squashfs::Result<HashMap<&'n str, ContentHash>> {
    let files: Vec<&Entry> = nodes.filter(|n| matches!(n.inode.kind, InodeKind::File(_))).collect();
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let zeros = [0; 1 << 16];
    let work = || -> squashfs::Result<BTreeMap<&'n str, ContentHash>> {
        let mut hashes = BTreeMap::new();
        while let Some(node) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
            let mut hasher = blake3::Hasher::new();
            let mut reader = image.reader(&node.inode)?;
            while let Some(block) = reader.next_block()? {
                match block {
                    squashfs::read::BlockOrHole::Bytes(bytes) => drop(hasher.update(bytes)),
                    squashfs::read::BlockOrHole::Hole(len) => {
                        for part in (0..len as usize).step_by(zeros.len()) {
                            hasher.update(&zeros[..zeros.len().min(len as usize - part)]);
                        }
                    }
                }
            }
            hashes.insert(node.path.as_str(), ContentHash(*hasher.finalize().as_bytes()));
        }
        Ok(hashes)
    };
    std::thread::scope(|scope| {
        let threads: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        let mut all = HashMap::new();
        for thread in threads {
            all.extend(thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?);
        }
        Ok(all)
    })
}
