//! tar for every platform, packed with gzip, zstd or xz. For Linux it is more than files: `install.sh` and
//! `uninstall.sh`, the launcher, and what a desktop reads. Inside: `TOP/app/…`, `TOP/launch`, `TOP/share/…`.

use super::super::launcher::{self, Script, Stands};
use super::super::linux_desktop::Desktop;
use super::super::{Depth, Format, Job, Loss, Target, Visit, damaged, linux_desktop, not_executable, unwritten};
use super::guard::Guard;
use super::{plain_mode, scripts, tree_only};
use crate::budget::{Budget, Package};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Foreign, Node, RelPath};
use crate::payload::feed::Stream;
use crate::platform::System;
use crate::problem::{Code, Failure, Problem};
use crate::settings::{Compression, Settings, TargetName};
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

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(plain) = unpacked(package)? else { return Ok(None) };
        let read = read(Guard::new(plain, &package.budget), depth, &package.budget);
        read.map(|(f, _)| Some(f)).map_err(|e| damaged(package, e))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let bad = |e: io::Error| damaged(package, e);
        let Some(plain) = unpacked(package)? else { return Ok(()) };
        // The names were counted when it was read.
        let names = Budget::new(u64::MAX, u64::MAX);
        let (_, prefix) = read(Guard::new(plain, &package.budget), Depth::Listing, &names).map_err(bad)?;
        let Some(plain) = unpacked(package)? else { return Ok(()) };
        files(Guard::new(plain, &names), &prefix, &package.budget, visit).map_err(bad)
    }
}

impl Target for Tar {
    fn target(&self) -> TargetName {
        TargetName::Tar
    }

    fn extension(&self, settings: &Settings) -> &'static str {
        match settings.tar.compression {
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
        losses.extend(super::super::not_on_linux(footprint));
        let Footprint {
            product: _,
            // Its shell scripts run on any processor; what its programs run on they say themselves.
            platform: _,
            tree,
            programs,
            shortcuts,
            file_types,
            link_schemes,
            environment,
            icons,
            commands,
            shell_files,
            permissions: _,
            // Lost, above.
            registry: _,
            services: _,
            fonts: _,
            choices: _,
            install: _,
            bundle: _,
            foreign: _,
        } = footprint;
        let carried = Footprint {
            product,
            tree: tree.filter_map(|node| Some(plain_mode(node))),
            programs: programs.clone(),
            shortcuts: shortcuts.clone(),
            file_types: file_types.clone(),
            link_schemes: link_schemes.clone(),
            environment: environment.clone(),
            icons: icons.clone(),
            commands: commands.clone(),
            shell_files: shell_files.clone(),
            ..Footprint::default()
        };
        (carried, losses)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = Vec::new();
        let levels = match job.settings.tar.compression {
            Compression::Gzip | Compression::Xz => 0..=9,
            Compression::Zstd => 1..=22,
        };
        let level = job.settings.tar.level;
        if !levels.contains(&level) {
            let what = format!("[target.tar] `level` can't be {level} for this compression");
            let problem = Problem::error(Code::InvalidValue, what).about_setting("target.tar.level");
            problems.push(problem.instead(format!("{} to {}", levels.start(), levels.end())));
        }
        problems.extend(not_executable(job.footprint));
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write_packed(job, stream, out).map_err(unwritten)
    }
}

/// The archive's plain bytes; `None` when it is packed in no way that is known here.
fn unpacked(package: &Path) -> Result<Option<Box<dyn Read>>, Failure> {
    let io = |e: io::Error| Failure::io("can't read", package, e);
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
    let mut out = match settings.compression {
        Compression::Gzip => {
            let level = flate2::Compression::new(settings.level);
            let encoder = flate2::GzBuilder::new().mtime(0).operating_system(255).write(out, level);
            write(job, stream, encoder)?.finish()?
        }
        Compression::Zstd => {
            let mut encoder = zstd::Encoder::new(out, settings.level as i32)?;
            encoder.include_checksum(true)?;
            // With at least one worker the bytes do not depend on how many there are.
            encoder.multithread(job.threads.max(1) as u32)?;
            write(job, stream, encoder)?.finish()?
        }
        Compression::Xz => write(job, stream, liblzma::write::XzEncoder::new(out, settings.level))?.finish()?,
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
    for node in &job.footprint.tree {
        match node {
            Node::Folder { path, mode } => {
                let mut header = header(EntryType::Directory, *mode, 0, job.time);
                tar.append_data(&mut header, format!("{app}/{path}/"), io::empty())?;
            }
            Node::Link { path, target } => {
                tar.append_link(&mut header(EntryType::Symlink, 0o777, 0, job.time), format!("{app}/{path}"), target)?;
            }
            // In the order of the stream, and behind it.
            Node::File { .. } | Node::HardLink { .. } => {}
        }
    }
    while let Some(index) = stream.next_file() {
        let file = &job.files[index];
        let mut header = header(EntryType::Regular, file.mode & 0o777, file.size, job.time);
        tar.append_data(&mut header, format!("{app}/{}", file.path), stream.reader())?;
    }
    for (path, to) in job.footprint.hard_links() {
        let mut header = header(EntryType::Link, 0o644, 0, job.time);
        tar.append_link(&mut header, format!("{app}/{path}"), format!("{app}/{to}"))?;
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

fn files(plain: impl Read, prefix: &str, budget: &Budget, visit: Visit) -> io::Result<()> {
    let mut archive = tar::Archive::new(plain);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = name_of(&entry).strip_prefix(prefix).and_then(|b| RelPath::new(b).ok());
        if let Some(path) = path.filter(|_| is_file(entry.header().entry_type())) {
            visit(&path, &mut budget.meter(&mut entry))?;
        }
    }
    drained(archive)
}

/// Reads what is behind the last entry: the checksum of what is packed stands there.
fn drained(archive: tar::Archive<impl Read>) -> io::Result<()> {
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
fn read(plain: impl Read, depth: Depth, budget: &Budget) -> io::Result<(Footprint, String)> {
    let mut archive = tar::Archive::new(plain);
    let mut tree: Vec<(String, Node)> = Vec::new();
    let mut desktop = linux_desktop::Files::new();
    let (mut script, mut installer) = (String::new(), String::new());
    let mut left_out = Vec::new();
    let mut top: Option<String> = None;
    let unknown = || RelPath::new("unknown").map_err(io::Error::other);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = name_of(&entry);
        if name.is_empty() {
            continue;
        }
        budget.name(&name)?;
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
            EntryType::Directory => tree.push((name, Node::Folder { path: unknown()?, mode })),
            EntryType::Symlink | EntryType::Link => {
                let target =
                    entry.link_name_bytes().map(|t| String::from_utf8_lossy(&t).into_owned()).unwrap_or_default();
                let hard = entry.header().entry_type() == EntryType::Link;
                tree.push((
                    name,
                    if hard {
                        let to = RelPath::new(&*target)
                            .map_err(|why| io::Error::other(format!("the link's target {target:?} {why}")))?;
                        Node::HardLink { path: unknown()?, to }
                    } else {
                        Node::Link { path: unknown()?, target }
                    },
                ));
            }
            kind if is_file(kind) => {
                let is_small = size < 4 << 20;
                if is_small && (below == "launch" || below == "install.sh" || below.starts_with("share/")) {
                    // It is kept until all is read.
                    budget.metadata(size)?;
                    let mut bytes = Vec::new();
                    entry.read_to_end(&mut bytes)?;
                    let text = || String::from_utf8_lossy(&bytes).into_owned();
                    match below.strip_prefix("share/") {
                        Some(path) => drop(desktop.insert(path.to_owned(), bytes.clone())),
                        None if below == "launch" => script = text(),
                        None => installer = text(),
                    }
                    let content = (depth == Depth::Contents).then(|| ContentHash::of(&bytes));
                    tree.push((name, Node::File { path: unknown()?, mode, size, content }));
                    continue;
                }
                let content = match depth {
                    Depth::Listing => None,
                    Depth::Contents => {
                        let mut hasher = blake3::Hasher::new();
                        hasher.update_reader(budget.meter(&mut entry))?;
                        Some(ContentHash(*hasher.finalize().as_bytes()))
                    }
                };
                tree.push((name, Node::File { path: unknown()?, mode, size, content }));
            }
            kind => {
                if let Some(what) = special(kind) {
                    left_out.push(Foreign::LeftOut { what: format!("the {what} {name}") });
                }
            }
        }
    }
    drained(archive)?;
    let top = top.unwrap_or_default();
    let (mut footprint, prefix) = match launcher::read(&script) {
        Some(Script { programs, environment, install }) => {
            let Desktop { product, shortcuts, file_types, link_schemes, mut icons } = linux_desktop::read(&desktop);
            if depth == Depth::Listing {
                icons.iter_mut().for_each(|icon| icon.content = None);
            }
            let (commands, shell_files) = scripts::read(&installer);
            let footprint = Footprint {
                product,
                commands: commands.into(),
                shell_files: shell_files.into(),
                programs: programs.into(),
                environment: environment.into(),
                shortcuts: shortcuts.into(),
                file_types: file_types.into(),
                link_schemes: link_schemes.into(),
                icons: icons.into(),
                ..Footprint::default()
            };
            (footprint, format!("{top}{install}/"))
        }
        None => (Footprint::default(), top),
    };
    let inside = |path: &str| path.strip_prefix(&prefix).and_then(|below| RelPath::new(below).ok());
    let mut nodes = Vec::new();
    for (name, mut node) in tree {
        let Some(below) = inside(&name) else { continue };
        *node.path_mut() = below;
        if let Node::HardLink { to, .. } = &mut node
            && let Some(below) = inside(to.as_str())
        {
            *to = below;
        }
        nodes.push(node);
    }
    footprint.tree = nodes.into();
    footprint.foreign = left_out.into();
    Ok((footprint, prefix))
}
