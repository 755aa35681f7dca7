//! An authority for tests and demonstrations: its certificates say plainly what they are, and nobody else trusts them.

use crate::key::{Generated, Identity, PrivateKey, Signer};
use crate::message::{Attribute, Content, Unsigned};
use crate::raw::{self, tag};
use crate::timestamp::{Request, written_time};
use crate::{Certificate, Error, Hash, Result, oid};
use der::asn1::ObjectIdentifier as Oid;

/// What a certificate is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// To issue other certificates.
    Authority,
    /// To sign programs and packages.
    Code,
    /// To sign timestamps.
    Timestamps,
}

/// A certificate to be.
#[derive(Debug, Clone)]
pub struct Wanted<'a> {
    /// Whose it is: attributes of a name by their numbers, in their order.
    pub subject: &'a [(Oid, &'a str)],
    /// What it is for.
    pub role: Role,
    /// When it begins to be valid, seconds since 1970.
    pub from: u64,
    /// Its last second.
    pub until: u64,
}

/// The attribute `commonName` of a name.
pub const COMMON_NAME: Oid = Oid::new_unwrap("2.5.4.3");
/// The attribute `organizationName`.
pub const ORGANIZATION: Oid = Oid::new_unwrap("2.5.4.10");
/// The attribute `countryName`.
pub const COUNTRY: Oid = Oid::new_unwrap("2.5.4.6");
/// The policy of timestamps that mean nothing outside of tests: the enterprise for examples (RFC 5612).
pub const TEST_POLICY: Oid = Oid::new_unwrap("1.3.6.1.4.1.32473.1");

/// Makes a certificate for a key, signed by an authority, or by itself.
///
/// # Errors
/// The times can't be written, or the machine has no random numbers.
pub fn certify(key: &dyn Signer, spki: &[u8], wanted: &Wanted, by: Option<&Identity>) -> Result<Certificate> {
    let mut serial = [0; 16];
    getrandom::fill(&mut serial).map_err(|e| Error::malformed(format!("there are no random numbers: {e}")))?;
    serial[0] = serial[0] & 0x7f | 0x40;
    let subject = name(wanted.subject);
    let signer = by.map_or(key, |identity| &*identity.signer);
    let issuer = by.map_or(subject.as_slice(), |identity| identity.certificate().subject_der());
    let hash = signer.public_key().usual_hash();
    let algorithm = certificate_algorithm(signer, hash);
    let usage: &[u8] = match wanted.role {
        // keyCertSign and cRLSign; digitalSignature (RFC 5280, 4.2.1.3).
        Role::Authority => &[1, 0b0000_0110],
        Role::Code | Role::Timestamps => &[7, 0b1000_0000],
    };
    let is_authority = wanted.role == Role::Authority;
    let mut extensions = vec![
        extension("2.5.29.14", false, &raw::value(tag::OCTETS, &[&identifier(spki)?])),
        extension("2.5.29.15", true, &raw::value(tag::BITS, &[usage])),
        extension("2.5.29.19", true, &raw::sequence(if is_authority { &[&[tag::BOOLEAN, 1, 0xff]] } else { &[] })),
    ];
    if let Some(by) = by.and_then(|identity| identity.certificate().key_identifier()) {
        extensions.push(extension("2.5.29.35", false, &raw::sequence(&[&raw::value(tag::plain(0), &[&by])])));
    }
    let purpose = match wanted.role {
        Role::Authority => None,
        Role::Code => Some((oid::CODE_SIGNING, false)),
        // Nothing else, and critical (RFC 3161, 2.3).
        Role::Timestamps => Some((oid::TIME_STAMPING, true)),
    };
    extensions.extend(
        purpose.map(|(purpose, critical)| extension("2.5.29.37", critical, &raw::sequence(&[&raw::named(purpose)]))),
    );
    let extensions: Vec<&[u8]> = extensions.iter().map(Vec::as_slice).collect();
    let signed = raw::sequence(&[
        &raw::value(tag::inside(0), &[&raw::number(&[2])]),
        &raw::number(&serial),
        &algorithm,
        issuer,
        &raw::sequence(&[&certificate_time(wanted.from)?, &certificate_time(wanted.until)?]),
        &subject,
        spki,
        &raw::value(tag::inside(3), &[&raw::sequence(&extensions)]),
    ]);
    let signature = signer.sign(hash, &signed)?;
    let signature = raw::value(tag::BITS, &[&[0], &signature]);
    Certificate::from_der(&raw::sequence(&[&signed, &algorithm, &signature]))
}

/// A key with a certificate for it; the authority's own certificate is not put into the chain, its readers have it.
///
/// # Errors
/// As [`certify`].
pub fn identity(kind: Generated, wanted: &Wanted, by: Option<&Identity>) -> Result<(Identity, PrivateKeyBytes)> {
    let key = PrivateKey::generate(kind)?;
    let bytes = key.to_pkcs8()?;
    let certificate = certify(&key, &key.public_key_der()?, wanted, by)?;
    Ok((Identity::new(Box::new(key), vec![certificate])?, bytes))
}

/// A private key as PKCS #8, overwritten when it is no longer needed.
pub type PrivateKeyBytes = zeroize::Zeroizing<Vec<u8>>;

fn name(attributes: &[(Oid, &str)]) -> Vec<u8> {
    let one = |(oid, text): &(Oid, &str)| {
        raw::set(&[&raw::sequence(&[&raw::named(*oid), &raw::value(tag::UTF8, &[text.as_bytes()])])])
    };
    let all: Vec<Vec<u8>> = attributes.iter().map(one).collect();
    raw::sequence(&all.iter().map(Vec::as_slice).collect::<Vec<_>>())
}

fn extension(number: &str, critical: bool, value: &[u8]) -> Vec<u8> {
    let critical: &[u8] = if critical { &[tag::BOOLEAN, 1, 0xff] } else { &[] };
    raw::sequence(&[&raw::named(Oid::new_unwrap(number)), critical, &raw::value(tag::OCTETS, &[value])])
}

/// An identifier for a key, in the way of RFC 7093: the first 160 bits of a SHA-256.
fn identifier(spki: &[u8]) -> Result<Vec<u8>> {
    let [_, key] = raw::only(spki, tag::SEQUENCE)?.children()?[..] else {
        return Err(Error::malformed("a public key does not have two parts"));
    };
    Ok(Hash::Sha256.of(key.value)[..20].to_vec())
}

/// In certificates the name of RSA has the digest's in it.
fn certificate_algorithm(signer: &dyn Signer, hash: Hash) -> Vec<u8> {
    match (signer.public_key(), hash) {
        (crate::public::PublicKey::Rsa(_), hash) => {
            let number = match hash {
                Hash::Sha256 => oid::RSA_SHA256,
                Hash::Sha384 => oid::RSA_SHA384,
                Hash::Sha512 => oid::RSA_SHA512,
            };
            raw::sequence(&[&raw::named(number), &raw::NULL])
        }
        (key, hash) => key.signature_algorithm(hash),
    }
}

/// The first second of 2050, since 1970.
const YEAR_2050: u64 = 2_524_608_000;

/// Times until 2049 are written in a shorter form (RFC 5280, 4.1.2.5).
fn certificate_time(seconds: u64) -> Result<Vec<u8>> {
    use der::Encode;
    if seconds >= YEAR_2050 {
        return written_time(seconds);
    }
    let time = der::asn1::UtcTime::from_unix_duration(std::time::Duration::from_secs(seconds));
    time.and_then(|time| time.to_der()).map_err(|e| Error::malformed(format!("the time can't be written: {e}")))
}

/// What an authority for timestamps answers to a request, at a time (seconds since 1970).
///
/// # Errors
/// The key can't be used.
pub fn answer(request: &[u8], who: &Identity, time: u64, serial: &[u8]) -> Result<Vec<u8>> {
    let request = match Request::read(request) {
        Ok(request) => request,
        Err(e) => return Ok(refusal(&e.to_string(), if e.kind == crate::Kind::Unsupported { 0 } else { 5 })),
    };
    if request.policy.is_some_and(|policy| policy != TEST_POLICY) {
        return Ok(refusal("only one policy is offered here", 15));
    }
    let imprint = raw::sequence(&[&request.hash.algorithm(), &raw::value(tag::OCTETS, &[&request.digest])]);
    let nonce = request.nonce.map_or(Vec::new(), |nonce| raw::number(&nonce));
    let info = raw::sequence(&[
        &raw::number(&[1]),
        &raw::named(TEST_POLICY),
        &imprint,
        &raw::number(serial),
        &written_time(time)?,
        &nonce,
    ]);
    let hash = who.signer.public_key().usual_hash();
    // SHA-256 is the usual one, and left out (RFC 5035, 4).
    let certificate = raw::sequence(&[&raw::value(tag::OCTETS, &[&Hash::Sha256.of(who.certificate().der())])]);
    let names_certificate =
        Attribute { oid: oid::SIGNING_CERTIFICATE_V2, value: raw::sequence(&[&raw::sequence(&[&certificate])]) };
    let value = raw::value(tag::OCTETS, &[&info]);
    let content = Content { kind: oid::TIMESTAMP_INFO, value: Some(&value), digest: &hash.of(&info) };
    let unsigned = Unsigned::new(content, hash, &who.chain, &[names_certificate])?;
    let token = unsigned.finish(&who.signer.sign(hash, unsigned.to_sign())?, &[])?;
    Ok(raw::sequence(&[&raw::sequence(&[&raw::number(&[0])]), &token]))
}

/// An answer that refuses: status 2, a sentence, and the bit that says why.
pub fn refusal(why: &str, bit: usize) -> Vec<u8> {
    let mut bits = vec![0; 2 + bit / 8];
    bits[1 + bit / 8] = 0x80 >> (bit % 8);
    bits[0] = 7 - (bit % 8) as u8;
    let text = raw::sequence(&[&raw::value(tag::UTF8, &[why.as_bytes()])]);
    raw::sequence(&[&raw::sequence(&[&raw::number(&[2]), &text, &raw::value(tag::BITS, &[&bits])])])
}
