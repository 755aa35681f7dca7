//! The key that signs, from where it is kept.

use super::failure;
use crate::problem::{Code, Failure, Kind, Problem};
use signatures::key::{Identity, PrivateKey, private_key_from_pem};
use signatures::{Certificate, Secret, service};
use std::path::{Path, PathBuf};

/// Where a key is kept. None of this is secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Keys {
    /// A PKCS #12 file, a private key in the PEM form, the URI of a key in a token (RFC 7512), or `program:` and the path of a
    /// program that uses the key.
    pub key: PathBuf,
    /// The key's certificate, and those above it, where the first file does not hold them.
    pub certificates: Option<PathBuf>,
}

/// Reads a key with its certificate. The secret is asked for when the key is protected by one, and only then.
///
/// # Errors
/// A file can't be read, the secret is missing or wrong, or key and certificate don't belong together.
pub fn identity(keys: &Keys, secret: &dyn Fn() -> Result<Option<Secret>, Failure>) -> Result<Identity, Failure> {
    let path = &keys.key;
    // A URI may hold what it should not; then it is not shown again.
    let shown = path.to_string_lossy();
    let shown = shown.split_once('?').filter(|_| token_of(path).is_some()).map_or(&*shown, |(uri, _)| uri).to_owned();
    let unusable = |e: &signatures::Error| {
        let code = if e.kind == signatures::Kind::Secret { Code::Secret } else { Code::Key };
        let mut failure = failure(code, Kind::Problems, format!("the key {shown} can't be used"), Path::new(&shown), e);
        failure.problems[0].instead = match e.kind {
            signatures::Kind::Secret => Some("give its secret with --secret-variable or --secret-descriptor".into()),
            signatures::Kind::Key if e.what.contains("certificate") => {
                Some("name the certificate of this very key with --certificate".into())
            }
            signatures::Kind::Key => {
                Some("pkcs11:token=LABEL;object=LABEL?module-path=LIBRARY, with the token in its place".into())
            }
            _ => Some("a PKCS #12 file, a private key in the PEM form, or a URI as RFC 7512 has them".into()),
        };
        failure
    };
    if let Some(program) = service_of(path) {
        let given = keys.certificates.as_deref().map(super::certificates).transpose()?;
        return service::identity(program, given, service::PATIENCE).map_err(|e| {
            let what = format!("the key {} can't be used", path.display());
            let problem = Problem::error(Code::Key, what).on(program).why(e.to_string());
            Failure::new(
                Kind::Machine,
                problem.instead("a program that speaks as docs/signing.md says; try it by itself"),
            )
        });
    }
    if let Some(uri) = token_of(path) {
        return from_token(uri, keys, secret, &unusable);
    }
    let bytes = zeroize::Zeroizing::new(crate::input::read(path).map_err(|e| Failure::io("can't read", path, e))?);
    let further = keys.certificates.as_deref().map(super::certificates).transpose()?;
    let Some(text) = std::str::from_utf8(&bytes).ok().filter(|text| text.contains("-----BEGIN ")) else {
        return from_pkcs12(&bytes, further, secret, &unusable);
    };
    let key = match private_key_from_pem(text, None) {
        Err(e) if e.kind == signatures::Kind::Secret => private_key_from_pem(text, secret()?.as_ref()),
        key => key,
    };
    let key: PrivateKey = key.map_err(|e| unusable(&e))?;
    // They may stand in the file of the key.
    let chain = match further {
        Some(chain) => chain,
        None => Certificate::all_from_pem(text).unwrap_or_default(),
    };
    if chain.is_empty() {
        let problem =
            Problem::error(Code::Certificate, format!("there is no certificate for the key {}", path.display()));
        let problem = problem.on(path).instead("name the file that holds it with --certificate");
        return Err(Failure::new(Kind::Problems, problem));
    }
    Identity::new(Box::new(key), chain).map_err(|e| unusable(&e))
}

/// The URI of a key in a token, if it is one.
pub fn token_of(key: &Path) -> Option<&str> {
    key.to_str().filter(|text| text.starts_with(signatures::token::SCHEME))
}

/// The program that uses a key for us, if it is one.
pub fn service_of(key: &Path) -> Option<&Path> {
    key.to_str().and_then(|text| text.strip_prefix(service::SCHEME)).map(Path::new)
}

fn from_token(
    uri: &str,
    keys: &Keys,
    secret: &dyn Fn() -> Result<Option<Secret>, Failure>,
    unusable: &dyn Fn(&signatures::Error) -> Failure,
) -> Result<Identity, Failure> {
    let uri = signatures::token::Uri::read(uri).map_err(|e| unusable(&e))?;
    let given = keys.certificates.as_deref().map(super::certificates).transpose()?;
    // What keeps the secret from being had is a failure of its own.
    let missing = std::cell::RefCell::new(None);
    let ask = || {
        secret().map_err(|failure| {
            missing.replace(Some(failure));
            signatures::Error::new(signatures::Kind::Secret, "the secret can't be had")
        })
    };
    let identity = signatures::token::identity(&uri, given, &ask);
    match missing.into_inner() {
        Some(failure) => Err(failure),
        None => identity.map_err(|e| unusable(&e)),
    }
}

fn from_pkcs12(
    bytes: &[u8],
    further: Option<Vec<Certificate>>,
    secret: &dyn Fn() -> Result<Option<Secret>, Failure>,
    unusable: &dyn Fn(&signatures::Error) -> Failure,
) -> Result<Identity, Failure> {
    // Most are protected; some by an empty secret.
    let none = Secret::new(String::new());
    let identity = match Identity::from_pkcs12(bytes, &none) {
        Err(e) if e.kind == signatures::Kind::Secret => match secret()? {
            Some(secret) => Identity::from_pkcs12(bytes, &secret),
            None => Err(signatures::Error::new(signatures::Kind::Secret, "it is protected by a secret")),
        },
        identity => identity,
    };
    let mut identity = identity.map_err(|e| unusable(&e))?;
    identity.chain.extend(further.into_iter().flatten());
    Ok(identity)
}

/// Whether somebody else than its owner may read a file; elsewhere than on Unix nobody asks.
pub(super) fn is_open_to_others(path: &Path) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        std::fs::metadata(path).is_ok_and(|meta| meta.mode() & 0o077 != 0)
    }
    #[cfg(not(unix))]
    {
        let _ = path;
        false
    }
}
