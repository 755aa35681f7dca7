//! What a file is, by its bytes: real programs of each system, and what only looks like one.

use std::io::Write;
use std::path::{Path, PathBuf};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::recognise::{FileKind, recognise};

/// A program that ships with the tool.
fn shipped(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("heads").join(name)).unwrap()
}

fn jar(entry: &str) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    archive.start_file(entry, zip::write::SimpleFileOptions::default()).unwrap();
    archive.write_all(b"Manifest-Version: 1.0\n").unwrap();
    archive.finish().unwrap().into_inner()
}

/// One byte or more of a program replaced.
fn with(mut bytes: Vec<u8>, at: usize, new: &[u8]) -> Vec<u8> {
    bytes[at..at + new.len()].copy_from_slice(new);
    bytes
}

/// Where the header of a Windows program stands, behind its signature.
fn header(program: &[u8]) -> usize {
    u32::from_le_bytes(program[60..64].try_into().unwrap()) as usize
}

fn written(folder: &Path, bytes: &[u8]) -> PathBuf {
    let file = folder.join("file");
    std::fs::write(&file, bytes).unwrap();
    file
}

#[test]
fn programs_and_libraries_of_each_system_are_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let windows = shipped("launcher-x64.exe");
    let at = header(&windows);
    let flags = u16::from_le_bytes([windows[at + 22], windows[at + 23]]);
    let library = with(windows.clone(), at + 22, &(flags | 0x2000).to_le_bytes());
    let console = with(windows.clone(), at + 92, &3u16.to_le_bytes());
    let window = with(windows.clone(), at + 92, &2u16.to_le_bytes());
    let itanium = with(windows.clone(), at + 4, &0x200u16.to_le_bytes());
    let macos = shipped("macos-arm64/launcher");
    let dylib = with(macos.clone(), 12, &6u32.to_le_bytes());
    let object = with(macos.clone(), 12, &1u32.to_le_bytes());
    let fat = |count: u32| [&[0xca, 0xfe, 0xba, 0xbe][..], &count.to_be_bytes(), &[0; 56]].concat();
    let linux = shipped("appimage-runtime-x86_64");
    let riscv = with(linux.clone(), 18, &243u16.to_le_bytes());
    let object_file = with(linux.clone(), 16, &1u16.to_le_bytes());
    for (what, bytes, expected) in [
        ("Linux, x64", linux.clone(), Some(FileKind::ElfProgram(Platform::LinuxX64))),
        ("Linux, ARM", shipped("appimage-runtime-aarch64"), Some(FileKind::ElfProgram(Platform::LinuxArm64))),
        ("Linux, a processor without packages", riscv, None),
        ("Linux, an object file", object_file, None),
        ("Windows, with a console", console, Some(FileKind::PeProgram(Platform::WindowsX64, true))),
        ("Windows, with a window", window, Some(FileKind::PeProgram(Platform::WindowsX64, false))),
        ("Windows, ARM", shipped("setup-lzma-arm64.exe"), Some(FileKind::PeProgram(Platform::WindowsArm64, false))),
        ("Windows, x86", shipped("setup-lzma-x86.exe"), Some(FileKind::PeProgram(Platform::WindowsX86, false))),
        ("Windows, a library", library, Some(FileKind::PeLibrary)),
        ("Windows, a processor without packages", itanium, None),
        ("DOS", with(windows, at, b"NE"), None),
        ("macOS, ARM", macos, Some(FileKind::MachOProgram(Platform::MacosArm64))),
        ("macOS, x64", shipped("macos-x64/launcher"), Some(FileKind::MachOProgram(Platform::MacosX64))),
        ("macOS, a library", dylib, Some(FileKind::MachOLibrary)),
        ("macOS, an object file", object, None),
        ("macOS, two processors", fat(2), Some(FileKind::MachOProgram(Platform::MacosUniversal))),
        // A compiled class of Java begins with the same four bytes, and with its version behind them.
        ("Java, a class", fat(52), None),
        ("Java, an archive", jar("META-INF/MANIFEST.MF"), Some(FileKind::Jar)),
        ("an archive", jar("notes.txt"), None),
        ("a script", b"#!/usr/bin/env python3\n".to_vec(), Some(FileKind::Script)),
        ("a text", b"#! is how scripts begin".to_vec(), Some(FileKind::Script)),
        ("nearly nothing", b"MZ".to_vec(), None),
        ("nothing", Vec::new(), None),
    ] {
        assert_eq!(recognise(&written(folder.path(), &bytes)), expected, "{what}");
    }
    assert_eq!(recognise(&folder.path().join("missing")), None);
    assert_eq!(recognise(folder.path()), None, "a folder is no program");
}

#[test]
fn a_library_of_linux_has_no_entry_and_a_program_made_to_be_placed_anywhere_has() {
    let folder = tempfile::tempdir().unwrap();
    // ET_DYN, for x64, without program headers.
    let elf = |kind: u16, entry: u64| {
        let mut bytes = vec![0; 64];
        bytes[..7].copy_from_slice(b"\x7fELF\x02\x01\x01");
        bytes[16..18].copy_from_slice(&kind.to_le_bytes());
        bytes[18..20].copy_from_slice(&62u16.to_le_bytes());
        bytes[24..32].copy_from_slice(&entry.to_le_bytes());
        bytes
    };
    let kind = |bytes: &[u8]| recognise(&written(folder.path(), bytes));
    assert_eq!(kind(&elf(3, 0)), Some(FileKind::ElfLibrary));
    assert_eq!(kind(&elf(3, 0x1000)), Some(FileKind::ElfProgram(Platform::LinuxX64)));
    assert_eq!(kind(&elf(2, 0)), Some(FileKind::ElfProgram(Platform::LinuxX64)));
    assert_eq!(kind(&elf(4, 0)), None, "a core dump");
}

#[test]
fn what_is_cut_off_or_broken_is_answered_all_the_same() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["appimage-runtime-x86_64", "launcher-x64.exe", "macos-arm64/launcher"] {
        let whole = shipped(name);
        for end in (0..512).step_by(7) {
            let _ = recognise(&written(folder.path(), &whole[..end]));
        }
        for at in (0..512).step_by(3) {
            let mut broken = whole[..1024].to_vec();
            broken[at] = 0xff;
            let _ = recognise(&written(folder.path(), &broken));
        }
        // The header of a Windows program may be said to lie anywhere.
        let _ = recognise(&written(folder.path(), &with(whole[..1024].to_vec(), 60, &u32::MAX.to_le_bytes())));
    }
}
