//! Signatures on finished files: with which key, put on and checked. What a signature consists of is the matter of the crate
//! `signatures`, where it stands in a file that of the format's crate.

mod beside;
mod cache;
mod clock;
mod elsewhere;
mod file;
mod form;
mod identity;
pub mod macos;
mod of_macos;
mod openpgp;
mod parallel;
mod product;
pub mod test_keys;

pub use beside::{SUMS, signature_of};
pub use clock::Clock;
pub(crate) use elsewhere::later;
pub use elsewhere::{Elsewhere, sign_digests};
pub use file::{Existing, OfCode, Prepared, Signed, sign};
pub use identity::{Keys, identity, token_of};
pub use openpgp::{OpenPgp, check_openpgp, is_openpgp_key, openpgp_keys, openpgp_signature_of, sign_openpgp};
pub use product::{ForeignSignature, PlannedEntitlement, PlannedSigning, Signer, check, is_signed, planned, publisher};
pub use signatures::authenticode::Named;
pub use signatures::certificate::Purpose;
pub use signatures::key::Identity;
pub use signatures::{Certificate, Hash, Secret};

use crate::problem::{Code, Failure, Kind, Problem};
pub(crate) use beside::hexadecimal;
pub use open_pgp::PublicKeys;
use schemars::JsonSchema;
use serde::Serialize;
use signatures::authenticode::Report;
use signatures::chain::Doubts;
use signatures::timestamp::Stamp;
use std::path::{Path, PathBuf};

/// Something that is wrong with a key or a signature, about a file.
fn failure(code: Code, kind: Kind, what: String, path: &Path, why: &signatures::Error) -> Failure {
    Failure::new(kind, Problem::error(code, what).on(path).why(why.to_string()))
}

/// A certificate, for people and for other programs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CertificateFacts {
    /// Its short name.
    pub name: String,
    /// Whose it is (RFC 4514).
    pub subject: String,
    /// Who issued it.
    pub issuer: String,
    /// The key: `RSA 3072`.
    pub key: String,
    /// What it may be used for.
    pub usages: Vec<String>,
    /// Whether it issues others.
    pub is_authority: bool,
    /// Its first day.
    pub from: String,
    /// Its last second, UTC.
    pub until: String,
    /// SHA-256 of it, in hexadecimal digits.
    pub sha256: String,
}

impl From<&Certificate> for CertificateFacts {
    fn from(certificate: &Certificate) -> Self {
        Self {
            name: shown(&certificate.name()),
            subject: shown(&certificate.subject()),
            issuer: shown(&certificate.issuer()),
            key: certificate.public_key().map_or_else(|e| e.to_string(), |key| key.title()),
            usages: certificate.usages(),
            is_authority: certificate.authority().is_some(),
            from: time(certificate.not_before())[..10].to_owned(),
            until: time(certificate.not_after()),
            sha256: certificate.fingerprint(),
        }
    }
}

/// What others wrote, without anything that could change a terminal.
fn shown(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { '\u{FFFD}' } else { c }).collect()
}

/// `2026-11-27 10:00:00 UTC` of seconds since 1970.
pub fn time(seconds: u64) -> String {
    let date = u32::try_from(seconds).map_or_else(|_| "after 2105".to_owned(), crate::dates::date_of);
    let of_day = seconds % 86_400;
    format!("{date} {:02}:{:02}:{:02} UTC", of_day / 3600, of_day / 60 % 60, of_day % 60)
}

/// A timestamp.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StampFacts {
    /// When, UTC.
    pub time: String,
    /// Who says so.
    pub authority: CertificateFacts,
    /// The authority's policy.
    pub policy: String,
}

impl From<&Stamp> for StampFacts {
    fn from(stamp: &Stamp) -> Self {
        Self { time: time(stamp.time), authority: (&stamp.authority).into(), policy: stamp.policy.to_string() }
    }
}

/// A signature that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SignatureFacts {
    /// The name of the product that it gives.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// The digest's kind.
    pub digest: String,
    /// The certificate of who signed, then the issuer of each.
    pub chain: Vec<CertificateFacts>,
    /// When, if an authority says so.
    pub timestamp: Option<StampFacts>,
    /// Why whoever signed is not trusted.
    pub untrusted: Vec<String>,
    /// What else is wrong with it.
    pub problems: Vec<String>,
    /// What else it says, for code of macOS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<CodeFacts>,
    /// Who signed, if that was with OpenPGP, which has no certificates.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub openpgp: Option<OpenPgpFacts>,
}

/// A signature by OpenPGP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct OpenPgpFacts {
    /// Whose key it was, as the key says.
    pub user: String,
    /// The fingerprint of the main key, in hexadecimal digits.
    pub fingerprint: String,
    /// The algorithm.
    pub key: String,
    /// When it was made, UTC, as the signer says.
    pub time: String,
    /// When the key ends, UTC, if it does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// What a signature says of code of macOS.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CodeFacts {
    /// What the code calls itself.
    pub identifier: String,
    /// Apple's number of who signed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Whether the hardened runtime guards it.
    pub hardened_runtime: bool,
    /// What it may do beyond what all may.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub entitlements: Vec<String>,
}

/// A program, library or bundle inside of what was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Inside {
    /// Where it is.
    pub path: String,
    /// Who signed it, if somebody did.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// What is wrong with that.
    pub problems: Vec<String>,
    /// All that the signature says.
    #[serde(skip)]
    pub signature: Option<SignatureFacts>,
}

impl SignatureFacts {
    /// The name of who signed.
    pub fn signer(&self) -> Option<&str> {
        let by_key = self.openpgp.as_ref().map(|facts| facts.user.as_str());
        self.chain.first().map(|certificate| certificate.name.as_str()).or(by_key)
    }

    /// With a digest, and nothing else known.
    fn unnamed(digest: String) -> Self {
        Self {
            product: None,
            digest,
            chain: Vec::new(),
            timestamp: None,
            untrusted: Vec::new(),
            problems: Vec::new(),
            code: None,
            openpgp: None,
        }
    }

    fn of(report: &Report, digest: &[u8]) -> Self {
        let Doubts { untrusted, faults } = report.doubts();
        let mut problems = Vec::new();
        if report.digest != digest {
            problems.push("the file was changed after it was signed".to_owned());
        }
        problems.extend(faults.iter().map(|problem| shown(problem)));
        Self {
            product: report.named.name.as_deref().map(shown),
            chain: report.chain.certificates.iter().map(CertificateFacts::from).collect(),
            timestamp: report.stamp.as_ref().map(StampFacts::from),
            untrusted: untrusted.iter().map(|why| shown(why)).collect(),
            problems,
            ..Self::unnamed(report.hash.name().to_owned())
        }
    }
}

/// What was found out about the signatures of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Verdict {
    /// The file.
    pub file: PathBuf,
    /// Whether it is signed, and nothing is wrong with that.
    pub good: bool,
    /// Its signatures: the first one, and those beside it.
    pub signatures: Vec<SignatureFacts>,
    /// What is wrong with the file or with signatures that can't be read.
    pub problems: Vec<String>,
    /// The programs, libraries and bundles inside of it that were looked at.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub inside: Vec<Inside>,
    /// What was not looked at.
    pub unchecked: Vec<String>,
}

/// What is wrong with using a certificate for something, now, among others that came with it.
pub fn explain(
    certificate: &Certificate,
    others: &[Certificate],
    roots: &[Certificate],
    now: u64,
    purpose: Purpose,
) -> Vec<String> {
    let chain = signatures::chain::chain(certificate, others, roots, now, purpose);
    Doubts::of(&chain, None).all().iter().map(|why| shown(why)).collect()
}

/// How long before its end a certificate is said to expire soon, seconds: a month.
const SOON: u64 = 30 * 86_400;

/// What should be known of a key before anything is signed with it.
pub fn warnings(keys: &Keys, who: &Identity, now: u64) -> Vec<Problem> {
    let mut all = Vec::new();
    let (path, certificate) = (&keys.key, who.certificate());
    let name = shown(&certificate.name());
    let until = time(certificate.not_after());
    if now > certificate.not_after() {
        let problem = Problem::warning(Code::Certificate, format!("the certificate “{name}” expired on {until}"));
        all.push(problem.on(path).why("systems trust what is signed with it only if a timestamp is older"));
    } else if now + SOON > certificate.not_after() {
        let problem = Problem::warning(Code::Certificate, format!("the certificate “{name}” expires on {until}"));
        all.push(
            problem.on(path).why("what is signed without a timestamp is trusted until then").instead("order a new one"),
        );
    }
    if let Some(why) = certificate.unfit_for(Purpose::Code) {
        let problem = Problem::warning(Code::Certificate, format!("“{name}”: {why}")).on(path);
        all.push(problem.why("systems don't trust what is signed with it"));
    }
    all.extend(open_to_others(path));
    all
}

/// What is wrong with a key that others can read.
fn open_to_others(path: &Path) -> Option<Problem> {
    let what = || format!("others on this machine can read the key {}", path.display());
    identity::is_open_to_others(path)
        .then(|| Problem::warning(Code::Key, what()).on(path).instead(format!("chmod 600 {}", path.display())))
}

impl Verdict {
    /// Says whether all is well.
    fn judge(&mut self) {
        let is_good = |signature: &SignatureFacts| signature.problems.is_empty() && signature.untrusted.is_empty();
        let is_good_inside = self.inside.iter().all(|inside| inside.problems.is_empty());
        self.good = self.problems.is_empty()
            && !self.signatures.is_empty()
            && self.signatures.iter().all(is_good)
            && is_good_inside;
    }
}

/// Whom to trust.
#[derive(Default)]
pub struct Trust {
    /// Authorities.
    pub roots: Vec<Certificate>,
    /// Keys of OpenPGP.
    pub openpgp: Option<PublicKeys>,
}

/// Looks at the signatures of a file: what was signed, by whom, and whether that leads to somebody who is trusted. `now` is in
/// seconds since 1970; what is inside of it may take `limit` times the usual limits.
///
/// # Errors
/// The file can't be read, or is of a format whose signatures are not looked at.
pub fn verify(path: &Path, trust: &Trust, now: u64, limit: u64) -> Result<Verdict, Failure> {
    let by_key = openpgp::verify(path, trust.openpgp.as_ref(), now)?;
    let own = signature_of(path);
    let by_key = match by_key {
        Some(verdict) if !own.exists() => return Ok(verdict),
        // A file can have one of each kind beside it; who names whom to trust for one of them asks for that one.
        Some(mut verdict) if trust.openpgp.is_some() && trust.roots.is_empty() => {
            let name = own.file_name().unwrap_or_default().to_string_lossy().into_owned();
            verdict.unchecked.push(format!("the signature in {name}: name the authorities with --roots"));
            return Ok(verdict);
        }
        by_key => by_key,
    };
    let mut verdict = file::verify(path, &trust.roots, now, file::Depth::Inside(limit))?;
    if by_key.is_some() && trust.openpgp.is_none() {
        verdict.unchecked.push("its OpenPGP signature: name the file of known keys with --openpgp-keys".into());
    } else if let Some(by_key) = by_key {
        verdict.signatures.extend(by_key.signatures);
        verdict.problems.extend(by_key.problems);
        verdict.problems.sort();
        verdict.problems.dedup();
        verdict.judge();
    }
    Ok(verdict)
}

/// The signatures that a package carries, with what is wrong with them but for whom to trust, which is not asked. None for
/// what is not signed, or of a format that has no signatures.
///
/// # Errors
/// The file can't be read.
pub fn signers(path: &Path) -> Result<Vec<SignatureFacts>, Failure> {
    let mut verdict = file::verify(path, &[], now(), file::Depth::Itself)?;
    verdict.signatures.iter_mut().for_each(|signature| signature.untrusted.clear());
    verdict.signatures.extend(openpgp::signer_inside(path)?);
    Ok(verdict.signatures)
}

/// SHA-256 of a file, in hexadecimal digits.
///
/// # Errors
/// It can't be read.
pub fn sha256_of(path: &Path) -> std::io::Result<String> {
    beside::digest(path, Hash::Sha256).map(|digest| hexadecimal(&digest))
}

/// Seconds since 1970, by this machine's clock.
pub fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

/// The certificates in a file, in the PEM form or as bytes.
///
/// # Errors
/// It can't be read, or holds none.
pub fn certificates(path: &Path) -> Result<Vec<Certificate>, Failure> {
    let bytes = crate::input::read(path).map_err(|e| Failure::io("can't read", path, e))?;
    Certificate::all_from(&bytes).map_err(|e| {
        failure(Code::Certificate, Kind::Problems, format!("{} holds no certificates", path.display()), path, &e)
    })
}
