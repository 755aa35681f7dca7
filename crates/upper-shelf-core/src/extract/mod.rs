//! From a package to a folder: the product's files as [`targets::read`] lists them. Nothing is written outside the
//! folder, whatever a package says: names that the system would take for something else are refused, and so is
//! everything that would pass through a link of the package's own.

mod tree;

use crate::budget::Package;
use crate::footprint::{Footprint, Node, RelPath};
use crate::payload::gather::patterns;
use crate::payload::names;
use crate::platform::System;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::targets::{self, Depth, Format, Loss, damaged};
use globset::GlobSet;
use safe_names::Fault;
use serde::Serialize;
use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};
use tree::Tree;

/// What was extracted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Extracted {
    /// Where.
    pub folder: PathBuf,
    /// Files, with the further names of some.
    pub files: u64,
    /// Their bytes; a file with several names counts once.
    pub bytes: u64,
    /// What was not made.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<Loss>,
}

/// Writes the files of a package that fit one of the patterns (all, if there is none) into a folder, which must not be
/// there yet or be empty. It appears whole or not at all. The package may take `limit` times as much as is usual.
///
/// # Errors
/// [`Kind::Package`] for a damaged or hostile package, [`Kind::Problems`] for a malformed pattern, one that nothing fits,
/// or a folder with something in it; [`Kind::Machine`] for trouble with the disk.
pub fn extract(package: &Path, into: &Path, only: &[String], limit: u64) -> Result<Extracted, Failure> {
    let chosen = if only.is_empty() { None } else { Some(pattern_set(only)?) };
    let (format, footprint) = targets::read(package, Depth::Listing, limit)?;
    if fs::read_dir(into).is_ok_and(|mut d| d.next().is_some()) || into.is_file() {
        let problem = Problem::error(Code::DestinationExists, format!("{} already exists", into.display())).on(into);
        let problem = problem.why("nothing in it is overwritten").instead("choose a new or empty folder");
        return Err(Failure::new(Kind::Problems, problem));
    }
    // Looked at before anything is left out: what a package says as a whole tells whether it means harm.
    if let Some(why) = hostile(&footprint, &systems_of(format), format.slashes_only()) {
        return Err(damaged(package, why));
    }
    let is_chosen = |node: &Node| chosen.as_ref().is_none_or(|set| set.is_match(node.path().as_str()));
    let tree = footprint.tree.filter_map(|node| is_chosen(node).then(|| node.clone()));
    let footprint = Footprint { tree, ..Footprint::default() };
    if let Some(only) = chosen.is_some().then_some(only).filter(|_| footprint.tree.is_empty()) {
        let problem =
            Problem::error(Code::NoMatch, format!("nothing in {} matches {}", package.display(), only.join(", ")))
                .on(package);
        return Err(Failure::new(Kind::Problems, problem.instead("`upper-shelf inspect` lists the content")));
    }
    let package = Package::new(package, limit);
    let sizes = footprint.tree.iter().map(|node| if let Node::File { size, .. } = node { *size } else { 0 });
    let bytes = sizes.fold(0, u64::saturating_add);
    package.budget.room_for_plain(bytes).map_err(|e| damaged(&package, e.to_string()))?;
    let mut tree = Tree::begin(into)?;
    tree.fill(&package, format, &footprint)?;
    tree.finish(into, &footprint)
}

fn pattern_set(only: &[String]) -> Result<GlobSet, Failure> {
    patterns(only)
        .map_err(|why| Failure::new(Kind::Problems, Problem::error(Code::InvalidValue, why).instead("--only '*.dll'")))
}

/// The systems whose names a package may have: the one that its files are for, if the format says so, and the one that
/// they are put onto.
fn systems_of(format: &dyn Format) -> Vec<System> {
    [System::here()].iter().chain(format.systems()).copied().collect()
}

/// What in a package would not land where its name says, if anything would not.
fn hostile(footprint: &Footprint, systems: &[System], slashes_only: bool) -> Option<String> {
    // Links of one name: letters count as they do on the disks where they count least.
    let folded = |path: &str| path.to_lowercase();
    let links: HashSet<String> = footprint
        .tree
        .iter()
        .filter_map(|n| if let Node::Link { path, .. } = n { Some(folded(path.as_str())) } else { None })
        .collect();
    for path in footprint.tree.iter().map(Node::path) {
        for name in path.as_str().split('/') {
            // A ZIP's separator is the slash on every system (APPNOTE 4.4.17.1): a backslash is there to deceive.
            let fault = systems.iter().find_map(|s| names::fault(name, *s));
            let fault = fault.or_else(|| (slashes_only && name.contains('\\')).then_some(Fault::Character('\\')));
            if let Some(why) = fault {
                return Some(format!("the name {:?} is refused: {why}", path.as_str()));
            }
        }
        if let Some(link) = through(path, &links, folded) {
            return Some(format!("{path} is behind the link {link}, so it would be written elsewhere"));
        }
    }
    None
}

/// The link among the folders above a path, if one is.
fn through(path: &RelPath, links: &HashSet<String>, folded: impl Fn(&str) -> String) -> Option<String> {
    if links.is_empty() {
        return None;
    }
    let path = path.as_str();
    let above = path.match_indices('/').map(|(at, _)| &path[..at]);
    above.into_iter().find(|a| links.contains(&folded(a))).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::settings::TargetName;

    fn of(entries: &[(&str, Option<&str>)]) -> Footprint {
        let tree = entries.iter().map(|(path, target)| {
            let path = RelPath::new(*path).expect("a path");
            match target {
                Some(target) => Node::Link { path, target: (*target).to_owned() },
                None => Node::File { path, mode: 0o644, size: 0, content: None },
            }
        });
        Footprint { tree: tree.collect(), ..Footprint::default() }
    }

    #[test]
    fn what_lies_behind_a_link_is_refused_whatever_the_case_of_its_letters() {
        for (link, path) in [("a/l", "a/l/x"), ("A/L", "a/l/x/y"), ("l", "L/x")] {
            let said = hostile(&of(&[(link, Some("../..")), (path, None)]), &[System::Linux], false);
            assert!(said.as_deref().is_some_and(|s| s.contains("behind the link")), "{said:?}");
        }
        assert_eq!(hostile(&of(&[("a/l", Some("b")), ("a/b", None), ("a/lx", None)]), &[System::Linux], false), None);
    }

    #[test]
    fn names_of_windows_are_judged_wherever_this_runs() {
        for name in [r"..\..\x", r"C:\x", "x:stream", "a/nul.txt", "a./b", "b /c", "COM¹"] {
            let of = of(&[(name, None)]);
            assert!(hostile(&of, &[System::Windows], false).is_some(), "{name:?}");
            assert_eq!(hostile(&of, &[System::Linux], false), None, "{name:?} is a name like any other there");
        }
        assert!(systems_of(targets::target(TargetName::Msi)).contains(&System::Windows));
        assert!(systems_of(targets::target(TargetName::Nsis)).contains(&System::Windows));
    }
}
