//! The records of a volume, as they stand on disk, once, for both halves. All numbers are big-endian.
//!
//! Source: Apple's Technical Note 1150 (HFS Plus Volume Format); the names of fields are its own.

use zerocopy::byteorder::big_endian::{I16, U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// Where the volume header begins, bytes from the volume's start; the copy begins as far before its end.
pub const HEADER_AT: u64 = 1024;
/// `H+`.
pub const SIGNATURE: u16 = 0x482B;
/// `HX`: names may differ in capitals only.
pub const SIGNATURE_X: u16 = 0x4858;
/// Seconds from 1904, where HFS+ begins to count, to 1970.
pub const EPOCH: u32 = 2_082_844_800;

/// Numbers of catalog nodes that have a fixed meaning.
pub mod cnid {
    /// The root's parent.
    pub const ROOT_PARENT: u32 = 1;
    /// The root folder.
    pub const ROOT: u32 = 2;
    /// The file of extents beyond the eighth.
    pub const EXTENTS: u32 = 3;
    /// The catalog.
    pub const CATALOG: u32 = 4;
    /// The bitmap of blocks.
    pub const ALLOCATION: u32 = 6;
    /// The attributes.
    pub const ATTRIBUTES: u32 = 8;
    /// The first of everybody else's.
    pub const FIRST: u32 = 16;
}

/// Kinds of catalog records.
pub mod kind {
    /// A folder.
    pub const FOLDER: u16 = 1;
    /// A file or link.
    pub const FILE: u16 = 2;
    /// Name and parent of a folder's number.
    pub const FOLDER_THREAD: u16 = 3;
    /// Name and parent of a file's number.
    pub const FILE_THREAD: u16 = 4;
}

/// Kinds of attribute records.
pub mod attribute {
    /// The value stands in the record.
    pub const INLINE: u32 = 0x10;
    /// The value has blocks of its own.
    pub const FORK: u32 = 0x20;
    /// More of those.
    pub const EXTENTS: u32 = 0x30;
}

/// A file has a thread record.
pub const HAS_THREAD: u16 = 0x0002;
/// A file or folder has attributes.
pub const HAS_ATTRIBUTES: u16 = 0x0004;
/// The volume was let go of in order.
pub const UNMOUNTED: u32 = 1 << 8;
/// The volume has a journal.
pub const JOURNALED: u32 = 1 << 13;

/// Finder flags (`finderFlags`).
pub mod finder {
    /// It has a picture of its own.
    pub const CUSTOM_ICON: u16 = 0x0400;
    /// It is not shown.
    pub const INVISIBLE: u16 = 0x4000;
    /// It is a program with a property list.
    pub const BUNDLE: u16 = 0x2000;
}

/// Blocks in a row.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct Extent {
    /// The first block.
    pub start: U32,
    /// How many.
    pub count: U32,
}

/// Where a file's bytes are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct Fork {
    /// Bytes.
    pub size: U64,
    /// How much it grows at a time, bytes.
    pub clump: U32,
    /// Blocks of all its extents.
    pub blocks: U32,
    /// The first eight.
    pub extents: [Extent; 8],
}

/// The volume header.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)] // the note's own names
pub struct VolumeHeader {
    pub signature: U16,
    pub version: U16,
    pub attributes: U32,
    pub last_mounted: [u8; 4],
    pub journal: U32,
    /// Local time, unlike all others.
    pub created: U32,
    pub modified: U32,
    pub backed_up: U32,
    pub checked: U32,
    pub files: U32,
    pub folders: U32,
    pub block_size: U32,
    pub blocks: U32,
    pub free_blocks: U32,
    pub next_allocation: U32,
    pub resource_clump: U32,
    pub data_clump: U32,
    pub next_cnid: U32,
    pub writes: U32,
    pub encodings: U64,
    /// Word 2 is the folder whose window opens when the volume appears; words 6 and 7 tell volumes apart.
    pub finder: [U32; 8],
    pub allocation: Fork,
    pub extents: Fork,
    pub catalog: Fork,
    pub attribute_file: Fork,
    pub startup: Fork,
}

/// What every node of a tree begins with.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct NodeHead {
    pub next: U32,
    pub previous: U32,
    /// -1 leaf, 0 index, 1 header, 2 map.
    pub kind: i8,
    pub height: u8,
    pub records: U16,
    pub reserved: U16,
}

/// The first record of a tree's first node.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct TreeHead {
    pub depth: U16,
    pub root: U32,
    pub leaf_records: U32,
    pub first_leaf: U32,
    pub last_leaf: U32,
    pub node_size: U16,
    pub longest_key: U16,
    pub nodes: U32,
    pub free_nodes: U32,
    pub reserved: U16,
    pub clump: U32,
    pub tree: u8,
    /// Only with [`SIGNATURE_X`]: 0xCF capitals count as small letters, 0xBC they don't.
    pub compare: u8,
    /// 2: lengths of keys have 16 bits; 4: keys of index nodes are as long as they need.
    pub attributes: U32,
    pub more: [U32; 16],
}

/// Owner, mode, flags.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct Permissions {
    pub owner: U32,
    pub group: U32,
    pub admin_flags: u8,
    pub owner_flags: u8,
    pub mode: U16,
    /// Further names of one file: the file's number; its own count of names; a device's number.
    pub special: U32,
}

/// A folder's record.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct FolderRecord {
    pub kind: U16,
    pub flags: U16,
    /// How many things are in it.
    pub valence: U32,
    pub cnid: U32,
    /// Created, changed, attributes changed, read, backed up.
    pub times: [U32; 5],
    pub permissions: Permissions,
    pub window: [I16; 4],
    pub finder_flags: U16,
    pub location: [I16; 2],
    pub reserved_finder: U16,
    pub more_finder: [u8; 16],
    pub encoding: U32,
    pub reserved: U32,
}

/// A file's record.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct FileRecord {
    pub kind: U16,
    pub flags: U16,
    pub reserved: U32,
    pub cnid: U32,
    /// Created, changed, attributes changed, read, backed up.
    pub times: [U32; 5],
    pub permissions: Permissions,
    pub file_type: [u8; 4],
    pub creator: [u8; 4],
    pub finder_flags: U16,
    pub location: [I16; 2],
    pub reserved_finder: U16,
    pub more_finder: [u8; 16],
    pub encoding: U32,
    pub reserved_2: U32,
    pub data: Fork,
    pub resource: Fork,
}

/// The beginning of a thread record; the name follows: length, units.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct ThreadRecord {
    pub kind: U16,
    pub reserved: U16,
    pub parent: U32,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_have_the_sizes_of_the_note() {
        assert_eq!(size_of::<VolumeHeader>(), 512);
        assert_eq!(size_of::<Fork>(), 80);
        assert_eq!(size_of::<NodeHead>(), 14);
        assert_eq!(size_of::<TreeHead>(), 106);
        assert_eq!(size_of::<FolderRecord>(), 88);
        assert_eq!(size_of::<FileRecord>(), 248);
    }
}
