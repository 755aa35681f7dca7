//! The catalog and the attributes: names, numbers, threads, counts. Collects every fork on the way.

use super::Findings;
use crate::Result;
use crate::name::{LONGEST, shown, stored};
use crate::read::{Volume, attribute_key, catalog_key, units};
use crate::structs::*;
use read_at::ReadAt;
use std::collections::{HashMap, HashSet};
use zerocopy::FromBytes;

/// A fork: whose, of which kind (0 data, 0xFF resources, 1 an attribute's value), and where it is.
pub type Found = (u32, u8, Fork);

#[derive(Default)]
struct Sight {
    /// Parent and name by number, as records say and as threads say.
    records: HashMap<u32, (u32, Vec<u16>, bool)>,
    threads: HashMap<u32, (u32, Vec<u16>, bool)>,
    valences: HashMap<u32, u32>,
    inside: HashMap<u32, u32>,
    with_attributes: HashSet<u32>,
    forks: Vec<Found>,
    files: u32,
    folders: u32,
}

impl Sight {
    fn record(&mut self, parent: u32, name: Vec<u16>, data: &[u8], findings: &mut Findings) {
        let kind = data.first_chunk::<2>().map_or(0, |k| u16::from_be_bytes(*k));
        if matches!(kind, kind::FOLDER_THREAD | kind::FILE_THREAD) {
            let Some(thread) = ThreadRecord::read_from_prefix(data).ok().zip(data.get(8..).and_then(units)) else {
                return findings.add(format!("the thread of {parent} is cut off"));
            };
            if !name.is_empty() {
                findings.add(format!("the thread of {parent} has a name in its key"));
            }
            let ((thread, _), its_name) = thread;
            self.threads.insert(parent, (thread.parent.get(), its_name, kind == kind::FOLDER_THREAD));
            return;
        }
        let text = shown(&name);
        if name.is_empty() || name.len() > LONGEST {
            findings.add(format!("{text:?} in folder {parent} isn't a valid name"));
        } else if !text.contains('\0') && stored(&text).ok().as_ref() != Some(&name) {
            findings.add(format!("{text:?} isn't stored in the normal form that lookups use"));
        }
        *self.inside.entry(parent).or_default() += 1;
        let (cnid, flags, is_folder) =
            if let (kind::FOLDER, Ok((record, _))) = (kind, FolderRecord::read_from_prefix(data)) {
                self.valences.insert(record.cnid.get(), record.valence.get());
                self.folders += 1;
                (record.cnid.get(), record.flags.get(), true)
            } else if let (kind::FILE, Ok((record, _))) = (kind, FileRecord::read_from_prefix(data)) {
                self.files += 1;
                let cnid = record.cnid.get();
                let forks = [(cnid, 0, record.data), (cnid, 0xFF, record.resource)];
                // Nearly all files have one with nothing in it.
                let is_nothing = |f: &Fork| *f == Fork { clump: f.clump, ..Fork::default() };
                self.forks.extend(forks.into_iter().filter(|(_, _, fork)| !is_nothing(fork)));
                if record.flags.get() & HAS_THREAD == 0 {
                    findings.add(format!("{text:?} isn't flagged as having a thread"));
                }
                (cnid, record.flags.get(), false)
            } else {
                return findings.add(format!("the record of {text:?} is cut off or of unknown type"));
            };
        if flags & HAS_ATTRIBUTES != 0 {
            self.with_attributes.insert(cnid);
        }
        if self.records.insert(cnid, (parent, name, is_folder)).is_some() {
            findings.add(format!("two items have the number {cnid}"));
        }
    }

    fn compare(&self, header: &VolumeHeader, findings: &mut Findings) {
        for (cnid, record) in &self.records {
            let name = shown(&record.1);
            match self.threads.get(cnid) {
                None => findings.add(format!("{name:?} has no thread")),
                Some(thread) if thread != record => findings.add(format!("the thread of {name:?} doesn't match")),
                Some(_) => {}
            }
            if *cnid != cnid::ROOT && *cnid < cnid::FIRST {
                findings.add(format!("{name:?} has the number {cnid}, which means something else"));
            }
            if *cnid >= header.next_cnid.get() {
                findings.add(format!("{name:?} has the number {cnid}, which the header declares free"));
            }
            let parent = self.records.get(&record.0);
            if record.0 != cnid::ROOT_PARENT && !parent.is_some_and(|p| p.2) {
                findings.add(format!("{name:?} is in the folder {}, which doesn't exist", record.0));
            }
        }
        for cnid in self.threads.keys().filter(|c| !self.records.contains_key(c)) {
            findings.add(format!("there is a thread for {cnid}, but no record"));
        }
        for (cnid, valence) in &self.valences {
            let inside = self.inside.get(cnid).copied().unwrap_or(0);
            findings.same(&format!("items in folder {cnid}"), *valence, inside);
        }
        if !self.valences.contains_key(&cnid::ROOT) {
            findings.add("there is no root folder");
        }
        findings.same("files", header.files.get(), self.files);
        findings.same("folders", header.folders.get(), self.folders.saturating_sub(1));
    }
}

/// Looks at catalog and attributes; gives all forks.
pub fn check<R: ReadAt>(volume: &Volume<R>, findings: &mut Findings) -> Result<Vec<Found>> {
    let mut sight = Sight::default();
    volume.catalog.leaves(&volume.source, |key, data, offset| {
        match catalog_key(key) {
            Some((parent, name)) => sight.record(parent, name, data, findings),
            None => findings.add(format!("the key at {offset:#x} is cut off")),
        }
        Ok(())
    })?;
    sight.compare(&volume.header, findings);
    let mut seen = HashSet::new();
    if let Some(tree) = &volume.attributes {
        tree.leaves(&volume.source, |key, data, offset| {
            let Some((cnid, name)) = attribute_key(key) else {
                findings.add(format!("the key of an attribute at {offset:#x} is cut off"));
                return Ok(());
            };
            seen.insert(cnid);
            if !sight.records.contains_key(&cnid) {
                findings.add(format!("the attribute {} belongs to {cnid}, which doesn't exist", shown(&name)));
            }
            let is_fork = data.first_chunk::<4>().is_some_and(|k| u32::from_be_bytes(*k) == attribute::FORK);
            if let (true, Some(Ok((fork, _)))) = (is_fork, data.get(8..).map(Fork::read_from_prefix)) {
                sight.forks.push((0, 1, fork));
            }
            Ok(())
        })?;
    }
    for cnid in seen.symmetric_difference(&sight.with_attributes) {
        findings.add(format!("{cnid} has attributes but isn't flagged so, or the other way round"));
    }
    Ok(sight.forks)
}
