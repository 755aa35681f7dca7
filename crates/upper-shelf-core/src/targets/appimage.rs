//! AppImage: our head, and behind it a squashfs image with the product's files and all that a Linux desktop reads.
//!
//! Inside: `AppRun` (see `launcher.rs`), `ID.desktop`, the icon, `.DirIcon`, `usr/share/…` for the desktop, and the
//! product's own folder at `usr/lib/ID`.

use super::launcher::{self, Script, Stands};
use super::linux_desktop::Desktop;
use super::{Depth, Format, Job, Loss, Target, Visit, damaged, linux_desktop, not_executable, unsupported, unwritten};
use crate::budget::{Budget, Package};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Foreign, IconImage, Identity, Node, Place, RelPath};
use crate::payload::feed::{Part, Stream};
use crate::platform::Platform;
use crate::problem::{Code, Failure, Problem};
use crate::settings::{Appimage, Compression, Settings, TargetName};
use squashfs::codec::Codec;
use squashfs::read::{Image, Inode, Kind as InodeKind, Limits};
use squashfs::write::{Fragments, Meta, Options, Special, Writer};
use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::atomic::{AtomicUsize, Ordering};

/// The heads, built by `heads/rebuild-all`.
const HEAD_X64: &[u8] = include_bytes!("../../../../heads/appimage-runtime/prebuilt/appimage-runtime-x86_64");
const HEAD_ARM64: &[u8] = include_bytes!("../../../../heads/appimage-runtime/prebuilt/appimage-runtime-aarch64");
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

/// A package's image.
struct Opened {
    image: Image<File>,
    offset: u64,
    platform: Option<Platform>,
}

/// `None` for what is no AppImage.
fn open(package: &Package) -> Result<Option<Opened>, Failure> {
    let io = |e: io::Error| Failure::io("can't read", package, e);
    let mut file = File::open(package).map_err(io)?;
    let mut head = [0; 64];
    if file.read_exact(&mut head).is_err() || head[..4] != *b"\x7fELF" || head[8..11] != *MARK {
        return Ok(None);
    }
    let offset = elf_end(&head).ok_or_else(|| damaged(package, "its head is not a 64-bit ELF file"))?;
    let platform = match head[18] {
        62 => Some(Platform::LinuxX64),
        183 => Some(Platform::LinuxArm64),
        _ => None,
    };
    let limits = Limits {
        max_entries: package.budget.most_names(),
        max_depth: package.budget.most_depth(),
        ..Limits::default()
    };
    let image = Image::open(file, offset, limits).map_err(|e| match e {
        squashfs::Error::Unsupported(why) => unsupported(package, format!("its image is {why}")),
        e => damaged(package, e),
    })?;
    Ok(Some(Opened { image, offset, platform }))
}

/// Where the ELF file ends: behind its section headers.
fn elf_end(head: &[u8; 64]) -> Option<u64> {
    let number = |at: usize, len: usize| head[at..at + len].iter().rev().fold(0u64, |n, b| n << 8 | u64::from(*b));
    if head[4] != 2 || head[5] != 1 {
        return None;
    }
    number(40, 8).checked_add(number(58, 2) * number(60, 2))
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

/// A head of ours keeps the image's hash: nothing in the image itself notices every flipped bit.
fn check_hash(image: &Image<File>, offset: u64) -> io::Result<Result<(), String>> {
    use object::{Object, ObjectSection};
    // Heads of other makers may be of any size; ours is not.
    if offset > 4 << 20 {
        return Ok(Ok(()));
    }
    let mut file = image.source();
    let mut head = vec![0; offset as usize];
    file.seek(SeekFrom::Start(0))?;
    file.read_exact(&mut head)?;
    let elf = object::File::parse(head.as_slice()).ok();
    let section = |name| elf.as_ref().and_then(|e| e.section_by_name(name)?.data().ok()).unwrap_or_default();
    let stored = section(".content_hash");
    if stored.len() != 32 || stored == [0; 32] {
        return Ok(Ok(()));
    }
    let length = section(".image_length").try_into().map_or(0, u64::from_le_bytes);
    if length > 0 {
        let bytes = image.bytes_used();
        let mut values = vec![[0; 32]; usize::try_from(checked_read::pieces(bytes)).map_err(io::Error::other)?];
        file.seek(SeekFrom::Start(offset + bytes.next_multiple_of(PADDED)))?;
        let whole = file.read_exact(values.as_flattened_mut());
        if length != bytes || whole.is_err() || checked_read::hash(&values, bytes).is_none_or(|h| h != stored) {
            return Ok(Err("the table of checksums behind its image is not what was written".into()));
        }
    }
    file.seek(SeekFrom::Start(offset))?;
    let seen = hash_of(file.take(image.bytes_used()))?;
    Ok(if seen == stored {
        Ok(())
    } else {
        Err("its content was changed after it was packed: the hash in its head differs".into())
    })
}

struct Entry {
    path: String,
    inode: Inode,
}

/// Everything in an image.
struct Tree {
    nodes: Vec<Entry>,
    /// What our launcher in it says: programs, and the folder with the product's own files.
    ours: Option<Script>,
    /// The hash of the program in front, as it says.
    head: Option<String>,
}

impl Opened {
    fn tree(&self, budget: &Budget) -> squashfs::Result<Tree> {
        let mut nodes = Vec::new();
        self.image.walk(|v| {
            // A file of several names comes with its list of blocks for each.
            let blocks = if let InodeKind::File(file) = &v.inode.kind { file.size / 4096 / 32 } else { 0 };
            budget.metadata(v.path.len() as u64 + blocks).map_err(io::Error::from)?;
            nodes.push(Entry { path: String::from_utf8_lossy(&v.path).into_owned(), inode: v.inode });
            Ok::<_, squashfs::Error>(())
        })?;
        let is_small = |n: &&Entry| matches!(&n.inode.kind, InodeKind::File(f) if f.size < 1 << 20);
        let script = nodes.iter().find(|n| n.path == "AppRun").filter(is_small);
        let script = script.map(|n| self.image.read_to_vec(&n.inode)).transpose()?.unwrap_or_default();
        let script = String::from_utf8_lossy(&script);
        let head = script.lines().find_map(|l| l.strip_prefix(HEAD_HASH)).map(str::to_owned);
        Ok(Tree { nodes, ours: launcher::read(&script), head })
    }
}

impl Tree {
    /// The product's own files, folders and links with their paths in the footprint, in its order: of a file's several
    /// names the first is the file.
    fn own(&self) -> Vec<(RelPath, &Entry)> {
        let below = |path: &str| match &self.ours {
            None => RelPath::new(path).ok(),
            Some(Script { install, .. }) => RelPath::new(path.strip_prefix(install)?.strip_prefix('/')?).ok(),
        };
        let mut own: Vec<(RelPath, &Entry)> = self.nodes.iter().filter_map(|n| Some((below(&n.path)?, n))).collect();
        own.sort_by(|a, b| a.0.cmp(&b.0));
        own
    }
}

fn files(opened: &Opened, budget: &Budget, visit: Visit) -> squashfs::Result<()> {
    let tree = opened.tree(budget)?;
    // Twins are one inode; each path that the footprint lists as a file comes once.
    let mut seen = std::collections::HashSet::new();
    for (path, node) in tree.own() {
        let first = node.inode.nlink < 2 || seen.insert(node.inode.number);
        if matches!(node.inode.kind, InodeKind::File(_)) && first {
            visit(&path, &mut budget.meter(opened.image.reader(&node.inode)?))?;
        }
    }
    Ok(())
}

fn read_image(opened: &Opened, tree: &Tree, depth: Depth, budget: &Budget) -> squashfs::Result<Footprint> {
    let Opened { image, platform, .. } = opened;
    let nodes = &tree.nodes;
    let mut desktop = linux_desktop::Files::new();
    let mut icons = Vec::new();
    for node in nodes {
        let InodeKind::File(file) = &node.inode.kind else { continue };
        let Some(path) = node.path.strip_prefix("usr/share/") else { continue };
        let icon = path.strip_prefix("icons/hicolor/").and_then(crate::icons::form_of_theme_path);
        match (icon, depth) {
            // In a listing an icon is known by its name; its bytes are not needed.
            (Some(form), Depth::Listing) => icons.push(IconImage { form, content: None }),
            _ if is_desktop_file(path) && file.size < 4 << 20 => {
                budget.metadata(file.size).map_err(io::Error::from)?;
                desktop.insert(path.to_owned(), image.read_to_vec(&node.inode)?);
            }
            _ => {}
        }
    }
    let Desktop { mut product, shortcuts, file_types, link_schemes, icons: drawn } = linux_desktop::read(&desktop);
    icons.extend(drawn);
    if tree.ours.is_none() {
        foreign_identity(image, nodes, &mut product)?;
    }
    let own = tree.own();
    let hashes = match depth {
        Depth::Listing => HashMap::new(),
        Depth::Contents => {
            let sizes = own
                .iter()
                .filter_map(|(_, n)| if let InodeKind::File(f) = &n.inode.kind { Some(f.size) } else { None });
            sizes.into_iter().try_for_each(|size| budget.plain(size)).map_err(io::Error::from)?;
            hash_files(image, own.iter().map(|(_, n)| *n))?
        }
    };
    let mut first_names: HashMap<u32, RelPath> = HashMap::new();
    let (mut found, mut left_out) = (Vec::new(), Vec::new());
    for (path, node) in own {
        let mode = u32::from(node.inode.mode);
        found.push(match &node.inode.kind {
            InodeKind::Dir(_) => Node::Folder { path, mode },
            InodeKind::Symlink(target) => Node::Link { path, target: String::from_utf8_lossy(target).into_owned() },
            InodeKind::File(file) => match first_names.get(&node.inode.number) {
                Some(to) if node.inode.nlink > 1 => Node::HardLink { path, to: to.clone() },
                _ => {
                    first_names.insert(node.inode.number, path.clone());
                    Node::File { path, mode, size: file.size, content: hashes.get(node.path.as_str()).copied() }
                }
            },
            // Applications bring no devices; one in somebody's image is not followed.
            InodeKind::BlockDevice(_) | InodeKind::CharDevice(_) | InodeKind::Fifo | InodeKind::Socket => {
                left_out.push(Foreign::LeftOut { what: format!("the pipe or device {path}") });
                continue;
            }
        });
    }
    let (programs, environment) =
        tree.ours.as_ref().map_or_else(Default::default, |s| (s.programs.clone(), s.environment.clone()));
    Ok(Footprint {
        product,
        platform: *platform,
        tree: found.into(),
        programs: programs.into(),
        shortcuts: shortcuts.into(),
        file_types: file_types.into(),
        link_schemes: link_schemes.into(),
        environment: environment.into(),
        icons: icons.into(),
        foreign: left_out.into(),
        ..Footprint::default()
    })
}

fn is_desktop_file(path: &str) -> bool {
    ["applications/", "metainfo/", "mime/packages/", "icons/hicolor/"].iter().any(|p| path.starts_with(p))
}

/// Another maker's image may say who it is in its root's desktop entry only.
fn foreign_identity(image: &Image<File>, nodes: &[Entry], product: &mut Identity) -> squashfs::Result<()> {
    let entry = nodes.iter().find(|n| n.path.ends_with(".desktop") && !n.path.contains('/'));
    let Some(Entry { path, inode }) = entry else { return Ok(()) };
    // It is often a link to the entry further in.
    let target = match &inode.kind {
        InodeKind::Symlink(target) => image.lookup(target)?,
        _ => Some(inode.clone()),
    };
    let Some(inode) = target.filter(|i| matches!(&i.kind, InodeKind::File(f) if f.size < 1 << 20)) else {
        return Ok(());
    };
    let text = String::from_utf8_lossy(&image.read_to_vec(&inode)?).into_owned();
    let value = |key: &str| text.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix('=').map(str::to_owned));
    let fill = |slot: &mut Option<String>, value: Option<String>| {
        if slot.is_none() {
            *slot = value;
        }
    };
    fill(&mut product.id, path.strip_suffix(".desktop").map(str::to_owned));
    fill(&mut product.name, value("Name"));
    product.summary = product.summary.take().or_else(|| value("Comment").map(Into::into));
    fill(&mut product.version, value("X-AppImage-Version"));
    Ok(())
}

/// The hashes of all files by path, on several threads; each file is read once.
fn hash_files<'n>(
    image: &Image<File>,
    nodes: impl Iterator<Item = &'n Entry>,
) -> squashfs::Result<HashMap<&'n str, ContentHash>> {
    let files: Vec<&Entry> = nodes.filter(|n| matches!(n.inode.kind, InodeKind::File(_))).collect();
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let zeros = [0; 1 << 16];
    let work = || -> squashfs::Result<BTreeMap<&'n str, ContentHash>> {
        let mut hashes = BTreeMap::new();
        while let Some(node) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
            let mut hasher = blake3::Hasher::new();
            let mut reader = image.reader(&node.inode)?;
            while let Some(block) = reader.next_block()? {
                match block {
                    squashfs::read::BlockOrHole::Bytes(bytes) => drop(hasher.update(bytes)),
                    squashfs::read::BlockOrHole::Hole(len) => {
                        for part in (0..len as usize).step_by(zeros.len()) {
                            hasher.update(&zeros[..zeros.len().min(len as usize - part)]);
                        }
                    }
                }
            }
            hashes.insert(node.path.as_str(), ContentHash(*hasher.finalize().as_bytes()));
        }
        Ok(hashes)
    };
    std::thread::scope(|scope| {
        let threads: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        let mut all = HashMap::new();
        for thread in threads {
            all.extend(thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?);
        }
        Ok(all)
    })
}
