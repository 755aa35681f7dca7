//! The journal: every change that an installation makes, written down before the first one is made. Each can be made
//! again and undone again without harm, so whatever moment the power fails at, the next start finishes the new state or
//! brings back the old one.
//!
//! Files wait in a folder beside the others (`~setup`) and are only moved; what they replace waits there until the end.

use crate::fields::{broken, Fields, Lines};
use crate::files;
use crate::progress::Progress;
use crate::record::{hash, hash_of};
use crate::registry::{self, At, Data};
use crate::services::{self, Config};
use crate::system::{code, Result};
use crate::text::{cat, number, path, t, Scope, Text, EMPTY};
use alloc::vec::Vec;
use core::sync::atomic::{AtomicBool, Ordering};

/// The folder in the product's own where files wait.
pub const FOLDER: Text = t!("~setup");
/// The journal's name while changes are made, and while they are undone.
const FORWARD: Text = t!("journal");
const BACKWARD: Text = t!("journal.undo");

/// Whether files in use may be replaced when the system starts again, and whether that is so for one.
pub static LATER: AtomicBool = AtomicBool::new(false);
pub static RESTART: AtomicBool = AtomicBool::new(false);

/// A change.
#[derive(Clone, Copy)]
pub enum Change {
    /// A folder is made.
    Folder(Text),
    /// A folder goes if it is empty.
    NoFolder(Text),
    /// The waiting file of this number is put here; one that is there waits under the same number.
    File(Text, u32),
    /// A file goes; it waits under this number.
    NoFile(Text, u32),
    /// A key is made, or goes if it is empty.
    Key(At, bool),
    /// A value becomes another one; none is no value.
    Value(At, Option<Data>, Option<Data>),
    /// A service becomes another one.
    Service(Option<Config>, Option<Config>),
}

/// The folder of a waiting file: few are in one, because large ones are slow.
pub fn waiting_folder(stage: Text, n: u32, old: bool) -> Text {
    cat(&[stage, if old { t!("\\o") } else { t!("\\n") }, number(n >> 8)])
}

/// Where a waiting file is.
pub fn waiting(stage: Text, n: u32, old: bool) -> Text {
    path(waiting_folder(stage, n, old), number(n))
}

fn put_aside(stage: Text, path: Text, n: u32) -> Result<()> {
    let old = waiting(stage, n, true);
    if files::exists(path) && !files::exists(old) {
        files::make_folder(waiting_folder(stage, n, true))?;
        files::rename(path, old)?;
    }
    Ok(())
}

fn bring_back(stage: Text, path: Text, n: u32) -> Result<()> {
    let old = waiting(stage, n, true);
    if files::exists(old) {
        files::rename(old, path)
    } else {
        Ok(())
    }
}

/// What replaces a file when the system starts again.
fn later(path: Text) -> Text {
    cat(&[path, t!(".~new")])
}

fn folder(path: Text, there: bool) -> Result<()> {
    if there {
        return files::make_folder(path);
    }
    files::remove_folder(path);
    Ok(())
}

fn key(at: At, there: bool) -> Result<()> {
    if there {
        return registry::make_key(at);
    }
    registry::remove_key(at);
    Ok(())
}

fn value(at: At, data: Option<Data>) -> Result<()> {
    match data {
        Some(data) => registry::set(at, data),
        None => registry::remove(at),
    }
}

fn service(new: Option<Config>, old: Option<Config>) -> Result<()> {
    match (new, old) {
        (Some(new), _) => services::set(new),
        (None, Some(old)) => services::remove(old.name),
        (None, None) => Ok(()),
    }
}

/// Puts the waiting file where it belongs.
fn file(stage: Text, path: Text, n: u32) -> Result<()> {
    let new = waiting(stage, n, false);
    if !files::exists(new) {
        return Ok(());
    }
    match put_aside(stage, path, n) {
        // Somebody agreed to that: it is replaced when the system starts again.
        Err(fault) if fault.code == code::IN_USE && LATER.load(Ordering::Relaxed) => {
            files::rename(new, later(path))?;
            files::rename_at_restart(later(path), path)?;
            RESTART.store(true, Ordering::Relaxed);
            Ok(())
        }
        Err(fault) => Err(fault),
        Ok(()) => files::rename(new, path),
    }
}

impl Change {
    /// Makes it; again if need be.
    pub fn make(&self, stage: Text) -> Result<()> {
        match self {
            Self::Folder(path) => folder(*path, true),
            Self::NoFolder(path) => folder(*path, false),
            Self::File(path, n) => file(stage, *path, *n),
            Self::NoFile(path, n) => match put_aside(stage, *path, *n) {
                Err(fault) if fault.code == code::IN_USE && LATER.load(Ordering::Relaxed) => {
                    RESTART.store(true, Ordering::Relaxed);
                    files::delete_at_restart(*path)
                }
                other => other,
            },
            Self::Key(at, there) => key(*at, *there),
            Self::Value(at, new, _) => value(*at, *new),
            Self::Service(new, old) => service(*new, *old),
        }
    }

    /// Undoes it, whether it was made or not.
    pub fn undo(&self, stage: Text) -> Result<()> {
        match self {
            Self::Folder(path) => folder(*path, false),
            Self::NoFolder(path) => folder(*path, true),
            Self::File(path, n) => {
                let new = waiting(stage, *n, false);
                if files::exists(later(*path)) {
                    return files::rename(later(*path), new);
                }
                if !files::exists(new) && files::exists(*path) {
                    files::rename(*path, new)?;
                }
                bring_back(stage, *path, *n)
            }
            Self::NoFile(path, n) => bring_back(stage, *path, *n),
            Self::Key(at, there) => key(*at, !*there),
            Self::Value(at, _, old) => value(*at, *old),
            Self::Service(new, old) => service(*old, *new),
        }
    }

    /// The name of its kind.
    fn name(&self) -> Text {
        match self {
            Self::Folder(_) => t!("folder"),
            Self::NoFolder(_) => t!("no-folder"),
            Self::File(..) => t!("file"),
            Self::NoFile(..) => t!("no-file"),
            Self::Key(_, true) => t!("key"),
            Self::Key(_, false) => t!("no-key"),
            Self::Value(..) => t!("value"),
            Self::Service(..) => t!("service"),
        }
    }

    fn write(&self, out: &mut Lines) {
        let line = out.kind(self.name());
        match self {
            Self::Folder(path) | Self::NoFolder(path) => line.text(*path),
            Self::File(path, n) | Self::NoFile(path, n) => line.text(*path).number(*n),
            Self::Key(at, _) => line.at(*at),
            Self::Value(at, new, old) => line.at(*at).data(*new).data(*old),
            Self::Service(new, old) => line.config(*new).config(*old),
        };
    }

    /// It as it stands in a log.
    fn told(&self) -> Text {
        let (what, data) = match self {
            Self::Folder(path) | Self::NoFolder(path) | Self::File(path, _) | Self::NoFile(path, _) => (*path, EMPTY),
            Self::Key(at, _) => (at.key, EMPTY),
            Self::Value(at, new, _) => {
                let root = if at.machine { t!("HKLM\\") } else { t!("HKCU\\") };
                let view = if at.narrow { t!(" (32-bit)  ") } else { t!("  ") };
                let data = match new {
                    None => t!("taken away"),
                    Some(data) if data.kind <= 2 => data.as_text(),
                    Some(data) => cat(&[number(data.bytes.len() as u32), t!(" bytes")]),
                };
                (cat(&[root, at.key, view, at.name, t!(" = ")]), data)
            }
            Self::Service(new, old) => {
                let (name, command) = new.map_or((EMPTY, t!("taken away")), |s| (s.name, s.command));
                let name = old.map_or(name, |s| s.name);
                (cat(&[name, t!("  ")]), command)
            }
        };
        cat(&[self.name(), t!("  "), what, data])
    }

    fn read(kind: Text, f: &mut Fields) -> Result<Self> {
        Ok(match kind.among(t!("folder|no-folder|file|no-file|key|no-key|value|service")) {
            0 => Self::Folder(f.text()?),
            1 => Self::NoFolder(f.text()?),
            2 => Self::File(f.text()?, f.number()?),
            3 => Self::NoFile(f.text()?, f.number()?),
            4 => Self::Key(f.at()?, true),
            5 => Self::Key(f.at()?, false),
            6 => Self::Value(f.at()?, f.data()?, f.data()?),
            7 => Self::Service(f.config()?, f.config()?),
            _ => return Err(broken()),
        })
    }
}

/// What only administrators can write of a journal that only they should follow: its hash, and those of waiting files
/// that belong outside of the product's folder.
fn seal_of(stage: Text, changes: &[Change], bytes: &[u8]) -> Result<Data> {
    let mut all = alloc::vec![hash_of(bytes)];
    for change in changes {
        let (Change::File(place, n) | Change::NoFile(place, n)) = change else { continue };
        if setup_rules::trust::is_below(place.units(), stage.parent().units()) {
            continue;
        }
        if let Change::File(..) = change {
            all.push(cat(&[t!("n"), number(*n), t!("="), hash(waiting(stage, *n, false))?]));
        }
        if files::exists(*place) {
            all.push(cat(&[t!("o"), number(*n), t!("="), hash(*place)?]));
        }
    }
    Ok(Data::list(&all))
}

/// Whether a journal is the one that was sealed; none without a seal. Waiting files that are others now go.
pub fn is_sealed(stage: Text, seal: Option<Data>) -> Option<bool> {
    let all = seal?.as_list();
    let written = [BACKWARD, FORWARD].into_iter().map(|name| path(stage, name)).find(|p| files::exists(*p));
    // Nothing was begun.
    let Some(written) = written else { return Some(true) };
    let bytes = files::read(written).ok()?;
    if !all.first().is_some_and(|h| h.is(hash_of(&bytes))) {
        return Some(false);
    }
    for entry in &all[1..] {
        let Some(at) = entry.find(t!("=")) else { continue };
        let place = waiting(stage, entry.skip(1).number(), entry.begins(t!("o")));
        if files::exists(place) && !hash(place).is_ok_and(|h| h.is(entry.skip(at + 1))) {
            files::delete(place);
        }
    }
    Some(true)
}

/// Writes the changes down and makes them. If one can't be made, or somebody stops it, all are undone. Where only
/// administrators are to follow the journal, `seal` is where they look first.
pub fn commit(stage: Text, changes: &[Change], seal: Option<At>, progress: &mut Progress) -> Result<()> {
    let mut out = Lines::new();
    for change in changes {
        change.write(&mut out);
    }
    let under_way = path(stage, t!("journal.new"));
    let bytes = out.bytes();
    files::write(under_way, &bytes)?;
    if let Some(at) = seal {
        registry::set(at, seal_of(stage, changes, &bytes)?)?;
    }
    files::flush_disk(stage);
    progress.begin(changes);
    progress.made(t!("the journal is written"))?;
    files::rename(under_way, path(stage, FORWARD))?;
    let made = progress.made(t!("the journal holds")).and_then(|()| forward(stage, changes, progress));
    if made.is_err() {
        turn_back(stage, changes, progress)?;
    }
    made
}

fn forward(stage: Text, changes: &[Change], progress: &mut Progress) -> Result<()> {
    for change in changes {
        // SAFETY: no text leaves the loop's body; a fault keeps its own.
        let _scope = unsafe { Scope::new() };
        change.make(stage)?;
        progress.made(change.told())?;
    }
    files::delete(path(stage, FORWARD));
    progress.made(t!("all changes are made"))
}

/// From now on the changes are undone, whatever happens.
fn turn_back(stage: Text, changes: &[Change], progress: &mut Progress) -> Result<()> {
    files::rename(path(stage, FORWARD), path(stage, BACKWARD))?;
    backward(stage, changes, progress);
    Ok(())
}

fn backward(stage: Text, changes: &[Change], progress: &mut Progress) {
    for change in changes.iter().rev() {
        // SAFETY: no text leaves the loop's body.
        let _scope = unsafe { Scope::new() };
        // Whatever can be brought back is brought back.
        let _ = change.undo(stage);
        progress.step(cat(&[t!("undone: "), change.told()]));
    }
    files::delete(path(stage, BACKWARD));
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

fn read(stage: Text, name: Text) -> Result<Option<Vec<Change>>> {
    let path = path(stage, name);
    if !files::exists(path) {
        return Ok(None);
    }
    let mut f = Fields::of(&files::read(path)?)?;
    let mut changes = Vec::new();
    while let Some(kind) = f.kind() {
        changes.push(Change::read(kind, &mut f)?);
    }
    Ok(Some(changes))
}

/// Finishes or undoes what an interrupted run has left; gives the folders that may be empty afterwards too.
pub fn resume(stage: Text, progress: &mut Progress) -> Result<(Found, Vec<Text>)> {
    let mut empty = Vec::new();
    if !files::is_folder(stage) {
        return Ok((Found::Nothing, empty));
    }
    let mut found = Found::Undone;
    let mut changes = read(stage, BACKWARD)?;
    if let Some(changes) = &changes {
        backward(stage, changes, progress);
    } else {
        changes = read(stage, FORWARD)?;
        if let Some(changes) = &changes {
            progress.begin(changes);
            if forward(stage, changes, progress).is_ok() {
                found = Found::Finished;
            } else {
                turn_back(stage, changes, progress)?;
            }
        }
    }
    for change in changes.iter().flatten() {
        match change {
            Change::NoFolder(path) if found == Found::Finished => empty.push(*path),
            Change::Folder(path) if found == Found::Undone => empty.push(*path),
            _ => {}
        }
    }
    Ok((found, empty))
}
