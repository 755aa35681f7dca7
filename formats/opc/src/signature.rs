//! What the signature of a package is of, and where it goes: the last part, with digests of everything in front of it, of the
//! directory as it was before, of the list of types and of the block map.

use crate::read::Package;
use crate::structs::{DEFLATED, ENDS, LARGE_END, Record, ends};
use crate::{BLOCK_MAP, CODE_INTEGRITY, CONTENT_TYPES, Error, Result, SIGNATURE};
use flate2::write::DeflateEncoder;
use read_at::ReadAt;
use sha2::{Digest, Sha256};
use std::io::{Seek, SeekFrom, Write};

/// How a signature begins, in front of the signed message.
pub const MARK: [u8; 4] = *b"PKCX";
/// The longest signature that is read, bytes.
const LONGEST: u64 = 1 << 20;

/// The digests that are signed, as one value: `APPX`, then each with four letters in front.
///
/// # Errors
/// Parts are missing, or the medium's.
pub fn digests<R: ReadAt>(package: &Package<R>) -> Result<Vec<u8>> {
    let (directory, _) = package.directory;
    let signature = package.parts().last().filter(|part| part.name == SIGNATURE);
    let end = signature.map_or(directory, |part| part.record.offset);
    let mut parts = Sha256::new();
    let (mut at, mut buffer) = (0, vec![0; 1 << 18]);
    while at < end {
        let long = (end - at).min(buffer.len() as u64) as usize;
        package.source().read_exact_at(&mut buffer[..long], at)?;
        parts.update(&buffer[..long]);
        at += long as u64;
    }
    // The directory as it was before the signature came.
    let mut records = package.records.clone();
    let mut behind = package.ends.clone();
    if let Some(signature) = signature {
        let mut start = 0;
        for _ in 1..package.parts().len() {
            start += Record::read(&records[start..])?.1;
        }
        records.truncate(start);
        let count = package.parts().len() as u64 - 1;
        set_numbers(&mut behind, count, start as u64, signature.record.offset)?;
    }
    let directory = Sha256::new().chain_update(&records).chain_update(&behind).finalize();
    let needed = |name: &str| {
        let bytes = package.whole(name)?.ok_or_else(|| Error::format(0, format!("it has no {name}")))?;
        Ok::<_, Error>(Sha256::digest(bytes))
    };
    let mut out = b"APPX".to_vec();
    let mut add = |letters: &[u8; 4], digest: &[u8]| {
        out.extend(letters);
        out.extend(digest);
    };
    add(b"AXPC", &parts.finalize());
    add(b"AXCD", &directory);
    add(b"AXCT", &needed(CONTENT_TYPES)?);
    add(b"AXBM", &needed(BLOCK_MAP)?);
    if package.find(CODE_INTEGRITY).is_some() {
        add(b"AXCI", &needed(CODE_INTEGRITY)?);
    }
    Ok(out)
}

/// Puts the numbers of a directory into its ends: how many parts, how long, and where it begins.
pub(crate) fn set_numbers(ends: &mut [u8], count: u64, size: u64, offset: u64) -> Result<()> {
    let is_large = ends.len() == ENDS && ends.starts_with(&LARGE_END.to_le_bytes());
    let last = if is_large { ENDS - 22 } else { 0 };
    if ends.len() < last + 22 {
        return Err(Error::format(0, "the archive ends with more than the end of its directory"));
    }
    let mut put = |at: usize, bytes: &[u8]| ends[at..at + bytes.len()].copy_from_slice(bytes);
    if is_large {
        put(24, &[count, count, size, offset].map(u64::to_le_bytes).concat());
        put(64, &(offset + size).to_le_bytes());
    }
    let numbers = [(8, 2, count), (10, 2, count), (12, 4, size), (16, 4, offset)];
    for (at, long, number) in numbers.map(|(at, long, number)| (last + at, long, number)) {
        // All ones where the large end has the right number.
        if ends[at..at + long].iter().any(|byte| *byte != 0xFF) {
            ends[at..at + long].copy_from_slice(&number.to_le_bytes()[..long]);
        }
    }
    Ok(())
}

/// The signed message in a package; none in one without a signature.
///
/// # Errors
/// The part is none, or can't be read.
pub fn message<R: ReadAt>(package: &Package<R>) -> Result<Option<Vec<u8>>> {
    let Some(part) = package.find(SIGNATURE) else { return Ok(None) };
    if part.size > LONGEST {
        return Err(Error::Limit("its signature is too long to be one".into()));
    }
    let bytes = package.whole(SIGNATURE)?.unwrap_or_default();
    let message = bytes.strip_prefix(&MARK);
    message.map(|message| Some(message.to_vec())).ok_or_else(|| Error::format(0, "its signature is none"))
}

/// Puts a signed message into the package's own file, in the place of one that is there. Gives the file's new length, to which
/// the caller has to cut it off.
///
/// # Errors
/// The package was written without room for a signature in its list of types, or the medium's.
pub fn put<R: ReadAt>(package: &Package<R>, file: &mut (impl Write + Seek), message: &[u8]) -> Result<u64> {
    let types = package.whole(CONTENT_TYPES)?.unwrap_or_default();
    if !crate::content_types::ContentTypes::read(&types)?.has(SIGNATURE) {
        return Err(Error::Usage("the package's list of types has no word of a signature".into()));
    }
    let parts = package.parts();
    let old = parts.last().filter(|part| part.name == SIGNATURE);
    let offset = old.map_or(package.directory.0, |part| part.record.offset);
    let kept = parts.len() - usize::from(old.is_some());
    let (mut directory, mut at) = (Vec::new(), 0);
    for _ in 0..kept {
        let (_, long) = Record::read(&package.records[at..])?;
        directory.extend_from_slice(&package.records[at..at + long]);
        at += long;
    }
    let plain = [&MARK[..], message].concat();
    let mut packed = DeflateEncoder::new(Vec::new(), flate2::Compression::new(6));
    packed.write_all(&plain)?;
    let packed = packed.finish()?;
    let record = Record {
        name: SIGNATURE.into(),
        method: DEFLATED,
        flags: 0,
        crc: crc32fast::hash(&plain),
        packed: packed.len() as u64,
        size: plain.len() as u64,
        offset,
    };
    directory.extend(record.central());
    let head = record.local();
    let start = offset + (head.len() + packed.len()) as u64;
    let ends = ends(kept as u64 + 1, directory.len() as u64, start);
    file.seek(SeekFrom::Start(offset))?;
    for part in [&head, &packed, &directory, &ends] {
        file.write_all(part)?;
    }
    file.flush()?;
    Ok(start + (directory.len() + ends.len()) as u64)
}
