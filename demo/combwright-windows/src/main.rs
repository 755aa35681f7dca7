//! Combwright for Windows: the made-up beekeeper's hive journal without a standard library, so that it can be built on
//! any machine. It looks its example journal up at run time, beside itself, and says plainly when it was left behind.
//!
//! `combwright.exe [JOURNAL.comb | combwright:HIVE]` shows a journal; `--report` prints it; `--where FILE` writes where
//! the program, its data and its working folder are, and what it was started with.
#![no_std]
#![no_main]
#![allow(non_upper_case_globals)]

mod system;
mod window;

use core::ptr::{addr_of, addr_of_mut};
use system::*;

/// Text of a fixed size: no heap is needed for a journal.
pub struct Text<const N: usize> {
    pub units: [u16; N],
    pub len: usize,
}

impl<const N: usize> Text<N> {
    pub const fn empty() -> Self {
        Self { units: [0; N], len: 0 }
    }

    pub fn push(&mut self, unit: u16) {
        if self.len + 1 < N {
            self.units[self.len] = unit;
            self.len += 1;
            self.units[self.len] = 0;
        }
    }

    pub fn add(&mut self, text: &str) {
        text.encode_utf16().for_each(|u| self.push(u));
    }

    /// # Safety
    /// The text ends with a zero.
    pub unsafe fn add_wide(&mut self, text: *const u16) {
        let mut n = 0;
        while *text.add(n) != 0 {
            self.push(*text.add(n));
            n += 1;
        }
    }

    pub fn as_slice(&self) -> &[u16] {
        &self.units[..self.len]
    }
}

static mut PROGRAM: Text<2048> = Text::empty();
static mut FILE: Text<2048> = Text::empty();
static mut SCRATCH: Text<16384> = Text::empty();
static mut BYTES: [u8; 65536] = [0; 65536];
static mut JOURNAL: Text<32768> = Text::empty();
static mut WANTED: Text<256> = Text::empty();

fn starts(text: *const u16, with: &str) -> bool {
    // SAFETY: the comparison ends at the first difference, and the string ends with a zero.
    with.encode_utf16().enumerate().all(|(n, unit)| unsafe { *text.add(n) == unit })
}

/// Writes text as UTF-8.
///
/// # Safety
/// Only from the one thread that runs.
unsafe fn write(handle: isize, text: &[u16]) {
    let bytes = &mut *addr_of_mut!(BYTES);
    let n =
        WideCharToMultiByte(65001, 0, text.as_ptr(), text.len() as i32, bytes.as_mut_ptr(), bytes.len() as i32, 0, 0);
    let mut done = 0;
    WriteFile(handle, bytes.as_ptr(), n as u32, &mut done, 0);
}

fn fail(sentence: &str) -> ! {
    // SAFETY: one thread; the text ends with a zero.
    unsafe {
        let text = &mut *addr_of_mut!(SCRATCH);
        text.len = 0;
        text.add(sentence);
        MessageBoxW(0, text.units.as_ptr(), TITLE.as_ptr(), 0x10);
        ExitProcess(1)
    }
}

/// `Combwright`, with its ending zero.
pub static TITLE: [u16; 11] = {
    let text = *b"Combwright\0";
    let mut wide = [0; 11];
    let mut n = 0;
    while n < 11 {
        wide[n] = text[n] as u16;
        n += 1;
    }
    wide
};

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "system" fn start() -> ! {
    let program = &mut *addr_of_mut!(PROGRAM);
    program.len = GetModuleFileNameW(0, program.units.as_mut_ptr(), 2047) as usize;
    let folder = program.as_slice().iter().rposition(|u| *u == b'\\' as u16).map_or(0, |n| n + 1);
    let file = &mut *addr_of_mut!(FILE);
    program.as_slice()[..folder].iter().for_each(|u| file.push(*u));
    file.add("journals\\fernhollow.comb");
    let mut count = 0;
    let all = CommandLineToArgvW(GetCommandLineW(), &mut count);
    let (mut report, mut places) = (false, core::ptr::null());
    let mut n = 1;
    while n < count as usize {
        let argument = *all.add(n);
        if starts(argument, "--report\0") {
            report = true;
        } else if starts(argument, "--where\0") && n + 1 < count as usize {
            n += 1;
            places = *all.add(n);
        } else if starts(argument, "combwright:") {
            (*addr_of_mut!(WANTED)).add_wide(argument.add(11));
        } else {
            file.len = 0;
            file.add_wide(argument);
        }
        n += 1;
    }
    if !places.is_null() {
        tell_places(places, all, count as usize);
        ExitProcess(0);
    }
    load();
    if report {
        write(GetStdHandle(-11i32 as u32), (*addr_of!(JOURNAL)).as_slice());
        ExitProcess(0);
    }
    window::show(&*addr_of!(JOURNAL), &*addr_of!(WANTED));
    ExitProcess(0)
}

/// # Safety
/// One thread; `all` holds `count` strings.
unsafe fn tell_places(to: *const u16, all: *mut *const u16, count: usize) {
    let text = &mut *addr_of_mut!(SCRATCH);
    text.add("program  ");
    (*addr_of!(PROGRAM)).as_slice().iter().for_each(|u| text.push(*u));
    text.add("\nstarted  ");
    text.len +=
        GetCurrentDirectoryW((text.units.len() - text.len) as u32, text.units.as_mut_ptr().add(text.len)) as usize;
    text.add("\nseason   ");
    let mut name = Text::<32>::empty();
    name.add("COMBWRIGHT_SEASON");
    text.len += GetEnvironmentVariableW(name.units.as_ptr(), text.units.as_mut_ptr().add(text.len), 256) as usize;
    text.add("\njournal  ");
    let there = GetFileAttributesW((*addr_of!(FILE)).units.as_ptr()) != u32::MAX;
    text.add(if there { "is there" } else { "was left behind" });
    for n in 1..count {
        text.add("\nargument ");
        text.add_wide(*all.add(n));
    }
    text.add("\n");
    // Written anew: CREATE_ALWAYS.
    let handle = CreateFileW(to, 0x4000_0000, 0, 0, 2, 0x80, 0);
    write(handle, text.as_slice());
    CloseHandle(handle);
}

/// # Safety
/// One thread.
unsafe fn load() {
    let handle = CreateFileW((*addr_of!(FILE)).units.as_ptr(), 0x8000_0000, 1, 0, 3, 0x80, 0);
    if handle == -1 {
        fail("The journal can't be opened: it was left behind, or its name is wrong.");
    }
    let bytes = &mut *addr_of_mut!(BYTES);
    let mut n = 0;
    ReadFile(handle, bytes.as_mut_ptr(), bytes.len() as u32, &mut n, 0);
    CloseHandle(handle);
    let journal = &mut *addr_of_mut!(JOURNAL);
    let most = journal.units.len() as i32 - 1;
    let units = MultiByteToWideChar(65001, 0, bytes.as_ptr(), n as i32, journal.units.as_mut_ptr(), most);
    journal.len = units.max(0) as usize;
    journal.units[journal.len] = 0;
}

/// The linker asks for it wherever code could use floating point numbers.
#[no_mangle]
static _fltused: i32 = 0;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    // SAFETY: ends the program.
    unsafe { ExitProcess(3) }
}
