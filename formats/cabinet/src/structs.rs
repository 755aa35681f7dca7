//! The structures of a cabinet file with their official names, free of reading and writing. Source of all: Microsoft
//! Cabinet Format ([MS-CAB]) and, for LZX, [MS-PATCH] section 2. All integers are little-endian.

use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// `CFHEADER.signature`.
pub const SIGNATURE: [u8; 4] = *b"MSCF";
/// `CFHEADER.flags`: an earlier cabinet of a set is named.
pub const FLAG_PREV_CABINET: u16 = 1;
/// `CFHEADER.flags`: a later cabinet of a set is named.
pub const FLAG_NEXT_CABINET: u16 = 2;
/// `CFHEADER.flags`: the reserved-area sizes are there.
pub const FLAG_RESERVE_PRESENT: u16 = 4;
/// `CFFILE.attribs`: the name is UTF-8.
pub const ATTRIBUTE_NAME_IS_UTF: u16 = 0x80;
/// `CFFILE.attribs`: changed since the last backup; the usual value.
pub const ATTRIBUTE_ARCHIVE: u16 = 0x20;
/// Plain bytes of every `CFDATA` but a folder's last.
pub const BLOCK: usize = 32768;
/// The most packed bytes of a `CFDATA`.
pub const MAX_PACKED: usize = BLOCK + 6144;
/// Blocks in a folder, at most (`CFFOLDER.cCFData` has 16 bits).
pub const MAX_BLOCKS: u64 = 65535;
/// Files in a cabinet, at most (`CFHEADER.cFiles` has 16 bits).
pub const MAX_FILES: usize = 65535;
/// `CFFILE.iFolder` from here on: the file goes on in another cabinet.
pub const FOLDER_CONTINUED: u16 = 0xFFFD;

/// `CFHEADER`: 36 bytes at the start.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[expect(missing_docs, reason = "official names")]
pub struct Header {
    pub signature: [u8; 4],
    pub reserved1: U32,
    pub cabinet_size: U32,
    pub reserved2: U32,
    pub files_offset: U32,
    pub reserved3: U32,
    pub version_minor: u8,
    pub version_major: u8,
    pub folders: U16,
    pub files: U16,
    pub flags: U16,
    pub set_id: U16,
    pub index: U16,
}

/// `CFFOLDER`: 8 bytes.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[expect(missing_docs, reason = "official names")]
pub struct Folder {
    pub data_offset: U32,
    pub blocks: U16,
    pub compression: U16,
}

/// `CFFILE`: 16 bytes, then the name and a zero byte.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[expect(missing_docs, reason = "official names")]
pub struct File {
    pub size: U32,
    pub folder_offset: U32,
    pub folder: U16,
    pub date: U16,
    pub time: U16,
    pub attributes: U16,
}

/// `CFDATA`: 8 bytes, then the packed bytes.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[expect(missing_docs, reason = "official names")]
pub struct Data {
    pub checksum: U32,
    pub packed: U16,
    pub plain: U16,
}

/// `typeCompress` of a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Method {
    /// Stored.
    Stored,
    /// Deflate in blocks of 32 KiB that know their predecessor.
    Mszip,
    /// LZX with a window of 2 to the power of so many bytes, 15 to 21.
    Lzx(u8),
}

impl Method {
    /// As the field has it.
    pub fn field(self) -> u16 {
        match self {
            Self::Stored => 0,
            Self::Mszip => 1,
            Self::Lzx(bits) => 3 | u16::from(bits) << 8,
        }
    }

    /// From the field; `None` for methods that are not known here.
    pub fn from_field(field: u16) -> Option<Self> {
        match (field & 0xF, field >> 8) {
            (0, _) => Some(Self::Stored),
            (1, _) => Some(Self::Mszip),
            (3, bits @ 15..=21) => Some(Self::Lzx(bits as u8)),
            _ => None,
        }
    }
}

/// The checksum of a `CFDATA`: all 32-bit words of the packed bytes XORed, the last one to three bytes in reverse order,
/// then the same over the two length fields.
pub fn checksum(packed: &[u8], plain: u16) -> u32 {
    let (words, rest) = packed.as_chunks::<4>();
    let mut sum = words.iter().fold(0, |sum, word| sum ^ u32::from_le_bytes(*word));
    sum ^= rest.iter().fold(0, |tail, byte| tail << 8 | u32::from(*byte));
    sum ^ (packed.len() as u32 | u32::from(plain) << 16)
}

/// A moment as the pair of fields `date` and `time` (even seconds, 1980 to 2107), from seconds since 1970.
pub fn dos_time(seconds: u32) -> (u16, u16) {
    let (days, second) = (i64::from(seconds / 86400), seconds % 86400);
    // Days to a civil date, by Howard Hinnant's algorithm.
    let z = days + 719_468;
    let (era, of_era) = (z / 146_097, z % 146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146_096) / 365;
    let day_of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let m = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * m + 2) / 5 + 1) as u16;
    let month = (if m < 10 { m + 3 } else { m - 9 }) as u16;
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    if year < 1980 {
        return (1 << 5 | 1, 0);
    }
    let date = (year as u16 - 1980) << 9 | month << 5 | day;
    let time = ((second / 3600) << 11 | (second / 60 % 60) << 5 | (second % 60 / 2)) as u16;
    (date, time)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_checksum_takes_the_last_bytes_in_reverse() {
        assert_eq!(checksum(&[1, 2, 3, 4], 0), 0x0403_0201 ^ 4);
        assert_eq!(checksum(&[1, 2, 3, 4, 0xAA, 0xBB, 0xCC], 7), 0x0403_0201 ^ 0x00AA_BBCC ^ (7 | 7 << 16));
    }

    #[test]
    fn moments_become_even_seconds_and_never_lie_before_1980() {
        assert_eq!(dos_time(1_767_225_600), ((2026 - 1980) << 9 | 1 << 5 | 1, 0));
        assert_eq!(dos_time(951_827_696), (20 << 9 | 2 << 5 | 29, 12 << 11 | 34 << 5 | 28));
        assert_eq!(dos_time(0), (33, 0));
    }
}
