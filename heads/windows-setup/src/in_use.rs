//! Files that running programs use: found before anything is changed, and the user (or the command line) asked.

use crate::early::Library;
use crate::files;
use crate::journal::{Change, LATER};
use crate::progress::{Answer, Progress};
use crate::record::PROGRAM;
use crate::system::{code, Fault, Result};
use crate::text::{join, sort, t, Text};
use alloc::vec::Vec;
use core::ffi::c_void;
use core::ptr::null;
use core::sync::atomic::Ordering;
use windows_sys::Win32::System::RestartManager::RM_PROCESS_INFO;

/// Files among the changes that somebody has open, or runs.
fn used(changes: &[Change], stage: Text) -> Vec<Text> {
    let mut used = Vec::new();
    for change in changes {
        let (Change::File(path, _) | Change::NoFile(path, _)) = change else { continue };
        // The program that removes the product waits for this one to end.
        if path.ends(PROGRAM) || path.begins(stage) || !files::exists(*path) {
            continue;
        }
        if files::File::alone(*path).is_err_and(|fault| fault.code == code::IN_USE) {
            used.push(*path);
        }
    }
    used
}

/// The restart manager's functions, in their own forms ("Restart Manager Functions").
type Begin = unsafe extern "system" fn(*mut u32, u32, *mut u16) -> u32;
type Register = unsafe extern "system" fn(u32, u32, *const *const u16, u32, *const c_void, u32, *const c_void) -> u32;
type List = unsafe extern "system" fn(u32, *mut u32, *mut u32, *mut RM_PROCESS_INFO, *mut u32) -> u32;
type Close = unsafe extern "system" fn(u32, u32, *const c_void) -> u32;
type End = unsafe extern "system" fn(u32) -> u32;

struct Session {
    manager: Library,
    handle: u32,
}

impl Drop for Session {
    fn drop(&mut self) {
        // SAFETY: the session was begun.
        unsafe {
            if let Some(end) = self.manager.function::<End>(c"RmEndSession") {
                end(self.handle);
            }
        }
    }
}

fn session(paths: &[Text]) -> Option<Session> {
    let manager = Library::load(t!("rstrtmgr"))?;
    let mut handle = 0;
    let mut key = [0u16; 33];
    // SAFETY: the key has the room that the function asks for; names end with a zero. A text is a pointer and no more.
    unsafe {
        if manager.function::<Begin>(c"RmStartSession")?(&mut handle, 0, key.as_mut_ptr()) != 0 {
            return None;
        }
        let session = Session { manager, handle };
        let register = manager.function::<Register>(c"RmRegisterResources")?;
        let error = register(handle, paths.len() as u32, paths.as_ptr().cast(), 0, null(), 0, null());
        (error == 0).then_some(session)
    }
}

impl Session {
    /// The programs that use the files, sixteen at most.
    fn processes(&self) -> Vec<Text> {
        let mut names = Vec::new();
        let (mut needed, mut count, mut reasons) = (0, 16u32, 0);
        // SAFETY: the structures are plain data, as many as is said.
        unsafe {
            let mut all: [RM_PROCESS_INFO; 16] = core::mem::zeroed();
            let Some(list) = self.manager.function::<List>(c"RmGetList") else { return names };
            if list(self.handle, &mut needed, &mut count, all.as_mut_ptr(), &mut reasons) == 0 {
                for process in &all[..count.min(16) as usize] {
                    names.push(Text::up_to_zero(&process.strAppName));
                }
            }
        }
        names
    }

    fn close(&self) {
        // SAFETY: the session was begun; nobody hears of its progress.
        unsafe {
            if let Some(close) = self.manager.function::<Close>(c"RmShutdown") {
                close(self.handle, 0, null());
            }
        }
    }
}

/// Names of the programs that use files; the files' own where the system does not know.
fn names(paths: &[Text]) -> Vec<Text> {
    let mut names = session(paths).map_or(Vec::new(), |s| s.processes());
    if names.is_empty() {
        for path in paths {
            names.push(path.name());
        }
    }
    sort(&mut names, Text::order);
    names.dedup_by(|a, b| a.is(*b));
    names
}

/// Waits, closes, goes on or stops, as somebody says.
pub fn settle(changes: &[Change], stage: Text, progress: &mut Progress) -> Result<()> {
    loop {
        let used = used(changes, stage);
        if used.is_empty() {
            return Ok(());
        }
        let names = names(&used);
        progress.log.line(&[t!("in use: "), join(&used, t!(", "))]);
        match progress.in_use(&names) {
            Answer::Again => {}
            Answer::Close => {
                if let Some(session) = session(&used) {
                    session.close();
                }
            }
            Answer::GoOn => {
                LATER.store(true, Ordering::Relaxed);
                return Ok(());
            }
            Answer::Stop => return Err(Fault::new(code::IN_USE, t!("setup-in-use"), join(&names, t!(", ")))),
        }
    }
}
