//! Signed messages (CMS, RFC 5652): made with one signer, read with any number.

use crate::certificate::Purpose;
use crate::chain::{Chain, chain};
use crate::key::Identity;
use crate::public::{Scheme, named};
use crate::raw::{self, Item, tag};
use crate::{Certificate, Error, Hash, Result, oid};
use der::asn1::ObjectIdentifier as Oid;

/// An attribute: its number and its only value, as bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// Which one.
    pub oid: Oid,
    /// Its value.
    pub value: Vec<u8>,
}

impl Attribute {
    fn der(&self) -> Vec<u8> {
        raw::sequence(&[&raw::named(self.oid), &raw::set(&[&self.value])])
    }
}

/// What is signed.
#[derive(Debug, Clone, Copy)]
pub struct Content<'a> {
    /// What it is.
    pub kind: Oid,
    /// The value that goes into the message; `None` when it lies elsewhere.
    pub value: Option<&'a [u8]>,
    /// The digest of its content.
    pub digest: &'a [u8],
}

/// A message without its signature: what has to be signed can be carried elsewhere and come back signed.
#[derive(Debug, Clone)]
pub struct Unsigned {
    hash: Hash,
    content_kind: Oid,
    content: Option<Vec<u8>>,
    certificates: Vec<Certificate>,
    signed: Vec<u8>,
    algorithm: Vec<u8>,
    version: u8,
}

impl Unsigned {
    /// Puts together what will be signed: the content's kind and digest, and further attributes.
    ///
    /// # Errors
    /// There is no certificate, or its key can't be used.
    pub fn new(content: Content, hash: Hash, chain: &[Certificate], further: &[Attribute]) -> Result<Self> {
        let own = chain.first().ok_or_else(|| Error::malformed("there is no certificate to sign with"))?;
        let mut attributes = vec![
            Attribute { oid: oid::CONTENT_TYPE, value: raw::named(content.kind) },
            Attribute { oid: oid::MESSAGE_DIGEST, value: raw::value(tag::OCTETS, &[content.digest]) },
        ];
        attributes.extend_from_slice(further);
        let attributes: Vec<Vec<u8>> = attributes.iter().map(Attribute::der).collect();
        let parts: Vec<&[u8]> = attributes.iter().map(Vec::as_slice).collect();
        Ok(Self {
            hash,
            content_kind: content.kind,
            content: content.value.map(<[u8]>::to_vec),
            certificates: chain.to_vec(),
            signed: raw::set(&parts),
            algorithm: own.public_key()?.signature_algorithm(hash),
            // Version 3 where the content is no plain data (RFC 5652, 5.1). Readers of signed programs want 1.
            version: if content.kind == oid::TIMESTAMP_INFO { 3 } else { 1 },
        })
    }

    /// The bytes that are signed.
    pub fn to_sign(&self) -> &[u8] {
        &self.signed
    }

    /// Whether a signature is one of these bytes, by the certificate's key.
    ///
    /// # Errors
    /// It is not.
    pub fn fits(&self, signature: &[u8]) -> Result<()> {
        let scheme = Scheme::read(raw::only(&self.algorithm, tag::SEQUENCE)?, Some(self.hash))?;
        self.certificates[0].public_key()?.verify(scheme, &self.signed, signature)
    }

    /// The kind of digest that is signed.
    pub fn hash(&self) -> Hash {
        self.hash
    }

    /// The whole message, with attributes that are not signed.
    ///
    /// # Errors
    /// The signature is not that of the certificate's key.
    pub fn finish(&self, signature: &[u8], unsigned: &[Attribute]) -> Result<Vec<u8>> {
        let own = &self.certificates[0];
        self.fits(signature)?;
        let unsigned: Vec<Vec<u8>> = unsigned.iter().map(Attribute::der).collect();
        let parts: Vec<&[u8]> = unsigned.iter().map(Vec::as_slice).collect();
        let unsigned = if parts.is_empty() { Vec::new() } else { retagged(&raw::set(&parts), tag::inside(1)) };
        let issuer = raw::sequence(&[own.issuer_der(), &raw::value(tag::INTEGER, &[own.serial()])]);
        let signer = raw::sequence(&[
            &raw::number(&[1]),
            &issuer,
            &self.hash.algorithm(),
            &retagged(&self.signed, tag::inside(0)),
            &self.algorithm,
            &raw::value(tag::OCTETS, &[signature]),
            &unsigned,
        ]);
        let mut content = raw::named(self.content_kind);
        content.extend(self.content.iter().flat_map(|value| raw::value(tag::inside(0), &[value])));
        let certificates: Vec<&[u8]> = self.certificates.iter().map(Certificate::der).collect();
        let message = raw::sequence(&[
            &raw::number(&[self.version]),
            &raw::set(&[&self.hash.algorithm()]),
            &raw::sequence(&[&content]),
            &retagged(&raw::set(&certificates), tag::inside(0)),
            &raw::set(&[&signer]),
        ]);
        Ok(raw::sequence(&[&raw::named(oid::SIGNED_DATA), &raw::value(tag::inside(0), &[&message])]))
    }
}

/// Signs in one go.
///
/// # Errors
/// The key can't be used.
pub fn sign(content: Content, hash: Hash, who: &Identity, further: &[Attribute]) -> Result<Vec<u8>> {
    let unsigned = Unsigned::new(content, hash, &who.chain, further)?;
    unsigned.finish(&who.signer.sign(hash, unsigned.to_sign())?, &[])
}

/// The message with a further attribute that is not signed; everything else stays as it is, byte for byte.
///
/// # Errors
/// It is malformed, or has not exactly one signature.
pub fn with_unsigned(message: &[u8], attribute: &Attribute) -> Result<Vec<u8>> {
    Message::read(message)?.signer()?;
    let outer = raw::only(message, tag::SEQUENCE)?.children()?;
    let [kind, content] = outer[..] else { return Err(Error::malformed("a signed message is too short")) };
    let fields = content.only(tag::SEQUENCE)?.children()?;
    let (signers, before) = fields.split_last().ok_or_else(|| Error::malformed("a signed message is empty"))?;
    let parts = signers.only(tag::SEQUENCE)?.children()?;
    let own = attribute.der();
    let (mut attributes, kept) = match parts.split_last() {
        Some((last, rest)) if last.tag == tag::inside(1) => (last.children()?, rest),
        _ => (Vec::new(), &parts[..]),
    };
    attributes.push(Item { tag: tag::SEQUENCE, all: &own, value: &[] });
    let attributes: Vec<&[u8]> = attributes.iter().map(|item| item.all).collect();
    let attributes = retagged(&raw::set(&attributes), tag::inside(1));
    let signer: Vec<&[u8]> = kept.iter().map(|item| item.all).chain([attributes.as_slice()]).collect();
    let signers = raw::value(tag::SET, &[&raw::sequence(&signer)]);
    let all: Vec<&[u8]> = before.iter().map(|item| item.all).chain([signers.as_slice()]).collect();
    let inner = raw::value(tag::inside(0), &[&raw::sequence(&all)]);
    Ok(raw::sequence(&[kind.all, &inner]))
}

fn retagged(value: &[u8], tag: u8) -> Vec<u8> {
    let mut out = value.to_vec();
    out[0] = tag;
    out
}

/// More certificates than any message needs: a chain is looked for among all of them.
const MOST_CERTIFICATES: usize = 64;

/// A message that was read; all its parts are those bytes.
#[derive(Debug, Clone)]
pub struct Message<'a> {
    /// What its content is.
    pub content_kind: Oid,
    /// The content; `None` when it lies elsewhere.
    pub content: Option<Item<'a>>,
    /// Certificates that came with it; those that can't be read are left out, and counted.
    pub certificates: Vec<Certificate>,
    /// How many can't be read.
    pub unreadable: usize,
    /// Who signed.
    pub signers: Vec<Signed<'a>>,
}

/// One signature of a message.
#[derive(Debug, Clone)]
pub struct Signed<'a> {
    who: Who<'a>,
    /// The digest.
    pub hash: Result<Hash>,
    algorithm: Item<'a>,
    /// All signed attributes, as they stand in the message.
    attributes: Option<Item<'a>>,
    /// The signature itself.
    pub signature: &'a [u8],
    signed: Attributes<'a>,
    unsigned: Attributes<'a>,
}

#[derive(Debug, Clone, Copy)]
enum Who<'a> {
    Serial { issuer: &'a [u8], serial: &'a [u8] },
    Key(&'a [u8]),
}

/// Attributes: each one's number and values.
type Attributes<'a> = Vec<(Oid, Vec<Item<'a>>)>;

fn attributes(set: Item<'_>) -> Result<Attributes<'_>> {
    let mut all = Vec::new();
    for item in set.children()? {
        let [name, values] = item.with(tag::SEQUENCE)?.children()?[..] else {
            return Err(Error::malformed("an attribute does not have two parts"));
        };
        all.push((name.oid()?, values.with(tag::SET)?.children()?));
    }
    Ok(all)
}

impl<'a> Message<'a> {
    /// Reads a message.
    ///
    /// # Errors
    /// It is malformed.
    pub fn read(bytes: &'a [u8]) -> Result<Self> {
        let short = || Error::malformed("a signed message is too short");
        let [kind, content] = raw::only(bytes, tag::SEQUENCE)?.children()?[..] else { return Err(short()) };
        if kind.oid()? != oid::SIGNED_DATA {
            return Err(Error::malformed("it is not a signed message"));
        }
        let fields = content.with(tag::inside(0))?.only(tag::SEQUENCE)?.children()?;
        let [_version, _digests, content, rest @ ..] = &fields[..] else { return Err(short()) };
        let content = content.with(tag::SEQUENCE)?.children()?;
        let (content_kind, value) = match content[..] {
            [kind] => (kind.oid()?, None),
            [kind, value] => match value.with(tag::inside(0))?.children()?[..] {
                [value] => (kind.oid()?, Some(value)),
                _ => return Err(Error::malformed("a signed message has several contents")),
            },
            _ => return Err(short()),
        };
        let (mut certificates, mut unreadable) = (Vec::new(), 0);
        let mut signers = None;
        for field in rest {
            match field.tag {
                tag if tag == tag::inside(0) => {
                    let all = field.children()?;
                    if all.len() > MOST_CERTIFICATES {
                        return Err(Error::malformed(format!("it brings more than {MOST_CERTIFICATES} certificates")));
                    }
                    for item in all {
                        match Certificate::from_der(item.all) {
                            Ok(certificate) => certificates.push(certificate),
                            Err(_) => unreadable += 1,
                        }
                    }
                }
                // Lists of what was revoked are not looked at.
                tag if tag == tag::inside(1) => {}
                tag::SET if signers.is_none() => {
                    let all: Result<Vec<Signed>> = field.children()?.into_iter().map(Signed::read).collect();
                    signers = Some(all?);
                }
                _ => return Err(Error::malformed("a signed message has a part too many")),
            }
        }
        let signers = signers.ok_or_else(short)?;
        Ok(Self { content_kind, content: value, certificates, unreadable, signers })
    }

    /// The bytes that the digest is made of.
    pub fn content_bytes(&self) -> Option<&'a [u8]> {
        self.content.map(|content| content.value)
    }

    /// The only signature in it.
    ///
    /// # Errors
    /// There is none, or there are several.
    pub fn signer(&self) -> Result<&Signed<'a>> {
        match &self.signers[..] {
            [one] => Ok(one),
            all => {
                Err(Error::malformed(format!("it has {} signatures in one message, where one is expected", all.len())))
            }
        }
    }

    /// Checks one signature: the certificate that made it, if the message holds it and all of it fits.
    ///
    /// # Errors
    /// What does not fit, or can't be checked.
    pub fn check(&self, signed: &Signed, content: &[u8]) -> Result<&Certificate> {
        let certificate = self.certificate_of(signed)?;
        let hash = signed.hash.clone()?;
        let scheme = Scheme::read(signed.algorithm, Some(hash))?;
        let key = certificate.public_key()?;
        if signed.attributes.is_none() {
            // Without attributes the content itself is signed (RFC 5652, 5.4).
            return key.verify(scheme, content, signed.signature).map(|()| certificate);
        }
        self.check_digest(signed, &hash.of(content))
    }

    /// The same for a content of which only the digest is known.
    ///
    /// # Errors
    /// What does not fit, or can't be checked; a signature without attributes, which is of the content itself.
    pub fn check_digest(&self, signed: &Signed, of_content: &[u8]) -> Result<&Certificate> {
        let certificate = self.certificate_of(signed)?;
        let scheme = Scheme::read(signed.algorithm, Some(signed.hash.clone()?))?;
        let attributes = signed.attributes.ok_or_else(|| {
            Error::unsupported("the signature has no attributes, and is checked only with its content in memory")
        })?;
        let digest = signed.only_signed(oid::MESSAGE_DIGEST)?.with(tag::OCTETS)?.value;
        if digest != of_content {
            return Err(Error::signature("what was signed has been changed"));
        }
        if signed.only_signed(oid::CONTENT_TYPE)?.oid()? != self.content_kind {
            return Err(Error::signature("the signature is for another kind of content"));
        }
        certificate.public_key()?.verify(scheme, &retagged(attributes.all, tag::SET), signed.signature)?;
        Ok(certificate)
    }

    /// The certificate of who signed.
    ///
    /// # Errors
    /// The message does not hold it.
    pub fn certificate_of(&self, signed: &Signed) -> Result<&Certificate> {
        let found = self.certificates.iter().find(|certificate| signed.is_by(certificate));
        found.ok_or_else(|| Error::signature("the certificate of who signed is not with the signature"))
    }

    /// The way from a certificate of the message to a trusted authority.
    pub fn chain(&self, certificate: &Certificate, roots: &[Certificate], at: u64, purpose: Purpose) -> Chain {
        chain(certificate, &self.certificates, roots, at, purpose)
    }
}

impl<'a> Signed<'a> {
    fn read(item: Item<'a>) -> Result<Self> {
        let fields = item.with(tag::SEQUENCE)?.children()?;
        let short = || Error::malformed("a signature has too few parts");
        let [_version, who, digest, rest @ ..] = &fields[..] else { return Err(short()) };
        let who = if who.tag == tag::plain(0) {
            Who::Key(who.value)
        } else {
            match who.with(tag::SEQUENCE)?.children()?[..] {
                [issuer, serial] => Who::Serial { issuer: issuer.all, serial: serial.with(tag::INTEGER)?.value },
                _ => return Err(short()),
            }
        };
        let (signed_attributes, rest) = match rest {
            [first, rest @ ..] if first.tag == tag::inside(0) => (Some(*first), rest),
            rest => (None, rest),
        };
        let [algorithm, signature, rest @ ..] = rest else { return Err(short()) };
        let unsigned = match rest {
            [] => Vec::new(),
            [one] => attributes(one.with(tag::inside(1))?)?,
            _ => return Err(Error::malformed("a signature has a part too many")),
        };
        Ok(Self {
            who,
            hash: Hash::from_oid(named(*digest)?),
            algorithm: *algorithm,
            signed: signed_attributes.map(attributes).transpose()?.unwrap_or_default(),
            attributes: signed_attributes,
            signature: signature.with(tag::OCTETS)?.value,
            unsigned,
        })
    }

    fn is_by(&self, certificate: &Certificate) -> bool {
        match self.who {
            Who::Serial { issuer, serial } => certificate.serial() == serial && certificate.issuer_der() == issuer,
            Who::Key(identifier) => certificate.key_identifier().is_some_and(|own| own == identifier),
        }
    }

    /// The only value of a signed attribute.
    ///
    /// # Errors
    /// It is missing, or stands there twice (RFC 5652, 11).
    pub fn only_signed(&self, wanted: Oid) -> Result<Item<'a>> {
        let mut values = self.signed.iter().filter(|(oid, _)| *oid == wanted).flat_map(|(_, values)| values);
        match (values.next(), values.next()) {
            (Some(value), None) => Ok(*value),
            (None, _) => Err(Error::signature(format!("the signature says nothing of {wanted}"))),
            _ => Err(Error::signature(format!("the signature says two things of {wanted}"))),
        }
    }

    /// The values of a signed attribute.
    pub fn signed(&self, wanted: Oid) -> impl Iterator<Item = Item<'a>> + '_ {
        self.signed.iter().filter(move |(oid, _)| *oid == wanted).flat_map(|(_, values)| values.iter().copied())
    }

    /// The values of an attribute that is not signed.
    pub fn unsigned(&self, wanted: Oid) -> impl Iterator<Item = Item<'a>> + '_ {
        self.unsigned.iter().filter(move |(oid, _)| *oid == wanted).flat_map(|(_, values)| values.iter().copied())
    }
}
