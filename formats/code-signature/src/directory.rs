//! The directory: digests of a file's pages and of what goes with them. Its own digest stands for all of it.

use crate::blobs::{magic, u32_at, with_magic};
use crate::{CdHash, Error, Result};
use read_at::ReadAt;
use sha2::Digest;
use std::collections::BTreeMap;

/// What the system shall do with the code.
pub mod flag {
    /// Nobody has signed it.
    pub const AD_HOC: u32 = 2;
    /// The hardened runtime: the code is guarded while it runs.
    pub const RUNTIME: u32 = 0x1_0000;
    /// A linker made the signature.
    pub const BY_LINKER: u32 = 0x2_0000;
    /// What is executable in it is a program, not a library (of the second kind of flags).
    pub const MAIN_PROGRAM: u64 = 1;
}

/// The kind of the digests.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HashKind {
    /// SHA-1, which is only recognised.
    Sha1,
    /// SHA-256.
    Sha256,
    /// SHA-384.
    Sha384,
}

impl HashKind {
    fn number(self) -> u8 {
        match self {
            Self::Sha1 => 1,
            Self::Sha256 => 2,
            Self::Sha384 => 4,
        }
    }

    /// Its name: `SHA-256`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "SHA-1",
            Self::Sha256 => "SHA-256",
            Self::Sha384 => "SHA-384",
        }
    }

    /// Bytes of a digest.
    fn length(self) -> usize {
        match self {
            Self::Sha1 => 20,
            Self::Sha256 => 32,
            Self::Sha384 => 48,
        }
    }

    /// The digest of some bytes.
    pub fn of(self, bytes: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha1 => crate::sha1(bytes).to_vec(),
            Self::Sha256 => sha2::Sha256::digest(bytes).to_vec(),
            Self::Sha384 => sha2::Sha384::digest(bytes).to_vec(),
        }
    }
}

/// Version with a place for a team.
const WITH_TEAM: u32 = 0x2_0200;
/// Version with a place for files of 4 GiB and more.
const WITH_LONG_LIMIT: u32 = 0x2_0300;
/// Version that says where executable code is.
const WITH_EXECUTABLE: u32 = 0x2_0400;
/// Version with a place for the hardened runtime's own version.
const WITH_RUNTIME: u32 = 0x2_0500;
/// The longest directory that is read: that of a file of 32 GiB.
const LONGEST: usize = 256 << 20;

/// A directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// What the code calls itself.
    pub identifier: String,
    /// Apple's number for whoever signs.
    pub team: Option<String>,
    /// See [`flag`].
    pub flags: u32,
    /// The kind of the digests.
    pub hash: HashKind,
    /// Bytes of a page as a power of two; 0 for the whole file in one.
    pub page_bits: u8,
    /// How many bytes of the file are digested.
    pub limit: u64,
    /// Digests of what goes with the file, by the numbers in [`slot`](crate::slot).
    pub special: BTreeMap<u32, Vec<u8>>,
    /// Digests of the pages, one behind the other.
    pub pages: Vec<u8>,
    /// Where the executable code is: from, length, flags.
    pub executable: (u64, u64, u64),
    /// The version of the hardened runtime that the code was built for.
    pub runtime: u32,
}

/// Digests of pages of the first `limit` bytes.
///
/// # Errors
/// The medium's.
pub fn page_hashes<R: ReadAt>(source: &R, limit: u64, page_bits: u8, hash: HashKind) -> Result<Vec<u8>> {
    const AT_ONCE: u64 = 1 << 20;
    let page = 1 << page_bits;
    let mut all = Vec::with_capacity((limit >> page_bits) as usize * hash.length() + hash.length());
    let mut buffer = vec![0; limit.min(AT_ONCE) as usize];
    let mut at = 0;
    if page_bits == 0 {
        let mut digester = Whole::new(hash);
        while at < limit {
            let n = (limit - at).min(AT_ONCE) as usize;
            source.read_exact_at(&mut buffer[..n], at)?;
            digester.update(&buffer[..n]);
            at += n as u64;
        }
        return Ok(digester.finish());
    }
    while at < limit {
        let n = (limit - at).min(AT_ONCE) as usize;
        source.read_exact_at(&mut buffer[..n], at)?;
        buffer[..n].chunks(page).for_each(|page| all.extend(hash.of(page)));
        at += n as u64;
    }
    Ok(all)
}

/// One digest over everything.
enum Whole {
    Sha1(sha1::Sha1),
    Sha256(sha2::Sha256),
    Sha384(sha2::Sha384),
}

impl Whole {
    fn new(hash: HashKind) -> Self {
        match hash {
            HashKind::Sha1 => Self::Sha1(sha1::Sha1::default()),
            HashKind::Sha256 => Self::Sha256(sha2::Sha256::new()),
            HashKind::Sha384 => Self::Sha384(sha2::Sha384::new()),
        }
    }

    fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Sha1(digester) => sha1::Digest::update(digester, bytes),
            Self::Sha256(digester) => digester.update(bytes),
            Self::Sha384(digester) => digester.update(bytes),
        }
    }

    fn finish(self) -> Vec<u8> {
        match self {
            Self::Sha1(digester) => sha1::Digest::finalize(digester).to_vec(),
            Self::Sha256(digester) => digester.finalize().to_vec(),
            Self::Sha384(digester) => digester.finalize().to_vec(),
        }
    }
}

impl Directory {
    /// Its bytes.
    pub fn to_bytes(&self) -> Vec<u8> {
        let version = if self.runtime == 0 { WITH_EXECUTABLE } else { WITH_RUNTIME };
        let fixed = if self.runtime == 0 { 88 } else { 96 };
        let length = self.hash.length();
        let mut texts = [self.identifier.as_bytes(), &[0]].concat();
        let team = self.team.as_ref().map_or(0, |_| fixed + texts.len());
        texts.extend(self.team.iter().flat_map(|team| team.bytes().chain([0])));
        // They stand backwards before the pages', with zeros for those that are not there.
        let specials = self.special.keys().next_back().copied().unwrap_or(0);
        for n in (1..=specials).rev() {
            texts.extend(self.special.get(&n).cloned().unwrap_or_else(|| vec![0; length]));
        }
        let count = self.pages.len() / length;
        let short = u32::try_from(self.limit).ok();
        let mut bytes = Vec::new();
        let numbers = [
            version,
            self.flags,
            (fixed + texts.len()) as u32,
            fixed as u32,
            specials,
            count as u32,
            short.unwrap_or(u32::MAX),
        ];
        numbers.iter().for_each(|number| bytes.extend(number.to_be_bytes()));
        bytes.extend([length as u8, self.hash.number(), 0, self.page_bits]);
        // Spare; scattered code, which is not used; the team; spare again.
        [0, 0, team as u32, 0].iter().for_each(|number| bytes.extend(number.to_be_bytes()));
        let (from, size, flags) = self.executable;
        let long = if short.is_none() { self.limit } else { 0 };
        [long, from, size, flags].iter().for_each(|number| bytes.extend(number.to_be_bytes()));
        if self.runtime != 0 {
            [self.runtime, 0].iter().for_each(|number| bytes.extend(number.to_be_bytes()));
        }
        bytes.extend(texts);
        bytes.extend(&self.pages);
        with_magic(magic::DIRECTORY, &bytes)
    }

    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Format`] for anything else; [`Error::Unsupported`] for digests of another kind.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let bad = |what: &str| Error::format(0, format!("a signature's directory {what}"));
        let word = |at: usize| u32_at(bytes, at);
        if word(0)? != magic::DIRECTORY || word(4)? as usize != bytes.len() || bytes.len() > LONGEST {
            return Err(bad("is none"));
        }
        let (version, flags, pages_at, name_at) = (word(8)?, word(12)?, word(16)? as usize, word(20)? as usize);
        let (specials, count, limit) = (word(24)?, word(28)? as usize, word(32)?);
        let [size, kind, _, page_bits] = word(36)?.to_be_bytes();
        let hash = match kind {
            1 => HashKind::Sha1,
            2 => HashKind::Sha256,
            4 => HashKind::Sha384,
            other => return Err(Error::Unsupported(format!("digests of the kind {other}"))),
        };
        if usize::from(size) != hash.length() || page_bits > 20 || specials > 64 {
            return Err(bad("has digests or pages of no known size"));
        }
        let wide = |at: usize| Ok::<u64, Error>(u64::from(word(at)?) << 32 | u64::from(word(at + 4)?));
        if version >= 0x2_0100 && word(44)? != 0 {
            return Err(Error::Unsupported("a directory of scattered code".into()));
        }
        let long = if version >= WITH_LONG_LIMIT { wide(56)? } else { 0 };
        let limit = if long == 0 { limit.into() } else { long };
        let text = |at: usize| {
            let rest = bytes.get(at..).filter(|_| at >= 44).ok_or_else(|| bad("has a name outside of it"))?;
            let text = rest.split(|b| *b == 0).next().unwrap_or_default();
            Ok::<String, Error>(String::from_utf8_lossy(text).into_owned())
        };
        let team = if version >= WITH_TEAM { word(48)? as usize } else { 0 };
        let length = hash.length();
        let first = pages_at.checked_sub(specials as usize * length).filter(|at| *at >= 44);
        let pages =
            count.checked_mul(length).and_then(|n| pages_at.checked_add(n)).and_then(|e| bytes.get(pages_at..e));
        let (Some(first), Some(pages)) = (first, pages) else { return Err(bad("has digests outside of it")) };
        let wanted = if page_bits == 0 { 1 } else { limit.div_ceil(1 << page_bits) };
        if count as u64 != wanted {
            return Err(bad("does not have as many digests as pages"));
        }
        let mut special = BTreeMap::new();
        for (n, digest) in (1..=specials).rev().zip(bytes[first..pages_at].chunks(length)) {
            if digest.iter().any(|b| *b != 0) {
                special.insert(n, digest.to_vec());
            }
        }
        let executable = if version >= WITH_EXECUTABLE { (wide(64)?, wide(72)?, wide(80)?) } else { (0, 0, 0) };
        Ok(Self {
            identifier: text(name_at)?,
            team: if team == 0 { None } else { Some(text(team)?) },
            flags,
            hash,
            page_bits,
            limit,
            special,
            pages: pages.to_vec(),
            executable,
            runtime: if version >= WITH_RUNTIME { word(88)? } else { 0 },
        })
    }

    /// What stands for the code whose directory these bytes are.
    pub fn cd_hash(&self, bytes: &[u8]) -> CdHash {
        let mut short = [0; 20];
        short.copy_from_slice(&self.hash.of(bytes)[..20]);
        short
    }

    /// Whether these bytes are what a digest beside the pages is of.
    pub fn fits(&self, slot: u32, bytes: &[u8]) -> bool {
        self.special.get(&slot).is_some_and(|digest| *digest == self.hash.of(bytes))
    }
}
