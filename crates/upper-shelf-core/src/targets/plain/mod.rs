//! Plain archives. ZIP and tar hold the product's files below one folder; the tar for Linux also has what a desktop
//! reads, and scripts that install and uninstall.

mod scripts;
mod tar;
mod zip;

pub use self::tar::Tar;
pub use self::zip::Zip;

use super::Loss;
use crate::footprint::{Footprint, Identity, Trace};

/// What an archive without a place for anything else keeps: the tree.
fn tree_only(footprint: &Footprint, format: &str) -> (Footprint, Vec<Loss>) {
    let mut losses = Vec::new();
    let mut traces = Vec::new();
    let mut lost = std::collections::BTreeMap::<&str, usize>::new();
    for trace in footprint.traces() {
        match trace {
            Trace::File { path, mode, size, content } => {
                traces.push(Trace::File { path: path.clone(), mode: mode & 0o777, size: *size, content: *content });
            }
            Trace::Folder { .. } | Trace::HardLink { .. } | Trace::Link { .. } => traces.push(trace.clone()),
            Trace::Program { .. }
            | Trace::Shortcut { .. }
            | Trace::FileType { .. }
            | Trace::LinkScheme { .. }
            | Trace::Environment { .. }
            | Trace::Registry { .. }
            | Trace::Service { .. }
            | Trace::Font { .. }
            | Trace::Choice { .. }
            | Trace::Rule { .. }
            | Trace::Icon { .. } => *lost.entry(trace.kind()).or_default() += 1,
        }
    }
    losses.push(Loss {
        what: "the product's identity is left out".into(),
        why: format!("{format} holds files only: nobody can read id, publisher or version from it"),
    });
    for (kind, count) in lost {
        let s = if count == 1 { " is" } else { "s are" };
        losses.push(Loss {
            what: format!("{count} {kind}{s} left out"),
            why: format!("{format} is unpacked, not installed"),
        });
    }
    (Footprint::new(Identity::default(), None, traces), losses)
}

/// The folder that all names of an archive have in common, with its slash.
fn common_top<'n>(mut names: impl Iterator<Item = &'n str>) -> Option<String> {
    let first = names.next()?;
    let top = first.split_once('/').map_or(first, |(top, _)| top);
    let top = format!("{top}/");
    names.all(|n| n.starts_with(&top)).then_some(top)
}
