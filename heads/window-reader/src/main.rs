//! For tests: walks through a program's windows. `window-reader.exe FILE STEP…`: for each step it waits until a button
//! of that text can be pressed and the window stands still, writes what is to be seen into FILE, and presses it. The
//! step `.` writes once more without pressing; `see:TEXT` waits for a button and doesn't press it; `close:TITLE` waits for a window of that title and closes it. It ends with 1 when a button does not come within a minute.
//!
//! `window-reader.exe as-user PROGRAM ARGUMENTS…` runs a program without an administrator's rights and ends with its
//! exit code; `window-reader.exe service` is a service that does nothing; `window-reader.exe trust FILE` ends with 0 when the
//! system finds the file's signature to fit, whoever is trusted.
//!
//! A line for a window: class, size, title. Below it one for each control: class, place and size inside the window,
//! whether it can be used and is ticked, and its text, all separated by tabs.
#![no_std]
#![no_main]
#![allow(non_upper_case_globals)]

mod system;
mod trust;
mod user;

use core::ptr::{addr_of_mut, null};
use system::*;

const WM_GETTEXT: u32 = 0x0D;
const WM_CLOSE: u32 = 0x10;
const BM_GETCHECK: u32 = 0xF0;
const BM_CLICK: u32 = 0xF5;
const ABORT_IF_HUNG: u32 = 2;

struct Buffer<T: Copy, const N: usize> {
    items: [T; N],
    len: usize,
}

impl<T: Copy, const N: usize> Buffer<T, N> {
    fn push(&mut self, item: T) {
        if self.len < N {
            self.items[self.len] = item;
            self.len += 1;
        }
    }
}

static mut SEEN: Buffer<u16, 65536> = Buffer { items: [0; 65536], len: 0 };
static mut BEFORE: Buffer<u16, 65536> = Buffer { items: [0; 65536], len: 0 };
static mut BYTES: [u8; 196_608] = [0; 196_608];
static mut TEXT: [u16; 4096] = [0; 4096];
/// The text that is looked for, whether a window's title has to be it, and what was found.
static mut WANTED: *const u16 = null();
static mut WANTED_WINDOW: bool = false;
static mut FOUND: isize = 0;

unsafe fn put(unit: u16) {
    (*addr_of_mut!(SEEN)).push(unit);
}

unsafe fn put_text(text: *const u16) {
    let mut n = 0;
    while *text.add(n) != 0 {
        // A text's own line ends and tabs would end the record.
        put(if *text.add(n) < 32 { 32 } else { *text.add(n) });
        n += 1;
    }
}

unsafe fn put_str(text: &str) {
    text.bytes().for_each(|b| put(b.into()));
}

unsafe fn put_number(n: i32) {
    if n < 0 {
        put(b'-'.into());
    }
    let (mut digits, mut at, mut left) = ([0u8; 10], 10, n.unsigned_abs());
    loop {
        at -= 1;
        digits[at] = b'0' + (left % 10) as u8;
        left /= 10;
        if left == 0 {
            break;
        }
    }
    digits[at..].iter().for_each(|d| put((*d).into()));
}

unsafe fn put_numbers(numbers: &[i32]) {
    for (n, number) in numbers.iter().enumerate() {
        if n > 0 {
            put(b','.into());
        }
        put_number(*number);
    }
}

/// The text of a window; an empty one if it does not answer.
unsafe fn text_of(window: isize) -> *const u16 {
    let text = &mut *addr_of_mut!(TEXT);
    text[0] = 0;
    let mut result = 0;
    SendMessageTimeoutW(
        window,
        WM_GETTEXT,
        text.len() - 1,
        text.as_mut_ptr() as isize,
        ABORT_IF_HUNG,
        2000,
        &mut result,
    );
    text.as_ptr()
}

/// Whether two texts are the same but for the sign of a key: `&`, where `&&` stands for the letter itself.
unsafe fn same(text: *const u16, wanted: *const u16) -> bool {
    let (mut a, mut b) = (0, 0);
    loop {
        if *text.add(a) == u16::from(b'&') {
            a += 1;
        }
        if *text.add(a) != *wanted.add(b) {
            return false;
        }
        if *wanted.add(b) == 0 {
            return true;
        }
        a += 1;
        b += 1;
    }
}

unsafe fn same_start(text: *const u16, with: &str) -> bool {
    with.bytes().enumerate().all(|(n, b)| *text.add(n) == b.into())
}

unsafe fn class_of(window: isize) -> [u16; 64] {
    let mut class = [0; 64];
    GetClassNameW(window, class.as_mut_ptr(), 63);
    class
}

fn is_class(class: &[u16; 64], name: &str) -> bool {
    name.bytes().enumerate().all(|(n, b)| class[n] == b.into()) && class[name.len()] == 0
}

unsafe extern "system" fn control(window: isize, top: isize) -> i32 {
    if IsWindowVisible(window) == 0 {
        return 1;
    }
    let class = class_of(window);
    put_text(class.as_ptr());
    put(9);
    let mut rect = Rect::default();
    GetWindowRect(window, &mut rect);
    MapWindowPoints(0, top, &mut rect, 2);
    put_numbers(&[rect.left, rect.top, rect.right - rect.left, rect.bottom - rect.top]);
    put(9);
    let enabled = IsWindowEnabled(window) != 0;
    put_str(if enabled { "on" } else { "off" });
    if is_class(&class, "Button") {
        let mut ticked = 0;
        SendMessageTimeoutW(window, BM_GETCHECK, 0, 0, ABORT_IF_HUNG, 2000, &mut ticked);
        put_str(if ticked == 1 { " ticked" } else { "" });
    }
    put(9);
    let text = text_of(window);
    put_text(text);
    put(10);
    let wanted = *addr_of_mut!(WANTED);
    if enabled && !wanted.is_null() && !*addr_of_mut!(WANTED_WINDOW) && is_class(&class, "Button") && same(text, wanted)
    {
        *addr_of_mut!(FOUND) = window;
    }
    1
}

unsafe extern "system" fn window(window: isize, _: isize) -> i32 {
    let class = class_of(window);
    if IsWindowVisible(window) == 0 || is_class(&class, "#32769") || class[0] == 0 {
        return 1;
    }
    put_str("window ");
    put_text(class.as_ptr());
    put(9);
    let mut rect = Rect::default();
    GetWindowRect(window, &mut rect);
    put_numbers(&[rect.right - rect.left, rect.bottom - rect.top]);
    put(9);
    let text = text_of(window);
    put_text(text);
    put(10);
    let wanted = *addr_of_mut!(WANTED);
    if *addr_of_mut!(WANTED_WINDOW) && same(text, wanted) {
        *addr_of_mut!(FOUND) = window;
    }
    EnumChildWindows(window, control, window);
    1
}

unsafe fn look(wanted: *const u16) {
    *addr_of_mut!(WANTED) = wanted;
    *addr_of_mut!(FOUND) = 0;
    (*addr_of_mut!(SEEN)).len = 0;
    EnumWindows(window, 0);
}

/// Whether the last two looks saw the same; the last one is kept for the next time.
unsafe fn stands_still() -> bool {
    let (seen, before) = (&mut *addr_of_mut!(SEEN), &mut *addr_of_mut!(BEFORE));
    let still = seen.len == before.len && seen.items[..seen.len] == before.items[..before.len];
    before.len = seen.len;
    before.items[..seen.len].copy_from_slice(&seen.items[..seen.len]);
    still
}

unsafe fn write(file: isize) {
    let (seen, bytes) = (&*addr_of_mut!(SEEN), &mut *addr_of_mut!(BYTES));
    let n = WideCharToMultiByte(
        65001,
        0,
        seen.items.as_ptr(),
        seen.len as i32,
        bytes.as_mut_ptr(),
        bytes.len() as i32,
        0,
        0,
    );
    let mut done = 0;
    WriteFile(file, bytes.as_ptr(), n as u32, &mut done, 0);
}

/// # Safety
/// Called once, by the system; there is one thread.
#[no_mangle]
unsafe extern "system" fn start() -> ! {
    let mut count = 0;
    let all = CommandLineToArgvW(GetCommandLineW(), &mut count);
    if count < 2 {
        ExitProcess(2);
    }
    let first = *all.add(1);
    if same_start(first, "service") && *first.add(7) == 0 {
        ExitProcess(user::serve());
    }
    if count > 2 && same_start(first, "trust") && *first.add(5) == 0 {
        ExitProcess(trust::ask(*all.add(2)));
    }
    if same_start(first, "as-user") && *first.add(7) == 0 {
        // The rest of the line as it stands.
        let mut rest = GetCommandLineW();
        while !same_start(rest, "as-user ") {
            rest = rest.add(1);
        }
        ExitProcess(user::run(rest.add(8)));
    }
    let file = CreateFileW(*all.add(1), 0x4000_0000, 1, 0, 2, 0x80, 0);
    for step in 2..count as usize {
        let text = *all.add(step);
        let only_look = *text == b'.'.into() && *text.add(1) == 0;
        let closes = same_start(text, "close:");
        *addr_of_mut!(WANTED_WINDOW) = closes;
        let only_waits = same_start(text, "see:");
        let wanted = match (only_look, closes) {
            (true, _) => null(),
            (_, true) => text.add(6),
            _ if only_waits => text.add(4),
            _ => text,
        };
        let mut waited = 0;
        loop {
            look(wanted);
            let here = only_look || *addr_of_mut!(FOUND) != 0;
            if stands_still() && here {
                break;
            }
            Sleep(120);
            waited += 1;
            if waited > 500 {
                write(file);
                ExitProcess(1);
            }
        }
        put_str("step ");
        put_text(text);
        put(10);
        write(file);
        if !only_look && !only_waits {
            PostMessageW(*addr_of_mut!(FOUND), if closes { WM_CLOSE } else { BM_CLICK }, 0, 0);
            // What a press does takes a moment to begin.
            Sleep(250);
        }
    }
    ExitProcess(0)
}

/// The linker asks for it wherever floating-point numbers might be used.
#[no_mangle]
#[used]
static _fltused: i32 = 0;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    // SAFETY: ends the process.
    unsafe { ExitProcess(3) }
}
