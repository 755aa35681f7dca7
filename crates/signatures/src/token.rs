//! Keys that nobody can copy: in a token, a card or a module of hardware, reached by PKCS #11. Which one is said by a URI
//! (RFC 7512), in which no secret may stand.

use crate::key::{Identity, Signer};
use crate::public::{PublicKey, Scheme};
use crate::raw::{self, tag};
use crate::{Certificate, Error, Hash, Kind, Result, Secret};
use cryptoki::context::{CInitializeArgs, CInitializeFlags, Pkcs11};
use cryptoki::error::RvError;
use cryptoki::mechanism::Mechanism;
use cryptoki::object::{Attribute, AttributeType, KeyType, ObjectClass, ObjectHandle};
use cryptoki::session::{Session, UserType};
use cryptoki::slot::Slot;
use cryptoki::types::AuthPin;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, PoisonError};

/// How such a URI begins.
pub const SCHEME: &str = "pkcs11:";

/// Which key in which token.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Uri {
    /// The token's label.
    pub token: Option<String>,
    /// The token's serial number.
    pub serial: Option<String>,
    /// The key's label.
    pub object: Option<String>,
    /// The key's identifier.
    pub id: Option<Vec<u8>>,
    /// The library that knows the token.
    pub module: PathBuf,
}

impl Uri {
    /// Reads one.
    ///
    /// # Errors
    /// It is malformed, holds a secret, or names no library.
    pub fn read(text: &str) -> Result<Self> {
        let wrong = |what: &str| Error::malformed(what.to_owned());
        let rest = text.strip_prefix(SCHEME).ok_or_else(|| wrong("it does not begin with pkcs11:"))?;
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        let mut uri = Self::default();
        for (key, value) in path.split(';').filter(|part| !part.is_empty()).map(pair) {
            let bytes = decoded(value).ok_or_else(|| wrong("a % in it is not followed by two hexadecimal digits"))?;
            let text = || String::from_utf8(bytes.clone()).map_err(|_| wrong("it is not text"));
            match key {
                "token" => uri.token = Some(text()?),
                "serial" => uri.serial = Some(text()?),
                "object" => uri.object = Some(text()?),
                "id" => uri.id = Some(bytes),
                "type" if bytes == b"private" => {}
                // By the standard, what is not understood must not be passed over.
                other => {
                    let what = format!("{other:?} is not one of token, serial, object, id");
                    return Err(Error::unsupported(what));
                }
            }
        }
        for (key, value) in query.split('&').filter(|part| !part.is_empty()).map(pair) {
            match key {
                "module-path" => {
                    let bytes = decoded(value).and_then(|bytes| String::from_utf8(bytes).ok());
                    uri.module = bytes.ok_or_else(|| wrong("module-path is not text"))?.into();
                }
                "pin-value" | "pin-source" => {
                    let what = "no secret stands in a URI, nor where one is: name a variable or a descriptor for it";
                    return Err(Error::new(Kind::Secret, what));
                }
                _ => {}
            }
        }
        if uri.module.as_os_str().is_empty() {
            return Err(wrong("it names no library: ?module-path=/…/library.so"));
        }
        if uri.object.is_none() && uri.id.is_none() {
            return Err(wrong("it names no key: object=LABEL or id=%01"));
        }
        Ok(uri)
    }
}

fn pair(part: &str) -> (&str, &str) {
    part.split_once('=').unwrap_or((part, ""))
}

/// Bytes behind percent signs.
fn decoded(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let mut rest = text.as_bytes();
    while let [first, more @ ..] = rest {
        if *first != b'%' {
            out.push(*first);
            rest = more;
            continue;
        }
        let digits = std::str::from_utf8(more.get(..2)?).ok()?;
        out.push(u8::from_str_radix(digits, 16).ok()?);
        rest = &more[2..];
    }
    Some(out)
}

/// Libraries that were loaded: none may be made ready twice.
static MODULES: LazyLock<Mutex<HashMap<PathBuf, Pkcs11>>> = LazyLock::new(Mutex::default);

fn failed(what: &str, e: &cryptoki::error::Error) -> Error {
    use cryptoki::error::Error as Of;
    match e {
        Of::Pkcs11(RvError::PinIncorrect | RvError::PinLenRange | RvError::PinInvalid, _) => {
            Error::new(Kind::Secret, "the secret is wrong")
        }
        Of::Pkcs11(RvError::PinLocked, _) => {
            Error::new(Kind::Secret, "the token is locked: a wrong secret was given too often")
        }
        Of::Pkcs11(RvError::TokenNotPresent | RvError::DeviceRemoved, _) => {
            Error::new(Kind::Key, format!("{what}: the token is gone"))
        }
        Of::Pkcs11(code, _) => Error::new(Kind::Key, format!("{what}: the token's library says {code:?}")),
        Of::LibraryLoading(e) => Error::new(Kind::Key, format!("{what}: {e}")),
        other => Error::new(Kind::Key, format!("{what}: {other}")),
    }
}

fn module(path: &Path) -> Result<Pkcs11> {
    let mut all = MODULES.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(module) = all.get(path) {
        return Ok(module.clone());
    }
    let unusable = |e: cryptoki::error::Error| failed(&format!("the library {} can't be used", path.display()), &e);
    let module = Pkcs11::new(path).map_err(unusable)?;
    module.initialize(CInitializeArgs::new(CInitializeFlags::OS_LOCKING_OK)).map_err(unusable)?;
    all.insert(path.to_owned(), module.clone());
    Ok(module)
}

/// A key in a token.
struct TokenKey {
    session: Mutex<Session>,
    key: ObjectHandle,
    public: PublicKey,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum KeyKind {
    Rsa,
    Elliptic,
}

/// Opens a key, with its certificate: one of those that are given, or that lie in the token. The secret is asked for when the
/// token wants one.
///
/// # Errors
/// The token or the key is not there, the secret is missing or wrong, or no certificate is the key's.
pub fn identity(
    uri: &Uri,
    given: Option<Vec<Certificate>>,
    secret: &dyn Fn() -> Result<Option<Secret>>,
) -> Result<Identity> {
    let module = module(&uri.module)?;
    let slot = slot(&module, uri)?;
    let no = |what: &'static str| move |e: cryptoki::error::Error| failed(what, &e);
    let session = module.open_ro_session(slot).map_err(no("the token can't be opened"))?;
    let info = module.get_token_info(slot).map_err(no("the token can't be read"))?;
    if info.login_required() {
        let secret = if info.protected_authentication_path() { None } else { secret()? };
        if secret.is_none() && !info.protected_authentication_path() {
            return Err(Error::new(Kind::Secret, "the token wants a secret"));
        }
        let pin = secret.map(|secret| AuthPin::new(secret.expose().to_owned().into()));
        match session.login(UserType::User, pin.as_ref()) {
            Err(cryptoki::error::Error::Pkcs11(RvError::UserAlreadyLoggedIn, _)) | Ok(()) => {}
            Err(e) => return Err(failed("the token does not let anybody in", &e)),
        }
    }
    let key = only_key(&session, uri)?;
    let kind = session.get_attributes(key, &[AttributeType::KeyType]).map_err(no("the key can't be read"))?;
    let kind = match kind[..] {
        [Attribute::KeyType(KeyType::RSA)] => KeyKind::Rsa,
        [Attribute::KeyType(KeyType::EC)] => KeyKind::Elliptic,
        _ => return Err(Error::unsupported("it is no RSA or ECDSA key")),
    };
    let chain = match given {
        Some(given) => given,
        None => certificates(&session)?,
    };
    // Which certificate is the key's, a signature tells: not every token shows public keys.
    let session = Mutex::new(session);
    for certificate in &chain {
        let Ok(public) = certificate.public_key() else { continue };
        let fits = matches!(
            (&public, kind),
            (PublicKey::Rsa(_), KeyKind::Rsa) | (PublicKey::P256(_) | PublicKey::P384(_), KeyKind::Elliptic)
        );
        if !fits {
            continue;
        }
        let trial = b"Upper Shelf asks whether a key and a certificate belong together";
        let hash = public.usual_hash();
        let signature = match sign(&session, key, &public, hash, &hash.of(trial)) {
            // A key on another curve.
            Err(e) if e.kind == Kind::Signature => continue,
            signature => signature?,
        };
        let algorithm = public.signature_algorithm(hash);
        let scheme = Scheme::read(raw::only(&algorithm, tag::SEQUENCE)?, Some(hash))?;
        if public.verify(scheme, trial, &signature).is_ok() {
            return Identity::new(Box::new(TokenKey { session, key, public }), chain);
        }
    }
    Err(Error::new(
        Kind::Key,
        match chain.len() {
            0 => "there is no certificate for the key, neither in the token nor elsewhere".to_owned(),
            1 => "the certificate is not that of the key".to_owned(),
            n => format!("none of the {n} certificates is that of the key"),
        },
    ))
}

fn slot(module: &Pkcs11, uri: &Uri) -> Result<Slot> {
    let unreadable = |e: cryptoki::error::Error| failed("tokens can't be listed", &e);
    let mut names = Vec::new();
    for slot in module.get_slots_with_token().map_err(unreadable)? {
        let Ok(info) = module.get_token_info(slot) else { continue };
        let (label, serial) = (info.label().trim_end(), info.serial_number().trim_end());
        let is_meant = uri.token.as_ref().is_none_or(|token| token == label)
            && uri.serial.as_ref().is_none_or(|wanted| wanted == serial);
        if is_meant && info.token_initialized() {
            return Ok(slot);
        }
        names.extend(info.token_initialized().then(|| format!("“{label}”")));
    }
    let wanted = uri.token.as_deref().or(uri.serial.as_deref()).unwrap_or("any");
    let there =
        if names.is_empty() { "there is none at all".to_owned() } else { format!("found {}", names.join(", ")) };
    Err(Error::new(Kind::Key, format!("there is no token “{wanted}”: {there}")))
}

fn only_key(session: &Session, uri: &Uri) -> Result<ObjectHandle> {
    let mut template = vec![Attribute::Class(ObjectClass::PRIVATE_KEY)];
    template.extend(uri.object.as_ref().map(|label| Attribute::Label(label.as_bytes().to_vec())));
    template.extend(uri.id.clone().map(Attribute::Id));
    let found = session.find_objects(&template).map_err(|e| failed("the token can't be searched", &e))?;
    match found[..] {
        [key] => Ok(key),
        [] => Err(Error::new(Kind::Key, "the token has no such private key")),
        _ => Err(Error::new(Kind::Key, format!("the token has {} such keys: name one by its id", found.len()))),
    }
}

fn certificates(session: &Session) -> Result<Vec<Certificate>> {
    let unreadable = |e: cryptoki::error::Error| failed("the token's certificates can't be read", &e);
    let found = session.find_objects(&[Attribute::Class(ObjectClass::CERTIFICATE)]).map_err(unreadable)?;
    let mut all = Vec::new();
    for object in found {
        for attribute in session.get_attributes(object, &[AttributeType::Value]).map_err(unreadable)? {
            if let Attribute::Value(der) = attribute {
                all.extend(Certificate::from_der(&der).ok());
            }
        }
    }
    Ok(all)
}

fn sign(session: &Mutex<Session>, key: ObjectHandle, public: &PublicKey, hash: Hash, digest: &[u8]) -> Result<Vec<u8>> {
    let session = session.lock().unwrap_or_else(PoisonError::into_inner);
    let refused = |e: cryptoki::error::Error| failed("the key does not sign", &e);
    let odd = || Error::signature("the key does not sign: the token gives back a signature of another kind of key");
    match public {
        PublicKey::Rsa(_) => {
            let info = raw::sequence(&[&hash.algorithm(), &raw::value(tag::OCTETS, &[digest])]);
            session.sign(&Mechanism::RsaPkcs, key, &info).map_err(refused)
        }
        // Two numbers side by side; everywhere else they are a sequence.
        PublicKey::P256(_) => {
            let pair = session.sign(&Mechanism::Ecdsa, key, &digest[..digest.len().min(32)]).map_err(refused)?;
            let signature = p256::ecdsa::Signature::from_slice(&pair).map_err(|_| odd())?;
            Ok(signature.to_der().as_bytes().to_vec())
        }
        PublicKey::P384(_) => {
            let pair = session.sign(&Mechanism::Ecdsa, key, &digest[..digest.len().min(48)]).map_err(refused)?;
            let signature = p384::ecdsa::Signature::from_slice(&pair).map_err(|_| odd())?;
            Ok(signature.to_der().as_bytes().to_vec())
        }
        PublicKey::Ed25519(_) => Err(Error::unsupported("Ed25519 keys in tokens are not used here")),
    }
}

impl Signer for TokenKey {
    fn public_key(&self) -> &PublicKey {
        &self.public
    }

    fn sign_digest(&self, hash: Hash, digest: &[u8]) -> Result<Vec<u8>> {
        sign(&self.session, self.key, &self.public, hash, digest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_uri_names_token_key_and_library_and_no_secret() {
        let uri = Uri::read("pkcs11:token=Release%20keys;object=code;id=%01%ff;type=private?module-path=/lib/a.so&x=y");
        let expected = Uri {
            token: Some("Release keys".into()),
            serial: None,
            object: Some("code".into()),
            id: Some(vec![1, 255]),
            module: "/lib/a.so".into(),
        };
        assert_eq!(uri.unwrap(), expected);
        for (text, said) in [
            ("file:a", "it does not begin with pkcs11:"),
            ("pkcs11:object=a", "it names no library: ?module-path=/…/library.so"),
            ("pkcs11:token=a?module-path=/a", "it names no key: object=LABEL or id=%01"),
            ("pkcs11:object=%4?module-path=/a", "a % in it is not followed by two hexadecimal digits"),
            ("pkcs11:object=a;slot-id=3?module-path=/a", "\"slot-id\" is not one of token, serial, object, id"),
        ] {
            assert_eq!(Uri::read(text).unwrap_err().to_string(), said, "{text}");
        }
        let secret = Uri::read("pkcs11:object=a?module-path=/a&pin-value=1234").unwrap_err();
        assert!(secret.kind == Kind::Secret && !secret.to_string().contains("1234"), "{secret}");
    }
}
