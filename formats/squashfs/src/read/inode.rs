//! Inodes, directory listings and extended attributes.

use super::metadata::Metadata;
use super::{Image, ReadAt};
use crate::structs::*;
use crate::{Error, Result};

/// Where an inode stands: the packed block's start in the inode table, and the offset in the plain block.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct InodeRef(pub u64);

/// A file, folder or special node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inode {
    /// The inode's number, from 1.
    pub number: u32,
    /// Permission bits.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Seconds since 1970.
    pub mtime: u32,
    /// Names that point here (folders: 2 + folders in it).
    pub nlink: u32,
    /// Index of the extended attributes' set.
    pub xattr: Option<u32>,
    /// What it is.
    pub kind: Kind,
}

/// What an inode is, with where its content stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A folder.
    Dir(DirPlace),
    /// A regular file.
    File(FilePlace),
    /// A symbolic link with its target.
    Symlink(Vec<u8>),
    /// A block device.
    BlockDevice(u32),
    /// A character device.
    CharDevice(u32),
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
}

/// Where a folder's listing stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DirPlace {
    pub(super) start_block: u32,
    pub(super) offset: u16,
    pub(super) size: u32,
    /// Inode number of the folder it is in.
    pub parent: u32,
}

/// Where a file's bytes stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilePlace {
    /// Length, bytes.
    pub size: u64,
    /// Bytes in blocks that are all zero and take no room.
    pub sparse: u64,
    pub(super) start: u64,
    pub(super) fragment: Option<(u32, u32)>,
    pub(super) words: Vec<u32>,
}

impl FilePlace {
    /// Number of blocks, the one in a fragment included.
    pub fn blocks(&self) -> u64 {
        self.words.len() as u64 + u64::from(self.fragment.is_some())
    }
}

/// A name in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The name: any bytes but `/` and zero.
    pub name: Vec<u8>,
    /// The inode behind it.
    pub inode: InodeRef,
    /// Its number.
    pub number: u32,
    /// Its basic type number, see [`kind`].
    pub kind: u16,
}

impl<R: ReadAt> Image<R> {
    /// Reads an inode.
    ///
    /// # Errors
    /// [`Error::Format`] for a reference outside the table or a malformed record; [`Error::Limit`] for a file of too
    /// many blocks.
    pub fn inode(&self, reference: InodeRef) -> Result<Inode> {
        let (block, offset) = (reference.0 >> 16, reference.0 as u16);
        let start = self.superblock.inode_table.get();
        let at = start.checked_add(block).filter(|&at| at < self.superblock.directory_table.get());
        let at = at.ok_or_else(|| Error::format(start, "an inode reference leads outside the inode table"))?;
        let mut m = self.metadata(at, offset, self.superblock.directory_table.get())?;
        let head: InodeHeader = m.record()?;
        let owner = |index: zerocopy::little_endian::U16| {
            let id = self.owners.get(usize::from(index.get())).copied();
            id.ok_or_else(|| Error::format(at, "an owner index outside its table"))
        };
        let mut inode = Inode {
            number: head.inode_number.get(),
            mode: head.mode.get() & 0o7777,
            uid: owner(head.uid)?,
            gid: owner(head.gid)?,
            mtime: head.mtime.get(),
            nlink: 1,
            xattr: None,
            kind: Kind::Fifo,
        };
        let number = head.kind.get();
        let extended = number > kind::EXTENDED;
        match number {
            kind::DIR => {
                let d: DirInode = m.record()?;
                inode.nlink = d.nlink.get();
                let (start_block, offset, parent) = (d.start_block.get(), d.offset.get(), d.parent_inode.get());
                inode.kind = Kind::Dir(DirPlace { start_block, offset, size: d.file_size.get().into(), parent });
            }
            8 => {
                let d: ExtDirInode = m.record()?;
                inode.nlink = d.nlink.get();
                inode.xattr = some_32(d.xattr.get());
                let (start_block, offset, parent) = (d.start_block.get(), d.offset.get(), d.parent_inode.get());
                inode.kind = Kind::Dir(DirPlace { start_block, offset, size: d.file_size.get(), parent });
            }
            kind::REG => {
                let f: RegInode = m.record()?;
                let fragment = some_32(f.fragment.get()).map(|n| (n, f.offset.get()));
                let (size, start) = (f.file_size.get().into(), f.start_block.get().into());
                inode.kind = Kind::File(self.file_place(&mut m, size, start, fragment, 0)?);
            }
            9 => {
                let f: ExtRegInode = m.record()?;
                inode.nlink = f.nlink.get();
                inode.xattr = some_32(f.xattr.get());
                let fragment = some_32(f.fragment.get()).map(|n| (n, f.offset.get()));
                let (size, start) = (f.file_size.get(), f.start_block.get());
                inode.kind = Kind::File(self.file_place(&mut m, size, start, fragment, f.sparse.get())?);
            }
            kind::SYMLINK | 10 => {
                let s: SymlinkInode = m.record()?;
                inode.nlink = s.nlink.get();
                let len = s.target_size.get() as usize;
                if len == 0 || len > SYMLINK_MAX {
                    return Err(Error::format(at, format!("a symbolic link's target of {len} bytes")));
                }
                inode.kind = Kind::Symlink(m.vec(len)?);
            }
            kind::BLKDEV | kind::CHRDEV | 11 | 12 => {
                let d: DeviceInode = m.record()?;
                inode.nlink = d.nlink.get();
                let block = number == kind::BLKDEV || number == 11;
                inode.kind = if block { Kind::BlockDevice(d.rdev.get()) } else { Kind::CharDevice(d.rdev.get()) };
            }
            kind::FIFO | kind::SOCKET | 13 | 14 => {
                let i: IpcInode = m.record()?;
                inode.nlink = i.nlink.get();
                inode.kind = if number == kind::FIFO || number == 13 { Kind::Fifo } else { Kind::Socket };
            }
            n => return Err(Error::format(at, format!("unknown inode type {n}"))),
        }
        if extended && !matches!(number, 8 | 9) {
            inode.xattr = some_32(m.u32()?);
        }
        Ok(inode)
    }

    fn file_place(
        &self,
        m: &mut Metadata<'_, R>,
        size: u64,
        start: u64,
        fragment: Option<(u32, u32)>,
        sparse: u64,
    ) -> Result<FilePlace> {
        let block = u64::from(self.block_size());
        let count = if fragment.is_some() { size / block } else { size.div_ceil(block) };
        if count > self.limits.max_blocks_in_file {
            return Err(Error::Limit(format!("a file of {size} bytes in {count} blocks")));
        }
        // Grown as the table gives them: a made-up size can't ask for more memory than the table has bytes.
        let mut words = Vec::new();
        for _ in 0..count {
            let word = m.u32()?;
            if word & !DATA_STORED > self.block_size() {
                return Err(Error::format(m.at(), format!("a data block of {} bytes", word & !DATA_STORED)));
            }
            words.push(word);
        }
        if let Some((_, offset)) = fragment {
            let tail = size % block;
            if tail == 0 || u64::from(offset) + tail > block {
                return Err(Error::format(m.at(), "a file's end lies outside its fragment block"));
            }
        }
        Ok(FilePlace { size, sparse, start, fragment, words })
    }

    /// The names in a folder, in stored order.
    ///
    /// # Errors
    /// [`Error::Format`] for a malformed listing or a name that could lead elsewhere (`/`, zero, `.`, `..`);
    /// [`Error::Usage`] if it is not a folder.
    pub fn entries(&self, dir: &Inode) -> Result<Vec<Entry>> {
        let Kind::Dir(place) = &dir.kind else {
            return Err(Error::Usage("it is not a folder".into()));
        };
        let mut entries = Vec::new();
        // Three bytes of the size stand for `.` and `..`.
        let mut left = place.size.saturating_sub(3) as usize;
        if left == 0 {
            return Ok(entries);
        }
        let start = self.superblock.directory_table.get() + u64::from(place.start_block);
        let mut m = self.metadata(start, place.offset, self.directory_end)?;
        while left > 0 {
            let head: DirHeader = m.record()?;
            let count = head.count_less_one.get() as usize + 1;
            left = left.checked_sub(size_of::<DirHeader>()).ok_or_else(|| short(&m))?;
            if count > DIR_RUN_MAX {
                return Err(Error::format(m.at(), format!("{count} names behind one directory header")));
            }
            for _ in 0..count {
                let e: DirEntry = m.record()?;
                let len = usize::from(e.name_len_less_one.get()) + 1;
                left = left.checked_sub(size_of::<DirEntry>() + len).ok_or_else(|| short(&m))?;
                if len > NAME_MAX {
                    return Err(Error::format(m.at(), format!("a name of {len} bytes")));
                }
                let name = m.vec(len)?;
                if name.contains(&b'/') || name.contains(&0) || name == b"." || name == b".." {
                    let shown = String::from_utf8_lossy(&name).into_owned();
                    return Err(Error::format(m.at(), format!("the name {shown:?} is not allowed")));
                }
                if entries.len() as u64 >= self.limits.max_entries {
                    return Err(Error::Limit("names in one folder".into()));
                }
                entries.push(Entry {
                    name,
                    inode: InodeRef(u64::from(head.start_block.get()) << 16 | u64::from(e.offset.get())),
                    number: head.inode_number.get().wrapping_add_signed(e.inode_delta.get().into()),
                    kind: e.kind.get(),
                });
            }
        }
        Ok(entries)
    }

    /// The extended attributes of an inode: full names and values.
    ///
    /// # Errors
    /// [`Error::Format`] for an index or reference outside its table.
    pub fn xattrs(&self, inode: &Inode) -> Result<Vec<(String, Vec<u8>)>> {
        let Some(index) = inode.xattr else { return Ok(Vec::new()) };
        let table = self.superblock.xattr_table.get();
        if table == NONE_64 {
            return Err(Error::format(0, "an inode with extended attributes in an image without their table"));
        }
        let mut head = XattrTableHead { kv_start: 0.into(), count: 0.into(), unused: 0.into() };
        self.read_at(zerocopy::IntoBytes::as_mut_bytes(&mut head), table)?;
        if index >= head.count.get() {
            return Err(Error::format(table, "an attribute set outside its table"));
        }
        let bytes_in = index as usize * size_of::<XattrId>();
        let (block, offset) = (bytes_in / METADATA_SIZE, bytes_in % METADATA_SIZE);
        let mut position = [0; 8];
        self.read_at(&mut position, table + size_of::<XattrTableHead>() as u64 + block as u64 * 8)?;
        let id: XattrId = self.metadata(u64::from_le_bytes(position), offset as u16, table)?.record()?;
        let end = self.superblock.bytes_used.get();
        let locate = |reference: u64| {
            let at = head.kv_start.get().checked_add(reference >> 16).filter(|&at| at < end);
            at.map(|at| (at, reference as u16)).ok_or_else(|| Error::format(table, "an attribute outside its table"))
        };
        let (at, offset) = locate(id.reference.get())?;
        let mut m = self.metadata(at, offset, end)?;
        let mut set = Vec::new();
        for _ in 0..id.count.get() {
            let entry: XattrEntry = m.record()?;
            let number = entry.kind.get();
            let prefix = XATTR_PREFIXES.get(usize::from(number & 0xff));
            let prefix = prefix.ok_or_else(|| Error::format(m.at(), "an attribute with an unknown prefix"))?;
            let name = m.vec(entry.name_len.get().into())?;
            let len = m.u32()? as usize;
            let value = if number & XATTR_VALUE_ELSEWHERE != 0 {
                let mut reference = [0; 8];
                m.bytes(&mut reference)?;
                let (at, offset) = locate(u64::from_le_bytes(reference))?;
                let mut elsewhere = self.metadata(at, offset, end)?;
                let len = elsewhere.u32()? as usize;
                attribute_value(&mut elsewhere, len)?
            } else {
                attribute_value(&mut m, len)?
            };
            set.push((format!("{prefix}{}", String::from_utf8_lossy(&name)), value));
            if set.len() > 1000 {
                return Err(Error::Limit("attributes of one file".into()));
            }
        }
        Ok(set)
    }
}

fn attribute_value<R: ReadAt>(m: &mut Metadata<'_, R>, len: usize) -> Result<Vec<u8>> {
    if len > 65536 {
        return Err(Error::format(m.at(), format!("an attribute's value of {len} bytes")));
    }
    m.vec(len)
}

fn short<R: ReadAt>(m: &Metadata<'_, R>) -> Error {
    Error::format(m.at(), "a listing is longer than its folder says")
}

fn some_32(n: u32) -> Option<u32> {
    (n != NONE_32).then_some(n)
}
