//! Signatures that lie beside a file: signed messages (CMS, RFC 5652) without the content, as mail and others have them.

use crate::certificate::Purpose;
use crate::chain::{Chain, Doubts};
use crate::key::Identity;
use crate::message::{Attribute, Content, Message, Unsigned};
use crate::timestamp::{self, Stamp};
use crate::{Certificate, Error, Hash, Result, oid};

/// What has to be signed for the digest of a file.
///
/// # Errors
/// The key can't be used.
pub fn prepare(hash: Hash, digest: &[u8], who: &Identity) -> Result<Unsigned> {
    Unsigned::new(Content { kind: oid::DATA, value: None, digest }, hash, &who.chain, &[])
}

/// The whole signature, with a timestamp of it if there is one.
///
/// # Errors
/// It is not that of the certificate's key.
pub fn finish(unsigned: &Unsigned, signature: &[u8], stamp: Option<Vec<u8>>) -> Result<Vec<u8>> {
    let attributes: Vec<Attribute> = stamp.into_iter().map(|value| Attribute { oid: oid::TIMESTAMP, value }).collect();
    unsigned.finish(signature, &attributes)
}

/// What a signature says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// The digest's kind.
    pub hash: Hash,
    /// Who signed.
    pub signer: Certificate,
    /// The way up from there.
    pub chain: Chain,
    /// When, by an authority for timestamps.
    pub stamp: Option<Stamp>,
}

impl Report {
    /// What is wrong with who signed, and with who says when.
    pub fn doubts(&self) -> Doubts {
        Doubts::of(&self.chain, self.stamp.as_ref().map(|stamp| &stamp.chain))
    }
}

/// Checks a signature of a file whose digest is given. Chains are looked at as they were when a timestamp was made, else now
/// (seconds since 1970).
///
/// # Errors
/// It is malformed or does not fit, or the digest can't be had.
pub fn check(
    bytes: &[u8],
    digest: impl FnOnce(Hash) -> Result<Vec<u8>>,
    roots: &[Certificate],
    now: u64,
) -> Result<Report> {
    let message = Message::read(bytes)?;
    if message.content_kind != oid::DATA || message.content.is_some() {
        return Err(Error::malformed("it is not a signature that lies beside a file"));
    }
    let signed = message.signer()?;
    let hash = signed.hash.clone()?;
    let signer = message.check_digest(signed, &digest(hash)?)?.clone();
    let stamps: Vec<&[u8]> = signed.unsigned(oid::TIMESTAMP).map(|item| item.all).collect();
    let stamp = match stamps[..] {
        [] => None,
        [token] => {
            let stamp = timestamp::check(token, signed.signature, roots);
            Some(stamp.map_err(|e| Error::new(e.kind, format!("its timestamp: {e}")))?)
        }
        _ => return Err(Error::malformed("it has several timestamps")),
    };
    let at = stamp.as_ref().map_or(now, |stamp| stamp.time);
    Ok(Report { hash, chain: message.chain(&signer, roots, at, Purpose::Code), signer, stamp })
}
