//! The disk image for macOS: an HFS+ volume with the application bundle and a link to the Applications folder, in a
//! UDIF image, and a window that shows what to drag where.

mod window;

use super::bundle::{
    self, Bundle, Piece,
    read::{Member, MemberKind, Reading, list_of},
};
use super::{Depth, Format, Job, Loss, Target, Visit, damaged, unwritten};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Node};
use crate::payload::feed::Stream;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{DmgCompression, Settings, TargetName};
use ds_store::Alias;
use hfs_plus::read::{Kind as EntryKind, Limits, Volume};
use hfs_plus::structs::{EPOCH, finder};
use hfs_plus::write::{Builder, Layout, Meta, Options};
use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use udif::codec::Codec;
use udif::partitions::{Content, partitions};
use udif::read::Image;
use window::decoded;

/// The folder with the picture behind the symbols; the system does not show it.
const PICTURES: &str = ".background";
const PICTURE: &str = ".background/window.tiff";

/// The target.
pub struct Dmg;

fn options(job: &Job) -> udif::write::Options {
    let settings = &job.settings.dmg;
    let level = settings.level.min(12) as u8;
    let codec = match settings.compression {
        DmgCompression::Zlib => Codec::Zlib(level.max(1)),
        DmgCompression::Lzfse => Codec::Lzfse,
        DmgCompression::Bzip2 => Codec::Bzip2(level.clamp(1, 9)),
        DmgCompression::None => Codec::Raw,
    };
    udif::write::Options { codec, threads: job.threads, id: id(job), ..udif::write::Options::default() }
}

/// What tells the image and its volume apart from others: made from what the product is.
fn id(job: &Job) -> [u8; 16] {
    let p = &job.footprint.product;
    let text = format!("{:?} {:?} {:?}", p.id, p.version, job.footprint.platform.map(|p| p.name()));
    let mut id: [u8; 16] = blake3::hash(text.as_bytes()).as_bytes()[..16].try_into().expect("sixteen of thirty-two");
    // A number of the fourth kind, as such numbers go.
    id[6] = id[6] & 0x0F | 0x40;
    id[8] = id[8] & 0x3F | 0x80;
    id
}

fn volume_name(job: &Job) -> String {
    let name = job.disk_image.volume_name.clone().or_else(|| job.footprint.product.name.clone());
    bundle::stored_name(&name.unwrap_or_else(|| "Product".into()))
}

/// What people see when they open the image, out of the very bytes that are written.
#[derive(Debug)]
pub struct Shown {
    /// The volume's name.
    pub volume: String,
    /// The bundle's.
    pub bundle: String,
    /// The window, with the places of the symbols.
    pub window: ds_store::Window,
    /// The picture behind them, for one and for two pixels a point.
    pub background: Option<[image::RgbaImage; 2]>,
}

/// See [`Shown`].
///
/// # Errors
/// The volume can't be laid out.
pub fn shown(job: &Job) -> hfs_plus::Result<Shown> {
    let (_, store, picture) = lay_out(job)?;
    let records = ds_store::read(&store).and_then(|r| ds_store::Window::of(&r));
    Ok(Shown { volume: volume_name(job), bundle: Bundle::of(job).top, window: records?, background: decoded(&picture) })
}

/// The volume without the payload's bytes; what keeps the window, and the picture behind it.
fn lay_out(job: &Job) -> hfs_plus::Result<(Layout, Vec<u8>, Vec<u8>)> {
    let meta = |mode: u32| Meta { mode: mode as u16, time: job.time, ..Meta::default() };
    let volume = u64::from_be_bytes(id(job)[8..].try_into().expect("eight of sixteen"));
    let name = volume_name(job);
    let mut builder = Builder::new(&name, Options { time: job.time, opens: true, id: volume, ..Options::default() })?;
    let plan = job.disk_image;
    let hidden = Meta { finder: finder::INVISIBLE, ..meta(0o644) };
    let mut small: Vec<Vec<u8>> = Vec::new();

    let picture = plan.picture(window::accent(job.icon, job.wizard.accent)).unwrap_or_default();
    let folder = builder.folder(PICTURES, Meta { finder: finder::INVISIBLE, ..meta(0o755) })?;
    let file = builder.file(PICTURE, picture.len() as u64, meta(0o644))?;
    small.push(picture);
    let created = job.time.wrapping_add(EPOCH);
    let alias = Alias { volume: name, volume_created: created, path: PICTURE.into(), folder, file, created };
    let bundle = Bundle::of(job);
    let records = plan.window(&bundle.top, alias).records();
    let store = records.and_then(|r| ds_store::write(&r))?;
    builder.file(".DS_Store", store.len() as u64, hidden)?;
    small.push(store);
    let icon = job.icon.icns()?;
    builder.file(".VolumeIcon.icns", icon.len() as u64, hidden)?;
    small.push(icon);
    builder.has_icon();
    for file in &plan.files {
        builder.file(&file.name, file.bytes.len() as u64, meta(0o644))?;
        small.push(file.bytes.clone());
    }
    builder.link("Applications", "/Applications", meta(0o755))?;

    if bundle.finished {
        let list = bundle::list::write(job);
        builder.file(bundle::finished::BESIDE, list.len() as u64, hidden)?;
        small.push(list);
    }
    let of_top = |node: &Node| match node {
        Node::Folder { path, mode } if path.as_str() == bundle.top => Some(*mode),
        Node::Folder { .. } | Node::File { .. } | Node::HardLink { .. } | Node::Link { .. } => None,
    };
    let mode = job.footprint.tree.iter().find_map(of_top).filter(|_| bundle.finished).unwrap_or(0o755);
    builder.folder(&bundle.top, meta(mode))?;
    for (path, piece) in &bundle.pieces {
        let path = format!("{}/{path}", bundle.top);
        match piece {
            Piece::Folder(mode) => drop(builder.folder(&path, meta(*mode))?),
            Piece::Link(target) => drop(builder.link(&path, target, meta(0o755))?),
            Piece::File(mode, bytes) => {
                builder.file(&path, bytes.len() as u64, meta(*mode))?;
                small.push(bytes.clone());
            }
        }
    }
    let place = |path: &_| format!("{}/{}", bundle.top, bundle.place(path));
    for file in job.files {
        builder.file(&place(&file.path), file.size, meta(file.mode & 0o777))?;
    }
    let layout = builder.lay_out()?.with_first(&small)?;
    let mut small = small.into_iter();
    let (picture, store) = (small.next().unwrap_or_default(), small.next().unwrap_or_default());
    Ok((layout, store, picture))
}

fn write(job: &Job, mut stream: Stream, out: File) -> hfs_plus::Result<()> {
    let (layout, ..) = lay_out(job)?;
    let image = udif::write::Writer::new(BufWriter::new(out), layout.length(), options(job))?;
    let mut volume = layout.write(image)?;
    while let Some(part) = stream.next_part() {
        part.pass_on(|bytes| volume.data(bytes))?;
    }
    let image = volume.finish()?;
    image.finish()?.flush()?;
    Ok(())
}

type Disk = Volume<read_at::Part<Image<File>>>;

/// An opened image's volume, and what is on it.
struct Opened {
    volume: Disk,
    entries: Vec<hfs_plus::read::Entry>,
    nodes: Vec<Member>,
}

/// An image's volume; nothing when the file is none.
fn volume(package: &Package, depth: Depth) -> Result<Option<Disk>, Failure> {
    let cant = |e: io::Error| Failure::io("can't read", package, e);
    let mut file = File::open(package).map_err(cant)?;
    let length = file.metadata().map_err(cant)?.len();
    let mut sign = [0; 4];
    io::Seek::seek(&mut file, io::SeekFrom::Start(length.saturating_sub(512))).map_err(cant)?;
    if file.read_exact(&mut sign).is_err() || sign != *b"koly" {
        return Ok(None);
    }
    let bad = |why: String| damaged(package, why);
    let image = Image::open(file, udif::read::Limits::default()).map_err(|e| bad(e.to_string()))?;
    // Not every packing notices a flipped bit by itself.
    if depth == Depth::Contents
        && let Some((said, found)) = udif::check::packed(&image).map_err(|e| bad(e.to_string()))?
        && said != found
    {
        return Err(bad("its content was changed after it was packed: the checksum at its end differs".into()));
    }
    let parts = partitions(&image).map_err(|e| bad(e.to_string()))?;
    let Some(part) = parts.iter().find(|p| p.content == Content::Hfs) else {
        let apfs = parts.iter().any(|p| p.content == Content::Apfs);
        let problem = Problem::error(
            Code::UnsupportedPackage,
            format!("{} has no volume that can be read here", package.display()),
        )
        .on(&**package);
        let problem = problem.why(if apfs {
            "its volume is of the newer file system APFS"
        } else {
            "it contains no HFS+ volume"
        });
        return Err(Failure::new(Kind::Package, problem));
    };
    let disk = read_at::Part::new(image, part.start, part.length).map_err(cant)?;
    let limits = Limits {
        max_entries: package.budget.most_names(),
        max_depth: package.budget.most_depth(),
        ..Limits::default()
    };
    Volume::open(disk, limits).map(Some).map_err(|e| bad(e.to_string()))
}

fn open(package: &Package, depth: Depth) -> Result<Option<Opened>, Failure> {
    let Some(volume) = volume(package, depth)? else { return Ok(None) };
    let entries = volume.entries().map_err(|e| damaged(package, e))?;
    let node = |e: &hfs_plus::read::Entry| Member {
        path: e.path.clone(),
        mode: u32::from(e.permissions().mode.get()),
        kind: match &e.kind {
            EntryKind::Folder(_) => MemberKind::Folder,
            EntryKind::File(..) => MemberKind::File(e.size()),
            EntryKind::Link(_, target) => MemberKind::Link(target.clone()),
        },
    };
    let names = entries.iter().try_for_each(|e| package.budget.name(&e.path));
    names.map_err(|e| damaged(package, e))?;
    let nodes = entries.iter().map(node).collect();
    Ok(Some(Opened { volume, entries, nodes }))
}

impl Opened {
    fn reading(&self) -> hfs_plus::Result<Reading> {
        let Some(path) = list_of(&self.nodes) else { return Ok(Reading::new(&self.nodes, None)) };
        let entry = self.entries.iter().find(|e| e.path == path && e.size() < 4 << 20);
        let mut bytes = Vec::new();
        if let Some(entry) = entry {
            self.volume.read(entry)?.read_to_end(&mut bytes)?;
        }
        Ok(Reading::new(&self.nodes, Some((&path, &bytes))))
    }
}

impl Format for Dmg {
    fn name(&self) -> &'static str {
        TargetName::Dmg.name()
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(opened) = open(package, depth)? else { return Ok(None) };
        let hash = |n: usize| -> hfs_plus::Result<Option<ContentHash>> {
            if depth == Depth::Listing {
                return Ok(None);
            }
            let mut hasher = blake3::Hasher::new();
            hasher.update_reader(package.budget.meter(opened.volume.read(&opened.entries[n])?))?;
            Ok(Some(ContentHash(*hasher.finalize().as_bytes())))
        };
        let footprint = opened.reading().and_then(|r| r.footprint(&opened.nodes, hash));
        footprint.map(Some).map_err(|e| damaged(package, e))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let Some(opened) = open(package, Depth::Contents)? else { return Ok(()) };
        let bad = |e: hfs_plus::Error| damaged(package, e);
        let reading = opened.reading().map_err(bad)?;
        for (entry, node) in opened.entries.iter().zip(&opened.nodes) {
            if !matches!(node.kind, MemberKind::File(_)) {
                continue;
            }
            if let Some(path) = reading.own(node) {
                let mut reader = package.budget.meter(opened.volume.read(entry).map_err(bad)?);
                visit(&path, &mut reader).map_err(|e| bad(e.into()))?;
            }
        }
        Ok(())
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        let Some(volume) = volume(package, Depth::Listing)? else { return Ok(Vec::new()) };
        let mut findings = hfs_plus::check::check(&volume).map_err(|e| damaged(package, e))?;
        drop(volume);
        let file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
        let image = Image::open(file, udif::read::Limits::default());
        let checked = image.and_then(|i| udif::check::check(&i)).map_err(|e| damaged(package, e))?;
        findings.extend(checked);
        Ok(findings)
    }
}

impl Target for Dmg {
    fn target(&self) -> TargetName {
        TargetName::Dmg
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".dmg"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        bundle::carry(footprint)
    }

    fn is_bundle(&self, _: &Footprint) -> bool {
        true
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = bundle::check(job);
        problems.extend(job.disk_image.check());
        for (what, key, name) in [("volume", "volume-name", volume_name(job)), ("bundle", "name", Bundle::of(job).top)]
        {
            if let Err(e) = hfs_plus::name::stored(&name) {
                let problem = Problem::error(Code::FormatLimit, format!("{name:?} can't be the name of the {what}"))
                    .why(e.to_string());
                problems.push(problem.instead(format!("{key} = \"a shorter name\"")));
            }
        }
        for node in &job.footprint.tree {
            let path = node.path();
            if let Err(e) = hfs_plus::name::stored(path.name()) {
                let problem = Problem::error(Code::FormatLimit, format!("a disk image can't hold {path}"))
                    .about(node)
                    .why(e.to_string());
                problems.push(problem.instead("a shorter name"));
            }
        }
        if problems.is_empty()
            && let Err(e) = lay_out(job)
        {
            problems.push(
                Problem::error(Code::FormatLimit, "the disk image can't be laid out")
                    .why(e.to_string())
                    .instead("other names"),
            );
        }
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write(job, stream, out).map_err(|e| match e {
            hfs_plus::Error::Io(e) => unwritten(e),
            other => unwritten(io::Error::other(other)),
        })
    }
}
