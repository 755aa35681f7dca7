//! Digests that signatures are made of.

use crate::{Error, Result, oid, raw};
use der::asn1::ObjectIdentifier as Oid;
use sha2::{Digest, Sha256, Sha384, Sha512};

/// A digest's kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum Hash {
    /// SHA-256.
    #[default]
    Sha256,
    /// SHA-384.
    Sha384,
    /// SHA-512.
    Sha512,
}

impl Hash {
    /// Its name: `SHA-256`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha256 => "SHA-256",
            Self::Sha384 => "SHA-384",
            Self::Sha512 => "SHA-512",
        }
    }

    /// The one of a name.
    pub fn named(name: &str) -> Option<Self> {
        [Self::Sha256, Self::Sha384, Self::Sha512].into_iter().find(|hash| hash.name() == name)
    }

    /// How long its digests are, bytes.
    pub fn length(self) -> usize {
        match self {
            Self::Sha256 => 32,
            Self::Sha384 => 48,
            Self::Sha512 => 64,
        }
    }

    /// Its number.
    pub fn oid(self) -> Oid {
        match self {
            Self::Sha256 => oid::SHA256,
            Self::Sha384 => oid::SHA384,
            Self::Sha512 => oid::SHA512,
        }
    }

    /// Which one has a number.
    ///
    /// # Errors
    /// It is none that is still trusted.
    pub fn from_oid(number: Oid) -> Result<Self> {
        match number {
            oid::SHA256 => Ok(Self::Sha256),
            oid::SHA384 => Ok(Self::Sha384),
            oid::SHA512 => Ok(Self::Sha512),
            oid::SHA1 => Err(Error::unsupported("it uses SHA-1, which no longer protects anything")),
            other => Err(Error::unsupported(format!("it uses the digest {other}, which is not checked here"))),
        }
    }

    /// How it is named where algorithms are.
    pub fn algorithm(self) -> Vec<u8> {
        raw::sequence(&[&raw::named(self.oid()), &raw::NULL])
    }

    /// The digest of some bytes.
    pub fn of(self, bytes: &[u8]) -> Vec<u8> {
        let mut digester = self.digester();
        digester.update(bytes);
        digester.finish()
    }

    /// One that takes bytes as they come.
    pub fn digester(self) -> Digester {
        match self {
            Self::Sha256 => Digester::Sha256(Sha256::new()),
            Self::Sha384 => Digester::Sha384(Sha384::new()),
            Self::Sha512 => Digester::Sha512(Sha512::new()),
        }
    }
}

/// A digest under way.
#[derive(Debug, Clone)]
pub enum Digester {
    /// SHA-256.
    Sha256(Sha256),
    /// SHA-384.
    Sha384(Sha384),
    /// SHA-512.
    Sha512(Sha512),
}

impl Digester {
    /// Takes more bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha256(digest) => digest.update(bytes),
            Self::Sha384(digest) => digest.update(bytes),
            Self::Sha512(digest) => digest.update(bytes),
        }
    }

    /// The digest of all of them.
    pub fn finish(self) -> Vec<u8> {
        match self {
            Self::Sha256(digest) => digest.finalize().to_vec(),
            Self::Sha384(digest) => digest.finalize().to_vec(),
            Self::Sha512(digest) => digest.finalize().to_vec(),
        }
    }
}
