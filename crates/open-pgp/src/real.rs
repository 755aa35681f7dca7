//! Keys and signatures, by the crate `pgp`.

use crate::{Error, Facts, Report, Result};
use pgp::composed::{
    ArmorOptions, Deserializable, DetachedSignature, SignedPublicKey, SignedSecretKey, SubpacketConfig,
};
use pgp::crypto::hash::HashAlgorithm;
use pgp::crypto::public_key::PublicKeyAlgorithm;
use pgp::packet::{Signature, SignatureType, Subpacket, SubpacketData};
use pgp::types::{KeyDetails, KeyVersion, Password, SigningKey, Tag, Timestamp, VerifyingKey};
use std::io::{Cursor, Read};

/// More keys than anybody names, and more parts than any key has.
const MOST_KEYS: usize = 256;
/// How each armoured block begins.
const BEGIN: &str = "-----BEGIN PGP";
/// How far clocks may differ, seconds.
const CLOCKS: u64 = 600;

fn bad(what: &str, e: &pgp::errors::Error) -> Error {
    // What the library says may be long; its first line says what it is.
    let said = e.to_string();
    Error::other(format!("{what}: {}", said.lines().next().unwrap_or_default()))
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect()
}

/// Whatever is armoured, and what is not.
fn read_all<T: Deserializable>(bytes: &[u8], what: &str) -> Result<Vec<T>> {
    let wrong = |e| bad(what, &e);
    let text = std::str::from_utf8(bytes).ok().filter(|text| text.contains(BEGIN));
    let all: pgp::errors::Result<Vec<T>> = match text {
        Some(text) => {
            // Several blocks may stand one behind the other.
            let starts: Vec<usize> = text.match_indices(BEGIN).map(|(at, _)| at).take(MOST_KEYS).collect();
            let ends = starts.iter().skip(1).copied().chain([text.len()]);
            let mut all = Vec::new();
            for (start, end) in starts.iter().copied().zip(ends) {
                let (found, _) = T::from_string_many(&text[start..end]).map_err(wrong)?;
                all.extend(found.take(MOST_KEYS));
            }
            all.into_iter().collect()
        }
        None => T::from_bytes_many(Cursor::new(bytes)).map_err(wrong)?.take(MOST_KEYS).collect(),
    };
    let all = all.map_err(wrong)?;
    if all.is_empty() { Err(Error::other(format!("{what}: there is none in it"))) } else { Ok(all) }
}

/// What people call an algorithm.
fn algorithm(which: PublicKeyAlgorithm) -> String {
    match which {
        PublicKeyAlgorithm::EdDSALegacy | PublicKeyAlgorithm::Ed25519 => "Ed25519".into(),
        PublicKeyAlgorithm::RSA => "RSA".into(),
        PublicKeyAlgorithm::ECDSA => "ECDSA".into(),
        other => format!("{other:?}"),
    }
}

/// What people call a digest that may be used; none of the others.
fn name(hash: HashAlgorithm) -> Option<&'static str> {
    match hash {
        HashAlgorithm::Sha256 => Some("SHA-256"),
        HashAlgorithm::Sha384 => Some("SHA-384"),
        HashAlgorithm::Sha512 => Some("SHA-512"),
        HashAlgorithm::Sha3_256 => Some("SHA3-256"),
        HashAlgorithm::Sha3_512 => Some("SHA3-512"),
        _ => None,
    }
}

/// The main key, or one below it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Which {
    Main,
    Below(usize),
}

/// A part of a key that may sign.
struct Part {
    which: Which,
    facts: Facts,
    problems: Vec<String>,
}

fn created(signature: &Signature) -> u64 {
    signature.created().map_or(0, |time| u64::from(time.as_secs()))
}

/// The newest of signatures that hold.
fn newest<'s>(all: impl Iterator<Item = &'s Signature>, holds: impl Fn(&Signature) -> bool) -> Option<&'s Signature> {
    let mut all: Vec<&Signature> = all.collect();
    all.sort_by_key(|signature| std::cmp::Reverse(created(signature)));
    all.into_iter().take(MOST_KEYS).find(|signature| holds(signature))
}

fn ends(signature: &Signature, from: u64) -> Option<u64> {
    let seconds = signature.key_expiration_time().map(|time| u64::from(time.as_secs()));
    seconds.filter(|seconds| *seconds > 0).map(|seconds| from + seconds)
}

/// The parts of a key that may sign, with what is wrong with each now.
fn parts(key: &SignedPublicKey, now: u64) -> Vec<Part> {
    let main = &key.primary_key;
    let mut problems = Vec::new();
    let of_user = |user: &pgp::types::SignedUser| {
        newest(user.signatures.iter().filter(|s| s.is_certification()), |signature| {
            signature.verify_certification(main, Tag::UserId, &user.id).is_ok()
        })
        .cloned()
    };
    let mut users: Vec<(Signature, String)> = Vec::new();
    for user in key.details.users.iter().take(MOST_KEYS) {
        let name: String = String::from_utf8_lossy(user.id.id()).chars().filter(|c| !c.is_control()).collect();
        let is_revoked = user.signatures.iter().any(|signature| {
            signature.typ() == Some(SignatureType::CertRevocation)
                && signature.verify_certification(main, Tag::UserId, &user.id).is_ok()
        });
        users.extend(of_user(user).filter(|_| !is_revoked).map(|signature| (signature, name)));
    }
    users.sort_by_key(|(signature, _)| (signature.is_primary(), created(signature)));
    let direct = newest(key.details.direct_signatures.iter(), |signature| signature.verify_key(main).is_ok());
    let said = direct.or(users.last().map(|(signature, _)| signature));
    if said.is_none() {
        problems.push("nothing binds a name to the key".to_owned());
    }
    if key.details.revocation_signatures.iter().any(|signature| signature.verify_key(main).is_ok()) {
        problems.push("the key was revoked".to_owned());
    }
    let from = u64::from(main.created_at().as_secs());
    let until = said.and_then(|signature| ends(signature, from));
    if until.is_some_and(|until| until <= now) {
        problems.push("the key has expired".to_owned());
    }
    let facts = |algorithm: String, from, until| Facts {
        user: users.last().map_or_else(|| "nobody".to_owned(), |(_, name)| name.clone()),
        fingerprint: hexadecimal(main.fingerprint().as_bytes()),
        algorithm,
        from,
        until,
    };
    let mut all = Vec::new();
    // A key whose uses are not named signs, too.
    if said.is_none_or(|signature| signature.key_flags() == Default::default() || signature.key_flags().sign()) {
        let facts = facts(algorithm(main.algorithm()), from, until);
        all.push(Part { which: Which::Main, facts, problems: problems.clone() });
    }
    for (n, below) in key.public_subkeys.iter().take(MOST_KEYS).enumerate() {
        let bindings = below.signatures.iter().filter(|s| s.typ() == Some(SignatureType::SubkeyBinding));
        let Some(binding) = newest(bindings, |signature| signature.verify_subkey_binding(main, &below.key).is_ok())
        else {
            continue;
        };
        // A key that signs has to say that it belongs to the main one, too (RFC 9580, 5.2.1.9).
        let agrees = |signature: &Signature| signature.verify_primary_key_binding(&below.key, main).is_ok();
        if !binding.key_flags().sign() || !binding.embedded_signature().is_some_and(agrees) {
            continue;
        }
        let mut problems = problems.clone();
        let is_revoked = |signature: &Signature| {
            signature.typ() == Some(SignatureType::SubkeyRevocation)
                && signature.verify_subkey_binding(main, &below.key).is_ok()
        };
        if below.signatures.iter().any(is_revoked) {
            problems.push("the part of the key that signs was revoked".to_owned());
        }
        let from = u64::from(below.key.created_at().as_secs());
        let own = ends(binding, from);
        if own.is_some_and(|until| until <= now) {
            problems.push("the part of the key that signs has expired".to_owned());
        }
        let until = own.into_iter().chain(until).min();
        let facts = facts(algorithm(below.key.algorithm()), from, until);
        all.push(Part { which: Which::Below(n), facts, problems });
    }
    all
}

/// A key that signs.
pub struct SecretKey {
    key: SignedSecretKey,
    public: SignedPublicKey,
    which: Which,
    /// Where the part that signs stands among the secret ones.
    at: usize,
    facts: Facts,
    secret: Password,
}

impl SecretKey {
    /// Reads one; of its parts the newest that may sign is used.
    ///
    /// # Errors
    /// It is none, or no part of it may sign.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let mut all: Vec<SignedSecretKey> = read_all(bytes, "the private key can't be read")?;
        let key = all.remove(0);
        if !all.is_empty() {
            return Err(Error::other("it holds several keys, where one is needed"));
        }
        let public = key.to_public_key();
        let place = |which: Which| match which {
            Which::Main => Some(0),
            Which::Below(n) => {
                let wanted = public.public_subkeys[n].key.fingerprint();
                key.secret_subkeys.iter().position(|below| below.key.fingerprint() == wanted)
            }
        };
        let found = parts(&public, 0).into_iter().filter_map(|part| Some((place(part.which)?, part)));
        let best = found.max_by_key(|(_, part)| (part.problems.is_empty(), part.which != Which::Main, part.facts.from));
        let (at, part) = best.ok_or_else(|| Error::other("no part of the key may sign"))?;
        Ok(Self { which: part.which, at, facts: part.facts, key, public, secret: Password::empty() })
    }

    /// Whether a secret protects it.
    pub fn is_protected(&self) -> bool {
        match self.which {
            Which::Main => self.key.primary_key.secret_params().is_encrypted(),
            Which::Below(_) => self.key.secret_subkeys[self.at].key.secret_params().is_encrypted(),
        }
    }

    /// Takes its secret.
    ///
    /// # Errors
    /// It is wrong.
    pub fn unlock(&mut self, secret: &str) -> Result<()> {
        let password = Password::from(secret);
        let done = match self.which {
            Which::Main => self.key.primary_key.unlock(&password, |_, _| Ok(())),
            Which::Below(_) => self.key.secret_subkeys[self.at].key.unlock(&password, |_, _| Ok(())),
        };
        done.and_then(|inner| inner).map_err(|_| Error::Secret("the secret is wrong".into()))?;
        self.secret = password;
        Ok(())
    }

    /// What is known of it.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// What is wrong with signing with it now.
    pub fn problems(&self, now: u64) -> Vec<String> {
        let part = parts(&self.public, now).into_iter().find(|part| part.which == self.which);
        part.map(|part| part.problems).unwrap_or_default()
    }

    /// Its public half, as text.
    ///
    /// # Errors
    /// It can't be written.
    pub fn public(&self) -> Result<String> {
        let text = self.public.to_armored_string(ArmorOptions::default());
        text.map_err(|e| bad("the public key can't be written", &e))
    }

    /// A signature, as text; `now` is in seconds since 1970. The same key, data and time give the same bytes with RSA and
    /// Ed25519.
    ///
    /// # Errors
    /// The key refuses, or the data can't be read.
    pub fn sign(&self, data: &mut dyn Read, now: u64) -> Result<String> {
        let time = u32::try_from(now).map(Timestamp::from_secs).map_err(|_| Error::other("the clock is wrong"))?;
        match self.which {
            Which::Main => self.sign_with(&self.key.primary_key, data, time),
            Which::Below(_) => self.sign_with(&self.key.secret_subkeys[self.at].key, data, time),
        }
    }

    fn sign_with(&self, key: &impl SigningKey, data: &mut dyn Read, time: Timestamp) -> Result<String> {
        let refused = |e| bad("the key does not sign", &e);
        let part = |data| Subpacket::regular(data).map_err(refused);
        let hashed = vec![
            part(SubpacketData::IssuerFingerprint(key.fingerprint()))?,
            part(SubpacketData::SignatureCreationTime(time))?,
        ];
        let mut unhashed = Vec::new();
        if key.version() <= KeyVersion::V4 {
            unhashed.push(part(SubpacketData::IssuerKeyId(key.legacy_key_id()))?);
        }
        let with = SubpacketConfig::UserDefined { hashed, unhashed };
        let (random, hash) = (rand::rngs::OsRng, key.hash_alg());
        let made = DetachedSignature::sign_binary_data_with_subpackets(random, key, &self.secret, hash, data, with);
        made.and_then(|made| made.to_armored_string(ArmorOptions::default())).map_err(refused)
    }
}

/// Keys that are known.
pub struct PublicKeys(Vec<SignedPublicKey>);

impl PublicKeys {
    /// Reads them, as text or as bytes.
    ///
    /// # Errors
    /// They are none.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        read_all(bytes, "the public keys can't be read").map(Self)
    }

    /// Adds others.
    pub fn extend(&mut self, others: Self) {
        self.0.extend(others.0);
    }

    /// Checks a signature, as text or as bytes, of some data; `now` is in seconds since 1970.
    ///
    /// # Errors
    /// It is none, of another kind, by an unknown key, or does not fit.
    pub fn verify(&self, signature: &[u8], data: &mut dyn Read, now: u64) -> Result<Report> {
        let mut all: Vec<DetachedSignature> = read_all(signature, "the signature can't be read")?;
        if all.len() != 1 {
            return Err(Error::other(format!("it has {} signatures, where one is expected", all.len())));
        }
        let signature = all.remove(0).signature;
        if signature.typ() != Some(SignatureType::Binary) {
            return Err(Error::other("the signature is of another kind of thing than a file"));
        }
        let hash = signature.hash_alg().unwrap_or(HashAlgorithm::None);
        let Some(hash) = name(hash) else {
            return Err(Error::other(format!("it uses {hash}, which no longer protects anything")));
        };
        let (issuers, names) = (signature.issuer_key_id(), signature.issuer_fingerprint());
        for key in &self.0 {
            let is_main = is_by(&key.primary_key, &issuers, &names);
            let below = key.public_subkeys.iter().position(|below| is_by(&below.key, &issuers, &names));
            let which = match (is_main, below) {
                (true, _) => Which::Main,
                (_, Some(n)) => Which::Below(n),
                _ => continue,
            };
            let Some(part) = parts(key, now).into_iter().find(|part| part.which == which) else {
                return Err(Error::other("the part of the key that signed may not sign"));
            };
            let done = match which {
                Which::Main => signature.verify(&key.primary_key, data),
                Which::Below(n) => signature.verify(&key.public_subkeys[n].key, data),
            };
            done.map_err(|_| Error::other("the file was changed after it was signed, or the signature was"))?;
            return Ok(report(&signature, part, hash, now));
        }
        let names = issuers.iter().map(|id| hexadecimal(id.as_ref()));
        let id = names.chain(names_of(&signature)).next().unwrap_or_else(|| "no name".into());
        Err(Error::other(format!("the key {id} that signed is not among the known ones")))
    }
}

fn names_of(signature: &Signature) -> Vec<String> {
    signature.issuer_fingerprint().iter().map(|name| hexadecimal(name.as_bytes())).collect()
}

fn is_by(key: &impl VerifyingKey, ids: &[&pgp::types::KeyId], names: &[&pgp::types::Fingerprint]) -> bool {
    match names {
        [] => ids.contains(&&key.legacy_key_id()),
        names => names.contains(&&key.fingerprint()),
    }
}

fn report(signature: &Signature, part: Part, hash: &str, now: u64) -> Report {
    let Part { facts, mut problems, .. } = part;
    let time = created(signature);
    if time == 0 || time > now + CLOCKS {
        problems.push("the signature says that it was made in the future, or not when".into());
    }
    if time < facts.from {
        problems.push("the signature says that it is older than its key".into());
    }
    let lasts = signature.signature_expiration_time().map_or(0, |time| u64::from(time.as_secs()));
    if lasts > 0 && time + lasts <= now {
        problems.push("the signature has expired".into());
    }
    Report { key: facts, time, digest: hash.to_owned(), problems }
}
