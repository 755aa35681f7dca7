//! Windows Installer packages. A footprint becomes tables and cabinets in one file, and is read back out of ours and of
//! anybody's.

pub(crate) mod carry;
mod codes;
mod contents;
mod deploy;
mod dialogs;
mod layout;
mod names;
mod pe;
mod program_row;
mod read;
mod registry;
mod rules;
mod sequences;
mod words;

pub(crate) use layout::upgrade_code;

/// Whether Windows Installer can compare a version.
pub(crate) fn is_version(version: &str) -> bool {
    codes::version(version).is_ok()
}

use super::{Depth, Format, Job, Loss, Target, Visit, damaged, not_for_one_person, unwritten};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{
    Choice, FileType, Font, Footprint, InstallRules, Node, Program, RegistryEntry, RegistryValue, Scope, Service,
    Shortcut, Variable,
};
use crate::guid::guid;
use crate::payload::feed::{Part, Stream};
use crate::platform::System;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{CabinetCompression, CabinetPlace, CodePage, Settings, TargetName};
use layout::Layout;
use md5::{Digest, Md5};
use msi_database::compound::CompoundWriter;
use msi_database::database::{Database, Value};
use msi_database::names::pack;
use msi_database::rows;
use msi_database::summary::{self, Property};
use msi_database::write::{PACKAGE_CLASS, encode};
use std::fs::File;
use std::io::{self, BufWriter, Read};
use std::path::Path;

/// A cabinet takes so many files, and so many plain bytes.
const CABINET_FILES: usize = 60_000;

/// The target.
pub struct Msi;

impl Format for Msi {
    fn name(&self) -> &'static str {
        TargetName::Msi.name()
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let io = |e: io::Error| Failure::io("can't read", package, e);
        let mut file = File::open(package).map_err(io)?;
        let mut magic = [0; 8];
        if file.read_exact(&mut magic).is_err() || magic != [0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1] {
            return Ok(None);
        }
        read::read(package, depth).map(Some).map_err(|e| damaged(package, e))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        contents::files(package, visit).map_err(|e| damaged(package, e))
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        contents::findings(package).map_err(|e| damaged(package, e))
    }
}

impl Target for Msi {
    fn target(&self) -> TargetName {
        TargetName::Msi
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".msi"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        carry::carry(footprint)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = Vec::new();
        let stated = job.settings.msi.version.clone();
        let version = stated.clone().or(job.footprint.product.version.clone()).unwrap_or_default();
        if let Err(why) = codes::version(&version) {
            let problem =
                Problem::error(Code::FormatLimit, format!("an MSI can't hold the version {version:?}")).why(why);
            let form = "up to three numbers such as 2.4.0, the first two below 256, raised for each release";
            let setting = if stated.is_some() { "target.msi.version" } else { "product.version" };
            problems.push(problem.about_setting(setting).instead(match stated {
                Some(_) => form.to_owned(),
                None => format!("[target.msi]\nversion = \"2.4.0\"    # for this format only: {form}"),
            }));
        }
        problems.extend(long_paths(job.footprint));
        if let Some(file) = job.files.iter().find(|f| f.size > i32::MAX as u64) {
            let problem = Problem::error(Code::FormatLimit, format!("{} has {} bytes", file.path, file.size));
            problems.push(problem.why("an MSI holds files up to 2 GiB").instead("split it, or build a ZIP archive"));
        }
        let code_page = code_page(job);
        for text in texts(job.footprint) {
            if encode(text, code_page).is_none() {
                let problem = Problem::error(Code::FormatLimit, format!("code page {code_page} can't hold {text:?}"));
                problems.push(
                    problem
                        .about_setting("target.msi.code-page")
                        .why("[target.msi] asks for it")
                        .instead("code-page = 65001, or no `code-page` at all"),
                );
                break;
            }
        }
        problems.extend(not_for_one_person(job.footprint));
        for entry in &job.footprint.registry {
            if let RegistryValue::List(list) = &entry.value
                && list.iter().any(String::is_empty)
            {
                let problem = Problem::error(Code::FormatLimit, format!("the list of {entry} contains an empty text"))
                    .about_key(entry, "value");
                problems.push(problem.why("an empty text ends a list").instead("leave it out"));
            }
        }
        problems.extend(super::classes::conflicts(job.footprint));
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write(job, stream, out).map_err(|e| match e {
            msi_database::Error::Io(e) => unwritten(e),
            other => Failure::new(
                Kind::Problems,
                Problem::error(Code::FormatLimit, "the MSI can't be written").why(other.to_string()),
            ),
        })
    }

    fn page(
        &self,
        package: &Path,
        name: &str,
        footprint: &Footprint,
    ) -> Result<Option<(&'static str, String)>, Failure> {
        let file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
        let page = deploy::page(file, name, footprint).map_err(|e| damaged(package, e))?;
        Ok(Some((".DEPLOY.md", page)))
    }
}

/// Warns of paths that are longer once installed than most programs, and Windows Installer itself, take.
fn long_paths(footprint: &Footprint) -> Option<Problem> {
    // MAX_PATH counts the zero at the end too.
    const MOST: usize = 259;
    let top = match footprint.install.scope() {
        // An account's name has up to twenty letters.
        Scope::User | Scope::Asked => r"C:\Users\12345678901234567890\AppData\Local\Programs\",
        Scope::Machine => r"C:\Program Files (x86)\",
    };
    let before = top.len() + footprint.install.windows_folder().encode_utf16().count() + 1;
    let length = |node: &Node| node.path().as_str().encode_utf16().count();
    let longest = footprint.tree.iter().max_by_key(|node| length(node))?;
    let whole = before + length(longest);
    let path = Some(longest.path()).filter(|_| whole > MOST)?;
    let problem =
        Problem::warning(Code::FormatLimit, format!("{path} is {whole} characters long once installed")).about(longest);
    let problem = problem.why(format!("Windows Installer and most programs accept up to {MOST}"));
    Some(problem.instead("use shorter names, or a shorter [install] folder"))
}

/// The texts that people wrote, which have to fit into the code page.
fn texts(footprint: &Footprint) -> Vec<&str> {
    let Footprint {
        product: p,
        platform: _,
        tree,
        programs,
        shortcuts,
        file_types,
        // Schemes are ASCII.
        link_schemes: _,
        environment,
        registry,
        services,
        fonts,
        commands: _,
        shell_files: _,
        permissions: _,
        choices,
        icons: _,
        install: InstallRules { folder, .. },
        bundle: _,
        foreign: _,
    } = footprint;
    let fields = [&p.name, &p.publisher, &p.homepage, &p.support, folder];
    let mut all: Vec<&str> = fields.into_iter().flatten().map(String::as_str).collect();
    all.extend(p.summary.as_deref());
    all.extend(tree.iter().map(|node| node.path().name()));
    for Program { arguments, .. } in programs {
        all.extend(arguments.iter().map(String::as_str));
    }
    for Shortcut { name, arguments, description, .. } in shortcuts {
        all.push(name);
        all.extend(arguments.iter().map(String::as_str).chain(description.as_deref()));
    }
    all.extend(file_types.iter().map(|FileType { name, .. }| name.as_str()));
    all.extend(environment.iter().flat_map(|Variable { name, value, .. }| [name.as_str(), value.as_str()]));
    for RegistryEntry { key, name, value, .. } in registry {
        all.push(key);
        all.extend(name.as_deref());
        match value {
            RegistryValue::Text(text) | RegistryValue::Expandable(text) => all.push(text),
            RegistryValue::List(list) => all.extend(list.iter().map(String::as_str)),
            RegistryValue::Number(_) | RegistryValue::Bytes(_) => {}
        }
    }
    for Service { title, description, arguments, account, .. } in services {
        all.push(title);
        all.extend(description.as_deref());
        all.extend(arguments.iter().chain(account).map(String::as_str));
    }
    all.extend(fonts.iter().map(|Font { title, .. }| title.as_str()));
    for Choice { title, description, .. } in choices {
        all.push(title);
        all.extend(description.as_deref());
    }
    all
}

/// The code page: the one asked for; else that of Western Europe if it holds every text, as older systems expect; else
/// UTF-8.
fn code_page(job: &Job) -> u32 {
    match job.settings.msi.code_page {
        CodePage::Number(number) => number,
        CodePage::Fitting => {
            let words = job.wizard.languages.iter().flat_map(|l| l.words.values()).map(String::as_str);
            if texts(job.footprint).into_iter().chain(words).all(|t| encode(t, 1252).is_some()) { 1252 } else { 65001 }
        }
    }
}

/// What is known of a file once it was read.
struct Seen {
    md5: [u8; 16],
    content: ContentHash,
}

fn write(job: &Job, mut stream: Stream, out: File) -> layout::Result<()> {
    let mut layout = Layout::new(job)?;
    let mut compound = CompoundWriter::new(out, PACKAGE_CLASS)?;
    let mut seen: Vec<Seen> = Vec::with_capacity(job.files.len());
    let mut cabinets = Vec::new();
    let beside = job.settings.msi.cabinets == CabinetPlace::External;
    let most = job.settings.msi.cabinet_megabytes * 1_000_000;
    let mut begin = 0;
    while begin < job.files.len() || begin == 0 {
        let mut bytes = 0;
        let count = job.files[begin..].iter().take_while(|f| {
            bytes += f.size;
            bytes <= most
        });
        // A file alone may be larger than that.
        let end = begin + count.take(CABINET_FILES).count().max(usize::from(!job.files.is_empty()));
        if end > begin {
            let mut cabinet = |out: &mut File| cabinet_of(job, &layout, begin..end, &mut stream, out, &mut seen);
            let number = cabinets.len() + 1;
            let name = if beside { format!("{}.{number}.cab", job.file_name) } else { format!("files{number}.cab") };
            if beside {
                cabinet(&mut (job.sidecar)(&name).map_err(|e| io::Error::other(e.to_string()))?)?;
                cabinets.push((end, name));
            } else {
                compound.large(&pack(&name, false), cabinet)?;
                cabinets.push((end, format!("#{name}")));
            }
        } else {
            cabinets.push((end, String::new()));
        }
        if end == begin {
            break;
        }
        begin = end;
    }
    files(&mut layout, &seen)?;
    let db = &mut layout.db;
    for (n, (end, cabinet)) in cabinets.iter().enumerate() {
        db.add(&rows::Media { disk_id: n as i32 + 1, last_sequence: *end as i32, cabinet, ..Default::default() })?;
    }
    let icon = job.icon.ico()?;
    db.add(&rows::Icon { name: layout::ICON })?;
    compound.stream(&pack(&format!("Icon.{}", layout::ICON), false), &icon)?;
    let pictures = dialogs::pictures(job.wizard, job.icon);
    for (name, bytes) in &pictures {
        compound.stream(&pack(&format!("Binary.{name}"), false), bytes)?;
    }
    let streams = pictures.iter().map(|(_, bytes)| bytes.as_slice()).chain([icon.as_slice()]);
    let digest = digest(job, &layout.db, &seen, streams);
    let product = layout.product_code(&digest);
    layout.db.add(&rows::Property { property: "ProductCode", value: &product })?;
    let mut db = layout.db;
    db.code_page = code_page(job);
    db.validate_all()?;
    summary_of(job, &mut db, &digest);
    db.write(&mut compound)?;
    let (out, length) = compound.finish()?;
    out.set_len(length)?;
    Ok(())
}

fn cabinet_of(
    job: &Job,
    layout: &Layout,
    range: std::ops::Range<usize>,
    stream: &mut Stream,
    out: &mut File,
    seen: &mut Vec<Seen>,
) -> cabinet::Result<()> {
    use cabinet::write::{Entry, Options, Writer};
    let entry = |n: usize| Entry {
        name: layout.db.str(layout.files[n].key).to_owned(),
        size: job.files[n].size,
        time: job.time,
    };
    let method = match job.settings.msi.compression {
        CabinetCompression::Lzx => cabinet::Method::Lzx(21),
        CabinetCompression::Mszip => cabinet::Method::Mszip,
        CabinetCompression::Stored => cabinet::Method::Stored,
    };
    let options = Options { method, threads: job.threads, ..Options::default() };
    let mut cabinet = Writer::new(BufWriter::with_capacity(1 << 18, out), range.clone().map(entry).collect(), options)?;
    let ended = || cabinet::Error::Io(io::Error::other("the files ended too early"));
    for _ in range {
        let mut md5 = Md5::new();
        let content = loop {
            match stream.next_part().ok_or_else(ended)? {
                Part::End(hash) => break hash,
                part => part.pass_on(|bytes| {
                    md5.update(bytes);
                    cabinet.data(bytes)
                })?,
            }
        };
        seen.push(Seen { md5: md5.finalize().into(), content });
    }
    let (out, _) = cabinet.finish()?;
    out.into_inner().map_err(|e| e.into_error())?;
    Ok(())
}

/// Stands for everything that is in the package: any change gives another product code and another package code.
fn digest<'s>(job: &Job, db: &Database, seen: &[Seen], streams: impl Iterator<Item = &'s [u8]>) -> Vec<u8> {
    let mut hasher = blake3::Hasher::new();
    // What comes in parts of any length comes behind its length.
    let mut part = |bytes: &[u8]| {
        hasher.update(&(bytes.len() as u64).to_le_bytes());
        hasher.update(bytes);
    };
    part(env!("CARGO_PKG_VERSION").as_bytes());
    part(&job.time.to_le_bytes());
    part(&[job.settings.msi.compression as u8]);
    part(&code_page(job).to_le_bytes());
    for (name, table) in db.tables() {
        part(name.as_bytes());
        part(&(table.rows().len() as u64).to_le_bytes());
        for value in table.rows().flatten() {
            match value {
                Value::Null => part(b"null"),
                Value::Int(n) => part(&n.to_le_bytes()),
                Value::Text(_) => part(db.str(*value).as_bytes()),
                Value::Stream => part(b"stream"),
            }
        }
    }
    seen.iter().for_each(|file| part(&file.content.0));
    streams.for_each(part);
    hasher.finalize().as_bytes().to_vec()
}

/// The rows of files, in the cabinets' order.
fn files(layout: &mut Layout, seen: &[Seen]) -> layout::Result<()> {
    let rows = std::mem::take(&mut layout.files);
    let db = &mut layout.db;
    for (n, ((row, seen), file)) in rows.iter().zip(seen).zip(layout.job.files).enumerate() {
        let (version, language) = row.version.clone().unwrap_or_default();
        let [key, component, name] = [row.key, row.component, row.name].map(|value| db.str(value).to_owned());
        db.add(&rows::File {
            file: &key,
            component: &component,
            file_name: &name,
            file_size: file.size as i32,
            version: &version,
            language: &language,
            // Vital: an error with it fails the installation.
            attributes: Some(512),
            sequence: n as i32 + 1,
        })?;
        if row.version.is_none() && file.size > 0 {
            let (parts, _) = seen.md5.as_chunks::<4>();
            let [hash_part1, hash_part2, hash_part3, hash_part4] =
                std::array::from_fn(|n| parts.get(n).map_or(0, |p| i32::from_le_bytes(*p)));
            let hash = rows::MsiFileHash { file: &key, options: 0, hash_part1, hash_part2, hash_part3, hash_part4 };
            // The one number that a column can't hold stands for nothing: such a file has no row.
            if ![hash_part1, hash_part2, hash_part3, hash_part4].contains(&i32::MIN) {
                db.add(&hash)?;
            }
        }
    }
    Ok(())
}

fn summary_of(job: &Job, db: &mut Database, digest: &[u8]) {
    use crate::platform::Platform;
    let p = &job.footprint.product;
    let text = |v: &Option<String>| Property::Text(v.clone().unwrap_or_default());
    // arm64 packages and properties of shortcuts need Windows Installer 5, 64-bit packages and hashes of files 2.
    let has_models = !job.footprint.shortcuts.is_empty();
    let least = if has_models { 500 } else { 200 };
    let (processor, version) = match job.footprint.platform {
        Some(Platform::WindowsX86) => ("Intel", least),
        Some(Platform::WindowsArm64) => ("Arm64", 500),
        _ => ("x64", least),
    };
    let time = Property::Time(summary::file_time(job.time));
    // Compressed (2); one for a user needs no elevation (8).
    let words = 2 | if job.footprint.install.scope() == Scope::User { 8 } else { 0 };
    let page = db.code_page;
    db.summary.properties.extend([
        (summary::CODE_PAGE, Property::Short(page as u16 as i16)),
        (summary::TITLE, Property::Text("Installation Database".into())),
        (summary::SUBJECT, text(&p.name)),
        (summary::AUTHOR, text(&p.publisher)),
        (summary::KEYWORDS, Property::Text("Installer".into())),
        (summary::COMMENTS, Property::Text(p.summary.as_deref().unwrap_or_default().to_owned())),
        (summary::TEMPLATE, Property::Text(format!("{processor};1033"))),
        (summary::REVISION, Property::Text(guid(&[b"package", digest]))),
        (summary::CREATED, time.clone()),
        (summary::SAVED, time),
        (summary::PAGE_COUNT, Property::Long(version)),
        (summary::WORD_COUNT, Property::Long(words)),
        (summary::APPLICATION, Property::Text(format!("Upper Shelf {}", env!("CARGO_PKG_VERSION")))),
        (summary::SECURITY, Property::Long(2)),
    ]);
}
