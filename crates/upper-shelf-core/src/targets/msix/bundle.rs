//! Bundles: packages of one product for several processors in one file, of which the system installs the one that fits.
//!
//! Source: Microsoft's published schema of bundle manifests, version 2013.

use super::read;
use crate::app_manifest::AppManifest;
use crate::budget::Package;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::targets::unwritten;
use crate::xml::{Element, Namespaces};
use opc::BUNDLE_MANIFEST;
use opc::write::{Options, Writer};
use std::fs::File;
use std::io::{BufWriter, Read};
use std::path::{Path, PathBuf};

const NAMESPACES: &Namespaces = &[("", "http://schemas.microsoft.com/appx/2013/bundle")];

/// Writes a bundle of finished packages, and gives what they say of the product.
///
/// # Errors
/// A package can't be read, or is of another product; the medium's.
pub fn write(packages: &[PathBuf], languages: &[String], threads: usize, out: File) -> Result<AppManifest, Failure> {
    let trouble = |e: opc::Error| match e {
        opc::Error::Io(e) => unwritten(e),
        other => {
            let problem = Problem::error(Code::FormatLimit, "the bundle can't be written");
            Failure::new(Kind::Problems, problem.why(other.to_string()))
        }
    };
    let options = Options { threads, signed: true, ..Options::default() };
    let mut writer = Writer::new(BufWriter::with_capacity(1 << 18, out), options).map_err(trouble)?;
    let mut first: Option<AppManifest> = None;
    let mut entries = Vec::new();
    for path in packages {
        let own = read::manifest_of(&Package::of_ours(path))?.unwrap_or_default();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let io = |e: std::io::Error| Failure::io("can't read", path, e);
        let mut file = File::open(path).map_err(io)?;
        let size = file.metadata().map_err(io)?.len();
        // Packed already; and the system reads packages where they lie.
        writer.part(&name, size, true).map_err(trouble)?;
        let offset = writer.position().map_err(trouble)?;
        let mut buffer = vec![0; 1 << 18];
        loop {
            let n = file.read(&mut buffer).map_err(io)?;
            if n == 0 {
                break;
            }
            writer.data(&buffer[..n]).map_err(trouble)?;
        }
        let resources = languages.iter().map(|language| Element::new("Resource").with("Language", language.as_str()));
        entries.push(
            Element::new("Package")
                .with("Type", "application")
                .with("Version", own.version.as_str())
                .with("Architecture", own.processor.clone().unwrap_or_else(|| "neutral".into()))
                .with("FileName", name)
                .with("Offset", offset.to_string())
                .with("Size", size.to_string())
                .holding(Element { children: resources.collect(), ..Element::new("Resources") }),
        );
        let is_same = |first: &AppManifest| (&first.name, &first.publisher) == (&own.name, &own.publisher);
        if first.as_ref().is_some_and(|first| !is_same(first)) {
            return Err(of_another(path));
        }
        first.get_or_insert(own);
    }
    let first = first.unwrap_or_default();
    let identity = Element::new("Identity")
        .with("Name", first.name.as_str())
        .with("Publisher", first.publisher.as_str())
        .with("Version", first.version.as_str());
    let manifest = Element::new("Bundle")
        .with("SchemaVersion", "3.0")
        .holding(identity)
        .holding(Element { children: entries, ..Element::new("Packages") })
        .write(NAMESPACES);
    writer.part(BUNDLE_MANIFEST, manifest.len() as u64, false).map_err(trouble)?;
    writer.data(&manifest).map_err(trouble)?;
    let out = writer.finish().map_err(trouble)?;
    out.into_inner().map_err(|e| unwritten(e.into_error()))?;
    Ok(first)
}

fn of_another(path: &Path) -> Failure {
    let problem = Problem::error(Code::Internal, format!("{} is of another product", path.display())).on(path);
    Failure::new(Kind::Machine, problem)
}
