//! What of the rules a package breaks that systems insist on: every block, every size, every name, and the records between parts.

use crate::block_map::{self, File};
use crate::content_types::ContentTypes;
use crate::read::{Package, Part};
use crate::signature::set_numbers;
use crate::structs::{DEFLATED, END, Fields, LARGE_END, LOCAL_HEAD, Record, STORED};
use crate::{
    BLOCK, BLOCK_MAP, BUNDLE_MANIFEST, CODE_INTEGRITY, CONTENT_TYPES, Error, MANIFEST, Result, SIGNATURE, names,
};
use flate2::{Decompress, FlushDecompress};
use read_at::ReadAt;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};

/// The most that is said of one package.
const MOST: usize = 100;

/// Parts that the map leaves out.
fn is_left_out(name: &str) -> bool {
    [BLOCK_MAP, CONTENT_TYPES, SIGNATURE, CODE_INTEGRITY].iter().any(|own| own.eq_ignore_ascii_case(name))
}

/// What is wrong with a package.
///
/// # Errors
/// It can't be read.
pub fn check<R: ReadAt>(package: &Package<R>) -> Result<Vec<String>> {
    let mut found = Found(Vec::new());
    names(package, &mut found);
    records(package, &mut found)?;
    let Some(map) = package.whole(BLOCK_MAP)? else {
        found.say(format!("it has no {BLOCK_MAP}"));
        return Ok(found.0);
    };
    let map = block_map::read(&map)?;
    match package.whole(CONTENT_TYPES)? {
        None => found.say(format!("it has no {CONTENT_TYPES}")),
        Some(bytes) => {
            let types = ContentTypes::read(&bytes)?;
            for part in package.parts().iter().filter(|part| part.name != CONTENT_TYPES && !types.has(&part.name)) {
                found.say(format!("{} has no type in {CONTENT_TYPES}", part.name));
            }
        }
    }
    if package.find(MANIFEST).is_none() && package.find(BUNDLE_MANIFEST).is_none() {
        found.say(format!("it has no {MANIFEST}"));
    }
    let mut files: HashMap<String, &File> = HashMap::new();
    for file in &map {
        if files.insert(file.name.to_lowercase(), file).is_some() {
            found.say(format!("{} is in the block map twice", file.name));
        }
    }
    for part in package.parts() {
        match (files.remove(&part.name.to_lowercase()), is_left_out(&part.name)) {
            (Some(file), false) => part_is(package, part, file, &mut found)?,
            (None, true) => {}
            (Some(_), true) => found.say(format!("{} is in the block map, and must not be", part.name)),
            (None, false) => found.say(format!("{} is not in the block map", part.name)),
        }
    }
    let mut missing: Vec<&str> = files.values().map(|file| file.name.as_str()).collect();
    missing.sort_unstable();
    missing.into_iter().for_each(|name| found.say(format!("{name} is in the block map, and not in the package")));
    Ok(found.0)
}

struct Found(Vec<String>);

impl Found {
    fn say(&mut self, what: String) {
        if self.0.len() < MOST && !self.0.contains(&what) {
            self.0.push(what);
        }
    }
}

fn names<R: ReadAt>(package: &Package<R>, found: &mut Found) {
    let mut seen = HashSet::new();
    for part in package.parts() {
        if !seen.insert(part.name.to_lowercase()) {
            found.say(format!("{} is there twice", part.name));
        }
        if part.name != CONTENT_TYPES && !names::is_allowed(&part.name) {
            found.say(format!("{:?} is no name that a file can have on Windows", part.name));
        }
    }
    let order = |name: &str| package.parts().iter().position(|part| part.name == name);
    if order(SIGNATURE).is_some_and(|at| at + 1 != package.parts().len()) {
        found.say("the signature is not the last part".into());
    }
}

/// Parts lie one behind the other, each with a record that agrees with the directory, and nothing lies between them.
fn records<R: ReadAt>(package: &Package<R>, found: &mut Found) -> Result<()> {
    let mut at = 0;
    for part in package.parts() {
        if part.record.offset != at {
            found.say(format!("something lies in front of {}, or the parts are in another order", part.name));
        }
        let (head, data) = package.head(part)?;
        at = data + part.record.packed;
        if !agrees(&head, part)? {
            found.say(format!("the archive says two different things of {}", part.name));
        }
        // The sizes follow the data where they are not in front of it.
        if part.record.flags & 8 != 0 {
            at += descriptor(package, at)?;
        }
        if ![STORED, DEFLATED].contains(&part.record.method) || part.record.flags & !0x808 != 0 {
            found.say(format!("{} is packed in a way that packages don't have", part.name));
        }
    }
    if at != package.directory.0 {
        found.say("something lies between the last part and the directory".into());
    }
    let (large, end) = (LARGE_END.to_le_bytes(), END.to_le_bytes());
    let ends = &package.ends;
    let is_usual = ends.len() == 22 && ends.starts_with(&end) || ends.len() == 98 && ends.starts_with(&large);
    if !is_usual {
        found.say("the archive ends with more than the end of its directory".into());
        return Ok(());
    }
    let mut right = ends.clone();
    set_numbers(&mut right, package.parts().len() as u64, package.directory.1, package.directory.0)?;
    if right != *ends {
        found.say("the end of the directory says other numbers than the directory".into());
    }
    record_of_signature(package, found)
}

/// No digest is of the signature's own records: what they say beside name, sizes and place has to be what those of the part
/// before say.
fn record_of_signature<R: ReadAt>(package: &Package<R>, found: &mut Found) -> Result<()> {
    let [.., before, last] = package.parts() else { return Ok(()) };
    if last.name != SIGNATURE {
        return Ok(());
    }
    let mut starts = vec![0];
    for _ in 1..package.parts().len() {
        let start = starts.last().copied().unwrap_or(0);
        starts.push(start + Record::read(&package.records[start..])?.1);
    }
    let [.., other, own] = starts[..] else { return Ok(()) };
    let (other, own) = (&package.records[other..], &package.records[own..]);
    // Versions, time and day, comment, disk, attributes.
    let is_alike = [4..8, 12..16, 32..42].into_iter().all(|range| other.get(range.clone()) == own.get(range));
    let (head_before, _) = package.head(before)?;
    let (head, _) = package.head(last)?;
    let heads_alike = head[4..6] == head_before[4..6] && head[10..14] == head_before[10..14];
    // Nothing but what large sizes need.
    let extra = Fields(&own[30..]).u16()?;
    let is_plain = head.len() == LOCAL_HEAD + last.record.name.len() && [0, 12].contains(&extra);
    if !(is_alike && heads_alike && is_plain) {
        found.say("the records of the signature are not like those of the part before".into());
    }
    Ok(())
}

/// How long the record behind a part's data is.
fn descriptor<R: ReadAt>(package: &Package<R>, at: u64) -> Result<u64> {
    let mut bytes = [0; 24];
    let room = (package.directory.0.saturating_sub(at)).min(24) as usize;
    package.source().read_exact_at(&mut bytes[..room], at)?;
    let named = u64::from(bytes.starts_with(b"PK\x07\x08")) * 4;
    let next = |length: u64| {
        let mut four = [0; 4];
        let place = at + named + length;
        place == package.directory.0
            || package.source().read_exact_at(&mut four, place).is_ok() && four == *b"PK\x03\x04"
    };
    Ok(named + if next(12) { 12 } else { 20 })
}

/// Whether a part's own record and the directory say the same.
fn agrees(head: &[u8], part: &Part) -> Result<bool> {
    let Record { name, method, flags, crc, packed, size, .. } = &part.record;
    let mut fields = Fields(&head[6..]);
    let (own_flags, own_method) = (fields.u16()?, fields.u16()?);
    fields.u32()?;
    let (own_crc, own_packed, own_size) = (fields.u32()?, fields.u32()?, fields.u32()?);
    let long = usize::from(fields.u16()?);
    let own_name = head.get(30..30 + long).ok_or_else(|| Error::at(0, "a name is cut off"))?;
    let fits = |own: u32, number: u64| own == u32::MAX || u64::from(own) == number;
    let behind = flags & 8 != 0 && (own_crc, own_packed, own_size) == (0, 0, 0);
    let same = own_crc == *crc && fits(own_packed, *packed) && fits(own_size, *size);
    Ok(own_name == name && (own_flags, own_method) == (*flags, *method) && (same || behind))
}

/// A part's blocks are what the map says, and each can be unpacked by itself.
fn part_is<R: ReadAt>(package: &Package<R>, part: &Part, file: &File, found: &mut Found) -> Result<()> {
    let (head, _) = package.head(part)?;
    let name = &part.name;
    if (file.size, file.head) != (part.size, head.len() as u64) {
        found.say(format!("the block map says another size of {name}"));
    }
    if file.blocks.len() as u64 != part.size.div_ceil(BLOCK as u64) {
        found.say(format!("the block map has {} blocks of {name}", file.blocks.len()));
        return Ok(());
    }
    let packed = package.packed(part)?;
    let stored = part.record.method == STORED;
    let (mut at, mut crc, mut plain) = (0u64, crc32fast::Hasher::new(), Vec::with_capacity(BLOCK));
    for (n, block) in file.blocks.iter().enumerate() {
        let size = (part.size - (n * BLOCK) as u64).min(BLOCK as u64) as usize;
        if block.packed.is_some() == stored {
            found.say(format!("the block map says that {name} is packed in another way"));
            return Ok(());
        }
        // A block that does not get smaller is a little longer than plain.
        let long = block.packed.unwrap_or(size as u64);
        if long > (2 * BLOCK) as u64 || long > part.record.packed - at {
            found.say(format!("the blocks of {name} are longer than the part"));
            return Ok(());
        }
        let mut bytes = vec![0; long as usize];
        packed.read_exact_at(&mut bytes, at)?;
        at += long;
        if stored {
            plain = bytes;
        } else {
            plain.clear();
            let unpacked = Decompress::new(false).decompress_vec(&bytes, &mut plain, FlushDecompress::Sync);
            if unpacked.is_err() || plain.len() != size {
                found.say(format!("block {} of {name} can't be unpacked by itself", n + 1));
                return Ok(());
            }
        }
        crc.update(&plain);
        if Sha256::digest(&plain)[..] != block.hash {
            found.say(format!("block {} of {name} was changed", n + 1));
        }
    }
    let rest = part.record.packed - at;
    if rest > 2 || stored && rest > 0 {
        found.say(format!("something lies behind the blocks of {name}"));
    }
    if crc.finalize() != part.record.crc {
        found.say(format!("the checksum of {name} is wrong"));
    }
    Ok(())
}
