//! The package formats: each is a way from a footprint to a file and back. A target reads the footprint, never the
//! manifest; what its format can't hold it names as a loss.

pub mod appimage;
pub mod bundle;
mod classes;
pub mod dmg;
mod launcher;
mod linux_desktop;
pub mod msi;
mod msix;
pub mod nsis;
mod order;
pub mod plain;
mod read_only;

use crate::app_manifest::AppManifest;
use crate::as_installed::AsInstalled;
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{
    Access, Choice, FileType, Footprint, Foreign, Item, List, Node, Program, RegistryRoot, RelPath, Scope, Shortcut,
    Text, Trace,
};
use crate::icons::Icon;
use crate::payload::PayloadFile;
use crate::payload::feed::Stream;
use crate::platform::System;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{AppInstaller, DiskImage, Settings, TargetName};
use crate::signing::Signer;
use serde::Serialize;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// Something of the footprint that a format can't hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Loss {
    /// What is lost.
    pub what: String,
    /// Why, and what happens instead.
    pub why: String,
}

/// Something that a package is known by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Fact {
    /// What it is.
    pub what: &'static str,
    /// The very text.
    pub text: String,
}

/// What the bundle that is made of a product has besides the product's own files.
#[derive(Debug, Clone, Default)]
pub struct Sealed {
    /// Its seal.
    pub seal: Vec<u8>,
    /// The launcher, signed, if it has one.
    pub launcher: Option<Vec<u8>>,
}

/// What a package is written from.
#[derive(Clone, Copy)]
pub struct Job<'j> {
    /// What the package carries (see [`Target::carry`]), without hashes of files.
    pub footprint: &'j Footprint,
    /// The files that the package holds, in the order of the stream.
    pub files: &'j [PayloadFile],
    /// The picture.
    pub icon: &'j Icon,
    /// The window of disk images.
    pub disk_image: &'j DiskImage,
    /// The wizard, for formats that have one.
    pub wizard: &'j crate::wizard::Wizard,
    /// Seconds since 1970 that everything inside bears.
    pub time: u32,
    /// The package's name without its ending.
    pub file_name: &'j str,
    /// What only one format has.
    pub settings: &'j Settings,
    /// The product's key, for what has to be signed before it is packed.
    pub signer: Option<&'j Signer>,
    /// What seals the application bundle that is made of the product.
    pub sealed: Option<&'j Sealed>,
    /// Threads that pack.
    pub threads: usize,
    /// Makes a file that belongs beside the package; it gets its name together with the package.
    pub sidecar: &'j (dyn Fn(&str) -> Result<File, Failure> + Sync),
}

/// How far a package is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Names, sizes and modes.
    Listing,
    /// Every byte, for the hashes.
    Contents,
}

/// Takes a file's bytes, with its path in the footprint; an error of its own ends the reading.
pub type Visit<'v> = &'v mut dyn FnMut(&RelPath, &mut dyn Read) -> io::Result<()>;

/// A format that packages are read in.
pub trait Format: Sync {
    /// What it is called: its name in manifests, if it is built too.
    fn name(&self) -> &'static str;

    /// The systems that its files are put onto, whose rules for names they have to keep; none if that may be any.
    fn systems(&self) -> &'static [System] {
        &[]
    }

    /// Whether a backslash is no part of a name: a format that has it for a separator, or forbids it.
    fn slashes_only(&self) -> bool {
        false
    }

    /// Reads a package; `None` if it is of another format.
    ///
    /// # Errors
    /// [`Kind::Package`] when it is damaged; [`Kind::Machine`] when it can't be read.
    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure>;

    /// Hands the bytes of each file that [`read`](Self::read) lists to `visit`, in the package's own order.
    ///
    /// # Errors
    /// As [`read`](Self::read); the visitor's errors come out as damage.
    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure>;

    /// What is wrong with a package of this format though it can be read: rules that systems insist on and readers let
    /// pass. A package that is built here has none.
    ///
    /// # Errors
    /// As [`read`](Self::read).
    fn findings(&self, _package: &Package) -> Result<Vec<String>, Failure> {
        Ok(Vec::new())
    }
}

/// A format that packages are built in.
pub trait Target: Format {
    /// Its name in manifests.
    fn target(&self) -> TargetName;

    /// The end of its files' names, with the dot.
    fn extension(&self, settings: &Settings) -> &'static str;

    /// What of a footprint it carries, and what not.
    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>);

    /// Whether the package makes an application bundle of the product, or holds one that came finished.
    fn is_bundle(&self, _carried: &Footprint) -> bool {
        false
    }

    /// What a package is known by once it is installed, where that is known before.
    fn facts(&self, _job: &Job) -> Vec<Fact> {
        Vec::new()
    }

    /// What a package declares by its settings alone, as footprints show it.
    fn declared(&self, _settings: &Settings) -> List<Foreign> {
        List::default()
    }

    /// What can be known to fail before anything is packed.
    fn check(&self, job: &Job) -> Vec<Problem>;

    /// Signs the programs that the format itself brings, with the job's key, as [`write`](Self::write) will once more: a
    /// signature that has to come from elsewhere is asked for early.
    ///
    /// # Errors
    /// The key or the clock fail; or the signature is not there yet.
    fn sign_own_programs(&self, _job: &Job) -> Result<(), Failure> {
        Ok(())
    }

    /// Writes the package into an empty file.
    ///
    /// # Errors
    /// Trouble with the disk, or with the feed.
    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure>;

    /// A page that lies beside a finished package: the end of its name, and its text.
    ///
    /// # Errors
    /// As [`read`](Format::read).
    fn page(
        &self,
        _package: &Path,
        _name: &str,
        _footprint: &Footprint,
    ) -> Result<Option<(&'static str, String)>, Failure> {
        Ok(None)
    }
}

/// Every format that is built.
pub static TARGETS: [&dyn Target; 8] = [
    &appimage::AppImage,
    // It is an archive, and more than that: asked before archives are.
    &msix::Msix,
    &plain::Zip,
    &plain::Tar,
    &msi::Msi,
    &nsis::Nsis,
    &nsis::Portable,
    &dmg::Dmg,
];

/// What is only read: asked when a file is of no format that is built.
static READ_ONLY: [&dyn Format; 3] = [&read_only::Cabinet, &read_only::Hive, &read_only::Program];

/// The target with a name.
///
/// # Panics
/// If [`TARGETS`] lacks it.
pub fn target(name: TargetName) -> &'static dyn Target {
    *TARGETS.iter().find(|t| t.target() == name).expect("every name has its target")
}

/// Reads a package of any known format, which may take so many times the usual limits; gives its format too.
///
/// # Errors
/// [`Kind::Package`] when it is of no known format or damaged.
pub fn read(package: &Path, depth: Depth, limit: u64) -> Result<(&'static dyn Format, Footprint), Failure> {
    // A pipe would be waited on for ever.
    if let Err(e) = crate::input::is_file(package) {
        let kind = if e.kind() == io::ErrorKind::InvalidInput { Kind::Package } else { Kind::Machine };
        return Err(Failure { kind, ..Failure::io("can't read", package, e) });
    }
    for format in TARGETS.iter().map(|t| *t as &dyn Format).chain(READ_ONLY) {
        // Each format that looks at it begins anew.
        if let Some(footprint) = format.read(&Package::new(package, limit), depth)? {
            return Ok((format, footprint));
        }
    }
    let problem = Problem::error(Code::NotAPackage, format!("{} isn't a package of a known format", package.display()))
        .on(package);
    Err(Failure::new(
        Kind::Package,
        problem.instead(
            "an AppImage, an MSI, an MSIX package, a setup program (NSIS), a disk image (UDIF), a ZIP archive, a tar archive (plain, \
             gzip, zstd, xz), a cabinet, a registry hive, or a program for Windows",
        ),
    ))
}

/// Where the files and values of a package are seen once it is installed; nothing for a format that installs them where it
/// says. The package may take so many times the usual limits.
///
/// # Errors
/// As [`read`].
pub fn as_installed(package: &Path, limit: u64) -> Result<Option<AsInstalled>, Failure> {
    msix::as_installed(&Package::new(package, limit))
}

/// Writes a bundle of packages that Windows installs by itself.
///
/// # Errors
/// They can't be read, or the medium's.
pub(crate) fn write_bundle(
    packages: &[std::path::PathBuf],
    languages: &[String],
    threads: usize,
    out: File,
) -> Result<AppManifest, Failure> {
    msix::bundle::write(packages, languages, threads, out)
}

/// The system's own file for updates of a bundle: its name and its bytes.
pub(crate) fn app_installer_of_bundle(
    bundle: &AppManifest,
    file: &str,
    stem: &str,
    settings: &AppInstaller,
) -> (String, Vec<u8>) {
    msix::app_installer::of_bundle(bundle, file, stem, settings)
}

/// The capability by which a package that Windows installs by itself declares something, if there is one.
pub(crate) fn capability(access: Access) -> Option<&'static str> {
    msix::permissions::capability(access).map(|own| own.name)
}

/// What a format loses of some items, each with its own sentence.
fn lose<T: Item + Clone + Into<Trace>>(losses: &mut Vec<Loss>, items: &[T], why: &str) {
    losses.extend(items.iter().cloned().map(|item| left_out(item, why)));
}

/// The loss of one item.
fn left_out(item: impl Into<Trace>, why: &str) -> Loss {
    let trace: Trace = item.into();
    Loss { what: format!("the {} {trace} is left out", trace.kind()), why: why.into() }
}

/// What a format for Linux loses: what only Windows or macOS has.
fn not_on_linux(footprint: &Footprint) -> Vec<Loss> {
    let Footprint {
        registry,
        services,
        fonts,
        choices,
        install,
        bundle,
        // What every format has a word of its own on.
        product: _,
        platform: _,
        tree: _,
        programs: _,
        shortcuts: _,
        file_types: _,
        link_schemes: _,
        environment: _,
        commands: _,
        shell_files: _,
        icons: _,
        permissions: _,
        foreign: _,
    } = footprint;
    let mut losses = Vec::new();
    lose(&mut losses, registry, "Linux has no registry");
    lose(&mut losses, services, "on Linux, services are set up by an administrator");
    lose(&mut losses, fonts, "it stays a file of the product; other programs don't see it");
    lose(&mut losses, choices, "all files are there: nothing is chosen");
    lose(&mut losses, &install.rules(), "it is a rule for installing on Windows");
    lose(&mut losses, &bundle.rules(), "it is a rule for application bundles of macOS");
    losses
}

/// The same with texts in one language, for a format that has no place for more; choices may keep theirs.
fn in_one_language<'f>(footprint: &'f Footprint, why: &str, keeps_choices: bool) -> (Cow<'f, Footprint>, Vec<Loss>) {
    let kept = if keeps_choices { &[] } else { &footprint.choices[..] };
    let mut texts: Vec<&Text> = footprint.product.summary.iter().collect();
    texts.extend(footprint.shortcuts.iter().flat_map(|s| [&s.name].into_iter().chain(&s.description)));
    texts.extend(footprint.file_types.iter().map(|t| &t.name));
    texts.extend(kept.iter().flat_map(|c| [&c.title].into_iter().chain(&c.description)));
    let languages: BTreeSet<&str> = texts.iter().flat_map(|t| t.others().keys()).map(String::as_str).collect();
    if languages.is_empty() {
        return (Cow::Borrowed(footprint), Vec::new());
    }
    let all: Vec<&str> = languages.into_iter().collect();
    let loss = Loss { what: format!("texts in {} are left out", all.join(", ")), why: why.into() };
    let plain = |text: &Text| Text::from(text.as_str());
    let mut one = footprint.clone();
    one.product.summary = footprint.product.summary.as_ref().map(plain);
    one.shortcuts = footprint.shortcuts.filter_map(|shortcut| {
        let description = shortcut.description.as_ref().map(plain);
        Some(Shortcut { name: plain(&shortcut.name), description, ..shortcut.clone() })
    });
    one.file_types = footprint.file_types.filter_map(|kind| Some(FileType { name: plain(&kind.name), ..kind.clone() }));
    if !keeps_choices {
        one.choices = footprint.choices.filter_map(|choice| {
            let description = choice.description.as_ref().map(plain);
            Some(Choice { title: plain(&choice.title), description, ..choice.clone() })
        });
    }
    (Cow::Owned(one), vec![loss])
}

/// A tree for a format that has no hard links: each further name becomes a file of its own, and `said` hears of it.
fn without_hard_links(tree: &List<Node>, mut said: impl FnMut(&RelPath, &RelPath)) -> List<Node> {
    let file = |node| match node {
        &Node::File { ref path, mode, size, content } => Some((path, (mode, size, content))),
        Node::Folder { .. } | Node::HardLink { .. } | Node::Link { .. } => None,
    };
    let files: HashMap<&RelPath, (u32, u64, Option<ContentHash>)> = tree.iter().filter_map(file).collect();
    tree.filter_map(|node| match node {
        Node::HardLink { path, to } => {
            let &(mode, size, content) = files.get(to)?;
            said(path, to);
            Some(Node::File { path: path.clone(), mode, size, content })
        }
        Node::Folder { .. } | Node::File { .. } | Node::Link { .. } => Some(node.clone()),
    })
}

/// What of a product for one user only an administrator could install on Windows.
fn not_for_one_person(footprint: &Footprint) -> Vec<Problem> {
    // Where people may choose, one of them may choose to have it alone.
    if footprint.install.scope() == Scope::Machine {
        return Vec::new();
    }
    let needed = |needs: &str, trace: Trace| {
        let problem =
            Problem::error(Code::NeedsAdministrator, format!("{needs} can't be installed for one user: {trace}"));
        problem.why("only an administrator can install it").instead("[install] scope = \"machine\"")
    };
    let of_machine = footprint.registry.iter().filter(|e| e.root == RegistryRoot::Machine);
    let entries = of_machine.map(|e| needed("a registry value of the machine", e.clone().into()).about(e));
    entries.chain(footprint.services.iter().map(|s| needed("a service", s.clone().into()).about(s))).collect()
}

/// A failure about a damaged package.
pub(crate) fn damaged(package: &Path, why: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> Failure {
    let why = why.into();
    let problem = Problem::error(Code::DamagedPackage, format!("{} is damaged", package.display())).on(package);
    Failure::new(Kind::Package, problem.why(why.to_string())).caused_by(why)
}

/// A failure about a package that may be whole, but is made in a way that is not known here.
pub(crate) fn unsupported(package: &Path, why: impl Into<String>) -> Failure {
    let problem = Problem::error(
        Code::UnsupportedPackage,
        format!("{} is packed in a way that isn't supported", package.display()),
    );
    Failure::new(Kind::Package, problem.on(package).why(why))
}

/// A failure about a package that can't be written.
pub(crate) fn unwritten(e: std::io::Error) -> Failure {
    use std::io::ErrorKind as K;
    let (code, why, instead) = match e.kind() {
        K::StorageFull => (
            Code::DiskFull,
            "there is no space left on the disk".to_owned(),
            "free some space, or choose another output folder",
        ),
        K::FileTooLarge | K::QuotaExceeded => {
            (Code::DiskFull, e.to_string(), "raise the limit, or choose another output folder")
        }
        _ => (Code::InputOutput, e.to_string(), "check the output folder and its disk"),
    };
    let problem = Problem::error(code, "the package can't be written").why(why).instead(instead);
    Failure::new(Kind::Machine, problem).caused_by(e)
}

/// Whether a file may be started; `None` if it is not there.
pub(crate) fn executable(footprint: &Footprint, wanted: &RelPath) -> Option<bool> {
    footprint.tree.iter().find(|node| node.path() == wanted).and_then(|node| match node {
        Node::File { mode, .. } => Some(mode & 0o111 != 0),
        Node::Link { .. } | Node::HardLink { .. } => Some(true),
        Node::Folder { .. } => None,
    })
}

/// Programs whose file may not be started.
pub(crate) fn not_executable(footprint: &Footprint) -> Vec<Problem> {
    let off = footprint.programs.iter().filter(|p| executable(footprint, &p.file) == Some(false));
    off.map(|program| {
        let Program { key, file, .. } = program;
        let problem = Problem::error(
            Code::NotExecutable,
            format!("the program {key:?} can't be started: {file} isn't executable"),
        );
        let problem = problem.about_key(program, "file").why("its mode lacks the executable bit");
        problem.instead(format!("chmod +x the file {file} where it is built"))
    })
    .collect()
}
