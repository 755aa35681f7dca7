//! Keys for those who have none: an authority that nobody else trusts, and what it issued. Their names say so.

use super::{Hash, failure};
use crate::litter::Litter;
use crate::problem::{Code, Failure, Kind, Problem};
use signatures::authority::{COMMON_NAME, ORGANIZATION, Role, Wanted, answer, identity};
pub use signatures::key::Generated as KeyKind;
use signatures::key::{Generated, Identity, Signer as _};
use signatures::service;
use std::path::{Path, PathBuf};

/// The names of what is made; each key has its certificate beside it.
const AUTHORITY: &str = "test-authority";
const CODE: &str = "code-signing";
const CLOCK: &str = "timestamps";
/// How long they are valid, seconds: two years.
const VALID: u64 = 2 * 365 * 86_400;

/// What was made.
#[derive(Debug, Clone, serde::Serialize, schemars::JsonSchema)]
pub struct TestKeys {
    /// The authority's certificate: who is to trust what it issued needs it.
    pub authority: PathBuf,
    /// For programs.
    pub code: Pair,
    /// For timestamps.
    pub timestamps: Pair,
}

/// A key and its certificate.
#[derive(Debug, Clone, serde::Serialize, schemars::JsonSchema)]
pub struct Pair {
    /// The private key.
    pub key: PathBuf,
    /// Its certificate.
    pub certificate: PathBuf,
}

/// Makes a test authority, a key for signing programs, and one for timestamps, in a folder that must not hold them yet.
/// The authority's own key is not kept: it will issue nothing else.
///
/// # Errors
/// The folder holds them already, or can't be written.
pub fn make(folder: &Path, publisher: &str, kind: Generated, now: u64) -> Result<TestKeys, Failure> {
    let at = |name: &str, end: &str| folder.join(format!("{name}{end}"));
    let all = [at(AUTHORITY, ".pem"), at(CODE, ".key.pem"), at(CODE, ".pem"), at(CLOCK, ".key.pem"), at(CLOCK, ".pem")];
    if let Some(there) = all.iter().find(|file| file.symlink_metadata().is_ok()) {
        let problem = Problem::error(Code::DestinationExists, format!("{} exists already", there.display())).on(there);
        let problem = problem.why("signatures that were made with it would no longer be trusted");
        return Err(Failure::new(Kind::Problems, problem.instead("choose another folder")));
    }
    std::fs::create_dir_all(folder).map_err(|e| Failure::io("can't create", folder, e))?;
    let unusable = |e: signatures::Error| failure(Code::Key, Kind::Machine, "no keys can be made".into(), folder, &e);
    let made = |name: &str, role, kind, by: Option<&Identity>| {
        let name = format!("{name} (TEST ONLY)");
        let subject = [(ORGANIZATION, publisher), (COMMON_NAME, name.as_str())];
        // A clock that is a little late is no reason to fail.
        let wanted = Wanted { subject: &subject, role, from: now - 3600, until: now + VALID };
        identity(kind, &wanted, by).map_err(unusable)
    };
    let (authority, _) = made(&format!("{publisher} authority"), Role::Authority, Generated::P256, None)?;
    let (code, code_key) = made(publisher, Role::Code, kind, Some(&authority))?;
    let (clock, clock_key) = made(&format!("{publisher} timestamps"), Role::Timestamps, kind, Some(&authority))?;
    let key = |bytes: &[u8]| signatures::key::pem(bytes).map_err(unusable);
    let texts = [
        authority.certificate().pem(),
        key(&code_key)?.to_string(),
        code.certificate().pem(),
        key(&clock_key)?.to_string(),
        clock.certificate().pem(),
    ];
    let mut litter = Vec::new();
    for (file, text) in all.iter().zip(&texts) {
        litter.push(Litter::file(file));
        write_for_owner(file, text).map_err(|e| Failure::io("can't write", file, e))?;
    }
    litter.iter().for_each(Litter::keep);
    let [authority, code_key, code, clock_key, clock] = all;
    let (code, timestamps) = (Pair { key: code_key, certificate: code }, Pair { key: clock_key, certificate: clock });
    Ok(TestKeys { authority, code, timestamps })
}

/// A file that nobody else may read from its first moment on.
fn write_for_owner(file: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    let mut options = std::fs::File::options();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let mut file = options.open(file)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// An authority for timestamps: what it answers to a request at a time, with the next number.
///
/// # Errors
/// The key can't be used.
pub fn stamp(request: &[u8], who: &Identity, now: u64, number: u64) -> Result<Vec<u8>, signatures::Error> {
    answer(request, who, now, &number.to_be_bytes())
}

/// Answers as a service does that keeps the key for code of a folder of test keys: a line of JSON for each.
///
/// # Errors
/// The key can't be read.
pub fn signing_service(folder: &Path) -> Result<impl Fn(&str) -> String, Failure> {
    let certificates = super::certificates(&folder.join(format!("{CODE}.pem")))?;
    let file = folder.join(format!("{CODE}.key.pem"));
    let bytes = crate::input::read(&file).map_err(|e| Failure::io("can't read", &file, e))?;
    let key = signatures::key::private_key_from_pem(&String::from_utf8_lossy(&bytes), None);
    let key = key.map_err(|e| failure(Code::Key, Kind::Problems, "the key can't be used".into(), &file, &e))?;
    Ok(move |line: &str| {
        let answer = match serde_json::from_str::<service::Request>(line) {
            Err(e) => service::Answer::failed("invalid_request", &e.to_string()),
            Ok(service::Request::Info { .. }) => service::Answer::certificates(&certificates),
            Ok(service::Request::SignHash { hashes, hash_algorithm, .. }) => {
                let hash = [Hash::Sha256, Hash::Sha384, Hash::Sha512].into_iter();
                let hash = hash.clone().find(|hash| hash.oid().to_string() == hash_algorithm);
                let digest = hashes.first().map(|text| service::digest(text));
                match (hash, digest) {
                    (Some(hash), Some(Ok(digest))) => match key.sign_digest(hash, &digest) {
                        Ok(signature) => service::Answer::signature(&signature),
                        Err(e) => service::Answer::failed("server_error", &e.to_string()),
                    },
                    _ => service::Answer::failed("invalid_request", "no digest of a known kind"),
                }
            }
        };
        serde_json::to_string(&answer).unwrap_or_default()
    })
}

/// The certificate for code, in a folder of test keys.
///
/// # Errors
/// It can't be read.
pub fn code_certificate(folder: &Path) -> Result<super::Certificate, Failure> {
    let path = folder.join(format!("{CODE}.pem"));
    let all = super::certificates(&path)?;
    all.into_iter().next().ok_or_else(|| Failure::io("can't read", &path, std::io::ErrorKind::NotFound.into()))
}

/// Whether a token is one that the key of a certificate signed.
pub fn is_customer(certificate: &super::Certificate, token: &str, audience: &str, now: u64) -> bool {
    certificate.public_key().and_then(|key| signatures::jwt::issuer(token, &key, audience, now)).is_ok()
}

/// Bytes in Base64.
pub fn base64(bytes: &[u8]) -> String {
    use base64ct::Encoding;
    base64ct::Base64::encode_string(bytes)
}

/// The key for timestamps and its certificate, in a folder of test keys.
pub fn timestamps_of(folder: &Path) -> (PathBuf, PathBuf) {
    (folder.join(format!("{CLOCK}.key.pem")), folder.join(format!("{CLOCK}.pem")))
}
