//! Texts in the system's own form: UTF-16 with a zero at the end, so that every call takes them as they are. They are
//! small to pass and never change; their memory is given back by the scope that they were made in, or never.

use alloc::vec::Vec;
use core::cell::UnsafeCell;
use core::cmp::Ordering;
use core::mem::size_of;
use core::ptr::null_mut;
use windows_sys::Win32::Globalization::{CompareStringOrdinal, MultiByteToWideChar, WideCharToMultiByte, CP_UTF8};
use windows_sys::Win32::System::Memory::{GetProcessHeap, HeapAlloc, HeapFree};
use windows_sys::Win32::System::Threading::GetCurrentThreadId;

/// A text. What lives longer than the [`Scope`] that it was made in has to be [`kept`](Text::kept).
#[derive(Clone, Copy)]
#[repr(transparent)]
pub struct Text(*const u16);

/// The program's own texts, one byte a letter, each with a zero behind it (`build.rs` gathers them): half as large in the
/// file as the system's form, which is made of them once, at the start.
const TEXTS: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/texts"));

/// Where one of them stands.
pub const fn place(text: &str) -> usize {
    let text = text.as_bytes();
    let mut at = 0;
    while at + text.len() < TEXTS.len() {
        let mut n = 0;
        while n < text.len() && TEXTS[at + n] == text[n] {
            n += 1;
        }
        if n == text.len() && TEXTS[at + n] == 0 {
            return at;
        }
        at += 1;
    }
    panic!("build.rs did not find this text")
}

/// Room for letters that are put there once.
pub struct Letters(UnsafeCell<[u16; TEXTS.len()]>);

// SAFETY: they are put there before there is a second thread.
unsafe impl Sync for Letters {}

pub static OWN: Letters = Letters(UnsafeCell::new([0; TEXTS.len()]));

impl Letters {
    pub const fn at(&'static self, place: usize) -> Text {
        // SAFETY: the place lies inside.
        Text(unsafe { self.0.get().cast::<u16>().add(place) })
    }
}

/// A text of the program's own.
macro_rules! t {
    ($text:literal) => {
        const { $crate::text::OWN.at($crate::text::place($text)) }
    };
}
pub(crate) use t;

/// A text that has none, for a place where there may be one.
pub const EMPTY: Text = t!("");

impl Text {
    /// # Safety
    /// A text with a zero at its end is there, as long as this is used.
    pub const unsafe fn at(at: *const u16) -> Self {
        Self(at)
    }

    pub fn ptr(self) -> *const u16 {
        self.0
    }

    pub fn units(self) -> &'static [u16] {
        // SAFETY: there is a zero at the end, and the text does not change.
        unsafe {
            let mut length = 0;
            while *self.0.add(length) != 0 {
                length += 1;
            }
            core::slice::from_raw_parts(self.0, length)
        }
    }

    pub fn is_empty(self) -> bool {
        // SAFETY: the zero at least is there.
        unsafe { *self.0 == 0 }
    }

    pub fn len(self) -> usize {
        self.units().len()
    }

    /// A copy of letters.
    pub fn of(units: &[u16]) -> Self {
        let to = room(units.len() + 1);
        // SAFETY: there is room for the letters and the zero.
        unsafe {
            core::ptr::copy_nonoverlapping(units.as_ptr(), to, units.len());
            *to.add(units.len()) = 0;
        }
        Self(to)
    }

    /// The letters of a buffer of the system's, up to its ending zero.
    pub fn up_to_zero(units: &[u16]) -> Self {
        Self::of(units.split(|u| *u == 0).next().unwrap_or(units))
    }

    /// A copy that stays.
    pub fn kept(self) -> Self {
        let length = self.len() + 1;
        let to = memory(length * 2).cast();
        // SAFETY: there is as much memory.
        unsafe { core::ptr::copy_nonoverlapping(self.0, to, length) };
        Self(to)
    }

    /// Whether it is the same, letter by letter.
    pub fn is(self, other: Self) -> bool {
        self.units() == other.units()
    }

    /// The order of names, as Windows compares them.
    pub fn order(self, other: Self) -> Ordering {
        // SAFETY: both end with a zero.
        let order = unsafe { CompareStringOrdinal(self.0, -1, other.0, -1, 1) };
        order.cmp(&2)
    }

    /// Whether two names are the same for Windows.
    pub fn same(self, other: Self) -> bool {
        self.order(other) == Ordering::Equal
    }

    pub fn skip(self, units: usize) -> Self {
        // SAFETY: the rest ends where the whole does.
        Self(unsafe { self.0.add(units.min(self.len())) })
    }

    pub fn first(self, units: usize) -> Self {
        let all = self.units();
        Self::of(&all[..units.min(all.len())])
    }

    fn last_slash(self) -> Option<usize> {
        self.units().iter().rposition(|u| *u == b'\\'.into())
    }

    /// The folder that a path is in; nothing if it says none.
    pub fn parent(self) -> Self {
        self.last_slash().map_or(EMPTY, |at| self.first(at))
    }

    /// A path's last name.
    pub fn name(self) -> Self {
        self.last_slash().map_or(self, |at| self.skip(at + 1))
    }

    pub fn begins(self, with: Self) -> bool {
        self.units().starts_with(with.units())
    }

    pub fn ends(self, with: Self) -> bool {
        self.units().ends_with(with.units())
    }

    pub fn find(self, what: Self) -> Option<usize> {
        let what = what.units();
        self.units().windows(what.len().max(1)).position(|w| w == what)
    }

    /// Whether it has one of these letters.
    pub fn has(self, letters: &[u8]) -> bool {
        self.units().iter().any(|u| letters.iter().any(|l| u16::from(*l) == *u))
    }

    pub fn replace(self, what: Self, with: Self) -> Self {
        let mut out = Vec::new();
        let mut rest = self;
        while let Some(at) = rest.find(what) {
            out.extend_from_slice(&rest.units()[..at]);
            out.extend_from_slice(with.units());
            rest = rest.skip(at + what.len());
        }
        if out.is_empty() && rest.0 == self.0 {
            return self;
        }
        out.extend_from_slice(rest.units());
        Self::of(&out)
    }

    /// Without these letters at its ends.
    pub fn trim(self, letters: &[u8]) -> Self {
        let is_blank = |u: &u16| letters.iter().any(|l| u16::from(*l) == *u);
        let mut all = self.units();
        while let Some((_, rest)) = all.split_first().filter(|(u, _)| is_blank(u)) {
            all = rest;
        }
        while let Some((_, rest)) = all.split_last().filter(|(u, _)| is_blank(u)) {
            all = rest;
        }
        Self::of(all)
    }

    /// Without backslashes at its end.
    pub fn without_slash(self) -> Self {
        let mut all = self.units();
        while let Some((92, rest)) = all.split_last().map(|(u, rest)| (*u, rest)) {
            all = rest;
        }
        Self::of(all)
    }

    /// With the letters of switches as capitals.
    pub fn upper(self) -> Self {
        let mut units = self.units().to_vec();
        for unit in &mut units {
            if (97..123).contains(unit) {
                *unit -= 32;
            }
        }
        Self::of(&units)
    }

    /// What is between letters.
    pub fn split(self, letter: u8) -> Vec<Self> {
        let mut all = Vec::new();
        for part in self.units().split(|u| *u == letter.into()) {
            all.push(Self::of(part));
        }
        all
    }

    /// Its place among names with a bar between them; their number if it is none of them.
    pub fn among(self, names: Self) -> usize {
        let is_it = |name: &[u16]| name == self.units();
        let mut count = 0;
        for name in names.units().split(|u| *u == b'|'.into()) {
            if is_it(name) {
                break;
            }
            count += 1;
        }
        count
    }

    /// The number that it begins with; 0 if it is none.
    pub fn number(self) -> u32 {
        let mut number = 0u32;
        for unit in self.units() {
            match unit.wrapping_sub(b'0'.into()) {
                digit @ 0..=9 => number = number.wrapping_mul(10).wrapping_add(digit.into()),
                _ => break,
            }
        }
        number
    }
}

/// Texts one behind the other.
#[inline(never)]
pub fn cat(parts: &[Text]) -> Text {
    let length: usize = parts.iter().map(|p| p.len()).sum();
    let to = room(length + 1);
    let mut at = 0;
    for part in parts {
        let units = part.units();
        // SAFETY: there is room for all of them.
        unsafe { core::ptr::copy_nonoverlapping(units.as_ptr(), to.add(at), units.len()) };
        at += units.len();
    }
    // SAFETY: and for the zero.
    unsafe { *to.add(at) = 0 };
    Text(to)
}

/// Texts with something between them.
pub fn join(parts: &[Text], between: Text) -> Text {
    let mut all = Vec::new();
    for (n, part) in parts.iter().enumerate() {
        if n > 0 {
            all.push(between);
        }
        all.push(*part);
    }
    cat(&all)
}

/// A path and a name in it.
pub fn path(folder: Text, name: Text) -> Text {
    cat(&[folder, t!("\\"), name])
}

/// A number in digits, at least so many.
pub fn digits(mut number: u32, least: usize) -> Text {
    let mut units = [u16::from(b'0'); 10];
    let mut at = units.len();
    while number > 0 {
        at -= 1;
        units[at] = u16::from(b'0') + (number % 10) as u16;
        number /= 10;
    }
    Text::of(&units[at.min(units.len() - least.clamp(1, 10))..])
}

pub fn number(number: u32) -> Text {
    digits(number, 1)
}

/// Bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> Text {
    let mut units = Vec::new();
    for byte in bytes {
        for digit in [byte >> 4, byte & 15] {
            units.push(u16::from(b"0123456789abcdef"[usize::from(digit)]));
        }
    }
    Text::of(&units)
}

/// Bytes that hexadecimal digits stand for.
pub fn unhex(text: Text) -> Vec<u8> {
    let digit = |u: u16| char::from(u as u8).to_digit(16).unwrap_or(0) as u8;
    let mut bytes = Vec::new();
    for pair in text.units().chunks_exact(2) {
        bytes.push(digit(pair[0]) << 4 | digit(pair[1]));
    }
    bytes
}

/// Letters as UTF-8.
pub fn to_utf8(units: &[u16]) -> Vec<u8> {
    let count = units.len() as i32;
    let mut bytes = alloc::vec![0; units.len() * 3];
    // SAFETY: the buffers are as long as is said; a letter becomes three bytes at most.
    let n = unsafe {
        WideCharToMultiByte(
            CP_UTF8,
            0,
            units.as_ptr(),
            count,
            bytes.as_mut_ptr(),
            bytes.len() as i32,
            core::ptr::null(),
            null_mut(),
        )
    };
    bytes.truncate(n as usize);
    bytes
}

/// UTF-8 as letters.
pub fn from_utf8(bytes: &[u8]) -> Vec<u16> {
    let mut units = alloc::vec![0; bytes.len()];
    let count = bytes.len() as i32;
    // SAFETY: the buffers are as long as is said; there are never more letters than bytes.
    let n = unsafe { MultiByteToWideChar(CP_UTF8, 0, bytes.as_ptr(), count, units.as_mut_ptr(), count) };
    units.truncate(n as usize);
    units
}

/// Names in their order, to look others up among them.
pub struct Names(Vec<Text>);

impl Names {
    pub fn new(all: &[Text]) -> Self {
        let mut all = all.to_vec();
        sort(&mut all, Text::order);
        Self(all)
    }

    pub fn has(&self, name: Text) -> bool {
        self.0.binary_search_by(|n| n.order(name)).is_ok()
    }
}

pub fn sort(all: &mut [Text], order: fn(Text, Text) -> Ordering) {
    all.sort_unstable_by(|a, b| order(*a, *b));
}

/// The order in which folders can be taken away: what is in others first.
pub fn inner_first(a: Text, b: Text) -> Ordering {
    b.len().cmp(&a.len())
}

/// Memory that is never given back by itself.
fn memory(bytes: usize) -> *mut u8 {
    // SAFETY: the process's heap is always there.
    let at: *mut u8 = unsafe { HeapAlloc(GetProcessHeap(), 0, bytes) }.cast();
    if at.is_null() {
        crate::system::out_of_memory();
    }
    at
}

/// A piece of memory that texts are put into.
struct Chunk {
    before: *mut Chunk,
    size: usize,
}

#[derive(Clone, Copy)]
struct Place {
    chunk: *mut Chunk,
    at: usize,
}

/// One for the thread of the windows and one for the thread that works.
static mut PLACES: [Place; 2] = [Place { chunk: null_mut(), at: 0 }; 2];
static mut FIRST_THREAD: u32 = 0;

/// Says that this is the first thread; before any text is made.
pub fn begin() {
    // SAFETY: nothing else runs yet; there is room for each letter.
    unsafe {
        FIRST_THREAD = GetCurrentThreadId();
        for (n, letter) in TEXTS.iter().enumerate() {
            *OWN.0.get().cast::<u16>().add(n) = u16::from(*letter);
        }
    }
}

/// 0 for the first thread, 1 for the other one: there are never more.
pub fn thread() -> usize {
    // SAFETY: it is set once, before there is another thread.
    unsafe { usize::from(GetCurrentThreadId() != FIRST_THREAD) }
}

fn room(units: usize) -> *mut u16 {
    let bytes = units * 2;
    // SAFETY: each thread has a place of its own; what is given out lies inside the chunk.
    unsafe {
        let place = &mut *(&raw mut PLACES).cast::<Place>().add(thread());
        if place.chunk.is_null() || place.at + bytes > (*place.chunk).size {
            let size = (bytes + size_of::<Chunk>()).max(1 << 16);
            let chunk: *mut Chunk = memory(size).cast();
            *chunk = Chunk { before: place.chunk, size };
            *place = Place { chunk, at: size_of::<Chunk>() };
        }
        let at = place.chunk.cast::<u8>().add(place.at);
        place.at += bytes;
        at.cast()
    }
}

/// Gives back, at its end, the memory of all texts that were made since it was made.
pub struct Scope(Place);

impl Scope {
    /// # Safety
    /// No text that is made in it is used after it, but for copies that are [`kept`](Text::kept).
    pub unsafe fn new() -> Self {
        Self(PLACES[thread()])
    }
}

impl Drop for Scope {
    fn drop(&mut self) {
        // SAFETY: chunks that came later belong to nobody any more, as `new` demands.
        unsafe {
            let place = &mut *(&raw mut PLACES).cast::<Place>().add(thread());
            while place.chunk != self.0.chunk {
                let before = (*place.chunk).before;
                HeapFree(GetProcessHeap(), 0, place.chunk.cast());
                place.chunk = before;
            }
            place.at = self.0.at;
        }
    }
}

impl Default for Text {
    fn default() -> Self {
        EMPTY
    }
}
