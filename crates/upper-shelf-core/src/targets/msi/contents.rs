//! The files' bytes in a package's cabinets, inside it and beside it; and what is wrong with them.

use super::read;
use crate::budget::Package;
use crate::content::ContentHash;
use md5::{Digest, Md5};
use msi_database::compound::{Compound, Limits};
use msi_database::database::Database;
use msi_database::names::pack;
use msi_database::rows;
use msi_database::summary;
use msi_database::{Error, Result};
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};

pub(super) fn open(package: &Package) -> Result<(Compound<File>, Database)> {
    let mut compound = Compound::open(File::open(package)?, Limits::default())?;
    let limits = msi_database::read::Limits { max_table: package.budget.metadata_left() };
    let read = msi_database::read::read(&mut compound, limits)?;
    let strings: u64 = read.database.strings().map(|s| s.len() as u64).sum();
    package.budget.metadata(strings).map_err(io::Error::from)?;
    read.database.each::<rows::File>().try_for_each(|_| package.budget.name("")).map_err(io::Error::from)?;
    Ok((compound, read.database))
}

/// Hands each file's bytes to `visit`, by its path in the footprint.
pub fn files(package: &Package, visit: crate::targets::Visit) -> Result<()> {
    let (mut compound, db) = open(package)?;
    let paths = read::paths(&db)?;
    let mut packed: HashSet<String> = HashSet::new();
    each_cabinet(&cabinets(&db), &mut compound, package, |cabinet| {
        cabinet.walk(|entry, bytes| match paths.get(entry.name.as_str()) {
            Some(path) => {
                packed.insert(entry.name.clone());
                visit(path, bytes).map_err(cabinet::Error::Io)
            }
            None => Ok(()),
        })
    })?;
    for (key, file) in loose(&db, package) {
        if let Some(path) = paths.get(key).filter(|_| !packed.contains(key)) {
            visit(path, &mut opened(&file)?)?;
        }
    }
    Ok(())
}

fn opened(file: &Path) -> Result<File> {
    let missing =
        |e| Error::Usage(format!("the file {}, which has to be next to it, can't be read: {e}", file.display()));
    File::open(file).map_err(missing)
}

/// Files that are in no cabinet: they lie beside the package, in folders of their own, by their names in the source.
fn loose<'d>(db: &'d Database, package: &Path) -> Vec<(&'d str, PathBuf)> {
    // "Word Count Summary Property": 1 for short names in the source, 2 for compressed files; a file's own attributes
    // 0x2000 and 0x4000 say it of the file ("File Table").
    let words = db.summary.number(summary::WORD_COUNT).unwrap_or(0);
    let one = |name: &'d str| match name.split_once('|') {
        Some((short, long)) => {
            if words & 1 != 0 {
                short
            } else {
                long
            }
        }
        None => name,
    };
    let folders: HashMap<&str, (&str, &str)> =
        db.each::<rows::Directory>().map(|r| (r.directory, (r.directory_parent, r.default_dir))).collect();
    let components: HashMap<&str, &str> = db.each::<rows::Component>().map(|r| (r.component, r.directory)).collect();
    let top = package.parent().unwrap_or(Path::new("")).to_owned();
    let mut all = Vec::new();
    for row in db.each::<rows::File>() {
        let attributes = row.attributes.unwrap_or(0);
        let is_said = attributes & 0x2000 != 0;
        if !is_said && (words & 2 != 0 || attributes & 0x4000 != 0) {
            continue;
        }
        let mut names = vec![one(row.file_name)];
        let mut at = components.get(row.component).copied().unwrap_or_default();
        while let Some((above, name)) = folders.get(at).filter(|(above, _)| !above.is_empty() && names.len() < 50) {
            let source = name.split_once(':').map_or(*name, |(_, source)| source);
            names.push(one(source));
            at = above;
        }
        // Only plain names can be followed.
        let is_plain = |n: &&str| *n == "." || setup_rules::path::stays_inside(&n.encode_utf16().collect::<Vec<_>>());
        if names.iter().all(is_plain) {
            let mut path = top.clone();
            path.extend(names.iter().rev().filter(|n| **n != "."));
            // Packages that say nothing of it often have their files in a cabinet all the same.
            if is_said || path.is_file() {
                all.push((row.file, path));
            }
        }
    }
    all
}

/// A cabinet with files of the package.
enum CabinetName {
    Embedded(String),
    /// A file in the package's own folder.
    External(String),
}

fn cabinets(db: &Database) -> Vec<CabinetName> {
    let name = |text: &str| match text.strip_prefix('#') {
        Some(inside) => CabinetName::Embedded(inside.to_owned()),
        None => CabinetName::External(text.to_owned()),
    };
    db.each::<rows::Media>().map(|row| row.cabinet).filter(|t| !t.is_empty()).map(name).collect()
}

trait Source: Read + Seek {}
impl<T: Read + Seek> Source for T {}
type AnyCabinet<'c> = cabinet::read::Cabinet<Box<dyn Source + 'c>>;

/// Hands each cabinet to `visit`.
fn each_cabinet(
    names: &[CabinetName],
    compound: &mut Compound<File>,
    package: &Path,
    mut visit: impl FnMut(&mut AnyCabinet) -> cabinet::Result<()>,
) -> Result<()> {
    for name in names {
        let (name, source): (_, Box<dyn Source>) = match name {
            CabinetName::Embedded(name) => {
                let missing = || Error::Usage(format!("the cabinet {name} is missing"));
                (name, Box::new(compound.stream(&pack(name, false))?.ok_or_else(missing)?))
            }
            // Only a plain name can be followed.
            CabinetName::External(name) if name.contains(['/', '\\', ':']) || name.starts_with("..") => {
                return Err(Error::Usage(format!("the cabinet's name {name:?} leads out of the package's folder")));
            }
            CabinetName::External(name) => {
                let path = crate::litter::next_to(package, name);
                let missing =
                    |e| Error::Usage(format!("the cabinet {name}, which has to be next to it, can't be read: {e}"));
                (name, Box::new(File::open(path).map_err(missing)?))
            }
        };
        let bad = |e: cabinet::Error| match e {
            cabinet::Error::Io(e) if e.get_ref().is_none_or(|inner| !inner.is::<cabinet::Error>()) => Error::Io(e),
            e => Error::Usage(format!("the cabinet {name}: {e}")),
        };
        let mut cabinet = cabinet::read::Cabinet::open(source, cabinet::read::Limits::default()).map_err(bad)?;
        visit(&mut cabinet).map_err(bad)?;
    }
    Ok(())
}

/// The hash of each file in the cabinets, by its key; the hashes that the package states are compared.
pub(super) fn contents<'d>(
    db: &'d Database,
    compound: &mut Compound<File>,
    package: &Path,
) -> Result<HashMap<&'d str, ContentHash>> {
    let parts = |r: &rows::MsiFileHash| [r.hash_part1, r.hash_part2, r.hash_part3, r.hash_part4];
    let stated: HashMap<&str, [i32; 4]> = db.each::<rows::MsiFileHash>().map(|r| (r.file, parts(&r))).collect();
    let mut all = HashMap::new();
    each_cabinet(&cabinets(db), compound, package, |cabinet| {
        cabinet.walk(|entry, bytes| {
            let (mut hasher, mut md5) = (blake3::Hasher::new(), Md5::new());
            let mut buffer = [0; 1 << 15];
            loop {
                let n = bytes.read(&mut buffer)?;
                if n == 0 {
                    break;
                }
                hasher.update(&buffer[..n]);
                md5.update(&buffer[..n]);
            }
            let md5: [u8; 16] = md5.finalize().into();
            let (chunks, _) = md5.as_chunks::<4>();
            let parts: [i32; 4] = std::array::from_fn(|n| chunks.get(n).map_or(0, |p| i32::from_le_bytes(*p)));
            if stated.get(entry.name.as_str()).is_some_and(|s| *s != parts) {
                return Err(cabinet::Error::Usage(format!("{} doesn't match its hash in MsiFileHash", entry.name)));
            }
            // A file that no row names is of no use.
            if let Some(key) = db.known(&entry.name) {
                all.insert(key, ContentHash(*hasher.finalize().as_bytes()));
            }
            Ok(())
        })
    })?;
    for (key, file) in loose(db, package) {
        if all.contains_key(key) {
            continue;
        }
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(opened(&file)?)?;
        all.insert(key, ContentHash(*hasher.finalize().as_bytes()));
    }
    Ok(all)
}

/// What Windows would refuse, or do wrong.
pub fn findings(package_path: &Path) -> Result<Vec<String>> {
    let mut compound = Compound::open(File::open(package_path)?, Limits::default())?;
    let package = msi_database::read::read(&mut compound, msi_database::read::Limits::default())?;
    let db = &package.database;
    let mut findings = msi_database::check::check(&compound, db, &package.remarks);
    // Others' packages may have reasons of their own.
    if db.property("UpperShelfId").is_some() {
        findings.extend(msi_database::check::ice::check(db));
    }
    let mut files: Vec<(i32, &str, i32)> = db.each::<rows::File>().map(|r| (r.sequence, r.file, r.file_size)).collect();
    files.sort_unstable();
    let beside: HashSet<&str> = loose(db, package_path).into_iter().map(|(key, _)| key).collect();
    files.retain(|(_, key, _)| !beside.contains(key));
    let mut files = files.into_iter().peekable();
    let cabinets = cabinets(db);
    if cabinets.is_empty() {
        return Ok(findings);
    }
    each_cabinet(&cabinets, &mut compound, package_path, |cabinet| {
        for entry in cabinet.files() {
            match files.next() {
                Some((_, key, size)) if key == entry.name => {
                    if i64::from(size) != i64::from(entry.size) {
                        findings
                            .push(format!("File, row {key:?}: the size {size} is not the cabinet's {}", entry.size));
                    }
                }
                Some((at, key, _)) => {
                    findings.push(format!("File, row {key:?}: at sequence {at} the cabinet has {}", entry.name));
                    break;
                }
                None => findings.push(format!("the cabinet's file {} is in no row of File", entry.name)),
            }
        }
        Ok(())
    })?;
    if let Some((_, key, _)) = files.peek() {
        findings.push(format!("File, row {key:?}: no cabinet has it"));
    }
    Ok(findings)
}
