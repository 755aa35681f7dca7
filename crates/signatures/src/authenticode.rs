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
    /// A package that Windows installs by itself (MSIX); its digest is several in one.
    Package,
    /// A bundle of such packages.
    Bundle,
}

/// `{000C10F1-0000-0000-C000-000000000046}`, as it is written: the part of the system that reads installer packages.
const INSTALLER: [u8; 16] = [0xf1, 0x10, 0x0c, 0, 0, 0, 0, 0, 0xc0, 0, 0, 0, 0, 0, 0, 0x46];

/// `{0AC5DF4B-CE07-4DE2-B76E-23C839A09FD1}`, as it is written: the part of the system that reads packages.
const PACKAGE: [u8; 16] =
    [0x4b, 0xdf, 0xc5, 0x0a, 0x07, 0xce, 0xe2, 0x4d, 0xb7, 0x6e, 0x23, 0xc8, 0x39, 0xa0, 0x9f, 0xd1];
/// `{0F5F58B3-AADE-4B9A-A434-95742D92ECEB}`, as it is written: the one that reads bundles.
const BUNDLE: [u8; 16] =
    [0xb3, 0x58, 0x5f, 0x0f, 0xde, 0xaa, 0x9a, 0x4b, 0xa4, 0x34, 0x95, 0x74, 0x2d, 0x92, 0xec, 0xeb];
/// The version of their forms of signatures.
const PACKAGE_VERSION: [u8; 4] = [1, 1, 0, 0];

/// The part of the system that reads such files, and the version of its form.
fn reader_of(subject: Subject) -> Option<([u8; 16], &'static [u8])> {
    match subject {
        Subject::Program => None,
        Subject::Installer => Some((INSTALLER, &[1])),
        Subject::Package => Some((PACKAGE, &PACKAGE_VERSION)),
        Subject::Bundle => Some((BUNDLE, &PACKAGE_VERSION)),
    }
}

/// What stands in place of a file's name, by the description.
const OBSOLETE: &str = "<<<Obsolete>>>";

/// The form of the digests of pages: `{A6B586D5-B4A1-2466-AE05-A217DA8E60D6}`, as it is written.
const PAGE_HASHES: [u8; 16] =
    [0xa6, 0xb5, 0x86, 0xd5, 0xb4, 0xa1, 0x24, 0x66, 0xae, 0x05, 0xa2, 0x17, 0xda, 0x8e, 0x60, 0xd6];

/// What is signed of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Imprint<'i> {
    /// The digest's kind.
    pub hash: Hash,
    /// The digest of all of it.
    pub digest: &'i [u8],
    /// The digests of a program's pages, SHA-256, as a table.
    pub pages: Option<&'i [u8]>,
}

/// The value that is signed, `SpcIndirectDataContent`.
pub fn indirect_data(subject: Subject, imprint: Imprint) -> Vec<u8> {
    let Imprint { hash, digest, pages } = imprint;
    let what = match subject {
        Subject::Program => {
            let link = match pages {
                None => {
                    let name: Vec<u8> = OBSOLETE.encode_utf16().flat_map(u16::to_be_bytes).collect();
                    raw::value(tag::inside(2), &[&raw::value(tag::plain(0), &[&name])])
                }
                // In the place of a name: a table in a set in an attribute in a set.
                Some(pages) => {
                    let table = raw::set(&[&raw::value(tag::OCTETS, &[pages])]);
                    let all = raw::set(&[&raw::sequence(&[&raw::named(oid::SPC_PAGE_HASHES), &table])]);
                    let form = raw::value(tag::OCTETS, &[&PAGE_HASHES]);
                    raw::value(tag::inside(1), &[&form, &raw::value(tag::OCTETS, &[&all])])
                }
            };
            let image = raw::sequence(&[&[tag::BITS, 1, 0], &raw::value(tag::inside(0), &[&link])]);
            raw::sequence(&[&raw::named(oid::SPC_PE_IMAGE), &image])
        }
        Subject::Installer | Subject::Package | Subject::Bundle => {
            let (reader, version) = reader_of(subject).unwrap_or((INSTALLER, &[1]));
            let zero = raw::number(&[]);
            let info = raw::sequence(&[
                &raw::number(version),
                &raw::value(tag::OCTETS, &[&reader]),
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
pub fn prepare(subject: Subject, imprint: Imprint, chain: &[Certificate], named: &Named) -> Result<Unsigned> {
    let (value, hash) = (indirect_data(subject, imprint), imprint.hash);
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
    let unsigned = prepare(subject, Imprint { hash, digest, pages: None }, &who.chain, named)?;
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
    /// The digests of pages that were signed, SHA-256, as a table.
    pub pages: Option<Vec<u8>>,
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
    let what = what.with(tag::SEQUENCE)?.children()?;
    let kind = what.first().map(raw::Item::oid).transpose()?;
    let of_another = || Error::signature("the signature is of another kind of file");
    match (reader_of(subject), &what[..]) {
        (None, _) if kind == Some(oid::SPC_PE_IMAGE) => {}
        (Some((reader, _)), [_, info]) if kind == Some(oid::SPC_SIP_INFO) => {
            let fields = info.with(tag::SEQUENCE)?.children()?;
            let own = fields.get(1).ok_or_else(of_another)?.with(tag::OCTETS)?.value;
            if own != reader {
                return Err(of_another());
            }
        }
        _ => return Err(of_another()),
    }
    let [algorithm, value] = digest.with(tag::SEQUENCE)?.children()?[..] else {
        return Err(Error::malformed("the digest does not have two parts"));
    };
    let hash = Hash::from_oid(crate::public::named(algorithm)?)?;
    let pages = match (subject, &what[..]) {
        (Subject::Program, [_, image]) => pages(*image)?,
        _ => None,
    };
    let stamp = stamp(signed, roots)?;
    let at = stamp.as_ref().map_or(now, |stamp| stamp.time);
    let named = signed.only_signed(oid::SPC_OPUS).ok().map(Named::read).transpose()?.unwrap_or_default();
    Ok(Report {
        hash,
        digest: value.with(tag::OCTETS)?.value.to_vec(),
        pages,
        named,
        chain: message.chain(&signer, roots, at, Purpose::Code),
        signer,
        stamp,
        further: signed.unsigned(oid::SPC_NESTED_SIGNATURE).map(|item| item.all.to_vec()).collect(),
    })
}

/// The digests of pages in what is said of a program, if they are there.
fn pages(image: raw::Item) -> Result<Option<Vec<u8>>> {
    let other = || Error::unsupported("the digests of its pages are in a form that is not checked here");
    let Some(file) = image.with(tag::SEQUENCE)?.children()?.into_iter().find(|item| item.tag == tag::inside(0)) else {
        return Ok(None);
    };
    let [link] = file.children()?[..] else { return Ok(None) };
    if link.tag != tag::inside(1) {
        return Ok(None);
    }
    let [form, data] = link.children()?[..] else { return Err(other()) };
    if form.with(tag::OCTETS)?.value != PAGE_HASHES {
        return Err(other());
    }
    let all = raw::only(data.with(tag::OCTETS)?.value, tag::SET)?;
    let [attribute] = all.children()?[..] else { return Err(other()) };
    let [name, tables] = attribute.with(tag::SEQUENCE)?.children()?[..] else { return Err(other()) };
    let [table] = tables.with(tag::SET)?.children()?[..] else { return Err(other()) };
    if name.oid()? != oid::SPC_PAGE_HASHES {
        return Err(other());
    }
    Ok(Some(table.with(tag::OCTETS)?.value.to_vec()))
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
