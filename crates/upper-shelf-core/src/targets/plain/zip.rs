//! ZIP for every platform: files, folders, modes and links below one folder. For macOS that folder is the application
//! bundle.

use super::super::bundle::read::{Member, MemberKind, Reading, list_of};
use super::super::bundle::{self, Bundle, Piece};
use super::super::{Depth, Format, Job, Loss, Target, Visit, damaged, unsupported, unwritten};
use super::{common_top, tree_only};
use crate::budget::{Budget, Package};
use crate::content::ContentHash;
use crate::dates::date_of;
use crate::footprint::{Footprint, Node, RelPath};
use crate::payload::feed::Stream;
use crate::platform::System;
use crate::problem::{Code, Failure, Problem};
use crate::settings::{Settings, TargetName};
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

/// The target.
pub struct Zip;

/// Whether the archive holds an application bundle.
fn is_bundle(footprint: &Footprint) -> bool {
    footprint.platform.is_some_and(|p| p.system() == System::Macos)
        && footprint.main_program().is_some()
        && bundle::finished::folder(&footprint.tree).is_none()
}

impl Format for Zip {
    fn name(&self) -> &'static str {
        TargetName::Zip.name()
    }

    fn slashes_only(&self) -> bool {
        true
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let mut file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
        let mut magic = [0; 4];
        let short = file.read_exact(&mut magic).is_err();
        if short || ![b"PK\x03\x04", b"PK\x05\x06"].contains(&&magic) {
            return Ok(None);
        }
        read(file, depth, &package.budget).map(Some).map_err(|e| unreadable(package, e))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
        files(file, &package.budget, visit).map_err(|e| unreadable(package, e))
    }
}

impl Target for Zip {
    fn target(&self) -> TargetName {
        TargetName::Zip
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".zip"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        if is_bundle(footprint) {
            return bundle::carry(footprint);
        }
        let (carried, mut losses) = tree_only(footprint, "a ZIP archive");
        let tree = super::super::without_hard_links(&carried.tree, |path, to| {
            let why = "ZIP archives have no hard links".into();
            losses.push(Loss { what: format!("{path} and {to} become separate files"), why });
        });
        (Footprint { tree, ..carried }, losses)
    }

    fn is_bundle(&self, carried: &Footprint) -> bool {
        is_bundle(carried)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let odd = job.footprint.tree.iter().filter(|node| node.path().as_str().contains('\\')).map(|node| {
            let problem = Problem::error(
                Code::FormatLimit,
                format!("a ZIP archive can't hold the name {:?}", node.path().as_str()),
            )
            .about(node);
            problem.why("its readers treat a backslash as a slash").instead("rename it, or build a tar archive instead")
        });
        odd.chain(if is_bundle(job.footprint) { bundle::check(job) } else { Vec::new() }).collect()
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write(job, stream, out).map_err(unwritten)
    }
}

/// A failure about an archive: damaged, or packed in a way that is not known here.
fn unreadable(package: &Path, e: io::Error) -> Failure {
    let cause = e.get_ref().and_then(|c| c.downcast_ref::<zip::result::ZipError>());
    match cause {
        Some(zip::result::ZipError::UnsupportedArchive(why)) => {
            let encrypted = why.to_lowercase().contains("password");
            let why = if encrypted { "it is encrypted".to_owned() } else { (*why).to_owned() };
            unsupported(package, why)
        }
        // The method's number, as APPNOTE.TXT 4.4.5 has it.
        Some(zip::result::ZipError::CompressionMethodNotSupported(number)) => {
            unsupported(package, format!("its files are packed by the method {number}"))
        }
        _ => damaged(package, e),
    }
}

fn write(job: &Job, mut stream: Stream, out: File) -> io::Result<()> {
    let mut zip = ZipWriter::new(out);
    let date = date_of(job.time);
    let part = |range: std::ops::Range<usize>| date.get(range).and_then(|p| p.parse().ok()).unwrap_or(1);
    let day =
        zip::DateTime::from_date_and_time(part(0..4), part(5..7) as u8, part(8..10) as u8, 0, 0, 0).unwrap_or_default();
    let level = job.settings.zip.level;
    let method = if level == 0 { CompressionMethod::Stored } else { CompressionMethod::Deflated };
    let options = SimpleFileOptions::default().last_modified_time(day).compression_method(method);
    let options = if level == 0 { options } else { options.compression_level(Some(level.into())) };
    let bundle = is_bundle(job.footprint).then(|| Bundle::of(job));
    let place = |path: &RelPath| match &bundle {
        Some(bundle) => format!("{}/{}", bundle.top, bundle.place(path)),
        // A finished bundle is the one thing in its archive.
        None if bundle::finished::folder(&job.footprint.tree).is_some() => path.to_string(),
        None => format!("{}/{path}", job.file_name),
    };
    for (path, piece) in bundle.iter().flat_map(|b| b.pieces.iter().map(|(p, x)| (format!("{}/{p}", b.top), x))) {
        match piece {
            Piece::Folder(mode) => zip.add_directory(path, options.unix_permissions(*mode))?,
            Piece::Link(target) => zip.add_symlink(path, target, options.unix_permissions(0o777))?,
            Piece::File(mode, bytes) => {
                zip.start_file(path, options.unix_permissions(*mode))?;
                io::Write::write_all(&mut zip, bytes)?;
            }
        }
    }
    for node in job.footprint.tree.iter().filter(|_| bundle.is_none()) {
        match node {
            Node::Folder { path, mode } => zip.add_directory(place(path), options.unix_permissions(*mode))?,
            Node::Link { path, target } => zip.add_symlink(place(path), target, options.unix_permissions(0o777))?,
            // In the order of the stream; of hard links nothing is carried.
            Node::File { .. } | Node::HardLink { .. } => {}
        }
    }
    while let Some(index) = stream.next_file() {
        let file = &job.files[index];
        let large = file.size >= u64::from(u32::MAX) - (1 << 20);
        zip.start_file(place(&file.path), options.unix_permissions(file.mode & 0o777).large_file(large))?;
        io::copy(&mut stream.reader(), &mut zip)?;
    }
    zip.finish()?;
    Ok(())
}

/// The archive, and the folder that all is in.
fn open(file: File) -> io::Result<(ZipArchive<File>, String)> {
    let archive = ZipArchive::new(file)?;
    // The folder of a bundle is a part of the product, and not only of the archive.
    let names: Vec<_> = archive.file_names().collect::<Result<_, _>>()?;
    let top = common_top(names.iter().map(AsRef::as_ref)).filter(|t| !t.ends_with(".app/")).unwrap_or_default();
    Ok((archive, top))
}

/// A name's path below the top folder; `None` for that folder itself.
fn path_of(name: &str, top: &str) -> io::Result<Option<RelPath>> {
    let below = name.strip_prefix(top).unwrap_or(name).trim_end_matches('/');
    if below.is_empty() {
        return Ok(None);
    }
    RelPath::new(below).map(Some).map_err(|why| io::Error::other(format!("the name {name:?} {why}")))
}

/// What an archive of ours with an application bundle holds; nothing for any other.
fn bundle_in(archive: &mut ZipArchive<File>) -> io::Result<Option<(Vec<Member>, Reading)>> {
    let is_list = |name: &str| name.ends_with(".app/Contents/Info.plist") && name.matches('/').count() == 2;
    let mut names = archive.file_names().flatten();
    let Some(list) = names.find(|name| is_list(name)).map(|name| name.into_owned()) else { return Ok(None) };
    drop(names);
    let mut bytes = Vec::new();
    archive.by_name(&list)?.take(4 << 20).read_to_end(&mut bytes)?;
    let mut nodes = Vec::new();
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index)?;
        let path = entry.name()?.trim_end_matches('/').to_owned();
        RelPath::new(path.as_str()).map_err(|why| io::Error::other(format!("the name {path:?} {why}")))?;
        let mode = entry.unix_mode().unwrap_or(if entry.is_dir() { 0o755 } else { 0o644 });
        let kind = if entry.is_dir() {
            MemberKind::Folder
        } else if entry.is_symlink() {
            let mut target = String::new();
            (&mut entry).take(4096).read_to_string(&mut target)?;
            MemberKind::Link(target)
        } else {
            MemberKind::File(entry.size())
        };
        nodes.push(Member { path, kind, mode });
    }
    if list_of(&nodes).as_deref() != Some(&list) {
        return Ok(None);
    }
    let reading = Reading::new(&nodes, Some((&list, &bytes)));
    Ok(reading.is_ours().then_some((nodes, reading)))
}

fn hash(reader: impl Read) -> io::Result<ContentHash> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(reader)?;
    Ok(ContentHash(*hasher.finalize().as_bytes()))
}

fn files(file: File, budget: &Budget, visit: Visit) -> io::Result<()> {
    let (mut archive, top) = open(file)?;
    if let Some((nodes, reading)) = bundle_in(&mut archive)? {
        for (index, node) in nodes.iter().enumerate().filter(|(_, n)| matches!(n.kind, MemberKind::File(_))) {
            if let Some(path) = reading.own(node) {
                visit(&path, &mut budget.meter(archive.by_index(index)?))?;
            }
        }
        return Ok(());
    }
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index)?;
        if let Some(path) = path_of(&entry.name()?, &top)?.filter(|_| entry.is_file()) {
            visit(&path, &mut budget.meter(&mut entry))?;
        }
    }
    Ok(())
}

fn read(file: File, depth: Depth, budget: &Budget) -> io::Result<Footprint> {
    let (mut archive, top) = open(file)?;
    archive.file_names().flatten().try_for_each(|name| budget.name(&name))?;
    if let Some((nodes, reading)) = bundle_in(&mut archive)? {
        return reading.footprint(&nodes, |index| match depth {
            Depth::Listing => Ok(None),
            Depth::Contents => hash(budget.meter(archive.by_index(index)?)).map(Some),
        });
    }
    let mut tree = Vec::new();
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index)?;
        let Some(path) = path_of(&entry.name()?, &top)? else { continue };
        let mode = entry.unix_mode().unwrap_or(if entry.is_dir() { 0o755 } else { 0o644 }) & 0o7777;
        tree.push(if entry.is_dir() {
            Node::Folder { path, mode }
        } else if entry.is_symlink() {
            let mut target = String::new();
            entry.take(4096).read_to_string(&mut target)?;
            Node::Link { path, target }
        } else {
            let size = entry.size();
            let content = match depth {
                Depth::Listing => None,
                Depth::Contents => Some(hash(budget.meter(&mut entry))?),
            };
            Node::File { path, mode, size, content }
        });
    }
    Ok(Footprint { tree: tree.into(), ..Footprint::default() })
}
