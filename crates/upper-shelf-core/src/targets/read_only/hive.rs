//! A part of the Windows registry in a file of its own, by itself or in a package.

use super::super::{Depth, Format, Visit, damaged};
use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Node, RegistryEntry, RegistryRoot, RegistryValue, RegistryView};
use crate::platform::System;
use crate::problem::Failure;
use registry_hive::{Key, Limits, Value, kind};
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
        Ok(Some(Footprint { tree, registry: entries(&root).into_iter().collect(), ..Footprint::default() }))
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
pub(super) fn limits(package: &Package) -> Limits {
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

/// The values in a hive. In packages the first keys say whose part of the registry it is.
pub(super) fn entries(root: &Key) -> Vec<RegistryEntry> {
    let mut all = Vec::new();
    let parts = [(&["REGISTRY", "MACHINE"][..], RegistryRoot::Machine), (&["REGISTRY", "USER"], RegistryRoot::User)];
    let mut found = false;
    for (path, part) in parts {
        for key in root.find(path).into_iter().flat_map(|key| &key.keys) {
            found = true;
            collect(key, "", part, &mut all);
        }
    }
    if !found {
        root.keys.iter().for_each(|key| collect(key, "", RegistryRoot::Installed, &mut all));
    }
    all
}

fn collect(key: &Key, above: &str, root: RegistryRoot, all: &mut Vec<RegistryEntry>) {
    let path = if above.is_empty() { key.name.clone() } else { format!("{above}\\{}", key.name) };
    for value in &key.values {
        let name = Some(value.name.clone()).filter(|name| !name.is_empty());
        let (view, value) = (RegistryView::Own, value_of(value));
        all.push(RegistryEntry { root, view, key: path.clone(), name, value });
    }
    key.keys.iter().for_each(|key| collect(key, &path, root, all));
}

fn value_of(value: &Value) -> RegistryValue {
    let bytes = || RegistryValue::Bytes(value.data.iter().map(|byte| format!("{byte:02x}")).collect());
    match value.kind {
        kind::SZ => value.text().map_or_else(bytes, RegistryValue::Text),
        kind::EXPAND_SZ => value.text().map_or_else(bytes, RegistryValue::Expandable),
        kind::MULTI_SZ => value.texts().map_or_else(bytes, RegistryValue::List),
        kind::DWORD => value.number().and_then(|n| u32::try_from(n).ok()).map_or_else(bytes, RegistryValue::Number),
        _ => bytes(),
    }
}
