//! The ground under the program: memory, texts in the system's form, what can go wrong.

use alloc::boxed::Box;
use alloc::string::String;
use alloc::vec::Vec;
use core::alloc::{GlobalAlloc, Layout};
use windows_sys::Win32::Foundation::GetLastError;
use windows_sys::Win32::System::Memory::{GetProcessHeap, HeapAlloc, HeapFree, HeapReAlloc, HEAP_ZERO_MEMORY};
use windows_sys::Win32::System::Threading::ExitProcess;
use windows_sys::Win32::UI::WindowsAndMessaging::CharLowerBuffW;

struct Heap;

// SAFETY: the process's heap gives memory aligned to 16 bytes (8 on x86); nothing here wants more, which is checked.
unsafe impl GlobalAlloc for Heap {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        if layout.align() > core::mem::size_of::<usize>() * 2 {
            return core::ptr::null_mut();
        }
        HeapAlloc(GetProcessHeap(), 0, layout.size()).cast()
    }
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        HeapAlloc(GetProcessHeap(), HEAP_ZERO_MEMORY, layout.size()).cast()
    }
    unsafe fn dealloc(&self, at: *mut u8, _: Layout) {
        HeapFree(GetProcessHeap(), 0, at.cast());
    }
    unsafe fn realloc(&self, at: *mut u8, _: Layout, size: usize) -> *mut u8 {
        HeapReAlloc(GetProcessHeap(), 0, at.cast(), size).cast()
    }
}

#[global_allocator]
static HEAP: Heap = Heap;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    // SAFETY: ends the process; what was begun is finished or undone at the next start.
    unsafe { ExitProcess(code::FAILED) }
}

/// The linker asks for it wherever floating-point numbers might be used.
#[no_mangle]
#[used]
static _fltused: i32 = 0;

/// A text in the system's form, with its ending zero.
pub fn wide(text: &str) -> Vec<u16> {
    text.encode_utf16().chain([0]).collect()
}

/// A text of the system, up to its ending zero.
pub fn narrow(units: &[u16]) -> String {
    let end = units.iter().position(|u| *u == 0).unwrap_or(units.len());
    String::from_utf16_lossy(&units[..end])
}

/// A text of the system whose length is not known.
///
/// # Safety
/// It is null, or ends with a zero.
pub unsafe fn narrow_at(at: *const u16) -> String {
    if at.is_null() {
        return String::new();
    }
    let mut length = 0;
    while *at.add(length) != 0 {
        length += 1;
    }
    narrow(core::slice::from_raw_parts(at, length))
}

/// Whether two names are the same for Windows.
pub fn same(a: &str, b: &str) -> bool {
    a.eq_ignore_ascii_case(b) || lower(a) == lower(b)
}

/// A name in the form in which names are compared.
pub fn lower(name: &str) -> String {
    let mut units: Vec<u16> = name.encode_utf16().collect();
    // SAFETY: the buffer is as long as is said.
    unsafe { CharLowerBuffW(units.as_mut_ptr(), units.len() as u32) };
    String::from_utf16_lossy(&units)
}

/// Exit codes: the system's own numbers for what they mean.
pub mod code {
    pub const DONE: u32 = 0;
    pub const DAMAGED: u32 = 13;
    pub const IN_USE: u32 = 32;
    pub const USAGE: u32 = 87;
    pub const SPACE: u32 = 112;
    pub const ELEVATION: u32 = 740;
    pub const OLD_WINDOWS: u32 = 1150;
    pub const CANCELLED: u32 = 1602;
    pub const FAILED: u32 = 1603;
    pub const NOT_INSTALLED: u32 = 1605;
    pub const BUSY: u32 = 1618;
    pub const NEWER: u32 = 1638;
    pub const RESTART: u32 = 3010;
}

/// Why it ends without having done what it should.
pub struct Reason {
    /// The exit code.
    pub code: u32,
    /// The key of the sentence that people read.
    pub word: &'static str,
    /// What the sentence leaves a blank for.
    pub detail: String,
}

/// A reason, in one word of memory: results pass through everything here.
pub struct Fault(Box<Reason>);

impl core::ops::Deref for Fault {
    type Target = Reason;
    fn deref(&self) -> &Reason {
        &self.0
    }
}

impl Fault {
    #[inline(never)]
    fn made(code: u32, word: &'static str, detail: String) -> Self {
        Self(Box::new(Reason { code, word, detail }))
    }

    pub fn new(code: u32, word: &'static str, detail: impl Into<String>) -> Self {
        Self::made(code, word, detail.into())
    }

    /// A call of the system failed.
    pub fn last(what: &str) -> Self {
        // SAFETY: no preconditions.
        Self::of(what, unsafe { GetLastError() })
    }

    /// A call of the system gave an error.
    pub fn of(what: &str, error: u32) -> Self {
        let code = match error {
            32 | 33 => code::IN_USE,
            112 => code::SPACE,
            _ => code::FAILED,
        };
        let word = if code == code::IN_USE { "setup-in-use" } else { "setup-failed" };
        Self::new(code, word, alloc::format!("{what} (error {error})"))
    }
}

pub type Result<T> = core::result::Result<T, Fault>;
