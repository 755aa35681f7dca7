//! A bundle that was finished before it came here: it is taken as it stands and never broken up.

use crate::footprint::{Node, RelPath};
use crate::problem::{Code, Problem};
use crate::targets::Job;
use std::collections::BTreeSet;

/// The file beside a finished bundle, on the volume, with what its own property list has no room for. The system does not
/// show it.
pub const BESIDE: &str = ".upper-shelf.plist";
/// The folder of the bundle that a property list belongs to.
pub(crate) fn of(path: &RelPath) -> Option<&str> {
    let folder = path.as_str().strip_suffix("/Contents/Info.plist")?;
    (folder.ends_with(".app") && !folder.contains('/')).then_some(folder)
}

/// The folder of the finished bundle at the top, such as `Combwright.app`.
pub fn folder(tree: &[Node]) -> Option<&str> {
    tree.iter().find_map(|n| if let Node::File { path, .. } = n { of(path) } else { None })
}

/// A seal's file, below a bundle's folder.
pub(crate) const SEAL: &str = "/Contents/_CodeSignature/CodeResources";

/// Whether the finished bundle at the top was signed.
pub fn is_sealed(tree: &[Node]) -> bool {
    let Some(top) = folder(tree) else { return false };
    tree.iter().any(|node| node.path().as_str().strip_prefix(top) == Some(SEAL))
}

/// What speaks against a finished bundle.
pub(super) fn check(job: &Job) -> Vec<Problem> {
    let tree = &job.footprint.tree;
    let Some(top) = folder(tree) else { return Vec::new() };
    let mut problems = Vec::new();
    let beside: BTreeSet<&str> =
        tree.iter().filter_map(|node| node.path().as_str().split('/').next()).filter(|name| *name != top).collect();
    for name in beside {
        let problem = Problem::error(Code::FinishedBundle, format!("{name} lies next to the finished bundle {top}"));
        let problem = problem.why("a finished bundle is used as it is: nothing is added to it, or next to it");
        problems.push(problem.instead(format!("drop = [\"{name}\"] in the layer, or build the bundle with it inside")));
    }
    problems
}
