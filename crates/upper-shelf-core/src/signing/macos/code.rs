//! One program or library: its directory, what goes with it, and the signed message, or none.

use super::super::cache::{Matter, Wanted};
use super::super::elsewhere::signed;
use super::super::file::{Signed, refused, unreadable};
use super::super::shown;
use super::tree::Open;
use crate::payload::Source;
use crate::problem::{Failure, Kind};
use code_signature::{
    Blobs, CdHash, Directory, Entitlements, HashKind, Requirement, blob, content_of, flag, list_of_directories,
    page_hashes, sha1, slot,
};
use mach_o::{FileKind, SignedParts, SignedSlice, Version};
use read_at::{Overlay, ReadAt};
use signatures::code;
use signatures::key::Identity;
use std::collections::BTreeMap;
use std::path::Path;

/// Pages are of 4 KiB, whatever the processor's are.
const PAGE_BITS: u8 = 12;
/// The kind of digests that macOS has known since 10.11.4.
const HASH: HashKind = HashKind::Sha256;
/// The version of the hardened runtime for code that doesn't say what it was built against.
const OLDEST_RUNTIME: Version = Version(10, 14, 0);
/// Room for a signed message beside its certificates, and for a timestamp in it, bytes.
const MESSAGE: usize = 3 << 10;
const TIMESTAMP: usize = 8 << 10;

/// What is signed again that has a signature.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Again {
    /// What nobody vouches for; but a bundle that came finished and sealed stays.
    Code,
    /// What nobody vouches for.
    AdHoc,
    /// Everything.
    All,
}

/// With what code is signed.
pub struct CodeSigner<'s> {
    /// The key, and how to use it; none signs ad hoc.
    pub key: Option<(&'s Identity, &'s Signed)>,
    /// What programs may do.
    pub entitlements: Entitlements,
    /// Whether the hardened runtime guards them.
    pub runtime: bool,
    /// What is signed again.
    pub again: Again,
    /// How names of code begin that has none of its own.
    pub prefix: String,
    /// What the only code there is calls itself.
    pub identifier: Option<String>,
}

/// What goes into a signature besides the code itself.
#[derive(Debug, Clone, Copy, Default)]
pub struct With<'w> {
    /// What the code calls itself.
    pub identifier: &'w str,
    /// The bundle's property list.
    pub info: Option<&'w [u8]>,
    /// The bundle's seal.
    pub seal: Option<&'w [u8]>,
    /// What a program is allowed to do.
    pub entitlements: Option<&'w Entitlements>,
}

/// Who signed a program or library that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// Nobody, or only the tool that built it.
    Nobody,
    /// Somebody with a certificate.
    Somebody(String),
}

/// Signed code, as its bundle's seal names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// What stands for it; one for each processor.
    pub hashes: Vec<CdHash>,
    /// How it will be known again.
    pub requirement: String,
}

/// A file's Mach-O parts, if it is code that could be signed.
pub(in crate::signing) fn parts_of(source: &impl Open) -> std::io::Result<Option<mach_o::Result<SignedParts>>> {
    match SignedParts::find(&source.open()?) {
        Err(mach_o::Error::Io(e)) => Err(e),
        found => Ok(found.transpose()),
    }
}

/// What a signature that is there says, as far as it can be read: who signed, how the code is known, what it may do.
pub(super) fn standing(
    source: &impl Open,
    parts: &SignedParts,
) -> std::io::Result<(Standing, Known, Option<Entitlements>)> {
    let bytes = source.open()?;
    let mut known = Known { hashes: Vec::new(), requirement: String::new() };
    let (mut who, mut entitlements) = (Standing::Nobody, None);
    for slice in &parts.slices {
        let found = slice.signature(&bytes).ok().flatten().and_then(|bytes| Blobs::read(&bytes).ok());
        let Some(blobs) = found else { continue };
        let message = blobs.part(slot::MESSAGE).map(content_of).filter(|message| !message.is_empty());
        if let Some(message) = message {
            who = Standing::Somebody(name_of(message).unwrap_or_else(|| "somebody".to_owned()));
        }
        if let Some((directory, bytes)) = best(&blobs) {
            known.hashes.push(directory.cd_hash(bytes));
        }
        let requirement = blobs.part(slot::REQUIREMENTS).and_then(|part| Requirement::read(part).ok().flatten());
        if let Some(requirement) = requirement.filter(|_| known.requirement.is_empty()) {
            known.requirement = requirement.to_string();
        }
        entitlements = entitlements.or_else(|| blobs.part(slot::ENTITLEMENTS).and_then(|p| Entitlements::read(p).ok()));
    }
    if known.requirement.is_empty() {
        known.requirement = Requirement::of_code(&known.hashes).map(|r| r.to_string()).unwrap_or_default();
    }
    Ok((who, known, entitlements))
}

/// The name of who made a signed message.
fn name_of(message: &[u8]) -> Option<String> {
    let message = signatures::message::Message::read(message).ok()?;
    let certificate = message.certificate_of(message.signer().ok()?).ok()?;
    Some(shown(&certificate.name()))
}

/// The directory of a signature that systems of today go by, with its bytes: that with the strongest digests.
pub(super) fn best(blobs: &Blobs) -> Option<(Directory, &[u8])> {
    let numbers = std::iter::once(slot::DIRECTORY).chain((0..slot::MOST_ALTERNATES).map(|n| slot::ALTERNATES + n));
    let all = numbers.filter_map(|number| {
        let bytes = blobs.part(number)?;
        Some((Directory::read(bytes).ok()?, bytes))
    });
    all.max_by_key(|(directory, _)| directory.hash)
}

impl CodeSigner<'_> {
    /// How code without a name of its own is called: by its file's, behind the product's.
    pub fn identifier(&self, path: &str) -> String {
        if let Some(identifier) = &self.identifier {
            return identifier.clone();
        }
        let name = path.rsplit('/').next().unwrap_or(path);
        let name: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect();
        format!("{}.{}", self.prefix, name.trim_matches(['.', '-']))
    }

    /// The team of whoever signs.
    pub(super) fn team(&self) -> Option<String> {
        self.key.and_then(|(who, _)| code::team(who.certificate()))
    }

    /// How code is known again that is signed with the key.
    pub(super) fn requirement(&self, identifier: &str) -> Option<Requirement> {
        let certificate = self.key?.0.certificate();
        Some(match self.team().filter(|_| code::is_developer(certificate)) {
            Some(team) => Requirement::of_developer(identifier, &team),
            None => Requirement::of_certificate(identifier, sha1(certificate.der())),
        })
    }

    /// Signs a program or a library: what the signature changes lies over its bytes.
    ///
    /// # Errors
    /// The file can't be read or has no place for a signature, or the key or the clock fail.
    pub(super) fn sign(
        &self,
        source: &Source,
        parts: &SignedParts,
        with: With,
        place: &Path,
    ) -> Result<(Overlay<()>, Known), Failure> {
        let bytes = source.open().map_err(|e| Failure::io("can't read", place, e))?;
        let (mut signatures, mut hashes) = (Vec::new(), Vec::new());
        let mut awaited = None;
        for slice in &parts.slices {
            match self.slice(&bytes, slice, with, place) {
                Ok((size, signature, hash)) => {
                    signatures.push((size, signature));
                    hashes.push(hash);
                }
                // All parts ask before the build stops.
                Err(failure) if failure.kind == Kind::Awaited => awaited = Some(failure),
                Err(failure) => return Err(failure),
            }
        }
        if let Some(failure) = awaited {
            return Err(failure);
        }
        let requirement = self.requirement(with.identifier).or_else(|| Requirement::of_code(&hashes));
        let overlay = parts.signed((), &signatures).map_err(|e| unreadable(place, e))?;
        Ok((overlay, Known { hashes, requirement: requirement.map(|r| r.to_string()).unwrap_or_default() }))
    }

    /// The signature of the part for one processor, and how long its place is.
    fn slice(
        &self,
        bytes: &dyn ReadAt,
        slice: &SignedSlice,
        with: With,
        place: &Path,
    ) -> Result<(u64, Vec<u8>, CdHash), Failure> {
        let bad = |e: code_signature::Error| unreadable(place, e);
        let is_program = slice.slice.kind == FileKind::Program;
        let entitlements = with.entitlements.filter(|e| is_program && !e.0.is_empty());
        let requirements = self.requirement(with.identifier).map_or_else(Requirement::none, |r| r.to_bytes());
        let mut special = BTreeMap::from([(slot::REQUIREMENTS, HASH.of(&requirements))]);
        let mut parts = vec![(slot::REQUIREMENTS, requirements)];
        special.extend(with.info.map(|info| (slot::INFO, HASH.of(info))));
        special.extend(with.seal.map(|seal| (slot::RESOURCES, HASH.of(seal))));
        for (number, part) in entitlements.into_iter().flat_map(|e| {
            let [list, der] = e.to_parts();
            [(slot::ENTITLEMENTS, list), (slot::ENTITLEMENTS_DER, der)]
        }) {
            special.insert(number, HASH.of(&part));
            parts.push((number, part));
        }
        let may_be_debugged = entitlements.is_some_and(|e| {
            e.0.get("com.apple.security.get-task-allow").and_then(plist::Value::as_boolean) == Some(true)
        });
        let of_program = if is_program { flag::MAIN_PROGRAM | if may_be_debugged { 0x10 } else { 0 } } else { 0 };
        let Version(major, minor, patch) = slice.sdk().unwrap_or(OLDEST_RUNTIME).max(OLDEST_RUNTIME);
        let runtime = u32::from(major) << 16 | u32::from(minor) << 8 | u32::from(patch);
        let is_guarded = self.runtime && self.key.is_some();
        let mut directory = Directory {
            identifier: with.identifier.to_owned(),
            team: self.team(),
            flags: match self.key {
                None => flag::AD_HOC,
                Some(_) if is_guarded => flag::RUNTIME,
                Some(_) => 0,
            },
            hash: HASH,
            page_bits: PAGE_BITS,
            limit: slice.limit,
            special,
            pages: vec![0; slice.limit.div_ceil(1 << PAGE_BITS) as usize * 32],
            executable: (slice.executable.0, slice.executable.1, of_program),
            runtime: if is_guarded { runtime } else { 0 },
        };
        let fixed: usize =
            directory.to_bytes().len() + parts.iter().map(|(_, part)| part.len() + 8).sum::<usize>() + 28;
        let mut room = self.key.map_or(8, |(who, how)| {
            let certificates = who.chain.iter().map(|c| c.der().len()).sum::<usize>();
            MESSAGE + certificates + if how.clock.is_some() { TIMESTAMP } else { 0 }
        });
        loop {
            // How long the place is stands in the headers, which are signed: it is chosen before.
            let size = SignedSlice::place_for(fixed + room);
            let to_sign = slice.to_sign(bytes, size).map_err(bad)?;
            directory.pages = page_hashes(&to_sign, slice.limit, PAGE_BITS, HASH).map_err(bad)?;
            let own = directory.to_bytes();
            let hash = directory.cd_hash(&own);
            let message = self.message(&own, &[hash], place)?;
            let mut all = vec![(slot::DIRECTORY, own)];
            all.extend(parts.iter().cloned());
            all.push((slot::MESSAGE, blob(&message)));
            let signature = Blobs::new(all).to_bytes();
            if signature.len() as u64 <= size {
                return Ok((size, signature, hash));
            }
            room = message.len() + 64;
        }
    }

    /// The signed message about a directory; empty without a key.
    pub(super) fn message(&self, directory: &[u8], hashes: &[CdHash], place: &Path) -> Result<Vec<u8>, Failure> {
        let Some((who, how)) = self.key else { return Ok(Vec::new()) };
        let wanted = Wanted { matter: Matter::Code(directory), who, how };
        if let Some(before) = wanted.find() {
            return Ok(before);
        }
        let refused = |e: signatures::Error| refused(place, &e);
        let list = list_of_directories(hashes);
        let of = code::Directory { bytes: directory, list: &list };
        let unsigned = code::prepare(of, &who.chain).map_err(refused)?;
        let (signature, stamp) = signed(&unsigned, place, who, how)?;
        let made = code::finish(&unsigned, &signature, stamp).map_err(refused)?;
        code::check(&made, directory, &[], 0).map_err(refused)?;
        Ok(wanted.keep(made))
    }
}
