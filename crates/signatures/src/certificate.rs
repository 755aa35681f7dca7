//! Certificates (RFC 5280): whose they are, until when, and for what.

use crate::public::{PublicKey, Scheme};
use crate::raw::{self, Item, tag};
use crate::{Error, Result, oid};
use der::Decode;
use der::asn1::ObjectIdentifier as Oid;
use std::fmt;
use x509_cert::ext::pkix::{BasicConstraints, ExtendedKeyUsage, KeyUsage};

/// What a certificate is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Signing programs and packages.
    Code,
    /// Signing timestamps.
    Timestamps,
}

impl Purpose {
    fn usage(self) -> Oid {
        match self {
            Self::Code => oid::CODE_SIGNING,
            Self::Timestamps => oid::TIME_STAMPING,
        }
    }

    /// What it is called.
    pub fn title(self) -> &'static str {
        match self {
            Self::Code => "code signing",
            Self::Timestamps => "timestamping",
        }
    }
}

/// Extensions that are understood here; one that is critical and is not among them makes a certificate useless (RFC 5280,
/// 4.2).
const UNDERSTOOD: [Oid; 6] = [
    Oid::new_unwrap("2.5.29.14"), // the subject's key identifier
    Oid::new_unwrap("2.5.29.15"), // key usage
    Oid::new_unwrap("2.5.29.19"), // basic constraints
    Oid::new_unwrap("2.5.29.32"), // policies, of which none is demanded
    Oid::new_unwrap("2.5.29.35"), // the authority's key identifier
    Oid::new_unwrap("2.5.29.37"), // extended key usage
];

/// Whether an extension is one of those by which Apple says what a certificate is for. Critical or not, they narrow nothing
/// that is checked here.
fn says_what_for(oid: &Oid) -> bool {
    oid.to_string().starts_with("1.2.840.113635.100.6.")
}

/// A certificate, with the bytes that it came in.
#[derive(Clone)]
pub struct Certificate {
    der: Vec<u8>,
    read: x509_cert::Certificate,
}

impl fmt::Debug for Certificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Certificate({})", self.subject())
    }
}

impl PartialEq for Certificate {
    fn eq(&self, other: &Self) -> bool {
        self.der == other.der
    }
}

impl Eq for Certificate {}

impl Certificate {
    /// From its bytes.
    ///
    /// # Errors
    /// They are none.
    pub fn from_der(der: &[u8]) -> Result<Self> {
        let read = x509_cert::Certificate::from_der(der);
        let read = read.map_err(|e| Error::malformed(format!("a certificate can't be read: {e}")))?;
        Ok(Self { der: der.to_vec(), read })
    }

    /// All that stand in a text in the PEM form (RFC 7468).
    ///
    /// # Errors
    /// One of them is malformed, or there are none.
    pub fn all_from_pem(text: &str) -> Result<Vec<Self>> {
        let blocks = crate::key::blocks(text).filter(|(label, _)| *label == "CERTIFICATE");
        let all: Result<Vec<Self>> = blocks
            .map(|(_, block)| {
                let (_, document) = der::Document::from_pem(block)
                    .map_err(|e| Error::malformed(format!("a certificate can't be read: {e}")))?;
                Self::from_der(document.as_bytes())
            })
            .collect();
        let all = all?;
        if all.is_empty() { Err(Error::malformed("there is no certificate in it")) } else { Ok(all) }
    }

    /// Those in a file, whether in the PEM form or as bytes.
    ///
    /// # Errors
    /// As [`Certificate::all_from_pem`].
    pub fn all_from(bytes: &[u8]) -> Result<Vec<Self>> {
        match std::str::from_utf8(bytes) {
            Ok(text) if text.contains("-----BEGIN ") => Self::all_from_pem(text),
            _ => Ok(vec![Self::from_der(bytes)?]),
        }
    }

    /// Its bytes.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// Itself in the PEM form.
    pub fn pem(&self) -> String {
        use der::EncodePem;
        self.read.to_pem(der::pem::LineEnding::LF).unwrap_or_default()
    }

    /// Whose it is, in the form of RFC 4514.
    pub fn subject(&self) -> String {
        self.read.tbs_certificate().subject().to_string()
    }

    /// Who says so.
    pub fn issuer(&self) -> String {
        self.read.tbs_certificate().issuer().to_string()
    }

    /// The bytes of its subject's name.
    pub fn subject_der(&self) -> &[u8] {
        self.field(SUBJECT).map_or(&[], |item| item.all)
    }

    /// The bytes of its issuer's name.
    pub fn issuer_der(&self) -> &[u8] {
        self.field(ISSUER).map_or(&[], |item| item.all)
    }

    /// The short name of its subject: the common name, else the organisation, else all of it.
    pub fn name(&self) -> String {
        short(&self.subject())
    }

    /// The short name of who says so.
    pub fn issuer_name(&self) -> String {
        short(&self.issuer())
    }

    /// Its serial number: the content of an INTEGER, as it stands there.
    pub fn serial(&self) -> &[u8] {
        self.field(SERIAL).map_or(&[], |item| item.value)
    }

    /// When it begins to be valid, seconds since 1970.
    pub fn not_before(&self) -> u64 {
        self.read.tbs_certificate().validity().not_before.to_unix_duration().as_secs()
    }

    /// The last second in which it is valid, since 1970.
    pub fn not_after(&self) -> u64 {
        self.read.tbs_certificate().validity().not_after.to_unix_duration().as_secs()
    }

    /// Its public key.
    ///
    /// # Errors
    /// It is of a kind that is not checked here.
    pub fn public_key(&self) -> Result<PublicKey> {
        PublicKey::from_der(self.field(PUBLIC_KEY)?.all)
    }

    /// Hexadecimal digits of its SHA-256.
    pub fn fingerprint(&self) -> String {
        crate::Hash::Sha256.of(&self.der).iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// The identifier that it has for its own key.
    pub fn key_identifier(&self) -> Option<Vec<u8>> {
        let found = self.read.tbs_certificate().get_extension::<x509_cert::ext::pkix::SubjectKeyIdentifier>();
        found.ok().flatten().map(|(_, identifier)| identifier.0.as_bytes().to_vec())
    }

    /// Whether it speaks for itself.
    pub fn is_self_signed(&self) -> bool {
        self.subject_der() == self.issuer_der() && self.is_signed_by(self).is_ok()
    }

    /// Whether the other one's key signed it.
    ///
    /// # Errors
    /// It did not, or that can't be checked here.
    pub fn is_signed_by(&self, issuer: &Self) -> Result<()> {
        let [signed, algorithm, signature] = raw::only(&self.der, tag::SEQUENCE)?.children()?[..] else {
            return Err(Error::malformed("a certificate does not have three parts"));
        };
        let scheme = Scheme::read(algorithm, None)?;
        let [0, signature @ ..] = signature.with(tag::BITS)?.value else {
            return Err(Error::malformed("the signature of a certificate does not end with a byte"));
        };
        issuer.public_key()?.verify(scheme, signed.all, signature)
    }

    /// Whether others may be signed with it, and how many may stand below it on the way.
    pub fn authority(&self) -> Option<Option<u8>> {
        let constraints = self.extension::<BasicConstraints>()?;
        let may_sign = self.extension::<KeyUsage>().is_none_or(|usage| usage.key_cert_sign());
        (constraints.ca && may_sign).then_some(constraints.path_len_constraint)
    }

    /// Why it can't be used for something, if it can't.
    pub fn unfit_for(&self, purpose: Purpose) -> Option<String> {
        if self.extension::<KeyUsage>().is_some_and(|usage| !usage.digital_signature()) {
            return Some("its key may not make signatures".into());
        }
        let usages = self.extension::<ExtendedKeyUsage>();
        let fits = usages.as_ref().is_some_and(|all| match purpose {
            Purpose::Code => all.0.iter().any(|usage| [oid::CODE_SIGNING, oid::ANY_USAGE].contains(usage)),
            // For nothing else, and everybody must understand that (RFC 3161, 2.3).
            Purpose::Timestamps => all.0 == [purpose.usage()] && self.is_critical::<ExtendedKeyUsage>(),
        });
        (!fits).then(|| match usages {
            None => format!("it is not a certificate for {}: it names no extended usage", purpose.title()),
            Some(_) => format!("it is not a certificate for {}", purpose.title()),
        })
    }

    /// The names of its extended usages.
    pub fn usages(&self) -> Vec<String> {
        let name = |usage: &Oid| match *usage {
            oid::CODE_SIGNING => "code signing".to_owned(),
            oid::TIME_STAMPING => "timestamping".to_owned(),
            oid::ANY_USAGE => "anything".to_owned(),
            other => other.to_string(),
        };
        self.extension::<ExtendedKeyUsage>().map(|all| all.0.iter().map(name).collect()).unwrap_or_default()
    }

    /// An extension that is critical and unknown here.
    pub fn unknown_demand(&self) -> Option<Oid> {
        let extensions = self.read.tbs_certificate().extensions()?;
        let is_known = |oid: &Oid| UNDERSTOOD.contains(oid) || says_what_for(oid);
        extensions.iter().find(|e| e.critical && !is_known(&e.extn_id)).map(|e| e.extn_id)
    }

    /// Whether it has an extension, whatever that says.
    pub fn has_extension(&self, oid: Oid) -> bool {
        self.read.tbs_certificate().extensions().is_some_and(|all| all.iter().any(|e| e.extn_id == oid))
    }

    /// Whether Apple's own extensions say what it is for.
    pub fn is_of_apple(&self) -> bool {
        self.read.tbs_certificate().extensions().is_some_and(|all| all.iter().any(|e| says_what_for(&e.extn_id)))
    }

    /// A part of its subject's name, by its short label (RFC 4514).
    pub fn subject_part(&self, label: &str) -> Option<String> {
        let subject = self.subject();
        let found = parts(&subject).into_iter().find_map(|part| part.strip_prefix(label)?.strip_prefix('='));
        found.map(unescaped)
    }

    fn extension<T: for<'a> Decode<'a, Error = der::Error> + der::oid::AssociatedOid>(&self) -> Option<T> {
        let extensions = self.read.tbs_certificate().extensions()?;
        let found = extensions.iter().find(|e| e.extn_id == T::OID)?;
        T::from_der(found.extn_value.as_bytes()).ok()
    }

    fn is_critical<T: der::oid::AssociatedOid>(&self) -> bool {
        let extensions = self.read.tbs_certificate().extensions();
        extensions.is_some_and(|all| all.iter().any(|e| e.extn_id == T::OID && e.critical))
    }

    /// A field of what is signed, counted from the serial number.
    fn field(&self, number: usize) -> Result<Item<'_>> {
        let [signed, ..] = raw::only(&self.der, tag::SEQUENCE)?.children()?[..] else {
            return Err(Error::malformed("a certificate is empty"));
        };
        let fields = signed.with(tag::SEQUENCE)?.children()?;
        let version = usize::from(fields.first().is_some_and(|first| first.tag == tag::inside(0)));
        fields.get(version + number).copied().ok_or_else(|| Error::malformed("a certificate has too few fields"))
    }
}

/// Where fields stand behind the version (RFC 5280, 4.1).
const SERIAL: usize = 0;
const ISSUER: usize = 2;
const SUBJECT: usize = 4;
const PUBLIC_KEY: usize = 5;

/// The common name in a name, else the organisation, else all of it.
fn short(name: &str) -> String {
    let part = |key: &str| parts(name).into_iter().find_map(|part| part.strip_prefix(key).map(unescaped));
    part("CN=").or_else(|| part("O=")).unwrap_or_else(|| name.to_owned())
}

/// The parts of a name in the form of RFC 4514; commas behind backslashes are letters.
fn parts(name: &str) -> Vec<&str> {
    let (mut all, mut begin, mut escaped) = (Vec::new(), 0, false);
    for (at, c) in name.char_indices() {
        if (c == ',' || c == '+') && !escaped {
            all.push(&name[begin..at]);
            begin = at + 1;
        }
        escaped = c == '\\' && !escaped;
    }
    all.push(&name[begin..]);
    all
}

fn unescaped(text: &str) -> String {
    let mut out = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        out.extend(if c == '\\' { chars.next() } else { Some(c) });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_taken_apart_at_its_own_commas() {
        assert_eq!(parts(r"CN=Honey\, Wax & Co,O=A+OU=B"), [r"CN=Honey\, Wax & Co", "O=A", "OU=B"]);
        assert_eq!(unescaped(r"Honey\, Wax \\ Co"), r"Honey, Wax \ Co");
    }
}
