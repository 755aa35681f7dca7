//! A list of digests that are signed elsewhere: written by a build that has no key, completed by whoever has it.
//!
//! It is JSON. A digest is that of the signed attributes of a message (RFC 5652, 5.4): whatever signs digests, a token, a
//! service or a command, can sign it without knowing what it is for. Signatures are what the key gives: PKCS #1 v1.5 with RSA,
//! a DER sequence of two numbers with ECDSA.

use crate::key::{Identity, Signer};
use crate::public::PublicKey;
use crate::{Certificate, Error, Hash, Kind, Result};
use base64ct::{Base64, Encoding};
use serde::{Deserialize, Serialize};

/// More digests than any build has.
const MOST: usize = 1 << 16;
/// The longest text of an entry, bytes; a timestamp has some 10,000.
const LONGEST_TEXT: usize = 1 << 20;

/// The list.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct List {
    /// What has to be signed, and what is.
    pub digests: Vec<Entry>,
}

/// One digest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Entry {
    /// What is signed, for people.
    pub file: String,
    /// SHA-256 of the certificate whose key has to sign, in hexadecimal digits.
    pub certificate: String,
    /// The digest's kind: `SHA-256`.
    pub algorithm: String,
    /// The digest, in hexadecimal digits.
    pub digest: String,
    /// The signature, in Base64 (RFC 4648).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signature: Option<String>,
    /// A timestamp of the signature (RFC 3161), in Base64: the build puts it there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timestamp: Option<String>,
}

/// Bytes in hexadecimal digits.
fn digits(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn from_digits(text: &str) -> Option<Vec<u8>> {
    let (pairs, rest) = text.as_bytes().as_chunks::<2>();
    let one = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    if rest.is_empty() { pairs.iter().map(one).collect() } else { None }
}

fn from_base64(text: &str, what: &str) -> Result<Vec<u8>> {
    Base64::decode_vec(text.trim()).map_err(|_| Error::malformed(format!("{what} is not in Base64")))
}

impl List {
    /// Reads a list.
    ///
    /// # Errors
    /// It is none; the line is named.
    pub fn read(text: &str) -> Result<Self> {
        let list: Self = serde_json::from_str(text).map_err(|e| Error::malformed(e.to_string()))?;
        if list.digests.len() > MOST {
            return Err(Error::malformed(format!("it has more than {MOST} digests")));
        }
        for (n, entry) in list.digests.iter().enumerate() {
            let bad = |why: &str| Error::malformed(format!("the digest no. {}, of {:?}: {why}", n + 1, entry.file));
            let hash = entry.hash().map_err(|e| bad(&e.what))?;
            if entry.bytes().is_none_or(|bytes| bytes.len() != hash.length()) {
                return Err(bad(&format!("it is not {} hexadecimal digits", hash.length() * 2)));
            }
            if [&entry.signature, &entry.timestamp].into_iter().flatten().any(|text| text.len() > LONGEST_TEXT) {
                return Err(bad("its signature is too long to be one"));
            }
            entry.signature().map_err(|e| bad(&e.what))?;
            entry.timestamp().map_err(|e| bad(&e.what))?;
        }
        Ok(list)
    }

    /// The list as text.
    pub fn write(&self) -> String {
        serde_json::to_string_pretty(self).unwrap_or_default() + "\n"
    }

    /// How many are still without a signature.
    pub fn missing(&self) -> usize {
        self.digests.iter().filter(|entry| entry.signature.is_none()).count()
    }

    /// Signs what a key's certificate is named for, and has no signature yet. Says how many these were.
    ///
    /// # Errors
    /// The key can't be used, or refuses.
    pub fn sign(&mut self, who: &Identity) -> Result<usize> {
        let own = who.certificate().fingerprint();
        let mut count = 0;
        for entry in self.digests.iter_mut().filter(|entry| entry.signature.is_none() && entry.certificate == own) {
            let digest = entry.bytes().ok_or_else(|| Error::malformed("a digest is malformed"))?;
            let hash = entry.hash()?;
            entry.signature = Some(Base64::encode_string(&who.signer.sign_digest(hash, &digest)?));
            count += 1;
        }
        Ok(count)
    }
}

impl Entry {
    /// One that has to be signed.
    pub fn new(file: &str, certificate: &Certificate, hash: Hash, digest: &[u8]) -> Self {
        Self {
            file: file.to_owned(),
            certificate: certificate.fingerprint(),
            algorithm: hash.name().to_owned(),
            digest: digits(digest),
            signature: None,
            timestamp: None,
        }
    }

    /// Whether the same digest is to be signed by the same key.
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.certificate, &self.algorithm, &self.digest) == (&other.certificate, &other.algorithm, &other.digest)
    }

    fn hash(&self) -> Result<Hash> {
        Hash::named(&self.algorithm)
            .ok_or_else(|| Error::unsupported(format!("there is no digest {:?} here", self.algorithm)))
    }

    fn bytes(&self) -> Option<Vec<u8>> {
        from_digits(&self.digest)
    }

    /// The signature.
    ///
    /// # Errors
    /// It is not in Base64.
    pub fn signature(&self) -> Result<Option<Vec<u8>>> {
        self.signature.as_deref().map(|text| from_base64(text, "its signature")).transpose()
    }

    /// The timestamp.
    ///
    /// # Errors
    /// It is not in Base64.
    pub fn timestamp(&self) -> Result<Option<Vec<u8>>> {
        self.timestamp.as_deref().map(|text| from_base64(text, "its timestamp")).transpose()
    }

    /// Keeps a timestamp.
    pub fn set_timestamp(&mut self, token: &[u8]) {
        self.timestamp = Some(Base64::encode_string(token));
    }
}

/// A key that is somewhere else: only its certificate is here.
struct Elsewhere(PublicKey);

impl Signer for Elsewhere {
    fn public_key(&self) -> &PublicKey {
        &self.0
    }

    fn sign_digest(&self, _: Hash, _: &[u8]) -> Result<Vec<u8>> {
        Err(Error::new(Kind::Key, "the key is not on this machine"))
    }
}

/// Who signs elsewhere: the first certificate is that of the key.
///
/// # Errors
/// There is no certificate, or its key doesn't sign digests.
pub fn identity(chain: Vec<Certificate>) -> Result<Identity> {
    let own = chain.first().ok_or_else(|| Error::new(Kind::Key, "there is no certificate"))?;
    let key = own.public_key()?;
    if matches!(key, PublicKey::Ed25519(_)) {
        return Err(Error::unsupported("Ed25519 signs whole messages, and no digests"));
    }
    Identity::new(Box::new(Elsewhere(key)), chain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_list_is_told_with_its_place() {
        let entry = |algorithm: &str, digest: &str, more: &str| {
            let start = r#"{"digests":[{"file":"a.exe","certificate":"","algorithm":""#;
            format!(r#"{start}{algorithm}","digest":"{digest}"{more}}}]}}"#)
        };
        let whole = "0f".repeat(32);
        assert_eq!(List::read(&entry("SHA-256", &whole, "")).expect("a list").missing(), 1);
        for (text, said) in [
            ("{".to_owned(), "line 1 column 1"),
            (entry("SHA-1", &whole, ""), "the digest no. 1, of \"a.exe\": there is no digest \"SHA-1\" here"),
            (entry("SHA-256", "0f", ""), "it is not 64 hexadecimal digits"),
            (entry("SHA-256", &whole.replace('f', "g"), ""), "it is not 64 hexadecimal digits"),
            (entry("SHA-256", &whole.replacen("0f", "é", 1), ""), "it is not 64 hexadecimal digits"),
            (entry("SHA-256", &whole, r#","signature":"?""#), "its signature is not in Base64"),
            (entry("SHA-256", &whole, r#","secret":"x""#), "unknown field `secret`"),
        ] {
            let e = List::read(&text).expect_err(said).to_string();
            assert!(e.contains(said), "{e}");
        }
    }

    #[test]
    fn a_list_reads_back_as_it_was_written() {
        let start = r#"{"digests":[{"file":"a","certificate":"ab","algorithm":"SHA-256","digest":""#;
        let text = format!(r#"{start}{}","signature":"AAE="}}]}}"#, "00".repeat(32));
        let mut list = List::read(&text).expect("a list");
        assert_eq!((list.missing(), list.digests[0].signature()), (0, Ok(Some(vec![0, 1]))));
        list.digests[0].set_timestamp(&[7]);
        assert_eq!(List::read(&list.write()), Ok(list));
    }
}
