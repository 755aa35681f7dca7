//! Trees, built from sorted records upwards: leaves in a row, then each level of index nodes over the one below.

use crate::structs::{NodeHead, TreeHead};
use std::io::{self, Write};
use std::ops::Range;
use zerocopy::byteorder::big_endian::{U16, U32};
use zerocopy::{FromZeros, IntoBytes};

/// A key with its length in front, and what it leads to.
pub type Record = (Vec<u8>, Vec<u8>);

const HEAD: usize = size_of::<NodeHead>();
/// Where the map of nodes begins in the first node.
pub const MAP_AT: usize = HEAD + size_of::<TreeHead>() + 128;

/// What a tree is told about itself.
#[derive(Clone, Copy)]
pub struct Shape {
    /// Bytes of a node.
    pub node: usize,
    /// The longest key, without its length.
    pub longest_key: u16,
    /// See [`TreeHead::attributes`].
    pub attributes: u32,
}

/// The nodes of one level, made one after the other: as many records in each as fit.
struct Level<I> {
    records: I,
    /// The record that had no room in the last node.
    next: Option<Record>,
    node: usize,
    kind: i8,
    height: u8,
}

impl<I: Iterator<Item = Record>> Level<I> {
    fn new(mut records: I, node: usize, kind: i8, height: u8) -> Self {
        let next = records.next();
        Self { records, next, node, kind, height }
    }
}

impl<I: Iterator<Item = Record>> Iterator for Level<I> {
    /// The node's first key and its bytes, which do not know their neighbours yet.
    type Item = Record;

    fn next(&mut self) -> Option<Record> {
        let (first, mut data) = self.next.take()?;
        let mut key = first.clone();
        let mut bytes = Vec::with_capacity(self.node);
        bytes.resize(HEAD, 0);
        let mut places: Vec<u16> = Vec::new();
        loop {
            places.push(bytes.len() as u16);
            bytes.extend(key);
            bytes.extend(data);
            let Some(next) = self.records.next() else { break };
            if bytes.len() + next.0.len() + next.1.len() + 2 * (places.len() + 2) > self.node {
                self.next = Some(next);
                break;
            }
            (key, data) = next;
        }
        let head = NodeHead {
            next: U32::ZERO,
            previous: U32::ZERO,
            kind: self.kind,
            height: self.height,
            records: U16::new(places.len() as u16),
            reserved: U16::ZERO,
        };
        bytes[..HEAD].copy_from_slice(head.as_bytes());
        places.push(bytes.len() as u16);
        bytes.resize(self.node - 2 * places.len(), 0);
        places.iter().rev().for_each(|p| bytes.extend(p.to_be_bytes()));
        Some((first, bytes))
    }
}

/// Tells a node of a row who stands before it and behind it.
fn join(bytes: &mut [u8], at: u32, row: &Range<u32>) {
    let next = if at + 1 < row.end { at + 1 } else { 0 };
    let previous = if at > row.start { at - 1 } else { 0 };
    bytes[..4].copy_from_slice(&next.to_be_bytes());
    bytes[4..8].copy_from_slice(&previous.to_be_bytes());
}

/// A tree whose every node has its number. The leaves, which are nearly all of it, are made again when it is written.
pub struct Tree {
    shape: Shape,
    /// The first node: the tree's head and the map.
    first: Vec<u8>,
    leaves: Range<u32>,
    /// Index nodes and further nodes of the map.
    rest: Vec<Vec<u8>>,
}

impl Tree {
    /// Records come sorted; each has to fit into a node with two others. Only their lengths and keys count here.
    pub fn new(records: impl Iterator<Item = Record>, shape: Shape) -> Self {
        let Shape { node, longest_key, attributes } = shape;
        let mut head = TreeHead::new_zeroed();
        let mut count = 0u32;
        let mut keys: Vec<Vec<u8>> =
            Level::new(records.inspect(|_| count += 1), node, -1, 1).map(|(key, _)| key).collect();
        head.leaf_records = U32::new(count);
        let leaves = 1..1 + keys.len() as u32;
        let mut row = leaves.clone();
        let mut rest: Vec<Vec<u8>> = Vec::new();
        let mut depth = u16::from(!keys.is_empty());
        if depth > 0 {
            (head.first_leaf, head.last_leaf) = (U32::new(row.start), U32::new(row.end - 1));
        }
        while keys.len() > 1 {
            depth += 1;
            let pointers = keys.into_iter().zip(row.clone()).map(|(key, at)| (key, at.to_be_bytes().to_vec()));
            let (above, mut nodes): (_, Vec<_>) = Level::new(pointers, node, 0, depth as u8).unzip();
            keys = above;
            row = row.end..row.end + keys.len() as u32;
            row.clone().zip(&mut nodes).for_each(|(at, bytes)| join(bytes, at, &row));
            rest.extend(nodes);
        }
        head.root = U32::new(if depth > 0 { row.start } else { 0 });
        head.depth = U16::new(depth);
        head.node_size = U16::new(node as u16);
        head.longest_key = U16::new(longest_key);
        head.clump = U32::new(node as u32);
        head.attributes = U32::new(attributes);

        // The map has a bit for each node; where the first node has no more room, nodes of their own go on with it.
        let in_first = (node - MAP_AT - 8) * 8;
        // A multiple of four bytes, as all tools expect.
        let in_map = (node - HEAD - 6) * 8;
        let without_maps = row.end as usize;
        let mut maps = 0;
        while without_maps + maps > in_first + maps * in_map {
            maps += 1;
        }
        let total = without_maps + maps;
        head.nodes = U32::new(total as u32);
        let bits = |from: usize, bits: usize| {
            let mut map = vec![0u8; bits / 8];
            (from..total.min(from + bits)).for_each(|n| map[(n - from) / 8] |= 0x80 >> ((n - from) % 8));
            map
        };
        let mut first = node_with_map(node, 1, if maps > 0 { without_maps as u32 } else { 0 });
        first[10..12].copy_from_slice(&3u16.to_be_bytes());
        first[HEAD..][..size_of::<TreeHead>()].copy_from_slice(head.as_bytes());
        first[MAP_AT..][..in_first / 8].copy_from_slice(&bits(0, in_first));
        for (n, at) in [HEAD, HEAD + size_of::<TreeHead>(), MAP_AT, node - 8].into_iter().enumerate() {
            first[node - 2 * (n + 1)..][..2].copy_from_slice(&(at as u16).to_be_bytes());
        }
        for n in 0..maps {
            let next = if n + 1 < maps { (without_maps + n + 1) as u32 } else { 0 };
            let mut map = node_with_map(node, 2, next);
            map[10..12].copy_from_slice(&1u16.to_be_bytes());
            map[HEAD..][..in_map / 8].copy_from_slice(&bits(in_first + n * in_map, in_map));
            map[node - 2..].copy_from_slice(&(HEAD as u16).to_be_bytes());
            map[node - 4..node - 2].copy_from_slice(&((HEAD + in_map / 8) as u16).to_be_bytes());
            rest.push(map);
        }
        Self { shape, first, leaves, rest }
    }

    /// Bytes of all nodes.
    pub fn size(&self) -> u64 {
        (1 + self.leaves.len() + self.rest.len()) as u64 * self.shape.node as u64
    }

    /// Writes the nodes. The records are those that it was made from, with the same keys and lengths.
    ///
    /// # Errors
    /// The medium's.
    pub fn write(&self, records: impl Iterator<Item = Record>, out: &mut impl Write) -> io::Result<()> {
        out.write_all(&self.first)?;
        for (at, (_, mut bytes)) in self.leaves.clone().zip(Level::new(records, self.shape.node, -1, 1)) {
            join(&mut bytes, at, &self.leaves);
            out.write_all(&bytes)?;
        }
        self.rest.iter().try_for_each(|bytes| out.write_all(bytes))
    }
}

fn node_with_map(node: usize, kind: i8, next: u32) -> Vec<u8> {
    let mut bytes = vec![0; node];
    bytes[..4].copy_from_slice(&next.to_be_bytes());
    bytes[8] = kind as u8;
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_map_that_the_first_node_has_no_room_for_goes_on_in_nodes_of_its_own() {
        let record = |n: u32| ([&[0, 4][..], &n.to_be_bytes()].concat(), vec![7; 100]);
        let shape = Shape { node: 512, longest_key: 4, attributes: 6 };
        let tree = Tree::new((0..9000).map(record), shape);
        let mut bytes = Vec::new();
        tree.write((0..9000).map(record), &mut bytes).expect("written");
        assert_eq!(bytes.len() as u64, tree.size());
        let nodes = bytes.len() / 512;
        let u32_at = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().expect("four"));
        let (mut set, mut at, mut maps) = (bytes[MAP_AT..504].iter().map(|b| b.count_ones()).sum::<u32>(), 0, 0);
        while u32_at(at) != 0 {
            at = u32_at(at) as usize * 512;
            assert_eq!(bytes[at + 8], 2, "a node of the map");
            maps += 1;
            set += bytes[at + HEAD..at + 508].iter().map(|b| b.count_ones()).sum::<u32>();
        }
        assert!(maps >= 1);
        assert_eq!(set as usize, nodes);
        assert_eq!(u32_at(HEAD + 22) as usize, nodes, "nodes in the tree's head");
    }
}
