//! The catalog and the attributes: names, numbers, threads, counts. Collects every fork on the way.

use super::Faults;
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
    fn record(&mut self, parent: u32, name: Vec<u16>, data: &[u8], faults: &mut Faults) {
        let kind = data.first_chunk::<2>().map_or(0, |k| u16::from_be_bytes(*k));
        if matches!(kind, kind::FOLDER_THREAD | kind::FILE_THREAD) {
            let Some(thread) = ThreadRecord::read_from_prefix(data).ok().zip(data.get(8..).and_then(units)) else {
                return faults.add(format!("the thread of {parent} is cut off"));
            };
            if !name.is_empty() {
                faults.add(format!("the thread of {parent} has a name in its key"));
            }
            let ((thread, _), its_name) = thread;
            self.threads.insert(parent, (thread.parent.get(), its_name, kind == kind::FOLDER_THREAD));
            return;
        }
        let text = shown(&name);
        if name.is_empty() || name.len() > LONGEST {
            faults.add(format!("{text:?} in folder {parent} is no name"));
        } else if !text.contains('\0') && stored(&text).ok().as_ref() != Some(&name) {
            faults.add(format!("{text:?} is not stored in the form that it is looked for"));
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
                    faults.add(format!("{text:?} is not said to have a thread"));
                }
                (cnid, record.flags.get(), false)
            } else {
                return faults.add(format!("the record of {text:?} is cut off or of an unknown kind"));
            };
        if flags & HAS_ATTRIBUTES != 0 {
            self.with_attributes.insert(cnid);
        }
        if self.records.insert(cnid, (parent, name, is_folder)).is_some() {
            faults.add(format!("two things have the number {cnid}"));
        }
    }

    fn compare(&self, header: &VolumeHeader, faults: &mut Faults) {
        for (cnid, record) in &self.records {
            let name = shown(&record.1);
            match self.threads.get(cnid) {
                None => faults.add(format!("{name:?} has no thread")),
                Some(thread) if thread != record => faults.add(format!("the thread of {name:?} says something else")),
                Some(_) => {}
            }
            if *cnid != cnid::ROOT && *cnid < cnid::FIRST {
                faults.add(format!("{name:?} has the number {cnid}, which means something else"));
            }
            if *cnid >= header.next_cnid.get() {
                faults.add(format!("{name:?} has the number {cnid}, which the header says is free"));
            }
            let parent = self.records.get(&record.0);
            if record.0 != cnid::ROOT_PARENT && !parent.is_some_and(|p| p.2) {
                faults.add(format!("{name:?} is in the folder {}, which is not there", record.0));
            }
        }
        for cnid in self.threads.keys().filter(|c| !self.records.contains_key(c)) {
            faults.add(format!("there is a thread for {cnid}, and no record"));
        }
        for (cnid, valence) in &self.valences {
            let inside = self.inside.get(cnid).copied().unwrap_or(0);
            faults.same(&format!("things in folder {cnid}"), *valence, inside);
        }
        if !self.valences.contains_key(&cnid::ROOT) {
            faults.add("there is no root folder");
        }
        faults.same("files", header.files.get(), self.files);
        faults.same("folders", header.folders.get(), self.folders.saturating_sub(1));
    }
}

/// Looks at catalog and attributes; gives all forks.
pub fn check<R: ReadAt>(volume: &Volume<R>, faults: &mut Faults) -> Result<Vec<Found>> {
    let mut sight = Sight::default();
    volume.catalog.leaves(&volume.source, |key, data, offset| {
        match catalog_key(key) {
            Some((parent, name)) => sight.record(parent, name, data, faults),
            None => faults.add(format!("the key at {offset:#x} is cut off")),
        }
        Ok(())
    })?;
    sight.compare(&volume.header, faults);
    let mut seen = HashSet::new();
    if let Some(tree) = &volume.attributes {
        tree.leaves(&volume.source, |key, data, offset| {
            let Some((cnid, name)) = attribute_key(key) else {
                faults.add(format!("the key of an attribute at {offset:#x} is cut off"));
                return Ok(());
            };
            seen.insert(cnid);
            if !sight.records.contains_key(&cnid) {
                faults.add(format!("the attribute {} belongs to {cnid}, which is not there", shown(&name)));
            }
            let is_fork = data.first_chunk::<4>().is_some_and(|k| u32::from_be_bytes(*k) == attribute::FORK);
            if let (true, Some(Ok((fork, _)))) = (is_fork, data.get(8..).map(Fork::read_from_prefix)) {
                sight.forks.push((0, 1, fork));
            }
            Ok(())
        })?;
    }
    for cnid in seen.symmetric_difference(&sight.with_attributes) {
        faults.add(format!("{cnid} has attributes and is not marked so, or the other way round"));
    }
    Ok(sight.forks)
}
