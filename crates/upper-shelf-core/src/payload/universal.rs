//! Programs for all of macOS' processors: where layers bring the same program for one processor each, it becomes one for
//! all of them.

use super::{Payload, Source, Stamp};
use crate::problem::{Code, Problem};
use mach_o::Processor;
use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The processors that a file is for; none if it is no code.
fn processors(path: &Path) -> Vec<Processor> {
    let file = File::open(path).ok().and_then(|f| mach_o::read(&f).ok().flatten());
    file.map(|f| f.slices.iter().map(|s| s.processor).collect()).unwrap_or_default()
}

/// Joins what layers bring for one processor each. What is for the same one, or is no code, stays as the last layer has
/// it. Gives what is wrong.
pub fn join(payload: &mut Payload) -> Vec<Problem> {
    let mut under: BTreeMap<_, Vec<(PathBuf, Stamp)>> = BTreeMap::new();
    for (path, source, stamp) in std::mem::take(&mut payload.under) {
        under.entry(path).or_default().push((source, stamp));
    }
    let mut problems = Vec::new();
    for file in &mut payload.files {
        let Some(below) = under.remove(&file.path) else { continue };
        let Source::Disk(top, stamp) = &file.source else { continue };
        let mut there = processors(top);
        let mut parts = vec![(top.clone(), *stamp)];
        // The last layer counts most.
        for (path, stamp) in below.into_iter().rev() {
            let more = processors(&path);
            if !there.is_empty() && !more.is_empty() && more.iter().all(|p| !there.contains(p)) {
                there.extend(more);
                parts.push((path, stamp));
            }
        }
        if parts.len() == 1 {
            continue;
        }
        let open = |(path, _): &(PathBuf, Stamp)| File::open(path).map_err(mach_o::Error::from);
        let size = parts.iter().map(open).collect::<mach_o::Result<Vec<_>>>().and_then(|f| mach_o::joined_size(&f));
        match size {
            Ok(size) => {
                let old = std::mem::replace(&mut file.size, size);
                file.source = Source::Joined(parts.into());
                if let Some(share) = payload.shares.get_mut(file.layer) {
                    share.bytes = share.bytes - old + size;
                }
            }
            Err(e) => {
                let problem =
                    Problem::error(Code::Program, format!("the program {} can't be made universal", file.path))
                        .why(e.to_string());
                problems.push(problem.instead("merge it beforehand, and put it into one layer"));
            }
        }
    }
    problems
}

/// The parts, open, in their order; an error says which one is not what it was.
pub fn parts(parts: &Arc<[(PathBuf, Stamp)]>) -> Result<Vec<File>, (PathBuf, std::io::Error)> {
    let open = |(path, stamp): &(PathBuf, Stamp)| {
        let opened = File::open(path).and_then(|file| {
            let now = Stamp::of(&file.metadata()?);
            if now == *stamp { Ok(file) } else { Err(std::io::Error::other("it has changed")) }
        });
        opened.map_err(|e| (path.clone(), e))
    };
    parts.iter().map(open).collect()
}
