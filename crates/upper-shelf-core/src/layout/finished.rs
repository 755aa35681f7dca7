//! A bundle that was finished before it came here: one without a seal gets what its property list lacks; of one with a seal
//! no byte changes.

use crate::footprint::{Node, RelPath};
use crate::icons::Icon;
use crate::manifest::resolve::{Default, Product};
use crate::payload::{Payload, PayloadFile, Source};
use crate::platform::System;
use crate::problem::{Code, Problem};
use crate::targets::bundle::finished::{SEAL, of};
use crate::targets::bundle::{CODE, DATA, ICON, list};
use plist::{Dictionary, Value};
use std::collections::BTreeSet;

/// The most that a property list may have.
const MOST: u64 = 4 << 20;

/// Keys that a bundle is fine without.
const OPTIONAL: [&str; 14] = [
    "CFBundleDevelopmentRegion",
    "CFBundleDisplayName",
    "CFBundleIconFile",
    "CFBundleInfoDictionaryVersion",
    "CFBundlePackageType",
    "CFBundleVersion",
    "LSApplicationCategoryType",
    "LSArchitecturePriority",
    "LSHasLocalizedDisplayName",
    "LSMinimumSystemVersion",
    "NSHighResolutionCapable",
    "NSHumanReadableCopyright",
    "UTExportedTypeDeclarations",
    "UTImportedTypeDeclarations",
];

/// Puts into the property list of a finished bundle without a seal what it lacks. Gives what contradicts the manifest,
/// and, for a sealed one, what is missing.
pub(super) fn complete(product: &mut Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    if product.platform.system() != System::Macos {
        return Vec::new();
    }
    let Some(at) = payload.files.iter().position(|f| of(&f.path).is_some()) else { return Vec::new() };
    let path = payload.files[at].path.clone();
    let top = of(&path).unwrap_or_default().to_owned();
    let bytes = match read(&payload.files[at]) {
        Ok(bytes) => bytes,
        Err(e) => {
            return vec![
                Problem::error(Code::FinishedBundle, format!("{path} can't be read"))
                    .why(e.to_string())
                    .instead("a finished bundle"),
            ];
        }
    };
    let Some(mut theirs) = shallow_plist::value_of(&bytes).and_then(Value::into_dictionary) else {
        let problem = Problem::error(Code::FinishedBundle, format!("{path} isn't a property list"));
        return vec![problem.instead("bring a bundle with a valid property list")];
    };
    let sealed = payload.files.iter().any(|f| f.path.as_str().strip_prefix(&top) == Some(SEAL));
    let mut problems = Vec::new();
    // Kinds of documents and schemes that it has already are not asked for again.
    let has = list::read(&bytes);
    let extensions: BTreeSet<&String> = has.iter().flat_map(|h| &h.file_types).flat_map(|t| &t.extensions).collect();
    let has_link =
        |scheme: &str| has.iter().flat_map(|h| &h.link_schemes).any(|l| l.scheme.eq_ignore_ascii_case(scheme));
    let mut wanted = product.footprint.clone();
    wanted.file_types = wanted.file_types.filter_map(|t| {
        let has_already = t.extensions.iter().all(|e| extensions.contains(e));
        (!has_already).then(|| t.clone())
    });
    wanted.link_schemes = wanted.link_schemes.filter_map(|l| (!has_link(&l.scheme)).then(|| l.clone()));
    wanted.bundle.names.clear();
    let file = wanted.main_program().and_then(|key| wanted.program(key)).map(|p| p.file.clone());
    let code = format!("{top}/{}", CODE);
    if let Some(file) = &file
        && file.parent().is_none_or(|p| p.as_str() != code)
    {
        let problem =
            Problem::error(Code::FinishedBundle, format!("{file} can't be the program of the finished bundle {top}"));
        problems.push(
            problem
                .why("the system only starts files in the bundle's folder of programs")
                .instead(format!("file = \"{code}/…\"")),
        );
    }
    let mut wanted = list::of(&wanted, file.map(|f| f.name().to_owned()));
    wanted.remove(list::OURS);
    if theirs.contains_key("CFBundleIconName") || theirs.contains_key("CFBundleIconFile") {
        wanted.remove("CFBundleIconFile");
    }
    problems.extend(contradictions(&path, &theirs, &wanted, product));
    let missing = missing(&theirs, wanted);
    if sealed {
        for (key, _) in missing.iter().filter(|(key, _)| !OPTIONAL.contains(&key.as_str())) {
            let problem = Problem::error(Code::FinishedBundle, format!("{path} has no {key}, or an incomplete one"));
            let problem = problem.why("the bundle is signed, so nothing can be added to it");
            problems.push(problem.instead("add it before the bundle is signed, or supply the bundle unsigned"));
        }
        return problems;
    }
    if missing.is_empty() || !problems.is_empty() {
        return problems;
    }
    let keys: Vec<&str> = missing.iter().map(|(key, _)| key.as_str()).collect();
    let said = Default {
        key: path.to_string(),
        value: keys.join(", "),
        why: "the finished bundle lacked it".into(),
        is_detail: false,
    };
    product.defaults.push(said);
    let layer = payload.files[at].layer;
    if missing.contains_key("CFBundleIconFile") {
        add_icon(payload, &top, layer, icon);
    }
    for (key, value) in missing {
        match (theirs.get_mut(&key), value) {
            (Some(Value::Array(has)), Value::Array(more)) => has.extend(more),
            (_, value) => drop(theirs.insert(key, value)),
        }
    }
    let bytes = list::bytes(theirs);
    if let Some(file) = payload.files.iter_mut().find(|f| f.path == path) {
        let old = std::mem::replace(&mut file.size, bytes.len() as u64);
        file.source = Source::Memory(bytes.into());
        if let Some(share) = payload.shares.get_mut(layer) {
            share.bytes = share.bytes - old + file.size;
        }
    }
    problems
}

/// The picture, where it is not there yet.
fn add_icon(payload: &mut Payload, top: &str, layer: usize, icon: &Icon) {
    let folder = format!("{top}/{}", DATA);
    let (Ok(folder), Ok(bytes)) = (RelPath::new(folder), icon.icns()) else { return };
    let Ok(path) = RelPath::new(format!("{folder}/{}", ICON)) else { return };
    if payload.files.iter().any(|f| f.path == path) {
        return;
    }
    if !payload.others.iter().any(|node| *node.path() == folder) {
        payload.others.push(Node::Folder { path: folder, mode: 0o755 });
        payload.others.sort_by(|a, b| a.path().cmp(b.path()));
    }
    let size = bytes.len() as u64;
    let at = payload.files.partition_point(|f| f.path < path);
    payload.files.insert(
        at,
        PayloadFile { path, mode: 0o644, size, source: Source::Memory(bytes.into()), layer, further_name: false },
    );
    if let Some(share) = payload.shares.get_mut(layer) {
        share.bytes += size;
        share.files += 1;
    }
}

/// What a bundle says otherwise than the manifest.
fn contradictions(path: &RelPath, theirs: &Dictionary, wanted: &Dictionary, product: &Product) -> Vec<Problem> {
    let keys = [
        ("CFBundleIdentifier", product.footprint.product.id.as_deref()),
        ("CFBundleShortVersionString", product.footprint.product.version.as_deref()),
        ("CFBundleExecutable", None),
    ];
    let mut problems = Vec::new();
    for (key, written) in keys {
        let (Some(has), Some(wants)) =
            (theirs.get(key).and_then(Value::as_string), wanted.get(key).and_then(Value::as_string))
        else {
            continue;
        };
        if has != wants && Some(has) != written {
            let problem = Problem::error(Code::FinishedBundle, format!("{path} says that {key} is {has:?}"));
            let from = list::written_from(key).unwrap_or_default();
            let wants = written.unwrap_or(wants);
            let problem = problem.why(format!("{from} says {wants:?}"));
            problems.push(
                problem.instead(format!("the same in both: {has:?} in the manifest, or a bundle that is built anew")),
            );
        }
    }
    problems
}

/// What a bundle lacks of what it should say; of a list, the elements. What it says otherwise is its own affair.
fn missing(theirs: &Dictionary, wanted: Dictionary) -> Dictionary {
    let lists =
        ["CFBundleDocumentTypes", "CFBundleURLTypes", "UTExportedTypeDeclarations", "UTImportedTypeDeclarations"];
    wanted.into_iter().filter(|(key, _)| !theirs.contains_key(key) || lists.contains(&key.as_str())).collect()
}

fn read(file: &PayloadFile) -> std::io::Result<Vec<u8>> {
    if file.size > MOST {
        return Err(std::io::Error::other("it is too big for a property list"));
    }
    file.bytes()
}
