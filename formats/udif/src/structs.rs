//! The records of an image, as they stand in the file, once, for both halves. All numbers are big-endian.
//!
//! Apple has not published this format; the names of fields are those of its open-source disk tools, and what each one
//! means was compared with images and other readers.

use zerocopy::byteorder::big_endian::{U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// Bytes of a sector, in which everything is counted.
pub const SECTOR: u64 = 512;
/// The kind of checksum that this crate knows.
pub const CRC32: u32 = 2;

/// Kinds of chunks.
pub mod chunk {
    /// Zeros.
    pub const ZERO: u32 = 0;
    /// As it is.
    pub const RAW: u32 = 1;
    /// Nobody asks what is there; read as zeros, and left out of the checksum.
    pub const IGNORED: u32 = 2;
    /// Packed by ADC, as the oldest images are.
    pub const ADC: u32 = 0x8000_0004;
    /// Packed by zlib.
    pub const ZLIB: u32 = 0x8000_0005;
    /// Packed by bzip2.
    pub const BZIP2: u32 = 0x8000_0006;
    /// Packed by lzfse.
    pub const LZFSE: u32 = 0x8000_0007;
    /// Packed as an xz stream.
    pub const LZMA: u32 = 0x8000_0008;
    /// No data.
    pub const COMMENT: u32 = 0x7FFF_FFFE;
    /// The last one.
    pub const END: u32 = 0xFFFF_FFFF;
}

/// A checksum with its kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
pub struct Checksum {
    /// [`CRC32`], or one that this crate does not know.
    pub kind: U32,
    /// Bits.
    pub bits: U32,
    /// The value, first.
    pub value: [U32; 32],
}

impl Checksum {
    /// A CRC-32.
    pub fn crc32(value: u32) -> Self {
        let mut all = [U32::ZERO; 32];
        all[0] = U32::new(value);
        Self { kind: U32::new(CRC32), bits: U32::new(32), value: all }
    }
}

/// The last 512 bytes of an image.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct Trailer {
    /// `koly`.
    pub signature: [u8; 4],
    pub version: U32,
    pub header_size: U32,
    /// 1: the whole image is in this file.
    pub flags: U32,
    pub running_data_offset: U64,
    pub data_offset: U64,
    pub data_length: U64,
    pub resource_offset: U64,
    pub resource_length: U64,
    pub segment: U32,
    pub segments: U32,
    pub segment_id: [u8; 16],
    /// Of the data as it stands in the file.
    pub data_checksum: Checksum,
    pub list_offset: U64,
    pub list_length: U64,
    pub reserved: [u8; 64],
    /// Where a signature is, if there is one.
    pub signature_offset: U64,
    pub signature_length: U64,
    pub reserved_2: [u8; 40],
    /// Of the tables' checksums, one after the other.
    pub master_checksum: Checksum,
    pub variant: U32,
    pub sectors: U64,
    pub reserved_3: [U32; 3],
}

/// What a table of chunks begins with.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct TableHead {
    /// `mish`.
    pub signature: [u8; 4],
    pub version: U32,
    pub first_sector: U64,
    pub sectors: U64,
    /// Chunks' offsets count from here in the data.
    pub data_offset: U64,
    /// Sectors that a reader needs room for.
    pub buffers: U32,
    pub descriptor: U32,
    pub reserved: [U32; 6],
    /// Of the sectors, unpacked.
    pub checksum: Checksum,
    pub chunks: U32,
}

/// A chunk: sectors, and where their bytes are.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
#[repr(C)]
#[allow(missing_docs)]
pub struct Chunk {
    /// See [`chunk`].
    pub kind: U32,
    pub comment: U32,
    /// Counted from the table's first.
    pub first_sector: U64,
    pub sectors: U64,
    pub offset: U64,
    pub length: U64,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_have_their_sizes() {
        assert_eq!(size_of::<Trailer>(), 512);
        assert_eq!(size_of::<TableHead>(), 204);
        assert_eq!(size_of::<Chunk>(), 40);
        assert_eq!(std::mem::offset_of!(Trailer, list_offset), 216);
        assert_eq!(std::mem::offset_of!(Trailer, signature_offset), 296);
        assert_eq!(std::mem::offset_of!(Trailer, master_checksum), 352);
        assert_eq!(std::mem::offset_of!(Trailer, sectors), 492);
    }
}
