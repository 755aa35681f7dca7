//! Keys that sign: from files, or wherever else they are kept.

use crate::public::{PublicKey, padding};
use crate::{Certificate, Error, Hash, Kind, Result};
use p256::elliptic_curve::Generate;
use rsa::PrivateKey as RsaKey;
use rsa::pkcs1::DecodeRsaPrivateKey;
use rsa::pkcs8::{DecodePrivateKey, EncodePublicKey};
use signature::Signer as _;
use signature::hazmat::PrehashSigner;
use std::fmt;
use zeroize::Zeroizing;

/// Something that signs: a key in memory, in a token, at a service.
pub trait Signer: Send + Sync {
    /// Its public half.
    fn public_key(&self) -> &PublicKey;

    /// Signs a digest of a kind.
    ///
    /// # Errors
    /// The key can't be used, or refuses; Ed25519 signs whole messages only.
    fn sign_digest(&self, hash: Hash, digest: &[u8]) -> Result<Vec<u8>>;

    /// Signs a message with a digest of a kind. Ed25519 has its own.
    ///
    /// # Errors
    /// The key can't be used, or refuses.
    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>> {
        self.sign_digest(hash, &hash.of(message))
    }
}

/// A secret: it can be neither printed nor compared, and is overwritten when it is no longer needed. Whoever wants its
/// letters says so.
///
/// ```compile_fail
/// println!("{}", signatures::Secret::new(String::new()));
/// ```
/// ```compile_fail
/// println!("{:?}", signatures::Secret::new(String::new()));
/// ```
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Takes it over.
    pub fn new(text: String) -> Self {
        Self(Zeroizing::new(text))
    }

    /// What it is, for those who have to use it.
    pub fn expose(&self) -> &str {
        &self.0
    }
}

/// A private key in memory.
pub struct PrivateKey {
    private: Private,
    public: PublicKey,
}

enum Private {
    Rsa(Box<RsaKey>),
    P256(p256::ecdsa::SigningKey),
    P384(p384::ecdsa::SigningKey),
    Ed25519(ed25519_dalek::SigningKey),
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey({})", self.public.title())
    }
}

impl PrivateKey {
    fn new(private: Private) -> Result<Self> {
        let public = match &private {
            Private::Rsa(key) => PublicKey::Rsa(key.to_public_key()),
            Private::P256(key) => PublicKey::P256(*key.verifying_key()),
            Private::P384(key) => PublicKey::P384(*key.verifying_key()),
            Private::Ed25519(key) => PublicKey::Ed25519(key.verifying_key()),
        };
        Ok(Self { public, private })
    }

    /// From the bytes of a PKCS #8 key (RFC 5208).
    ///
    /// # Errors
    /// They are none, or a key of a kind that is not used here.
    pub fn from_pkcs8(der: &[u8]) -> Result<Self> {
        let private = if let Ok(key) = RsaKey::from_pkcs8_der(der) {
            Private::Rsa(Box::new(key))
        } else if let Ok(key) = p256::ecdsa::SigningKey::from_pkcs8_der(der) {
            Private::P256(key)
        } else if let Ok(key) = p384::ecdsa::SigningKey::from_pkcs8_der(der) {
            Private::P384(key)
        } else if let Ok(key) = ed25519_dalek::SigningKey::from_pkcs8_der(der) {
            Private::Ed25519(key)
        } else {
            return Err(Error::unsupported("it is no RSA, ECDSA (P-256 or P-384) or Ed25519 key"));
        };
        Self::new(private)
    }

    /// Makes a key of a kind: `rsa-3072`, `p256`, `p384`, `ed25519`.
    ///
    /// # Errors
    /// The machine has no random numbers, or there is no such kind.
    pub fn generate(kind: Generated) -> Result<Self> {
        let mut random = rand_core::UnwrapErr(getrandom::SysRng);
        let private = match kind {
            Generated::Rsa(bits) => {
                let key = RsaKey::new(&mut random, bits);
                Private::Rsa(Box::new(key.map_err(|e| Error::new(Kind::Key, format!("no key can be made: {e}")))?))
            }
            Generated::P256 => Private::P256(p256::ecdsa::SigningKey::generate_from_rng(&mut random)),
            Generated::P384 => Private::P384(p384::ecdsa::SigningKey::generate_from_rng(&mut random)),
            Generated::Ed25519 => Private::Ed25519(ed25519_dalek::SigningKey::generate(&mut random)),
        };
        Self::new(private)
    }

    /// Its public half as certificates hold it.
    ///
    /// # Errors
    /// It can't be written.
    pub fn public_key_der(&self) -> Result<Vec<u8>> {
        let der = match &self.private {
            Private::Rsa(key) => key.to_public_key().to_public_key_der(),
            Private::P256(key) => key.verifying_key().to_public_key_der(),
            Private::P384(key) => key.verifying_key().to_public_key_der(),
            Private::Ed25519(key) => key.verifying_key().to_public_key_der(),
        };
        let der = der.map_err(|e| Error::malformed(format!("the key has no public half: {e}")))?;
        Ok(der.as_bytes().to_vec())
    }

    /// Its bytes as PKCS #8.
    ///
    /// # Errors
    /// It can't be written.
    pub fn to_pkcs8(&self) -> Result<Zeroizing<Vec<u8>>> {
        use rsa::pkcs8::EncodePrivateKey;
        let document = match &self.private {
            Private::Rsa(key) => key.to_pkcs8_der(),
            Private::P256(key) => key.to_pkcs8_der(),
            Private::P384(key) => key.to_pkcs8_der(),
            Private::Ed25519(key) => key.to_pkcs8_der(),
        };
        let document = document.map_err(|e| Error::new(Kind::Key, format!("the key can't be written: {e}")))?;
        Ok(Zeroizing::new(document.as_bytes().to_vec()))
    }
}

/// Kinds of keys that are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Generated {
    /// RSA with so many bits.
    Rsa(usize),
    /// ECDSA on P-256.
    P256,
    /// ECDSA on P-384.
    P384,
    /// Ed25519.
    Ed25519,
}

impl Signer for PrivateKey {
    fn public_key(&self) -> &PublicKey {
        &self.public
    }

    fn sign_digest(&self, hash: Hash, digest: &[u8]) -> Result<Vec<u8>> {
        let refused = |what: String| Error::new(Kind::Key, format!("the key does not sign: {what}"));
        match &self.private {
            Private::Rsa(key) => key.sign(padding(hash), digest).map_err(|e| refused(e.to_string())),
            // The same message has the same signature (RFC 6979).
            Private::P256(key) => {
                let signature: p256::ecdsa::Signature = key.sign_prehash(digest).map_err(|e| refused(e.to_string()))?;
                Ok(signature.to_der().as_bytes().to_vec())
            }
            Private::P384(key) => {
                let signature: p384::ecdsa::Signature = key.sign_prehash(digest).map_err(|e| refused(e.to_string()))?;
                Ok(signature.to_der().as_bytes().to_vec())
            }
            Private::Ed25519(_) => Err(refused("Ed25519 signs whole messages only".into())),
        }
    }

    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>> {
        match &self.private {
            Private::Ed25519(key) => Ok(key.sign(message).to_bytes().to_vec()),
            _ => self.sign_digest(hash, &hash.of(message)),
        }
    }
}

/// A private key as PKCS #8 in the PEM form (RFC 7468).
///
/// # Errors
/// It is none.
pub fn pem(pkcs8: &[u8]) -> Result<Zeroizing<String>> {
    let document = der::SecretDocument::try_from(pkcs8.to_vec());
    let text = document.and_then(|document| document.to_pem("PRIVATE KEY", der::pem::LineEnding::LF));
    text.map_err(|e| Error::malformed(format!("the key can't be written: {e}")))
}

/// Who signs: a key, its certificate, and those of the authorities above it.
pub struct Identity {
    /// What signs.
    pub signer: Box<dyn Signer>,
    /// The certificate of the key first, then what came with it.
    pub chain: Vec<Certificate>,
}

impl fmt::Debug for Identity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<String> = self.chain.iter().map(Certificate::name).collect();
        write!(f, "Identity({}: {})", self.signer.public_key().title(), names.join(", "))
    }
}

impl Identity {
    /// Puts the key's own certificate first.
    ///
    /// # Errors
    /// None of them is the key's.
    pub fn new(signer: Box<dyn Signer>, mut chain: Vec<Certificate>) -> Result<Self> {
        let own = chain.iter().position(|certificate| certificate.public_key() == Ok(signer.public_key().clone()));
        let Some(own) = own else {
            let title = signer.public_key().title();
            let what = match &chain[..] {
                [] => format!("there is no certificate for the key ({title})"),
                [one] => format!("the certificate “{}” is not that of the key ({title})", one.name()),
                several => format!("none of the {} certificates is that of the key ({title})", several.len()),
            };
            return Err(Error::new(Kind::Key, what));
        };
        let first = chain.remove(own);
        chain.insert(0, first);
        Ok(Self { signer, chain })
    }

    /// The key's own certificate.
    pub fn certificate(&self) -> &Certificate {
        &self.chain[0]
    }

    /// From a PKCS #12 file (RFC 7292).
    ///
    /// # Errors
    /// It is none, the secret is wrong, or it does not hold one key with its certificate.
    pub fn from_pkcs12(bytes: &[u8], secret: &Secret) -> Result<Self> {
        let archive = p12_keystore::Pkcs12Archive::from_pkcs12(bytes, secret.expose()).map_err(|e| {
            let kind = if is_wrong_secret(&e) { Kind::Secret } else { Kind::Malformed };
            let what =
                if kind == Kind::Secret { "the secret is wrong".into() } else { format!("it can't be read: {e}") };
            Error::new(kind, what)
        })?;
        let [key] = &archive.keys[..] else {
            let what = format!("it holds {} keys, where one is needed", archive.keys.len());
            return Err(Error::new(Kind::Key, what));
        };
        let key = PrivateKey::from_pkcs8(key.key.as_der())?;
        let chain: Result<Vec<Certificate>> =
            archive.certs.iter().map(|bag| Certificate::from_der(bag.cert.as_der())).collect();
        Self::new(Box::new(key), chain?)
    }
}

fn is_wrong_secret(e: &p12_keystore::error::Error) -> bool {
    let said = e.to_string().to_lowercase();
    ["mac", "password", "padding", "decrypt"].iter().any(|word| said.contains(word))
}

/// The blocks of a text in the PEM form, by their labels.
pub(crate) fn blocks(text: &str) -> impl Iterator<Item = (&str, &str)> {
    text.match_indices("-----BEGIN ").filter_map(|(at, mark)| {
        let rest = &text[at..];
        let label = rest[mark.len()..].split("-----").next()?;
        let end = format!("-----END {label}-----");
        let length = rest.find(&end)? + end.len();
        Some((label, &rest[..length]))
    })
}

/// The private key in a text in the PEM form.
///
/// # Errors
/// There is none, or it is malformed, or its secret is missing or wrong.
pub fn private_key_from_pem(text: &str, secret: Option<&Secret>) -> Result<PrivateKey> {
    let malformed = |e: String| Error::malformed(format!("the private key can't be read: {e}"));
    let key = blocks(text).find(|(label, _)| label.ends_with("PRIVATE KEY"));
    let (label, block) = key.ok_or_else(|| Error::malformed("there is no private key in it"))?;
    if block.contains("Proc-Type:") {
        let what = "the private key is protected in an old way that protects little; write it as PKCS #8";
        return Err(Error::unsupported(what));
    }
    let (_, document) = der::SecretDocument::from_pem(block).map_err(|e| malformed(e.to_string()))?;
    match label {
        "PRIVATE KEY" => PrivateKey::from_pkcs8(document.as_bytes()),
        "ENCRYPTED PRIVATE KEY" => {
            let secret = secret.ok_or_else(|| Error::new(Kind::Secret, "the private key is protected by a secret"))?;
            let protected = pkcs8::EncryptedPrivateKeyInfoRef::try_from(document.as_bytes());
            let protected = protected.map_err(|e| malformed(e.to_string()))?;
            let plain = protected.decrypt(secret.expose().as_bytes());
            let plain = plain.map_err(|_| Error::new(Kind::Secret, "the secret is wrong"))?;
            PrivateKey::from_pkcs8(plain.as_bytes())
        }
        "RSA PRIVATE KEY" => {
            let key = RsaKey::from_pkcs1_der(document.as_bytes()).map_err(|e| malformed(e.to_string()))?;
            PrivateKey::new(Private::Rsa(Box::new(key)))
        }
        "EC PRIVATE KEY" => {
            if let Ok(key) = p256::SecretKey::from_sec1_der(document.as_bytes()) {
                return PrivateKey::new(Private::P256(key.into()));
            }
            let key = p384::SecretKey::from_sec1_der(document.as_bytes()).map_err(|e| malformed(e.to_string()))?;
            PrivateKey::new(Private::P384(key.into()))
        }
        other => Err(Error::unsupported(format!("a {} can't be used", other.to_lowercase()))),
    }
}
