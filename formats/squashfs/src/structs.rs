//! The records of a squashfs 4.0 image as they stand on disk: little-endian, unaligned, free of reading and writing.
//!
//! Source of every fact here: the kernel's own description (`Documentation/filesystems/squashfs.rst` and
//! `fs/squashfs/squashfs_fs.h`). Names follow that header where it has one.

#![allow(missing_docs)] // fields carry the header's own names; each record says what it is

use zerocopy::little_endian::{I16, U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// `hsqs`, the first four bytes of an image.
pub const MAGIC: u32 = 0x7371_7368;
/// Plain bytes in a full metadata block.
pub const METADATA_SIZE: usize = 8192;
/// In a metadata block's header: the block is stored as it is.
pub const METADATA_STORED: u16 = 0x8000;
/// In a data block's size word: the block is stored as it is.
pub const DATA_STORED: u32 = 1 << 24;
/// "No fragment", "no xattr" in 32-bit fields.
pub const NONE_32: u32 = u32::MAX;
/// "No such table" in the superblock.
pub const NONE_64: u64 = u64::MAX;
/// Longest name of a directory entry, bytes.
pub const NAME_MAX: usize = 256;
/// Most entries behind one directory header.
pub const DIR_RUN_MAX: usize = 256;
/// Longest target of a symbolic link, bytes (the kernel reads one page).
pub const SYMLINK_MAX: usize = 4095;

/// Superblock flags.
pub mod flags {
    pub const NO_FRAGMENTS: u16 = 0x0010;
    pub const DUPLICATES: u16 = 0x0040;
    pub const EXPORTABLE: u16 = 0x0080;
    pub const NO_XATTRS: u16 = 0x0200;
    pub const COMPRESSOR_OPTIONS: u16 = 0x0400;
}

/// Inode types; the extended one is the basic one + 7.
pub mod kind {
    pub const DIR: u16 = 1;
    pub const REG: u16 = 2;
    pub const SYMLINK: u16 = 3;
    pub const BLKDEV: u16 = 4;
    pub const CHRDEV: u16 = 5;
    pub const FIFO: u16 = 6;
    pub const SOCKET: u16 = 7;
    pub const EXTENDED: u16 = 7;
}

macro_rules! record {
    ($(#[$doc:meta])* $name:ident { $($field:ident : $type:ty),* $(,)? }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
        #[repr(C)]
        pub struct $name { $(pub $field: $type),* }
    };
}

record!(
    /// The first 96 bytes of an image; positions count from its first byte.
    Superblock {
        magic: U32, inode_count: U32, mkfs_time: U32, block_size: U32, fragment_count: U32,
        compression: U16, block_log: U16, flags: U16, id_count: U16, major: U16, minor: U16,
        root_inode: U64, bytes_used: U64, id_table: U64, xattr_table: U64, inode_table: U64,
        directory_table: U64, fragment_table: U64, export_table: U64,
    }
);
record!(
    /// What every inode begins with.
    InodeHeader { kind: U16, mode: U16, uid: U16, gid: U16, mtime: U32, inode_number: U32 }
);
record!(
    /// Basic directory inode.
    DirInode { start_block: U32, nlink: U32, file_size: U16, offset: U16, parent_inode: U32 }
);
record!(
    /// Extended directory inode; `index_count` records of [`DirIndex`] with names follow.
    ExtDirInode {
        nlink: U32, file_size: U32, start_block: U32, parent_inode: U32, index_count: U16, offset: U16, xattr: U32,
    }
);
record!(
    /// One step of a large directory's index: where a new metadata block of its listing begins.
    DirIndex { index: U32, start_block: U32, name_len_less_one: U32 }
);
record!(
    /// Basic file inode; the block sizes follow.
    RegInode { start_block: U32, fragment: U32, offset: U32, file_size: U32 }
);
record!(
    /// Extended file inode; the block sizes follow.
    ExtRegInode {
        start_block: U64, file_size: U64, sparse: U64, nlink: U32, fragment: U32, offset: U32, xattr: U32,
    }
);
record!(
    /// Symbolic link inode; the target follows (and, in the extended form, the xattr index as U32).
    SymlinkInode { nlink: U32, target_size: U32 }
);
record!(
    /// Device inode (the extended form adds the xattr index).
    DeviceInode { nlink: U32, rdev: U32 }
);
record!(
    /// Pipe and socket inode (the extended form adds the xattr index).
    IpcInode { nlink: U32 }
);
record!(
    /// Header of a run of directory entries whose inodes stand in one metadata block.
    DirHeader { count_less_one: U32, start_block: U32, inode_number: U32 }
);
record!(
    /// A directory entry; the name follows.
    DirEntry { offset: U16, inode_delta: I16, kind: U16, name_len_less_one: U16 }
);
record!(
    /// Where a fragment block lies.
    FragmentEntry { start_block: U64, size: U32, unused: U32 }
);
record!(
    /// Head of the xattr table; the positions of its id blocks follow.
    XattrTableHead { kv_start: U64, count: U32, unused: U32 }
);
record!(
    /// One inode's set of extended attributes.
    XattrId { reference: U64, count: U32, size: U32 }
);
record!(
    /// An attribute's name; the name without its prefix follows, then a U32 and the value.
    XattrEntry { kind: U16, name_len: U16 }
);

/// Prefixes of attribute names, by their number in an [`XattrEntry`].
pub const XATTR_PREFIXES: [&str; 3] = ["user.", "trusted.", "security."];
/// In an [`XattrEntry`]'s kind: the value is a U64 reference to where it stands.
pub const XATTR_VALUE_ELSEWHERE: u16 = 0x0100;
