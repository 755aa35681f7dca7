//! Public keys, and whether they made a signature.

use crate::raw::{self, Item, tag};
use crate::{Error, Hash, Result, oid};
use der::asn1::ObjectIdentifier as Oid;
use rsa::pkcs8::DecodePublicKey;
use rsa::traits::PublicKeyParts;
use rsa::{Pkcs1v15Sign, PublicKey as RsaKey};
use signature::Verifier;
use signature::hazmat::PrehashVerifier;

/// The longest RSA key that is read, bits: what others say about their keys must not keep a machine busy.
const LONGEST_RSA: usize = 8192;

/// A public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PublicKey {
    /// RSA.
    Rsa(RsaKey),
    /// ECDSA on the curve P-256.
    P256(p256::ecdsa::VerifyingKey),
    /// ECDSA on the curve P-384.
    P384(p384::ecdsa::VerifyingKey),
    /// Ed25519.
    Ed25519(ed25519_dalek::VerifyingKey),
}

/// How a signature was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Scheme {
    kind: SchemeKind,
    hash: Hash,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum SchemeKind {
    Rsa,
    Elliptic,
    Ed25519,
}

impl Scheme {
    /// By the number of an algorithm, which may leave the digest to be named elsewhere.
    ///
    /// # Errors
    /// It is not checked here, or no digest is named.
    pub fn from_oid(number: Oid, elsewhere: Option<Hash>) -> Result<Self> {
        use SchemeKind::{Ed25519, Elliptic, Rsa};
        let (kind, hash) = match number {
            oid::RSA => (Rsa, elsewhere),
            oid::RSA_SHA256 => (Rsa, Some(Hash::Sha256)),
            oid::RSA_SHA384 => (Rsa, Some(Hash::Sha384)),
            oid::RSA_SHA512 => (Rsa, Some(Hash::Sha512)),
            oid::ELLIPTIC => (Elliptic, elsewhere),
            oid::ECDSA_SHA256 => (Elliptic, Some(Hash::Sha256)),
            oid::ECDSA_SHA384 => (Elliptic, Some(Hash::Sha384)),
            oid::ECDSA_SHA512 => (Elliptic, Some(Hash::Sha512)),
            oid::ED25519 => (Ed25519, Some(Hash::Sha512)),
            oid::RSA_PSS => return Err(Error::unsupported("it is signed with RSA-PSS, which is not checked here")),
            other => return Err(Error::unsupported(format!("it is signed with {other}, which is not checked here"))),
        };
        let hash = hash.ok_or_else(|| Error::malformed("the signature names no digest"))?;
        Ok(Self { kind, hash })
    }

    /// From the SEQUENCE that names an algorithm.
    ///
    /// # Errors
    /// As [`Scheme::from_oid`], or it is malformed.
    pub fn read(algorithm: Item, elsewhere: Option<Hash>) -> Result<Self> {
        Self::from_oid(named(algorithm)?, elsewhere)
    }
}

/// The number in the SEQUENCE that names an algorithm.
///
/// # Errors
/// It is malformed.
pub fn named(algorithm: Item) -> Result<Oid> {
    let parts = algorithm.with(tag::SEQUENCE)?.children()?;
    parts.first().ok_or_else(|| Error::malformed("an algorithm has no number"))?.oid()
}

impl PublicKey {
    /// From the form in which certificates hold it, `SubjectPublicKeyInfo` (RFC 5280, 4.1.2.7).
    ///
    /// # Errors
    /// It is malformed, or of a kind that is not checked here.
    pub fn from_der(der: &[u8]) -> Result<Self> {
        let wrong = |e: String| Error::malformed(format!("the public key can't be read: {e}"));
        let parts = raw::only(der, tag::SEQUENCE)?.children()?;
        let [algorithm, _] = parts[..] else { return Err(wrong("it does not have two parts".into())) };
        let names = algorithm.with(tag::SEQUENCE)?.children()?;
        let curve = names.get(1).filter(|item| item.tag == tag::OID).map(Item::oid).transpose()?;
        match (named(algorithm)?, curve) {
            (oid::RSA, _) => {
                let key = RsaKey::from_public_key_der(der).map_err(|e| wrong(e.to_string()))?;
                let bits = key.n().bit_width() as usize;
                if bits > LONGEST_RSA {
                    return Err(Error::unsupported(format!("an RSA key of {bits} bits is not checked here")));
                }
                Ok(Self::Rsa(key))
            }
            (oid::ELLIPTIC, Some(oid::P256)) => {
                p256::ecdsa::VerifyingKey::from_public_key_der(der).map(Self::P256).map_err(|e| wrong(e.to_string()))
            }
            (oid::ELLIPTIC, Some(oid::P384)) => {
                p384::ecdsa::VerifyingKey::from_public_key_der(der).map(Self::P384).map_err(|e| wrong(e.to_string()))
            }
            (oid::ED25519, _) => ed25519_dalek::VerifyingKey::from_public_key_der(der)
                .map(Self::Ed25519)
                .map_err(|e| wrong(e.to_string())),
            (oid::ELLIPTIC, curve) => {
                let curve = curve.map_or("an unnamed curve".to_owned(), |oid| format!("the curve {oid}"));
                Err(Error::unsupported(format!("keys on {curve} are not checked here")))
            }
            (other, _) => Err(Error::unsupported(format!("keys of the kind {other} are not checked here"))),
        }
    }

    /// What it is, for people: `RSA 3072`, `ECDSA P-256`.
    pub fn title(&self) -> String {
        match self {
            Self::Rsa(key) => format!("RSA {}", key.n().bit_width()),
            Self::P256(_) => "ECDSA P-256".into(),
            Self::P384(_) => "ECDSA P-384".into(),
            Self::Ed25519(_) => "Ed25519".into(),
        }
    }

    /// Whether nobody should use it any more: RSA below 2048 bits.
    pub fn is_weak(&self) -> bool {
        matches!(self, Self::Rsa(key) if key.n().bit_width() < 2048)
    }

    /// The digest that goes with it where none is asked for.
    pub fn usual_hash(&self) -> Hash {
        match self {
            Self::P384(_) => Hash::Sha384,
            Self::Rsa(_) | Self::P256(_) => Hash::Sha256,
            Self::Ed25519(_) => Hash::Sha512,
        }
    }

    /// How a signature by it is named, with its parameters.
    pub fn signature_algorithm(&self, hash: Hash) -> Vec<u8> {
        let (number, null) = match (self, hash) {
            // By name of the key and of the digest: the form that every reader of signed programs knows.
            (Self::Rsa(_), _) => (oid::RSA, true),
            (Self::P256(_) | Self::P384(_), Hash::Sha256) => (oid::ECDSA_SHA256, false),
            (Self::P256(_) | Self::P384(_), Hash::Sha384) => (oid::ECDSA_SHA384, false),
            (Self::P256(_) | Self::P384(_), Hash::Sha512) => (oid::ECDSA_SHA512, false),
            (Self::Ed25519(_), _) => (oid::ED25519, false),
        };
        raw::sequence(&[&raw::named(number), if null { &raw::NULL } else { &[] }])
    }

    /// The number of its way of signing with a digest, as services name it.
    pub fn scheme_number(&self, hash: Hash) -> String {
        let number = match (self, hash) {
            (Self::Rsa(_), Hash::Sha256) => oid::RSA_SHA256,
            (Self::Rsa(_), Hash::Sha384) => oid::RSA_SHA384,
            (Self::Rsa(_), Hash::Sha512) => oid::RSA_SHA512,
            (Self::P256(_) | Self::P384(_), Hash::Sha256) => oid::ECDSA_SHA256,
            (Self::P256(_) | Self::P384(_), Hash::Sha384) => oid::ECDSA_SHA384,
            (Self::P256(_) | Self::P384(_), Hash::Sha512) => oid::ECDSA_SHA512,
            (Self::Ed25519(_), _) => oid::ED25519,
        };
        number.to_string()
    }

    /// Whether it made a signature of a message.
    ///
    /// # Errors
    /// It did not, or the way of signing is none of its own.
    pub fn verify(&self, scheme: Scheme, message: &[u8], signature: &[u8]) -> Result<()> {
        let digest = || scheme.hash.of(message);
        let fits = match (self, scheme.kind) {
            (Self::Rsa(key), SchemeKind::Rsa) => {
                let padding = padding(scheme.hash);
                key.verify(padding, &digest(), signature).is_ok()
            }
            (Self::P256(key), SchemeKind::Elliptic) => p256::ecdsa::Signature::from_der(signature)
                .is_ok_and(|signature| key.verify_prehash(&digest(), &signature).is_ok()),
            (Self::P384(key), SchemeKind::Elliptic) => p384::ecdsa::Signature::from_der(signature)
                .is_ok_and(|signature| key.verify_prehash(&digest(), &signature).is_ok()),
            (Self::Ed25519(key), SchemeKind::Ed25519) => ed25519_dalek::Signature::from_slice(signature)
                .is_ok_and(|signature| key.verify(message, &signature).is_ok()),
            _ => return Err(Error::signature("the signature is of another kind than the key")),
        };
        if fits {
            Ok(())
        } else {
            Err(Error::signature("the signature does not fit: what was signed has been changed"))
        }
    }
}

/// What stands in front of a digest that RSA signs.
pub(crate) fn padding(hash: Hash) -> Pkcs1v15Sign {
    match hash {
        Hash::Sha256 => Pkcs1v15Sign::new::<sha2::Sha256>(),
        Hash::Sha384 => Pkcs1v15Sign::new::<sha2::Sha384>(),
        Hash::Sha512 => Pkcs1v15Sign::new::<sha2::Sha512>(),
    }
}
