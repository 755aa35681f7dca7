//! The memory of one stream. On Linux large pieces are mapped by themselves, with the wish for large pages; everything
//! else comes from the usual place. Whether the wish is granted changes the time, never the bytes.

use liblzma_sys::lzma_allocator;
#[cfg(target_os = "linux")]
use memmap2::{Advice, MmapMut};
use std::alloc::{Layout, alloc, dealloc};
use std::cell::RefCell;
use std::collections::HashMap;
use std::ffi::c_void;
use std::ptr::null_mut;

/// Pieces from this size on are mapped: a large page of most processors, bytes.
#[cfg(target_os = "linux")]
const LARGE: usize = 2 << 20;
/// As malloc aligns.
const ALIGNMENT: usize = 16;

enum Piece {
    /// Given back when it is dropped.
    #[cfg(target_os = "linux")]
    Mapped(#[expect(dead_code, reason = "held until it is freed")] MmapMut),
    Small(Layout),
}

/// What a stream asks for its memory. It must stand still while the stream lives, and so is made in a box.
pub(crate) struct Memory {
    allocator: lzma_allocator,
    pieces: RefCell<HashMap<usize, Piece>>,
}

impl Memory {
    pub(crate) fn new() -> Box<Self> {
        let allocator = lzma_allocator { alloc: Some(take), free: Some(give_back), opaque: null_mut() };
        let mut memory = Box::new(Self { allocator, pieces: RefCell::default() });
        memory.allocator.opaque = (&raw const *memory).cast_mut().cast::<c_void>();
        memory
    }

    pub(crate) fn allocator(&self) -> *const lzma_allocator {
        &raw const self.allocator
    }

    fn take(&self, bytes: usize) -> *mut c_void {
        #[cfg(target_os = "linux")]
        if bytes >= LARGE {
            let Ok(mut map) = MmapMut::map_anon(bytes) else { return null_mut() };
            // A kernel without large pages says no: then it is the usual ones.
            let _ = map.advise(Advice::HugePage);
            let at = map.as_mut_ptr();
            self.pieces.borrow_mut().insert(at as usize, Piece::Mapped(map));
            return at.cast();
        }
        let Ok(layout) = Layout::from_size_align(bytes.max(1), ALIGNMENT) else { return null_mut() };
        // SAFETY: the layout is of one byte at least.
        let at = unsafe { alloc(layout) };
        if !at.is_null() {
            self.pieces.borrow_mut().insert(at as usize, Piece::Small(layout));
        }
        at.cast()
    }

    fn give_back(&self, at: *mut c_void) {
        let piece = self.pieces.borrow_mut().remove(&(at as usize));
        match piece {
            // SAFETY: it came from `alloc` with this layout and is no longer in the list, so that this happens once.
            Some(Piece::Small(layout)) => unsafe { dealloc(at.cast(), layout) },
            #[cfg(target_os = "linux")]
            Some(Piece::Mapped(_)) => {}
            // liblzma gives back null too.
            None => {}
        }
    }
}

extern "C" fn take(opaque: *mut c_void, count: usize, size: usize) -> *mut c_void {
    // SAFETY: liblzma gives back the pointer that `new` set, to a `Memory` in a box that outlives the stream.
    let memory = unsafe { &*opaque.cast::<Memory>() };
    count.checked_mul(size).map_or(null_mut(), |bytes| memory.take(bytes))
}

extern "C" fn give_back(opaque: *mut c_void, at: *mut c_void) {
    // SAFETY: as in `take`.
    let memory = unsafe { &*opaque.cast::<Memory>() };
    memory.give_back(at);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_piece_is_given_back() {
        let memory = Memory::new();
        let opaque = memory.allocator.opaque;
        let at: Vec<_> = [0, 1, 100, (2 << 20) - 1, 2 << 20, 11 << 20].map(|n| take(opaque, 1, n)).into();
        assert!(at.iter().all(|p| !p.is_null() && (*p as usize).is_multiple_of(ALIGNMENT)));
        assert_eq!(memory.pieces.borrow().len(), 6);
        for p in at {
            give_back(opaque, p);
        }
        give_back(opaque, null_mut());
        assert_eq!(memory.pieces.borrow().len(), 0);
    }

    #[test]
    fn more_than_there_can_be_is_refused() {
        let memory = Memory::new();
        assert!(take(memory.allocator.opaque, usize::MAX, 2).is_null());
        assert!(take(memory.allocator.opaque, 1, usize::MAX).is_null());
        assert_eq!(memory.pieces.borrow().len(), 0);
    }
}
