//! The journal: every change that an installation makes, written down before the first one is made. Each can be made
//! again and undone again without harm, so whatever moment the power fails at, the next start finishes the new state or
//! brings back the old one.
//!
//! Files wait in a folder beside the others (`~setup`) and are only moved; what they replace waits there until the end.

use crate::files;
use crate::registry::{self, At, Data};
use crate::services::{self, Config};
use crate::system::{code, Fault, Result};
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use core::sync::atomic::{AtomicBool, Ordering};

/// The folder in the product's own where files wait.
pub const FOLDER: &str = "~setup";
/// The journal's name while changes are made, and while they are undone.
const FORWARD: &str = "journal";
const BACKWARD: &str = "journal.undo";

/// Whether files in use may be replaced when the system starts again, and whether that is so for one.
pub static LATER: AtomicBool = AtomicBool::new(false);
pub static RESTART: AtomicBool = AtomicBool::new(false);
const LATER_NAME: &str = ".~new";

/// A change.
#[derive(Clone)]
pub enum Change {
    /// A folder is made.
    Folder(String),
    /// A folder goes if it is empty.
    NoFolder(String),
    /// The waiting file of this number is put here; one that is there waits under the same number.
    File(String, u32),
    /// A file goes; it waits under this number.
    NoFile(String, u32),
    /// A key is made, or goes if it is empty.
    Key(At, bool),
    /// A value becomes another one; none is no value.
    Value(At, Option<Data>, Option<Data>),
    /// A service becomes another one.
    Service(Option<Config>, Option<Config>),
}

/// Where a waiting file is: few to a folder, because large ones are slow.
pub fn waiting(stage: &str, n: u32, old: bool) -> String {
    format!("{stage}\\{}{}\\{n}", if old { 'o' } else { 'n' }, n >> 8)
}

/// The folder of a waiting file.
fn waiting_folder(stage: &str, n: u32, old: bool) -> String {
    format!("{stage}\\{}{}", if old { 'o' } else { 'n' }, n >> 8)
}

fn put_aside(stage: &str, path: &str, n: u32) -> Result<()> {
    let old = waiting(stage, n, true);
    if files::exists(path) && !files::exists(&old) {
        files::make_folder(&waiting_folder(stage, n, true))?;
        files::rename(path, &old)?;
    }
    Ok(())
}

fn bring_back(stage: &str, path: &str, n: u32) -> Result<()> {
    let old = waiting(stage, n, true);
    if files::exists(&old) { files::rename(&old, path) } else { Ok(()) }
}

impl Change {
    /// Makes it; again if need be.
    pub fn make(&self, stage: &str) -> Result<()> {
        match self {
            Self::Folder(path) => files::make_folder(path).map(drop),
            Self::NoFolder(path) => {
                files::remove_folder(path);
                Ok(())
            }
            Self::File(path, n) => {
                let new = waiting(stage, *n, false);
                if !files::exists(&new) {
                    return Ok(());
                }
                match put_aside(stage, path, *n) {
                    // Somebody agreed to that: it is replaced when the system starts again.
                    Err(fault) if fault.code == code::IN_USE && LATER.load(Ordering::Relaxed) => {
                        let later = format!("{path}{LATER_NAME}");
                        files::rename(&new, &later)?;
                        files::rename_at_restart(&later, path)?;
                        RESTART.store(true, Ordering::Relaxed);
                        Ok(())
                    }
                    Err(fault) => Err(fault),
                    Ok(()) => files::rename(&new, path),
                }
            }
            Self::NoFile(path, n) => match put_aside(stage, path, *n) {
                Err(fault) if fault.code == code::IN_USE && LATER.load(Ordering::Relaxed) => {
                    RESTART.store(true, Ordering::Relaxed);
                    files::delete_at_restart(path)
                }
                other => other,
            },
            Self::Key(at, true) => registry::make_key(at),
            Self::Key(at, false) => {
                registry::remove_key(at);
                Ok(())
            }
            Self::Value(at, new, _) => value(at, new),
            Self::Service(new, old) => service(new, old),
        }
    }

    /// Undoes it, whether it was made or not.
    pub fn undo(&self, stage: &str) -> Result<()> {
        match self {
            Self::Folder(path) => {
                files::remove_folder(path);
                Ok(())
            }
            Self::NoFolder(path) => files::make_folder(path).map(drop),
            Self::File(path, n) => {
                let new = waiting(stage, *n, false);
                let later = format!("{path}{LATER_NAME}");
                if files::exists(&later) {
                    return files::rename(&later, &new);
                }
                if !files::exists(&new) && files::exists(path) {
                    files::rename(path, &new)?;
                }
                bring_back(stage, path, *n)
            }
            Self::NoFile(path, n) => bring_back(stage, path, *n),
            Self::Key(at, true) => {
                registry::remove_key(at);
                Ok(())
            }
            Self::Key(at, false) => registry::make_key(at),
            Self::Value(at, _, old) => value(at, old),
            Self::Service(new, old) => service(old, new),
        }
    }
}

fn value(at: &At, data: &Option<Data>) -> Result<()> {
    match data {
        Some(data) => registry::set(at, data),
        None => registry::remove(at),
    }
}

fn service(new: &Option<Config>, old: &Option<Config>) -> Result<()> {
    match (new, old) {
        (Some(new), _) => services::set(new),
        (None, Some(old)) => services::remove(&old.name),
        (None, None) => Ok(()),
    }
}

/// Texts of a line, with what would end them escaped.
pub struct Line(pub String);

impl Line {
    pub fn new(kind: &str) -> Self {
        Self(kind.into())
    }

    pub fn text(mut self, text: &str) -> Self {
        self.0.push('\t');
        for c in text.chars() {
            match c {
                '\\' => self.0.push_str("\\\\"),
                '\t' => self.0.push_str("\\t"),
                '\n' => self.0.push_str("\\n"),
                '\r' => self.0.push_str("\\r"),
                c => self.0.push(c),
            }
        }
        self
    }

    pub fn number(self, n: u32) -> Self {
        self.text(&format!("{n}"))
    }

    pub fn at(self, at: &At) -> Self {
        self.number(u32::from(at.machine) | u32::from(at.narrow) << 1).text(&at.key).text(&at.name)
    }

    pub fn data(self, data: &Option<Data>) -> Self {
        match data {
            None => self.text("none").text(""),
            Some((kind, bytes)) => {
                const DIGITS: &[u8; 16] = b"0123456789abcdef";
                let mut hex = String::with_capacity(bytes.len() * 2);
                for b in bytes {
                    hex.push(DIGITS[usize::from(b >> 4)] as char);
                    hex.push(DIGITS[usize::from(b & 15)] as char);
                }
                self.number(*kind).text(&hex)
            }
        }
    }

    pub fn config(self, config: &Option<Config>) -> Self {
        match config {
            None => self.text("none"),
            Some(c) => {
                self.text(&c.name).text(&c.title).text(&c.description).text(&c.command).number(c.start as u32).text(&c.account)
            }
        }
    }
}

/// Takes a line apart.
pub struct Fields<'l>(core::str::Split<'l, char>);

impl<'l> Fields<'l> {
    /// The line's kind, and its texts.
    pub fn of(line: &'l str) -> (&'l str, Self) {
        let mut parts = line.split('\t');
        (parts.next().unwrap_or(""), Self(parts))
    }

    pub fn text(&mut self) -> Result<String> {
        let raw = self.0.next().ok_or_else(broken)?;
        let mut out = String::with_capacity(raw.len());
        let mut chars = raw.chars();
        while let Some(c) = chars.next() {
            out.push(match c {
                '\\' => match chars.next() {
                    Some('t') => '\t',
                    Some('n') => '\n',
                    Some('r') => '\r',
                    _ => '\\',
                },
                c => c,
            });
        }
        Ok(out)
    }

    pub fn number(&mut self) -> Result<u32> {
        self.text()?.parse().map_err(|_| broken())
    }

    pub fn at(&mut self) -> Result<At> {
        let bits = self.number()?;
        Ok(At { machine: bits & 1 != 0, narrow: bits & 2 != 0, key: self.text()?, name: self.text()? })
    }

    pub fn data(&mut self) -> Result<Option<Data>> {
        let (kind, hex) = (self.text()?, self.text()?);
        if kind == "none" {
            return Ok(None);
        }
        let digit = |b: u8| (b as char).to_digit(16).ok_or_else(broken);
        let mut bytes = Vec::with_capacity(hex.len() / 2);
        for pair in hex.as_bytes().chunks_exact(2) {
            bytes.push((digit(pair[0])? << 4 | digit(pair[1])?) as u8);
        }
        Ok(Some((kind.parse().map_err(|_| broken())?, bytes)))
    }

    pub fn config(&mut self) -> Result<Option<Config>> {
        let name = self.text()?;
        if name == "none" {
            return Ok(None);
        }
        let (title, description, command) = (self.text()?, self.text()?, self.text()?);
        Ok(Some(Config { name, title, description, command, start: self.number()? as i32, account: self.text()? }))
    }
}

pub fn broken() -> Fault {
    Fault::new(code::FAILED, "setup-failed", "the journal or the record is damaged")
}

fn line(change: &Change) -> String {
    match change {
        Change::Folder(path) => Line::new("folder").text(path),
        Change::NoFolder(path) => Line::new("no-folder").text(path),
        Change::File(path, n) => Line::new("file").text(path).number(*n),
        Change::NoFile(path, n) => Line::new("no-file").text(path).number(*n),
        Change::Key(at, make) => Line::new("key").at(at).number(u32::from(*make)),
        Change::Value(at, new, old) => Line::new("value").at(at).data(new).data(old),
        Change::Service(new, old) => Line::new("service").config(new).config(old),
    }
    .0
}

/// The change as it stands in a log.
fn told(change: &Change) -> String {
    let value = |at: &At, data: &Option<Data>| {
        let root = if at.machine { "HKLM" } else { "HKCU" };
        let view = if at.narrow { " (32-bit)" } else { "" };
        let data = match data {
            None => String::from("taken away"),
            Some(data) if data.0 <= 2 => registry::as_text(data),
            Some(data) => format!("{} bytes", data.1.len()),
        };
        format!("value  {root}\\{}{view}  {} = {data}", at.key, at.name)
    };
    match change {
        Change::Value(at, new, _) => value(at, new),
        Change::Key(at, make) => format!("{}  {}", if *make { "key" } else { "no-key" }, at.key),
        Change::Folder(path) => format!("folder  {path}"),
        Change::NoFolder(path) => format!("no-folder  {path}"),
        Change::File(path, _) => format!("file  {path}"),
        Change::NoFile(path, _) => format!("no-file  {path}"),
        Change::Service(..) => line(change),
    }
}

fn parse(line: &str) -> Result<Change> {
    let (kind, mut f) = Fields::of(line);
    Ok(match kind {
        "folder" => Change::Folder(f.text()?),
        "no-folder" => Change::NoFolder(f.text()?),
        "file" => Change::File(f.text()?, f.number()?),
        "no-file" => Change::NoFile(f.text()?, f.number()?),
        "key" => Change::Key(f.at()?, f.number()? == 1),
        "value" => Change::Value(f.at()?, f.data()?, f.data()?),
        "service" => Change::Service(f.config()?, f.config()?),
        _ => return Err(broken()),
    })
}

/// What hears of each step: for the log, the progress, and tests that stop the program there.
pub type Step<'s> = &'s mut dyn FnMut(&str) -> Result<()>;

/// Writes the changes down and makes them. If one can't be made, or `step` fails, all are undone.
pub fn commit(stage: &str, changes: &[Change], step: Step) -> Result<()> {
    let mut text = String::new();
    for change in changes {
        text.push_str(&line(change));
        text.push('\n');
    }
    text.push_str("end\n");
    let under_way = format!("{stage}\\journal.new");
    files::write(&under_way, text.as_bytes())?;
    files::flush_disk(stage);
    step("the journal is written")?;
    files::rename(&under_way, &format!("{stage}\\{FORWARD}"))?;
    let made = step("the journal holds").and_then(|()| forward(stage, changes, step));
    match made {
        Ok(()) => Ok(()),
        Err(fault) => {
            files::rename(&format!("{stage}\\{FORWARD}"), &format!("{stage}\\{BACKWARD}"))?;
            backward(stage, changes, step)?;
            Err(fault)
        }
    }
}

fn forward(stage: &str, changes: &[Change], step: Step) -> Result<()> {
    for change in changes {
        change.make(stage)?;
        step(&told(change))?;
    }
    files::delete(&format!("{stage}\\{FORWARD}"));
    step("all changes are made")
}

fn backward(stage: &str, changes: &[Change], step: Step) -> Result<()> {
    for change in changes.iter().rev() {
        // Whatever can be brought back is brought back.
        let _ = change.undo(stage);
        // Nobody can stop this any more, but a test can end the program.
        let _ = step(&format!("undone: {}", told(change)));
    }
    files::delete(&format!("{stage}\\{BACKWARD}"));
    Ok(())
}

/// What was found of an earlier run.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Found {
    Nothing,
    /// It was finished.
    Finished,
    /// It was undone, or had not begun to change anything.
    Undone,
}

/// Finishes or undoes what an interrupted run has left; gives the folders that may be empty afterwards too.
pub fn resume(stage: &str, step: Step) -> Result<(Found, Vec<String>)> {
    if !files::is_folder(stage) {
        return Ok((Found::Nothing, Vec::new()));
    }
    let folders = |changes: &[Change], found: Found| {
        let of = |c: &Change| match c {
            Change::NoFolder(path) if found == Found::Finished => Some(path.clone()),
            Change::Folder(path) if found == Found::Undone => Some(path.clone()),
            _ => None,
        };
        changes.iter().filter_map(of).collect()
    };
    let read = |name: &str| -> Result<Option<Vec<Change>>> {
        let path = format!("{stage}\\{name}");
        if !files::exists(&path) {
            return Ok(None);
        }
        let bytes = files::read(&path)?;
        let text = core::str::from_utf8(&bytes).map_err(|_| broken())?;
        let body = text.strip_suffix("end\n").ok_or_else(broken)?;
        body.lines().map(parse).collect::<Result<_>>().map(Some)
    };
    if let Some(changes) = read(BACKWARD)? {
        backward(stage, &changes, step)?;
        return Ok((Found::Undone, folders(&changes, Found::Undone)));
    }
    if let Some(changes) = read(FORWARD)? {
        let made = forward(stage, &changes, step);
        if made.is_err() {
            files::rename(&format!("{stage}\\{FORWARD}"), &format!("{stage}\\{BACKWARD}"))?;
            backward(stage, &changes, step)?;
            return Ok((Found::Undone, folders(&changes, Found::Undone)));
        }
        return Ok((Found::Finished, folders(&changes, Found::Finished)));
    }
    Ok((Found::Undone, Vec::new()))
}
