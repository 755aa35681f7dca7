//! Whether every program finds its libraries, as the system's loader looks for them: `@executable_path` is the folder of
//! the program that was started, `@loader_path` that of the file that names the library, and `@rpath` the run paths of
//! that file and of those that led to it. Source: Apple, dyld(1).

use super::code::is_of_the_system;
use crate::footprint::RelPath;
use crate::problem::{Code, Problem};
use mach_o::{FileKind, Slice};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};

/// A library's path in the payload, from the folder of the file that names it; nothing for one outside of it.
fn inside(path: &str, from: &str) -> Option<String> {
    let mut parts: Vec<&str> = if from.is_empty() { Vec::new() } else { from.split('/').collect() };
    // Beside the product's folder there are only those with a place of their own.
    let mut is_beside = false;
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." if is_beside => return None,
            ".." => is_beside = parts.pop().is_none(),
            name if is_beside && !super::OWN_PLACES.contains(&name) => return None,
            name => {
                is_beside = false;
                parts.push(name);
            }
        }
    }
    (!is_beside).then(|| parts.join("/"))
}

/// So many places are named.
const MOST_PLACES: usize = 6;

/// Places, each once, and not too many of them.
fn listed(places: &[String]) -> String {
    let mut seen = BTreeSet::new();
    let all: Vec<&str> = places.iter().map(String::as_str).filter(|place| seen.insert(*place)).collect();
    match all.len() {
        0 => "nowhere".to_owned(),
        n if n > MOST_PLACES => format!("{} and {} more places", all[..MOST_PLACES].join(", "), n - MOST_PLACES),
        _ => all.join(", "),
    }
}

/// A run path, and the folder of the file that has it.
type RunPath<'c> = (&'c str, String);

/// Where a library is looked for in the payload, by its path as a file in `folder` names it; nothing for a path of the
/// machine that built it. `programs` are folders that a program may be started from.
fn candidates(library: &str, folder: &str, programs: &[String], run_paths: &[RunPath]) -> Option<Vec<String>> {
    let from = |path: &str, folder: &str| -> Option<Vec<Option<String>>> {
        match path.split_once('/').unwrap_or((path, "")) {
            ("@loader_path", rest) => Some(vec![inside(rest, folder)]),
            ("@executable_path", rest) => Some(programs.iter().map(|p| inside(rest, p)).collect()),
            _ => None,
        }
    };
    let found = match library.strip_prefix("@rpath/") {
        None => from(library, folder)?,
        Some(rest) => {
            let places = run_paths.iter().filter_map(|(path, folder)| from(path, folder)).flatten().flatten();
            places.map(|place| inside(rest, &place)).collect()
        }
    };
    Some(found.into_iter().flatten().collect())
}

/// The path of a file after the links on the way to it.
fn behind_links(path: &str, links: &HashMap<&str, &str>) -> Option<String> {
    let mut path = path.to_owned();
    for _ in 0..40 {
        let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
        let Some((end, target)) = ends.into_iter().find_map(|end| Some((end, *links.get(&path[..end])?))) else {
            return Some(path);
        };
        let folder = path[..end].rsplit_once('/').map_or("", |(folder, _)| folder);
        path = inside(&format!("{target}{}", &path[end..]), folder)?;
    }
    None
}

fn folder_of(path: &RelPath) -> String {
    path.parent().map_or(String::new(), |p| p.as_str().to_owned())
}

/// What a walk over the payload's code needs.
struct Walk<'c> {
    code: HashMap<&'c str, (&'c RelPath, &'c mach_o::File)>,
    paths: &'c BTreeSet<&'c str>,
    links: &'c HashMap<&'c str, &'c str>,
    /// By file and library, so that a fault is said once.
    problems: BTreeMap<(String, String), Problem>,
}

impl<'c> Walk<'c> {
    /// Looks for the libraries of one part of a file; gives those that were found.
    fn look(
        &mut self,
        path: &RelPath,
        slice: &'c Slice,
        programs: &[String],
        run_paths: &[RunPath<'c>],
        started: Option<&RelPath>,
    ) -> Vec<&'c str> {
        let mut found = Vec::new();
        for library in slice.libraries.iter().filter(|l| !is_of_the_system(&l.path)) {
            let places = candidates(&library.path, &folder_of(path), programs, run_paths);
            let there = places.iter().flatten().find_map(|place| {
                let file = behind_links(place, self.links)?;
                self.paths.get(file.as_str()).copied()
            });
            if let Some(there) = there {
                found.push(there);
                continue;
            }
            if library.optional {
                continue;
            }
            let problem = Problem::error(Code::MissingLibrary, format!("{path} loads {}", library.path));
            let problem = match places {
                Some(places) => {
                    let places = listed(&places);
                    let when = match started.filter(|s| *s != path) {
                        Some(program) => format!(" when {program} is started"),
                        None => String::new(),
                    };
                    let why = format!("no such file is in the payload; it is looked for in: {places}{when}");
                    problem.why(why).instead("add a layer that contains the library")
                }
                None => {
                    let name = library.path.rsplit('/').next().unwrap_or_default();
                    let problem = problem.why("this path exists only on the machine that built it");
                    problem.instead(format!("include the library, and refer to it as @rpath/{name}"))
                }
            };
            self.problems.entry((path.to_string(), library.path.clone())).or_insert(problem);
        }
        found
    }

    /// Everything that is loaded when a program starts, in the loader's order.
    fn start(&mut self, program: &'c RelPath, slice: &'c Slice, reached: &mut HashSet<&'c str>) {
        let programs = [folder_of(program)];
        let mut waiting: VecDeque<(&'c RelPath, &'c Slice, Vec<RunPath<'c>>)> = VecDeque::new();
        waiting.push_back((program, slice, Vec::new()));
        let mut seen: HashSet<&str> = [program.as_str()].into();
        while let Some((path, slice, mut run_paths)) = waiting.pop_front() {
            reached.insert(path.as_str());
            run_paths.extend(slice.search_paths.iter().map(|p| (p.as_str(), folder_of(path))));
            for there in self.look(path, slice, &programs, &run_paths, Some(program)) {
                if let Some((path, code)) = self.code.get(there).copied()
                    && let Some(next) = code.slices.iter().find(|s| s.processor.0 == slice.processor.0)
                    && seen.insert(there)
                {
                    waiting.push_back((path, next, run_paths.clone()));
                }
            }
        }
    }
}

/// What would not be found. `paths` are all of the payload's, `links` where its links lead.
pub(super) fn check<'c>(
    code: &[(&'c RelPath, &'c mach_o::File)],
    paths: &'c BTreeSet<&'c str>,
    links: &'c HashMap<&'c str, &'c str>,
) -> Vec<Problem> {
    let by_path = code.iter().map(|(path, file)| (path.as_str(), (*path, *file))).collect();
    let mut walk = Walk { code: by_path, paths, links, problems: BTreeMap::new() };
    let mut reached = HashSet::new();
    let mut programs = BTreeSet::new();
    for (path, file) in code {
        for slice in file.slices.iter().filter(|s| s.kind == FileKind::Program) {
            programs.insert(folder_of(path));
            walk.start(path, slice, &mut reached);
        }
    }
    // What a program loads while it runs is led to by whatever it is: by its own run paths, or anybody's.
    let run_paths: BTreeSet<RunPath> = code
        .iter()
        .flat_map(|(path, file)| {
            file.slices.iter().flat_map(|s| &s.search_paths).map(|p| (p.as_str(), folder_of(path)))
        })
        .collect();
    let run_paths: Vec<RunPath> = run_paths.into_iter().collect();
    for (path, file) in code.iter().filter(|(path, _)| !reached.contains(path.as_str())) {
        let mut from: Vec<String> = programs.iter().cloned().collect();
        from.extend([String::new(), folder_of(path)]);
        for slice in &file.slices {
            walk.look(path, slice, &from, &run_paths, None);
        }
    }
    walk.problems.into_values().collect()
}
