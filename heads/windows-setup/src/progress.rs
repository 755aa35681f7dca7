//! Who hears how far it is, and is asked: the log and, where there are windows, the user before them.

use crate::journal::Change;
use crate::log::Log;
use crate::settings::InUse;
use crate::system::{code, Fault, Result};
use crate::text::{digits, t, Text, EMPTY};
use crate::wizard;
use windows_sys::Win32::System::Threading::Sleep;

/// What somebody says when files are in use.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    Again,
    GoOn,
    Close,
    Stop,
}

/// How long files in use are waited for without a user: ten minutes.
const LONGEST: u32 = 600;

/// Who hears and answers.
enum Who {
    /// The command line; so many seconds were waited.
    Nobody(InUse, u32),
    /// The windows; when they last heard something.
    User(u64),
}

pub struct Progress<'l> {
    pub log: &'l mut Log,
    who: Who,
    at: u32,
    /// All changes, and how many are made.
    all: u32,
    made: u32,
}

impl<'l> Progress<'l> {
    fn new(log: &'l mut Log, who: Who) -> Self {
        Self { log, who, at: 0, all: 0, made: 0 }
    }

    pub fn silent(log: &'l mut Log, in_use: InUse) -> Self {
        Self::new(log, Who::Nobody(in_use, 0))
    }

    pub fn user(log: &'l mut Log) -> Self {
        Self::new(log, Who::User(0))
    }

    /// So many thousandths are done; what is being done, a text that stays.
    pub fn progress(&mut self, thousandths: u32, doing: Text) {
        if let Who::User(last) = &mut self.who {
            wizard::progress(last, thousandths, doing);
        }
    }

    /// An error if somebody wants to stop.
    pub fn go_on(&self) -> Result<()> {
        match self.who {
            Who::User(_) if wizard::is_cancelled() => Err(Fault::new(code::CANCELLED, EMPTY, EMPTY)),
            _ => Ok(()),
        }
    }

    /// Files are in use: by these programs.
    pub fn in_use(&mut self, names: &[Text]) -> Answer {
        let Who::Nobody(in_use, waited) = &mut self.who else { return wizard::ask_in_use(names) };
        *waited += 1;
        // SAFETY: no preconditions.
        unsafe { Sleep(1000) };
        match in_use {
            InUse::Wait if *waited <= LONGEST => Answer::Again,
            InUse::Close if *waited <= 30 => Answer::Close,
            _ => Answer::Stop,
        }
    }

    /// A step is done.
    pub fn step(&mut self, what: Text) {
        self.at += 1;
        self.log.line(&[digits(self.at, 5), t!(" "), what]);
    }

    /// Changes are about to be made.
    pub fn begin(&mut self, changes: &[Change]) {
        (self.all, self.made) = (changes.len() as u32 + 2, 0);
    }

    /// A change is made; an error if somebody wants to stop.
    pub fn made(&mut self, what: Text) -> Result<()> {
        self.step(what);
        self.made += 1;
        self.progress(900 + self.made.min(self.all) * 100 / self.all, EMPTY);
        self.go_on()
    }
}
