//! Signatures of files that have no place for one: they lie beside the file, and a list of digests has one for all files in
//! it.

use super::file::{Existing, Prepared, Signed};
use super::{Certificate, CertificateFacts, Hash, SignatureFacts, StampFacts, Verdict, shown};
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use signatures::chain::Doubts;
use signatures::detached;
use signatures::key::Identity;
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};

/// How the name of a signature ends (RFC 8551, 3.2.1).
const ENDING: &str = "p7s";
/// The longest signature that is read, bytes.
const LONGEST: u64 = 1 << 20;
/// The list of digests of all packages, in the form of `sha256sum`.
pub const SUMS: &str = "SHA256SUMS";
/// The longest list, and the most files in it.
const LONGEST_LIST: u64 = 16 << 20;

/// Where the signature of a file lies.
pub fn signature_of(path: &Path) -> PathBuf {
    with_ending(path, ENDING)
}

/// A file's path with one more ending.
pub(super) fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".");
    name.push(ending);
    path.with_file_name(name)
}

pub(super) fn digest(path: &Path, hash: Hash) -> std::io::Result<Vec<u8>> {
    let mut file = File::open(path)?;
    let mut digester = hash.digester();
    let mut buffer = vec![0; 1 << 18];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(digester.finish()),
            n => digester.update(&buffer[..n]),
        }
    }
}

/// Signs a file that has no place for a signature.
pub(super) fn sign(path: &Path, who: &Identity, how: &Signed) -> Result<Prepared, Failure> {
    let own = signature_of(path);
    if own.symlink_metadata().is_ok() && how.existing != Existing::Replace {
        let problem = Problem::error(Code::AlreadySigned, format!("{} is there already", own.display())).on(&own);
        return Err(Failure::new(Kind::Problems, problem.instead("`--existing replace` for another in its place")));
    }
    let (signature, verdict) = made(path, path, who, how)?;
    let name = own.file_name().unwrap_or_default().to_string_lossy();
    let beside = own.with_file_name(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    let trouble = |e: std::io::Error| Failure::io("can't write", &beside, e);
    let mut file = File::create(&beside).map_err(trouble)?;
    file.write_all(&signature).and_then(|()| file.sync_all()).map_err(trouble)?;
    Ok(Prepared::new(vec![(own, beside, litter)], Verdict { file: path.to_owned(), ..verdict }))
}

/// A signature of a file, for beside it, and what it says; `place` is what the file will be called.
///
/// # Errors
/// The file can't be read, the key or the clock fail; or something other than whom to trust is wrong with the signature.
pub(super) fn made(path: &Path, place: &Path, who: &Identity, how: &Signed) -> Result<(Vec<u8>, Verdict), Failure> {
    let hash = how.hash.unwrap_or_else(|| who.signer.public_key().usual_hash());
    let digest = digest(path, hash).map_err(|e| Failure::io("can't read", path, e))?;
    let refused = |e: signatures::Error| super::file::refused(place, &e);
    let unsigned = detached::prepare(hash, &digest, who).map_err(refused)?;
    let (signature, stamp) = super::elsewhere::signed(&unsigned, place, who, how)?;
    let whole = detached::finish(&unsigned, &signature, stamp).map_err(refused)?;
    let verdict = super::file::held(checked(place, &whole, |_| Ok(digest), &who.chain, super::now()), place)?;
    Ok((whole, verdict))
}

/// What a signature beside a file says, which has the digest that is given.
fn checked(
    path: &Path,
    signature: &[u8],
    of_file: impl FnOnce(Hash) -> signatures::Result<Vec<u8>>,
    roots: &[Certificate],
    now: u64,
) -> Verdict {
    let mut verdict = super::file::unchecked(path);
    match detached::check(signature, of_file, roots, now) {
        Ok(report) => {
            let Doubts { untrusted, faults } = report.doubts();
            verdict.signatures.push(SignatureFacts {
                chain: report.chain.certificates.iter().map(CertificateFacts::from).collect(),
                timestamp: report.stamp.as_ref().map(StampFacts::from),
                untrusted: untrusted.iter().map(|why| shown(why)).collect(),
                problems: faults.iter().map(|problem| shown(problem)).collect(),
                ..SignatureFacts::unnamed(report.hash.name().to_owned())
            });
        }
        Err(e) => verdict.problems.push(format!("its signature can't be trusted: {e}")),
    }
    verdict
}

/// Looks at the signature beside a file; and, of a list of digests, at all files in it.
pub(super) fn verify(path: &Path, roots: &[Certificate], now: u64) -> Result<Verdict, Failure> {
    let own = signature_of(path);
    let mut verdict = match std::fs::metadata(&own) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            let mut verdict = super::file::unchecked(path);
            let name = own.file_name().unwrap_or_default().to_string_lossy();
            verdict.problems.push(format!("it is not signed: there is no {name} beside it"));
            return Ok(verdict);
        }
        Err(e) => return Err(Failure::io("can't read", &own, e)),
        Ok(meta) if meta.len() > LONGEST => {
            let mut verdict = super::file::unchecked(path);
            verdict.problems.push("its signature is too long to be one".into());
            return Ok(verdict);
        }
        Ok(_) => {
            let bytes = crate::input::read(&own).map_err(|e| Failure::io("can't read", &own, e))?;
            let of_file = |hash| digest(path, hash).map_err(|e| signatures::Error::malformed(e.to_string()));
            checked(path, &bytes, of_file, roots, now)
        }
    };
    check_list(path, &mut verdict)?;
    verdict.judge();
    Ok(verdict)
}

/// Of a list of digests, looks at all files in it. What the list says counts only if it is what was signed.
pub(super) fn check_list(path: &Path, verdict: &mut Verdict) -> Result<(), Failure> {
    let holds = verdict.problems.is_empty()
        && !verdict.signatures.is_empty()
        && verdict.signatures.iter().all(|signature| signature.problems.is_empty());
    if holds && path.file_name().is_some_and(|name| name == SUMS) {
        verdict.problems.extend(sums(path).map_err(|e| Failure::io("can't read", path, e))?);
    }
    Ok(())
}

/// What is wrong with the files of a list, which lie beside it.
fn sums(list: &Path) -> std::io::Result<Vec<String>> {
    let mut problems = Vec::new();
    let mut any = false;
    let mut seen = std::collections::BTreeSet::new();
    for line in BufReader::new(File::open(list)?.take(LONGEST_LIST)).lines() {
        let line = line?;
        let Some((digits, name)) = line.split_once("  ").filter(|(digits, name)| {
            digits.len() == 64 && !name.is_empty() && !name.contains(['/', '\\']) && *name != ".."
        }) else {
            problems
                .push(format!("a line of it names no file beside it: {:?}", line.chars().take(80).collect::<String>()));
            continue;
        };
        any = true;
        if !seen.insert(name.to_owned()) {
            problems.push(format!("{} stands in it twice", shown(name)));
            continue;
        }
        if let Err(e) = crate::input::is_file(&list.with_file_name(name)) {
            problems.push(match e.kind() {
                std::io::ErrorKind::NotFound => format!("{} is missing", shown(name)),
                _ => format!("{} can't be read: {e}", shown(name)),
            });
            continue;
        }
        match digest(&list.with_file_name(name), Hash::Sha256) {
            Ok(own) if hexadecimal(&own) == digits => {}
            Ok(_) => problems.push(format!("{} was changed after it was signed", shown(name))),
            Err(e) => problems.push(format!("{} can't be read: {e}", shown(name))),
        }
    }
    if !any && problems.is_empty() {
        problems.push("it names no file".into());
    }
    Ok(problems)
}

pub(crate) fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
