//! A first look at what programs of Linux need, before there is a manifest.

use super::folders::{Folders, index};
use super::rules::rules;
use super::work::triplet;
use crate::platform::{Platform, System};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

/// Libraries that files need and that are neither among these nor on every machine, each with the first file that needs it.
pub fn unmet(files: &[(&str, &Path)]) -> BTreeMap<String, String> {
    let names: HashSet<&str> = files.iter().map(|(name, _)| name.rsplit('/').next().unwrap_or(name)).collect();
    let mut all = BTreeMap::new();
    for (name, path) in files {
        let Ok(file) = std::fs::File::open(path) else { continue };
        let Ok(Some(linking)) = elf_image::read(&file) else { continue };
        for needed in linking.needed {
            if !names.contains(needed.as_str()) && !rules().is_everywhere(System::Linux, &needed) {
                all.entry(needed).or_insert_with(|| (*name).to_owned());
            }
        }
    }
    all
}

/// Whether this machine has all of these for a platform.
pub fn are_here<'n>(names: impl Iterator<Item = &'n String>, platform: Platform) -> bool {
    if triplet(platform).is_none() || !cfg!(target_os = "linux") {
        return false;
    }
    // Those of another processor lie in other folders; what lies in all others is this machine's own.
    let is_own = cfg!(target_arch = "x86_64") == (platform == Platform::LinuxX64);
    let folders = Folders::new(Path::new("/"), triplet(platform)).libraries;
    let folders =
        folders.iter().filter(|folder| is_own || triplet(platform).is_some_and(|name| folder.ends_with(name)));
    let here: BTreeSet<String> = folders.flat_map(|folder| index(folder, str::to_owned).into_keys()).collect();
    names.into_iter().all(|name| here.contains(name))
}
