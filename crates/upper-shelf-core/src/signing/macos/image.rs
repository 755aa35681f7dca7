//! Disk images: one digest over all of it, and one over its end.

use super::code::{Again, CodeSigner, best};
use super::verify::{Report, message_of};
use crate::problem::Failure;
use crate::signing::file::unreadable;
use crate::signing::{Certificate, Identity, SignatureFacts, Signed};
use code_signature::{Blobs, Directory, Entitlements, HashKind, Requirement, blob, page_hashes, slot};
use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;
use udif::signature::SignedParts;

/// An image that may have a signature.
pub(crate) struct DiskImage {
    file: File,
    parts: SignedParts,
}

impl DiskImage {
    /// Opens one; nothing for any other file.
    pub fn open(path: &Path) -> code_signature::Result<Option<Self>> {
        let file = File::open(path)?;
        let found = SignedParts::find(&file);
        let parts = found.map_err(|e| code_signature::Error::format(0, e.to_string()))?;
        Ok(parts.map(|parts| Self { file, parts }))
    }
}

/// Signs an image that was just written, in place.
///
/// # Errors
/// The key, the clock or the medium fail.
pub fn sign_image(key: (&Identity, &Signed), identifier: &str, file: &mut File, place: &Path) -> Result<(), Failure> {
    let bad = |e: code_signature::Error| unreadable(place, e);
    let found = SignedParts::find(file).map_err(|e| bad(code_signature::Error::Usage(e.to_string())))?;
    let parts = found.ok_or_else(|| bad(code_signature::Error::Usage("it is no disk image".into())))?;
    let of_code = CodeSigner {
        key: Some(key),
        entitlements: Entitlements::default(),
        runtime: false,
        again: Again::All,
        prefix: identifier.to_owned(),
        identifier: None,
    };
    let requirements = of_code.requirement(identifier).map_or_else(Requirement::none, |r| r.to_bytes());
    let hash = HashKind::Sha256;
    let special =
        BTreeMap::from([(slot::REQUIREMENTS, hash.of(&requirements)), (slot::OF_THE_KIND, hash.of(&parts.trailer()))]);
    let directory = Directory {
        identifier: identifier.to_owned(),
        team: of_code.team(),
        flags: 0,
        hash,
        page_bits: 0,
        limit: parts.limit,
        special,
        pages: page_hashes(file, parts.limit, 0, hash).map_err(bad)?,
        executable: (0, 0, 0),
        runtime: 0,
    };
    let own = directory.to_bytes();
    let message = of_code.message(&own, &[directory.cd_hash(&own)], place)?;
    let all = vec![(slot::DIRECTORY, own), (slot::REQUIREMENTS, requirements), (slot::MESSAGE, blob(&message))];
    let put = parts.put(file, &Blobs::new(all).to_bytes());
    put.map_err(|e| match e {
        udif::Error::Io(e) => Failure::io("can't write", place, e),
        other => bad(code_signature::Error::Usage(other.to_string())),
    })
}

/// Looks at an image's own signature: what it says, and what is wrong with it.
pub(crate) fn verify_image(
    image: &DiskImage,
    roots: &[Certificate],
    now: u64,
) -> code_signature::Result<(Option<SignatureFacts>, Vec<String>)> {
    let found = image.parts.signature(&image.file);
    let Some(bytes) = found.map_err(|e| code_signature::Error::format(0, e.to_string()))? else {
        return Ok((None, Vec::new()));
    };
    let blobs = Blobs::read(&bytes)?;
    let Some((directory, own)) = best(&blobs) else {
        return Err(code_signature::Error::format(0, "its signature has no directory that can be read"));
    };
    let mut report = Report::default();
    if directory.limit != image.parts.limit {
        report.problems.push("its signature is not of all of it".into());
    } else if page_hashes(&image.file, directory.limit, directory.page_bits, directory.hash)? != directory.pages {
        report.problems.push("the file was changed after it was signed".into());
    }
    if directory.special.contains_key(&slot::OF_THE_KIND) && !directory.fits(slot::OF_THE_KIND, &image.parts.trailer())
    {
        report.problems.push("its end was changed after it was signed".into());
    }
    report.beside(&blobs, &directory);
    let facts = message_of(&blobs, &directory, own, roots, now, &mut report);
    Ok((Some(facts), report.problems))
}
