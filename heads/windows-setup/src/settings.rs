//! The command line: switches in any order, quoted as usual. `/S` installs silently, `/FOLDER="…"` says where.

use crate::product::Product;
use crate::system::{code, Fault, Result};
use crate::text::{cat, join, t, Text, EMPTY};
use alloc::vec::Vec;
use windows_sys::Win32::System::Environment::GetCommandLineW;
use windows_sys::Win32::UI::Shell::CommandLineToArgvW;

/// What to do when files are in use.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum InUse {
    Stop,
    Wait,
    Close,
}

pub struct Settings {
    pub silent: bool,
    pub folder: Option<Text>,
    /// For everyone, or for one user.
    pub machine: Option<bool>,
    pub choices: Option<Vec<Text>>,
    pub desktop: Option<bool>,
    pub startup: Option<bool>,
    pub language: Text,
    pub log: Option<Text>,
    pub in_use: InUse,
    pub remove: bool,
    /// Only finishes or undoes what was interrupted.
    pub resume: bool,
    /// The folder of the product that is to be removed.
    pub from: Option<Text>,
    /// The wizard begins behind the page that asks for whom.
    pub elevated: bool,
    /// The whole line behind the program's own name.
    pub line: Text,
}

/// The command line behind the program's name, as it stands.
pub fn own_line() -> Text {
    // SAFETY: the system's own text, which stays.
    let line = unsafe { Text::at(GetCommandLineW()) };
    let units = line.units();
    let is_quoted = units.first() == Some(&b'"'.into());
    let is_end = |u: &u16| if is_quoted { *u == b'"'.into() } else { matches!(*u as u8, b' ' | b'\t') };
    let start = usize::from(is_quoted);
    let end = units.iter().skip(start).position(is_end).map_or(units.len(), |n| start + n + 1);
    line.skip(end).trim(b" \t")
}

impl Settings {
    pub fn read(line: Text) -> Result<Self> {
        let mut it = Self {
            silent: false,
            folder: None,
            machine: None,
            choices: None,
            desktop: None,
            startup: None,
            language: EMPTY,
            log: None,
            in_use: InUse::Stop,
            remove: false,
            resume: false,
            from: None,
            elevated: false,
            line,
        };
        for argument in arguments(line) {
            it.take(argument)?;
        }
        Ok(it)
    }

    fn take(&mut self, argument: Text) -> Result<()> {
        let (name, value) = match argument.find(t!("=")) {
            Some(at) => (argument.first(at), Some(argument.skip(at + 1))),
            None => (argument, None),
        };
        let name = name.upper();
        let unknown = || Err(Fault::new(code::USAGE, t!("setup-usage"), argument));
        let Some(value) = value else {
            match name.among(t!("/S|/REMOVE|/RESUME|/ELEVATED")) {
                0 => self.silent = true,
                1 => self.remove = true,
                2 => self.resume = true,
                3 => self.elevated = true,
                _ => return unknown(),
            }
            return Ok(());
        };
        let yes = value.among(t!("1|yes")) < 2;
        match name.among(t!("/SCOPE|/CHOICES|/DESKTOP|/STARTUP|/LANGUAGE|/LOG|/FROM|/IN-USE|/FOLDER")) {
            0 => match value.among(t!("user|machine")) {
                n @ 0..=1 => self.machine = Some(n == 1),
                _ => return unknown(),
            },
            1 => self.choices = Some(value.split(b',')),
            2 => self.desktop = Some(yes),
            3 => self.startup = Some(yes),
            4 => self.language = value,
            5 => self.log = Some(value),
            6 => self.from = Some(value),
            7 => {
                self.in_use = match value.among(t!("stop|wait|close")) {
                    0 => InUse::Stop,
                    1 => InUse::Wait,
                    2 => InUse::Close,
                    _ => return unknown(),
                }
            }
            // A backslash before the closing quote makes that quote a part of the name.
            8 => self.folder = Some(value.trim(b" \t\"").without_slash()),
            _ => return unknown(),
        }
        Ok(())
    }
}

impl Settings {
    /// What of it this product does not have; said before anything is changed.
    pub fn fits(&self, product: &Product) -> Result<()> {
        let wrong = |what: Text, known: Text| {
            Err(Fault::new(code::USAGE, t!("setup-usage"), cat(&[what, t!("; possible: "), known])))
        };
        let mut keys = Vec::new();
        for choice in &product.choices {
            keys.push(choice.text(0));
        }
        for key in self.choices.iter().flatten() {
            if !key.is_empty() && !keys.iter().any(|k| k.same(*key)) {
                return wrong(cat(&[t!("/CHOICES="), *key]), join(&keys, t!(", ")));
            }
        }
        let scope = product.rule(t!("scope"));
        if !scope.is(t!("asked")) && self.machine.is_some_and(|m| m != scope.is(t!("machine"))) {
            return wrong(t!("/SCOPE="), scope);
        }
        Ok(())
    }
}

/// A command line as arguments, by the system's own rules.
fn arguments(line: Text) -> Vec<Text> {
    let mut all = Vec::new();
    let mut count = 0;
    // The first argument is taken as a program's name, by other rules.
    let line = cat(&[t!("x "), line]);
    // SAFETY: the line ends with a zero; the list has as many items as is said, and is never given back.
    unsafe {
        let list = CommandLineToArgvW(line.ptr(), &mut count);
        if !list.is_null() {
            for n in 1..count.max(1) as usize {
                all.push(Text::at(*list.add(n)));
            }
        }
    }
    all
}

/// An argument in the form in which programs take lines apart.
pub fn quoted(argument: Text) -> Text {
    if argument.is_empty() || argument.has(b" \t\"\n\x0B") {
        in_quotes(argument)
    } else {
        argument
    }
}

fn in_quotes(argument: Text) -> Text {
    const QUOTE: u16 = b'"' as u16;
    const SLASH: u16 = b'\\' as u16;
    let mut out = alloc::vec![QUOTE];
    let mut slashes = 0;
    // Backslashes before a quote stand twice, and one more before one that is meant.
    for unit in argument.units().iter().copied().chain([0]) {
        if unit == SLASH {
            slashes += 1;
            continue;
        }
        let count = match unit {
            QUOTE => slashes * 2 + 1,
            0 => slashes * 2,
            _ => slashes,
        };
        out.resize(out.len() + count, SLASH);
        slashes = 0;
        out.push(if unit == 0 { QUOTE } else { unit });
    }
    Text::of(&out)
}

/// A path in quotes: with or without blanks nobody takes it apart in the wrong place.
pub fn quoted_path(path: Text) -> Text {
    in_quotes(path)
}

/// Arguments as one line.
pub fn command_line(arguments: &[Text]) -> Text {
    let mut all = Vec::new();
    for argument in arguments {
        all.push(quoted(*argument));
    }
    join(&all, t!(" "))
}
