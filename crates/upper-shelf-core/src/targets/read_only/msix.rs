//! Packages that Windows installs by itself (MSIX), and bundles of them: what is in them, and which of their rules they break.

use super::super::{Depth, Format, Visit, damaged};
use super::hive;
use crate::app_manifest::AppManifest;
use crate::as_installed::AsInstalled;
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Foreign, Identity, Node, Program, RelPath};
use crate::platform::{Platform, System};
use crate::problem::Failure;
use opc::read::{Limits, Package as Open, Part};
use opc::{BLOCK_MAP, BUNDLE_MANIFEST, CONTENT_TYPES, MANIFEST, SIGNATURE};
use std::fs::File;
use std::io::{self, Read};

/// Packages for Windows' own installer.
pub struct Msix;

/// The hives of a package.
const HIVES: [&str; 3] = ["Registry.dat", "User.dat", "UserClasses.dat"];

/// Parts that are no files of the product.
fn is_own(name: &str) -> bool {
    [BLOCK_MAP, CONTENT_TYPES, SIGNATURE].contains(&name)
}

impl Format for Msix {
    fn name(&self) -> &'static str {
        "msix"
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn slashes_only(&self) -> bool {
        true
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(open) = open(package)? else { return Ok(None) };
        let bad = |e: opc::Error| unreadable(package, e);
        let mut nodes = Vec::new();
        for part in open.parts().iter().filter(|part| !is_own(&part.name)) {
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
        told(&manifest(package, &open)?, &mut footprint);
        let mut registry = Vec::new();
        for name in HIVES {
            if let Some(bytes) = open.whole(name).map_err(bad)? {
                let root = registry_hive::read_within(&bytes, hive::limits(package));
                registry.extend(hive::entries(&root.map_err(|e| damaged(package, format!("{name}: {e}")))?));
            }
        }
        footprint.registry = registry.into_iter().collect();
        Ok(Some(footprint))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let Some(open) = open(package)? else { return Ok(()) };
        for part in open.parts().iter().filter(|part| !is_own(&part.name)) {
            let reader = open.reader(part).map_err(|e| unreadable(package, e))?;
            let mut reader = Exact { inner: reader, left: part.size };
            let visited = visit(&path_of(package, part)?, &mut package.budget.meter(&mut reader));
            visited.map_err(|e| unreadable(package, e.into()))?;
        }
        Ok(())
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        let Some(open) = open(package)? else { return Ok(Vec::new()) };
        let bad = |e: opc::Error| unreadable(package, e);
        let mut findings = opc::check::check(&open).map_err(bad)?;
        for name in HIVES {
            if let Some(bytes) = open.whole(name).map_err(bad)? {
                let found = registry_hive::check(&bytes).map_err(bad)?;
                findings.extend(found.into_iter().map(|what| format!("{name}: {what}")));
            }
        }
        Ok(findings)
    }
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
    let footprint = Msix.read(package, Depth::Listing)?.unwrap_or_default();
    Ok(Some(AsInstalled::of(&manifest, &footprint)))
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
    footprint.product = Identity {
        id: Some(manifest.name.clone()),
        name: manifest.title.clone(),
        version: Some(manifest.version.clone()),
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
    let programs = manifest.applications.iter().filter_map(|app| {
        let file = RelPath::new(app.executable.clone()?).ok()?;
        Some(Program::plain(app.id.to_lowercase(), file))
    });
    footprint.programs = programs.collect();
    let mut said = vec![("publisher", manifest.publisher.clone())];
    if !manifest.capabilities.is_empty() {
        said.push(("capabilities", manifest.capabilities.join(", ")));
    }
    for [name, smallest, tested] in &manifest.systems {
        said.push(("system", format!("{name} from {smallest}, tested up to {tested}")));
    }
    said.extend(manifest.dependencies.iter().map(|name| ("needs", name.clone())));
    said.extend(manifest.packages.iter().map(|name| ("package", name.clone())));
    footprint.foreign = said.into_iter().map(|(about, text)| Foreign::Said { about: about.into(), text }).collect();
}
