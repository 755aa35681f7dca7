//! ASN.1 values as they stand in their bytes (DER, X.690), read one at a time and written in one piece.

use crate::{Error, Result};
use der::asn1::ObjectIdentifier as Oid;
use der::{Decode, Reader, SliceReader};

/// Tags that are asked for, as they are written.
pub mod tag {
    /// INTEGER.
    pub const INTEGER: u8 = 0x02;
    /// BIT STRING.
    pub const BITS: u8 = 0x03;
    /// OCTET STRING.
    pub const OCTETS: u8 = 0x04;
    /// NULL.
    pub const NULL: u8 = 0x05;
    /// OBJECT IDENTIFIER.
    pub const OID: u8 = 0x06;
    /// BOOLEAN.
    pub const BOOLEAN: u8 = 0x01;
    /// UTF8String.
    pub const UTF8: u8 = 0x0c;
    /// GeneralizedTime.
    pub const TIME: u8 = 0x18;
    /// SEQUENCE.
    pub const SEQUENCE: u8 = 0x30;
    /// SET.
    pub const SET: u8 = 0x31;

    /// A tag of the context, with others inside.
    pub const fn inside(number: u8) -> u8 {
        0xa0 | number
    }

    /// A tag of the context, with bytes.
    pub const fn plain(number: u8) -> u8 {
        0x80 | number
    }
}

/// One value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Item<'a> {
    /// Its tag.
    pub tag: u8,
    /// All of it, tag and length included.
    pub all: &'a [u8],
    /// Its content.
    pub value: &'a [u8],
}

/// The values that stand one behind the other.
///
/// # Errors
/// They are not DER.
pub fn items(bytes: &[u8]) -> Result<Vec<Item<'_>>> {
    let wrong = |e: der::Error| Error::malformed(format!("it is not DER: {e}"));
    let mut reader = SliceReader::new(bytes).map_err(wrong)?;
    let mut all = Vec::new();
    while !reader.is_finished() {
        let item = reader.tlv_bytes().map_err(wrong)?;
        let header = der::Header::from_der(item.get(..header_length(item)).unwrap_or(item)).map_err(wrong)?;
        let value = usize::try_from(header.length()).ok().and_then(|n| item.get(item.len().checked_sub(n)?..));
        let value = value.ok_or_else(|| Error::malformed("a value is longer than its bytes"))?;
        all.push(Item { tag: item[0], all: item, value });
    }
    Ok(all)
}

/// Bytes of a tag and a length.
fn header_length(item: &[u8]) -> usize {
    match item.get(1) {
        Some(first) if first & 0x80 != 0 => 2 + usize::from(first & 0x7f),
        _ => 2,
    }
}

/// The only value of some bytes, with a tag.
///
/// # Errors
/// It is none, or another one, or something follows it.
pub fn only(bytes: &[u8], tag: u8) -> Result<Item<'_>> {
    match items(bytes)?[..] {
        [item] => item.with(tag),
        _ => Err(Error::malformed("there is not exactly one value")),
    }
}

impl<'a> Item<'a> {
    /// Itself, if that is its tag.
    ///
    /// # Errors
    /// It has another one.
    pub fn with(self, tag: u8) -> Result<Self> {
        if self.tag == tag {
            return Ok(self);
        }
        Err(Error::malformed(format!("a value has the tag {:#04x} where {tag:#04x} is expected", self.tag)))
    }

    /// What is in it.
    ///
    /// # Errors
    /// It is not DER.
    pub fn children(&self) -> Result<Vec<Item<'a>>> {
        items(self.value)
    }

    /// The only value in it, with a tag.
    ///
    /// # Errors
    /// There is none, or another, or several.
    pub fn only(&self, tag: u8) -> Result<Item<'a>> {
        only(self.value, tag)
    }

    /// What it names.
    ///
    /// # Errors
    /// It is no object identifier.
    pub fn oid(&self) -> Result<Oid> {
        Oid::from_der(self.all).map_err(|e| Error::malformed(format!("it names nothing: {e}")))
    }

    /// The bytes of a whole number without leading zeros.
    ///
    /// # Errors
    /// It is none, or below zero.
    pub fn unsigned(&self) -> Result<&'a [u8]> {
        let value = self.with(tag::INTEGER)?.value;
        match value {
            [] => Err(Error::malformed("a number has no digits")),
            [first, ..] if first & 0x80 != 0 => Err(Error::malformed("a number is below zero")),
            [0, rest @ ..] => Ok(rest),
            all => Ok(all),
        }
    }

    /// A small number.
    ///
    /// # Errors
    /// It is none, or has more than 32 bits.
    pub fn small(&self) -> Result<u32> {
        let bytes = self.unsigned()?;
        if bytes.len() > 4 {
            return Err(Error::malformed("a number is too large"));
        }
        Ok(bytes.iter().fold(0, |all, byte| all << 8 | u32::from(*byte)))
    }
}

/// One value out of its parts.
pub fn value(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let length: usize = parts.iter().map(|part| part.len()).sum();
    let mut out = vec![tag];
    if length < 0x80 {
        out.push(length as u8);
    } else {
        let bytes = length.to_be_bytes();
        let digits = &bytes[bytes.iter().position(|byte| *byte != 0).unwrap_or(bytes.len() - 1)..];
        out.push(0x80 | digits.len() as u8);
        out.extend_from_slice(digits);
    }
    parts.iter().for_each(|part| out.extend_from_slice(part));
    out
}

/// A SEQUENCE.
pub fn sequence(parts: &[&[u8]]) -> Vec<u8> {
    value(tag::SEQUENCE, parts)
}

/// A SET OF, in the order that DER wants.
pub fn set(parts: &[&[u8]]) -> Vec<u8> {
    let mut sorted = parts.to_vec();
    sorted.sort_unstable();
    value(tag::SET, &sorted)
}

/// An OBJECT IDENTIFIER.
pub fn named(oid: Oid) -> Vec<u8> {
    value(tag::OID, &[oid.as_bytes()])
}

/// An INTEGER of at least zero, out of its bytes.
pub fn number(bytes: &[u8]) -> Vec<u8> {
    let first = bytes.iter().position(|byte| *byte != 0).unwrap_or(bytes.len());
    let digits = &bytes[first..];
    let zero: &[u8] = if digits.first().is_none_or(|first| first & 0x80 != 0) { &[0] } else { &[] };
    value(tag::INTEGER, &[zero, digits])
}

/// NULL.
pub const NULL: [u8; 2] = [tag::NULL, 0];
