//! Plain archives. ZIP and tar hold the product's files below one folder; the tar for Linux also has what a desktop
//! reads, and scripts that install and uninstall.

mod guard;
mod scripts;
mod tar;
mod zip;

pub use self::tar::Tar;
pub use self::zip::Zip;

use super::Loss;
use crate::footprint::{Footprint, Node};

/// A node with the permission bits that an archive keeps.
fn plain_mode(node: &Node) -> Node {
    match node {
        Node::File { path, mode, size, content } => {
            Node::File { path: path.clone(), mode: mode & 0o777, size: *size, content: *content }
        }
        Node::Folder { .. } | Node::HardLink { .. } | Node::Link { .. } => node.clone(),
    }
}

/// What an archive without a place for anything else keeps: the tree.
fn tree_only(footprint: &Footprint, format: &str) -> (Footprint, Vec<Loss>) {
    let Footprint {
        // Nobody can read them from it.
        product: _,
        platform: _,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        registry,
        services,
        fonts,
        commands,
        shell_files,
        permissions: _,
        choices,
        icons,
        install,
        bundle,
        // A product of ours has nothing of the kind.
        foreign: _,
    } = footprint;
    let mut losses = vec![Loss {
        what: "the product's identity is left out".into(),
        why: format!("{format} holds files only, so it can't carry the id, publisher or version"),
    }];
    let mut lost = [
        ("choice", choices.len()),
        ("command", commands.len()),
        ("shell file", shell_files.len()),
        ("environment variable", environment.len()),
        ("file type", file_types.len()),
        ("font", fonts.len()),
        ("icon", icons.len()),
        ("link scheme", link_schemes.len()),
        ("program", programs.len()),
        ("registry value", registry.len()),
        ("rule", install.rules().len() + bundle.rules().len()),
        ("service", services.len()),
        ("shortcut", shortcuts.len()),
    ];
    lost.sort_unstable();
    for (kind, count) in lost.into_iter().filter(|(_, count)| *count > 0) {
        let s = if count == 1 { " is" } else { "s are" };
        losses.push(Loss {
            what: format!("{count} {kind}{s} left out"),
            why: format!("{format} is unpacked, not installed"),
        });
    }
    let tree = tree.filter_map(|node| Some(plain_mode(node)));
    (Footprint { tree, ..Footprint::default() }, losses)
}

/// The folder that all names of an archive have in common, with its slash.
fn common_top<'n>(mut names: impl Iterator<Item = &'n str>) -> Option<String> {
    let first = names.next()?;
    let top = first.split_once('/').map_or(first, |(top, _)| top);
    let top = format!("{top}/");
    names.all(|n| n.starts_with(&top)).then_some(top)
}
