//! Trees, from the root down: order of keys, chains, depths, the map of nodes.

use super::Findings;
use crate::Result;
use crate::name::order;
use crate::read::{Node, Tree, Volume};
use crate::structs::SIGNATURE_X;
use read_at::ReadAt;
use std::cmp::Ordering;

/// How the keys of a tree are sorted.
type Compare = fn(&[u8], &[u8]) -> Ordering;

fn u32_at(key: &[u8], at: usize) -> u32 {
    key.get(at..at + 4).map_or(0, |b| u32::from_be_bytes([b[0], b[1], b[2], b[3]]))
}

fn name_at(key: &[u8], at: usize) -> Vec<u16> {
    key.get(at..).and_then(crate::read::units).unwrap_or_default()
}

fn of_catalog(a: &[u8], b: &[u8]) -> Ordering {
    u32_at(a, 0).cmp(&u32_at(b, 0)).then_with(|| order(&name_at(a, 4), &name_at(b, 4)))
}

fn of_catalog_exact(a: &[u8], b: &[u8]) -> Ordering {
    u32_at(a, 0).cmp(&u32_at(b, 0)).then_with(|| name_at(a, 4).cmp(&name_at(b, 4)))
}

fn of_attributes(a: &[u8], b: &[u8]) -> Ordering {
    let key = |k: &[u8]| (u32_at(k, 2), name_at(k, 10), u32_at(k, 6));
    key(a).cmp(&key(b))
}

fn of_extents(a: &[u8], b: &[u8]) -> Ordering {
    let key = |k: &[u8]| (u32_at(k, 2), k.first().copied(), u32_at(k, 6));
    key(a).cmp(&key(b))
}

struct Walk<'w, 'f, R: ReadAt> {
    volume: &'w Volume<R>,
    tree: &'w Tree,
    compare: Compare,
    findings: &'f mut Findings,
    used: Vec<bool>,
    /// The last node seen at each height, and what it calls the next one.
    last: Vec<(u32, u32)>,
    leaf_records: u32,
    first_leaf: u32,
}

impl<R: ReadAt> Walk<'_, '_, R> {
    fn fault(&mut self, what: impl std::fmt::Display) {
        self.findings.add(format!("{}: {what}", self.tree.name()));
    }

    /// Looks at one node and all below it; gives its first key.
    fn node(&mut self, number: u32, height: u16) -> Result<Option<Vec<u8>>> {
        let node = self.tree.node(&self.volume.source, number)?;
        if std::mem::replace(&mut self.used[number as usize], true) {
            self.fault(format_args!("two paths lead to node {number}"));
            return Ok(None);
        }
        let is_leaf = height == 1;
        if node.head.kind != if is_leaf { -1 } else { 0 } || u16::from(node.head.height) != height {
            self.fault(format_args!("node {number} doesn't have the type or height of its place"));
            return Ok(None);
        }
        self.siblings(&node, height);
        if node.head.records.get() == 0 {
            self.fault(format_args!("node {number} is empty"));
        }
        let mut before: Option<Vec<u8>> = None;
        let mut first = None;
        for n in 0..node.head.records.get() {
            let (key, data) = node.pair(n)?;
            if key.len() > usize::from(self.tree.head.longest_key.get()) {
                self.fault(format_args!("a key of node {number} is too long"));
            }
            if before.as_deref().is_some_and(|b| (self.compare)(b, key) != Ordering::Less) {
                self.fault(format_args!("record {n} of node {number} is not in order"));
            }
            if is_leaf {
                self.leaf_records += 1;
            } else {
                let child = u32_at(data, 0);
                let child = if child == 0 { None } else { self.node(child, height - 1)? };
                if child.as_deref() != Some(key) {
                    self.fault(format_args!(
                        "record {n} of node {number} doesn't have the first key of the node below it"
                    ));
                }
            }
            first.get_or_insert_with(|| key.to_vec());
            before = Some(key.to_vec());
        }
        Ok(first)
    }

    fn siblings(&mut self, node: &Node, height: u16) {
        let at = usize::from(height);
        let (before, next_of_it) = self.last[at];
        if node.head.previous.get() != before || (before != 0 && next_of_it != node.number) {
            self.fault(format_args!("node {} isn't linked to the one before it", node.number));
        }
        if height == 1 && before == 0 {
            self.first_leaf = node.number;
        }
        self.last[at] = (node.number, node.head.next.get());
    }
}

/// The map of nodes: a bit for each; first in the tree's first node, then in nodes of its own.
fn map<R: ReadAt>(volume: &Volume<R>, tree: &Tree, used: &mut [bool], findings: &mut Findings) -> Result<Vec<bool>> {
    let mut bits = Vec::new();
    let mut number = 0;
    loop {
        let node = tree.node(&volume.source, number)?;
        let kind = if number == 0 { 1 } else { 2 };
        if node.head.kind != kind || std::mem::replace(&mut used[number as usize], true) {
            findings.add(format!("{}: the node map continues in node {number}, which has another use", tree.name()));
            break;
        }
        let record = node.record(if number == 0 { 2 } else { 0 })?;
        bits.extend(record.iter().flat_map(|byte| (0..8).map(move |n| byte & (0x80 >> n) != 0)));
        number = node.head.next.get();
        if number == 0 {
            break;
        }
    }
    Ok(bits)
}

/// Looks at a whole tree.
pub fn check<R: ReadAt>(volume: &Volume<R>, tree: &Tree, findings: &mut Findings) -> Result<()> {
    let head = &tree.head;
    let is_exact = volume.header.signature.get() == SIGNATURE_X && head.compare == 0xBC;
    let compare: Compare = match tree.name() {
        "catalog" if is_exact => of_catalog_exact,
        "catalog" => of_catalog,
        "extents tree" => of_extents,
        _ => of_attributes,
    };
    let depth = head.depth.get();
    if depth > 16 {
        findings.add(format!("{}: {depth} levels", tree.name()));
        return Ok(());
    }
    let mut walk = Walk {
        volume,
        tree,
        compare,
        findings,
        used: vec![false; head.nodes.get() as usize],
        last: vec![(0, 0); usize::from(depth) + 1],
        leaf_records: 0,
        first_leaf: 0,
    };
    if depth > 0 {
        walk.node(head.root.get(), depth)?;
    } else if head.root.get() != 0 {
        walk.fault("it has a root and no levels");
    }
    for height in 1..=usize::from(depth) {
        if walk.last[height].1 != 0 {
            walk.fault(format_args!("the last node at height {height} is followed by another"));
        }
    }
    let (records, first, last) = (walk.leaf_records, walk.first_leaf, walk.last.get(1).map_or(0, |l| l.0));
    let mut used = walk.used;
    let name = tree.name();
    findings.same(&format!("{name}: records in leaves"), head.leaf_records.get(), records);
    findings.same(&format!("{name}: the first leaf"), head.first_leaf.get(), first);
    findings.same(&format!("{name}: the last leaf"), head.last_leaf.get(), last);
    let bits = map(volume, tree, &mut used, findings)?;
    let free = used.iter().filter(|u| !**u).count() as u32;
    findings.same(&format!("{name}: free nodes"), head.free_nodes.get(), free);
    if bits.len() < used.len() {
        findings.add(format!("{name}: the map has no bits for some nodes"));
    }
    if let Some(n) = used.iter().zip(&bits).position(|(a, b)| a != b) {
        findings.add(format!("{name}: the map is wrong for node {n}"));
    }
    if bits.iter().skip(used.len()).any(|b| *b) {
        findings.add(format!("{name}: the map has bits for nodes that don't exist"));
    }
    Ok(())
}
