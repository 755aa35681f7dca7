//! Trees, built from sorted records upwards: leaves in a row, then each level of index nodes over the one below.

use crate::structs::{NodeHead, TreeHead};
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

struct Level {
    nodes: Vec<Vec<u8>>,
    /// The first key of each node.
    keys: Vec<Vec<u8>>,
}

/// The nodes of one level: as many records in each as fit.
fn level(records: impl Iterator<Item = Record>, node: usize, kind: i8, height: u8) -> Level {
    let mut level = Level { nodes: Vec::new(), keys: Vec::new() };
    let mut bytes = Vec::new();
    let mut places: Vec<u16> = Vec::new();
    let mut finish = |bytes: &mut Vec<u8>, places: &mut Vec<u16>| {
        let head = NodeHead {
            next: U32::ZERO,
            previous: U32::ZERO,
            kind,
            height,
            records: U16::new(places.len() as u16),
            reserved: U16::ZERO,
        };
        bytes[..HEAD].copy_from_slice(head.as_bytes());
        places.push(bytes.len() as u16);
        bytes.resize(node - 2 * places.len(), 0);
        places.iter().rev().for_each(|p| bytes.extend(p.to_be_bytes()));
        places.clear();
        level.nodes.push(std::mem::take(bytes));
    };
    for (key, data) in records {
        if !places.is_empty() && bytes.len() + key.len() + data.len() + 2 * (places.len() + 2) > node {
            finish(&mut bytes, &mut places);
        }
        if places.is_empty() {
            bytes.resize(HEAD, 0);
            level.keys.push(key.clone());
        }
        places.push(bytes.len() as u16);
        bytes.extend(key);
        bytes.extend(data);
    }
    if !places.is_empty() {
        finish(&mut bytes, &mut places);
    }
    level
}

/// A whole tree, as its nodes. Records come sorted; each has to fit into a node with two others.
pub fn tree(records: impl Iterator<Item = Record>, shape: Shape) -> Vec<Vec<u8>> {
    let Shape { node, longest_key, attributes } = shape;
    let mut head = TreeHead::new_zeroed();
    let mut count = 0u32;
    let leaves = level(records.inspect(|_| count += 1), node, -1, 1);
    head.leaf_records = U32::new(count);
    let mut nodes: Vec<Vec<u8>> = vec![Vec::new()];
    let mut below = leaves;
    let mut depth = 0;
    while !below.nodes.is_empty() {
        depth += 1;
        let (first, n) = (nodes.len() as u32, below.nodes.len() as u32);
        for (at, mut bytes) in (first..).zip(below.nodes) {
            let next = if at + 1 < first + n { at + 1 } else { 0 };
            let previous = if at > first { at - 1 } else { 0 };
            bytes[..4].copy_from_slice(&next.to_be_bytes());
            bytes[4..8].copy_from_slice(&previous.to_be_bytes());
            nodes.push(bytes);
        }
        if depth == 1 {
            (head.first_leaf, head.last_leaf) = (U32::new(first), U32::new(first + n - 1));
        }
        if n == 1 {
            head.root = U32::new(first);
            break;
        }
        let pointers = below.keys.into_iter().zip(first..).map(|(key, at)| (key, at.to_be_bytes().to_vec()));
        below = level(pointers, node, 0, depth as u8 + 1);
    }
    head.depth = U16::new(depth);
    head.node_size = U16::new(node as u16);
    head.longest_key = U16::new(longest_key);
    head.clump = U32::new(node as u32);
    head.attributes = U32::new(attributes);

    // The map has a bit for each node; where the first node has no more room, nodes of their own go on with it.
    let in_first = (node - MAP_AT - 8) * 8;
    // A multiple of four bytes, as all tools expect.
    let in_map = (node - HEAD - 6) * 8;
    let mut maps = 0;
    while nodes.len() + maps > in_first + maps * in_map {
        maps += 1;
    }
    let total = nodes.len() + maps;
    head.nodes = U32::new(total as u32);
    let bits = |from: usize, bits: usize| {
        let mut map = vec![0u8; bits / 8];
        (from..total.min(from + bits)).for_each(|n| map[(n - from) / 8] |= 0x80 >> ((n - from) % 8));
        map
    };
    let mut first = node_with_map(node, 1, if maps > 0 { nodes.len() as u32 } else { 0 });
    first[10..12].copy_from_slice(&3u16.to_be_bytes());
    first[HEAD..][..size_of::<TreeHead>()].copy_from_slice(head.as_bytes());
    first[MAP_AT..][..in_first / 8].copy_from_slice(&bits(0, in_first));
    for (n, at) in [HEAD, HEAD + size_of::<TreeHead>(), MAP_AT, node - 8].into_iter().enumerate() {
        first[node - 2 * (n + 1)..][..2].copy_from_slice(&(at as u16).to_be_bytes());
    }
    for n in 0..maps {
        let next = if n + 1 < maps { (nodes.len() + 1) as u32 } else { 0 };
        let mut map = node_with_map(node, 2, next);
        map[10..12].copy_from_slice(&1u16.to_be_bytes());
        map[HEAD..][..in_map / 8].copy_from_slice(&bits(in_first + n * in_map, in_map));
        map[node - 2..].copy_from_slice(&(HEAD as u16).to_be_bytes());
        map[node - 4..node - 2].copy_from_slice(&((HEAD + in_map / 8) as u16).to_be_bytes());
        nodes.push(map);
    }
    nodes[0] = first;
    nodes
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
        let bytes = tree((0..9000).map(record), shape).concat();
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
