//! tar for every platform, packed with gzip, zstd or xz. For Linux it is more than files: `install.sh` and
//! `uninstall.sh`, the launcher, and what a desktop reads. Inside: `TOP/app/…`, `TOP/launch`, `TOP/share/…`.

use super::super::launcher::{self, Stands};
use super::super::{Depth, Format, Job, Loss, Target, Visit, damaged, executable, linux_desktop, unwritten};
use super::{scripts, tree_only};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Identity, RelPath, Trace};
use crate::manifest::written::{Compression, TargetName, TargetSettings};
use crate::payload::feed::Stream;
use crate::platform::System;
use crate::problem::{Failure, Problem};
use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::path::Path;
use tar::{Builder, EntryType, Header};

/// The target.
pub struct Tar;

fn is_linux(footprint: &Footprint) -> bool {
    footprint.platform.is_some_and(|p| p.system() == System::Linux)
}

impl Format for Tar {
    fn name(&self) -> &'static str {
        TargetName::Tar.name()
    }

    fn read(&self, package: &Path, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(plain) = unpacked(package)? else { return Ok(None) };
        read(plain, depth).map(|(f, _)| Some(f)).map_err(|e| damaged(package, e.to_string()))
    }

    fn files(&self, package: &Path, visit: Visit) -> Result<(), Failure> {
        let bad = |e: io::Error| damaged(package, e.to_string());
        let Some(plain) = unpacked(package)? else { return Ok(()) };
        let (_, prefix) = read(plain, Depth::Listing).map_err(bad)?;
        let Some(plain) = unpacked(package)? else { return Ok(()) };
        files(plain, &prefix, visit).map_err(bad)
    }
}

impl Target for Tar {
    fn target(&self) -> TargetName {
        TargetName::Tar
    }

    fn ending(&self, settings: &TargetSettings) -> &'static str {
        match settings.tar.compression.unwrap_or(Compression::Gzip) {
            Compression::Gzip => ".tar.gz",
            Compression::Zstd => ".tar.zst",
            Compression::Xz => ".tar.xz",
        }
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        if !is_linux(footprint) || footprint.main_program().is_none() {
            return tree_only(footprint, "a tar archive");
        }
        let (mut product, mut losses) = linux_desktop::complete(&footprint.product);
        product.categories = linux_desktop::carried_categories(&product);
        let traces = footprint.traces().iter().filter_map(|t| match t {
            Trace::File { path, mode, size, content } => {
                Some(Trace::File { path: path.clone(), mode: mode & 0o777, size: *size, content: *content })
            }
            other => match super::super::not_on_linux(other) {
                Some(loss) => {
                    losses.push(loss);
                    None
                }
                None => Some(other.clone()),
            },
        });
        let traces: Vec<Trace> = traces.collect();
        (Footprint::new(product, None, traces), losses)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = Vec::new();
        let levels = match job.settings.tar.compression.unwrap_or(Compression::Gzip) {
            Compression::Gzip | Compression::Xz => 0..=9,
            Compression::Zstd => 1..=22,
        };
        if let Some(level) = job.settings.tar.level.filter(|l| !levels.contains(l)) {
            let what = format!("[target.tar] `level` can't be {level} for this compression");
            problems.push(Problem::error(what).instead(format!("{} to {}", levels.start(), levels.end())));
        }
        for trace in job.footprint.traces() {
            if let Trace::Program { key, file, .. } = trace
                && executable(job.footprint, file) == Some(false)
            {
                let what = format!("the program {key:?} can't be started: {file} is not executable");
                problems.push(Problem::error(what).instead(format!("chmod +x the file {file} where it is built")));
            }
        }
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write_packed(job, stream, out).map_err(|e| unwritten(&e))
    }
}

/// The archive's plain bytes; `None` when it is packed in no way that is known here.
fn unpacked(package: &Path) -> Result<Option<Box<dyn Read>>, Failure> {
    let io = |e: io::Error| Failure::io("can't read", package, &e);
    let mut head = Vec::new();
    File::open(package).and_then(|f| f.take(512).read_to_end(&mut head)).map_err(io)?;
    let file = File::open(package).map_err(io)?;
    Ok(Some(match head[..] {
        [0x1f, 0x8b, ..] => Box::new(flate2::read::MultiGzDecoder::new(io::BufReader::new(file))),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Box::new(zstd::Decoder::new(file).map_err(io)?),
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Box::new(liblzma::read::XzDecoder::new_multi_decoder(file)),
        // One that is not packed has its mark in the first entry's header (POSIX.1-1988, `ustar`).
        _ if head.get(257..262) == Some(b"ustar") => Box::new(io::BufReader::new(file)),
        _ => return Ok(None),
    }))
}

fn write_packed(job: &Job, stream: Stream, out: File) -> io::Result<()> {
    let out = BufWriter::with_capacity(1 << 18, out);
    let settings = &job.settings.tar;
    let mut out = match settings.compression.unwrap_or(Compression::Gzip) {
        Compression::Gzip => {
            let level = flate2::Compression::new(settings.level.unwrap_or(6));
            let encoder = flate2::GzBuilder::new().mtime(0).operating_system(255).write(out, level);
            write(job, stream, encoder)?.finish()?
        }
        Compression::Zstd => {
            let mut encoder = zstd::Encoder::new(out, settings.level.unwrap_or(9) as i32)?;
            encoder.include_checksum(true)?;
            // With at least one worker the bytes do not depend on how many there are.
            encoder.multithread(job.threads.max(1) as u32)?;
            write(job, stream, encoder)?.finish()?
        }
        Compression::Xz => {
            write(job, stream, liblzma::write::XzEncoder::new(out, settings.level.unwrap_or(6)))?.finish()?
        }
    };
    out.flush()
}

fn header(kind: EntryType, mode: u32, size: u64, time: u32) -> Header {
    let mut header = Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_size(size);
    header.set_mtime(time.into());
    header.set_uid(0);
    header.set_gid(0);
    header
}

fn write<W: Write>(job: &Job, mut stream: Stream, out: W) -> io::Result<W> {
    let mut tar = Builder::new(out);
    let installs = job.footprint.main_program().is_some();
    let top = job.file_name;
    let app = if installs { format!("{top}/app") } else { top.to_owned() };
    if installs {
        let mut small = |path: &str, mode: u32, bytes: &[u8]| {
            tar.append_data(
                &mut header(EntryType::Regular, mode, bytes.len() as u64, job.time),
                format!("{top}/{path}"),
                bytes,
            )
        };
        small("install.sh", 0o755, scripts::install(job.footprint).as_bytes())?;
        small("uninstall.sh", 0o755, scripts::uninstall(job.footprint).as_bytes())?;
        small("launch", 0o755, launcher::write(job.footprint, "app", Stands::Installed).as_bytes())?;
        for (path, bytes) in linux_desktop::write(job.footprint, job.icon, job.time, "launch") {
            small(&format!("share/{path}"), 0o644, &bytes)?;
        }
        tar.append_data(&mut header(EntryType::Directory, 0o755, 0, job.time), format!("{app}/"), io::empty())?;
    }
    for trace in job.footprint.traces() {
        match trace {
            Trace::Folder { path, mode } => {
                tar.append_data(
                    &mut header(EntryType::Directory, *mode, 0, job.time),
                    format!("{app}/{path}/"),
                    io::empty(),
                )?;
            }
            Trace::Link { path, target } => {
                tar.append_link(&mut header(EntryType::Symlink, 0o777, 0, job.time), format!("{app}/{path}"), target)?;
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
    while let Some(index) = stream.next_file() {
        let file = &job.files[index];
        let mut header = header(EntryType::Regular, file.mode & 0o777, file.size, job.time);
        tar.append_data(&mut header, format!("{app}/{}", file.path), stream.reader())?;
    }
    for trace in job.footprint.traces() {
        if let Trace::HardLink { path, to } = trace {
            tar.append_link(
                &mut header(EntryType::Link, 0o644, 0, job.time),
                format!("{app}/{path}"),
                format!("{app}/{to}"),
            )?;
        }
    }
    tar.into_inner()
}

/// An entry's name, without what stands for the archive's own folder.
fn name_of(entry: &tar::Entry<impl Read>) -> String {
    let name = String::from_utf8_lossy(&entry.path_bytes()).trim_end_matches('/').to_owned();
    let name = name.strip_prefix("./").unwrap_or(&name);
    if name == "." { String::new() } else { name.to_owned() }
}

fn is_file(kind: EntryType) -> bool {
    matches!(kind, EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse)
}

fn files(plain: Box<dyn Read>, prefix: &str, visit: Visit) -> io::Result<()> {
    let mut archive = tar::Archive::new(plain);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = name_of(&entry).strip_prefix(prefix).and_then(|b| RelPath::new(b).ok());
        if let Some(path) = path.filter(|_| is_file(entry.header().entry_type())) {
            visit(&path, &mut entry)?;
        }
    }
    drained(archive)
}

/// Reads what is behind the last entry: the checksum of what is packed stands there.
fn drained(archive: tar::Archive<Box<dyn Read>>) -> io::Result<()> {
    io::copy(&mut archive.into_inner(), &mut io::sink()).map(drop)
}

/// What an entry is that is neither a file nor a folder nor a link.
fn special(kind: EntryType) -> Option<&'static str> {
    match kind {
        EntryType::Fifo => Some("pipe"),
        EntryType::Char | EntryType::Block => Some("device"),
        _ => None,
    }
}

/// The footprint, and the folder in the archive that the product's files are in.
fn read(plain: Box<dyn Read>, depth: Depth) -> io::Result<(Footprint, String)> {
    let mut archive = tar::Archive::new(plain);
    let mut tree: Vec<(String, Trace)> = Vec::new();
    let mut desktop = linux_desktop::Files::new();
    let mut script = String::new();
    let mut left_out = Vec::new();
    let mut top: Option<String> = None;
    let unknown = || RelPath::new("unknown").map_err(io::Error::other);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = name_of(&entry);
        if name.is_empty() {
            continue;
        }
        RelPath::new(&*name).map_err(|why| io::Error::other(format!("the name {name:?} {why}")))?;
        let first = name.split('/').next().unwrap_or_default();
        // An archive whose files have no folder in common keeps its names; a file at the top is no folder.
        let is_file_at_top = name == first && entry.header().entry_type() != EntryType::Directory;
        top = match top {
            _ if is_file_at_top => Some(String::new()),
            None => Some(format!("{first}/")),
            Some(t) if name.starts_with(&t) || format!("{name}/") == t => Some(t),
            Some(_) => Some(String::new()),
        };
        let below = name.split_once('/').map_or("", |(_, b)| b).to_owned();
        let mode = entry.header().mode()? & 0o7777;
        let size = entry.size();
        match entry.header().entry_type() {
            EntryType::Directory => tree.push((name, Trace::Folder { path: unknown()?, mode })),
            EntryType::Symlink | EntryType::Link => {
                let target =
                    entry.link_name_bytes().map(|t| String::from_utf8_lossy(&t).into_owned()).unwrap_or_default();
                let hard = entry.header().entry_type() == EntryType::Link;
                tree.push((
                    name,
                    if hard {
                        let to = RelPath::new(&*target)
                            .map_err(|why| io::Error::other(format!("the link's target {target:?} {why}")))?;
                        Trace::HardLink { path: unknown()?, to }
                    } else {
                        Trace::Link { path: unknown()?, target }
                    },
                ));
            }
            kind if is_file(kind) => {
                let is_small = size < 4 << 20;
                if is_small && (below == "launch" || below.starts_with("share/")) {
                    let mut bytes = Vec::new();
                    entry.read_to_end(&mut bytes)?;
                    match below.strip_prefix("share/") {
                        Some(path) => drop(desktop.insert(path.to_owned(), bytes.clone())),
                        None => script = String::from_utf8_lossy(&bytes).into_owned(),
                    }
                    let content = (depth == Depth::Contents).then(|| ContentHash::of(&bytes));
                    tree.push((name, Trace::File { path: unknown()?, mode, size, content }));
                    continue;
                }
                let content = match depth {
                    Depth::Listing => None,
                    Depth::Contents => {
                        let mut hasher = blake3::Hasher::new();
                        hasher.update_reader(&mut entry)?;
                        Some(ContentHash(*hasher.finalize().as_bytes()))
                    }
                };
                tree.push((name, Trace::File { path: unknown()?, mode, size, content }));
            }
            kind => {
                if let Some(what) = special(kind) {
                    left_out.push(Trace::Rule { key: format!("the {what} {name}"), value: "left out".into() });
                }
            }
        }
    }
    drained(archive)?;
    let top = top.unwrap_or_default();
    let (mut traces, prefix, identity) = match launcher::read(&script) {
        Some((programs, install)) => {
            let (identity, more) = linux_desktop::read(&desktop);
            let more = more.into_iter().map(|t| match t {
                Trace::Icon { form, .. } if depth == Depth::Listing => Trace::Icon { form, content: None },
                other => other,
            });
            (programs.into_iter().chain(more).collect::<Vec<_>>(), format!("{top}{install}/"), identity)
        }
        None => (Vec::new(), top, Identity::default()),
    };
    for (name, mut trace) in tree {
        let Some(below) = name.strip_prefix(&prefix).and_then(|b| RelPath::new(b).ok()) else { continue };
        match &mut trace {
            Trace::Folder { path, .. } | Trace::File { path, .. } | Trace::Link { path, .. } => *path = below,
            Trace::HardLink { path, to } => {
                *path = below;
                if let Some(inside) = to.as_str().strip_prefix(&prefix).and_then(|t| RelPath::new(t).ok()) {
                    *to = inside;
                }
            }
            _ => {}
        }
        traces.push(trace);
    }
    traces.extend(left_out);
    Ok((Footprint::new(identity, None, traces), prefix))
}
