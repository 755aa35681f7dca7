//! Whose the libraries are, where a system's list of packages says so, and on which terms they may be passed on.

use super::{Chosen, Libraries, on_disk};
use crate::footprint::RelPath;
use crate::payload::Source;
use std::collections::{BTreeMap, HashMap};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};

/// The texts of licences of the packages that files came from, on systems that have Debian's list of packages (`dpkg`, Debian Policy 12.5).
pub fn of(tables: &[Libraries], chosen: &[Chosen]) -> Vec<Chosen> {
    let mut roots: BTreeMap<PathBuf, HashMap<String, usize>> = BTreeMap::new();
    for one in chosen {
        let Source::Disk(path, _) = &one.source else { continue };
        let Ok(path) = path.canonicalize() else { continue };
        let Some(root) = path.ancestors().find(|up| up.join("var/lib/dpkg/info").is_dir()) else { continue };
        let Some(inside) = path.strip_prefix(root).ok().and_then(Path::to_str) else { continue };
        roots.entry(root.to_path_buf()).or_default().insert(format!("/{inside}"), one.table);
    }
    let mut found: BTreeMap<String, Chosen> = BTreeMap::new();
    for (root, files) in roots {
        let lists = std::fs::read_dir(root.join("var/lib/dpkg/info")).into_iter().flatten().flatten();
        let mut lists: Vec<PathBuf> = lists.map(|entry| entry.path()).collect();
        lists.sort();
        for list in lists.iter().filter(|list| list.extension().is_some_and(|ending| ending == "list")) {
            let name = list.file_stem().and_then(|name| name.to_str()).unwrap_or_default();
            let name = name.split(':').next().unwrap_or_default();
            let Ok(lines) = std::fs::File::open(list) else { continue };
            let lines = BufReader::new(lines).lines().map_while(Result::ok);
            // Where `/lib` leads to `/usr/lib`, the list may name either.
            let table =
                lines.filter_map(|line| files.get(&line).or_else(|| files.get(&format!("/usr{line}"))).copied());
            let Some(table) = table.min() else { continue };
            let text = root.join("usr/share/doc").join(name).join("copyright");
            let into = tables[table].into.as_ref().and_then(RelPath::parent);
            let place = super::below(into.as_ref(), &format!("licences/{name}.txt"));
            let Some(file) = place.and_then(|place| on_disk(&text, place, 0).ok()) else { continue };
            found.entry(name.to_owned()).or_insert(Chosen {
                path: file.path,
                table,
                source: file.source,
                size: file.size,
                mode: 0o644,
                why: format!("the licence of {name}"),
                native: None,
            });
        }
    }
    found.into_values().collect()
}
