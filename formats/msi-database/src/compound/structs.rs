//! Structures and constants with their official names.

use zerocopy::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

pub const SIGNATURE: [u8; 8] = [0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1];
/// Sector numbers from here on are no sectors.
pub const MAXREGSECT: u32 = 0xFFFF_FFFA;
pub const DIFSECT: u32 = 0xFFFF_FFFC;
pub const FATSECT: u32 = 0xFFFF_FFFD;
pub const ENDOFCHAIN: u32 = 0xFFFF_FFFE;
pub const FREESECT: u32 = 0xFFFF_FFFF;
pub const NOSTREAM: u32 = 0xFFFF_FFFF;
/// Streams shorter than this live in the mini stream.
pub const MINI_CUTOFF: u64 = 4096;
pub const MINI_SECTOR: usize = 64;
/// Entries of the DIFAT in the header.
pub const HEADER_DIFAT: usize = 109;
pub const TYPE_STORAGE: u8 = 1;
pub const TYPE_STREAM: u8 = 2;
pub const TYPE_ROOT: u8 = 5;
pub const RED: u8 = 0;
pub const BLACK: u8 = 1;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct Header {
    pub signature: [u8; 8],
    pub clsid: [u8; 16],
    pub minor_version: U16,
    pub major_version: U16,
    pub byte_order: U16,
    pub sector_shift: U16,
    pub mini_sector_shift: U16,
    pub reserved: [u8; 6],
    pub directory_sectors: U32,
    pub fat_sectors: U32,
    pub first_directory_sector: U32,
    pub transaction_signature: U32,
    pub mini_stream_cutoff: U32,
    pub first_mini_fat_sector: U32,
    pub mini_fat_sectors: U32,
    pub first_difat_sector: U32,
    pub difat_sectors: U32,
    pub difat: [U32; HEADER_DIFAT],
}

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct DirectoryEntry {
    pub name: [U16; 32],
    /// Bytes, with the ending zero.
    pub name_length: U16,
    pub object_type: u8,
    pub color: u8,
    pub left: U32,
    pub right: U32,
    pub child: U32,
    pub clsid: [u8; 16],
    pub state: U32,
    pub created: U64,
    pub modified: U64,
    pub start: U32,
    pub size: U64,
}

/// The order of siblings: by length in UTF-16 units, then unit by unit in upper case.
pub fn sibling_key(name: &str) -> (usize, Vec<u16>) {
    let upper = |unit: u16| match char::from_u32(unit.into()) {
        Some(c) => {
            let mut upper = c.to_uppercase();
            // Simple case mapping only: a character that becomes several stays as it is.
            match (upper.next(), upper.next()) {
                (Some(u), None) if u.len_utf16() == 1 => u as u16,
                _ => unit,
            }
        }
        None => unit,
    };
    let units: Vec<u16> = name.encode_utf16().map(upper).collect();
    (units.len(), units)
}
