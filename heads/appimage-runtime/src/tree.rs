//! The image as the kernel asks for it: names, attributes, and ranges of files, with small caches so that neither
//! listing a large folder nor reading a file from end to end does anything twice.

use crate::image::Source;
use squashfs::read::{BlockPlace, Entry, Image, Inode, InodeRef};
use std::collections::{HashMap, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard};

/// Unpacked blocks kept: 24 MiB of the largest.
const CACHED_BLOCK_BYTES: usize = 24 << 20;
/// Blocks unpacked before they are asked for, and threads that do it.
pub const AHEAD: usize = 2;
const CACHED_NAMES: usize = 150_000;
const CACHED_MAPS: usize = 256;

pub struct Tree {
    pub image: Image<Source>,
    /// The file that the image is in.
    pub path: PathBuf,
    folders: Mutex<Recent<u64, Arc<Vec<Entry>>>>,
    maps: Mutex<Recent<u64, Arc<Vec<BlockPlace>>>>,
    blocks: Mutex<Blocks>,
    block_ready: Condvar,
    ends: Mutex<Recent<u64, u64>>,
    wanted: Mutex<VecDeque<BlockPlace>>,
    wanted_more: Condvar,
}

#[derive(Default)]
struct Blocks {
    by_place: HashMap<BlockPlace, Slot>,
    order: VecDeque<BlockPlace>,
    bytes: usize,
    spare: Vec<Vec<u8>>,
}

enum Slot {
    Loading,
    Ready(Arc<Vec<u8>>),
}

/// A map that forgets its oldest entries beyond a weight.
struct Recent<K, V> {
    values: HashMap<K, (V, usize)>,
    order: VecDeque<K>,
    weight: usize,
    limit: usize,
}

impl<K: Copy + Eq + std::hash::Hash, V: Clone> Recent<K, V> {
    fn new(limit: usize) -> Self {
        Self { values: HashMap::new(), order: VecDeque::new(), weight: 0, limit }
    }
    fn get(&self, key: K) -> Option<V> {
        self.values.get(&key).map(|(v, _)| v.clone())
    }
    fn put(&mut self, key: K, value: V, weight: usize) {
        if self.values.insert(key, (value, weight)).is_none() {
            self.order.push_back(key);
            self.weight += weight;
        }
        while self.weight > self.limit && self.order.len() > 1 {
            if let Some((_, weight)) = self.order.pop_front().and_then(|k| self.values.remove(&k)) {
                self.weight -= weight;
            }
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

impl Tree {
    pub fn new(image: Image<Source>, path: PathBuf) -> Self {
        Self {
            image,
            path,
            folders: Mutex::new(Recent::new(CACHED_NAMES)),
            maps: Mutex::new(Recent::new(CACHED_MAPS)),
            blocks: Mutex::default(),
            block_ready: Condvar::new(),
            ends: Mutex::new(Recent::new(CACHED_MAPS)),
            wanted: Mutex::default(),
            wanted_more: Condvar::new(),
        }
    }

    /// The kernel's number of a node: its place in the image, so that nothing has to be remembered. 1 is the root.
    pub fn node_of(&self, reference: InodeRef) -> u64 {
        if reference == self.image.root() {
            1
        } else {
            reference.0 + 2
        }
    }

    pub fn inode(&self, node: u64) -> squashfs::Result<Inode> {
        let reference = if node == 1 { self.image.root() } else { InodeRef(node.saturating_sub(2)) };
        self.image.inode(reference)
    }

    /// The names of a folder, sorted as the image has them.
    pub fn entries(&self, node: u64) -> squashfs::Result<Arc<Vec<Entry>>> {
        if let Some(entries) = lock(&self.folders).get(node) {
            return Ok(entries);
        }
        let entries = Arc::new(self.image.entries(&self.inode(node)?)?);
        lock(&self.folders).put(node, entries.clone(), entries.len() + 16);
        Ok(entries)
    }

    pub fn find(&self, folder: u64, name: &[u8]) -> squashfs::Result<Option<Entry>> {
        let entries = self.entries(folder)?;
        let found = entries.binary_search_by(|e| e.name.as_slice().cmp(name));
        Ok(found.ok().map(|at| entries[at].clone()))
    }

    fn map(&self, node: u64) -> squashfs::Result<Arc<Vec<BlockPlace>>> {
        if let Some(map) = lock(&self.maps).get(node) {
            return Ok(map);
        }
        let map = Arc::new(self.image.blocks_of(&self.inode(node)?)?);
        // Long maps weigh more, so that a few giant files don't hold much memory.
        lock(&self.maps).put(node, map.clone(), 1 + map.len() / 4096);
        Ok(map)
    }

    /// Gives the bytes of a file from `offset`, up to `len`, in parts; fewer at its end.
    pub fn read(&self, node: u64, offset: u64, len: usize) -> squashfs::Result<Vec<Part>> {
        let map = self.map(node)?;
        let block_size = u64::from(self.image.block_size());
        let goes_on = self.goes_on(node, offset, len);
        let mut parts = Vec::new();
        let mut left = len;
        let mut index = (offset / block_size) as usize;
        let mut within = (offset % block_size) as usize;
        while left > 0 && index < map.len() {
            let place = map[index];
            let (block_len, start) = match place {
                BlockPlace::Hole { len } => (len as usize, 0),
                BlockPlace::At { len, offset, .. } => (len as usize, offset as usize),
            };
            if within >= block_len {
                break;
            }
            let n = left.min(block_len - within);
            let part = match place {
                BlockPlace::Hole { .. } => Part { bytes: None, range: 0..n },
                BlockPlace::At { .. } => {
                    if goes_on {
                        self.want(map.get(index + 1..).unwrap_or_default());
                    }
                    let bytes = self.load(place)?;
                    Part { bytes: Some(bytes), range: start + within..start + within + n }
                }
            };
            parts.push(part);
            (left, within, index) = (left - n, 0, index + 1);
        }
        Ok(parts)
    }

    /// Whether a reading goes on about where the last one of the file ended (the kernel's come a little out of order).
    fn goes_on(&self, node: u64, offset: u64, len: usize) -> bool {
        let mut ends = lock(&self.ends);
        let last = ends.get(node);
        let end = offset + len as u64;
        let end = end.max(last.filter(|l| l.abs_diff(end) < 1 << 19).unwrap_or(0));
        ends.put(node, end, 1);
        last.is_some_and(|last| last.abs_diff(offset) < 1 << 19)
    }

    /// Has the next blocks unpacked ahead by the helper threads, one for each.
    fn want(&self, next: &[BlockPlace]) {
        for place in next.iter().take(AHEAD).map(|p| key(*p)) {
            if matches!(place, BlockPlace::Hole { .. }) || lock(&self.blocks).by_place.contains_key(&place) {
                continue;
            }
            let mut wanted = lock(&self.wanted);
            if wanted.len() < AHEAD && !wanted.contains(&place) {
                wanted.push_back(place);
                self.wanted_more.notify_one();
            }
        }
    }

    /// An unpacked block; several askers wait for one unpacking.
    fn load(&self, place: BlockPlace) -> squashfs::Result<Arc<Vec<u8>>> {
        let place = key(place);
        let mut blocks = lock(&self.blocks);
        loop {
            match blocks.by_place.get(&place) {
                Some(Slot::Ready(bytes)) => return Ok(bytes.clone()),
                Some(Slot::Loading) => blocks = self.block_ready.wait(blocks).unwrap_or_else(|e| e.into_inner()),
                None => break,
            }
        }
        blocks.by_place.insert(place, Slot::Loading);
        // Memory that was in use before needs no fresh pages from the kernel.
        let mut bytes = blocks.spare.pop().unwrap_or_default();
        drop(blocks);
        let result = self.image.read_block(place, &mut bytes);
        let mut blocks = lock(&self.blocks);
        let result = result.map(|()| {
            let bytes = Arc::new(bytes);
            blocks.by_place.insert(place, Slot::Ready(bytes.clone()));
            blocks.order.push_back(place);
            blocks.bytes += bytes.capacity();
            while blocks.bytes > CACHED_BLOCK_BYTES && blocks.order.len() > 1 {
                let oldest = blocks.order.pop_front();
                if let Some(Slot::Ready(old)) = oldest.and_then(|p| blocks.by_place.remove(&p)) {
                    blocks.bytes -= old.capacity();
                    if let (Ok(old), true) = (Arc::try_unwrap(old), blocks.spare.len() < AHEAD + 1) {
                        blocks.spare.push(old);
                    }
                }
            }
            bytes
        });
        if result.is_err() {
            blocks.by_place.remove(&place);
        }
        self.block_ready.notify_all();
        result
    }

    /// A helper thread: unpacks ahead, for ever.
    pub fn unpack_ahead(&self) -> ! {
        loop {
            let mut wanted = lock(&self.wanted);
            let next = loop {
                match wanted.pop_front() {
                    Some(next) => break next,
                    None => wanted = self.wanted_more.wait(wanted).unwrap_or_else(|e| e.into_inner()),
                }
            };
            drop(wanted);
            // Trouble shows when the block is really asked for.
            let _ = self.load(next);
        }
    }
}

/// Files that share a fragment block share its cache slot; what is expected of its length stays with the asker.
fn key(place: BlockPlace) -> BlockPlace {
    match place {
        BlockPlace::At { position, word, .. } => BlockPlace::At { position, word, len: 0, offset: 0 },
        hole => hole,
    }
}

/// A part of an answer: a range of a block, or that many zeros.
pub struct Part {
    pub bytes: Option<Arc<Vec<u8>>>,
    pub range: std::ops::Range<usize>,
}

impl Part {
    /// Whether the block is as long as the file says: a damaged one may be shorter.
    pub fn is_whole(&self) -> bool {
        self.bytes.as_ref().is_none_or(|b| self.range.end <= b.len())
    }
}
