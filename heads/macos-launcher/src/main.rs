//! A launcher for application bundles: the file that the system starts where a program needs arguments, variables or a
//! working folder that were fixed when the bundle was built. Its own arguments are passed on behind those.
//!
//! A script would do the same; but the system knows a program's processors and signature from the file itself, and asks
//! about a script's (or starts it translated).
//!
//! What to start stands in `Contents/Resources/UpperShelf.launch`, as UTF-8 texts that each end with a zero: the
//! program's path in the product's folder; the working folder (nothing: where the user stands, `~`: the home folder,
//! else a path in the product's folder, `.` for itself); how many arguments there are; these; then variables, each
//! `NAME=value` (`NAME` alone: it is taken away). The letter 1 stands for the product's folder, which is the one that this file is in.
//!
//! It also runs on Linux, for tests.
#![no_std]
#![no_main]

use core::ffi::{c_char, c_int, c_void};
use core::ptr::{addr_of_mut, null, null_mut};

#[cfg_attr(target_os = "macos", link(name = "System"))]
#[cfg_attr(target_os = "linux", link(name = "c"))]
extern "C" {
    fn open(path: *const c_char, flags: c_int, ...) -> c_int;
    fn read(file: c_int, into: *mut c_void, count: usize) -> isize;
    fn write(file: c_int, from: *const c_void, count: usize) -> isize;
    fn strlen(text: *const c_char) -> usize;
    fn realpath(path: *const c_char, into: *mut c_char) -> *mut c_char;
    fn getenv(name: *const c_char) -> *const c_char;
    fn setenv(name: *const c_char, value: *const c_char, over: c_int) -> c_int;
    fn unsetenv(name: *const c_char) -> c_int;
    fn chdir(path: *const c_char) -> c_int;
    fn execv(path: *const c_char, arguments: *const *const c_char) -> c_int;
    fn exit(code: c_int) -> !;
    #[cfg(target_os = "macos")]
    fn _NSGetExecutablePath(buffer: *mut c_char, size: *mut u32) -> c_int;
}

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    // SAFETY: ends the process.
    unsafe { exit(BROKEN) }
}

/// The shell's own codes: what is to be started can't be, or is not there.
const BROKEN: c_int = 126;
const MISSING: c_int = 127;
/// The longest path of the system.
const LONGEST: usize = 1024;
/// Room for everything that is put together, and for the list of arguments.
const ROOM: usize = 1 << 20;
const MOST: usize = 1 << 16;
/// Stands for the product's folder.
const INSTALL: u8 = 1;

static mut OWN: [u8; 4 * LONGEST] = [0; 4 * LONGEST];
static mut SAID: [u8; ROOM] = [0; ROOM];
static mut TEXTS: [u8; ROOM] = [0; ROOM];
static mut ARGUMENTS: [*const c_char; MOST] = [null(); MOST];

/// Says what can't be started, and ends.
fn fail(what: &[u8], code: c_int) -> ! {
    for part in [what, b" can't be started\n"] {
        // SAFETY: the bytes are there, as many as is said.
        unsafe { write(2, part.as_ptr().cast(), part.len()) };
    }
    // SAFETY: ends the process.
    unsafe { exit(code) }
}

/// Texts that are put together, each with a zero at its end.
struct Texts {
    room: &'static mut [u8],
    at: usize,
}

impl Texts {
    fn push(&mut self, bytes: &[u8]) {
        let Some(to) = self.room.get_mut(self.at..self.at + bytes.len()) else {
            fail(b"a command line that is too long", BROKEN)
        };
        to.copy_from_slice(bytes);
        self.at += bytes.len();
    }

    /// A text with the product's folder put in; `before` stands before it.
    fn text(&mut self, before: &[u8], text: &[u8], install: &[u8]) -> *const c_char {
        let start = self.at;
        self.push(before);
        for (n, part) in text.split(|b| *b == INSTALL).enumerate() {
            if n > 0 {
                self.push(install);
            }
            self.push(part);
        }
        self.push(&[0]);
        self.room[start..].as_ptr().cast()
    }

    /// A path in the product's folder.
    fn path(&mut self, path: &[u8], install: &[u8]) -> *const c_char {
        let start = self.at;
        self.push(install);
        self.push(b"/");
        self.text(b"", path, install);
        self.room[start..].as_ptr().cast()
    }
}

/// The path of this file, links followed.
fn own_path() -> &'static [u8] {
    // SAFETY: the buffers have the room that the calls ask for; what they give ends with a zero.
    unsafe {
        #[cfg(target_os = "macos")]
        let named = {
            static mut NAMED: [u8; 4 * LONGEST] = [0; 4 * LONGEST];
            let mut size = 4 * LONGEST as u32;
            let named: *mut c_char = (&raw mut NAMED).cast();
            if _NSGetExecutablePath(named, &mut size) != 0 {
                fail(b"a program in a folder with such a long path", BROKEN);
            }
            named.cast_const()
        };
        #[cfg(not(target_os = "macos"))]
        let named = c"/proc/self/exe".as_ptr();
        let own = realpath(named, (&raw mut OWN).cast());
        if own.is_null() {
            fail(b"a program that no longer exists", BROKEN);
        }
        core::slice::from_raw_parts(own.cast(), strlen(own))
    }
}

/// A whole file; nothing if it can't be read or is too large.
///
/// # Safety
/// The path ends with a zero.
unsafe fn whole(path: *const c_char) -> Option<&'static [u8]> {
    let into = &mut *addr_of_mut!(SAID);
    let file = open(path, 0);
    let mut there = 0;
    while file >= 0 && there < into.len() {
        match read(file, into[there..].as_mut_ptr().cast(), into.len() - there) {
            0 => return Some(&into[..there]),
            n if n > 0 => there += n as usize,
            _ => break,
        }
    }
    None
}

fn number(text: &[u8]) -> usize {
    text.iter().fold(0, |n, digit| (n * 10 + usize::from(digit.wrapping_sub(b'0'))).min(MOST))
}

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "C" fn main(count: c_int, arguments: *const *const c_char) -> c_int {
    let own = own_path();
    let folder = |path: &'static [u8]| &path[..path.iter().rposition(|b| *b == b'/').unwrap_or(0)];
    let install = folder(own);
    let mut texts = Texts { room: &mut *addr_of_mut!(TEXTS), at: 0 };
    let said = texts.text(folder(install), b"/Resources/UpperShelf.launch", install);
    let Some(said) = whole(said) else { fail(own, BROKEN) };
    // Behind the last zero there is nothing.
    let mut parts = said.strip_suffix(&[0]).unwrap_or(said).split(|b| *b == 0);
    let mut next = || parts.next().unwrap_or(&[]);
    let (file, working, own_arguments) = (next(), next(), number(next()));
    let program = texts.path(file, install);
    let list = &mut *addr_of_mut!(ARGUMENTS);
    // One place stays for the zero at the list's end.
    if own_arguments + count.max(1) as usize >= list.len() {
        fail(b"a command line that is too long", BROKEN);
    }
    list[0] = program;
    let mut at = 1;
    for _ in 0..own_arguments {
        list[at] = texts.text(b"", next(), install);
        at += 1;
    }
    for n in 1..count as usize {
        list[at] = *arguments.add(n);
        at += 1;
    }
    for variable in parts {
        let Some(equals) = variable.iter().position(|b| *b == b'=') else {
            unsetenv(texts.text(b"", variable, install));
            continue;
        };
        let name = texts.text(b"", &variable[..equals], install);
        setenv(name, texts.text(b"", &variable[equals + 1..], install), 1);
    }
    let there = match working {
        b"" => null_mut(),
        b"~" => getenv(c"HOME".as_ptr()).cast_mut(),
        path => texts.path(path, install).cast_mut(),
    };
    if !there.is_null() && chdir(there) != 0 {
        fail(core::slice::from_raw_parts(there.cast(), strlen(there)), BROKEN);
    }
    execv(program, list.as_ptr());
    fail(core::slice::from_raw_parts(program.cast(), strlen(program)), MISSING)
}
