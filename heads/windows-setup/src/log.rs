//! The log: one line for each step, in a file.

use crate::files::File;
use crate::system::Result;
use crate::text::{cat, digits, number, t, to_utf8, Text};
use windows_sys::Win32::System::SystemInformation::GetLocalTime;

pub struct Log {
    pub path: Text,
    file: Option<File>,
}

impl Log {
    /// Begins a log; where it can't be written, there is none.
    pub fn begin(path: Text) -> Self {
        let file = File::create(path).ok();
        Self { path, file }
    }

    /// The same in a folder where others can write too: not into a file that one of them has put there.
    pub fn begin_new(path: Text) -> Self {
        crate::files::delete(path);
        let file = File::create_new(path).ok();
        Self { path, file }
    }

    /// Another process writes it from now on.
    pub fn close(&mut self) {
        self.file = None;
    }

    /// Nobody wants to read it.
    pub fn forget(&mut self) {
        self.close();
        crate::files::delete(self.path);
    }

    pub fn line(&mut self, parts: &[Text]) {
        if let Some(file) = &self.file {
            // SAFETY: the structure is plain data, filled by the system.
            let now = unsafe {
                let mut now = core::mem::zeroed();
                GetLocalTime(&mut now);
                now
            };
            let two = |n: u16| digits(n.into(), 2);
            let line = cat(&[
                digits(now.wYear.into(), 4),
                t!("-"),
                two(now.wMonth),
                t!("-"),
                two(now.wDay),
                t!(" "),
                two(now.wHour),
                t!(":"),
                two(now.wMinute),
                t!(":"),
                two(now.wSecond),
                t!("."),
                digits(now.wMilliseconds.into(), 3),
                t!("  "),
                cat(parts),
                t!("\r\n"),
            ]);
            let _ = file.write(&to_utf8(line.units()), self.path);
        }
    }

    pub fn result(&mut self, result: &Result<()>) {
        let text = match result {
            Ok(()) => t!("done"),
            Err(fault) => cat(&[t!("ended with "), number(fault.code), t!(": "), fault.word, t!(" "), fault.detail]),
        };
        self.line(&[text]);
    }
}
