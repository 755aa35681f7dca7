//! What programs and libraries say of themselves: which others they need, what they take from these, which texts they have.

use super::Runtime;
use crate::payload::{Payload, PayloadFile};
use crate::platform::Platform;
use object::{Object, ObjectSymbol, ReadCache, ReadRef};
use read_at::{Cursor, ReadAt};
use std::collections::{BTreeSet, HashMap, HashSet};

/// The names of the libraries that a program, library or extension names, without folders; nothing for what is none of these.
pub fn needed(file: &PayloadFile) -> BTreeSet<String> {
    let Ok(source) = file.source.open() else { return BTreeSet::new() };
    let cache = ReadCache::new(Cursor::new(&source));
    names(&cache).unwrap_or_default()
}

fn names<'d>(data: impl ReadRef<'d>) -> object::Result<BTreeSet<String>> {
    use object::read::elf::{ElfFile32, ElfFile64};
    use object::{Endianness, FileKind};
    let all: Vec<Vec<u8>> = match FileKind::parse(data)? {
        FileKind::Elf32 => wanted(&ElfFile32::<Endianness, _>::parse(data)?)?,
        FileKind::Elf64 => wanted(&ElfFile64::<Endianness, _>::parse(data)?)?,
        _ => {
            let file = object::File::parse(data)?;
            file.imports()?.map_while(Result::ok).map(|import| import.library().to_vec()).collect()
        }
    };
    let text = |name: &Vec<u8>| String::from_utf8_lossy(name).rsplit('/').next().unwrap_or_default().to_owned();
    Ok(all.iter().map(text).filter(|name| !name.is_empty()).collect())
}

/// What an ELF file's dynamic section needs.
fn wanted<'d, E: object::read::elf::FileHeader, R: ReadRef<'d>>(
    file: &object::read::elf::ElfFile<'d, E, R>,
) -> object::Result<Vec<Vec<u8>>> {
    let table = file.elf_dynamic_table()?;
    let all = table.iter().filter(|one| one.tag == object::elf::DT_NEEDED);
    all.map(|one| Ok(table.string(one)?.to_vec())).collect()
}

/// The platform that a library is for; nothing for what is none, or for one that no product is built for.
pub fn platform(file: &PayloadFile) -> Option<Platform> {
    use object::{Architecture, BinaryFormat};
    let source = file.source.open().ok()?;
    let cache = ReadCache::new(Cursor::new(&source));
    if matches!(object::FileKind::parse(&cache), Ok(object::FileKind::MachOFat32 | object::FileKind::MachOFat64)) {
        return Some(Platform::MacosUniversal);
    }
    let file = object::File::parse(&cache).ok()?;
    Some(match (file.format(), file.architecture()) {
        (BinaryFormat::Elf, Architecture::X86_64) => Platform::LinuxX64,
        (BinaryFormat::Elf, Architecture::Aarch64) => Platform::LinuxArm64,
        (BinaryFormat::Pe, Architecture::X86_64) => Platform::WindowsX64,
        (BinaryFormat::Pe, Architecture::I386) => Platform::WindowsX86,
        (BinaryFormat::Pe, Architecture::Aarch64) => Platform::WindowsArm64,
        (BinaryFormat::MachO, Architecture::X86_64) => Platform::MacosX64,
        (BinaryFormat::MachO, Architecture::Aarch64) => Platform::MacosArm64,
        _ => return None,
    })
}

/// What a library takes from others, and what it gives them.
#[derive(Debug, Default)]
pub struct Symbols {
    pub taken: HashSet<Vec<u8>>,
    pub given: HashSet<Vec<u8>>,
}

/// The names that a library takes and gives; nothing for what is none.
pub fn symbols(file: &PayloadFile) -> Symbols {
    let mut all = Symbols::default();
    let Ok(source) = file.source.open() else { return all };
    let cache = ReadCache::new(Cursor::new(&source));
    let Ok(object) = object::File::parse(&cache) else { return all };
    for symbol in object.dynamic_symbols() {
        let Ok(name) = symbol.name_bytes() else { continue };
        if symbol.is_undefined() {
            all.taken.insert(name.to_vec());
        } else {
            all.given.insert(name.to_vec());
        }
    }
    // Windows and macOS have lists of their own for these.
    for import in object.imports().into_iter().flatten().map_while(Result::ok) {
        if let object::NameOrOrdinal::Name(name) = import.name() {
            all.taken.insert(name.to_vec());
        }
    }
    for export in object.exports().into_iter().flatten().map_while(Result::ok) {
        if let object::NameOrOrdinal::Name(name) = export.name() {
            all.given.insert(name.to_vec());
        }
    }
    all
}

/// Names among the texts of a program: words between zeros.
///
/// # Errors
/// It can't be read.
pub fn texts(file: &PayloadFile, is_name: impl Fn(&str) -> bool) -> std::io::Result<BTreeSet<String>> {
    const PIECE: usize = 1 << 20;
    /// No name is longer, bytes.
    const MOST: usize = 100;
    let source = file.source.open()?;
    let mut found = BTreeSet::new();
    let (mut at, mut piece) = (0u64, vec![0; PIECE + MOST]);
    while at < file.size {
        let length = (file.size - at).min(piece.len() as u64) as usize;
        source.read_exact_at(&mut piece[..length], at)?;
        for text in piece[..length].split(|b| *b == 0).filter(|text| (3..=MOST).contains(&text.len())) {
            let is_plain = text.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.'));
            if let Some(name) = std::str::from_utf8(text).ok().filter(|name| is_plain && is_name(name)) {
                found.insert(name.to_owned());
            }
        }
        at += PIECE as u64;
    }
    Ok(found)
}

/// Libraries of a runtime that only what is left out needs, and nothing of the product. What nobody names stays: it may be loaded by its name.
pub fn unused(runtime: &Runtime, payload: &Payload, stays: impl Fn(&str) -> bool) -> BTreeSet<String> {
    let name_of = |path: &str| path.rsplit('/').next().unwrap_or(path).to_lowercase();
    let is_one = |path: &str| {
        let name = name_of(path);
        name.ends_with(".dll") || name.ends_with(".dylib") || name.ends_with(".so") || name.contains(".so.")
    };
    let is_code =
        |path: &str| is_one(path) || path.ends_with(".pyd") || path.ends_with(".exe") || path.starts_with("bin/");
    // Who needs which, by lower-case names without folders.
    let (mut needs, mut outside) = (HashMap::<&str, BTreeSet<String>>::new(), BTreeSet::new());
    for file in payload.files.iter().filter(|file| is_code(runtime.inside(&file.path).unwrap_or(file.path.as_str()))) {
        let names = needed(file).into_iter().map(|name| name.to_lowercase());
        match runtime.inside(&file.path) {
            Some(path) => drop(needs.insert(path, names.collect())),
            None => outside.extend(names),
        }
    }
    let named: HashSet<&String> = needs.values().flatten().collect();
    let mut used: HashSet<&str> = HashSet::new();
    let is_wanted = |path: &str| !is_one(path) || !named.contains(&name_of(path)) || outside.contains(&name_of(path));
    let mut next: Vec<&str> = needs.keys().copied().filter(|path| stays(path) && is_wanted(path)).collect();
    while let Some(path) = next.pop() {
        if used.insert(path) {
            let wanted = &needs[path];
            next.extend(needs.keys().copied().filter(|other| wanted.contains(&name_of(other))));
        }
    }
    needs.keys().filter(|path| stays(path) && !used.contains(*path)).map(|path| (*path).to_owned()).collect()
}
