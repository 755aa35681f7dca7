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

mod files;
mod in_use;
mod install;
mod journal;
mod lines;
mod log;
mod own;
mod package;
mod places;
mod plan;
mod portable;
mod product;
mod programs;
mod record;
mod registry;
mod services;
mod settings;
mod shortcut;
mod silent;
mod stack;
mod system;
mod text;
mod watch;
mod window;
mod wishes;
mod wizard;

use alloc::boxed::Box;
use alloc::vec::Vec;
use journal::FOLDER;
use package::Package;
use product::Product;
use record::{Record, PROGRAM};
use settings::Settings;
use system::{code, Fault, Result};
use text::{cat, path, t, Text, EMPTY};
use windows_sys::Win32::Foundation::{GetLastError, ERROR_ALREADY_EXISTS};
use windows_sys::Win32::System::Threading::{CreateMutexW, ExitProcess};
use wishes::Chosen;

/// The sentence that people read for a fault.
fn sentence(product: &Product, language: usize, fault: Fault, log: Text) -> Text {
    let word = product.word(language, fault.word);
    // Most of Europe and everybody else can read this much English.
    let word = if word.is_empty() { t!("Nothing was changed. {detail}") } else { word };
    word.replace(t!("{detail}"), fault.detail).replace(t!("{log}"), log)
}

/// Where the product goes unless somebody says otherwise.
fn default_folder(product: &Product, machine: bool) -> Text {
    path(places::programs(machine), product.rule(t!("folder")).replace(t!("/"), t!("\\")))
}

/// What is chosen before anybody is asked: by the command line, else as the version that is there, else by the product.
fn choose(product: &Product, settings: &Settings, old: &Record) -> Chosen {
    let scope = product.rule(t!("scope"));
    let machine = if !scope.is(t!("asked")) {
        scope.is(t!("machine"))
    } else {
        settings.machine.unwrap_or(old.is_there() && old.machine)
    };
    let there = old.is_there() && old.machine == machine;
    let folder = match settings.folder {
        Some(folder) => folder,
        None if there => old.folder,
        None => default_folder(product, machine),
    };
    let mut choices = Vec::new();
    for choice in &product.choices {
        let key = choice.text(0);
        choices.push(match &settings.choices {
            Some(all) => all.iter().any(|k| k.same(key)),
            None if there => old.choices.iter().any(|k| k.is(key)),
            None => choice.number(3) == 1,
        });
    }
    Chosen {
        folder,
        machine,
        choices,
        desktop: settings.desktop.unwrap_or(!there || old.desktop),
        startup: settings.startup.unwrap_or(!there || old.startup),
    }
}

/// The program that removes what is installed; the copy that lies there, or this one if it is that.
fn uninstaller_of(package: &Package, old: &Record) -> Result<Vec<u8>> {
    files::read(if package.removes { package.path } else { path(old.folder, PROGRAM) })
}

/// A program that stands in the folder that it is to remove: a copy of it does that, and this one waits.
fn remove_from_elsewhere(package: &Package, settings: &Settings) -> Result<u32> {
    let place = files::temporary_name(t!("~remove"));
    files::make_folder(place)?;
    let copy = path(place, PROGRAM);
    files::write(copy, &files::read(package.path)?)?;
    let from = settings::quoted(cat(&[t!("/FROM="), package.path.parent()]));
    let code = programs::run(copy, cat(&[from, t!(" "), settings.line]), place);
    files::remove_tree(place);
    code.ok_or_else(|| Fault::last(copy))
}

fn run() -> u32 {
    text::begin();
    let line = settings::own_line();
    let settings = Settings::read(line);
    // A portable program's arguments are all its own.
    let silent = settings.as_ref().map_or(true, |s| s.silent);
    let end = |fault: Fault| silent::end_early(silent, fault.detail, fault.code);
    let mut package = match Package::open() {
        Ok(package) => package,
        Err(fault) if fault.code == code::DAMAGED => {
            return silent::end_early(silent, t!("This file is damaged. Please get it again."), fault.code);
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
    silent::end_early(silent, t!("This file is damaged. Please get it again."), code::DAMAGED)
}

/// Installs, upgrades, repairs or removes.
#[cfg(feature = "setup")]
#[inline(never)]
fn set_up(mut package: Package, product: &'static Product, settings: Result<Settings>) -> u32 {
    let settings: &'static Settings = match settings {
        Ok(settings) => Box::leak(Box::new(settings)),
        Err(fault) => return silent::end_early(true, cat(&[fault.detail, t!(" is no switch of this program.")]), fault.code),
    };
    let end = |fault: Fault| silent::end_early(settings.silent, fault.detail, fault.code);
    if package.removes && settings.from.is_none() && !settings.resume {
        return remove_from_elsewhere(&package, settings).unwrap_or_else(end);
    }
    let log_path = settings.log.unwrap_or_else(|| path(files::temporary(), cat(&[product.id, t!("-setup.log")])));
    let mut log = log::Log::begin(log_path);
    log.line(&[product.name, t!(" "), product.version, t!(" | "), settings.line]);
    log.line(&[package.path, t!(" is whole")]);
    shortcut::begin();
    let mut watch = watch::Watch::silent(&mut log, settings.in_use);
    let ready = one_at_a_time(product).and_then(|()| install::resume(product, &mut watch)).and_then(|()| match settings.from {
        Some(folder) => Record::read(folder),
        None => install::installed(product),
    });
    if settings.resume {
        // Resuming was all. The copy that does it at a login lies in the folder that it has cleared.
        let stage = package.path.parent();
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
    let chosen = choose(product, settings, old);
    let removes = package.removes || settings.remove;
    if removes && fault.is_none() && !old.is_there() {
        fault = Some(Fault::new(code::NOT_INSTALLED, t!("setup-not-installed"), EMPTY));
    }
    let language = product.language(settings.language);
    if settings.silent {
        let run = silent::Run { package: &mut package, product, chosen: &chosen, old, removes, fault, language };
        return silent::run(run, &mut watch);
    }
    if fault.is_none() && !removes {
        let may = install::is_administrator() || product.rule(t!("scope")).is(t!("machine"));
        let wanted = Chosen { machine: chosen.machine && may, ..chosen.clone() };
        fault = install::check(product, &wanted, old).err();
    }
    wizard::run(wizard::Start { package, product, settings, language, chosen, old, log, fault })
}

/// Two that change the same product at once would be in each other's way.
fn one_at_a_time(product: &Product) -> Result<()> {
    let name = cat(&[t!("Global\\"), product.id, t!("-setup")]);
    // SAFETY: the name ends with a zero; the system lets it go with the process.
    unsafe {
        let mutex = CreateMutexW(core::ptr::null(), 1, name.ptr());
        if mutex.is_null() || GetLastError() == ERROR_ALREADY_EXISTS {
            return Err(Fault::new(code::BUSY, t!("setup-busy"), EMPTY));
        }
    }
    Ok(())
}

/// # Safety
/// Called once, by the system.
#[no_mangle]
unsafe extern "C" fn start() -> ! {
    ExitProcess(run())
}
