//! AppImage: our head, and behind it a squashfs image with the product's files and all that a Linux desktop reads.
//!
//! Inside: `AppRun` (see `launcher.rs`), `ID.desktop`, the icon, `.DirIcon`, `usr/share/…` for the desktop, and the
//! product's own folder at `usr/lib/ID`.

mod read;

use super::launcher::{self, Stands};
use super::{Depth, Format, Job, Loss, Target, Visit, damaged, linux_desktop, not_executable, unwritten};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Node, Place};
use crate::payload::feed::{Part, Stream};
use crate::platform::Platform;
use crate::problem::{Code, Failure, Problem};
use crate::settings::{Appimage, Compression, Settings, TargetName};
use read::{check_hash, files, open, read_image};
use squashfs::codec::Codec;
use squashfs::read::{Image, Limits};
use squashfs::write::{Fragments, Meta, Options, Special, Writer};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};

/// The heads, built by `heads/rebuild-all`.
const HEAD_X64: &[u8] = include_bytes!("../../../heads/appimage-runtime-x86_64");
const HEAD_ARM64: &[u8] = include_bytes!("../../../heads/appimage-runtime-aarch64");
/// "AI" and the format's second form, in the padding of the ELF identification.
const MARK: &[u8] = b"AI\x02";

/// The target.
pub struct AppImage;

impl Format for AppImage {
    fn name(&self) -> &'static str {
        TargetName::Appimage.name()
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(opened) = open(package)? else { return Ok(None) };
        if depth == Depth::Contents {
            let io = |e: io::Error| Failure::io("can't read", package, e);
            check_hash(&opened.image, opened.offset).map_err(io)?.map_err(|why| damaged(package, why))?;
        }
        let footprint =
            opened.tree(&package.budget).and_then(|tree| read_image(&opened, &tree, depth, &package.budget));
        footprint.map(Some).map_err(|e| damaged(package, e))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let Some(opened) = open(package)? else { return Ok(()) };
        files(&opened, &package.budget, visit).map_err(|e| damaged(package, e))
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        let Some(opened) = open(package)? else { return Ok(Vec::new()) };
        let tree = opened.tree(&package.budget).map_err(|e| damaged(package, e))?;
        let Some(stated) = tree.head else { return Ok(Vec::new()) };
        let mut head = Vec::new();
        let read = File::open(package).and_then(|f| f.take(opened.offset).read_to_end(&mut head));
        read.map_err(|e| Failure::io("can't read", package, e))?;
        let same = head_hash(&head).is_some_and(|h| h == stated);
        Ok(if same { Vec::new() } else { vec!["the program before its image was changed after it was built".into()] })
    }
}

impl Target for AppImage {
    fn target(&self) -> TargetName {
        TargetName::Appimage
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".AppImage"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        let (mut product, mut losses) = linux_desktop::complete(&footprint.product);
        product.categories = linux_desktop::carried_categories(&product);
        let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
        let Footprint {
            product: _,
            platform,
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
            // Lost, below.
            registry: _,
            services: _,
            fonts: _,
            choices: _,
            install: _,
            bundle: _,
            foreign: _,
        } = footprint;
        let tree = tree.filter_map(|node| {
            if let Node::File { path, mode, size, content } = node
                && mode & 0o7000 != 0
            {
                let why = "the system ignores them in an image that a user mounts";
                lose(format!("the special mode bits of {path} ({mode:o}) are left out"), why);
                return Some(Node::File { path: path.clone(), mode: mode & 0o777, size: *size, content: *content });
            }
            Some(node.clone())
        });
        let shortcuts = shortcuts.filter_map(|shortcut| match shortcut.place {
            Place::Menu => Some(shortcut.clone()),
            Place::Desktop | Place::Startup => {
                let why = "an AppImage isn't installed, so nothing is put on the desktop or started automatically";
                lose(format!("the shortcut “{}” ({}) is left out", shortcut.name, shortcut.place.name()), why);
                None
            }
        });
        super::lose(
            &mut losses,
            commands,
            "an AppImage isn't installed; users can link to it from a folder on their PATH",
        );
        super::lose(&mut losses, shell_files, "an AppImage isn't installed; the file itself is included");
        losses.extend(super::not_on_linux(footprint));
        let carried = Footprint {
            product,
            platform: *platform,
            tree,
            programs: programs.clone(),
            shortcuts,
            file_types: file_types.clone(),
            link_schemes: link_schemes.clone(),
            environment: environment.clone(),
            icons: icons.clone(),
            ..Footprint::default()
        };
        (carried, losses)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = Vec::new();
        match job.footprint.main_program().and_then(|key| job.footprint.program(key)) {
            None => problems.push(
                Problem::error(Code::NeedsProgram, "an AppImage needs a program to start")
                    .instead("[[program]]\nkey = \"app\"\nfile = \"the program's file in the payload\""),
            ),
            Some(_) => problems.extend(not_executable(job.footprint)),
        }
        if let Err(why) = options(&job.settings.appimage, 0, 1) {
            problems.push(
                Problem::error(Code::InvalidValue, format!("[target.appimage] {why}")).about_setting("target.appimage"),
            );
        }
        let information = job.settings.appimage.update_information.as_deref().unwrap_or_default();
        if information.len() >= 1024 {
            let problem = Problem::error(Code::FormatLimit, "the update information has more than 1023 bytes");
            problems.push(problem.about_setting("target.appimage.update-information"));
        }
        problems
    }

    fn write(&self, job: &Job, stream: Stream, mut out: File) -> Result<(), Failure> {
        let head = head_for(job.footprint.platform);
        out.write_all(head).map_err(unwritten)?;
        let options = options(&job.settings.appimage, job.time, job.threads)
            .map_err(|why| Failure::new(crate::Kind::Problems, Problem::error(Code::FormatLimit, why)))?;
        let bytes = write_image(job, stream, &mut out, options).map_err(|e| match e {
            squashfs::Error::Io(e) => unwritten(e),
            other => unwritten(io::Error::other(other)),
        })?;
        finish_head(head, job, &mut out, bytes).map_err(unwritten)
    }
}

/// The head for a platform.
fn head_for(platform: Option<Platform>) -> &'static [u8] {
    match platform {
        Some(Platform::LinuxArm64) => HEAD_ARM64,
        _ => HEAD_X64,
    }
}

/// The line of `AppRun` that says what the head is.
const HEAD_HASH: &str = "# The program in front of this image has the BLAKE3 ";
/// Sections of a head that are filled in when a package is made or signed.
const FILLED: [&str; 5] = [".content_hash", ".image_length", ".upd_info", ".sha256_sig", ".sig_key"];

/// The hash of a head without what is filled in; `None` for what is no ELF file.
fn head_hash(head: &[u8]) -> Option<String> {
    use object::{Object, ObjectSection};
    let elf = object::File::parse(head).ok()?;
    let ranges = FILLED.iter().filter_map(|name| elf.section_by_name(name)?.file_range());
    let mut plain = head.to_vec();
    for (at, length) in ranges {
        let start = usize::try_from(at).ok()?;
        plain.get_mut(start..start.checked_add(usize::try_from(length).ok()?)?)?.fill(0);
    }
    Some(ContentHash::of(&plain).to_string())
}

fn options(settings: &Appimage, time: u32, threads: usize) -> Result<Options, String> {
    let codec = match settings.compression {
        Compression::Gzip => Codec::Gzip { level: settings.level },
        Compression::Zstd => Codec::Zstd { level: settings.level },
        Compression::Xz => Codec::Xz { level: settings.level },
    };
    if !codec.levels().contains(&codec.level()) {
        let levels = codec.levels();
        return Err(format!("`level` goes from {} to {} for this compression", levels.start(), levels.end()));
    }
    let block_size = settings.block_size;
    if !block_size.is_power_of_two() || !(4096..=1 << 20).contains(&block_size) {
        return Err("`block-size` is a power of two from 4096 to 1048576".into());
    }
    Ok(Options { codec, block_size, threads, time, fragments: Fragments::SmallFiles, ..Options::default() })
}

/// Writes the image behind the head; gives its length without padding.
fn write_image(job: &Job, mut stream: Stream, out: &mut File, options: Options) -> squashfs::Result<u64> {
    let id = job.footprint.product.id.as_deref().unwrap_or("unknown");
    let install = format!("usr/lib/{id}");
    let start = out.stream_position()?;
    let mut w = Writer::new(&mut *out, options)?;
    let small = |w: &mut Writer<&mut File>, path: &str, mode: u16, bytes: &[u8]| -> squashfs::Result<()> {
        w.begin_file(path.as_bytes(), Meta::file(mode))?;
        w.data(bytes)?;
        w.end_file(Some(ContentHash::of(bytes).0))
    };
    w.folder(install.as_bytes(), Meta::file(0o755))?;
    let link = |w: &mut Writer<&mut File>, path: &str, target: String| {
        w.special(path.as_bytes(), Meta::file(0o777), Special::Symlink(target.into_bytes()))
    };
    for node in &job.footprint.tree {
        match node {
            Node::Folder { path, mode } => {
                w.folder(format!("{install}/{path}").as_bytes(), Meta::file(*mode as u16))?
            }
            Node::Link { path, target } => link(&mut w, &format!("{install}/{path}"), target.clone())?,
            // In the order of the stream, and behind it.
            Node::File { .. } | Node::HardLink { .. } => {}
        }
    }
    while let Some(part) = stream.next_part() {
        match part {
            Part::Begin(index) => {
                let file = &job.files[index];
                let meta = Meta::file((file.mode & 0o777) as u16);
                w.begin_file(format!("{install}/{}", file.path).as_bytes(), meta)?;
            }
            Part::Bytes(bytes) => w.data(&bytes)?,
            Part::Zeros(count) => w.zeros(count)?,
            Part::End(hash) => w.end_file(Some(hash.0))?,
        }
    }
    for (path, to) in job.footprint.hard_links() {
        w.hard_link(format!("{install}/{path}").as_bytes(), format!("{install}/{to}").as_bytes())?;
    }
    // Last, so that drawing the icons goes on beside the packing of the last blocks.
    let mut script = launcher::write(job.footprint, &install, Stands::InAppImage);
    // What stands in front of the image is a part of the package too: its hash tells whether somebody changed it.
    let hash = head_hash(head_for(job.footprint.platform))
        .ok_or(squashfs::Error::Usage("the built-in head is damaged".into()))?;
    script.push_str(&format!("{HEAD_HASH}{hash}\n"));
    small(&mut w, "AppRun", 0o755, script.as_bytes())?;
    let files = linux_desktop::write(job.footprint, job.icon, job.time, "AppRun");
    link(&mut w, &format!("{id}.desktop"), format!("usr/share/applications/{id}.desktop"))?;
    if files.contains_key(&format!("icons/hicolor/scalable/apps/{id}.svg")) {
        link(&mut w, &format!("{id}.svg"), format!("usr/share/icons/hicolor/scalable/apps/{id}.svg"))?;
    } else if files.contains_key(&format!("icons/hicolor/512x512/apps/{id}.png")) {
        link(&mut w, &format!("{id}.png"), format!("usr/share/icons/hicolor/512x512/apps/{id}.png"))?;
    }
    if files.contains_key(&format!("icons/hicolor/256x256/apps/{id}.png")) {
        link(&mut w, ".DirIcon", format!("usr/share/icons/hicolor/256x256/apps/{id}.png"))?;
    }
    for (path, bytes) in files {
        small(&mut w, &format!("usr/share/{path}"), 0o644, &bytes)?;
    }
    w.finish()?;
    Ok(Image::open(out.try_clone()?, start, Limits::default())?.bytes_used())
}

/// What images are padded to (see `squashfs::write::Options`).
const PADDED: u64 = 4096;

/// Puts the image's hash, the table of its pieces and the update information into the sections that the head keeps for them.
fn finish_head(head: &[u8], job: &Job, out: &mut File, image_bytes: u64) -> io::Result<()> {
    use object::{Object, ObjectSection};
    let elf = object::File::parse(head).map_err(io::Error::other)?;
    let section = |name: &str| elf.section_by_name(name).and_then(|s| s.file_range()).map(|(at, _)| at);
    let missing = || io::Error::other("the built-in head lacks a section");
    // The table of the pieces' values stands behind the image, padding included: whoever mounts the image checks each
    // piece when it is read.
    let values = checked_read::values(&*out, head.len() as u64, image_bytes)?;
    let hash = checked_read::hash(&values, image_bytes).expect("as many as the image has");
    out.seek(SeekFrom::Start(head.len() as u64 + image_bytes.next_multiple_of(PADDED)))?;
    out.write_all(values.as_flattened())?;
    out.seek(SeekFrom::Start(section(".image_length").ok_or_else(missing)?))?;
    out.write_all(&image_bytes.to_le_bytes())?;
    out.seek(SeekFrom::Start(section(".content_hash").ok_or_else(missing)?))?;
    out.write_all(&hash)?;
    if let Some(information) = &job.settings.appimage.update_information {
        out.seek(SeekFrom::Start(section(".upd_info").ok_or_else(missing)?))?;
        out.write_all(information.as_bytes())?;
    }
    out.flush()
}

fn hash_of(mut bytes: impl Read) -> io::Result<[u8; 32]> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(&mut bytes)?;
    Ok(*hasher.finalize().as_bytes())
}
