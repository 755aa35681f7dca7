//! The format's numbers. Sources: what the archiver 7-Zip 26.02 takes and gives back (each was tried), and the layout
//! that its answers show.

/// What a file's part begins at: multiples of this.
pub const ALIGNMENT: u64 = 512;
/// Bytes of the first header.
pub const FIRST_HEADER: usize = 28;
/// The sign behind the first header's flags.
pub const SIGN: [u8; 16] = *b"\xEF\xBE\xAD\xDENullsoftInst";
/// Flag of the first header: the program removes a product.
pub const UNINSTALLER: u32 = 1;

/// How the stream is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// LZMA; `filtered`: calls in x86 code were made absolute first.
    Lzma {
        /// Whether the x86 filter lies over it.
        filtered: bool,
    },
    /// Raw deflate.
    Deflate,
    /// Not packed.
    Stored,
}

/// Instructions.
pub mod op {
    /// Makes a folder; if the second parameter is 1, further files go into it.
    pub const FOLDER: i32 = 11;
    /// Writes a file: how over others, name, offset, time.
    pub const FILE: i32 = 20;
    /// Writes the program that removes the product: name, offset, length of its icons.
    pub const UNINSTALLER: i32 = 62;
}

/// Variables in texts.
pub mod variable {
    /// The folder that the product goes into.
    pub const INSTALL: u16 = 21;
    /// The folder that files go into.
    pub const OUT: u16 = 22;
}

/// Parts of the header, in its order.
pub mod block {
    /// Pages.
    pub const PAGES: usize = 0;
    /// Sections.
    pub const SECTIONS: usize = 1;
    /// Instructions.
    pub const ENTRIES: usize = 2;
    /// Texts.
    pub const STRINGS: usize = 3;
    /// Tables of languages.
    pub const LANGUAGES: usize = 4;
}

/// Bytes of the header before its first part: flags, parts, and 57 numbers of the format's own pages.
pub const HEADER_FIXED: usize = 4 + 8 * 8 + (8 + 10 + 1 + 33 + 5) * 4;
/// Bytes of a section with a name of 1024 characters.
pub const SECTION: usize = 6 * 4 + 1024 * 2;
/// Bytes of an instruction.
pub const ENTRY: usize = 7 * 4;
