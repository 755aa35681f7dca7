//! Trees, read: the chain of leaves for what they hold, and single nodes for the checker.

use super::fork::{Place, Span};
use crate::structs::{NodeHead, TreeHead};
use crate::{Error, Result};
use read_at::ReadAt;
use zerocopy::FromBytes;

/// A tree's first node, and where its nodes are.
pub struct Tree {
    /// The first record of its first node.
    pub head: TreeHead,
    place: Place,
    name: &'static str,
}

/// One node's bytes with what it begins with.
pub struct Node {
    /// Its number.
    pub number: u32,
    /// What it begins with.
    pub head: NodeHead,
    bytes: Vec<u8>,
    offset: u64,
}

fn u16_at(bytes: &[u8], at: usize) -> Option<usize> {
    Some(usize::from(u16::from_be_bytes(bytes.get(at..at + 2)?.try_into().ok()?)))
}

impl Node {
    /// A record, whole.
    ///
    /// # Errors
    /// [`Error::Format`] where offsets lead out of the node or backwards.
    pub fn record(&self, n: u16) -> Result<&[u8]> {
        let length = self.bytes.len();
        let at = |n: usize| length.checked_sub(2 * (n + 1)).and_then(|at| u16_at(&self.bytes, at));
        let (from, to) = (at(usize::from(n)), at(usize::from(n) + 1));
        let range = from.zip(to).filter(|(from, to)| {
            let table = length - 2 * (usize::from(self.head.records.get()) + 1);
            size_of::<NodeHead>() <= *from && from < to && *to <= table
        });
        let (from, to) = range
            .ok_or_else(|| Error::format(self.offset, format!("record {n} of node {} has no place", self.number)))?;
        Ok(&self.bytes[from..to])
    }

    /// A record's key, without its length, and what it leads to.
    ///
    /// # Errors
    /// [`Error::Format`] for a key that ends behind its record.
    pub fn pair(&self, n: u16) -> Result<(&[u8], &[u8])> {
        let record = self.record(n)?;
        let length = u16_at(record, 0).unwrap_or(usize::MAX);
        let end = length.saturating_add(2).min(usize::MAX - 1);
        let key = record.get(2..end);
        // What follows stands at an even offset.
        let data = record.get(end + end % 2..);
        key.zip(data).ok_or_else(|| {
            Error::format(
                self.offset,
                format!("the key of record {n} of node {} is longer than the record", self.number),
            )
        })
    }

    /// Where the node stands, bytes from the volume's start.
    pub fn offset(&self) -> u64 {
        self.offset
    }
}

impl Tree {
    /// Opens the tree whose bytes are there.
    pub(super) fn open<R: ReadAt>(source: &R, place: Place, name: &'static str) -> Result<Self> {
        let at = place.offset(0);
        let mut bytes = [0; 14 + size_of::<TreeHead>()];
        place.read_exact(source, 0, &mut bytes)?;
        let head = TreeHead::read_from_bytes(&bytes[14..]).map_err(|_| Error::format(at, "no tree"))?;
        let node = u64::from(head.node_size.get());
        if !node.is_power_of_two() || !(512..=32768).contains(&node) {
            return Err(Error::format(at, format!("the {name} has nodes of {node} bytes")));
        }
        if u64::from(head.nodes.get()) * node > place.size {
            return Err(Error::format(at, format!("the {name} has {} nodes and no room for them", head.nodes.get())));
        }
        Ok(Self { head, place, name })
    }

    /// One node.
    ///
    /// # Errors
    /// [`Error::Format`] for a number that the tree does not have.
    pub fn node<R: ReadAt>(&self, source: &R, number: u32) -> Result<Node> {
        let size = usize::from(self.head.node_size.get());
        let at = u64::from(number) * size as u64;
        if number >= self.head.nodes.get() {
            let why = format!("the {} has no node {number}", self.name);
            return Err(Error::format(self.place.offset(0), why));
        }
        let mut bytes = vec![0; size];
        self.place.read_exact(source, at, &mut bytes)?;
        let head = NodeHead::read_from_prefix(&bytes).expect("a node is longer than its header").0;
        let offset = self.place.offset(at);
        if 2 * (usize::from(head.records.get()) + 1) + size_of::<NodeHead>() > size {
            return Err(Error::format(offset, format!("node {number} of the {} has too many records", self.name)));
        }
        Ok(Node { number, head, bytes, offset })
    }

    /// Goes through all leaves in their order.
    ///
    /// # Errors
    /// [`Error::Format`] for a chain that leads back or to something else; else as `visit`.
    pub fn leaves<R: ReadAt>(&self, source: &R, mut visit: impl FnMut(&[u8], &[u8], u64) -> Result<()>) -> Result<()> {
        let (mut next, mut seen) = (self.head.first_leaf.get(), 0);
        while next != 0 {
            let node = self.node(source, next)?;
            seen += 1;
            if node.head.kind != -1 || seen > self.head.nodes.get() {
                return Err(Error::format(node.offset, format!("the leaves of the {} don't form a chain", self.name)));
            }
            for n in 0..node.head.records.get() {
                let (key, data) = node.pair(n)?;
                visit(key, data, node.offset)?;
            }
            next = node.head.next.get();
        }
        Ok(())
    }

    /// What the tree is called in messages.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// Where its bytes are.
    pub fn spans(&self) -> &[Span] {
        &self.place.spans
    }
}
