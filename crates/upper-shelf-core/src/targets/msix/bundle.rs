//! Bundles: packages of one product for several processors in one file, of which the system installs the one that fits.
//!
//! Source: Microsoft's published schema of bundle manifests, version 2013.

use super::{read, rules};
use crate::app_manifest::AppManifest;
use crate::budget::Package;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::targets::unwritten;
use crate::xml::{Element, Namespaces};
use opc::BUNDLE_MANIFEST;
use opc::read::{Package as Open, Part};
use opc::write::{Options, Writer};
use std::collections::HashMap;
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

/// Which rules the manifest of a bundle breaks, and where it doesn't say where its packages are.
///
/// # Errors
/// The bundle can't be read.
pub fn findings(bytes: &[u8], open: &Open<File>) -> opc::Result<Vec<String>> {
    let root = match Element::read(bytes, NAMESPACES) {
        Ok(root) => root,
        Err(why) => return Ok(vec![format!("the bundle's manifest: {why}")]),
    };
    let mut found = rules::check(&root, false);
    let there: HashMap<String, &Part> = open.parts().iter().map(|part| (part.name.to_lowercase(), part)).collect();
    for package in root.all("Packages").flat_map(|list| list.all("Package")) {
        let name = package.get("FileName").unwrap_or_default();
        let Some(part) = there.get(&name.to_lowercase()) else {
            found.push(format!("the bundle's manifest names {name}, which isn't in it"));
            continue;
        };
        let number = |name: &str| package.get(name).and_then(|text| text.parse::<u64>().ok());
        if number("Offset") != Some(open.data_at(part)?) {
            found.push(format!("{name} doesn't begin where the bundle's manifest says"));
        }
        if number("Size") != Some(part.size) {
            found.push(format!("{name} is not as long as the bundle's manifest says"));
        }
    }
    found.truncate(50);
    Ok(found)
}

fn of_another(path: &Path) -> Failure {
    let problem = Problem::error(Code::Internal, format!("{} is of another product", path.display())).on(path);
    Failure::new(Kind::Machine, problem)
}

#[cfg(test)]
mod tests {
    use super::*;
    use opc::read::Limits;
    use std::io::Write;

    /// A bundle whose manifest says what is given, of two stand-ins for packages; their offsets and sizes are filled in.
    fn bundle(manifest: &str) -> Open<File> {
        let file = tempfile::tempfile().expect("a file");
        let mut writer = Writer::new(file.try_clone().expect("a file"), Options::default()).expect("a writer");
        let mut text = manifest.to_owned();
        for (name, bytes) in [("a.msix", &b"first"[..]), ("b.msix", b"the second")] {
            writer.part(name, bytes.len() as u64, true).expect("a part");
            text = text.replace(&format!("{name}@"), &writer.position().expect("a place").to_string());
            writer.data(bytes).expect("written");
        }
        writer.part(BUNDLE_MANIFEST, text.len() as u64, false).expect("a part");
        writer.data(text.as_bytes()).expect("written");
        writer.finish().expect("written").flush().expect("written");
        Open::open(file, Limits::default()).expect("a package")
    }

    fn said(manifest: &str) -> Vec<String> {
        let open = bundle(manifest);
        let bytes = open.whole(BUNDLE_MANIFEST).expect("read").expect("there");
        findings(&bytes, &open).expect("read")
    }

    const GOOD: &str = r#"<Bundle xmlns="http://schemas.microsoft.com/appx/2013/bundle" SchemaVersion="3.0">
        <Identity Name="works.fernhollow.hive" Publisher="CN=Fernhollow" Version="1.2.0.0"/>
        <Packages>
        <Package Type="application" Version="1.2.0.0" Architecture="x64" FileName="a.msix" Offset="a.msix@" Size="5"/>
        <Package Type="application" Version="1.2.0.0" Architecture="arm64" FileName="b.msix" Offset="b.msix@" Size="10"/>
        </Packages></Bundle>"#;

    #[test]
    fn each_rule_of_bundles_is_told() {
        assert_eq!(said(GOOD), Vec::<String>::new());
        for (from, to, told) in [
            ("SchemaVersion=\"3.0\"", "", "Bundle lacks SchemaVersion"),
            ("1.2.0.0\"/>", "1.2\"/>", "Version of Identity can't be \"1.2\""),
            ("Offset=\"a.msix@\"", "Offset=\"1\"", "a.msix doesn't begin where"),
            ("Offset=\"a.msix@\"", "Offset=\"-1\"", "Offset of Package can't be"),
            ("Size=\"10\"", "Size=\"11\"", "b.msix is not as long as"),
            ("Size=\"10\"", "", "Package lacks Size"),
            ("FileName=\"b.msix\"", "FileName=\"c.msix\"", "names c.msix, which isn't in it"),
            ("FileName=\"b.msix\"", "FileName=\"in\\b.msix\"", "FileName of Package can't be"),
            ("FileName=\"b.msix\"", "FileName=\"A.msix\"", "there are two packages \"A.msix\""),
            ("\"arm64\"", "\"x64\"", "there are two packages for the processor \"x64\""),
            ("\"arm64\"", "\"x65\"", "Architecture of Package can't be"),
            ("Type=\"application\" Version", "Type=\"music\" Version", "Type of Package can't be"),
            ("<Packages>", "<Wasps/><Packages>", ""),
            ("</Bundle>", "", "the bundle's manifest: "),
        ] {
            let all = said(&GOOD.replacen(from, to, 1));
            assert!(told.is_empty() && all.is_empty() || all.iter().any(|what| what.contains(told)), "{to}: {all:?}");
        }
    }
}
