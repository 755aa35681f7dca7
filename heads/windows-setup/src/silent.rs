//! Without windows: sentences go to the error stream where there is one, and into the log.

use crate::desired::Chosen;
use crate::install;
use crate::package::Package;
use crate::product::Product;
use crate::progress::Progress;
use crate::record::Record;
use crate::system::{Fault, Result};
use crate::text::{cat, t, to_utf8, Text};
use crate::twin::Twin;
use windows_sys::Win32::Storage::FileSystem::WriteFile;
use windows_sys::Win32::System::Console::{AttachConsole, GetStdHandle, ATTACH_PARENT_PROCESS, STD_ERROR_HANDLE};

/// Writes a sentence to the error stream.
fn complain(sentence: Text) {
    // In windows the sign stands twice, so that it is no key's.
    let line = to_utf8(cat(&[sentence.replace(t!("&&"), t!("&")), t!("\r\n")]).units());
    // SAFETY: the buffer has as many bytes; where there is no stream nothing happens.
    unsafe {
        AttachConsole(ATTACH_PARENT_PROCESS);
        let mut done = 0;
        WriteFile(GetStdHandle(STD_ERROR_HANDLE), line.as_ptr(), line.len() as u32, &mut done, core::ptr::null_mut());
    }
}

/// Ends before there is a product to speak of.
pub fn end_early(silent: bool, sentence: Text, code: u32) -> u32 {
    complain(sentence);
    if !silent {
        crate::window::say(t!("Setup"), sentence);
    }
    code
}

/// What a silent run goes by.
pub struct Run<'r> {
    pub package: &'r mut Package,
    pub product: &'static Product,
    pub chosen: &'r Chosen,
    pub old: &'r Record,
    pub twin: Option<&'static Twin>,
    pub removes: bool,
    /// Something that already speaks against it.
    pub fault: Option<Fault>,
    pub language: usize,
}

pub fn run(run: Run, progress: &mut Progress) -> u32 {
    let Run { package, product, chosen, old, .. } = run;
    let result: Result<()> = match run.fault {
        Some(fault) => Err(fault),
        None if run.removes => {
            crate::uninstaller_of(package, old).and_then(|p| install::remove(product, old, &p, progress))
        }
        None => install::install(package, product, chosen, old, run.twin, progress),
    };
    progress.log.result(&result);
    match result {
        Ok(()) => install::done_code(),
        Err(fault) => {
            complain(crate::sentence(product, run.language, fault, progress.log.path));
            fault.code
        }
    }
}
