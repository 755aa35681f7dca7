//! The ground under the program: memory, and what can go wrong.

use crate::text::{cat, number, t, Text};
use alloc::boxed::Box;
use core::alloc::{GlobalAlloc, Layout};
use windows_sys::Win32::Foundation::GetLastError;
use windows_sys::Win32::System::Memory::{GetProcessHeap, HeapAlloc, HeapReAlloc, HEAP_ZERO_MEMORY};
use windows_sys::Win32::System::Threading::ExitProcess;

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
    #[inline(always)]
    unsafe fn dealloc(&self, _at: *mut u8, _: Layout) {}
    unsafe fn realloc(&self, at: *mut u8, _: Layout, size: usize) -> *mut u8 {
        HeapReAlloc(GetProcessHeap(), 0, at.cast(), size).cast()
    }
}

#[global_allocator]
static HEAP: Heap = Heap;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    out_of_memory()
}

/// What can't go on ends; what was begun is finished or undone at the next start.
pub fn out_of_memory() -> ! {
    // SAFETY: ends the process.
    unsafe { ExitProcess(code::FAILED) }
}

/// The linker asks for it wherever floating-point numbers might be used.
#[no_mangle]
#[used]
static _fltused: i32 = 0;

/// Exit codes: the system's own numbers for what they mean.
pub mod code {
    pub const DONE: u32 = 0;
    pub const DAMAGED: u32 = 13;
    pub const IN_USE: u32 = 32;
    pub const USAGE: u32 = 87;
    pub const SPACE: u32 = 112;
    pub const ELEVATION: u32 = 740;
    pub const OLD_WINDOWS: u32 = 1150;
    /// `ERROR_INSTALL_PACKAGE_REJECTED`: it is there for somebody else.
    pub const OTHER_SCOPE: u32 = 1625;
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
    pub word: Text,
    /// What the sentence leaves a blank for.
    pub detail: Text,
}

/// A reason, in one word of memory: results pass through everything here. It is never given back; there are few.
#[derive(Clone, Copy)]
pub struct Fault(pub &'static Reason);

impl core::ops::Deref for Fault {
    type Target = Reason;
    fn deref(&self) -> &Reason {
        self.0
    }
}

impl Fault {
    #[inline(never)]
    pub fn new(code: u32, word: Text, detail: Text) -> Self {
        Self(Box::leak(Box::new(Reason { code, word, detail: detail.kept() })))
    }

    /// A call of the system failed.
    pub fn last(what: Text) -> Self {
        // SAFETY: no preconditions.
        Self::of(what, unsafe { GetLastError() })
    }

    /// A call of the system gave an error.
    #[inline(never)]
    pub fn of(what: Text, error: u32) -> Self {
        let code = match error {
            32 | 33 => code::IN_USE,
            112 => code::SPACE,
            _ => code::FAILED,
        };
        let word = if code == code::IN_USE { t!("setup-in-use") } else { t!("setup-failed") };
        Self::new(code, word, cat(&[what, t!(" (error "), number(error), t!(")")]))
    }
}

pub type Result<T> = core::result::Result<T, Fault>;

/// A result of a call that gives nothing for a failure.
#[inline(never)]
pub fn done(ok: i32, what: Text) -> Result<()> {
    if ok == 0 {
        Err(Fault::last(what))
    } else {
        Ok(())
    }
}
