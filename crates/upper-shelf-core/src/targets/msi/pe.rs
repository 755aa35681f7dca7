//! The version and language of a Windows program or library, which Windows Installer compares in upgrades.

use crate::payload::{PayloadFile, Source};
use object::pe;
use object::read::pe::{ImageNtHeaders, PeFile, ResourceDirectoryEntryData};
use object::{LittleEndian as LE, ReadCache, ReadRef};

/// Version (`1.2.3.4`) and language of a file, if it states them.
pub fn version(file: &PayloadFile) -> Option<(String, String)> {
    let ending = file.path.name().rsplit_once('.').map(|(_, e)| e.to_ascii_lowercase())?;
    if !["exe", "dll", "ocx", "sys", "cpl", "drv", "scr"].contains(&ending.as_str()) {
        return None;
    }
    of_source(&file.source)
}

fn of_source(source: &Source) -> Option<(String, String)> {
    match source {
        Source::Memory(bytes) => of(&**bytes),
        // Programs of macOS.
        Source::Joined(_) => None,
        // A signature says nothing of versions.
        Source::Changed(base, _) => of_source(base),
        Source::Disk(path, _) => of(&ReadCache::new(std::fs::File::open(path).ok()?)),
    }
}

fn of<'d, R: ReadRef<'d>>(data: R) -> Option<(String, String)> {
    match object::FileKind::parse(data).ok()? {
        object::FileKind::Pe32 => found(&PeFile::<pe::ImageNtHeaders32, R>::parse(data).ok()?, data),
        object::FileKind::Pe64 => found(&PeFile::<pe::ImageNtHeaders64, R>::parse(data).ok()?, data),
        _ => None,
    }
}

fn found<'d, P: ImageNtHeaders, R: ReadRef<'d>>(file: &PeFile<'d, P, R>, data: R) -> Option<(String, String)> {
    let sections = file.section_table();
    let resources = file.data_directories().resource_directory(data, &sections).ok()??;
    let kinds = resources.root().ok()?;
    let kind = kinds.entries.iter().find(|e| e.name_or_id().id() == Some(pe::RT_VERSION))?;
    let names = kind.data(resources).ok()?.table()?;
    let languages = names.entries.first()?.data(resources).ok()?.table()?;
    let language = languages.entries.first()?;
    let ResourceDirectoryEntryData::Data(entry) = language.data(resources).ok()? else { return None };
    let bytes = sections.pe_data_at(data, entry.offset_to_data.get(LE))?;
    let bytes = bytes.get(..entry.size.get(LE) as usize)?;
    // VS_FIXEDFILEINFO: signature, structure version, then the file's version, high and low.
    let at = bytes.windows(4).position(|w| w == [0xBD, 0x04, 0xEF, 0xFE])?;
    let half = |n: usize| bytes.get(at + n..).and_then(|b| b.first_chunk().map(|b| u16::from_le_bytes(*b)));
    let version = format!("{}.{}.{}.{}", half(10)?, half(8)?, half(14)?, half(12)?);
    Some((version, language.name_or_id().id().unwrap_or(0).to_string()))
}
