//! Setup programs, read: ours and others'. It takes any bytes; what it gives is what they say, or an error with its
//! offset. Memory is that of the header and the dictionary.

use crate::custom::{Step, steps};
use crate::header::Header;
use crate::seal;
use crate::solid::{Input, Solid};
use crate::structs::{ALIGNMENT, FIRST_HEADER, Method, SIGN, UNINSTALLER, op, variable};
use crate::text::Code;
use crate::{Error, Result};
use std::io::{Read, Seek, SeekFrom};

/// More letters than any path of Windows has (32,767 UTF-16 units).
const LONGEST_PATH: usize = 100_000;

/// A head is not longer than this.
const LONGEST_HEAD: u64 = 64 << 20;
/// Headers are not longer than this.
const LONGEST_HEADER: u32 = 64 << 20;
/// Files that several names share are kept in memory up to this size.
const SHARED: u32 = 256 << 20;
const PACKED: u32 = 0x8000_0000;

/// The token that stands for the product's folder in texts.
pub const INSTALL: &str = "{install}";

/// An open program.
pub struct Archive<R> {
    source: R,
    /// Where the first header is.
    pub start: u64,
    /// The first header's flags.
    pub flags: u32,
    /// Bytes from the first header to the CRC32's end.
    pub length: u64,
    header_length: u32,
    /// Instructions and texts.
    pub header: Header,
    /// How it is packed.
    pub method: Method,
    /// The dictionary, for LZMA.
    pub dictionary: u32,
    /// Where files' blocks begin, for programs whose files are packed one by one.
    blocks: Option<u64>,
}

/// A file that instructions write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Where it goes, with backslashes; `{install}` and names of variables such as `$TEMP` stand for folders.
    pub path: String,
    /// Its offset among the files.
    pub offset: u32,
    /// Whether it is the program that removes the product, which is put together from the head.
    pub uninstaller: bool,
    /// The number of its instruction.
    pub entry: usize,
}

/// A part of the source.
struct Part<'s, R> {
    source: &'s mut R,
    left: u64,
}

impl<R: Read> Input for Part<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        let n = into.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let n = self.source.read(&mut into[..n])?;
        self.left -= n as u64;
        Ok(n)
    }
}

impl<R: Read + Seek> Archive<R> {
    /// Looks for the data block; `None` if there is none.
    ///
    /// # Errors
    /// [`Error::Format`] for a damaged one.
    pub fn open(mut source: R) -> Result<Option<Self>> {
        let end = source.seek(SeekFrom::End(0))?;
        let mut start = 0;
        let mut first = [0; FIRST_HEADER];
        loop {
            if start + FIRST_HEADER as u64 > end.min(LONGEST_HEAD) {
                return Ok(None);
            }
            source.seek(SeekFrom::Start(start))?;
            source.read_exact(&mut first)?;
            if first[4..20] == SIGN {
                break;
            }
            start += ALIGNMENT;
        }
        let number = |at: usize| u32::from_le_bytes([first[at], first[at + 1], first[at + 2], first[at + 3]]);
        let (flags, header_length, length) = (number(0), number(20), u64::from(number(24)));
        if length < FIRST_HEADER as u64 + 4 || start + length > end {
            return Err(Error::format(start + 24, "the file is shorter than its first header states"));
        }
        if header_length > LONGEST_HEADER {
            return Err(Error::format(start + 20, "its header would be larger than 64 MiB"));
        }
        let at = start + FIRST_HEADER as u64;
        let left = length - FIRST_HEADER as u64 - 4;
        let mut word = [0; 4];
        source.read_exact(&mut word)?;
        let word = u32::from_le_bytes(word);
        let one_by_one = word == header_length || word & 0xFF00_0000 == PACKED;
        source.seek(SeekFrom::Start(at))?;
        let (header, method, dictionary, blocks);
        if one_by_one {
            source.seek(SeekFrom::Start(at + 4))?;
            let size = u64::from(word & !PACKED);
            let part = Part { source: &mut source, left: size.min(left.saturating_sub(4)) };
            let mut solid = if word & PACKED == 0 { Solid::stored(part)? } else { Solid::open(part)? };
            let bytes = solid.bytes(header_length)?;
            (header, method, dictionary) = (bytes, solid.method, solid.dictionary);
            blocks = Some(at + 4 + size);
        } else {
            let mut solid = Solid::open(Part { source: &mut source, left })?;
            (header, method, dictionary) = (solid.header(header_length)?, solid.method, solid.dictionary);
            blocks = None;
        }
        let header = Header::parse(&header)?;
        Ok(Some(Self { source, start, flags, length, header_length, header, method, dictionary, blocks }))
    }

    /// Whether it removes a product.
    pub fn is_uninstaller(&self) -> bool {
        self.flags & UNINSTALLER != 0
    }

    /// A text, with `{install}` for the product's folder and the names of other variables.
    ///
    /// # Errors
    /// As [`crate::text::Texts::get`].
    pub fn text(&self, at: i32) -> Result<String> {
        text_of(&self.header, at)
    }

    /// The instructions, with notes put together.
    ///
    /// # Errors
    /// As [`steps`].
    pub fn steps(&self) -> Result<Vec<Step>> {
        steps(&self.header.entries)
    }

    /// The files, in the order of the instructions.
    ///
    /// # Errors
    /// [`Error::Format`] for texts outside the table.
    pub fn items(&self) -> Result<Vec<Item>> {
        let mut folder = String::from(INSTALL);
        let mut items = Vec::new();
        for (n, entry) in self.header.entries.iter().enumerate() {
            let (name, offset, uninstaller) = match entry[0] {
                op::FOLDER if entry[2] == 1 => {
                    folder = self.within(entry[1], &folder)?;
                    continue;
                }
                op::FILE => (entry[2], entry[3], false),
                op::UNINSTALLER => (entry[1], entry[2], true),
                _ => continue,
            };
            let whole = self.header.texts.begins_with_code(name);
            let name = self.within(name, &folder)?;
            let whole = whole || name.contains(":\\");
            let path = if whole { name } else { format!("{folder}\\{name}") };
            let offset = u32::try_from(offset).map_err(|_| Error::format(n as u64, "a file's offset is negative"))?;
            items.push(Item { path, offset, uninstaller, entry: n });
        }
        Ok(items)
    }

    /// The text at a place as a head of ours sees it: the unit 1 stands for the product's folder, and other codes for
    /// nothing.
    ///
    /// # Errors
    /// [`Error::Format`] for a place outside the table.
    pub fn units(&self, at: i32) -> Result<Vec<u16>> {
        self.header.texts.get(at, |code, out| {
            if code == Code::Variable(crate::structs::variable::INSTALL) {
                out.push(1);
            }
        })
    }

    /// The text at a place, in which a variable at its beginning may stand for the folder that was set last. Anywhere else
    /// the same letters are a name's own.
    ///
    /// # Errors
    /// [`Error::Format`] for a place outside the table.
    pub fn within(&self, at: i32, folder: &str) -> Result<String> {
        let text = self.text(at)?;
        let rest = text.strip_prefix("$OUTDIR").filter(|_| self.header.texts.begins_with_code(at));
        let whole = rest.map(|rest| format!("{folder}{rest}")).unwrap_or(text);
        // Each may stand for the one before: what doubles a few times is longer than any memory.
        if whole.len() > LONGEST_PATH {
            return Err(Error::Limit("a path is longer than Windows allows"));
        }
        Ok(whole)
    }

    /// Hands each file's length and bytes to `visit`, in the order of the stream, by its index in `items`.
    ///
    /// # Errors
    /// [`Error::Format`] for damaged bytes; what `visit` says ends it.
    pub fn walk(
        &mut self,
        items: &[Item],
        mut visit: impl FnMut(usize, u32, &mut dyn Read) -> std::io::Result<()>,
    ) -> Result<()> {
        let mut order: Vec<usize> = (0..items.len()).collect();
        order.sort_by_key(|n| items[*n].offset);
        let groups: Vec<&[usize]> = order.chunk_by(|a, b| items[*a].offset == items[*b].offset).collect();
        let end = self.start + self.length - 4;
        match self.blocks {
            None => {
                let at = self.start + FIRST_HEADER as u64;
                self.source.seek(SeekFrom::Start(at))?;
                let mut solid = Solid::open(Part { source: &mut self.source, left: end - at })?;
                let first = u64::from(solid.header(self.header_length)?.len() as u32) + 4;
                for group in groups {
                    let wanted = first + u64::from(items[group[0]].offset);
                    let gap = wanted.checked_sub(solid.at);
                    let gap = gap.ok_or(Error::format(wanted, "a file begins inside another one"))?;
                    skip(&mut solid, gap)?;
                    let length = solid.length()?;
                    hand_out(&mut solid, length, group, &mut visit)?;
                }
            }
            Some(blocks) => {
                for group in groups {
                    let at = blocks + u64::from(items[group[0]].offset);
                    let left =
                        end.checked_sub(at + 4).ok_or(Error::format(at, "a file lies outside the data block"))?;
                    self.source.seek(SeekFrom::Start(at))?;
                    let mut word = [0; 4];
                    self.source.read_exact(&mut word)?;
                    let word = u32::from_le_bytes(word);
                    let size = word & !PACKED;
                    if u64::from(size) > left {
                        return Err(Error::format(at, "a file lies outside the data block"));
                    }
                    let mut part = Part { source: &mut self.source, left: u64::from(size) };
                    if word & PACKED == 0 {
                        hand_out(&mut Solid::stored(part)?, size, group, &mut visit)?;
                        continue;
                    }
                    // How long it is unpacked is not said: it is unpacked once to know.
                    let plain = {
                        let mut solid = Solid::open(&mut part)?;
                        skip(&mut solid, u64::MAX)?;
                        u32::try_from(solid.at).map_err(|_| Error::Limit("a file of more than 4 GiB"))?
                    };
                    self.source.seek(SeekFrom::Start(at + 4))?;
                    let part = Part { source: &mut self.source, left: u64::from(size) };
                    hand_out(&mut Solid::open(part)?, plain, group, &mut visit)?;
                }
            }
        }
        Ok(())
    }

    /// What is wrong with it though it can be read: the CRC32, and the seal of programs that have one.
    ///
    /// # Errors
    /// The medium.
    pub fn findings(&mut self) -> Result<Vec<String>> {
        let mut findings = Vec::new();
        let mut head = vec![0; self.start as usize];
        self.source.seek(SeekFrom::Start(0))?;
        self.source.read_exact(&mut head)?;
        let seal_at = head.len().saturating_sub(seal::LENGTH);
        let stated = head.get(seal_at..).filter(|s| s.starts_with(&seal::SIGN)).map(<[u8]>::to_vec);
        if stated.is_some() {
            head[seal_at..].fill(0);
        }
        let mut crc = crc32fast::Hasher::new();
        crc.update(head.get(ALIGNMENT as usize..).unwrap_or_default());
        let mut hash = seal::Hash::default();
        let can_hash = stated.is_some() && hash.head(&head[..seal_at]).is_ok();
        let mut left = self.length - 4;
        let mut buffer = vec![0; 1 << 16];
        while left > 0 {
            let n = left.min(buffer.len() as u64) as usize;
            self.source.read_exact(&mut buffer[..n])?;
            crc.update(&buffer[..n]);
            hash.update(&buffer[..n]);
            left -= n as u64;
        }
        let mut at_end = [0; 4];
        self.source.read_exact(&mut at_end)?;
        hash.update(&at_end);
        // Checksums are said to be left out by a flag.
        if u32::from_le_bytes(at_end) != crc.finalize() && self.flags & 4 == 0 {
            findings.push("its CRC32 doesn't match its bytes".to_owned());
        }
        if can_hash && stated.is_some_and(|s| s[..] != hash.seal()) {
            findings.push("its seal doesn't match its bytes: it was changed after it was built".to_owned());
        }
        Ok(findings)
    }
}

impl<I: Input> Input for &mut I {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        (**self).read(into)
    }
}

fn skip<I: Input>(solid: &mut Solid<I>, mut gap: u64) -> Result<()> {
    let mut buffer = [0; 1 << 14];
    while gap > 0 {
        let n = gap.min(buffer.len() as u64) as usize;
        match solid.read(&mut buffer[..n])? {
            0 if gap > u64::from(u32::MAX) => return Ok(()),
            0 => return Err(Error::format(solid.at, "the packed bytes end too early")),
            n => gap -= n as u64,
        }
    }
    Ok(())
}

/// The bytes of one file.
struct Bytes<'s, I: Input> {
    solid: &'s mut Solid<I>,
    left: u32,
}

impl<I: Input> Read for Bytes<'_, I> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let n = into.len().min(self.left as usize);
        if n == 0 {
            return Ok(0);
        }
        match self.solid.read(&mut into[..n]) {
            Ok(0) => Err(std::io::Error::other(Error::format(self.solid.at, "the packed bytes end too early"))),
            Ok(n) => {
                self.left -= n as u32;
                Ok(n)
            }
            Err(e) => Err(std::io::Error::other(e)),
        }
    }
}

fn hand_out<I: Input>(
    solid: &mut Solid<I>,
    length: u32,
    group: &[usize],
    visit: &mut impl FnMut(usize, u32, &mut dyn Read) -> std::io::Result<()>,
) -> Result<()> {
    let mut bytes = Bytes { solid, left: length };
    if let [only] = group {
        visit(*only, length, &mut bytes)?;
    } else {
        if length > SHARED {
            return Err(Error::Limit("several names share a file of more than 256 MiB"));
        }
        let mut all = Vec::new();
        bytes.read_to_end(&mut all)?;
        for n in group {
            visit(*n, length, &mut &all[..])?;
        }
    }
    // What the visitor did not want.
    let left = u64::from(bytes.left);
    skip(solid, left)
}

/// A text, with `{install}` for the product's folder and the names of other variables.
///
/// # Errors
/// As [`crate::text::Texts::get`].
pub fn text_of(header: &Header, at: i32) -> Result<String> {
    const NAMES: [&str; 12] = [
        "CMDLINE",
        "INSTDIR",
        "OUTDIR",
        "EXEDIR",
        "LANGUAGE",
        "TEMP",
        "PLUGINSDIR",
        "EXEPATH",
        "EXEFILE",
        "HWNDPARENT",
        "CLICK",
        "OUTDIR",
    ];
    let units = header.texts.get(at, |code, out| {
        let name = match code {
            Code::Variable(variable::INSTALL) => INSTALL.to_owned(),
            Code::Variable(n @ 0..=9) => format!("${n}"),
            Code::Variable(n @ 10..=19) => format!("$R{}", n - 10),
            Code::Variable(n) => NAMES.get(usize::from(n) - 20).map_or(format!("$VAR{n}"), |name| format!("${name}")),
            Code::Shell(n) => format!("$FOLDER{:02X}", n & 0xFF),
            Code::Language(n) => format!("$(TEXT{n})"),
        };
        out.extend(name.encode_utf16());
    })?;
    Ok(String::from_utf16_lossy(&units))
}
