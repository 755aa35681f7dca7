//! A part of the Windows registry in a file of its own, by itself or in a package.

use super::super::{Depth, Format, Visit, damaged};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Node};
use crate::platform::System;
use crate::problem::Failure;
use crate::targets::msix::entries;
use registry_hive::Limits;
use std::fs::File;
use std::io::Read;

/// Registry hives.
pub struct Hive;

/// The longest hive that is read.
const LONGEST: u64 = 512 << 20;

impl Format for Hive {
    fn name(&self) -> &'static str {
        "registry hive"
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        let Some(bytes) = bytes(package)? else { return Ok(None) };
        let size = bytes.len() as u64;
        let root = registry_hive::read_within(&bytes, limits(package)).map_err(|e| damaged(package, e))?;
        let content = (depth == Depth::Contents).then(|| ContentHash::of(&bytes));
        let path = super::own_path(package)?;
        let tree = vec![Node::File { path, mode: 0o644, size, content }].into();
        Ok(Some(Footprint { tree, registry: entries(&root, false).into_iter().collect(), ..Footprint::default() }))
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        let io = |e: std::io::Error| Failure::io("can't read", package, e);
        visit(&super::own_path(package)?, &mut package.budget.meter(File::open(package).map_err(io)?)).map_err(io)
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        let bytes = bytes(package)?.unwrap_or_default();
        registry_hive::check(&bytes).map_err(|e| damaged(package, e))
    }
}

/// What of a hive is read, by a package's budget.
pub fn limits(package: &Package) -> Limits {
    Limits { items: package.budget.most_names(), bytes: package.budget.metadata_left() }
}

fn bytes(package: &Package) -> Result<Option<Vec<u8>>, Failure> {
    let io = |e: std::io::Error| Failure::io("can't read", package, e);
    let mut file = File::open(package).map_err(io)?;
    let mut bytes = vec![0; 4];
    if file.read_exact(&mut bytes).is_err() || bytes != b"regf" {
        return Ok(None);
    }
    if file.metadata().map_err(io)?.len() > LONGEST {
        return Err(damaged(package, format!("it is longer than {} MiB", LONGEST >> 20)));
    }
    file.take(LONGEST).read_to_end(&mut bytes).map_err(io)?;
    Ok(Some(bytes))
}
