//! The log: one line for each step, in a file.

use crate::files::File;
use crate::system::Result;
use alloc::format;
use alloc::string::String;
use windows_sys::Win32::System::SystemInformation::GetLocalTime;

pub struct Log {
    pub path: String,
    file: Option<File>,
}

impl Log {
    /// Begins a log; where it can't be written, there is none.
    pub fn begin(path: String) -> Self {
        let file = File::create(&path).ok();
        Self { path, file }
    }

    pub fn line(&mut self, text: &str) {
        if let Some(file) = &self.file {
            // SAFETY: the structure is plain data, filled by the system.
            let now = unsafe {
                let mut now = core::mem::zeroed();
                GetLocalTime(&mut now);
                now
            };
            let line = format!(
                "{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:03}  {}\r\n",
                now.wYear, now.wMonth, now.wDay, now.wHour, now.wMinute, now.wSecond, now.wMilliseconds,
                text.replace('\t', "  ")
            );
            let _ = file.write(line.as_bytes(), &self.path);
        }
    }

    pub fn result(&mut self, result: &Result<()>) {
        match result {
            Ok(()) => self.line("done"),
            Err(fault) => self.line(&format!("ended with {}: {} {}", fault.code, fault.word, fault.detail)),
        }
    }
}
