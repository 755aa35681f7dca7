//! Lets programs and libraries of Linux find what came along.

use super::{Chosen, Libraries, Native, problem};
use crate::footprint::{RelPath, relative};
use crate::payload::{Payload, Source};
use crate::problem::{Code, Problem};
use std::collections::HashSet;

/// Has every program and library look into the folders of what it needs, relative to its own. A library that came along does so by itself
/// only if it names folders; all others look where the program does.
pub fn rewrite(tables: &[Libraries], payload: &mut Payload, chosen: &mut [Chosen]) -> Vec<Problem> {
    let mut problems = Vec::new();
    let folders: Vec<Option<&RelPath>> = tables.iter().map(|table| table.into.as_ref()).collect();
    let name = |path: &RelPath| path.name().to_owned();
    // Who needs one of them, itself or through others of the payload.
    let mut names: HashSet<String> =
        chosen.iter().filter(|one| one.native.is_some()).map(|one| name(&one.path)).collect();
    let own: Vec<(usize, Native)> =
        payload.files.iter().enumerate().filter_map(|(n, file)| Some((n, super::work::native(file)?))).collect();
    let mut users: HashSet<usize> = HashSet::new();
    loop {
        let more = own
            .iter()
            .filter(|(n, native)| !users.contains(n) && native.needed.iter().any(|needed| names.contains(needed)));
        let more: Vec<usize> = more.map(|(n, _)| *n).collect();
        if more.is_empty() {
            break;
        }
        for n in more {
            users.insert(n);
            names.insert(name(&payload.files[n].path));
        }
    }
    let mut change = |path: &RelPath, source: &mut Source, size: &mut u64, native: &Native| {
        let wanted = run_path(path, &folders, native.run_path.as_deref());
        let changed = source
            .open()
            .map_err(|e| e.to_string())
            .and_then(|bytes| elf_image::with_run_path(&bytes, &wanted).map_err(|e| e.to_string()));
        match changed {
            Ok(over) => {
                *size = over.size();
                *source = Source::Changed(Box::new(source.clone()), over);
            }
            Err(why) => problems.push(
                problem(&tables[0], Code::LibraryPart, format!("{path} can't be told where its libraries are"))
                    .why(why)
                    .instead("a program that is linked with a run path of its own: -Wl,-rpath,'$ORIGIN/../lib'"),
            ),
        }
    };
    for (n, native) in &own {
        if users.contains(n) {
            let file = &mut payload.files[*n];
            let before = file.size;
            change(&file.path.clone(), &mut file.source, &mut file.size, native);
            if let Some(share) = payload.shares.get_mut(file.layer) {
                share.bytes = share.bytes + file.size - before;
            }
        }
    }
    for one in chosen {
        if let Some(native) = one.native.clone().filter(|native| native.run_path.is_some()) {
            change(&one.path, &mut one.source, &mut one.size, &native);
        }
    }
    problems
}

/// The folders that a file looks into: its own ones that move with it, and those of the libraries.
fn run_path(path: &RelPath, folders: &[Option<&RelPath>], old: Option<&str>) -> String {
    let mut all: Vec<String> = Vec::new();
    let moving =
        old.unwrap_or_default().split(':').filter(|part| part.starts_with("$ORIGIN") || part.starts_with("${ORIGIN}"));
    all.extend(moving.map(str::to_owned));
    for folder in folders {
        let way = relative(path.parent().as_ref().map_or("", RelPath::as_str), folder.map_or("", RelPath::as_str));
        let one = if way == "." { "$ORIGIN".to_owned() } else { format!("$ORIGIN/{way}") };
        if !all.contains(&one) {
            all.push(one);
        }
    }
    all.join(":")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_path_keeps_what_moves_with_the_file() {
        let path = |text: &str| RelPath::new(text).expect("a path");
        let lib = path("opt/lib");
        assert_eq!(run_path(&path("bin/hive"), &[Some(&lib), None], None), "$ORIGIN/../opt/lib:$ORIGIN/..");
        assert_eq!(
            run_path(&path("hive"), &[Some(&lib), None], Some("/build/lib:$ORIGIN/own")),
            "$ORIGIN/own:$ORIGIN/opt/lib:$ORIGIN"
        );
        assert_eq!(run_path(&path("opt/lib/libwax.so"), &[Some(&lib)], Some("$ORIGIN")), "$ORIGIN");
        assert_eq!(relative("a/b/c", "a/d"), "../../d");
    }
}
