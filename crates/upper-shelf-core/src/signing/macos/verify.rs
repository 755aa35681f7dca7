//! Looking at signatures: what they say of code, of a bundle's files, and of everything inside of it.

use super::code::{best, standing};
use super::seal::digests;
use super::tree::{BundleFolder, Item, Open, Tree, is_of_the_seal};
use crate::signing::{Certificate, CertificateFacts, CodeFacts, Inside, SignatureFacts, StampFacts, parallel, shown};
use code_signature::{
    Blobs, CdHash, Directory, Entitlements, Error, Found, Place, Result, Seal, Sealed, content_of, flag, page_hashes,
    slot,
};
use mach_o::SignedParts;
use plist::Value;
use read_at::{Part, ReadAt};
use signatures::chain::Doubts;
use signatures::code;
use std::collections::{BTreeMap, BTreeSet};

/// So many of a bundle's files are named that are not as they should be.
const MOST_NAMED: usize = 20;

/// What is wrong, and what was not looked at.
#[derive(Debug, Default)]
pub(super) struct Report {
    pub problems: Vec<String>,
    pub unchecked: BTreeSet<String>,
}

/// What a bundle has around its code.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Around<'a> {
    /// Its property list.
    pub info: Option<&'a [u8]>,
    /// Its seal.
    pub seal: Option<&'a [u8]>,
}

impl Report {
    /// Whether what stands beside the directory is what the directory says.
    pub fn beside(&mut self, blobs: &Blobs, directory: &Directory) {
        let all = [
            (slot::REQUIREMENTS, "how it will be known again"),
            (slot::ENTITLEMENTS, "what it may do"),
            (slot::ENTITLEMENTS_DER, "what it may do, in the newer form,"),
        ];
        for (number, what) in all {
            match blobs.part(number) {
                Some(part) if directory.fits(number, part) => {}
                None if !directory.special.contains_key(&number) => {}
                _ => self.problems.push(format!("{what} was changed after it was signed")),
            }
        }
        if let (Some(list), Some(der)) = (blobs.part(slot::ENTITLEMENTS), blobs.part(slot::ENTITLEMENTS_DER))
            && !Entitlements::read(list).is_ok_and(|list| list.fits(der))
        {
            self.problems.push("its two lists of what it may do differ".into());
        }
    }

    fn around(&mut self, directory: &Directory, around: Around, is_in_bundle: bool) {
        let all = [
            (slot::INFO, around.info, "the property list of its bundle"),
            (slot::RESOURCES, around.seal, "the seal of its bundle"),
        ];
        for (number, bytes, what) in all {
            match (directory.special.contains_key(&number), bytes) {
                (true, Some(bytes)) if directory.fits(number, bytes) => {}
                (true, Some(_)) => self.problems.push(format!("{what} was changed after it was signed")),
                (true, None) if is_in_bundle => self.problems.push(format!("{what} is missing")),
                (true, None) => drop(self.unchecked.insert("the bundle that it belongs to".into())),
                (false, Some(_)) => self.problems.push(format!("{what} is not signed")),
                (false, None) => {}
            }
        }
    }
}

/// The directories that a signed message lists.
fn listed(list: &[u8]) -> Option<Vec<CdHash>> {
    let all = shallow_plist::value_of(list)?.into_dictionary()?;
    let hashes = all.get("cdhashes")?.as_array()?.iter();
    hashes.map(|hash| hash.as_data().and_then(|bytes| bytes.try_into().ok())).collect()
}

/// What the signed message about a directory says.
pub(super) fn message_of(
    blobs: &Blobs,
    directory: &Directory,
    own: &[u8],
    roots: &[Certificate],
    now: u64,
    report: &mut Report,
) -> SignatureFacts {
    let entitlements = blobs.part(slot::ENTITLEMENTS).and_then(|part| Entitlements::read(part).ok());
    let allowed = |(key, value): (String, Value)| match value {
        Value::Boolean(true) => shown(&key),
        Value::Boolean(false) => format!("{} = false", shown(&key)),
        _ => format!("{} = …", shown(&key)),
    };
    let mut facts = SignatureFacts {
        code: Some(CodeFacts {
            identifier: shown(&directory.identifier),
            team: directory.team.as_deref().map(shown),
            hardened_runtime: directory.flags & flag::RUNTIME != 0,
            entitlements: entitlements.map(|e| e.0.into_iter().map(allowed).collect()).unwrap_or_default(),
        }),
        ..SignatureFacts::unnamed(directory.hash.name().to_owned())
    };
    let message = blobs.part(slot::MESSAGE).map(content_of).filter(|message| !message.is_empty());
    let Some(message) = message else {
        if directory.flags & flag::AD_HOC == 0 {
            report.problems.push("its signature lacks the signed message".into());
        }
        facts.untrusted.push("it is signed ad hoc: nobody says who made it".into());
        return facts;
    };
    let first = blobs.part(slot::DIRECTORY).unwrap_or_default();
    match code::check(message, first, roots, now) {
        Err(e) => report.problems.push(format!("its signature can't be trusted: {e}")),
        Ok(code::Report { signed, list }) => {
            let Doubts { untrusted, faults } = signed.doubts();
            facts.chain = signed.chain.certificates.iter().map(CertificateFacts::from).collect();
            facts.timestamp = signed.stamp.as_ref().map(StampFacts::from);
            facts.untrusted.extend(untrusted.iter().map(|why| shown(why)));
            report.problems.extend(faults.iter().map(|fault| shown(fault)));
            let is_listed = match list.as_deref().map(listed) {
                Some(all) => all.is_some_and(|all| all.contains(&directory.cd_hash(own))),
                None => first == own,
            };
            if !is_listed {
                report.problems.push("the directory with its strongest digests is not what was signed".into());
            }
            if directory.team != code::team(&signed.signer) && directory.team.is_some() {
                report.problems.push("it names another team than its certificate does".into());
            }
        }
    }
    facts
}

/// The signatures of code, one for each processor: what the first says, and what is wrong with any.
pub(super) fn check_code(
    bytes: &dyn ReadAt,
    parts: &SignedParts,
    around: Around,
    is_in_bundle: bool,
    roots: &[Certificate],
    now: u64,
) -> Result<(Option<SignatureFacts>, Report)> {
    let (mut first, mut all) = (None, Report::default());
    if !parts.has_empty_gaps(&bytes)? {
        all.problems.push("something stands between the parts for its processors".into());
    }
    for slice in &parts.slices {
        let mut report = Report::default();
        let facts = match slice.signature(&bytes)? {
            None => {
                report.problems.push("it is not signed".into());
                None
            }
            Some(signature) => match Blobs::read(&signature) {
                Err(e) => {
                    report.problems.push(e.to_string());
                    None
                }
                Ok(blobs) => {
                    Some(check_slice(bytes, slice, &blobs, (around, is_in_bundle), (roots, now), &mut report)?)
                }
            },
        };
        let of = if parts.slices.len() > 1 { format!("{}: ", slice.processor()) } else { String::new() };
        all.problems.extend(report.problems.into_iter().map(|problem| format!("{of}{problem}")));
        all.unchecked.extend(report.unchecked);
        let facts = facts.flatten();
        match (&first, facts) {
            (None, facts) => first = facts,
            (Some(first), Some(other)) if first.chain != other.chain => {
                all.problems.push(format!("{of}somebody else signed it"));
            }
            _ => {}
        }
    }
    Ok((first, all))
}

fn check_slice(
    bytes: &dyn ReadAt,
    slice: &mach_o::SignedSlice,
    blobs: &Blobs,
    (around, is_in_bundle): (Around, bool),
    (roots, now): (&[Certificate], u64),
    report: &mut Report,
) -> Result<Option<SignatureFacts>> {
    let Some((directory, own)) = best(blobs) else {
        report.problems.push("its signature has no directory that can be read".into());
        return Ok(None);
    };
    let part = Part::new(bytes, slice.slice.offset, slice.slice.size)?;
    if directory.limit != slice.limit {
        report.problems.push("its signature is not of all of it".into());
    } else if page_hashes(&part, directory.limit, directory.page_bits, directory.hash)? != directory.pages {
        report.problems.push("the file was changed after it was signed".into());
    }
    report.beside(blobs, &directory);
    report.around(&directory, around, is_in_bundle);
    Ok(Some(message_of(blobs, &directory, own, roots, now, report)))
}

/// Looks at a program or a library by itself.
pub(in crate::signing) fn verify_code(
    bytes: &dyn ReadAt,
    parts: &SignedParts,
    (info, seal): (Option<&[u8]>, Option<&[u8]>),
    roots: &[Certificate],
    now: u64,
) -> Result<(Option<SignatureFacts>, Vec<String>, Vec<String>)> {
    let is_in_bundle = info.is_some();
    let (facts, mut report) = check_code(bytes, parts, Around { info, seal }, is_in_bundle, roots, now)?;
    if is_in_bundle {
        report.unchecked.insert("the files of the bundle that it belongs to".into());
    }
    Ok((facts, report.problems, report.unchecked.into_iter().collect()))
}

/// Looks at everything in a tree: the bundle at its top, and the programs and bundles inside.
pub(in crate::signing) fn verify_bundle<S: Open>(
    tree: &Tree<S>,
    top: &str,
    roots: &[Certificate],
    now: u64,
) -> Result<(Option<SignatureFacts>, Vec<String>, Vec<Inside>)> {
    let (code, bad) = tree.all_code()?;
    let bundles = tree.bundles();
    let (mut outer, mut problems, mut inside) = (None, Vec::new(), Vec::new());
    for (path, e) in bad {
        let problems = vec![format!("it can't be checked: {e}")];
        inside.push(Inside { path, by: None, problems, signature: None });
    }
    let mut known: BTreeMap<String, Vec<CdHash>> = BTreeMap::new();
    for (path, parts) in &code {
        if let Some(Item::File(source)) = tree.0.get(path) {
            known.insert(path.clone(), standing(source, parts)?.1.hashes);
        }
    }
    for bundle in bundles.iter().filter(|bundle| tree.is_present(bundle)) {
        let hashes = bundle.main.as_ref().and_then(|main| known.get(main)).cloned().unwrap_or_default();
        known.entry(bundle.node.clone()).or_default().extend(hashes);
    }
    let mut add = |path: &str, facts: Option<SignatureFacts>, mut found: Vec<String>| {
        if path == top {
            (outer, problems) = (facts, found);
            return;
        }
        if facts.is_none() && found.is_empty() {
            found.push("it is not signed".into());
        }
        let own = facts.as_ref();
        found.extend(own.into_iter().flat_map(|facts| facts.untrusted.iter().chain(&facts.problems).cloned()));
        let by = own.and_then(|facts| Some(facts.chain.first()?.name.clone()));
        inside.push(Inside { path: path.to_owned(), by, problems: found, signature: facts });
    };
    for bundle in &bundles {
        let Some((main, parts)) = bundle.main.as_ref().and_then(|main| Some((main, code.get(main)?))) else { continue };
        let Some(Item::File(source)) = tree.0.get(main) else { continue };
        let (info, seal) = (tree.info(bundle)?, tree.seal(bundle).ok());
        let around = Around { info: Some(&info), seal: seal.as_deref() };
        let (facts, mut report) = check_code(&*source.open()?, parts, around, true, roots, now)?;
        report.problems.extend(tree.beside_versions(bundle));
        match seal.as_deref().map(Seal::read) {
            None => {}
            Some(Err(e)) => report.problems.push(e.to_string()),
            Some(Ok(found)) => report.problems.extend(check_seal(tree, bundle, &found, &known)?),
        }
        add(&bundle.node, facts, report.problems);
    }
    let mains: BTreeSet<&String> = bundles.iter().filter_map(|bundle| bundle.main.as_ref()).collect();
    for (path, parts) in code.iter().filter(|(path, _)| !mains.contains(path)) {
        let Some(Item::File(source)) = tree.0.get(path) else { continue };
        let (facts, report) = check_code(&*source.open()?, parts, Around::default(), false, roots, now)?;
        add(path, facts, report.problems);
    }
    inside.sort_by(|a, b| a.path.cmp(&b.path));
    Ok((outer, problems, inside))
}

/// What is not as a bundle's seal says.
fn check_seal<S: Open>(
    tree: &Tree<S>,
    bundle: &BundleFolder,
    found: &Found,
    known: &BTreeMap<String, Vec<CdHash>>,
) -> Result<Vec<String>> {
    let (mut problems, mut inside, mut to_hash) = (Vec::new(), Vec::<String>::new(), Vec::new());
    let mut there = BTreeSet::new();
    for (path, item) in tree.below(&bundle.base) {
        let whole = format!("{}/{path}", bundle.base);
        if is_of_the_seal(path)
            || bundle.main.as_ref() == Some(&whole)
            || inside.iter().any(|folder| path.starts_with(folder))
        {
            continue;
        }
        let place = found.rules.place(path);
        let sealed = found.seal.0.get(path);
        there.insert(path);
        let is_nested = |code: &CdHash| known.get(&whole).is_some_and(|hashes| hashes.contains(code));
        match (item, sealed) {
            (Item::Folder, Some(Sealed::Nested { code, .. })) => {
                inside.push(format!("{path}/"));
                if !is_nested(code) {
                    problems.push(format!("{path} is not the one that was sealed"));
                }
            }
            (Item::Folder, None)
                if place != Place::Nested || !path.rsplit('/').next().unwrap_or_default().contains('.') => {}
            (Item::Link(target), Some(Sealed::Link(wanted))) if target == wanted => {}
            (Item::File(_), Some(Sealed::Nested { code, .. })) if is_nested(code) => {}
            (Item::File(source), Some(Sealed::File { sha256, .. })) => to_hash.push((path, source, *sha256)),
            (_, Some(_)) => problems.push(format!("{path} is not the one that was sealed")),
            (_, None) if place == Place::Omitted => {}
            (_, None) => problems.push(format!("{path} was added after the bundle was sealed")),
        }
    }
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let changed = parallel::each(threads, &to_hash, |(path, source, wanted)| {
        Ok::<_, Error>(
            (digests(*source)?.1 != *wanted).then(|| format!("{path} was changed after the bundle was sealed")),
        )
    })?;
    problems.extend(changed.into_iter().flatten());
    for (path, sealed) in &found.seal.0 {
        let may_be_missing = matches!(sealed, Sealed::File { optional: true, .. });
        if !there.contains(path.as_str()) && !may_be_missing {
            problems.push(format!("{path} is missing"));
        }
    }
    if problems.len() > MOST_NAMED {
        let more = problems.len() - MOST_NAMED;
        problems.truncate(MOST_NAMED);
        problems.push(format!("and {more} more of its files are not as they were sealed"));
    }
    Ok(problems.iter().map(|problem| shown(problem)).collect())
}
