//! The tables behind the data: inodes and directory listings (written together, inside out), fragments, export, owners,
//! extended attributes.

use super::metadata::MetadataWriter;
use super::tree::{Body, Node, NodeId, Special, Tree};
use crate::codec::Packer;
use crate::structs::*;
use crate::{Error, Result};
use std::collections::HashMap;
use zerocopy::IntoBytes;

/// The finished inode and directory tables, packed.
pub struct Tables {
    pub inodes: Vec<u8>,
    pub directories: Vec<u8>,
    pub root: u64,
    pub inode_count: u32,
    /// Inode references by inode number less one.
    pub references: Vec<u64>,
    pub owners: Vec<u32>,
}

/// Numbers every inode: a folder's files in a row, in the order of their names, then the folder.
fn number(tree: &mut Tree, order: &[NodeId]) -> Result<u32> {
    let mut next: u32 = 1;
    for &dir in order {
        let children: Vec<NodeId> = tree.entries(dir).into_iter().flatten().map(|(_, &id)| id).collect();
        for id in children.into_iter().chain([dir]) {
            let is_other_folder = id != dir && tree.entries(id).is_some();
            if !is_other_folder && tree.nodes[id].number == 0 {
                tree.nodes[id].number = next;
                next = next.checked_add(1).ok_or_else(|| Error::Usage("more than 4294967295 files".into()))?;
            }
        }
    }
    Ok(next - 1)
}

/// Writes all inodes and listings.
pub fn write_tree(tree: &mut Tree, packers: &mut (Packer, Packer), time: u32) -> Result<Tables> {
    let order = tree.folders_inside_out();
    let inode_count = number(tree, &order)?;
    let mut references = vec![0; inode_count as usize];
    let mut owners = Owners::default();
    let mut inodes = MetadataWriter::new(&mut packers.0);
    let mut listings = MetadataWriter::new(&mut packers.1);
    let mut written = vec![false; tree.nodes.len()];
    for &dir in &order {
        let children: Vec<(Box<[u8]>, NodeId)> =
            tree.entries(dir).into_iter().flatten().map(|(name, &id)| (name.clone(), id)).collect();
        for &(_, id) in &children {
            if tree.entries(id).is_none() && !written[id] {
                written[id] = true;
                tree.nodes[id].reference = inodes.reference();
                write_leaf(&tree.nodes[id], &mut inodes, &mut owners, time)?;
            }
        }
        let listing = write_listing(tree, &children, &mut listings);
        tree.nodes[dir].reference = inodes.reference();
        let subfolders = children.iter().filter(|(_, id)| tree.entries(*id).is_some()).count() as u32;
        let parent = if dir == 0 { inode_count + 1 } else { tree.nodes[tree.nodes[dir].parent].number };
        write_dir(&tree.nodes[dir], listing?, (parent, subfolders + 2), &mut inodes, &mut owners, time)?;
    }
    for node in &tree.nodes {
        references[node.number as usize - 1] = node.reference;
    }
    Ok(Tables {
        inodes: inodes.finish().0,
        directories: listings.finish().0,
        root: tree.nodes[0].reference,
        inode_count,
        references,
        owners: owners.ids,
    })
}

#[derive(Default)]
struct Owners {
    ids: Vec<u32>,
    index: HashMap<u32, u16>,
}

impl Owners {
    fn index_of(&mut self, id: u32) -> Result<u16> {
        if let Some(&at) = self.index.get(&id) {
            return Ok(at);
        }
        let at = u16::try_from(self.ids.len()).map_err(|_| Error::Usage("more than 65535 owners".into()))?;
        self.ids.push(id);
        self.index.insert(id, at);
        Ok(at)
    }
}

fn header(node: &Node, kind: u16, owners: &mut Owners, time: u32) -> Result<InodeHeader> {
    Ok(InodeHeader {
        kind: kind.into(),
        mode: (node.meta.mode & 0o7777).into(),
        uid: owners.index_of(node.meta.uid)?.into(),
        gid: owners.index_of(node.meta.gid)?.into(),
        mtime: node.meta.mtime.unwrap_or(time).into(),
        inode_number: node.number.into(),
    })
}

fn write_leaf(node: &Node, out: &mut MetadataWriter, owners: &mut Owners, time: u32) -> Result<()> {
    let extended = node.xattr != NONE_32;
    let ext = if extended { kind::EXTENDED } else { 0 };
    match &node.body {
        Body::Dir(_) => {}
        Body::File(data) => {
            let (fragment, offset) = data.fragment.unwrap_or((NONE_32, 0));
            let basic = u32::try_from(data.start).ok().zip(u32::try_from(data.size).ok());
            match basic {
                Some((start, size)) if !extended && node.nlink == 1 && data.sparse == 0 => {
                    out.append(header(node, kind::REG, owners, time)?.as_bytes());
                    let record = RegInode {
                        start_block: start.into(),
                        fragment: fragment.into(),
                        offset: offset.into(),
                        file_size: size.into(),
                    };
                    out.append(record.as_bytes());
                }
                _ => {
                    out.append(header(node, kind::REG + kind::EXTENDED, owners, time)?.as_bytes());
                    let record = ExtRegInode {
                        start_block: data.start.into(),
                        file_size: data.size.into(),
                        sparse: data.sparse.into(),
                        nlink: node.nlink.into(),
                        fragment: fragment.into(),
                        offset: offset.into(),
                        xattr: node.xattr.into(),
                    };
                    out.append(record.as_bytes());
                }
            }
            for size in &data.blocks {
                out.append(&size.to_le_bytes());
            }
        }
        Body::Special(special) => {
            let nlink = node.nlink.into();
            match special {
                Special::Symlink(target) => {
                    out.append(header(node, kind::SYMLINK + ext, owners, time)?.as_bytes());
                    out.append(SymlinkInode { nlink, target_size: (target.len() as u32).into() }.as_bytes());
                    out.append(target);
                }
                Special::BlockDevice(rdev) => {
                    out.append(header(node, kind::BLKDEV + ext, owners, time)?.as_bytes());
                    out.append(DeviceInode { nlink, rdev: (*rdev).into() }.as_bytes());
                }
                Special::CharDevice(rdev) => {
                    out.append(header(node, kind::CHRDEV + ext, owners, time)?.as_bytes());
                    out.append(DeviceInode { nlink, rdev: (*rdev).into() }.as_bytes());
                }
                Special::Fifo => {
                    out.append(header(node, kind::FIFO + ext, owners, time)?.as_bytes());
                    out.append(IpcInode { nlink }.as_bytes());
                }
                Special::Socket => {
                    out.append(header(node, kind::SOCKET + ext, owners, time)?.as_bytes());
                    out.append(IpcInode { nlink }.as_bytes());
                }
            }
            if extended {
                out.append(&node.xattr.to_le_bytes());
            }
        }
    }
    Ok(())
}

fn basic_kind(node: &Node) -> u16 {
    match &node.body {
        Body::Dir(_) => kind::DIR,
        Body::File(_) => kind::REG,
        Body::Special(Special::Symlink(_)) => kind::SYMLINK,
        Body::Special(Special::BlockDevice(_)) => kind::BLKDEV,
        Body::Special(Special::CharDevice(_)) => kind::CHRDEV,
        Body::Special(Special::Fifo) => kind::FIFO,
        Body::Special(Special::Socket) => kind::SOCKET,
    }
}

/// Where a listing stands, and the steps of its index.
struct Listing {
    start: (u64, u16),
    size: u32,
    index: Vec<(DirIndex, Box<[u8]>)>,
}

fn write_listing(tree: &Tree, children: &[(Box<[u8]>, NodeId)], out: &mut MetadataWriter) -> Result<Listing> {
    let mut listing = Listing { start: out.position(), size: 0, index: Vec::new() };
    let mut indexed_block = listing.start.0;
    let mut rest = children;
    while let Some(((first_name, first), _)) = rest.split_first() {
        let base = &tree.nodes[*first];
        let block = base.reference >> 16;
        // A run shares the inodes' metadata block and keeps every number within 16 bits of the first.
        let fits = |id: NodeId| {
            let node = &tree.nodes[id];
            node.reference >> 16 == block && i16::try_from(i64::from(node.number) - i64::from(base.number)).is_ok()
        };
        let run = rest.iter().take(DIR_RUN_MAX).take_while(|(_, id)| fits(*id)).count();
        let here = out.position().0;
        if here != indexed_block {
            indexed_block = here;
            let step = DirIndex {
                index: listing.size.into(),
                start_block: to_u32(here, "directory table")?.into(),
                name_len_less_one: (first_name.len() as u32 - 1).into(),
            };
            listing.index.push((step, first_name.clone()));
        }
        let head = DirHeader {
            count_less_one: (run as u32 - 1).into(),
            start_block: to_u32(block, "inode table")?.into(),
            inode_number: base.number.into(),
        };
        out.append(head.as_bytes());
        let mut size = size_of::<DirHeader>();
        for (name, id) in &rest[..run] {
            let node = &tree.nodes[*id];
            let entry = DirEntry {
                offset: (node.reference as u16).into(),
                inode_delta: ((i64::from(node.number) - i64::from(base.number)) as i16).into(),
                kind: basic_kind(node).into(),
                name_len_less_one: (name.len() as u16 - 1).into(),
            };
            out.append(entry.as_bytes());
            out.append(name);
            size += size_of::<DirEntry>() + name.len();
        }
        listing.size = u32::try_from(size)
            .ok()
            .and_then(|n| listing.size.checked_add(n))
            .ok_or_else(|| Error::Usage("a folder's listing is over 4 GiB".into()))?;
        rest = &rest[run..];
    }
    Ok(listing)
}

fn write_dir(
    node: &Node,
    listing: Listing,
    (parent, nlink): (u32, u32),
    out: &mut MetadataWriter,
    owners: &mut Owners,
    time: u32,
) -> Result<()> {
    let start_block = to_u32(listing.start.0, "directory table")?.into();
    let (offset, parent_inode, nlink) = (listing.start.1.into(), parent.into(), nlink.into());
    // The kernel counts three bytes more than the listing has, for `.` and `..`.
    let size = listing.size.checked_add(3).ok_or_else(|| Error::Usage("a folder's listing is over 4 GiB".into()))?;
    match u16::try_from(size) {
        Ok(file_size) if node.xattr == NONE_32 && listing.index.is_empty() => {
            out.append(header(node, kind::DIR, owners, time)?.as_bytes());
            out.append(DirInode { start_block, nlink, file_size: file_size.into(), offset, parent_inode }.as_bytes());
        }
        _ => {
            // The index is a help for finding names, not a must: what goes over the field's range is left out.
            let index = &listing.index[..listing.index.len().min(usize::from(u16::MAX))];
            out.append(header(node, kind::DIR + kind::EXTENDED, owners, time)?.as_bytes());
            let record = ExtDirInode {
                nlink,
                file_size: size.into(),
                start_block,
                parent_inode,
                index_count: (index.len() as u16).into(),
                offset,
                xattr: node.xattr.into(),
            };
            out.append(record.as_bytes());
            for (step, name) in index {
                out.append(step.as_bytes());
                out.append(name);
            }
        }
    }
    Ok(())
}

fn to_u32(position: u64, table: &str) -> Result<u32> {
    u32::try_from(position).map_err(|_| Error::Usage(format!("the {table} is over 4 GiB")))
}

/// The xattr table's parts, or `None` when no node has any; also sets each node's index into it.
pub struct Xattrs {
    pub kv: Vec<u8>,
    pub ids: Vec<u8>,
    pub id_starts: Vec<u64>,
    pub count: u32,
}

pub fn write_xattrs(tree: &mut Tree, packers: &mut (Packer, Packer)) -> Result<Option<Xattrs>> {
    let mut sets: HashMap<Vec<(String, Vec<u8>)>, u32> = HashMap::new();
    let mut kv = MetadataWriter::new(&mut packers.0);
    let mut ids = MetadataWriter::new(&mut packers.1);
    for node in tree.nodes.iter_mut().filter(|n| !n.meta.xattrs.is_empty()) {
        let mut set = node.meta.xattrs.clone();
        set.sort();
        if let Some(&index) = sets.get(&set) {
            node.xattr = index;
            continue;
        }
        let reference = kv.reference();
        let mut size = 0u32;
        for (name, value) in &set {
            let found = XATTR_PREFIXES.iter().enumerate().find_map(|(n, p)| Some((n as u16, name.strip_prefix(p)?)));
            let (kind, suffix) = found
                .filter(|(_, suffix)| !suffix.is_empty() && suffix.len() <= 255)
                .ok_or_else(|| Error::Usage(format!("squashfs can't hold an extended attribute named {name:?}")))?;
            let len = u32::try_from(value.len()).ok().filter(|&n| n <= 65536);
            let len = len.ok_or_else(|| Error::Usage(format!("the attribute {name:?} is over 64 KiB")))?;
            kv.append(XattrEntry { kind: kind.into(), name_len: (suffix.len() as u16).into() }.as_bytes());
            kv.append(suffix.as_bytes());
            kv.append(&len.to_le_bytes());
            kv.append(value);
            size = size.saturating_add((size_of::<XattrEntry>() + suffix.len() + 4 + value.len()) as u32);
        }
        let index = sets.len() as u32;
        ids.append(
            XattrId { reference: reference.into(), count: (set.len() as u32).into(), size: size.into() }.as_bytes(),
        );
        node.xattr = index;
        sets.insert(set, index);
    }
    if sets.is_empty() {
        return Ok(None);
    }
    let kv = kv.finish().0;
    let (ids, id_starts) = ids.finish();
    Ok(Some(Xattrs { kv, ids, id_starts, count: sets.len() as u32 }))
}
