//! A cabinet by itself: files and nothing else.

use super::super::{Depth, Format, Visit, damaged};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Node, RelPath};
use crate::platform::System;
use crate::problem::Failure;
use ::cabinet::read::{Cabinet as Open, Entry, Limits};
use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, BufReader, Read};

/// Cabinets ([MS-CAB]).
pub struct Cabinet;

impl Format for Cabinet {
    fn name(&self) -> &'static str {
        "cab"
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let io = |e: io::Error| Failure::io("can't read", package, e);
        let mut sign = [0; 4];
        if File::open(package).map_err(io)?.read_exact(&mut sign).is_err() || sign != *b"MSCF" {
            return Ok(None);
        }
        let mut cabinet = open(package)?;
        let paths = paths(&cabinet, package)?;
        let mut contents: HashMap<String, ContentHash> = HashMap::new();
        if depth == Depth::Contents {
            let hashed = cabinet.walk(|entry, bytes| {
                let mut hasher = blake3::Hasher::new();
                hasher.update_reader(package.budget.meter(bytes))?;
                contents.insert(entry.name.clone(), ContentHash(*hasher.finalize().as_bytes()));
                Ok::<(), ::cabinet::Error>(())
            });
            hashed.map_err(|e| damaged(package, e))?;
        }
        let file = |(name, (path, entry)): (&String, &(RelPath, Entry))| Node::File {
            path: path.clone(),
            mode: 0o644,
            size: entry.size.into(),
            content: contents.get(name).copied(),
        };
        Ok(Some(Footprint { tree: paths.iter().map(file).collect(), ..Footprint::default() }))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let mut cabinet = open(package)?;
        // The names were counted when it was read.
        let paths = paths(&cabinet, &Package::of_ours(package))?;
        let walked = cabinet.walk(|entry, bytes| match paths.get(&entry.name) {
            Some((path, _)) => visit(path, &mut package.budget.meter(bytes)).map_err(::cabinet::Error::Io),
            None => Ok(()),
        });
        walked.map_err(|e| damaged(package, e))
    }
}

fn open(package: &Package) -> Result<Open<BufReader<File>>, Failure> {
    let file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
    Open::open(BufReader::new(file), Limits::default()).map_err(|e| damaged(package, e))
}

/// The files by their names in the cabinet, with the paths that these are: folders stand before a backslash.
fn paths(cabinet: &Open<BufReader<File>>, package: &Package) -> Result<BTreeMap<String, (RelPath, Entry)>, Failure> {
    let mut all = BTreeMap::new();
    for entry in cabinet.files() {
        package.budget.name(&entry.name).map_err(|e| damaged(package, e))?;
        let path = RelPath::new(entry.name.replace('\\', "/"));
        let path = path.map_err(|why| damaged(package, format!("the name {:?} {why}", entry.name)))?;
        if all.insert(entry.name.clone(), (path, entry.clone())).is_some() {
            return Err(damaged(package, format!("the name {:?} is there twice", entry.name)));
        }
    }
    Ok(all)
}
