//! Files that running programs use: found before anything is changed, and the person (or the command line) asked.

use crate::files;
use crate::journal::{Change, LATER};
use crate::record::PROGRAM;
use crate::system::{code, Fault, Result};
use crate::text::{join, sort, t, Text};
use crate::watch::{Answer, Watch};
use alloc::vec::Vec;
use core::ptr::null;
use core::sync::atomic::Ordering;
use windows_sys::Win32::System::RestartManager as rm;

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

struct Session(u32);

impl Drop for Session {
    fn drop(&mut self) {
        // SAFETY: the session was begun.
        unsafe { rm::RmEndSession(self.0) };
    }
}

fn session(paths: &[Text]) -> Option<Session> {
    let mut handle = 0;
    let mut key = [0u16; 33];
    // SAFETY: the key has the room that the function asks for; names end with a zero. A text is a pointer and no more.
    unsafe {
        if rm::RmStartSession(&mut handle, 0, key.as_mut_ptr()) != 0 {
            return None;
        }
        let session = Session(handle);
        let error = rm::RmRegisterResources(handle, paths.len() as u32, paths.as_ptr().cast(), 0, null(), 0, null());
        (error == 0).then_some(session)
    }
}

/// Names of the programs that use files; the files' own where the system does not know.
fn names(paths: &[Text]) -> Vec<Text> {
    let mut names = Vec::new();
    if let Some(session) = session(paths) {
        let (mut needed, mut count, mut reasons) = (0, 16u32, 0);
        // SAFETY: the structures are plain data, as many as is said.
        unsafe {
            let mut all: [rm::RM_PROCESS_INFO; 16] = core::mem::zeroed();
            if rm::RmGetList(session.0, &mut needed, &mut count, all.as_mut_ptr(), &mut reasons) == 0 {
                for process in &all[..count.min(16) as usize] {
                    names.push(Text::up_to_zero(&process.strAppName));
                }
            }
        }
    }
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
pub fn settle(changes: &[Change], stage: Text, watch: &mut Watch) -> Result<()> {
    loop {
        let used = used(changes, stage);
        if used.is_empty() {
            return Ok(());
        }
        let names = names(&used);
        watch.log.line(&[t!("in use: "), join(&used, t!(", "))]);
        match watch.in_use(&names) {
            Answer::Again => {}
            Answer::Close => {
                if let Some(session) = session(&used) {
                    // SAFETY: the session was begun; nobody hears of its progress.
                    unsafe { rm::RmShutdown(session.0, 0, None) };
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
