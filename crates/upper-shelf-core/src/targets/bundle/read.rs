//! A bundle's files, read back as the product's own.

use super::finished::BESIDE;
use super::{CODE, DATA, OWN_PLACES, list};
use crate::footprint::{Footprint, Node, Program, RelPath};
use std::collections::HashMap;

/// Something in a package with a bundle in it.
pub struct Member {
    /// Its path in the package.
    pub path: String,
    /// What it is.
    pub kind: MemberKind,
    /// Permission bits.
    pub mode: u32,
}

/// What it is.
pub enum MemberKind {
    /// A folder.
    Folder,
    /// A file of so many bytes.
    File(u64),
    /// A link and where it leads.
    Link(String),
}

/// How a package's paths become the product's own.
pub struct Reading {
    /// `Combwright.app`.
    top: String,
    /// Whether it is one of ours, whose payload can be told from the rest.
    ours: Option<HashMap<String, ()>>,
    /// What the property list says.
    said: Option<list::Said>,
    /// The file of ours that only starts a program.
    launcher: Option<String>,
    /// Whether the bundle came finished, and is the payload as it stands.
    finished: bool,
}

/// The property list's path, if there is exactly one bundle at the top; ours beside it, if it came finished.
pub fn list_of(nodes: &[Member]) -> Option<String> {
    if nodes.iter().any(|n| n.path == BESIDE) {
        return Some(BESIDE.into());
    }
    let mut found =
        nodes.iter().filter_map(|n| n.path.strip_suffix(".app/Contents/Info.plist")).filter(|t| !t.contains('/'));
    let top = found.next()?;
    found.next().is_none().then(|| format!("{top}.app/Contents/Info.plist"))
}

impl Reading {
    /// Of a package's nodes, and the bytes of its property list, if it has one.
    pub fn new(nodes: &[Member], info: Option<(&str, &[u8])>) -> Self {
        let mut top = info.and_then(|(path, _)| path.split('/').next()).unwrap_or_default().to_owned();
        let said = info.and_then(|(_, bytes)| list::read(bytes));
        let mut ours = None;
        let mut launcher = None;
        if top == BESIDE {
            let is_bundle = |n: &&Member| n.path.ends_with(".app") && !n.path.contains('/');
            top = nodes.iter().find(is_bundle).map(|n| n.path.clone()).unwrap_or_default();
            let finished = said.as_ref().is_some_and(|s| s.is_ours);
            return Self { top, ours: finished.then(HashMap::new), said, launcher, finished };
        }
        if let Some(said) = said.as_ref().filter(|s| s.is_ours) {
            // What lies among the data, and is stood for by a link.
            let prefix = format!("{top}/{CODE}/");
            let mut moved = HashMap::new();
            for node in nodes {
                let Some(path) = node.path.strip_prefix(&prefix) else { continue };
                let up = "../".repeat(path.matches('/').count() + 1);
                let is_own = OWN_PLACES.contains(&path);
                if matches!(&node.kind, MemberKind::Link(target)
                    if *target == format!("{up}Resources/{path}") || is_own && *target == format!("{up}{path}"))
                {
                    moved.insert(path.to_owned(), ());
                }
            }
            ours = Some(moved);
            let is_program = |p: &Program| Some(p.file.as_str()) == said.executable.as_deref();
            launcher = said.executable.clone().filter(|_| !said.programs.iter().any(is_program));
        }
        Self { top, ours, said, launcher, finished: false }
    }

    /// Whether it is a bundle that we wrote.
    pub fn is_ours(&self) -> bool {
        self.ours.is_some()
    }

    /// The product's own path of a node; nothing for what belongs to the package alone.
    pub fn own(&self, node: &Member) -> Option<RelPath> {
        let Some(moved) = &self.ours else { return RelPath::new(node.path.as_str()).ok() };
        if self.finished {
            let is_inside = node.path.strip_prefix(&self.top).is_some_and(|p| p.is_empty() || p.starts_with('/'));
            return is_inside.then(|| RelPath::new(node.path.as_str()).ok()).flatten();
        }
        let inside = node.path.strip_prefix(&self.top)?.strip_prefix('/')?;
        if let Some(path) = inside.strip_prefix(CODE).and_then(|p| p.strip_prefix('/')) {
            let stands_for = moved.contains_key(path) || self.launcher.as_deref() == Some(path);
            return (!stands_for).then(|| RelPath::new(path).ok()).flatten();
        }
        let beside = inside.strip_prefix("Contents/").unwrap_or_default();
        let folder = beside.split('/').next().unwrap_or_default();
        if OWN_PLACES.contains(&folder) && moved.contains_key(folder) {
            return RelPath::new(beside).ok();
        }
        let path = inside.strip_prefix(DATA)?.strip_prefix('/')?;
        // It is the product's if it, or a folder around it, has been moved here.
        let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
        ends.into_iter().any(|end| moved.contains_key(&path[..end])).then(|| RelPath::new(path).ok()).flatten()
    }

    /// The footprint; `content` gives a file's hash, if hashes are wanted.
    ///
    /// # Errors
    /// As `content`.
    pub fn footprint<E>(
        self,
        nodes: &[Member],
        mut content: impl FnMut(usize) -> Result<Option<crate::content::ContentHash>, E>,
    ) -> Result<Footprint, E> {
        let mut tree = Vec::new();
        for (n, node) in nodes.iter().enumerate() {
            let Some(path) = self.own(node) else { continue };
            let mode = node.mode & 0o777;
            tree.push(match &node.kind {
                MemberKind::Folder => Node::Folder { path, mode },
                MemberKind::Link(target) => Node::Link { path, target: target.clone() },
                MemberKind::File(size) => Node::File { path, mode, size: *size, content: content(n)? },
            });
        }
        let Some(said) = self.said else { return Ok(Footprint { tree: tree.into(), ..Footprint::default() }) };
        let mut footprint = said.footprint();
        footprint.tree = tree.into();
        if self.ours.is_none() {
            // Another maker's bundle stands below its folder.
            footprint.programs = footprint.programs.filter_map(|program| {
                let below = RelPath::new(format!("{}/{}", self.top, program.file));
                Some(Program { file: below.unwrap_or_else(|_| program.file.clone()), ..program.clone() })
            });
        }
        Ok(footprint)
    }
}
