//! What signatures of macOS hold: the digest of the directory of a program, an image or a bundle, in a signed message that
//! lies beside that directory.
//!
//! Source: Apple's open Security framework.

use crate::message::{Attribute, Content, Message, Unsigned};
use crate::raw::{self, tag};
use crate::{Certificate, Error, Hash, Result, detached, oid};

/// What is signed: the directory, and what else goes into the message about it.
#[derive(Debug, Clone, Copy)]
pub struct Directory<'d> {
    /// Its bytes.
    pub bytes: &'d [u8],
    /// The list of all directories of the same code, a property list.
    pub list: &'d [u8],
}

/// The digest, which every system knows that runs what is signed here.
const HASH: Hash = Hash::Sha256;

/// What has to be signed for a directory.
///
/// # Errors
/// The key can't be used.
pub fn prepare(directory: Directory, chain: &[Certificate]) -> Result<Unsigned> {
    let digest = HASH.of(directory.bytes);
    let list = raw::value(tag::OCTETS, &[directory.list]);
    let own = raw::sequence(&[&raw::named(oid::SHA256), &raw::value(tag::OCTETS, &[&digest])]);
    let further =
        [Attribute { oid: oid::APPLE_DIRECTORIES, value: list }, Attribute { oid: oid::APPLE_DIRECTORY, value: own }];
    Unsigned::new(Content { kind: oid::DATA, value: None, digest: &digest }, HASH, chain, &further)
}

/// The whole signature, with a timestamp of it if there is one.
///
/// # Errors
/// It is not that of the certificate's key.
pub fn finish(unsigned: &Unsigned, signature: &[u8], stamp: Option<Vec<u8>>) -> Result<Vec<u8>> {
    detached::finish(unsigned, signature, stamp)
}

/// The digest's kind of a signature to be.
pub fn hash() -> Hash {
    HASH
}

/// What a signature of a directory says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Who signed, and when.
    pub signed: detached::Report,
    /// The list of directories that it is of, as it stands there; others may leave it out.
    pub list: Option<Vec<u8>>,
}

/// Checks a signature of a directory. Chains are looked at as they were when a timestamp was made, else now (seconds since
/// 1970).
///
/// # Errors
/// It is malformed, does not fit, or is of other code.
pub fn check(bytes: &[u8], directory: &[u8], roots: &[Certificate], now: u64) -> Result<Report> {
    let report = detached::check(bytes, |hash| Ok(hash.of(directory)), roots, now)?;
    let message = Message::read(bytes)?;
    let signer = message.signer()?;
    let mut own = Vec::new();
    for value in signer.signed(oid::APPLE_DIRECTORY) {
        let [kind, digest] = value.with(tag::SEQUENCE)?.children()?[..] else {
            return Err(Error::malformed("a digest of a directory that does not have two parts"));
        };
        if kind.oid()? == oid::SHA256 {
            own.push(digest.with(tag::OCTETS)?.value);
        }
    }
    // There are as many as there are directories of that kind; one of them is this one's.
    if !own.is_empty() && !own.contains(&&HASH.of(directory)[..]) {
        return Err(Error::signature("the signature is one of another directory"));
    }
    let list = signer.only_signed(oid::APPLE_DIRECTORIES).ok();
    let list = list.map(|value| Ok::<_, Error>(value.with(tag::OCTETS)?.value.to_vec())).transpose()?;
    Ok(Report { signed: report, list })
}

/// Whether somebody may spread programs with a certificate outside of Apple's store.
pub fn is_developer(certificate: &Certificate) -> bool {
    certificate.has_extension(oid::APPLE_DEVELOPER)
}

/// The team that a certificate of Apple's names.
pub fn team(certificate: &Certificate) -> Option<String> {
    certificate.is_of_apple().then(|| certificate.subject_part("OU")).flatten()
}
