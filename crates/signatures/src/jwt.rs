//! Tokens that say who asks (JSON Web Tokens, RFC 7519), signed by ECDSA on P-256 (ES256, RFC 7518): how Apple's notary knows
//! its customers.

use crate::key::{PrivateKey, Signer};
use crate::public::PublicKey;
use crate::{Error, Hash, Kind, Result};
use base64ct::{Base64UrlUnpadded as Base64, Encoding};
use serde_json::{Value, json};

/// How long a token holds, seconds; the notary takes no more than twenty minutes.
const VALID: u64 = 15 * 60;

/// A token for a request, at a time (seconds since 1970).
///
/// # Errors
/// The key is of another kind.
pub fn token(key: &PrivateKey, key_id: &str, issuer: &str, audience: &str, now: u64) -> Result<String> {
    if !matches!(key.public_key(), PublicKey::P256(_)) {
        return Err(Error::new(Kind::Key, "such tokens are signed with a key on P-256"));
    }
    let head = json!({ "alg": "ES256", "kid": key_id, "typ": "JWT" });
    let claims = json!({ "iss": issuer, "iat": now, "exp": now + VALID, "aud": audience });
    let part = |value: &Value| Base64::encode_string(value.to_string().as_bytes());
    let signed = format!("{}.{}", part(&head), part(&claims));
    let signature = key.sign(Hash::Sha256, signed.as_bytes())?;
    let signature = p256::ecdsa::Signature::from_der(&signature)
        .map_err(|_| Error::signature("the key's signature has another form"))?;
    Ok(format!("{signed}.{}", Base64::encode_string(&signature.to_bytes())))
}

/// Who asks with a token, if its signature is that of a key and it holds at a time.
///
/// # Errors
/// It is none, doesn't fit, or doesn't hold any more.
pub fn issuer(token: &str, key: &PublicKey, audience: &str, now: u64) -> Result<String> {
    use p256::ecdsa::signature::Verifier;
    let bad = |what: &str| Error::signature(format!("a token that {what}"));
    let (signed, signature) = token.rsplit_once('.').ok_or_else(|| bad("is none"))?;
    let bytes = |text: &str| Base64::decode_vec(text).map_err(|_| bad("is none"));
    let PublicKey::P256(key) = key else { return Err(bad("can't be checked with this key")) };
    let signature = p256::ecdsa::Signature::from_slice(&bytes(signature)?).map_err(|_| bad("has no signature"))?;
    key.verify(signed.as_bytes(), &signature).map_err(|_| bad("somebody else signed"))?;
    let claims = signed.split('.').nth(1).ok_or_else(|| bad("is none"))?;
    let claims: Value = serde_json::from_slice(&bytes(claims)?).map_err(|_| bad("says nothing"))?;
    let holds = claims["exp"].as_u64().is_some_and(|until| now < until && until < now + 20 * 60 + 60);
    if !holds || claims["aud"] != audience {
        return Err(bad("doesn't hold here or now"));
    }
    claims["iss"].as_str().map(str::to_owned).ok_or_else(|| bad("names nobody"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::Generated;

    #[test]
    fn a_token_holds_for_its_own_key_place_and_time() {
        let key = PrivateKey::generate(Generated::P256).expect("made");
        let other = PrivateKey::generate(Generated::P256).expect("made");
        let made = token(&key, "K1", "somebody", "notary", 1000).expect("made");
        let asks = |token: &str, key: &PrivateKey, audience, now| issuer(token, key.public_key(), audience, now).ok();
        assert_eq!(asks(&made, &key, "notary", 1001).as_deref(), Some("somebody"));
        assert_eq!(asks(&made, &other, "notary", 1001), None);
        assert_eq!(asks(&made, &key, "elsewhere", 1001), None);
        assert_eq!(asks(&made, &key, "notary", 1000 + VALID), None);
        assert_eq!(asks("hello", &key, "notary", 1001), None);
        let wrong = PrivateKey::generate(Generated::P384).expect("made");
        assert!(token(&wrong, "K1", "somebody", "notary", 1000).is_err());
    }
}
