//! Sizes, offsets and numbers of the format, free of reading and writing.

/// The length of the block in front, and what bins are multiples of.
pub const BLOCK: usize = 4096;
/// The head of a bin.
pub const BIN_HEAD: usize = 32;
/// Stands for a place that there is none of.
pub const NOWHERE: u32 = u32::MAX;
/// The most that one cell of a value holds; longer ones are in several.
pub const SEGMENT: usize = 16_344;
/// The longest names of keys and values, units of UTF-16.
pub const LONGEST_KEY: usize = 255;
/// The longest name of a value, units of UTF-16.
pub const LONGEST_VALUE: usize = 16_383;
/// The deepest that keys lie in each other.
pub const DEEPEST: usize = 512;
/// How many keys a list holds that fits into one bin.
pub const LEAF: usize = 506;
/// The fixed part of a key.
pub const KEY_HEAD: usize = 76;
/// The fixed part of a value.
pub const VALUE_HEAD: usize = 20;
/// The fixed part of a security descriptor.
pub const SECURITY_HEAD: usize = 20;
/// Set in the length of data that stands in the place of its offset.
pub const INLINE: u32 = 0x8000_0000;

/// Flags of keys.
pub mod flag {
    /// The first key of a hive.
    pub const ROOT: u16 = 0x0004;
    /// It can't be deleted.
    pub const NO_DELETE: u16 = 0x0008;
    /// The name has one byte a letter.
    pub const NARROW: u16 = 0x0020;
    /// The same, of values.
    pub const NARROW_VALUE: u16 = 0x0001;
}

/// Kinds of values.
pub mod kind {
    /// Nothing.
    pub const NONE: u32 = 0;
    /// Text.
    pub const SZ: u32 = 1;
    /// Text with names of variables in it.
    pub const EXPAND_SZ: u32 = 2;
    /// Bytes.
    pub const BINARY: u32 = 3;
    /// A number of four bytes.
    pub const DWORD: u32 = 4;
    /// The same, the highest byte first.
    pub const DWORD_BIG_ENDIAN: u32 = 5;
    /// The path of another key.
    pub const LINK: u32 = 6;
    /// Several texts.
    pub const MULTI_SZ: u32 = 7;
    /// A number of eight bytes.
    pub const QWORD: u32 = 11;
}
