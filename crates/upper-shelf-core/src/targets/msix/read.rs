//! Packages that Windows installs by itself, and bundles of them: what is in them, and which of their rules they break.

use super::manifest::{ID, PROGRAM, STARTS, VERSION};
use super::{bundle, carry, declared, icons, permissions, registry, rules};
use crate::app_manifest::{AppManifest, Application, Extension, NAMESPACES};
use crate::as_installed::AsInstalled;
use crate::budget::Package;
use crate::command_line;
use crate::content::ContentHash;
use crate::footprint::{
    Command, FileType, Font, Footprint, Foreign, Identity, InstallRules, LinkScheme, Node, Permission, Place, Program,
    RelPath, Service, ServiceStart, Shortcut,
};
use crate::platform::Platform;
use crate::problem::Failure;
use crate::targets::read_only::hive_limits;
use crate::targets::{Depth, Visit, damaged};
use crate::xml::Element;
use opc::read::{Limits, Package as Open, Part};
use opc::{BLOCK_MAP, BUNDLE_MANIFEST, CONTENT_TYPES, MANIFEST, SIGNATURE};
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read};

/// The hives of a package.
pub const HIVES: [&str; 3] = [registry::MACHINE.0, registry::USER.0, "UserClasses.dat"];

/// Parts that are no files of the product, in any package.
fn is_of_format(name: &str) -> bool {
    [BLOCK_MAP, CONTENT_TYPES, SIGNATURE].contains(&name)
}

/// Parts that are made here for a package.
pub fn is_made(name: &str) -> bool {
    let is_same = |own: &str| own.eq_ignore_ascii_case(name);
    let folder = name.split('/').next().unwrap_or_default();
    [MANIFEST, BLOCK_MAP, CONTENT_TYPES, SIGNATURE, "resources.pri"].into_iter().any(is_same)
        || HIVES.into_iter().any(is_same)
        || folder.eq_ignore_ascii_case(icons::FOLDER)
        || folder.eq_ignore_ascii_case("AppxMetadata")
}

/// Which parts are listed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Parts {
    /// The product's own files, where that can be told from what was made for the package.
    Own,
    /// All that are installed.
    All,
}

/// See [`crate::targets::Format::read`].
pub fn read(package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
    let Some(open) = open(package)? else { return Ok(None) };
    whole(package, &open, &manifest(package, &open)?, depth, Parts::Own).map(Some)
}

fn whole(
    package: &Package,
    open: &Open<File>,
    manifest: &AppManifest,
    depth: Depth,
    parts: Parts,
) -> Result<Footprint, Failure> {
    let bad = |e: opc::Error| unreadable(package, e);
    let mut nodes = Vec::new();
    for part in listed(open, manifest, parts) {
        let path = path_of(package, part)?;
        package.budget.name(&part.name).map_err(|e| damaged(package, e))?;
        let content = match depth {
            Depth::Listing => None,
            Depth::Contents => {
                let mut hasher = blake3::Hasher::new();
                let mut reader = Exact { inner: open.reader(part).map_err(bad)?, left: part.size };
                let hashed = hasher.update_reader(package.budget.meter(&mut reader));
                hashed.map_err(|e| unreadable(package, e.into()))?;
                Some(ContentHash(*hasher.finalize().as_bytes()))
            }
        };
        nodes.push(Node::File { path, mode: 0o644, size: part.size, content });
    }
    let mut footprint = Footprint { tree: nodes.into_iter().collect(), ..Footprint::default() };
    told(manifest, &mut footprint);
    let is_narrow = footprint.platform == Some(Platform::WindowsX86);
    let mut entries = Vec::new();
    for name in HIVES {
        if let Some(bytes) = open.whole(name).map_err(bad)? {
            let root = registry_hive::read_within(&bytes, hive_limits(package));
            let root = root.map_err(|e| damaged(package, format!("{name}: {e}")))?;
            entries.extend(registry::entries(&root, is_narrow));
        }
    }
    footprint.registry = entries.into_iter().collect();
    Ok(footprint)
}

/// The parts of a package that are files.
fn listed<'o>(open: &'o Open<File>, manifest: &AppManifest, parts: Parts) -> impl Iterator<Item = &'o Part> {
    let only_own = parts == Parts::Own && is_ours(manifest);
    open.parts().iter().filter(move |part| !(is_of_format(&part.name) || only_own && is_made(&part.name)))
}

/// Whether a package was made here.
fn is_ours(manifest: &AppManifest) -> bool {
    manifest.said(ID).is_some()
}

/// See [`crate::targets::Format::files`].
pub fn files(package: &Package, visit: Visit) -> Result<(), Failure> {
    let Some(open) = open(package)? else { return Ok(()) };
    for part in listed(&open, &manifest(package, &open)?, Parts::Own) {
        let reader = open.reader(part).map_err(|e| unreadable(package, e))?;
        let mut reader = Exact { inner: reader, left: part.size };
        let visited = visit(&path_of(package, part)?, &mut package.budget.meter(&mut reader));
        visited.map_err(|e| unreadable(package, e.into()))?;
    }
    Ok(())
}

/// See [`crate::targets::Format::findings`].
pub fn findings(package: &Package) -> Result<Vec<String>, Failure> {
    let Some(open) = open(package)? else { return Ok(Vec::new()) };
    let bad = |e: opc::Error| unreadable(package, e);
    let mut findings = opc::check::check(&open).map_err(bad)?;
    for name in HIVES {
        if let Some(bytes) = open.whole(name).map_err(bad)? {
            let found = registry_hive::check(&bytes).map_err(bad)?;
            findings.extend(found.into_iter().map(|what| format!("{name}: {what}")));
        }
    }
    if let Some(bytes) = open.whole(BUNDLE_MANIFEST).map_err(bad)? {
        findings.extend(bundle::findings(&bytes, &open).map_err(bad)?);
    }
    if let Some(bytes) = open.whole(MANIFEST).map_err(bad)? {
        let bad = |why: String| damaged(package, format!("its manifest: {why}"));
        let root = Element::read(&bytes, NAMESPACES).map_err(bad)?;
        let manifest = AppManifest::of(&root).map_err(bad)?;
        findings.extend(rules::check(&root, is_ours(&manifest)));
        let there: HashSet<String> = open.parts().iter().map(|part| part.name.to_lowercase()).collect();
        let named = named_files(&root);
        findings.extend(
            named
                .into_iter()
                .filter(|file| !there.contains(&file.to_lowercase()))
                .map(|file| format!("the manifest names {file}, which isn't in the package")),
        );
    }
    Ok(findings)
}

/// The files of a package that its manifest names.
fn named_files(root: &Element) -> Vec<String> {
    let mut all = Vec::new();
    let mut left = vec![root];
    while let Some(element) = left.pop() {
        let is_font = element.local() == "Font";
        for (name, value) in &element.attributes {
            let is_file = name == "Executable" || is_font && name == "File";
            // What stands in braces the system fills in.
            if is_file && !value.contains(['{', '[', '$']) {
                all.push(value.replace('\\', "/"));
            }
        }
        left.extend(&element.children);
    }
    all.sort();
    all.dedup();
    all
}

/// The package, if it is one: an archive with a manifest.
fn open(package: &Package) -> Result<Option<Open<File>>, Failure> {
    let mut file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
    let mut begin = [0; 4];
    if file.read_exact(&mut begin).is_err() || begin != *b"PK\x03\x04" {
        return Ok(None);
    }
    let limits = Limits { parts: package.budget.most_names(), metadata: package.budget.metadata_left() };
    // Another archive is another format's to speak of.
    let Ok(open) = Open::open(file, limits) else { return Ok(None) };
    let is_package = [MANIFEST, BUNDLE_MANIFEST].iter().any(|name| open.find(name).is_some());
    Ok(Some(open).filter(|open| is_package && open.find(BLOCK_MAP).is_some()))
}

/// What a package says of itself.
fn manifest(package: &Package, open: &Open<File>) -> Result<AppManifest, Failure> {
    let whole = |name: &str| open.whole(name).map_err(|e| unreadable(package, e));
    let bytes = match whole(MANIFEST)? {
        Some(bytes) => bytes,
        None => whole(BUNDLE_MANIFEST)?.unwrap_or_default(),
    };
    AppManifest::read(&bytes).map_err(|why| damaged(package, format!("its manifest: {why}")))
}

/// Where files and values are seen once a package is installed; nothing for another file, or for a bundle, which is never
/// installed itself.
pub fn as_installed(package: &Package) -> Result<Option<AsInstalled>, Failure> {
    let Some(open) = open(package)?.filter(|open| open.find(MANIFEST).is_some()) else { return Ok(None) };
    let manifest = manifest(package, &open)?;
    let footprint = whole(package, &open, &manifest, Depth::Listing, Parts::All)?;
    Ok(Some(AsInstalled::of(&manifest, &footprint)))
}

/// What the package says of itself, for the page beside it.
///
/// # Errors
/// It can't be read.
pub fn manifest_of(package: &Package) -> Result<Option<AppManifest>, Failure> {
    open(package)?.map(|open| manifest(package, &open)).transpose()
}

fn path_of(package: &Package, part: &Part) -> Result<RelPath, Failure> {
    RelPath::new(part.name.as_str()).map_err(|why| damaged(package, format!("the name {:?} {why}", part.name)))
}

fn unreadable(package: &Package, e: opc::Error) -> Failure {
    match e {
        opc::Error::Io(e) if e.raw_os_error().is_some() => Failure::io("can't read", package, e),
        other => damaged(package, other),
    }
}

/// A part that has to have as many bytes as it says.
struct Exact<R> {
    inner: R,
    left: u64,
}

impl<R: Read> Read for Exact<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        if n == 0 && self.left > 0 && !buffer.is_empty() {
            return Err(io::Error::other("a part is shorter than it is said to be"));
        }
        self.left = self.left.saturating_sub(n as u64);
        Ok(n)
    }
}

/// What the manifest says.
fn told(manifest: &AppManifest, footprint: &mut Footprint) {
    let said = |name: &str, own: &str| Some(manifest.said(name).unwrap_or(own).to_owned()).filter(|s| !s.is_empty());
    footprint.product = Identity {
        id: said(ID, &manifest.name),
        name: manifest.title.clone(),
        version: said(VERSION, &manifest.version),
        publisher: manifest.publisher_title.clone(),
        summary: manifest.description.clone().map(Into::into),
        ..Identity::default()
    };
    footprint.platform = match manifest.processor.as_deref() {
        Some("x64") => Some(Platform::WindowsX64),
        Some("x86") => Some(Platform::WindowsX86),
        Some("arm64") => Some(Platform::WindowsArm64),
        _ => None,
    };
    let mut found = Found::default();
    for application in &manifest.applications {
        let own = manifest.said(&format!("{PROGRAM}{}", application.id));
        let key = own.map_or_else(|| application.id.to_lowercase(), str::to_owned);
        application_told(application, &key, &mut found);
    }
    let Found { programs, shortcuts, file_types, link_schemes, commands, services, fonts } = found;
    (footprint.programs, footprint.shortcuts) = (programs.into(), shortcuts.into());
    (footprint.file_types, footprint.link_schemes) = (file_types.into(), link_schemes.into());
    (footprint.commands, footprint.services, footprint.fonts) = (commands.into(), services.into(), fonts.into());
    let of_desktop = manifest.systems.iter().find(|[name, ..]| name == "Windows.Desktop");
    let oldest = of_desktop.and_then(|[_, oldest, _]| oldest.rsplit_once('.')?.0.parse().ok());
    footprint.install = InstallRules { minimum_windows: oldest, ..InstallRules::default() };
    let wanted = manifest.capabilities.iter().filter_map(|name| permissions::access(name));
    footprint.permissions = wanted.map(|access| Permission { access, reason: None }).collect();
    let capabilities = manifest.capabilities.iter().cloned();
    let capabilities = if is_ours(manifest) { declared::further(capabilities) } else { capabilities.collect() };
    footprint.foreign = declared::told(capabilities, manifest.dependencies.clone());
    if is_ours(manifest) {
        return;
    }
    let mut said = vec![("publisher", manifest.publisher.clone())];
    let systems = manifest.systems.iter();
    let systems = systems.map(|[name, oldest, tested]| format!("{name} from {oldest}, tested up to {tested}"));
    said.push(("system", systems.collect::<Vec<_>>().join("; ")));
    said.push(("packages", manifest.packages.join(", ")));
    said.retain(|(_, text)| !text.is_empty());
    let said = said.into_iter().map(|(about, text)| Foreign::Said { about: about.into(), text });
    footprint.foreign = footprint.foreign.iter().cloned().chain(said).collect();
}

/// What applications are for the system, put into order once: a manifest may have very many.
#[derive(Default)]
struct Found {
    programs: Vec<Program>,
    shortcuts: Vec<Shortcut>,
    file_types: Vec<FileType>,
    link_schemes: Vec<LinkScheme>,
    commands: Vec<Command>,
    services: Vec<Service>,
    fonts: Vec<Font>,
}

/// What the manifest says of something that is started.
fn application_told(application: &Application, key: &str, found: &mut Found) {
    let Some(file) = application.executable.clone().and_then(|file| RelPath::new(file).ok()) else { return };
    found.programs.push(Program { console: application.console, ..Program::plain(key, file) });
    let title = application.title.clone().unwrap_or_default();
    let shortcut = |place: Place, name: &str| Shortcut {
        place,
        name: name.into(),
        program: key.to_owned(),
        arguments: Vec::new(),
        description: None,
    };
    if application.is_listed {
        let description = application.description.clone().map(Into::into);
        found.shortcuts.push(Shortcut { description, ..shortcut(Place::Menu, &title) });
    }
    for extension in &application.extensions {
        let program = key.to_owned();
        match extension {
            Extension::FileType { title, endings } => {
                let bare = |ending: &String| ending.trim_start_matches('.').to_owned();
                let extensions: Vec<String> = endings.iter().map(|(ending, _)| bare(ending)).collect();
                let Some(first) = extensions.first().cloned() else { continue };
                let mime = endings.iter().find_map(|(_, mime)| mime.clone());
                let mime = mime.unwrap_or_else(|| format!("application/x-{first}"));
                let name = title.clone().unwrap_or(first).into();
                found.file_types.push(FileType { mime, extensions, name, program });
            }
            Extension::Scheme(scheme) => {
                found.link_schemes.push(LinkScheme { scheme: scheme.clone(), program });
            }
            Extension::Startup(title) => found.shortcuts.push(shortcut(Place::Startup, title)),
            Extension::Aliases(names) => {
                let bare = |name: &String| name.strip_suffix(".exe").unwrap_or(name).to_owned();
                found.commands.extend(names.iter().map(|name| Command { name: bare(name), program: key.to_owned() }));
            }
            Extension::Shortcut { file, arguments, description } => {
                let name = file.rsplit('\\').next().unwrap_or_default();
                let name = name.strip_suffix(".lnk").unwrap_or(name);
                let arguments = command_line::arguments(arguments);
                let description = description.clone().map(Into::into);
                found.shortcuts.push(Shortcut { arguments, description, ..shortcut(Place::Desktop, name) });
            }
            Extension::Service { name, start, account, arguments } => {
                let start = STARTS.iter().find(|(one, _)| one == start).map_or(ServiceStart::OnDemand, |(_, own)| *own);
                let own = carry::ACCOUNTS.iter().find(|(one, _)| one == account);
                found.services.push(Service {
                    name: name.clone(),
                    title: name.clone(),
                    description: None,
                    program,
                    arguments: command_line::arguments(arguments),
                    start,
                    account: own.and_then(|(_, own)| *own).map(str::to_owned),
                });
            }
            Extension::Fonts(files) => {
                let files = files.iter().filter_map(|file| RelPath::new(file.as_str()).ok());
                found.fonts.extend(files.map(|file| Font { title: file.name().to_owned(), file }));
            }
        }
    }
}
