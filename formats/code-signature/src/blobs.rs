//! A signature as a whole: parts of it with their numbers, one after the other. All numbers are big-endian.

use crate::{Error, Result};

/// What a part is for.
pub mod slot {
    /// The digests of everything.
    pub const DIRECTORY: u32 = 0;
    /// The bundle's property list; only its digest stands in a signature.
    pub const INFO: u32 = 1;
    /// How the code will be known again.
    pub const REQUIREMENTS: u32 = 2;
    /// The bundle's seal; only its digest stands in a signature.
    pub const RESOURCES: u32 = 3;
    /// What the code may do, as a property list.
    pub const ENTITLEMENTS: u32 = 5;
    /// What only one kind of file has: the end of a disk image.
    pub const OF_THE_KIND: u32 = 6;
    /// What the code may do, in DER.
    pub const ENTITLEMENTS_DER: u32 = 7;
    /// Further directories of the same code, with digests of another kind: from here on.
    pub const ALTERNATES: u32 = 0x1000;
    /// How many of these there may be.
    pub const MOST_ALTERNATES: u32 = 5;
    /// The signed message.
    pub const MESSAGE: u32 = 0x1_0000;
    /// A ticket of Apple's notary.
    pub const TICKET: u32 = 0x1_0002;
}

/// What a blob begins with.
pub(crate) mod magic {
    pub const REQUIREMENT: u32 = 0xFADE_0C00;
    pub const REQUIREMENTS: u32 = 0xFADE_0C01;
    pub const DIRECTORY: u32 = 0xFADE_0C02;
    pub const SIGNATURE: u32 = 0xFADE_0CC0;
    pub const ENTITLEMENTS: u32 = 0xFADE_7171;
    pub const ENTITLEMENTS_DER: u32 = 0xFADE_7172;
    pub const MESSAGE: u32 = 0xFADE_0B01;
}

/// More parts than any signature has.
const MOST: u32 = 32;

/// Bytes with their kind and length before them.
pub(crate) fn with_magic(magic: u32, content: &[u8]) -> Vec<u8> {
    [&magic.to_be_bytes()[..], &(content.len() as u32 + 8).to_be_bytes(), content].concat()
}

/// A signed message, as a part of a signature.
pub fn blob(message: &[u8]) -> Vec<u8> {
    with_magic(magic::MESSAGE, message)
}

/// What is in a part, behind its kind and length.
pub fn content_of(blob: &[u8]) -> &[u8] {
    blob.get(8..).unwrap_or_default()
}

pub(crate) fn u32_at(bytes: &[u8], at: usize) -> Result<u32> {
    let four = at.checked_add(4).and_then(|end| bytes.get(at..end)).and_then(|b| b.try_into().ok());
    four.map(u32::from_be_bytes).ok_or_else(|| Error::format(at as u64, "a signature is cut off"))
}

/// A signature: its parts in their order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Blobs {
    /// What each is for, and its bytes with kind and length.
    pub parts: Vec<(u32, Vec<u8>)>,
}

impl Blobs {
    /// Of its parts.
    pub fn new(parts: Vec<(u32, Vec<u8>)>) -> Self {
        Self { parts }
    }

    /// A part.
    pub fn part(&self, slot: u32) -> Option<&[u8]> {
        self.parts.iter().find(|(number, _)| *number == slot).map(|(_, bytes)| &bytes[..])
    }

    /// Its bytes.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut at = 12 + 8 * self.parts.len();
        let mut index = (self.parts.len() as u32).to_be_bytes().to_vec();
        for (slot, bytes) in &self.parts {
            index.extend(slot.to_be_bytes());
            index.extend((at as u32).to_be_bytes());
            at += bytes.len();
        }
        let all: Vec<&[u8]> = std::iter::once(&index[..]).chain(self.parts.iter().map(|(_, b)| &b[..])).collect();
        with_magic(magic::SIGNATURE, &all.concat())
    }

    /// Reads one. What stands between its parts and behind it has to be zero, for nothing signs that.
    ///
    /// # Errors
    /// [`Error::Format`] for anything else.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        if u32_at(bytes, 0)? != magic::SIGNATURE {
            return Err(Error::format(0, "not a signature"));
        }
        let (length, count) = (u32_at(bytes, 4)? as usize, u32_at(bytes, 8)?);
        if length > bytes.len() || count > MOST {
            return Err(Error::format(4, format!("a signature of {count} parts in {length} bytes")));
        }
        let (mut parts, mut end) = (Vec::new(), 12 + 8 * count as usize);
        let is_empty = |from: usize, to: usize| bytes.get(from..to).is_some_and(|gap| gap.iter().all(|b| *b == 0));
        for n in 0..count as usize {
            let (slot, at) = (u32_at(bytes, 12 + 8 * n)?, u32_at(bytes, 16 + 8 * n)? as usize);
            let size = u32_at(bytes, at.saturating_add(4))? as usize;
            let part = at.checked_add(size).filter(|over| size >= 8 && *over <= length);
            let over = part.ok_or_else(|| Error::format(at as u64, "a part of a signature lies outside of it"))?;
            if at < end || !is_empty(end, at) {
                return Err(Error::format(at as u64, "something stands between the parts of a signature"));
            }
            if parts.iter().any(|(other, _)| *other == slot) {
                return Err(Error::format(at as u64, format!("a signature has two parts of the kind {slot:#x}")));
            }
            parts.push((slot, bytes[at..over].to_vec()));
            end = over;
        }
        if !is_empty(end, bytes.len()) {
            return Err(Error::format(end as u64, "something is hidden behind a signature"));
        }
        Ok(Self { parts })
    }
}
