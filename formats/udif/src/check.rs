//! A strict check of every checksum and count: other tools look at some of them only.

use crate::Result;
use crate::read::{Image, Part};
use crate::structs::*;
use read_at::ReadAt;

/// Goes through all of an image; gives what is wrong, each in a sentence.
///
/// # Errors
/// As the medium's.
pub fn check<R: ReadAt>(image: &Image<R>) -> Result<Vec<String>> {
    let mut findings = Vec::new();
    let trailer = image.trailer();
    let mut same = |what: &str, said: u64, found: u64| {
        if said != found {
            findings.push(format!("{what}: {said:#x} is declared, {found:#x} was found"));
        }
    };
    if let Some((said, found)) = packed(image)? {
        same("the checksum of the packed data", said.into(), found.into());
    }
    let mut master = crc32fast::Hasher::new();
    let mut sectors = 0;
    for part in image.parts() {
        master.update(&part.head.checksum.value[0].get().to_be_bytes());
        sectors += part.head.sectors.get();
        let name = &part.name;
        let held: u64 = part.runs.iter().map(|r| r.length / SECTOR).sum();
        same(&format!("sectors of {name:?}"), part.head.sectors.get(), held);
        if !part.ended {
            same(&format!("the last chunk of {name:?}"), 1, 0);
        }
        match contents(image, part) {
            Ok(found) if part.head.checksum.kind.get() == CRC32 => {
                same(&format!("the checksum of {name:?}"), part.head.checksum.value[0].get().into(), found.into());
            }
            Ok(_) => {}
            Err(why) => {
                findings.push(format!("{name:?}: {why}"));
                return Ok(findings);
            }
        }
    }
    if trailer.master_checksum.kind.get() == CRC32 {
        same("the checksum of the tables", trailer.master_checksum.value[0].get().into(), master.finalize().into());
    }
    same("sectors of the disk", trailer.sectors.get(), sectors);
    Ok(findings)
}

/// The checksum of the packed data, as it is said and as it was found: what a flipped bit changes for certain, whatever
/// the chunks are packed with. Nothing where the image has none.
///
/// # Errors
/// As the medium's.
pub fn packed<R: ReadAt>(image: &Image<R>) -> Result<Option<(u32, u32)>> {
    let trailer = image.trailer();
    if trailer.data_checksum.kind.get() != CRC32 {
        return Ok(None);
    }
    let mut crc = crc32fast::Hasher::new();
    let mut at = trailer.data_offset.get();
    let end = at.saturating_add(trailer.data_length.get()).min(image.source.length()?);
    let mut buffer = vec![0; 1 << 16];
    while at < end {
        let n = (end - at).min(buffer.len() as u64) as usize;
        image.source.read_exact_at(&mut buffer[..n], at)?;
        crc.update(&buffer[..n]);
        at += n as u64;
    }
    Ok(Some((trailer.data_checksum.value[0].get(), crc.finalize())))
}

/// The checksum of a part, unpacked.
fn contents<R: ReadAt>(image: &Image<R>, part: &Part) -> Result<u32> {
    let mut crc = crc32fast::Hasher::new();
    let mut next = part.head.first_sector.get().saturating_mul(SECTOR);
    for run in &part.runs {
        if run.start != next {
            return Err(crate::Error::format(run.offset, format!("a chunk begins at {} and not at {next}", run.start)));
        }
        next += run.length;
        if run.has_data() {
            crc.update(&image.unpacked(run)?);
            continue;
        }
        // What nobody asks for is not part of the checksum either.
        if run.kind == chunk::ZERO {
            crc.combine(&zeros(run.length / SECTOR));
        }
    }
    Ok(crc.finalize())
}

/// The checksum of so many sectors of zeros, by doubling: a hostile image may say that there are very many.
fn zeros(mut sectors: u64) -> crc32fast::Hasher {
    let mut all = crc32fast::Hasher::new();
    let mut some = crc32fast::Hasher::new();
    some.update(&[0; SECTOR as usize]);
    while sectors > 0 {
        if sectors & 1 == 1 {
            all.combine(&some);
        }
        let same = some.clone();
        some.combine(&same);
        sectors >>= 1;
    }
    all
}
