//! Signing and verifying one file.

use super::cache::{Matter, Wanted};
use super::form::Form;
use super::{Certificate, Clock, Elsewhere, Hash, SignatureFacts, Verdict, failure};
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use signatures::authenticode::{self, Imprint, Named, Report, Subject};
use signatures::key::Identity;
use signatures::message::{self, Attribute};
use signatures::oid;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What happens to a signature that is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Existing {
    /// It stays, and the file is not signed again.
    #[default]
    Refuse,
    /// It goes.
    Replace,
    /// It stays, and another one comes beside it.
    Beside,
}

/// How files are signed.
#[derive(Debug, Clone, Default)]
pub struct Signed {
    /// The digest; default: what goes with the key.
    pub hash: Option<Hash>,
    /// What happens to a signature that is there already.
    pub existing: Existing,
    /// The product's name and web page, as the system shows them when it asks.
    pub named: Named,
    /// Who says when.
    pub clock: Option<Clock>,
    /// Whether programs are signed page by page, too.
    pub page_hashes: bool,
    /// What is signed where the key is, if that is not here.
    pub elsewhere: Option<Arc<Elsewhere>>,
    /// What only code of macOS has.
    pub code: OfCode,
}

/// What only code of macOS has.
#[derive(Debug, Clone, Default)]
pub struct OfCode {
    /// What it calls itself; default: its bundle's identifier, or its file's name.
    pub identifier: Option<String>,
    /// A property list of what programs may do.
    pub entitlements: Option<PathBuf>,
    /// Without the hardened runtime, which guards programs.
    pub unguarded: bool,
}

pub(super) fn unreadable(path: &Path, e: pe_image::Error) -> Failure {
    match e {
        pe_image::Error::Io(e) => Failure::io("can't read", path, e),
        other => {
            let problem = Problem::error(Code::NotSignable, format!("{} can't be signed", path.display())).on(path);
            Failure::new(Kind::Package, problem.why(other.to_string()))
        }
    }
}

/// Signed files that lie beside those whose places they take; given up, they go.
pub struct Prepared {
    /// The place, what lies beside it, and its remains.
    files: Vec<(PathBuf, PathBuf, Litter)>,
    verdict: Verdict,
    /// What a system will not like, though it is signed.
    pub warnings: Vec<Problem>,
}

impl Prepared {
    pub(super) fn new(files: Vec<(PathBuf, PathBuf, Litter)>, verdict: Verdict) -> Self {
        Self { files, verdict, warnings: Vec::new() }
    }

    pub(super) fn with_warnings(self, warnings: Vec<Problem>) -> Self {
        Self { warnings, ..self }
    }

    /// Puts them in their places.
    ///
    /// # Errors
    /// The medium's.
    pub fn finish(self) -> Result<Verdict, Failure> {
        for (path, beside, litter) in &self.files {
            // A bundle that had no seal has no folder for one.
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            folder.map_or(Ok(()), std::fs::create_dir_all).map_err(|e| Failure::io("can't create", path, e))?;
            std::fs::rename(beside, path).map_err(|e| Failure::io("can't replace", path, e))?;
            litter.keep();
        }
        Ok(self.verdict)
    }
}

/// Signs a file: it is written anew beside itself, and checked.
///
/// # Errors
/// It can't be signed, is signed already, or the key, the clock or the medium fail.
pub fn sign(path: &Path, who: &Identity, how: &Signed) -> Result<Prepared, Failure> {
    if let Some(prepared) = super::of_macos::sign(path, who, how)? {
        return Ok(prepared);
    }
    crate::input::is_file(path).map_err(|e| Failure::io("can't read", path, e))?;
    let mut form = match Form::open(path) {
        Err(pe_image::Error::Unsupported(_)) => return super::beside::sign(path, who, how),
        form => form.map_err(|e| unreadable(path, e))?,
    };
    let (signatures, directory) = signatures(&mut form, path, who, how)?;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    let trouble = |e: std::io::Error| Failure::io("can't write", &beside, e);
    let mut file = File::options().read(true).write(true).create(true).truncate(true).open(&beside).map_err(trouble)?;
    form.put(&mut file, &signatures, &directory).map_err(|e| unwritable(&beside, e))?;
    let modes = std::fs::metadata(path).map_err(trouble)?.permissions();
    file.set_permissions(modes).and_then(|()| file.sync_all()).map_err(trouble)?;
    drop(file);
    let verdict = Verdict { file: path.to_owned(), ..holds(&beside, who)? };
    Ok(Prepared::new(vec![(path.to_owned(), beside, litter)], verdict))
}

/// Looks at what was just signed.
///
/// # Errors
/// Something other than whom to trust is wrong with it.
pub(super) fn holds(path: &Path, who: &Identity) -> Result<Verdict, Failure> {
    held(verify(path, &who.chain, super::now(), Depth::Itself)?, path)
}

/// The same of a verdict.
pub(super) fn held(verdict: Verdict, path: &Path) -> Result<Verdict, Failure> {
    // Whom to trust is not known here; all else has to fit.
    let own = verdict.signatures.last();
    let faults: Vec<String> = own.into_iter().flat_map(|signature| signature.problems.clone()).collect();
    if verdict.signatures.is_empty() || !faults.is_empty() || !verdict.problems.is_empty() {
        let said: Vec<String> = faults.into_iter().chain(verdict.problems).collect();
        let what = format!("the signature of {} does not hold", path.display());
        return Err(Failure::new(Kind::Problems, Problem::error(Code::Signature, what).on(path).why(said.join("; "))));
    }
    Ok(verdict)
}

pub(super) fn unwritable(path: &Path, e: pe_image::Error) -> Failure {
    match e {
        pe_image::Error::Io(e) => Failure::io("can't write", path, e),
        other => unreadable(path, other),
    }
}

/// The signatures that a file gets, and the digest of its directory where that is signed, too.
fn signatures(form: &mut Form, path: &Path, who: &Identity, how: &Signed) -> Result<(Vec<Vec<u8>>, Vec<u8>), Failure> {
    let subject = form.subject();
    let hash = how.hash.unwrap_or_else(|| who.signer.public_key().usual_hash());
    let mut there = form.signatures().map_err(|e| unreadable(path, e))?;
    if !there.is_empty() && how.existing == Existing::Refuse {
        let by = there.first().and_then(|bytes| authenticode::check(bytes, subject, &[], 0).ok());
        let by = by.map_or("somebody".to_owned(), |report| format!("“{}”", super::shown(&report.signer.name())));
        return Err(already_signed(path, &by, true));
    }
    if let Some(why) = form.refuses(who.certificate(), hash) {
        let problem = Problem::error(Code::NotSignable, format!("{} can't be signed with this key", path.display()));
        let instead =
            "the certificate of that very subject, and SHA-256; or another Publisher in the manifest of the package";
        return Err(Failure::new(Kind::Problems, problem.on(path).why(why).instead(instead)));
    }
    let (digest, directory) = match how.existing {
        // Both are of the same bytes.
        Existing::Beside if !there.is_empty() && subject != Subject::Program => {
            let what = format!("{} can't have a second signature", path.display());
            let problem = Problem::error(Code::NotSignable, what).on(path).why("packages have room for one");
            return Err(Failure::new(Kind::Problems, problem.instead("`--existing replace` for another in its place")));
        }
        _ => form.digest_to_be(hash).map_err(|e| unreadable(path, e))?,
    };
    let pages = if how.page_hashes { form.pages().map_err(|e| unreadable(path, e))? } else { None };
    let made = made(subject, Imprint { hash, digest: &digest, pages: pages.as_deref() }, path, who, how)?;
    match (how.existing, there.first_mut()) {
        (Existing::Beside, Some(first)) => {
            let further = Attribute { oid: oid::SPC_NESTED_SIGNATURE, value: made };
            *first = message::with_unsigned(first, &further).map_err(|e| refused(path, &e))?;
        }
        _ => there = vec![made],
    }
    Ok((there, directory))
}

/// A failure about a file that has a signature.
pub(super) fn already_signed(path: &Path, by: &str, has_room: bool) -> Failure {
    let problem = Problem::error(Code::AlreadySigned, format!("{} is already signed by {by}", path.display())).on(path);
    let instead = match has_room {
        true => "`--existing replace` for another in its place, `--existing beside` for one more",
        false => "`--existing replace` for another in its place",
    };
    Failure::new(Kind::Problems, problem.instead(instead))
}

pub(super) fn refused(path: &Path, e: &signatures::Error) -> Failure {
    failure(Code::Key, Kind::Problems, format!("{} can't be signed", path.display()), path, e)
}

/// A signature of a digest, with a timestamp if there is a clock; the one that was made before, if there is one.
pub(super) fn made(
    subject: Subject,
    imprint: Imprint,
    path: &Path,
    who: &Identity,
    how: &Signed,
) -> Result<Vec<u8>, Failure> {
    let wanted = Wanted { matter: Matter::File(subject, imprint), who, how };
    if let Some(before) = wanted.find() {
        return Ok(before);
    }
    let refused = |e: signatures::Error| refused(path, &e);
    let unsigned = authenticode::prepare(subject, imprint, &who.chain, &how.named).map_err(refused)?;
    let (signature, stamp) = super::elsewhere::signed(&unsigned, path, who, how)?;
    let stamp: Vec<Attribute> = stamp.into_iter().map(|value| Attribute { oid: oid::SPC_TIMESTAMP, value }).collect();
    let made = unsigned.finish(&signature, &stamp).map_err(refused)?;
    Ok(wanted.keep(made))
}

/// A file of which nothing is known yet.
pub(super) fn unchecked(path: &Path) -> Verdict {
    Verdict {
        file: path.to_owned(),
        good: false,
        signatures: Vec::new(),
        problems: Vec::new(),
        inside: Vec::new(),
        unchecked: vec!["whether a certificate was revoked".into()],
    }
}

/// How much of a file is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Depth {
    /// Its own signature.
    Itself,
    /// The programs inside of it, too, which may take so many times the usual limits.
    Inside(u64),
}

/// See [`super::verify`].
pub(super) fn verify(path: &Path, roots: &[Certificate], now: u64, depth: Depth) -> Result<Verdict, Failure> {
    if let Some(verdict) = super::of_macos::verify(path, roots, now, depth)? {
        return Ok(verdict);
    }
    let mut verdict = unchecked(path);
    let found = Form::open(path).and_then(|mut form| Ok((form.signatures()?, form)));
    let (all, mut form) = match found {
        Ok(found) => found,
        Err(pe_image::Error::Io(e)) => return Err(Failure::io("can't read", path, e)),
        Err(pe_image::Error::Unsupported(_)) => return super::beside::verify(path, roots, now),
        Err(e) => {
            verdict.problems.push(e.to_string());
            return Ok(verdict);
        }
    };
    let mut left = all;
    let mut count = 0;
    while let Some(bytes) = (!left.is_empty()).then(|| left.remove(0)) {
        count += 1;
        if count > MOST_SIGNATURES {
            verdict.problems.push(format!("it has more than {MOST_SIGNATURES} signatures"));
            break;
        }
        match authenticode::check(&bytes, form.subject(), roots, now) {
            Ok(report) => {
                let digest = form.digest(report.hash).map_err(|e| unreadable(path, e))?;
                verdict.problems.extend(form.oddities(Some(report.hash)).map_err(|e| unreadable(path, e))?);
                let mut facts = SignatureFacts::of(&report, &digest);
                facts.problems.extend(form.refuses(&report.signer, report.hash));
                if let Some(signed) = &report.pages {
                    let own = form.pages();
                    if !own.is_ok_and(|own| own.as_ref() == Some(signed)) {
                        facts.problems.push("the digests of its pages are not those of its pages".into());
                    }
                }
                verdict.signatures.push(facts);
                let Report { further, .. } = report;
                left.splice(0..0, further);
            }
            Err(e) => verdict.problems.push(format!("its signature can't be checked: {e}")),
        }
    }
    verdict.problems.dedup();
    if verdict.signatures.is_empty() && verdict.problems.is_empty() {
        verdict.problems.push("it is not signed".into());
    }
    verdict.judge();
    Ok(verdict)
}

/// More than anybody makes.
const MOST_SIGNATURES: usize = 8;
