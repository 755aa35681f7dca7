//! The demo product's program for macOS. It prints the journals that it is given, or the one in the product's folder,
//! with a count of visits. Everything that it needs of the system is named here, so that it can be built anywhere.
#![no_std]
#![no_main]

use core::ffi::{c_char, c_int, c_void};

#[link(name = "System")]
extern "C" {
    fn open(path: *const c_char, flags: c_int, ...) -> c_int;
    fn read(file: c_int, into: *mut c_void, count: usize) -> isize;
    fn write(file: c_int, from: *const c_void, count: usize) -> isize;
    fn strlen(text: *const c_char) -> usize;
    fn _NSGetExecutablePath(buffer: *mut c_char, size: *mut u32) -> c_int;
}

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    loop {}
}

fn say(bytes: &[u8]) {
    let mut rest = bytes;
    while !rest.is_empty() {
        // SAFETY: the bytes are there, and as many as is said.
        let n = unsafe { write(1, rest.as_ptr().cast(), rest.len()) };
        if n <= 0 {
            return;
        }
        rest = &rest[n as usize..];
    }
}

/// Prints a file and gives its lines; nothing if it can't be opened.
///
/// # Safety
/// The path ends with a zero.
unsafe fn print(path: *const c_char) -> Option<u32> {
    let file = open(path, 0);
    if file < 0 {
        return None;
    }
    let mut lines = 0;
    let mut buffer = [0u8; 4096];
    loop {
        let n = read(file, buffer.as_mut_ptr().cast(), buffer.len());
        if n <= 0 {
            return Some(lines);
        }
        let bytes = &buffer[..n as usize];
        lines += bytes.iter().filter(|b| **b == b'\n').count() as u32;
        say(bytes);
    }
}

fn say_number(mut n: u32) {
    let mut digits = [0u8; 10];
    let mut at = digits.len();
    loop {
        at -= 1;
        digits[at] = b'0' + (n % 10) as u8;
        n /= 10;
        if n == 0 {
            break;
        }
    }
    say(&digits[at..]);
}

/// The journal that comes with the product, beside the folder of this program.
///
/// # Safety
/// The buffer is as long as is said.
unsafe fn own_journal(buffer: &mut [u8; 4096]) -> Option<()> {
    const JOURNAL: &[u8] = b"journals/fernhollow.comb\0";
    let mut size = buffer.len() as u32;
    if _NSGetExecutablePath(buffer.as_mut_ptr().cast(), &mut size) != 0 {
        return None;
    }
    let end = buffer.iter().take_while(|b| **b != 0).count();
    let folder = buffer[..end].iter().rposition(|b| *b == b'/')? + 1;
    buffer.get_mut(folder..folder + JOURNAL.len())?.copy_from_slice(JOURNAL);
    Some(())
}

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "C" fn main(count: c_int, arguments: *const *const c_char) -> c_int {
    say(b"Combwright 2.4.0\n");
    let mut visits = 0;
    for n in 1..count as usize {
        let path = *arguments.add(n);
        match print(path) {
            Some(lines) => visits += lines,
            None => {
                say(b"can't be opened: ");
                say(core::slice::from_raw_parts(path.cast(), strlen(path)));
                say(b"\n");
                return 1;
            }
        }
    }
    if count < 2 {
        let mut path = [0; 4096];
        if own_journal(&mut path).is_some() {
            visits = print(path.as_ptr().cast()).unwrap_or(0);
        }
    }
    say_number(visits);
    say(b" lines\n");
    0
}
