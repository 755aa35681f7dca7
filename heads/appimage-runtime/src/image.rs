//! Finds the image: it begins where this program's ELF file ends.

use crate::Failure;
use checked_read::Checked;
use squashfs::read::{Image, Limits};
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

/// Sections that the specification reserves for whoever signs and publishes; the builder fills them in the file.
#[link_section = ".upd_info"]
static UPDATE_INFORMATION: [u8; 1024] = [0; 1024];
#[link_section = ".sha256_sig"]
static SIGNATURE: [u8; 1024] = [0; 1024];
#[link_section = ".sig_key"]
static SIGNATURE_KEY: [u8; 8192] = [0; 8192];
/// BLAKE3 of the image, 32 bytes: the key of the unpacking cache, and the proof that what was unpacked is whole.
#[link_section = ".content_hash"]
static CONTENT_HASH: [u8; 32] = [0; 32];
/// The image's length, bytes, little-endian. Behind it, at the next multiple of [`PADDED`] from its beginning, stand the
/// values of its pieces (see `checked-read`).
#[link_section = ".image_length"]
static IMAGE_LENGTH: [u8; 8] = [0; 8];

/// What the image is padded to.
const PADDED: u64 = 4096;

/// The file as the image is read from it: each piece is checked when it is first read.
pub type Source = Checked<File>;

/// An opened AppImage.
pub struct Bundle {
    /// Its own path, links resolved.
    pub path: PathBuf,
    pub file: File,
    /// Where the image begins.
    pub offset: u64,
}

impl Bundle {
    /// The file that is running.
    pub fn open_own() -> Result<Self, Failure> {
        // The sections are read from the file, but the linker keeps only what the program names.
        std::hint::black_box((&UPDATE_INFORMATION, &SIGNATURE, &SIGNATURE_KEY, &CONTENT_HASH, &IMAGE_LENGTH));
        let file = File::open("/proc/self/exe")
            .map_err(|e| Failure::new(format!("This program can't open its own file: {e}.")))?;
        let path = std::fs::read_link("/proc/self/exe").unwrap_or_default();
        let offset = elf_end(&file)
            .ok_or_else(|| Failure::new(format!("{}: the start of the file is damaged.", path.display())))?;
        Ok(Self { path, file, offset })
    }

    /// Opens the image behind the head.
    pub fn image(&self) -> Result<Image<Source>, Failure> {
        let file = self.file.try_clone().map_err(|e| Failure::new(format!("{}: {e}.", self.path.display())))?;
        let source = self.checked(file).map_err(|e| self.damaged(e))?;
        Image::open(source, self.offset, Limits::default()).map_err(|e| self.damaged(e))
    }

    fn checked(&self, file: File) -> std::io::Result<Source> {
        let length = self.section(".image_length").and_then(|l| l.try_into().ok()).map_or(0, u64::from_le_bytes);
        let Some(hash) = self.content_hash().filter(|_| length > 0) else { return Ok(Checked::unknown(file)) };
        let there = file.metadata()?.len().saturating_sub(self.offset);
        let table = length.checked_next_multiple_of(PADDED).filter(|&at| at <= there);
        let Some(table) = table.filter(|at| there - at >= checked_read::pieces(length) * 32) else {
            return Err(std::io::Error::other(format!("it ends after {there} bytes of its image")));
        };
        let mut bytes = vec![0; checked_read::pieces(length) as usize * 32];
        file.read_exact_at(&mut bytes, self.offset + table)?;
        let values = bytes.chunks_exact(32).map(|v| v.try_into().unwrap_or_default()).collect();
        Checked::new(file, self.offset, length, values, &hash)
    }

    pub fn damaged(&self, e: impl std::fmt::Display) -> Failure {
        Failure::new(damaged(&self.path, e))
    }

    /// The bytes of a section, from the file (the running copy of it may have been relocated).
    pub fn section(&self, name: &str) -> Option<Vec<u8>> {
        let sections = Sections::of(&self.file)?;
        let names = sections.header(sections.names)?;
        for index in 0..sections.count {
            let header = sections.header(index)?;
            let mut own = [0; 32];
            let own = &mut own[..name.len() + 1];
            let at = names.offset.checked_add(header.name.into())?;
            if self.file.read_exact_at(own, at).is_ok() && own.strip_suffix(&[0]) == Some(name.as_bytes()) {
                let mut bytes = vec![0; usize::try_from(header.size).ok().filter(|&n| n <= 1 << 16)?];
                self.file.read_exact_at(&mut bytes, header.offset).ok()?;
                return Some(bytes);
            }
        }
        None
    }

    /// The content's key: the builder's hash of the image, or none when it was left empty.
    pub fn content_hash(&self) -> Option<[u8; 32]> {
        let hash: [u8; 32] = self.section(".content_hash")?.try_into().ok()?;
        (hash != [0; 32]).then_some(hash)
    }
}

/// The sentence on a file that is not what it was.
pub fn damaged(path: &std::path::Path, e: impl std::fmt::Display) -> String {
    format!("{}: {e}. The file is damaged or was not downloaded completely. Please download it again.", path.display())
}

/// The end of the ELF file: behind its section headers, which linkers write last.
fn elf_end(file: &File) -> Option<u64> {
    let sections = Sections::of(file)?;
    sections.start.checked_add(u64::from(sections.count).checked_mul(64)?)
}

struct Sections<'f> {
    file: &'f File,
    start: u64,
    count: u16,
    names: u16,
}

struct SectionHeader {
    name: u32,
    offset: u64,
    size: u64,
}

impl<'f> Sections<'f> {
    /// ELF64, little-endian: the only kind that heads are built as.
    fn of(file: &'f File) -> Option<Self> {
        let mut head = [0; 64];
        file.read_exact_at(&mut head, 0).ok()?;
        if head[..6] != *b"\x7fELF\x02\x01" || u16_at(&head, 58) != 64 {
            return None;
        }
        Some(Self { file, start: u64_at(&head, 40), count: u16_at(&head, 60), names: u16_at(&head, 62) })
    }

    fn header(&self, index: u16) -> Option<SectionHeader> {
        let mut h = [0; 64];
        self.file.read_exact_at(&mut h, self.start.checked_add(u64::from(index) * 64)?).ok()?;
        let name = u32::from_le_bytes([h[0], h[1], h[2], h[3]]);
        Some(SectionHeader { name, offset: u64_at(&h, 24), size: u64_at(&h, 32) })
    }
}

fn u16_at(bytes: &[u8; 64], at: usize) -> u16 {
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

fn u64_at(bytes: &[u8; 64], at: usize) -> u64 {
    let mut n = [0; 8];
    n.copy_from_slice(&bytes[at..at + 8]);
    u64::from_le_bytes(n)
}
