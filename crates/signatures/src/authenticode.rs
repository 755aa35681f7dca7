//! What signatures of Windows hold, as its published description ("Windows Authenticode Portable Executable Signature
//! Format") says: the digest of a program or package, in a signed message.

use crate::certificate::Purpose;
use crate::chain::{Chain, Doubts};
use crate::key::Identity;
use crate::message::{Attribute, Content, Message, Signed, Unsigned};
use crate::raw::{self, tag};
use crate::timestamp::{self, Stamp};
use crate::{Certificate, Error, Hash, Result, oid};

/// What is signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// A program or a library.
    Program,
    /// A Windows Installer package.
    Installer,
}

/// `{000C10F1-0000-0000-C000-000000000046}`, as it is written: the part of the system that reads installer packages.
const INSTALLER: [u8; 16] = [0xf1, 0x10, 0x0c, 0, 0, 0, 0, 0, 0xc0, 0, 0, 0, 0, 0, 0, 0x46];

/// What stands in place of a file's name, by the description.
const OBSOLETE: &str = "<<<Obsolete>>>";

/// The value that is signed, `SpcIndirectDataContent`.
pub fn indirect_data(subject: Subject, hash: Hash, digest: &[u8]) -> Vec<u8> {
    let what = match subject {
        Subject::Program => {
            let name: Vec<u8> = OBSOLETE.encode_utf16().flat_map(u16::to_be_bytes).collect();
            let link = raw::value(tag::inside(2), &[&raw::value(tag::plain(0), &[&name])]);
            let image = raw::sequence(&[&[tag::BITS, 1, 0], &raw::value(tag::inside(0), &[&link])]);
            raw::sequence(&[&raw::named(oid::SPC_PE_IMAGE), &image])
        }
        Subject::Installer => {
            let zero = raw::number(&[]);
            let info = raw::sequence(&[
                &raw::number(&[1]),
                &raw::value(tag::OCTETS, &[&INSTALLER]),
                &zero,
                &zero,
                &zero,
                &zero,
                &zero,
            ]);
            raw::sequence(&[&raw::named(oid::SPC_SIP_INFO), &info])
        }
    };
    let digest = raw::sequence(&[&hash.algorithm(), &raw::value(tag::OCTETS, &[digest])]);
    raw::sequence(&[&what, &digest])
}

/// Who the program says that it is, beside its certificate.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Named {
    /// The product's name.
    pub name: Option<String>,
    /// Its web page.
    pub page: Option<String>,
}

impl Named {
    fn der(&self) -> Vec<u8> {
        let name = self.name.as_ref().map_or(Vec::new(), |name| {
            let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
            raw::value(tag::inside(0), &[&raw::value(tag::plain(0), &[&units])])
        });
        let page =
            self.page.as_ref().filter(|page| page.is_ascii()).map_or(Vec::new(), |page| {
                raw::value(tag::inside(1), &[&raw::value(tag::plain(0), &[page.as_bytes()])])
            });
        raw::sequence(&[&name, &page])
    }

    fn read(value: raw::Item) -> Result<Self> {
        let mut named = Self::default();
        for item in value.with(tag::SEQUENCE)?.children()? {
            let inner = item.children()?;
            match (item.tag, &inner[..]) {
                (tag, [text]) if tag == tag::inside(0) => {
                    let units: Vec<u16> =
                        text.value.as_chunks::<2>().0.iter().map(|unit| u16::from_be_bytes(*unit)).collect();
                    named.name = Some(String::from_utf16_lossy(&units));
                }
                (tag, [link]) if tag == tag::inside(1) && link.tag == tag::plain(0) => {
                    named.page = Some(String::from_utf8_lossy(link.value).into_owned());
                }
                _ => {}
            }
        }
        Ok(named)
    }
}

/// A signature to be.
///
/// # Errors
/// The key can't be used.
pub fn prepare(subject: Subject, hash: Hash, digest: &[u8], chain: &[Certificate], named: &Named) -> Result<Unsigned> {
    let value = indirect_data(subject, hash, digest);
    // The digest is of what is in the value, without its tag and length.
    let inner = raw::only(&value, tag::SEQUENCE)?.value;
    let content = Content { kind: oid::SPC_INDIRECT_DATA, value: Some(&value), digest: &hash.of(inner) };
    let statement = raw::sequence(&[&raw::named(oid::SPC_INDIVIDUAL)]);
    let further =
        [Attribute { oid: oid::SPC_STATEMENT, value: statement }, Attribute { oid: oid::SPC_OPUS, value: named.der() }];
    Unsigned::new(content, hash, chain, &further)
}

/// Asks for a timestamp of a signature: what it gives back is a token by RFC 3161.
pub type Stamper<'s> = dyn Fn(&[u8]) -> Result<Vec<u8>> + Sync + 's;

/// A whole signature.
///
/// # Errors
/// The key can't be used, or there is no timestamp.
pub fn sign(
    subject: Subject,
    hash: Hash,
    digest: &[u8],
    who: &Identity,
    named: &Named,
    stamper: Option<&Stamper>,
) -> Result<Vec<u8>> {
    let unsigned = prepare(subject, hash, digest, &who.chain, named)?;
    let signature = who.signer.sign(hash, unsigned.to_sign())?;
    let stamp = stamper.map(|stamper| stamper(&signature)).transpose()?;
    let attributes: Vec<Attribute> =
        stamp.into_iter().map(|value| Attribute { oid: oid::SPC_TIMESTAMP, value }).collect();
    unsigned.finish(&signature, &attributes)
}

/// What a signature says, when all of it fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// The digest's kind.
    pub hash: Hash,
    /// The digest that was signed.
    pub digest: Vec<u8>,
    /// Who the program says that it is.
    pub named: Named,
    /// Who signed.
    pub signer: Certificate,
    /// The way up from there.
    pub chain: Chain,
    /// When, by an authority for timestamps.
    pub stamp: Option<Stamp>,
    /// Further signatures, in the same form.
    pub further: Vec<Vec<u8>>,
}

impl Report {
    /// What is wrong with who signed, and with who says when.
    pub fn doubts(&self) -> Doubts {
        Doubts::of(&self.chain, self.stamp.as_ref().map(|stamp| &stamp.chain))
    }
}

/// Checks one signature. Chains are looked at as they were when a timestamp was made, else now (seconds since 1970).
///
/// # Errors
/// It is malformed, does not fit, or is of another kind of file.
pub fn check(bytes: &[u8], subject: Subject, roots: &[Certificate], now: u64) -> Result<Report> {
    let message = Message::read(bytes)?;
    if message.content_kind != oid::SPC_INDIRECT_DATA {
        return Err(Error::malformed("the signature is not one of a file"));
    }
    let content = message.content.ok_or_else(|| Error::malformed("the signature is empty"))?.with(tag::SEQUENCE)?;
    let signed = message.signer()?;
    let signer = message.check(signed, content.value)?.clone();
    let [what, digest] = content.children()?[..] else {
        return Err(Error::malformed("what is signed does not have two parts"));
    };
    let kind = what.with(tag::SEQUENCE)?.children()?.first().map(raw::Item::oid).transpose()?;
    let wanted = match subject {
        Subject::Program => oid::SPC_PE_IMAGE,
        Subject::Installer => oid::SPC_SIP_INFO,
    };
    if kind != Some(wanted) {
        return Err(Error::signature("the signature is of another kind of file"));
    }
    let [algorithm, value] = digest.with(tag::SEQUENCE)?.children()?[..] else {
        return Err(Error::malformed("the digest does not have two parts"));
    };
    let hash = Hash::from_oid(crate::public::named(algorithm)?)?;
    let stamp = stamp(signed, roots)?;
    let at = stamp.as_ref().map_or(now, |stamp| stamp.time);
    let named = signed.only_signed(oid::SPC_OPUS).ok().map(Named::read).transpose()?.unwrap_or_default();
    Ok(Report {
        hash,
        digest: value.with(tag::OCTETS)?.value.to_vec(),
        named,
        chain: message.chain(&signer, roots, at, Purpose::Code),
        signer,
        stamp,
        further: signed.unsigned(oid::SPC_NESTED_SIGNATURE).map(|item| item.all.to_vec()).collect(),
    })
}

fn stamp(signed: &Signed, roots: &[Certificate]) -> Result<Option<Stamp>> {
    let tokens: Vec<&[u8]> = signed.unsigned(oid::SPC_TIMESTAMP).map(|item| item.all).collect();
    match tokens[..] {
        [] => Ok(None),
        [token] => timestamp::check(token, signed.signature, roots)
            .map(Some)
            .map_err(|e| Error::new(e.kind, format!("its timestamp: {e}"))),
        _ => Err(Error::malformed("it has several timestamps")),
    }
}
