//! The head of setup programs for Windows. It reads what is to be done out of its own file: the instructions of the data
//! block behind it are what it runs. As a setup program it installs, repairs and upgrades; a copy of it with a small
//! block of its own removes the product; a portable one only unpacks and runs.
//!
//! It never changes anything before its whole file was checked, and whatever it changes is written down first.
#![no_std]
#![no_main]
// The head of portable programs has no use for most of it.
#![cfg_attr(not(all(feature = "setup", feature = "portable")), allow(dead_code, unused_imports, unused_mut))]

extern crate alloc;

mod desired;
mod early;
mod fields;
mod files;
mod in_use;
mod install;
mod journal;
mod log;
mod package;
mod places;
mod plan;
mod portable;
mod product;
mod programs;
mod progress;
mod record;
mod registry;
mod services;
mod settings;
mod shortcut;
mod silent;
mod stack;
mod system;
mod text;
mod twin;
mod window;
mod wizard;

use alloc::boxed::Box;
use alloc::vec::Vec;
use core::sync::atomic::{AtomicIsize, Ordering};
use desired::Chosen;
use journal::FOLDER;
use nsis_archive::custom::kind::SHORTCUT;
use package::Package;
use product::Product;
use record::{Record, PROGRAM};
use settings::Settings;
use system::{code, Fault, Result};
use text::{cat, path, t, Text, EMPTY};
use twin::Twin;
use windows_sys::Win32::Foundation::{CloseHandle, GetLastError, ERROR_ALREADY_EXISTS, HANDLE};
use windows_sys::Win32::System::Threading::{CreateMutexW, ExitProcess};

/// The sentence that people read for a fault.
fn sentence(product: &Product, language: usize, fault: Fault, log: Text) -> Text {
    let word = product.word(language, fault.word);
    // Most of Europe and everybody else can read this much English.
    let word = if word.is_empty() { t!("Nothing has been changed. {detail}") } else { word };
    word.replace(t!("{detail}"), fault.detail).replace(t!("{log}"), log)
}

/// The default folder of the product.
fn default_folder(product: &Product, machine: bool) -> Text {
    path(places::programs(machine), product.rule(t!("folder")).replace(t!("/"), t!("\\")))
}

/// What is chosen before anybody is asked: by the command line, else as the version that is there, else by the product.
fn choose(product: &Product, settings: &Settings, old: &Record, twin: Option<&Twin>) -> Chosen {
    let scope = product.rule(t!("scope"));
    let machine = if !scope.is(t!("asked")) {
        scope.is(t!("machine"))
    } else {
        let before = if old.is_there() { old.machine } else { twin.is_some_and(|t| t.machine) };
        settings.machine.unwrap_or(before)
    };
    let there = old.is_there() && old.machine == machine;
    let twin = twin.filter(|t| !there && t.machine == machine);
    let folder = match (settings.folder, twin) {
        (Some(folder), _) => folder,
        (None, _) if there => old.folder,
        (None, Some(twin)) if !twin.folder.is_empty() => twin.folder,
        _ => default_folder(product, machine),
    };
    // Whether a shortcut of a place is there, which the other kind of package has made.
    let has_link = |place: i32| {
        let top = places::shortcuts(place, machine);
        product.instructions.iter().any(|(kind, item)| {
            let path = cat(&[top, t!("\\"), item.text(1), t!(".lnk")]);
            *kind == SHORTCUT && item.number(0) == place && files::exists(path)
        })
    };
    let wanted = |before: bool, place: i32, name: Text| match twin {
        _ if there => before,
        // It remembers that; one of an older make is looked at.
        Some(_) => match registry::text(machine, desired::own_key(product), name) {
            text if text.is_empty() => has_link(place),
            text => text.is(t!("x1")),
        },
        None => true,
    };
    let mut choices = Vec::new();
    for choice in &product.choices {
        let key = choice.text(0);
        choices.push(match &settings.choices {
            Some(all) => all.iter().any(|k| k.same(key)),
            None if there => old.choices.iter().any(|k| k.is(key)),
            None => twin.map_or(choice.number(3) == 1, |t| t.has(key)),
        });
    }
    Chosen {
        folder,
        machine,
        choices,
        desktop: settings.desktop.unwrap_or_else(|| wanted(old.desktop, 1, t!("Desktop"))),
        startup: settings.startup.unwrap_or_else(|| wanted(old.startup, 2, t!("Startup"))),
    }
}

/// The program that removes what is installed; the copy that lies there, or this one if it is that.
fn uninstaller_of(package: &Package, old: &Record) -> Result<Vec<u8>> {
    files::read(if package.removes { package.path } else { path(old.folder, PROGRAM) })
}

/// A program that stands in the folder that it is to remove: a copy of it does that, and this one waits.
fn remove_from_elsewhere(package: &Package, product: &Product, settings: &Settings) -> Result<u32> {
    let administrator = programs::is_administrator();
    let place = files::fresh_folder(administrator)?;
    let copy = path(place, PROGRAM);
    files::write(copy, &files::read(package.path)?)?;
    let from = settings::quoted(cat(&[t!("/FROM="), package.path.parent()]));
    let code = programs::run(copy, cat(&[from, t!(" "), settings.line]), place);
    let fault = Fault::last(copy);
    // This program itself may lie there by now.
    files::goes_afterwards(place);
    files::remove_at_last(place, administrator, product.id);
    code.ok_or(fault)
}

fn run() -> u32 {
    text::begin();
    early::from_the_system_only();
    let line = settings::own_line();
    let settings = Settings::read(line);
    // A portable program's arguments are all its own.
    let silent = settings.as_ref().map_or(true, |s| s.silent);
    let end = |fault: Fault| silent::end_early(silent, fault.detail, fault.code);
    let mut package = match Package::open() {
        Ok(package) => package,
        Err(fault) if fault.code == code::DAMAGED => {
            return silent::end_early(silent, t!("This file is damaged. Please download it again."), fault.code);
        }
        Err(fault) => return end(fault),
    };
    let product = match Product::read(package.header) {
        Ok(product) => product,
        Err(fault) => return end(fault),
    };
    #[cfg(feature = "portable")]
    if let Some(portable) = product.portable {
        return portable::run(&mut package, product, portable, line).unwrap_or_else(end);
    }
    #[cfg(feature = "setup")]
    if product.portable.is_none() {
        return set_up(package, product, settings);
    }
    // A package brings the head that goes with it.
    silent::end_early(silent, t!("This file is damaged. Please download it again."), code::DAMAGED)
}

/// Installs, upgrades, repairs or removes.
#[cfg(feature = "setup")]
#[inline(never)]
fn set_up(mut package: Package, product: &'static Product, settings: Result<Settings>) -> u32 {
    let settings: &'static Settings = match settings {
        Ok(settings) => Box::leak(Box::new(settings)),
        Err(fault) => {
            return silent::end_early(true, cat(&[fault.detail, t!(" is not a switch of this program.")]), fault.code)
        }
    };
    let end = |fault: Fault| silent::end_early(settings.silent, fault.detail, fault.code);
    if let Err(fault) = settings.fits(product) {
        return end(fault);
    }
    if !settings.silent
        && !settings.elevated
        && !settings.resume
        && !programs::is_administrator()
        && is_for_everyone(&package, product)
    {
        // Only an administrator can change what is there for everyone: one is asked for before anything is begun.
        let line = cat(&[t!("/ELEVATED "), settings.line]);
        return programs::run_elevated(package.path, line).unwrap_or(code::CANCELLED);
    }
    if package.removes && settings.from.is_none() && !settings.resume {
        return remove_from_elsewhere(&package, product, settings).unwrap_or_else(end);
    }
    if settings.from.is_some() {
        files::goes_afterwards(package.path.parent());
    }
    let mut log = match settings.log {
        Some(path) => log::Log::begin(path),
        None => log::Log::begin_new(path(files::temporary(), cat(&[product.id, t!("-setup.log")]))),
    };
    log.line(&[product.name, t!(" "), product.version, t!(" | "), settings.line]);
    log.line(&[package.path, t!(" is intact")]);
    shortcut::begin();
    let mut progress = progress::Progress::silent(&mut log, settings.in_use);
    let ready = one_at_a_time(product).and_then(|()| install::resume(product, &mut progress)).and_then(|()| {
        match settings.from {
            Some(folder) => install::installed_in(product, folder),
            None => install::installed(product),
        }
    });
    if settings.resume {
        // Resuming was all. The copy that does it at a login lies in the folder that it has cleared.
        let stage = package.path.parent();
        if files::is_fresh(stage) {
            files::goes_afterwards(stage);
            files::remove_at_last(stage, true, product.id);
        }
        if stage.name().is(FOLDER) {
            files::delete_at_last(package.path);
            files::remove_folder(stage);
            files::remove_folder(stage.parent());
        }
        return ready.map_or_else(|fault| fault.code, |_| code::DONE);
    }
    let (old, mut fault) = match ready {
        Ok(old) => (old, None),
        Err(fault) => (Record::default(), Some(fault)),
    };
    let old: &'static Record = Box::leak(Box::new(old));
    let twin = if old.is_there() || package.removes { None } else { Twin::find(product) };
    let chosen = choose(product, settings, old, twin);
    let removes = package.removes || settings.remove;
    if removes && fault.is_none() && !old.is_there() {
        fault = Some(Fault::new(code::NOT_INSTALLED, t!("setup-not-installed"), EMPTY));
    }
    let language = product.language(settings.language);
    if settings.silent {
        let run = silent::Run { package: &mut package, product, chosen: &chosen, old, twin, removes, fault, language };
        let code = silent::run(run, &mut progress);
        if removes && code == code::DONE && settings.log.is_none() {
            log.forget();
        }
        return code;
    }
    if fault.is_none() && !removes {
        let may = programs::is_administrator() || product.rule(t!("scope")).is(t!("machine"));
        let wanted = Chosen { machine: chosen.machine && may, ..chosen.clone() };
        fault = install::check(product, &wanted, old, twin).err();
    }
    wizard::run(wizard::Start { package, product, settings, language, chosen, old, twin, log, fault })
}

/// Whether the product is there for everyone on this machine.
fn is_for_everyone(package: &Package, product: &Product) -> bool {
    let record = match package.removes {
        true => install::installed_in(product, package.path.parent()),
        false => install::installed(product),
    };
    record.is_ok_and(|r| r.is_there() && r.machine)
}

/// What says that this program is at work.
static MUTEX: AtomicIsize = AtomicIsize::new(0);

/// Two that change the same product at once would be in each other's way.
pub fn one_at_a_time(product: &Product) -> Result<()> {
    let name = cat(&[t!("Global\\"), product.id, t!("-setup")]);
    // SAFETY: the name ends with a zero; the system lets it go with the process.
    unsafe {
        let mutex = CreateMutexW(core::ptr::null(), 1, name.ptr());
        let taken = mutex.is_null() || GetLastError() == ERROR_ALREADY_EXISTS;
        if taken {
            CloseHandle(mutex);
            return Err(Fault::new(code::BUSY, t!("setup-busy"), EMPTY));
        }
        MUTEX.store(mutex as isize, Ordering::Relaxed);
    }
    Ok(())
}

/// Another process goes on in place of this one.
pub fn let_another() {
    // SAFETY: the handle is open, or none; this is its only owner.
    unsafe { CloseHandle(MUTEX.swap(0, Ordering::Relaxed) as HANDLE) };
}

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "C" fn start() -> ! {
    ExitProcess(run())
}
