//! ZIP for every platform: files, folders, modes and links below one folder.

use super::super::{Depth, Job, Loss, Target, Visit, damaged, unwritten};
use super::{common_top, tree_only};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Identity, RelPath, Trace};
use crate::manifest::dates::date_of;
use crate::manifest::written::{TargetName, TargetSettings};
use crate::payload::feed::Stream;
use crate::problem::{Failure, Problem};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

/// The target.
pub struct Zip;

impl Target for Zip {
    fn name(&self) -> TargetName {
        TargetName::Zip
    }

    fn ending(&self, _: &TargetSettings) -> &'static str {
        ".zip"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        let (tree, mut losses) = tree_only(footprint, "a ZIP archive");
        let contents: HashMap<RelPath, Trace> = tree
            .traces()
            .iter()
            .filter(|t| matches!(t, Trace::File { .. }))
            .filter_map(|t| Some((t.path()?.clone(), t.clone())))
            .collect();
        let carried = tree.filter_map(|t| match t {
            Trace::HardLink { path, to } => match contents.get(to) {
                Some(Trace::File { mode, size, content, .. }) => {
                    let why = "a ZIP archive has no hard links: it becomes a file of its own".into();
                    losses.push(Loss { what: format!("{path} and {to} are one file no more"), why });
                    Some(Trace::File { path: path.clone(), mode: *mode, size: *size, content: *content })
                }
                _ => None,
            },
            other => Some(other.clone()),
        });
        (carried, losses)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let paths = job.footprint.traces().iter().filter_map(Trace::path);
        let odd = paths.filter(|p| p.as_str().contains('\\')).map(|p| {
            let problem = Problem::error(format!("a ZIP archive can't hold the name {:?}", p.as_str()));
            problem.why("its readers take a backslash for a slash").instead("rename it, or build a tar archive instead")
        });
        odd.collect()
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write(job, stream, out).map_err(|e| unwritten(&e))
    }

    fn read(&self, package: &Path, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let mut file = File::open(package).map_err(|e| Failure::io("can't read", package, &e))?;
        let mut magic = [0; 4];
        let short = file.read_exact(&mut magic).is_err();
        if short || ![b"PK\x03\x04", b"PK\x05\x06"].contains(&&magic) {
            return Ok(None);
        }
        read(file, depth).map(Some).map_err(|e| damaged(package, e.to_string()))
    }

    fn files(&self, package: &Path, visit: Visit) -> Result<(), Failure> {
        let file = File::open(package).map_err(|e| Failure::io("can't read", package, &e))?;
        files(file, visit).map_err(|e| damaged(package, e.to_string()))
    }
}

fn write(job: &Job, mut stream: Stream, out: File) -> io::Result<()> {
    let mut zip = ZipWriter::new(out);
    let date = date_of(job.time);
    let part = |range: std::ops::Range<usize>| date.get(range).and_then(|p| p.parse().ok()).unwrap_or(1);
    let day =
        zip::DateTime::from_date_and_time(part(0..4), part(5..7) as u8, part(8..10) as u8, 0, 0, 0).unwrap_or_default();
    let level = job.settings.zip.level.unwrap_or(6);
    let method = if level == 0 { CompressionMethod::Stored } else { CompressionMethod::Deflated };
    let options = SimpleFileOptions::default().last_modified_time(day).compression_method(method);
    let options = if level == 0 { options } else { options.compression_level(Some(level.into())) };
    let top = job.file_name;
    for trace in job.footprint.traces() {
        match trace {
            Trace::Folder { path, mode } => {
                zip.add_directory(format!("{top}/{path}"), options.unix_permissions(*mode))?
            }
            Trace::Link { path, target } => {
                zip.add_symlink(format!("{top}/{path}"), target, options.unix_permissions(0o777))?
            }
            Trace::File { .. }
            | Trace::HardLink { .. }
            | Trace::Program { .. }
            | Trace::Shortcut { .. }
            | Trace::FileType { .. }
            | Trace::LinkScheme { .. }
            | Trace::Environment { .. }
            | Trace::Registry { .. }
            | Trace::Service { .. }
            | Trace::Font { .. }
            | Trace::Choice { .. }
            | Trace::Rule { .. }
            | Trace::Icon { .. } => {}
        }
    }
    let mut written: HashMap<RelPath, ()> = HashMap::new();
    while let Some(index) = stream.next_file() {
        let file = &job.files[index];
        let large = file.size >= u64::from(u32::MAX) - (1 << 20);
        zip.start_file(format!("{top}/{}", file.path), options.unix_permissions(file.mode & 0o777).large_file(large))?;
        io::copy(&mut stream.reader(), &mut zip)?;
        written.insert(file.path.clone(), ());
    }
    // Files of the footprint that are not in the stream are further names of streamed ones.
    let twins: HashMap<&RelPath, &RelPath> = job.links.iter().map(|(path, to)| (path, to)).collect();
    for trace in job.footprint.traces() {
        if let Trace::File { path, .. } = trace
            && !written.contains_key(path)
            && let Some(to) = twins.get(path)
        {
            zip.deep_copy_file(&format!("{top}/{to}"), &format!("{top}/{path}"))?;
        }
    }
    zip.finish()?;
    Ok(())
}

/// The archive, and the folder that all is in.
fn open(file: File) -> io::Result<(ZipArchive<File>, String)> {
    let archive = ZipArchive::new(file)?;
    let top = common_top(archive.file_names()).unwrap_or_default();
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

fn files(file: File, visit: Visit) -> io::Result<()> {
    let (mut archive, top) = open(file)?;
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index)?;
        if let Some(path) = path_of(entry.name(), &top)?.filter(|_| entry.is_file()) {
            visit(&path, &mut entry)?;
        }
    }
    Ok(())
}

fn read(file: File, depth: Depth) -> io::Result<Footprint> {
    let (mut archive, top) = open(file)?;
    let mut traces = Vec::new();
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index)?;
        let Some(path) = path_of(entry.name(), &top)? else { continue };
        let mode = entry.unix_mode().unwrap_or(if entry.is_dir() { 0o755 } else { 0o644 }) & 0o7777;
        traces.push(if entry.is_dir() {
            Trace::Folder { path, mode }
        } else if entry.is_symlink() {
            let mut target = String::new();
            entry.take(4096).read_to_string(&mut target)?;
            Trace::Link { path, target }
        } else {
            let size = entry.size();
            let content = match depth {
                Depth::Listing => None,
                Depth::Contents => {
                    let mut hasher = blake3::Hasher::new();
                    hasher.update_reader(&mut entry)?;
                    Some(ContentHash(*hasher.finalize().as_bytes()))
                }
            };
            Trace::File { path, mode, size, content }
        });
    }
    Ok(Footprint::new(Identity::default(), None, traces))
}
