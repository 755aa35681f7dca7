//! The tree of names that the writer collects while data streams past it; small, so that it fits into memory for
//! hundreds of thousands of files.

use crate::structs::{NAME_MAX, NONE_32, SYMLINK_MAX};
use crate::{Error, Result};
use std::collections::BTreeMap;

/// Index of a node in [`Tree::nodes`].
pub type NodeId = usize;

/// What an inode says besides its kind and content.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Meta {
    /// Permission bits (the lower twelve).
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Seconds since 1970; `None` is the image's own time.
    pub mtime: Option<u32>,
    /// Extended attributes: full name (`user.…`, `trusted.…`, `security.…`) and value.
    pub xattrs: Vec<(String, Vec<u8>)>,
}

impl Meta {
    /// Owned by root, with these permission bits.
    pub fn file(mode: u16) -> Self {
        Self { mode, ..Self::default() }
    }
}

/// Nodes that are neither folder nor file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Special {
    /// A symbolic link with its target.
    Symlink(Vec<u8>),
    /// A block device with its number as the kernel encodes it.
    BlockDevice(u32),
    /// A character device with its number as the kernel encodes it.
    CharDevice(u32),
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
}

/// Where a file's bytes stand.
#[derive(Debug, Clone, Default)]
pub struct FileData {
    pub start: u64,
    pub size: u64,
    pub sparse: u64,
    pub blocks: Vec<u32>,
    pub fragment: Option<(u32, u32)>,
}

#[derive(Debug)]
pub enum Body {
    Dir(BTreeMap<Box<[u8]>, NodeId>),
    File(FileData),
    Special(Special),
}

#[derive(Debug)]
pub struct Node {
    pub meta: Meta,
    pub body: Body,
    pub nlink: u32,
    /// Set while the tables are written.
    pub number: u32,
    pub reference: u64,
    pub xattr: u32,
    pub parent: NodeId,
}

#[derive(Debug)]
pub struct Tree {
    pub nodes: Vec<Node>,
}

impl Tree {
    pub fn new() -> Self {
        let mut tree = Self { nodes: Vec::new() };
        tree.push(Meta::file(0o755), Body::Dir(BTreeMap::new()), 0);
        tree
    }

    fn push(&mut self, meta: Meta, body: Body, parent: NodeId) -> NodeId {
        self.nodes.push(Node { meta, body, nlink: 1, number: 0, reference: 0, xattr: NONE_32, parent });
        self.nodes.len() - 1
    }

    /// Adds a node; missing parents become folders with mode 0755. A folder may be named again: its metadata is replaced.
    pub fn add(&mut self, path: &[u8], meta: Meta, body: Body) -> Result<NodeId> {
        let bad = |target: &[u8]| target.is_empty() || target.len() > SYMLINK_MAX || target.contains(&0);
        if matches!(&body, Body::Special(Special::Symlink(target)) if bad(target)) {
            return Err(usage(path, "a symbolic link's target has 1 to 4095 bytes, none of them zero"));
        }
        if path.is_empty() && matches!(body, Body::Dir(_)) {
            self.nodes[0].meta = meta;
            return Ok(0);
        }
        let (dir, name) = self.parent_of(path)?;
        if let Some(&there) = self.entries(dir).and_then(|e| e.get(name)) {
            if matches!((&self.nodes[there].body, &body), (Body::Dir(_), Body::Dir(_))) {
                self.nodes[there].meta = meta;
                return Ok(there);
            }
            return Err(usage(path, "the name is already taken"));
        }
        let id = self.push(meta, body, dir);
        self.insert(dir, name, id);
        Ok(id)
    }

    /// A further name for a node that is there already.
    pub fn add_link(&mut self, path: &[u8], to: &[u8]) -> Result<()> {
        let node = self.find(to).ok_or_else(|| usage(to, "a hard link to a name that doesn't exist"))?;
        if matches!(self.nodes[node].body, Body::Dir(_)) {
            return Err(usage(path, "a folder can't have two names"));
        }
        let (dir, name) = self.parent_of(path)?;
        if self.entries(dir).is_some_and(|e| e.contains_key(name)) {
            return Err(usage(path, "the name is already taken"));
        }
        self.insert(dir, name, node);
        self.nodes[node].nlink += 1;
        Ok(())
    }

    pub fn find(&self, path: &[u8]) -> Option<NodeId> {
        path.split(|&b| b == b'/').try_fold(0, |dir, name| self.entries(dir)?.get(name).copied())
    }

    pub fn entries(&self, id: NodeId) -> Option<&BTreeMap<Box<[u8]>, NodeId>> {
        match &self.nodes[id].body {
            Body::Dir(entries) => Some(entries),
            Body::File(_) | Body::Special(_) => None,
        }
    }

    pub fn file_mut(&mut self, id: NodeId) -> &mut FileData {
        match &mut self.nodes[id].body {
            Body::File(data) => data,
            Body::Dir(_) | Body::Special(_) => unreachable!("only files have data under way"),
        }
    }

    fn insert(&mut self, dir: NodeId, name: &[u8], id: NodeId) {
        if let Body::Dir(entries) = &mut self.nodes[dir].body {
            entries.insert(name.into(), id);
        }
    }

    fn parent_of<'n>(&mut self, path: &'n [u8]) -> Result<(NodeId, &'n [u8])> {
        let mut dir = 0;
        let mut names = path.split(|&b| b == b'/').peekable();
        while let Some(name) = names.next() {
            if name.is_empty() || name.len() > NAME_MAX || name == b"." || name == b".." || name.contains(&0) {
                return Err(usage(path, "a path's names have 1 to 256 bytes and are not `.` or `..`"));
            }
            if names.peek().is_none() {
                return Ok((dir, name));
            }
            dir = match self.entries(dir).map(|e| e.get(name).copied()) {
                Some(Some(next)) => next,
                Some(None) => {
                    let made = self.push(Meta::file(0o755), Body::Dir(BTreeMap::new()), dir);
                    self.insert(dir, name, made);
                    made
                }
                None => return Err(usage(path, "a name in the middle of the path is not a folder")),
            };
            if self.entries(dir).is_none() {
                return Err(usage(path, "a name in the middle of the path is not a folder"));
            }
        }
        Err(usage(path, "the path is empty"))
    }

    /// Every folder, each after the folders in it; an own stack, so that depth can't overflow the thread's.
    pub fn folders_inside_out(&self) -> Vec<NodeId> {
        let mut order = Vec::new();
        let mut stack = vec![0];
        while let Some(dir) = stack.pop() {
            order.push(dir);
            let entries = self.entries(dir).into_iter().flatten();
            stack.extend(entries.map(|(_, &id)| id).filter(|&id| self.entries(id).is_some()));
        }
        order.reverse();
        order
    }
}

fn usage(path: &[u8], what: &str) -> Error {
    Error::Usage(format!("{}: {what}", String::from_utf8_lossy(path)))
}
