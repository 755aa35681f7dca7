//! What a file is, by its first bytes: programs, libraries, scripts of every system.

use crate::platform::Platform;
use object::read::elf::FileHeader;
use serde::Serialize;
use std::fs::File;
use std::io::Read;
use std::path::Path;

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// A Linux program, for this processor.
    ElfProgram(Platform),
    /// A Linux library.
    ElfLibrary,
    /// A Windows program; whether it needs a console.
    PeProgram(Platform, bool),
    /// A Windows library.
    PeLibrary,
    /// A macOS program.
    MachOProgram(Platform),
    /// A macOS library.
    MachOLibrary,
    /// A Java archive that can be started.
    Jar,
    /// A script with an interpreter's name in its first line.
    Script,
}

/// Recognises a program file by its first bytes; `None` for data.
pub fn recognise(path: &Path) -> Option<FileKind> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(64 << 10).read_to_end(&mut head).ok()?;
    match head.get(..4)? {
        b"\x7fELF" => elf(&head),
        [b'M', b'Z', ..] => pe(&head),
        [0xcf, 0xfa, 0xed, 0xfe] => mach_o(&head),
        [0xca, 0xfe, 0xba, 0xbe] => fat(&head),
        b"PK\x03\x04" => {
            let archive = zip::ZipArchive::new(File::open(path).ok()?).ok()?;
            archive.index_for_name("META-INF/MANIFEST.MF").map(|_| FileKind::Jar)
        }
        [b'#', b'!', ..] => Some(FileKind::Script),
        _ => None,
    }
}

fn elf(head: &[u8]) -> Option<FileKind> {
    use object::elf;
    let header = elf::FileHeader64::<object::Endianness>::parse(head).ok()?;
    let endian = header.endian().ok()?;
    let platform = match header.e_machine.get(endian) {
        elf::EM_X86_64 => Platform::LinuxX64,
        elf::EM_AARCH64 => Platform::LinuxArm64,
        _ => return None,
    };
    let kind = header.e_type.get(endian);
    let segments = header.program_headers(endian, head).unwrap_or_default();
    let has_interpreter = segments.iter().any(|s| s.p_type.get(endian) == elf::PT_INTERP);
    // A program that is linked statically and can be placed anywhere has no interpreter, but an entry point.
    let starts = has_interpreter || kind == elf::ET_EXEC || header.e_entry.get(endian) != 0;
    match kind {
        elf::ET_EXEC | elf::ET_DYN if starts => Some(FileKind::ElfProgram(platform)),
        elf::ET_DYN => Some(FileKind::ElfLibrary),
        _ => None,
    }
}

fn pe(head: &[u8]) -> Option<FileKind> {
    let at = u32::from_le_bytes(head.get(60..64)?.try_into().ok()?) as usize;
    let header = head.get(at..at + 96)?;
    if &header[..4] != b"PE\0\0" {
        return None;
    }
    let field = |at: usize| u16::from_le_bytes([header[at], header[at + 1]]);
    let platform = match field(4) {
        0x8664 => Platform::WindowsX64,
        0x14c => Platform::WindowsX86,
        0xaa64 => Platform::WindowsArm64,
        _ => return None,
    };
    if field(22) & 0x2000 != 0 {
        return Some(FileKind::PeLibrary);
    }
    // Subsystem 3: a console program.
    Some(FileKind::PeProgram(platform, field(92) == 3))
}

fn mach_o(head: &[u8]) -> Option<FileKind> {
    let number = |at: usize| Some(u32::from_le_bytes(head.get(at..at + 4)?.try_into().ok()?));
    let platform = match number(4)? {
        0x0100_0007 => Platform::MacosX64,
        0x0100_000c => Platform::MacosArm64,
        _ => return None,
    };
    match number(12)? {
        2 => Some(FileKind::MachOProgram(platform)),
        6 | 8 => Some(FileKind::MachOLibrary),
        _ => None,
    }
}

/// A fat file, which shares its first bytes with compiled Java classes: those have a version of 45 or more there.
fn fat(head: &[u8]) -> Option<FileKind> {
    let count = u32::from_be_bytes(head.get(4..8)?.try_into().ok()?);
    (1..=8).contains(&count).then_some(FileKind::MachOProgram(Platform::MacosUniversal))
}
