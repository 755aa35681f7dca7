//! Records of ZIP archives (APPNOTE.TXT 6.3, chapter 4.3), free of reading and writing files.

use crate::{Error, Result};

/// What begins a part's own record.
pub const LOCAL: u32 = 0x0403_4B50;
/// What begins a record of the directory.
pub const CENTRAL: u32 = 0x0201_4B50;
/// What begins the end of the directory, for large archives.
pub const LARGE_END: u32 = 0x0606_4B50;
/// What says where that is.
pub const LOCATOR: u32 = 0x0706_4B50;
/// What begins the end of the directory.
pub const END: u32 = 0x0605_4B50;
/// The number of the extra field with large sizes.
pub const LARGE: u16 = 1;
/// Written, and needed, by version 4.5, the first with large archives.
pub const VERSION: u16 = 45;
/// The first day that ZIP archives know, 1980-01-01.
pub const DAY: u16 = 0x21;
/// Stored as it is.
pub const STORED: u16 = 0;
/// Deflated.
pub const DEFLATED: u16 = 8;
/// The fixed part of a part's own record.
pub const LOCAL_HEAD: usize = 30;
/// The fixed part of a record of the directory.
pub const CENTRAL_HEAD: usize = 46;
/// The ends of the directory: large end, locator, end.
pub const ENDS: usize = 56 + 20 + 22;

/// What the directory says of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// The name as the archive has it.
    pub name: Vec<u8>,
    /// How it is packed.
    pub method: u16,
    /// Bits with a meaning of their own.
    pub flags: u16,
    /// Of the plain bytes.
    pub crc: u32,
    /// Packed bytes.
    pub packed: u64,
    /// Plain bytes.
    pub size: u64,
    /// Where its own record begins.
    pub offset: u64,
}

/// Numbers from bytes, one after the other.
pub struct Fields<'b>(pub &'b [u8]);

impl Fields<'_> {
    fn take<const N: usize>(&mut self) -> Result<[u8; N]> {
        let (first, rest) = self.0.split_first_chunk::<N>().ok_or_else(|| Error::at(0, "a record is cut off"))?;
        self.0 = rest;
        Ok(*first)
    }

    /// Passes over so many bytes.
    pub fn skip<const N: usize>(&mut self) -> Result<()> {
        self.take::<N>().map(drop)
    }

    pub fn u16(&mut self) -> Result<u16> {
        self.take().map(u16::from_le_bytes)
    }

    pub fn u32(&mut self) -> Result<u32> {
        self.take().map(u32::from_le_bytes)
    }

    pub fn u64(&mut self) -> Result<u64> {
        self.take().map(u64::from_le_bytes)
    }
}

/// A number as the short field has it: all ones where the extra field has the right one.
fn short(number: u64, large: bool) -> u32 {
    if large { u32::MAX } else { number as u32 }
}

impl Record {
    /// Whether sizes need the extra field. Packed bytes can be a little more than plain ones.
    pub fn is_large(size: u64) -> bool {
        size >= 0xFF00_0000
    }

    /// The part's own record, with sizes that may be filled in later.
    pub fn local(&self) -> Vec<u8> {
        let large = Self::is_large(self.size);
        let mut out = LOCAL.to_le_bytes().to_vec();
        out.extend([VERSION, self.flags, self.method, 0, DAY].map(u16::to_le_bytes).concat());
        let sizes = [self.crc, short(self.packed, large), short(self.size, large)];
        out.extend(sizes.map(u32::to_le_bytes).concat());
        out.extend([self.name.len() as u16, if large { 20 } else { 0 }].map(u16::to_le_bytes).concat());
        out.extend(&self.name);
        if large {
            out.extend([LARGE, 16].map(u16::to_le_bytes).concat());
            out.extend([self.size, self.packed].map(u64::to_le_bytes).concat());
        }
        out
    }

    /// The record in the directory.
    pub fn central(&self) -> Vec<u8> {
        let (large, far) = (Self::is_large(self.size), self.offset >= u64::from(u32::MAX));
        let mut extra = Vec::new();
        if large {
            extra.extend([self.size, self.packed].map(u64::to_le_bytes).concat());
        }
        if far {
            extra.extend(self.offset.to_le_bytes());
        }
        if !extra.is_empty() {
            extra = [&LARGE.to_le_bytes()[..], &(extra.len() as u16).to_le_bytes(), &extra].concat();
        }
        let mut out = CENTRAL.to_le_bytes().to_vec();
        out.extend([VERSION, VERSION, self.flags, self.method, 0, DAY].map(u16::to_le_bytes).concat());
        out.extend([self.crc, short(self.packed, large), short(self.size, large)].map(u32::to_le_bytes).concat());
        out.extend([self.name.len() as u16, extra.len() as u16, 0, 0, 0].map(u16::to_le_bytes).concat());
        out.extend([0, short(self.offset, far)].map(u32::to_le_bytes).concat());
        out.extend(&self.name);
        out.extend(extra);
        out
    }

    /// Reads a record of the directory; gives its length, too.
    pub fn read(bytes: &[u8]) -> Result<(Self, usize)> {
        let mut fields = Fields(bytes);
        if fields.u32()? != CENTRAL {
            return Err(Error::at(0, "the directory holds something else than a record"));
        }
        // Versions: by which it was written, and which it needs.
        fields.skip::<4>()?;
        let (flags, method) = (fields.u16()?, fields.u16()?);
        // The time and the day.
        fields.skip::<4>()?;
        let (crc, packed, size) = (fields.u32()?, fields.u32()?, fields.u32()?);
        let [name, extra, comment] = [fields.u16()?, fields.u16()?, fields.u16()?].map(usize::from);
        // Disk, attributes.
        fields.skip::<8>()?;
        let offset = fields.u32()?;
        let length = CENTRAL_HEAD + name + extra + comment;
        let rest = bytes.get(CENTRAL_HEAD..length).ok_or_else(|| Error::at(0, "a record is cut off"))?;
        let mut record = Self {
            name: rest[..name].to_vec(),
            method,
            flags,
            crc,
            packed: packed.into(),
            size: size.into(),
            offset: offset.into(),
        };
        let mut extras = &rest[name..name + extra];
        while extras.len() >= 4 {
            let mut head = Fields(extras);
            let (number, long) = (head.u16()?, usize::from(head.u16()?));
            let data = head.0.get(..long).ok_or_else(|| Error::at(0, "an extra field is cut off"))?;
            if number == LARGE {
                let mut data = Fields(data);
                for (field, short) in
                    [(&mut record.size, size), (&mut record.packed, packed), (&mut record.offset, offset)]
                {
                    if short == u32::MAX {
                        *field = data.u64()?;
                    }
                }
            }
            extras = &head.0[long..];
        }
        Ok((record, length))
    }
}

/// The ends of a directory.
pub fn ends(count: u64, size: u64, offset: u64) -> Vec<u8> {
    let mut out = LARGE_END.to_le_bytes().to_vec();
    out.extend(44u64.to_le_bytes());
    out.extend([VERSION, VERSION].map(u16::to_le_bytes).concat());
    out.extend([0u32; 2].map(u32::to_le_bytes).concat());
    out.extend([count, count, size, offset].map(u64::to_le_bytes).concat());
    out.extend([LOCATOR, 0].map(u32::to_le_bytes).concat());
    out.extend((offset + size).to_le_bytes());
    out.extend(1u32.to_le_bytes());
    out.extend(END.to_le_bytes());
    // The large end has the right numbers.
    out.extend([0, 0, u16::MAX, u16::MAX].map(u16::to_le_bytes).concat());
    out.extend([u32::MAX, u32::MAX].map(u32::to_le_bytes).concat());
    out.extend([0, 0]);
    out
}
