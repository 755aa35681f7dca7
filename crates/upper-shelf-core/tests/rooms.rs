//! The rooms of the core (its top modules) use each other in one direction: data flows from the manifest to the packages,
//! and nothing reaches back. The graph is drawn from the sources.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

type Graph = BTreeMap<String, BTreeSet<String>>;

fn sources(folder: &Path, all: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, all);
        } else if path.extension().is_some_and(|e| e == "rs") {
            all.push(path);
        }
    }
}

/// The first name of each path that begins with `crate::`, and of each one in a group behind it.
fn used(source: &str) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    let is_letter = |c: char| c.is_alphanumeric() || c == '_';
    for (at, _) in source.match_indices("crate::") {
        if source[..at].ends_with(|c: char| is_letter(c) || c == '$') {
            continue;
        }
        let rest = &source[at + "crate::".len()..];
        let group = rest.strip_prefix('{').and_then(|group| group.split_once('}')).map(|(group, _)| group);
        for path in group.unwrap_or(rest.split(|c: char| !is_letter(c)).next().unwrap_or_default()).split(',') {
            names.insert(path.trim().split(|c: char| !is_letter(c)).next().unwrap_or_default().to_owned());
        }
    }
    names
}

fn graph() -> Graph {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut all = Vec::new();
    sources(&src, &mut all);
    let room = |path: &Path| {
        let first = path.strip_prefix(&src).expect("inside").iter().next().expect("a name").to_string_lossy();
        first.trim_end_matches(".rs").to_owned()
    };
    let rooms: BTreeSet<String> = all.iter().map(|path| room(path)).filter(|r| r != "lib").collect();
    let mut graph: Graph = rooms.iter().map(|r| (r.clone(), BTreeSet::new())).collect();
    for path in all.iter().filter(|path| room(path) != "lib") {
        let text = fs::read_to_string(path).expect("a source");
        // Tests at a file's end may look anywhere; comments say what they like.
        let code = text.split("#[cfg(test)]\nmod").next().unwrap_or_default();
        let code: String =
            code.lines().map(|l| l.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n");
        let from = room(path);
        // What the crate names at its top lives in one room.
        let to = used(&code)
            .into_iter()
            .map(|n| if ["Failure", "Kind", "Problem"].contains(&n.as_str()) { "problem".into() } else { n });
        graph.get_mut(&from).expect("a room").extend(to.filter(|to| *to != from && rooms.contains(to)));
    }
    graph
}

/// Rooms that are left when those that use nothing else are taken away, again and again.
fn circles(mut graph: Graph) -> Graph {
    loop {
        let done: Vec<String> = graph.iter().filter(|(_, uses)| uses.is_empty()).map(|(r, _)| r.clone()).collect();
        if done.is_empty() {
            return graph;
        }
        for room in done {
            graph.remove(&room);
            graph.values_mut().for_each(|uses| _ = uses.remove(&room));
        }
    }
}

#[test]
fn no_room_uses_one_that_uses_it() {
    let left = circles(graph());
    assert!(left.is_empty(), "these rooms use each other in a circle: {left:#?}");
}

#[test]
fn data_flows_from_the_manifest_to_the_packages() {
    let graph = graph();
    let uses = |from: &str, to: &str| graph[from].contains(to);
    assert!(!uses("manifest", "targets") && !uses("targets", "manifest"), "they meet in `settings` and `footprint`");
    assert!(uses("layout", "manifest") && uses("targets", "footprint") && uses("packaging", "layout"), "{graph:#?}");
    assert!(graph["footprint"].iter().all(|r| r == "platform" || r == "content"), "{:?}", graph["footprint"]);
}

#[test]
fn a_circle_is_found() {
    let of = |pairs: &[(&str, &str)]| {
        let mut graph = Graph::new();
        for (from, to) in pairs {
            graph.entry((*to).into()).or_default();
            graph.entry((*from).into()).or_default().insert((*to).into());
        }
        graph
    };
    assert!(circles(of(&[("a", "b"), ("b", "c"), ("a", "c")])).is_empty());
    let left = circles(of(&[("a", "b"), ("b", "c"), ("c", "b"), ("c", "d")]));
    assert_eq!(left.keys().collect::<Vec<_>>(), ["a", "b", "c"]);
    assert_eq!(
        used("use crate::{Problem, a::B};\ncrate::c::d(); $crate::e; mycrate::f"),
        ["Problem", "a", "c"].map(str::to_owned).into()
    );
}

/// A published crate has its own folder and nothing else: whatever a source takes in lies there.
#[test]
fn no_crate_takes_in_a_file_of_another() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the repository");
    let mut seen = 0;
    for group in ["crates", "formats"] {
        for folder in fs::read_dir(root.join(group)).expect("a folder").flatten().map(|entry| entry.path()) {
            let mut all = Vec::new();
            sources(&folder.join("src"), &mut all);
            for source in all.iter().filter(|_| !folder.ends_with("test-support")) {
                let text = fs::read_to_string(source).expect("a source");
                let starts = ["include_bytes!(\"", "include_bytes!(concat!(\"", "include_str!(\""];
                for (at, start) in starts.iter().flat_map(|start| text.match_indices(start)) {
                    let name = text[at + start.len()..].split('"').next().unwrap_or_default();
                    let path = source.parent().expect("a folder").join(name).canonicalize();
                    let path = path.unwrap_or_else(|e| panic!("{source:?} takes in {name}: {e}"));
                    assert!(path.starts_with(&folder), "{source:?} takes in {name}");
                    seen += 1;
                }
            }
        }
    }
    assert!(seen > 10, "{seen} files are taken in");
}
