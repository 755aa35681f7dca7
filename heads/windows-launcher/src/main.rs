//! A launcher: a program with the product's name and icon that starts another one, with arguments, variables and a
//! working folder that were fixed when it was built. What it is started with is passed on as it stands, byte for byte;
//! its exit code is that of the program.
//!
//! What to start stands in its resource 1 of the kind 10, as UTF-16 texts that each end with a zero: how many folders up
//! the product's own folder is; the program's path in it; the working folder (nothing: where the user stands, `~`: the
//! home folder, else a path in the product's folder, `.` for itself); the arguments as one line; then variables, each
//! `NAME=value` (`NAME` alone: it is taken away), and an empty text. The letter 1 stands for the product's folder.
#![no_std]
#![no_main]

#[path = "../../shared/load_config.rs"]
mod load_config;

use core::ptr::{null, null_mut};
use windows_sys::Win32::Foundation::CloseHandle;
use windows_sys::Win32::Storage::FileSystem::WriteFile;
use windows_sys::Win32::System::Console::{GetStdHandle, SetConsoleCtrlHandler, STD_ERROR_HANDLE};
use windows_sys::Win32::System::Environment::{GetCommandLineW, GetEnvironmentVariableW, SetEnvironmentVariableW};
use windows_sys::Win32::System::LibraryLoader::{FindResourceW, GetModuleFileNameW, LoadResource, LockResource};
use windows_sys::Win32::System::Memory::{GetProcessHeap, HeapAlloc};
use windows_sys::Win32::System::Threading as th;
use windows_sys::Win32::UI::WindowsAndMessaging::{MessageBoxW, MB_ICONERROR};

/// A command line has up to so many letters, and no path is longer.
const ROOM: usize = 32768;
const INSTALL: u16 = 1;
/// The system's number for a file that is not there.
const MISSING: u32 = 2;

/// A text of the system's longest length, with a zero behind it.
struct Text {
    units: *mut u16,
    length: usize,
}

impl Text {
    fn new() -> Self {
        // SAFETY: the process's heap is always there.
        let units: *mut u16 = unsafe { HeapAlloc(GetProcessHeap(), 0, ROOM * 2) }.cast();
        if units.is_null() {
            end(8);
        }
        Self { units, length: 0 }
    }

    fn push(&mut self, unit: u16) {
        if self.length + 1 >= ROOM {
            // The system's number for a line that is too long.
            end(206);
        }
        // SAFETY: there is room for this unit and the zero.
        unsafe {
            *self.units.add(self.length) = unit;
            *self.units.add(self.length + 1) = 0;
        }
        self.length += 1;
    }

    /// Appends a text up to its zero, with the product's folder put in.
    ///
    /// # Safety
    /// The text ends with a zero.
    unsafe fn add(&mut self, text: *const u16, folder: Option<&Text>) {
        let mut n = 0;
        while *text.add(n) != 0 {
            match folder {
                Some(folder) if *text.add(n) == INSTALL => self.add(folder.units, None),
                _ => self.push(*text.add(n)),
            }
            n += 1;
        }
    }

    fn add_str(&mut self, text: &str) {
        text.bytes().for_each(|b| self.push(b.into()));
    }
}

fn end(code: u32) -> ! {
    // SAFETY: ends the process.
    unsafe { th::ExitProcess(code) }
}

/// The text behind this one.
///
/// # Safety
/// The text ends with a zero, and another one follows.
unsafe fn next(mut text: *const u16) -> *const u16 {
    while *text != 0 {
        text = text.add(1);
    }
    text.add(1)
}

/// The command line behind the program's own name, as it stands.
///
/// # Safety
/// The line ends with a zero.
unsafe fn behind_the_name(mut line: *const u16) -> *const u16 {
    let mut quoted = false;
    while *line != 0 && (quoted || *line != b' ' as u16 && *line != b'\t' as u16) {
        if *line == b'"' as u16 {
            quoted = !quoted;
        }
        line = line.add(1);
    }
    line
}

/// Nothing: the program itself decides what an interrupt means.
unsafe extern "system" fn interrupted(_: u32) -> i32 {
    1
}

/// Says that the program can't be started.
unsafe fn complain(path: &Text) -> ! {
    let mut sentence = Text::new();
    sentence.add(path.units, None);
    sentence.add_str(" can't be started.\r\n");
    let stream = GetStdHandle(STD_ERROR_HANDLE);
    let mut done = 0;
    // A terminal's letters are not told apart further than this.
    let bytes: *mut u8 = HeapAlloc(GetProcessHeap(), 0, ROOM).cast();
    for n in 0..sentence.length {
        let unit = *sentence.units.add(n);
        *bytes.add(n) = if unit < 128 { unit as u8 } else { b'?' };
    }
    if stream.is_null() || WriteFile(stream, bytes, sentence.length as u32, &mut done, null_mut()) == 0 {
        MessageBoxW(null_mut(), sentence.units, null(), MB_ICONERROR);
    }
    end(MISSING)
}

/// A number where the system takes a name.
const fn number(n: usize) -> *const u16 {
    core::ptr::without_provenance(n)
}

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "C" fn start() -> ! {
    let resource = FindResourceW(null_mut(), number(1), number(10));
    let mut told: *const u16 = LockResource(LoadResource(null_mut(), resource)).cast();
    if told.is_null() {
        end(13);
    }
    // The product's folder: the launcher's own, or further up.
    let mut folder = Text::new();
    folder.length = GetModuleFileNameW(null_mut(), folder.units, ROOM as u32) as usize;
    let mut up = *told - b'0' as u16 + 1;
    while up > 0 && folder.length > 0 {
        folder.length -= 1;
        if *folder.units.add(folder.length) == b'\\' as u16 {
            up -= 1;
        }
    }
    *folder.units.add(folder.length) = 0;

    told = next(told);
    let inside = |text: *const u16| {
        let mut path = Text::new();
        path.add(folder.units, None);
        path.push(b'\\' as u16);
        path.add(text, None);
        path
    };
    let program = inside(told);
    told = next(told);
    let mut place = Text::new();
    match *told {
        0 => {}
        n if n == b'~' as u16 && *told.add(1) == 0 => {
            let name = [b'U', b'S', b'E', b'R', b'P', b'R', b'O', b'F', b'I', b'L', b'E', 0].map(u16::from);
            place.length = GetEnvironmentVariableW(name.as_ptr(), place.units, ROOM as u32) as usize;
        }
        n if n == b'.' as u16 && *told.add(1) == 0 => place.add(folder.units, None),
        _ => place = inside(told),
    }
    told = next(told);
    let mut line = Text::new();
    line.push(b'"' as u16);
    line.add(program.units, None);
    line.push(b'"' as u16);
    if *told != 0 {
        line.push(b' ' as u16);
        line.add(told, Some(&folder));
    }
    line.add(behind_the_name(GetCommandLineW()), None);
    told = next(told);
    while *told != 0 {
        let mut variable = Text::new();
        variable.add(told, Some(&folder));
        let mut n = 0;
        while *variable.units.add(n) != b'=' as u16 && n < variable.length {
            n += 1;
        }
        *variable.units.add(n) = 0;
        let value = if n < variable.length { variable.units.add(n + 1).cast_const() } else { null() };
        SetEnvironmentVariableW(variable.units, value);
        told = next(told);
    }

    // Paths of more than 260 letters are only taken in the system's unabridged form.
    let mut path = Text::new();
    if program.length > 240 && *program.units.add(1) == b':' as u16 {
        path.add_str(r"\\?\");
    }
    path.add(program.units, None);
    SetConsoleCtrlHandler(Some(interrupted), 1);
    let mut info: th::STARTUPINFOW = core::mem::zeroed();
    th::GetStartupInfoW(&mut info);
    let mut process: th::PROCESS_INFORMATION = core::mem::zeroed();
    let place = if place.length == 0 { null() } else { place.units.cast_const() };
    if th::CreateProcessW(path.units, line.units, null(), null(), 1, 0, null(), place, &info, &mut process) == 0 {
        complain(&program);
    }
    CloseHandle(process.hThread);
    th::WaitForSingleObject(process.hProcess, th::INFINITE);
    let mut code = 0;
    th::GetExitCodeProcess(process.hProcess, &mut code);
    end(code)
}

/// The linker asks for it wherever floating-point numbers might be used.
#[no_mangle]
#[used]
static _fltused: i32 = 0;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    end(1)
}
