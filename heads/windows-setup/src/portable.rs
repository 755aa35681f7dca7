//! A portable program: unpacked once for each version into the user's cache, and started from there.

use crate::desired::Chosen;
use crate::files;
use crate::install::has_room;
use crate::package::Package;
use crate::product::{Instruction, Product};
use crate::programs;
use crate::settings::command_line;
use crate::system::{code, Fault, Result};
use crate::text::{cat, hex, path, t, Scope, Text, EMPTY};
use windows_sys::Win32::System::Environment::SetEnvironmentVariableW;
use windows_sys::Win32::UI::Shell::CSIDL_LOCAL_APPDATA;

fn set(name: Text, value: Text) {
    // SAFETY: both texts end with a zero.
    unsafe { SetEnvironmentVariableW(name.ptr(), value.ptr()) };
}

/// A name that any disk takes: what would mean something becomes a dash.
fn plain(name: Text) -> Text {
    let mut units = name.units().to_vec();
    for unit in &mut units {
        if b"<>:\"/\\|?*".iter().any(|l| u16::from(*l) == *unit) {
            *unit = b'-'.into();
        }
    }
    Text::of(&units)
}

/// Unpacks if need be, runs, and gives the program's exit code.
pub fn run(package: &mut Package, product: &Product, portable: Instruction, line: Text) -> Result<u32> {
    // The seal tells one package from every other, also of the same version.
    let seal = hex(&package.seal[16..24]);
    let cache = path(crate::places::known(CSIDL_LOCAL_APPDATA), product.id);
    let folder = path(cache, cat(&[product.version, t!("-"), seal]));
    if files::is_folder(folder) && !is_whole(product, folder) {
        // A file is missing or was changed: all of it comes anew, unless it is running right now.
        let aside = cat(&[folder, t!(".part"), files::ticks_text()]);
        if files::rename(folder, aside).is_ok() {
            files::remove_tree(aside);
        }
    }
    if !files::is_folder(folder) {
        unpack(package, product, cache, folder)?;
        clear_older(product, cache, folder.name());
    }
    let choices = alloc::vec![true; product.choices.len()];
    let chosen = Chosen { folder, machine: false, choices, desktop: false, startup: false };
    let Some(program) = product.program(portable.text(0)) else {
        return Err(Fault::new(code::DAMAGED, t!("setup-damaged"), t!("it has no program")));
    };
    if portable.number(1) == 1 {
        let settings = path(package.path.parent(), cat(&[plain(product.name), t!(" settings")]));
        files::make_folders(settings)?;
        set(t!("APPDATA"), settings);
        set(t!("LOCALAPPDATA"), settings);
    }
    set(t!("PORTABLE_PROGRAM"), package.path);
    let mut arguments = alloc::vec::Vec::new();
    for argument in &program.arguments {
        arguments.push(chosen.text(*argument));
    }
    let own = command_line(&arguments);
    let space = if own.is_empty() { EMPTY } else { t!(" ") };
    let file = chosen.path(program.file);
    let code = programs::run(file, cat(&[own, space, line]), chosen.working_folder(&program));
    code.ok_or_else(|| Fault::last(file))
}

/// Whether each file is there with its length and its time.
fn is_whole(product: &Product, folder: Text) -> bool {
    // The files lie one behind the other in the stream, each behind its length.
    let end = product.bytes + 4 * product.files.len() as u64;
    let mut files = product.files.iter().peekable();
    while let Some(file) = files.next() {
        let next = files.peek().map_or(end, |f| u64::from(f.offset));
        let size = next.wrapping_sub(u64::from(file.offset) + 4);
        // SAFETY: no text leaves the loop's body.
        let _scope = unsafe { Scope::new() };
        if files::seen(path(folder, file.path)) != Some((size, file.time)) {
            return false;
        }
    }
    true
}

/// Removes older versions, and what was left half unpacked, unless it is running.
fn clear_older(product: &Product, cache: Text, own: Text) {
    for name in files::names(cache) {
        let version = name.first(name.units().iter().rposition(|u| *u == b'-'.into()).unwrap_or(0));
        let is_part = name.find(t!(".part")).is_some();
        if name.is(own) || !is_part && !crate::install::is_newer(product.version, version) {
            continue;
        }
        // What runs can't be moved.
        let (from, aside) = (path(cache, name), path(cache, cat(&[name, t!(".part"), files::ticks_text()])));
        if files::rename(from, aside).is_ok() {
            files::remove_tree(aside);
        }
    }
}

fn unpack(package: &mut Package, product: &Product, cache: Text, folder: Text) -> Result<()> {
    files::make_folders(cache)?;
    has_room(product, cache)?;
    // Two that start at once each unpack for themselves; the first one to be ready wins.
    let part = cat(&[folder, t!(".part"), files::ticks_text()]);
    let result = fill(package, product, part).and_then(|()| match files::rename(part, folder) {
        Err(_) if files::is_folder(folder) => Ok(()),
        other => other,
    });
    files::remove_tree(part);
    result
}

fn fill(package: &mut Package, product: &Product, part: Text) -> Result<()> {
    files::make_folders(part)?;
    for folder in &product.folders {
        files::make_folders(path(part, *folder))?;
    }
    let mut buffer = alloc::vec![0; 1 << 18];
    let mut made = EMPTY;
    for file in &product.files {
        let parent = file.path.parent();
        if !parent.is(made) {
            files::make_folders(path(part, parent))?;
            made = parent;
        }
        // SAFETY: no text leaves the loop's body; a fault keeps its own.
        let _scope = unsafe { Scope::new() };
        let to = path(part, file.path);
        let mut left = package.file_at(file.offset)? as usize;
        let out = files::File::create(to)?;
        while left > 0 {
            let n = left.min(buffer.len());
            package.bytes(&mut buffer[..n])?;
            out.write(&buffer[..n], to)?;
            left -= n;
        }
        out.set_time(file.time);
    }
    for (new, of) in product.links() {
        files::hard_link(path(part, new), path(part, of))?;
    }
    Ok(())
}
