//! How libraries find what came along with them, where they don't look beside themselves.

use super::rules::rules;
use super::work::native;
use super::{Chosen, below};
use crate::footprint::{EnvironmentAction, RelPath, Variable, relative};
use crate::payload::{Payload, Source};
use crate::platform::{Platform, System};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// A list of libraries by their names alone: what stands in quotes and ends as libraries do loses its folders.
pub fn by_name(text: &str) -> String {
    let part = |(n, part): (usize, &str)| match n % 2 == 1 && part.starts_with('/') && part.ends_with(".so") {
        true => part.rsplit('/').next().unwrap_or(part).to_owned(),
        false => part.to_owned(),
    };
    let line = |line: &str| match line.starts_with('#') {
        // Comments name folders of the machine that wrote the list.
        true => None,
        false => Some(line.split('"').enumerate().map(part).collect::<Vec<_>>().join("\"") + "\n"),
    };
    text.lines().filter_map(line).collect()
}

/// Variables by which libraries find what came along: those that are set, and those that get a folder in front.
pub fn variables(
    platform: Platform,
    trees: &BTreeMap<&'static str, String>,
    chosen: &[Chosen],
) -> (BTreeMap<String, String>, Vec<Variable>) {
    let (mut set, mut before): (BTreeMap<String, String>, Vec<Variable>) = (BTreeMap::new(), Vec::new());
    if platform.system() != System::Linux {
        return (set, before);
    }
    for rule in &rules().set {
        let is_used = chosen.iter().any(|one| rule.is_about(one.path.name()));
        let (tree, file) = rule.rest[0].split_once('/').unwrap_or((rule.rest[0], ""));
        let Some(folder) = trees.get(tree).filter(|_| is_used) else { continue };
        if !chosen.iter().any(|one| one.path.as_str().starts_with(&format!("{folder}/"))) {
            continue;
        }
        let mut parts: Vec<&str> = folder.split('/').collect();
        for part in file.split('/').filter(|part| !part.is_empty()) {
            match part {
                ".." => parts.truncate(parts.len().saturating_sub(1)),
                part => parts.push(part),
            }
        }
        let value = if parts.is_empty() { "{install}".to_owned() } else { format!("{{install}}/{}", parts.join("/")) };
        match rule.tree.strip_prefix('+') {
            Some(name) if before.iter().any(|one| one.name == name) => {}
            Some(name) => {
                let name = name.to_owned();
                before.push(Variable { name, action: EnvironmentAction::Prepend, value });
            }
            None => drop(set.insert(rule.tree.to_owned(), value)),
        }
    }
    (set, before)
}

/// Files beside programs in which these find the folders of what came along.
pub fn configurations(payload: &Payload, chosen: &[Chosen], trees: &BTreeMap<&'static str, String>) -> Vec<Chosen> {
    let mut keys: BTreeMap<&'static str, &String> = BTreeMap::new();
    for rule in &rules().conf {
        let used = chosen.iter().any(|one| rule.is_about(one.path.name()));
        if let Some(folder) = trees.get(rule.tree).filter(|_| used) {
            keys.insert(rule.rest[0], folder);
        }
    }
    if keys.is_empty() {
        return Vec::new();
    }
    let mut folders: BTreeSet<Option<RelPath>> = BTreeSet::new();
    for file in &payload.files {
        let is_program = file.path.as_str().ends_with(".exe") || file.mode & 0o111 != 0;
        if is_program && native(file).is_some() {
            folders.insert(file.path.parent());
        }
    }
    let conf = |folder: Option<RelPath>| {
        let here = folder.as_ref().map_or("", RelPath::as_str);
        let lines: String = keys.iter().map(|(key, tree)| format!("{key} = {}\n", relative(here, tree))).collect();
        let text = format!("[Paths]\nPrefix = .\n{lines}");
        Some(Chosen {
            path: below(folder.as_ref(), "qt.conf")?,
            table: 0,
            size: text.len() as u64,
            source: Source::Memory(Arc::from(text.into_bytes())),
            mode: 0o644,
            why: "programs find by it what came along".to_owned(),
            native: None,
        })
    };
    folders.into_iter().filter_map(conf).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_name_libraries_without_their_folders() {
        let list = "# made by /usr/bin/query\n\"/usr/lib/x/loaders/libpixbufloader-svg.so\"\n\"svg\" 6 \"gdk-pixbuf\" \"/art\" \"LGPL\"\n\"\"\n";
        assert_eq!(by_name(list), "\"libpixbufloader-svg.so\"\n\"svg\" 6 \"gdk-pixbuf\" \"/art\" \"LGPL\"\n\"\"\n");
    }
}
