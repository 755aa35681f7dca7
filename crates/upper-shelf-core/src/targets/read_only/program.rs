//! A program or library for Windows that is no package: what it says of itself.

use super::super::{Depth, Format, Visit, damaged};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{self, Footprint, Foreign, Identity, Node};
use crate::platform::{Platform, System};
use crate::problem::Failure;
use crate::recognise::{FileKind, recognise};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read};

/// Larger programs are listed, and not looked into.
const MOST: u64 = 256 << 20;

/// Programs and libraries for Windows (PE).
pub struct Program;

impl Format for Program {
    fn name(&self) -> &'static str {
        "program"
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let (platform, console, starts) = match recognise(package) {
            Some(FileKind::PeProgram(platform, console)) => (Some(platform), console, true),
            Some(FileKind::PeLibrary) => (None, false, false),
            _ => return Ok(None),
        };
        let io = |e: io::Error| Failure::io("can't read", package, e);
        let path = super::own_path(package)?;
        let size = package.metadata().map_err(io)?.len();
        let content = match depth {
            Depth::Listing => None,
            Depth::Contents => {
                let mut hasher = blake3::Hasher::new();
                hasher.update_reader(File::open(package).map_err(io)?).map_err(io)?;
                Some(ContentHash(*hasher.finalize().as_bytes()))
            }
        };
        let tree = vec![Node::File { path: path.clone(), mode: 0o755, size, content }].into();
        let program = footprint::Program { console, ..footprint::Program::plain(key(path.name()), path) };
        let programs = Some(program).filter(|_| starts).into_iter().collect();
        let told = if size > MOST {
            Told { platform, ..Told::default() }
        } else {
            let mut bytes = Vec::new();
            File::open(package).and_then(|f| f.take(MOST).read_to_end(&mut bytes)).map_err(io)?;
            told(&bytes, platform).map_err(|e| damaged(package, e))?
        };
        let Told { identity: product, platform, more } = told;
        let said = |(about, text): (&str, String)| Foreign::Said { about: about.into(), text };
        let foreign = more.into_iter().map(said).collect();
        Ok(Some(Footprint { product, platform, tree, programs, foreign, ..Footprint::default() }))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let io = |e: io::Error| Failure::io("can't read", package, e);
        visit(&super::own_path(package)?, &mut File::open(package).map_err(io)?).map_err(io)
    }
}

fn key(name: &str) -> String {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_lowercase();
    stem.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect()
}

/// What the headers and the version information say.
#[derive(Default)]
struct Told {
    identity: Identity,
    platform: Option<Platform>,
    /// What else is to be known.
    more: Vec<(&'static str, String)>,
}

fn told(bytes: &[u8], platform: Option<Platform>) -> Result<Told, String> {
    let image = pe_image::Image::parse(bytes).map_err(|e| e.to_string())?;
    let platform = platform.or(match image.machine() {
        0x8664 => Some(Platform::WindowsX64),
        0x14C => Some(Platform::WindowsX86),
        0xAA64 => Some(Platform::WindowsArm64),
        _ => None,
    });
    let resources = image.resources().map_err(|e| e.to_string())?;
    let version = pe_image::Version::read(&resources).map_err(|e| e.to_string())?.unwrap_or_default();
    let text = |key: &str| version.texts.get(key).map(|t| t.trim().to_owned()).filter(|t| !t.is_empty());
    let identity = Identity {
        name: text("ProductName"),
        version: text("ProductVersion").or_else(|| text("FileVersion")),
        publisher: text("CompanyName"),
        summary: text("FileDescription").map(Into::into),
        ..Identity::default()
    };
    let mut more = vec![("signature", if image.is_signed() { "present; not checked" } else { "none" }.into())];
    more.extend(text("LegalCopyright").map(|t| ("copyright", t)));
    let mut libraries: BTreeSet<String> = BTreeSet::new();
    use object::Object;
    let file = object::File::parse(bytes);
    for import in file.iter().filter_map(|f| f.imports().ok()).flatten().flatten() {
        libraries.insert(String::from_utf8_lossy(import.library()).into_owned());
    }
    if !libraries.is_empty() {
        more.push(("libraries", libraries.into_iter().collect::<Vec<_>>().join(", ")));
    }
    Ok(Told { identity, platform, more })
}
