//! Files that running programs use: found before anything is changed, and the person (or the command line) asked.

use crate::files;
use crate::install::{Answer, Watch};
use crate::journal::{Change, LATER};
use crate::record::PROGRAM;
use crate::system::{code, narrow, wide, Fault, Result};
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use core::sync::atomic::Ordering;
use windows_sys::Win32::System::RestartManager as rm;

/// Files among the changes that somebody has open, or runs.
fn used(changes: &[Change]) -> Vec<String> {
    let mut used = Vec::new();
    for change in changes {
        let (Change::File(path, _) | Change::NoFile(path, _)) = change else { continue };
        // The program that removes the product waits for this one to end.
        if path.ends_with(PROGRAM) || !files::exists(path) {
            continue;
        }
        if files::File::alone(path).is_err_and(|fault| fault.code == code::IN_USE) {
            used.push(path.clone());
        }
    }
    used
}

struct Session(u32);

impl Drop for Session {
    fn drop(&mut self) {
        // SAFETY: the session was begun.
        unsafe { rm::RmEndSession(self.0) };
    }
}

fn session(paths: &[String]) -> Option<Session> {
    let mut handle = 0;
    let mut key = [0u16; 33];
    // SAFETY: the key has the room that the function asks for; names end with a zero and live until the call is over.
    unsafe {
        if rm::RmStartSession(&mut handle, 0, key.as_mut_ptr()) != 0 {
            return None;
        }
        let session = Session(handle);
        let names: Vec<Vec<u16>> = paths.iter().map(|p| wide(p)).collect();
        let pointers: Vec<*const u16> = names.iter().map(|n| n.as_ptr()).collect();
        let error = rm::RmRegisterResources(handle, pointers.len() as u32, pointers.as_ptr(), 0, core::ptr::null(), 0, core::ptr::null());
        (error == 0).then_some(session)
    }
}

/// Names of the programs that use files; the files' own where the system does not know.
fn names(paths: &[String]) -> Vec<String> {
    let mut names = Vec::new();
    if let Some(session) = session(paths) {
        let (mut needed, mut count, mut reasons) = (0, 16u32, 0);
        // SAFETY: the structures are plain data, as many as is said.
        unsafe {
            let mut all: [rm::RM_PROCESS_INFO; 16] = core::mem::zeroed();
            if rm::RmGetList(session.0, &mut needed, &mut count, all.as_mut_ptr(), &mut reasons) == 0 {
                names.extend(all[..count.min(16) as usize].iter().map(|p| narrow(&p.strAppName)));
            }
        }
    }
    if names.is_empty() {
        names.extend(paths.iter().map(|p| String::from(p.rsplit('\\').next().unwrap_or(p))));
    }
    names.sort();
    names.dedup();
    names
}

fn close(paths: &[String]) {
    if let Some(session) = session(paths) {
        // SAFETY: the session was begun; nobody hears of its progress.
        unsafe { rm::RmShutdown(session.0, 0, None) };
    }
}

/// Waits, closes, goes on or stops, as somebody says.
pub fn settle(changes: &[Change], stage: &str, watch: &mut dyn Watch) -> Result<()> {
    loop {
        let mut used = used(changes);
        used.retain(|path| !path.starts_with(stage));
        if used.is_empty() {
            return Ok(());
        }
        let names = names(&used);
        watch.log(&format!("in use: {}", used.join(", ")));
        match watch.in_use(&names) {
            Answer::Again => {}
            Answer::Close => close(&used),
            Answer::GoOn => {
                LATER.store(true, Ordering::Relaxed);
                return Ok(());
            }
            Answer::Stop => return Err(Fault::new(code::IN_USE, "setup-in-use", names.join(", "))),
        }
    }
}
