//! Without windows: sentences go to the error stream where there is one, and into the log.

use crate::install::{self, Answer, Watch};
use crate::log::Log;
use crate::package::Package;
use crate::product::Product;
use crate::record::Record;
use crate::settings::{InUse, Settings};
use crate::system::{Fault, Result};
use crate::wishes::Chosen;
use alloc::format;
use alloc::string::String;
use windows_sys::Win32::Storage::FileSystem::WriteFile;
use windows_sys::Win32::System::Console::{AttachConsole, GetStdHandle, ATTACH_PARENT_PROCESS, STD_ERROR_HANDLE};
use windows_sys::Win32::System::Threading::Sleep;

/// How long files in use are waited for: ten minutes.
const LONGEST: u32 = 600;

pub struct Silent<'l> {
    pub log: &'l mut Log,
    pub in_use: InUse,
}

static WAITED: core::sync::atomic::AtomicU32 = core::sync::atomic::AtomicU32::new(0);

impl Watch for Silent<'_> {
    fn progress(&mut self, _: u32, _: &str) {}

    fn cancelled(&self) -> bool {
        false
    }

    fn in_use(&mut self, _: &[String]) -> Answer {
        let waited = WAITED.fetch_add(1, core::sync::atomic::Ordering::Relaxed);
        // SAFETY: no preconditions.
        unsafe { Sleep(1000) };
        match self.in_use {
            InUse::Wait if waited < LONGEST => Answer::Again,
            InUse::Close if waited < 30 => Answer::Close,
            _ => Answer::Stop,
        }
    }

    fn log(&mut self, line: &str) {
        self.log.line(line);
    }
}

/// Writes a sentence to the error stream.
pub fn complain(sentence: &str) {
    let line = format!("{sentence}\r\n");
    // SAFETY: the buffer has as many bytes; where there is no stream nothing happens.
    unsafe {
        AttachConsole(ATTACH_PARENT_PROCESS);
        let mut done = 0;
        WriteFile(GetStdHandle(STD_ERROR_HANDLE), line.as_ptr(), line.len() as u32, &mut done, core::ptr::null_mut());
    }
}

/// Ends before there is a product to speak of.
pub fn end_early(silent: bool, sentence: &str, code: u32) -> u32 {
    complain(sentence);
    if !silent {
        crate::window::say("Setup", sentence);
    }
    code
}

#[allow(clippy::too_many_arguments)]
pub fn run(
    package: &mut Package,
    product: &Product,
    chosen: &Chosen,
    old: &Record,
    removes: bool,
    fault: Option<Fault>,
    language: usize,
    log: &mut Log,
    settings: &Settings,
) -> u32 {
    let log_path = log.path.clone();
    let mut watch = Silent { log, in_use: settings.in_use };
    let result: Result<()> = match fault {
        Some(fault) => Err(fault),
        None if removes => crate::uninstaller_of(package, old).and_then(|p| install::remove(product, old, &p, &mut watch)),
        None => install::install(package, product, chosen, old, &mut watch),
    };
    log.result(&result);
    match result {
        Ok(()) => install::done_code(),
        Err(fault) => {
            complain(&crate::sentence(product, language, &fault, &log_path));
            fault.code
        }
    }
}
