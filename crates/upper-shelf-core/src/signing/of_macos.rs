//! Files of macOS that are looked at by themselves: programs and libraries, bundles, disk images.

use super::file::{Depth, Existing, Prepared, Signed, already_signed, unchecked, unreadable};
use super::macos::{
    self, Again, CodeSigner, DiskImage, Item, Tree, inside, parts_of, sign_image, verify_bundle, verify_code,
    verify_image,
};
use super::{Certificate, Identity, Verdict};
use crate::litter::{Litter, PARTIAL};
use crate::payload::{Source, Stamp};
use crate::problem::{Code, Failure, Kind, Problem};
use read_at::Cursor;
use std::fs::File;
use std::path::{Path, PathBuf};

/// What is there; a pipe would be waited on for ever.
fn file_or_folder(path: &Path) -> Result<std::fs::Metadata, Failure> {
    let meta = std::fs::metadata(path);
    let meta = if meta.as_ref().is_ok_and(|meta| meta.is_dir()) { meta } else { crate::input::is_file(path) };
    meta.map_err(|e| Failure::io("can't read", path, e))
}

/// Signs a file or a bundle of macOS; nothing for any other.
pub(super) fn sign(path: &Path, who: &Identity, how: &Signed) -> Result<Option<Prepared>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    let meta = file_or_folder(path)?;
    let image = if meta.is_file() { DiskImage::open(path).map_err(|e| unreadable(path, e))? } else { None };
    if let Some(image) = image {
        return sign_disk_image(path, &image, who, how).map(Some);
    }
    let (name, mut tree) = if meta.is_dir() {
        inside::folder(path).map_err(trouble)?
    } else {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let source = Source::Disk(path.to_owned(), Stamp::of(&meta));
        match parts_of(&source).map_err(trouble)? {
            None => return Ok(None),
            Some(parts) => drop(parts.map_err(|e| unreadable(path, e))?),
        }
        (name.clone(), Tree([(name, Item::File(source))].into()))
    };
    let is_bundle = tree.bundles().iter().any(|bundle| bundle.node == name && bundle.main.is_some());
    if meta.is_dir() && !is_bundle {
        let problem = Problem::error(Code::NotSignable, format!("{} can't be signed", path.display())).on(path);
        let problem = problem.why("it is a folder, and no bundle with a program in it");
        return Err(Failure::new(Kind::Problems, problem.instead("a file, or an application bundle such as Name.app")));
    }
    refuse_signed(path, &name, &tree, how.existing)?;
    // Code that has no name of its own is called after the bundle that it is in.
    let bundle = tree.bundles().into_iter().find(|bundle| bundle.node == name);
    let whole = bundle.and_then(|bundle| bundle.identifier);
    let stem = whole.unwrap_or_else(|| name.split('.').next().unwrap_or(&name).to_owned());
    let of_code = CodeSigner {
        key: Some((who, how)),
        entitlements: how.code.entitlements.as_deref().map(macos::list).transpose()?.unwrap_or_default(),
        runtime: !how.code.unguarded,
        again: if how.existing == Existing::Replace { Again::All } else { Again::AdHoc },
        prefix: how.code.identifier.clone().unwrap_or_else(|| stem.clone()),
        identifier: if meta.is_dir() { None } else { Some(how.code.identifier.clone().unwrap_or(stem)) },
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let outcome = of_code.seal(&mut tree, threads)?;
    let mut files = Vec::new();
    for changed in &outcome.changed {
        let Some(Item::File(source)) = tree.0.get(changed) else { continue };
        let below = changed.strip_prefix(&name).unwrap_or_default().trim_start_matches('/');
        let place = if below.is_empty() { path.to_owned() } else { path.join(below) };
        files.push(beside(&place, source)?);
    }
    let now = super::now();
    let (facts, problems, inside) = verify_bundle(&tree, &name, &who.chain, now).map_err(|e| unreadable(path, e))?;
    if !problems.is_empty() || facts.is_none() {
        let what = format!("the signature of {} does not hold", path.display());
        let problem = Problem::error(Code::Signature, what).on(path).why(problems.join("; "));
        return Err(Failure::new(Kind::Problems, problem));
    }
    let mut verdict = unchecked(path);
    verdict.inside = inside;
    verdict.signatures.extend(facts);
    Ok(Some(Prepared::new(files, verdict).with_warnings(outcome.warnings)))
}

/// What is signed already stays as it is, unless somebody says so.
fn refuse_signed(path: &Path, name: &str, tree: &Tree, existing: Existing) -> Result<(), Failure> {
    if existing == Existing::Replace {
        return Ok(());
    }
    let bundle = tree.bundles().into_iter().find(|bundle| bundle.node == name);
    let main = bundle.and_then(|bundle| bundle.main).unwrap_or_else(|| name.to_owned());
    let by = macos::signer_of(tree, &main).map_err(|e| unreadable(path, e))?;
    by.map_or(Ok(()), |by| Err(already_signed(path, &format!("“{by}”"), false)))
}

/// Writes a file beside its place.
fn beside(place: &Path, source: &Source) -> Result<(PathBuf, PathBuf, Litter), Failure> {
    // The folder for a seal is made when all is well.
    let folder = place.parent().map_or_else(PathBuf::new, Path::to_owned);
    let folder = if folder.ends_with("_CodeSignature") {
        folder.parent().map_or(folder.clone(), Path::to_owned)
    } else {
        folder
    };
    let name = place.file_name().unwrap_or_default().to_string_lossy();
    let beside = folder.join(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    let trouble = |e: std::io::Error| Failure::io("can't write", &beside, e);
    let mut file = File::create(&beside).map_err(trouble)?;
    let bytes = source.open().map_err(|e| Failure::io("can't read", place, e))?;
    std::io::copy(&mut Cursor::new(bytes), &mut file).map_err(trouble)?;
    if let Ok(meta) = std::fs::metadata(place) {
        file.set_permissions(meta.permissions()).map_err(trouble)?;
    }
    file.sync_all().map_err(trouble)?;
    Ok((place.to_owned(), beside, litter))
}

fn sign_disk_image(path: &Path, image: &DiskImage, who: &Identity, how: &Signed) -> Result<Prepared, Failure> {
    if how.existing != Existing::Replace
        && let (Some(facts), _) = verify_image(image, &[], 0).map_err(|e| unreadable(path, e))?
    {
        let by = facts.chain.first().map_or("somebody".to_owned(), |signer| format!("“{}”", signer.name));
        return Err(already_signed(path, &by, false));
    }
    let meta = std::fs::metadata(path).map_err(|e| Failure::io("can't read", path, e))?;
    let (place, beside, litter) = beside(path, &Source::Disk(path.to_owned(), Stamp::of(&meta)))?;
    let trouble = |e: std::io::Error| Failure::io("can't write", &beside, e);
    let mut file = File::options().read(true).write(true).open(&beside).map_err(trouble)?;
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let identifier = how.code.identifier.clone().unwrap_or(stem);
    sign_image((who, how), &identifier, &mut file, path)?;
    file.sync_all().map_err(trouble)?;
    let verdict = Verdict { file: path.to_owned(), ..super::file::holds(&beside, who)? };
    Ok(Prepared::new(vec![(place, beside, litter)], verdict))
}

/// Where a bundle has what its program's signature is of, besides the program.
fn around(path: &Path) -> Option<(PathBuf, PathBuf)> {
    let code = path.parent()?;
    let contents = code.parent()?;
    let is_program = code.file_name()? == "MacOS" && contents.file_name()? == "Contents";
    is_program.then(|| (contents.join("Info.plist"), contents.join("_CodeSignature/CodeResources")))
}

/// What is found out about a file of macOS; nothing for any other.
pub(super) fn verify(path: &Path, roots: &[Certificate], now: u64, depth: Depth) -> Result<Option<Verdict>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    let meta = file_or_folder(path)?;
    let mut verdict = unchecked(path);
    verdict.unchecked.push(match macos::ticket::is_there(path) {
        true => "what its ticket of Apple's notary says".into(),
        false => "whether Apple's notary has seen it".into(),
    });
    if meta.is_dir() {
        let (name, tree) = inside::folder(path).map_err(trouble)?;
        let (facts, problems, inside) = verify_bundle(&tree, &name, roots, now).map_err(|e| unreadable(path, e))?;
        (verdict.problems, verdict.inside) = (problems, inside);
        verdict.signatures.extend(facts);
        return Ok(Some(judged(verdict)));
    }
    let source = Source::Disk(path.to_owned(), Stamp::of(&meta));
    match parts_of(&source).map_err(trouble)? {
        None => {}
        Some(Err(code_signature::Error::Io(e))) => return Err(trouble(e)),
        Some(Err(e)) => {
            verdict.problems.push(e.to_string());
            return Ok(Some(judged(verdict)));
        }
        Some(Ok(parts)) => {
            let small = |file: PathBuf| {
                std::fs::metadata(&file).ok().filter(|m| m.len() < 64 << 20).and_then(|_| std::fs::read(file).ok())
            };
            let (info, seal) = around(path).map_or((None, None), |(info, seal)| (small(info), small(seal)));
            let file = source.open().map_err(trouble)?;
            let found = verify_code(&*file, &parts, (info.as_deref(), seal.as_deref()), roots, now);
            let (facts, problems, more) = found.map_err(|e| unreadable(path, e))?;
            verdict.problems.extend(problems);
            verdict.unchecked.extend(more);
            verdict.signatures.extend(facts);
            return Ok(Some(judged(verdict)));
        }
    }
    let image = match DiskImage::open(path) {
        Ok(None) => return Ok(None),
        Err(code_signature::Error::Io(e)) => return Err(trouble(e)),
        Err(e) => {
            verdict.problems.push(e.to_string());
            return Ok(Some(judged(verdict)));
        }
        Ok(Some(image)) => image,
    };
    let checked = verify_image(&image, roots, now).and_then(|(facts, problems)| {
        let found = match depth {
            Depth::Itself => None,
            Depth::Inside(limit) => inside::image(path, roots, now, limit)?,
        };
        Ok((facts, problems, found))
    });
    match checked {
        Err(code_signature::Error::Io(e)) => return Err(trouble(e)),
        Err(e) => verdict.problems.push(e.to_string()),
        Ok((facts, problems, found)) => {
            verdict.problems.extend(problems);
            verdict.signatures.extend(facts);
            match found {
                Some(inside) => verdict.inside = inside,
                None => verdict.unchecked.push("what is in the image".into()),
            }
        }
    }
    Ok(Some(judged(verdict)))
}

fn judged(mut verdict: Verdict) -> Verdict {
    if verdict.signatures.is_empty() && verdict.problems.is_empty() {
        verdict.problems.push("it is not signed".into());
    }
    verdict.judge();
    verdict
}
