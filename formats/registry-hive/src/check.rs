//! What is wrong with a hive that can be read.

use crate::cells::{Cells, checksum, u16_at, u32_at};
use crate::read::{Node, data, entries, node, open, record};
use crate::structs::{BIN_HEAD, BLOCK, DEEPEST, INLINE, LONGEST_KEY, NOWHERE, SECURITY_HEAD, flag};
use crate::{Result, hash, upper};
use std::collections::{BTreeMap, BTreeSet};

/// The most that is said of one hive.
const MOST: usize = 100;

/// What is wrong with a hive: sums, bins, counts, parents, order and hashes of names, descriptors, cells that nobody or several
/// name.
///
/// # Errors
/// It can't be read at all.
pub fn check(bytes: &[u8]) -> Result<Vec<String>> {
    let (cells, root) = open(bytes)?;
    let mut checker = Checker {
        cells,
        found: Vec::new(),
        used: BTreeMap::new(),
        securities: BTreeMap::new(),
        visited: BTreeSet::new(),
    };
    checker.block(bytes)?;
    let in_use = checker.bins()?;
    checker.key(root, None, 0, "")?;
    checker.security()?;
    for offset in in_use {
        match checker.used.get(&offset).copied().unwrap_or(0) {
            1 => {}
            0 => checker.say(format!("nothing names the record at {:#x}", BLOCK as u64 + u64::from(offset))),
            many => checker.say(format!("the record at {:#x} is named {many} times", BLOCK as u64 + u64::from(offset))),
        }
    }
    Ok(checker.found)
}

struct Checker<'b> {
    cells: Cells<'b>,
    found: Vec<String>,
    /// How often each cell is named.
    used: BTreeMap<u32, u32>,
    /// How many keys name each security descriptor.
    securities: BTreeMap<u32, u32>,
    visited: BTreeSet<u32>,
}

impl Checker<'_> {
    fn say(&mut self, what: String) {
        if self.found.len() < MOST && !self.found.contains(&what) {
            self.found.push(what);
        }
    }

    fn demand(&mut self, holds: bool, what: impl FnOnce() -> String) {
        if !holds {
            self.say(what());
        }
    }

    /// The block in front.
    fn block(&mut self, bytes: &[u8]) -> Result<()> {
        let stated = u32_at(bytes, 508)?;
        self.demand(checksum(&bytes[..BLOCK]) == stated, || "the checksum of its first block is wrong".into());
        let (first, second) = (u32_at(bytes, 4)?, u32_at(bytes, 8)?);
        self.demand(first == second, || "it was not written to its end: its two counters differ".into());
        let minor = u32_at(bytes, 24)?;
        self.demand((3..=6).contains(&minor), || format!("it has the version 1.{minor}"));
        let rest = &bytes[BLOCK + self.cells.bins.len()..];
        self.demand(rest.iter().all(|byte| *byte == 0), || "something stands behind its last bin".into());
        Ok(())
    }

    /// Bins follow each other, and cells fill them. Gives the cells that are in use.
    fn bins(&mut self) -> Result<Vec<u32>> {
        let bins = self.cells.bins;
        let (mut at, mut in_use) = (0, Vec::new());
        while at < bins.len() {
            let place = BLOCK + at;
            let size = u32_at(bins, at + 8).unwrap_or(0) as usize;
            if bins.get(at..at + 4) != Some(b"hbin")
                || size == 0
                || !size.is_multiple_of(BLOCK)
                || size > bins.len() - at
            {
                self.say(format!("at {place:#x} there should be a bin"));
                return Ok(in_use);
            }
            let stated = u32_at(bins, at + 4)?;
            self.demand(stated as usize == at, || format!("the bin at {place:#x} says that it is elsewhere"));
            let (mut cell, end) = (at + BIN_HEAD, at + size);
            while cell < end {
                let length = u32_at(bins, cell)? as i32;
                let long = length.unsigned_abs() as usize;
                if long < 8 || !long.is_multiple_of(8) || long > end - cell {
                    self.say(format!("the record at {:#x} has an impossible length", BLOCK + cell));
                    break;
                }
                if length < 0 {
                    in_use.push(cell as u32);
                }
                cell += long;
            }
            at = end;
        }
        Ok(in_use)
    }

    /// Counts who names a record; says whether nobody did before. What several name is looked at once, so that a small file
    /// costs little.
    fn uses(&mut self, offset: u32) -> bool {
        let count = self.used.entry(offset).or_default();
        *count += 1;
        *count == 1
    }

    fn key(&mut self, offset: u32, parent: Option<u32>, depth: usize, path: &str) -> Result<()> {
        self.uses(offset);
        // A circle is said by its record being named twice.
        if depth > DEEPEST || !self.visited.insert(offset) {
            self.demand(depth <= DEEPEST, || "keys lie too deep in each other".into());
            return Ok(());
        }
        let own = node(self.cells, offset)?;
        let path = format!("{path}\\{}", own.name);
        if let Some(parent) = parent {
            self.demand(own.parent == parent, || format!("{path} names another key as the one above it"));
        }
        let is_root = own.flags & flag::ROOT != 0;
        self.demand(is_root == parent.is_none(), || format!("{path} is wrongly marked as the first key, or is not"));
        let length = own.name.encode_utf16().count();
        let fits = length > 0 && length <= LONGEST_KEY && !own.name.contains(['\\', '\0']);
        self.demand(fits, || format!("{path} has a name that keys can't have"));
        *self.securities.entry(own.security).or_default() += 1;
        if own.class != NOWHERE {
            self.uses(own.class);
        }
        let longest = self.values(&own, &path)?;
        let mut used = Vec::new();
        let below = match own.below {
            (0, _) | (_, NOWHERE) => Vec::new(),
            (_, list) if self.used.contains_key(&list) => {
                self.uses(list);
                return Ok(());
            }
            (_, list) => entries(self.cells, list, &mut |offset| used.push(offset))?,
        };
        used.into_iter().for_each(|offset| _ = self.uses(offset));
        let count = own.below.0;
        self.demand(below.len() == count as usize, || {
            format!("{path} has {} keys below it, and says {count}", below.len())
        });
        let mut names: Vec<String> = Vec::new();
        for (place, stated) in &below {
            let name = node(self.cells, *place)?.name;
            self.demand(stated.is_none_or(|stated| stated == hash(&name)), || {
                format!("the hash of {path}\\{name} is wrong")
            });
            names.push(name);
        }
        let is_sorted = names.windows(2).all(|pair| upper(&pair[0]) < upper(&pair[1]));
        self.demand(is_sorted, || format!("the keys below {path} are not in the order of their names"));
        let wide = |name: &String| name.encode_utf16().count() as u32 * 2;
        let longest = [names.iter().map(wide).max().unwrap_or(0), longest[0], longest[1]];
        let holds = longest.iter().zip(own.longest).all(|(real, stated)| *real <= stated);
        self.demand(holds, || format!("{path} says that its longest names or values are shorter than they are"));
        for (place, _) in below {
            self.key(place, Some(offset), depth + 1, &path)?;
        }
        Ok(())
    }

    /// The values of a key; gives the longest name and the longest data.
    fn values(&mut self, own: &Node, path: &str) -> Result<[u32; 2]> {
        let mut longest = [0, 0];
        if own.values.0 == 0 {
            return Ok(longest);
        }
        if !self.uses(own.values.1) {
            return Ok(longest);
        }
        let mut names = BTreeSet::new();
        for place in self.cells.list(own.values.1, own.values.0 as usize)? {
            if !self.uses(place) {
                continue;
            }
            let record = record(self.cells, place)?;
            let mut used = Vec::new();
            let data = data(self.cells, &record, &mut |offset| used.push(offset))?;
            used.into_iter().for_each(|offset| _ = self.uses(offset));
            let is_short = record.length & INLINE != 0;
            self.demand(is_short == (data.len() <= 4), || {
                format!("{path}: the value {:?} is kept as values of another length are", record.name)
            });
            longest[0] = longest[0].max(record.name.encode_utf16().count() as u32 * 2);
            longest[1] = longest[1].max(data.len() as u32);
            self.demand(names.insert(upper(&record.name)), || {
                format!("{path} has two values of the name {:?}", record.name)
            });
        }
        Ok(longest)
    }

    /// The descriptors: a ring, each as often named as it says, and in a form that says who may do what.
    fn security(&mut self) -> Result<()> {
        let all = std::mem::take(&mut self.securities);
        for (offset, count) in &all {
            self.uses(*offset);
            let bytes = self.cells.named(*offset, b"sk")?;
            let [next, before, stated, length] =
                [u32_at(bytes, 4)?, u32_at(bytes, 8)?, u32_at(bytes, 12)?, u32_at(bytes, 16)?];
            let place = BLOCK as u64 + u64::from(*offset);
            self.demand(stated == *count, || {
                format!("the descriptor at {place:#x} is named by {count} keys, and says {stated}")
            });
            let in_ring = all.contains_key(&next) && all.contains_key(&before);
            self.demand(in_ring, || format!("the descriptor at {place:#x} has neighbours that no key names"));
            if in_ring {
                let back = u32_at(self.cells.named(next, b"sk")?, 8)?;
                self.demand(back == *offset, || format!("the descriptor at {place:#x} and the next one don't agree"));
            }
            let own = bytes.get(SECURITY_HEAD..SECURITY_HEAD.saturating_add(length as usize));
            let holds = own.is_some_and(|own| is_descriptor(own).unwrap_or(false));
            self.demand(holds, || format!("the descriptor at {place:#x} is malformed"));
        }
        Ok(())
    }
}

/// Whether bytes are a descriptor in itself: owner, group, and a list of who may do what.
fn is_descriptor(bytes: &[u8]) -> Result<bool> {
    let flags = u16_at(bytes, 2)?;
    let is_name = |at: u32| {
        let at = at as usize;
        let count = bytes.get(at + 1).map(|count| usize::from(*count));
        at >= 20
            && bytes.get(at) == Some(&1)
            && count.is_some_and(|count| count <= 15 && at + 8 + count * 4 <= bytes.len())
    };
    let list = u32_at(bytes, 16)? as usize;
    let is_list = || -> Result<bool> {
        let (length, count) = (usize::from(u16_at(bytes, list + 2)?), u16_at(bytes, list + 4)?);
        let mut at = list + 8;
        for _ in 0..count {
            let size = usize::from(u16_at(bytes, at + 2)?);
            if size < 16 {
                return Ok(false);
            }
            at += size;
        }
        Ok(at <= list + length && list + length <= bytes.len())
    };
    let (self_relative, has_list) = (flags & 0x8000 != 0, flags & 4 != 0);
    Ok(bytes.first() == Some(&1)
        && self_relative
        && is_name(u32_at(bytes, 4)?)
        && is_name(u32_at(bytes, 8)?)
        && (!has_list || list == 0 || is_list()?))
}
