//! A stream on two threads: one runs liblzma's finder over every byte and writes down what it found, the other (the
//! caller's) runs liblzma's encoder, which asks for matches and gets those. Both have a window of their own over the same
//! bytes; the encoder is held a little behind, so that the finder always has something to go on with.
//!
//! What the finder finds at a byte depends on the bytes before it and on 32 behind it, never on what the encoder chose:
//! whether a byte was looked at or passed over, the tree grows alike. So the stream is that of one thread.

use crate::inner::{
    lz_init_function, lzma_filter_info, lzma_free, lzma_lz_encoder, lzma_lz_encoder_init, lzma_lz_options,
    lzma_lzma_encode, lzma_lzma_encoder_create, lzma_match, lzma_mf, lzma_next_coder, lzma_next_end,
    lzma_simple_x86_encoder_init,
};
use crate::memory::Memory;
use crate::{Failed, NICE, Step};
use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use liblzma_sys as c;
use std::collections::VecDeque;
use std::ffi::c_void;
use std::ptr::null_mut;
use std::sync::Arc;
use std::thread::JoinHandle;

/// How far the encoder is held behind the finder's input, bytes.
const BEHIND: usize = 2 << 20;
/// The largest piece that is handed over, bytes.
const PIECE: usize = 1 << 18;
/// Words of what was found that travel at once, and how many such loads there are: 4 MiB.
const LOAD: usize = 1 << 16;
const LOADS: usize = 16;
/// The smallest dictionary: that of the encoder's own finder, which is never used.
const LEAST: usize = 4096;
/// Matches at one byte: fewer than the bytes of the longest one.
const MOST: usize = NICE as usize;

type Code = c::lzma_ret;

pub(crate) struct Pair {
    chain: Chain,
    /// To the finder; gone when there is no more.
    plain: Option<Sender<Arc<[u8]>>>,
    /// What the finder has and the encoder does not; of the first piece so many bytes are done.
    held: VecDeque<Arc<[u8]>>,
    done: usize,
    held_bytes: usize,
    ended: bool,
    finder: Option<JoinHandle<()>>,
}

impl Pair {
    pub(crate) fn new(options: c::lzma_options_lzma, filtered: bool) -> Result<Self, Failed> {
        let (plain, input) = unbounded::<Arc<[u8]>>();
        let (found, feed) = bounded(LOADS);
        let (empty, used) = bounded(LOADS);
        let dictionary = options.dict_size as usize;
        let (begun, begins) = bounded(1);
        let finder = std::thread::spawn(move || {
            let finder = Box::new(Finder { load: Vec::with_capacity(LOAD), found, used, dictionary });
            let chain = Chain::new(finder, begin_finder, filtered);
            // The other side waits for this.
            let _ = begun.send(chain.is_ok());
            if let Ok(mut chain) = chain {
                chain.find_all(&input);
            }
        });
        let feed = Feed { load: Vec::new(), at: 0, feed, empty, broken: false };
        let mut it = Self {
            chain: Chain::EMPTY,
            plain: Some(plain),
            held: VecDeque::new(),
            done: 0,
            held_bytes: 0,
            ended: false,
            finder: Some(finder),
        };
        // SAFETY: the window is set before each use; a structure of numbers and null pointers until then.
        let window: lzma_mf = unsafe { std::mem::zeroed() };
        let encoder = Box::new(Encoder { coder: null_mut(), seen: Seen { window, feed }, options });
        it.chain = Chain::new(encoder, begin_encoder, filtered)?;
        if begins.recv() == Ok(true) { Ok(it) } else { Err(Failed) }
    }

    pub(crate) fn step(&mut self, input: &[u8], output: &mut [u8], finish: bool) -> Result<Step, Failed> {
        let mut step = Step { ended: self.ended, ..Step::default() };
        if self.ended {
            return Ok(step);
        }
        while step.taken < input.len() && self.held_bytes < BEHIND {
            let end = input.len().min(step.taken + PIECE);
            let piece: Arc<[u8]> = Arc::from(&input[step.taken..end]);
            step.taken += piece.len();
            self.held_bytes += piece.len();
            self.held.push_back(Arc::clone(&piece));
            self.plain.as_ref().ok_or(Failed)?.send(piece).map_err(|_| Failed)?;
        }
        let finish = finish && step.taken == input.len();
        if finish {
            self.plain = None;
        }
        while step.given < output.len() && !step.ended && (finish || self.held_bytes >= BEHIND) {
            let last = finish && self.held.len() <= 1;
            let first = self.held.front().map_or(&[][..], |piece| &piece[self.done..]);
            let code = self.chain.code(first, &mut output[step.given..], last)?;
            step.given += code.given;
            step.ended = code.ended;
            self.done += code.taken;
            self.held_bytes -= code.taken;
            if !last && self.held.front().is_some_and(|piece| piece.len() == self.done) {
                self.held.pop_front();
                self.done = 0;
            }
        }
        self.ended = step.ended;
        Ok(step)
    }
}

impl Drop for Pair {
    fn drop(&mut self) {
        // Nothing more comes, and nobody takes what was found: the finder ends.
        self.plain = None;
        self.chain = Chain::EMPTY;
        if let Some(finder) = self.finder.take() {
            let _ = finder.join();
        }
    }
}

/// A chain of liblzma's coders with something of ours behind the window.
struct Chain {
    next: lzma_next_coder,
    memory: Option<Box<Memory>>,
}

// SAFETY: as for a stream on one thread: all that the chain points to belongs to it alone; ours is `Send`.
unsafe impl Send for Chain {}

impl Chain {
    const EMPTY: Self = Self { next: lzma_next_coder::EMPTY, memory: None };

    /// `begin` gets the pointer to `ours`, which belongs to the chain from then on.
    fn new<T: Send>(ours: Box<T>, begin: lz_init_function, filtered: bool) -> Result<Self, Failed> {
        let memory = Memory::new();
        let allocator = memory.allocator();
        // A number that is not zero says that there is something to end.
        let mut it = Self { next: lzma_next_coder { init: 1, ..lzma_next_coder::EMPTY }, memory: Some(memory) };
        let x86 = lzma_filter_info {
            id: c::LZMA_FILTER_X86,
            init: filtered.then_some(lzma_simple_x86_encoder_init as _),
            options: null_mut(),
        };
        let end = lzma_filter_info { id: c::LZMA_VLI_UNKNOWN, init: None, options: null_mut() };
        let options = Box::into_raw(ours).cast::<c_void>();
        // The first is not begun through this list: its function is not asked for.
        let filters = [lzma_filter_info { id: c::LZMA_FILTER_LZMA1, init: None, options }, x86, end];
        // SAFETY: the chain is empty, the list ends with a filter without a function, and what `options` points to is
        // what `begin` expects, which takes it over as the first thing it does.
        let code = unsafe { lzma_lz_encoder_init(&mut it.next, allocator, filters.as_ptr(), begin) };
        if it.next.coder.is_null() {
            // SAFETY: there was no memory for the window: `begin` was not called, and ours is still ours.
            drop(unsafe { Box::from_raw(options.cast::<T>()) });
        }
        if code == c::LZMA_OK { Ok(it) } else { Err(Failed) }
    }

    fn allocator(&self) -> *const c::lzma_allocator {
        self.memory.as_ref().map_or(std::ptr::null(), |m| m.allocator())
    }

    fn code(&mut self, input: &[u8], output: &mut [u8], finish: bool) -> Result<Step, Failed> {
        let Some(function) = self.next.code else { return Err(Failed) };
        let (mut taken, mut given) = (0, 0);
        let action = if finish { c::LZMA_FINISH } else { c::LZMA_RUN };
        // SAFETY: the chain has been begun with this allocator; lengths are those of the slices, and both places start
        // at their beginning.
        let code = unsafe {
            let (to, room) = (output.as_mut_ptr(), output.len());
            let (from, length) = (input.as_ptr(), input.len());
            function(self.next.coder, self.allocator(), from, &mut taken, length, to, &mut given, room, action)
        };
        match code {
            c::LZMA_OK | c::LZMA_STREAM_END => Ok(Step { taken, given, ended: code == c::LZMA_STREAM_END }),
            _ => Err(Failed),
        }
    }

    /// Runs a finder over all that comes. It ends early when nobody takes what it finds.
    fn find_all(&mut self, input: &Receiver<Arc<[u8]>>) {
        // Nothing is written to it, but liblzma wants to see room.
        let mut room = [0];
        for piece in input {
            let mut rest = &piece[..];
            while !rest.is_empty() {
                match self.code(rest, &mut room, false) {
                    Ok(step) => rest = &rest[step.taken..],
                    Err(Failed) => return,
                }
            }
        }
        while self.code(&[], &mut room, true).is_ok_and(|step| !step.ended) {}
    }
}

impl Drop for Chain {
    fn drop(&mut self) {
        // SAFETY: the chain is empty, or was begun with this allocator, which is freed after it.
        unsafe { lzma_next_end(&mut self.next, self.allocator()) }
    }
}

/// The finder's end of the queue.
struct Finder {
    /// For each byte a count, and so many lengths and distances.
    load: Vec<u32>,
    found: Sender<Vec<u32>>,
    /// Loads that were read and may be filled again.
    used: Receiver<Vec<u32>>,
    dictionary: usize,
}

impl Finder {
    fn send(&mut self) -> Result<(), Failed> {
        let mut next = self.used.try_recv().unwrap_or_else(|_| Vec::with_capacity(LOAD));
        next.clear();
        self.found.send(std::mem::replace(&mut self.load, next)).map_err(|_| Failed)
    }
}

unsafe extern "C" fn begin_finder(
    lz: *mut lzma_lz_encoder,
    _: *const c::lzma_allocator,
    _: c::lzma_vli,
    ours: *const c_void,
    asks: *mut lzma_lz_options,
) -> Code {
    // SAFETY: liblzma gives places that may be written to, and the pointer that `Chain::new` set.
    unsafe {
        (*lz).coder = ours.cast_mut();
        (*lz).code = Some(find);
        (*lz).end = Some(end_finder);
        asks.write(lzma_lz_options {
            before_size: 0,
            dict_size: (*ours.cast::<Finder>()).dictionary,
            after_size: 0,
            match_len_max: NICE as usize,
            nice_len: NICE as usize,
            match_finder: c::LZMA_MF_BT4,
            depth: 0,
            preset_dict: std::ptr::null(),
            preset_dict_size: 0,
        });
    }
    c::LZMA_OK
}

unsafe extern "C" fn end_finder(ours: *mut c_void, _: *const c::lzma_allocator) {
    // SAFETY: it is the box that `Chain::new` took apart; liblzma ends it once.
    drop(unsafe { Box::from_raw(ours.cast::<Finder>()) });
}

/// Goes on as far as there is enough behind; what is found goes into the queue.
unsafe extern "C" fn find(ours: *mut c_void, mf: *mut lzma_mf, _: *mut u8, _: *mut usize, _: usize) -> Code {
    // SAFETY: liblzma gives the pointer that `begin_finder` set, and its window, to nobody else meanwhile.
    let (finder, mf) = unsafe { (&mut *ours.cast::<Finder>(), &mut *mf) };
    let Some(function) = mf.find else { return c::LZMA_PROG_ERROR };
    while mf.read_pos < mf.read_limit {
        let at = finder.load.len();
        finder.load.reserve(1 + 2 * MOST);
        // SAFETY: behind the count there is room for `MOST` matches, which are two numbers each; the finder writes one a
        // length at most, each longer than the one before and none longer than `NICE`. Then so many numbers are set.
        unsafe {
            let to = finder.load.as_mut_ptr().add(at);
            let count = function(mf, to.add(1).cast::<lzma_match>());
            to.write(count);
            finder.load.set_len(at + 1 + 2 * count as usize);
        }
        if finder.load.len() + 1 + 2 * MOST > LOAD && finder.send().is_err() {
            return c::LZMA_PROG_ERROR;
        }
    }
    if mf.action == c::LZMA_RUN {
        return c::LZMA_OK;
    }
    if finder.send().is_ok() { c::LZMA_STREAM_END } else { c::LZMA_PROG_ERROR }
}

/// The encoder's end of the queue.
struct Feed {
    load: Vec<u32>,
    at: usize,
    feed: Receiver<Vec<u32>>,
    empty: Sender<Vec<u32>>,
    /// The finder ended before its time.
    broken: bool,
}

impl Feed {
    /// The lengths and distances at the next byte.
    fn next(&mut self) -> &[u32] {
        while self.at == self.load.len() {
            let Ok(load) = self.feed.recv() else {
                self.broken = true;
                return &[];
            };
            let read = std::mem::replace(&mut self.load, load);
            if read.capacity() > 0 {
                // Nobody needs it when there are enough.
                let _ = self.empty.try_send(read);
            }
            self.at = 0;
        }
        let start = self.at + 1;
        self.at = start + 2 * self.load[self.at] as usize;
        &self.load[start..self.at]
    }
}

/// The window as the encoder sees it, and where its matches come from. The window is the first thing in it, so that a
/// pointer to it is one to the whole.
#[repr(C)]
struct Seen {
    window: lzma_mf,
    feed: Feed,
}

struct Encoder {
    coder: *mut c_void,
    seen: Seen,
    options: c::lzma_options_lzma,
}

// SAFETY: the coder belongs to it alone.
unsafe impl Send for Encoder {}

unsafe extern "C" fn begin_encoder(
    lz: *mut lzma_lz_encoder,
    allocator: *const c::lzma_allocator,
    id: c::lzma_vli,
    ours: *const c_void,
    asks: *mut lzma_lz_options,
) -> Code {
    // SAFETY: as in `begin_finder`. The encoder's maker writes all of `asks`.
    unsafe {
        (*lz).coder = ours.cast_mut();
        (*lz).code = Some(encode);
        (*lz).end = Some(end_encoder);
        let encoder = &mut *ours.cast_mut().cast::<Encoder>();
        let code = lzma_lzma_encoder_create(&mut encoder.coder, allocator, id, &encoder.options, asks);
        if code != c::LZMA_OK {
            return code;
        }
        // The window reaches back as far as ever, but as what comes before a dictionary: so its own finder, which is
        // never asked, has no tables.
        let asks = &mut *asks;
        if asks.dict_size < LEAST {
            return c::LZMA_OPTIONS_ERROR;
        }
        asks.before_size += asks.dict_size - LEAST;
        asks.dict_size = LEAST;
        asks.match_finder = c::LZMA_MF_BT2;
    }
    c::LZMA_OK
}

unsafe extern "C" fn end_encoder(ours: *mut c_void, allocator: *const c::lzma_allocator) {
    // SAFETY: it is the box that `Chain::new` took apart, and the coder came from this allocator; liblzma ends it once.
    unsafe {
        let encoder = Box::from_raw(ours.cast::<Encoder>());
        lzma_free(encoder.coder, allocator);
    }
}

unsafe extern "C" fn encode(
    ours: *mut c_void,
    mf: *mut lzma_mf,
    out: *mut u8,
    out_pos: *mut usize,
    out_size: usize,
) -> Code {
    // SAFETY: liblzma gives the pointer that `begin_encoder` set, its window, and room; the encoder works on a copy of
    // the window's description and changes two numbers in it.
    unsafe {
        let encoder = &mut *ours.cast::<Encoder>();
        let seen = &raw mut encoder.seen;
        (*seen).window = lzma_mf { find: Some(fed), skip: Some(passed), ..*mf };
        let code = lzma_lzma_encode(encoder.coder, seen.cast::<lzma_mf>(), out, out_pos, out_size, u32::MAX);
        (*mf).read_pos = (*seen).window.read_pos;
        (*mf).read_ahead = (*seen).window.read_ahead;
        if (*seen).feed.broken { c::LZMA_PROG_ERROR } else { code }
    }
}

unsafe extern "C" fn fed(mf: *mut lzma_mf, matches: *mut lzma_match) -> u32 {
    // SAFETY: `encode` gives the encoder a window that is the beginning of a `Seen`, and it hands that pointer on.
    let seen = unsafe { &mut *mf.cast::<Seen>() };
    seen.window.read_pos += 1;
    let found = seen.feed.next();
    let (pairs, _) = found.as_chunks::<2>();
    for (i, [len, dist]) in pairs.iter().enumerate() {
        // SAFETY: the encoder has room for a match of each length, and there are fewer.
        unsafe { matches.add(i).write(lzma_match { len: *len, dist: *dist }) }
    }
    pairs.len() as u32
}

unsafe extern "C" fn passed(mf: *mut lzma_mf, count: u32) {
    // SAFETY: as in `fed`.
    let seen = unsafe { &mut *mf.cast::<Seen>() };
    seen.window.read_pos += count;
    for _ in 0..count {
        seen.feed.next();
    }
}
