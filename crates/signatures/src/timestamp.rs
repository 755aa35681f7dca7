//! Timestamps (RFC 3161): what an authority is asked, what it answers, and whether a token says what it should.

use crate::certificate::Purpose;
use crate::chain::Chain;
use crate::message::Message;
use crate::raw::{self, Item, tag};
use crate::{Certificate, Error, Hash, Result, oid};
use der::asn1::{GeneralizedTime, ObjectIdentifier as Oid};
use der::{Decode, Encode};

/// The longest answer that is read, bytes: a token with a long chain has about 10,000.
pub const LONGEST_ANSWER: u64 = 256 << 10;

/// What an authority is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The digest's kind.
    pub hash: Hash,
    /// The digest of what existed before the time.
    pub digest: Vec<u8>,
    /// A number that comes back, so that the answer can't be an old one.
    pub nonce: Option<Vec<u8>>,
    /// The policy that is wanted.
    pub policy: Option<Oid>,
}

impl Request {
    /// For some bytes, with a random number.
    ///
    /// # Errors
    /// The machine has no random numbers.
    pub fn of(hash: Hash, bytes: &[u8]) -> Result<Self> {
        let mut nonce = [0; 16];
        getrandom::fill(&mut nonce).map_err(|e| Error::malformed(format!("there are no random numbers: {e}")))?;
        // Neither zero nor below it, in as many bytes each time.
        nonce[0] = nonce[0] & 0x7f | 0x40;
        Ok(Self { hash, digest: hash.of(bytes), nonce: Some(nonce.to_vec()), policy: None })
    }

    /// Its bytes (RFC 3161, 2.4.1): with the authority's certificates in the answer.
    pub fn der(&self) -> Vec<u8> {
        let imprint = raw::sequence(&[&self.hash.algorithm(), &raw::value(tag::OCTETS, &[&self.digest])]);
        let policy = self.policy.map_or(Vec::new(), raw::named);
        let nonce = self.nonce.as_ref().map_or(Vec::new(), |nonce| raw::number(nonce));
        let with_certificates = raw::value(tag::BOOLEAN, &[&[0xff]]);
        raw::sequence(&[&raw::number(&[1]), &imprint, &policy, &nonce, &with_certificates])
    }

    /// Reads one that came in.
    ///
    /// # Errors
    /// It is malformed, or its digest is none that is trusted.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let fields = raw::only(bytes, tag::SEQUENCE)?.children()?;
        let [version, imprint, rest @ ..] = &fields[..] else {
            return Err(Error::malformed("the request is too short"));
        };
        if version.small()? != 1 {
            return Err(Error::unsupported("the request is of another version"));
        }
        let (hash, digest) = read_imprint(*imprint)?;
        let policy = rest.iter().find(|item| item.tag == tag::OID).map(Item::oid).transpose()?;
        let nonce = rest.iter().find(|item| item.tag == tag::INTEGER).map(|item| item.unsigned().map(<[u8]>::to_vec));
        Ok(Self { hash, digest, nonce: nonce.transpose()?, policy })
    }
}

fn read_imprint(item: Item) -> Result<(Hash, Vec<u8>)> {
    let [algorithm, digest] = item.with(tag::SEQUENCE)?.children()?[..] else {
        return Err(Error::malformed("a timestamp's digest does not have two parts"));
    };
    let hash = Hash::from_oid(crate::public::named(algorithm)?)?;
    Ok((hash, digest.with(tag::OCTETS)?.value.to_vec()))
}

/// The token in an answer (RFC 3161, 2.4.2).
///
/// # Errors
/// The authority refuses, and says why; or the answer is malformed.
pub fn token(answer: &[u8]) -> Result<&[u8]> {
    let fields = raw::only(answer, tag::SEQUENCE)?.children()?;
    let status = fields.first().ok_or_else(|| Error::malformed("the answer is empty"))?;
    let status = status.with(tag::SEQUENCE)?.children()?;
    let number = status.first().ok_or_else(|| Error::malformed("the answer has no status"))?.small()?;
    // Granted, and granted with changes.
    if number > 1 {
        let text = status.iter().find(|item| item.tag == tag::SEQUENCE).and_then(|texts| texts.children().ok());
        let text: Vec<String> = text.into_iter().flatten().map(|t| plain(t.value)).collect();
        let why = status.iter().find(|item| item.tag == tag::BITS).and_then(|bits| failure(bits.value));
        let said = [text.join(" "), why.unwrap_or_default().to_owned()];
        let said: Vec<String> = said.into_iter().filter(|text| !text.is_empty()).collect();
        let said = if said.is_empty() { format!("status {number}") } else { said.join("; ") };
        return Err(Error::signature(format!("the authority refuses: {said}")));
    }
    let token = fields.get(1).ok_or_else(|| Error::malformed("the answer has no token"))?;
    Ok(token.with(tag::SEQUENCE)?.all)
}

/// What others say, without anything that could change a terminal.
fn plain(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).chars().filter(|c| !c.is_control()).take(200).collect()
}

/// Why an authority refuses, by the bit that it sets (RFC 3161, 2.4.2).
fn failure(bits: &[u8]) -> Option<&'static str> {
    let set = |n: usize| bits.get(1 + n / 8).is_some_and(|byte| byte & 0x80 >> (n % 8) != 0);
    [
        (0, "it does not know the digest"),
        (2, "it does not understand the request"),
        (5, "the request is malformed"),
        (14, "its clock is not available"),
        (15, "it does not have that policy"),
        (16, "it does not know an extension"),
        (17, "it does not have that information"),
        (25, "it can't at the moment"),
    ]
    .into_iter()
    .find_map(|(n, why)| set(n).then_some(why))
}

/// What a token says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    /// When, seconds since 1970.
    pub time: u64,
    /// Under which policy.
    pub policy: Oid,
    /// The number that came back.
    pub nonce: Option<Vec<u8>>,
    /// Its own number.
    pub serial: Vec<u8>,
    /// Who says so.
    pub authority: Certificate,
    /// The way up from there.
    pub chain: Chain,
}

/// Checks that a token is a timestamp of some bytes, signed by its authority with a certificate for that.
///
/// # Errors
/// It is of something else, or does not fit. Whom to trust is said in [`Stamp::chain`].
pub fn check(token: &[u8], stamped: &[u8], roots: &[Certificate]) -> Result<Stamp> {
    let message = Message::read(token)?;
    if message.content_kind != oid::TIMESTAMP_INFO {
        return Err(Error::malformed("it is not a timestamp"));
    }
    let content = message.content.ok_or_else(|| Error::malformed("a timestamp is empty"))?.with(tag::OCTETS)?.value;
    let signer = message.signer()?;
    let authority = message.check(signer, content)?.clone();
    names_its_certificate(signer, &authority)?;
    let fields = raw::only(content, tag::SEQUENCE)?.children()?;
    let [_version, policy, imprint, serial, time, rest @ ..] = &fields[..] else {
        return Err(Error::malformed("a timestamp is too short"));
    };
    let (hash, digest) = read_imprint(*imprint)?;
    if digest != hash.of(stamped) {
        return Err(Error::signature("the timestamp is of something else"));
    }
    let nonce = rest.iter().find(|item| item.tag == tag::INTEGER).map(|item| item.unsigned().map(<[u8]>::to_vec));
    let time = seconds(*time)?;
    let chain = message.chain(&authority, roots, time, Purpose::Timestamps);
    Ok(Stamp {
        time,
        policy: policy.oid()?,
        nonce: nonce.transpose()?,
        serial: serial.value.to_vec(),
        authority,
        chain,
    })
}

/// Checks a token that answers a request, before it is used.
///
/// # Errors
/// It answers another one, or its chain has a fault other than that its authority is not known.
pub fn check_answer(token: &[u8], stamped: &[u8], request: &Request, roots: &[Certificate]) -> Result<Stamp> {
    let stamp = check(token, stamped, roots)?;
    if stamp.nonce != request.nonce {
        return Err(Error::signature("the timestamp answers another request"));
    }
    if request.policy.is_some_and(|policy| policy != stamp.policy) {
        return Err(Error::signature(format!("the timestamp has another policy: {}", stamp.policy)));
    }
    let untrusted = stamp.chain.untrusted.iter().filter(|_| !roots.is_empty());
    let faults: Vec<&str> = untrusted.chain(&stamp.chain.problems).map(String::as_str).collect();
    if faults.is_empty() { Ok(stamp) } else { Err(Error::signature(faults.join("; "))) }
}

/// A token names the certificate that signed it, so that no other with the same key can be put in its place (RFC 5816).
fn names_its_certificate(signer: &crate::message::Signed, authority: &Certificate) -> Result<()> {
    let missing = || Error::signature("the timestamp does not name its authority's certificate");
    let first = |value: Item| -> Result<(Hash, Vec<u8>)> {
        let list = value.with(tag::SEQUENCE)?.children()?;
        let list = list.first().ok_or_else(missing)?.with(tag::SEQUENCE)?.children()?;
        let one = list.first().ok_or_else(missing)?.with(tag::SEQUENCE)?.children()?;
        match &one[..] {
            [digest, ..] if digest.tag == tag::OCTETS => Ok((Hash::Sha256, digest.value.to_vec())),
            [algorithm, digest, ..] => {
                Ok((Hash::from_oid(crate::public::named(*algorithm)?)?, digest.with(tag::OCTETS)?.value.to_vec()))
            }
            _ => Err(missing()),
        }
    };
    match signer.only_signed(oid::SIGNING_CERTIFICATE_V2) {
        Ok(value) => {
            let (hash, digest) = first(value)?;
            if digest == hash.of(authority.der()) {
                return Ok(());
            }
        }
        // The older form has a SHA-1 of the certificate: that one is named is all that it can say today.
        Err(_) => return signer.only_signed(oid::SIGNING_CERTIFICATE).map(drop).map_err(|_| missing()),
    }
    Err(Error::signature("the timestamp names another certificate than the one that signed it"))
}

/// A GeneralizedTime in seconds since 1970; fractions are cut off.
fn seconds(item: Item) -> Result<u64> {
    let text = item.with(tag::TIME)?.value;
    let whole = text.iter().position(|byte| *byte == b'.').map_or(text.to_vec(), |dot| {
        let mut whole = text[..dot].to_vec();
        whole.push(b'Z');
        whole
    });
    let time = GeneralizedTime::from_der(&raw::value(tag::TIME, &[&whole]));
    let time = time.map_err(|e| Error::malformed(format!("the time of a timestamp can't be read: {e}")))?;
    Ok(time.to_unix_duration().as_secs())
}

/// A time as a GeneralizedTime.
pub(crate) fn written_time(seconds: u64) -> Result<Vec<u8>> {
    let time = GeneralizedTime::from_unix_duration(std::time::Duration::from_secs(seconds));
    time.and_then(|time| time.to_der()).map_err(|e| Error::malformed(format!("the time can't be written: {e}")))
}
