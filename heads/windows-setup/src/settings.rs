//! The command line: the switches that this format is known by, and further ones with names. `/S` installs silently,
//! `/D=FOLDER`, the last one and without quotes, says where.

use crate::system::{code, narrow_at, Fault, Result};
use alloc::string::String;
use alloc::vec::Vec;
use windows_sys::Win32::Foundation::LocalFree;
use windows_sys::Win32::System::Environment::GetCommandLineW;
use windows_sys::Win32::UI::Shell::CommandLineToArgvW;

/// What to do when files are in use.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum InUse {
    Stop,
    Wait,
    Close,
}

#[derive(Clone)]
pub struct Settings {
    pub silent: bool,
    pub folder: Option<String>,
    /// `machine` or `person`.
    pub scope: Option<String>,
    pub choices: Option<Vec<String>>,
    pub desktop: Option<bool>,
    pub startup: Option<bool>,
    pub language: String,
    pub log: Option<String>,
    pub in_use: InUse,
    pub remove: bool,
    /// Only finishes or undoes what was interrupted.
    pub resume: bool,
    /// The folder of the product that is to be removed.
    pub from: Option<String>,
    /// The wizard begins behind the page that asks for whom.
    pub elevated: bool,
    /// The whole line behind the program's own name.
    pub line: String,
}

/// The line behind the program's name.
fn behind_the_name(line: &str) -> &str {
    let line = line.trim_start();
    let rest = match line.strip_prefix('"') {
        Some(rest) => rest.split_once('"').map_or("", |(_, rest)| rest),
        None => line.split_once([' ', '\t']).map_or("", |(_, rest)| rest),
    };
    rest.trim_start()
}

/// The command line behind the program's name, as it stands.
pub fn own_line() -> String {
    // SAFETY: the system's own text.
    let whole = unsafe { narrow_at(GetCommandLineW()) };
    behind_the_name(&whole).into()
}

impl Settings {
    pub fn read(line: &str) -> Result<Self> {
        let mut it = Self {
            silent: false,
            folder: None,
            scope: None,
            choices: None,
            desktop: None,
            startup: None,
            language: String::new(),
            log: None,
            in_use: InUse::Stop,
            remove: false,
            resume: false,
            from: None,
            elevated: false,
            line: line.into(),
        };
        // A folder's name goes to the line's end, blanks included.
        let begins = |at: &usize| *at == 0 || matches!(line.as_bytes()[at - 1], b' ' | b'"');
        let (switches, folder) = match line.find("/D=").filter(begins) {
            // Some shells put the whole switch in quotes.
            Some(at) => (line[..at].trim_end_matches('"'), Some(line[at + 3..].trim().trim_matches('"'))),
            None => (line, None),
        };
        it.folder = folder.map(|f| f.trim_end_matches('\\').into());
        for argument in arguments(switches) {
            it.take(&argument)?;
        }
        Ok(it)
    }

    fn take(&mut self, argument: &str) -> Result<()> {
        let unknown = || Err(Fault::new(code::USAGE, "setup-usage", argument));
        let (name, value) = argument.split_once('=').map_or((argument, None), |(n, v)| (n, Some(v)));
        let yes = |value: &str| matches!(value, "1" | "yes");
        match (name.to_ascii_uppercase().as_str(), value) {
            ("/S", None) => self.silent = true,
            // The check is always made: it takes less than a moment.
            ("/NCRC", None) => {}
            ("/REMOVE", None) => self.remove = true,
            ("/RESUME", None) => self.resume = true,
            ("/ELEVATED", None) => self.elevated = true,
            ("/SCOPE", Some(scope @ ("machine" | "person"))) => self.scope = Some(scope.into()),
            ("/CHOICES", Some(all)) => {
                self.choices = Some(all.split(',').filter(|c| !c.is_empty()).map(String::from).collect());
            }
            ("/DESKTOP", Some(value)) => self.desktop = Some(yes(value)),
            ("/STARTUP", Some(value)) => self.startup = Some(yes(value)),
            ("/LANGUAGE", Some(value)) => self.language = value.into(),
            ("/LOG", Some(value)) => self.log = Some(value.into()),
            ("/FROM", Some(value)) => self.from = Some(value.into()),
            ("/IN-USE", Some("stop")) => self.in_use = InUse::Stop,
            ("/IN-USE", Some("wait")) => self.in_use = InUse::Wait,
            ("/IN-USE", Some("close")) => self.in_use = InUse::Close,
            _ => return unknown(),
        }
        Ok(())
    }
}

/// A command line as arguments, by the system's own rules.
pub fn arguments(line: &str) -> Vec<String> {
    if line.trim().is_empty() {
        return Vec::new();
    }
    let mut count = 0;
    // The first argument is taken as a program's name, by other rules.
    let line = crate::system::wide(&alloc::format!("x {line}"));
    // SAFETY: the line ends with a zero; the list has as many items as is said, and is given back once.
    unsafe {
        let all = CommandLineToArgvW(line.as_ptr(), &mut count);
        if all.is_null() {
            return Vec::new();
        }
        let arguments = (1..count as usize).map(|n| narrow_at(*all.add(n))).collect();
        LocalFree(all.cast());
        arguments
    }
}

/// An argument in the form in which programs take lines apart.
pub fn quoted(argument: &str) -> String {
    if !argument.is_empty() && !argument.contains([' ', '\t', '"', '\n', '\u{b}']) {
        return argument.into();
    }
    let mut out = String::from("\"");
    let mut slashes = 0;
    let put = |out: &mut String, n: usize| (0..n).for_each(|_| out.push('\\'));
    for c in argument.chars() {
        match c {
            '\\' => slashes += 1,
            '"' => {
                put(&mut out, slashes * 2 + 1);
                out.push('"');
                slashes = 0;
            }
            c => {
                put(&mut out, slashes);
                out.push(c);
                slashes = 0;
            }
        }
    }
    put(&mut out, slashes * 2);
    out.push('"');
    out
}

/// Arguments as one line.
pub fn command_line(arguments: &[String]) -> String {
    arguments.iter().map(|a| quoted(a)).collect::<Vec<_>>().join(" ")
}
