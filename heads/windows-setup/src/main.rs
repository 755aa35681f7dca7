//! The head of setup programs for Windows. It reads what is to be done out of its own file: the instructions of the data
//! block behind it are what it runs. As a setup program it installs, repairs and upgrades; a copy of it with a small
//! block of its own removes the product; a portable one only unpacks and runs.
//!
//! It never changes anything before its whole file was checked, and whatever it changes is written down first.
#![no_std]
#![no_main]

extern crate alloc;

mod files;
mod in_use;
mod install;
mod journal;
mod log;
mod package;
mod places;
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
mod window;
mod wishes;
mod wizard;

use alloc::boxed::Box;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use journal::FOLDER;
use package::Package;
use product::Product;
use record::{Record, PROGRAM};
use settings::Settings;
use system::{code, lower, wide, Fault, Result};
use windows_sys::Win32::Foundation::{GetLastError, ERROR_ALREADY_EXISTS};
use windows_sys::Win32::System::Threading::{CreateMutexW, ExitProcess};
use wishes::Chosen;

/// The sentence that people read for a fault.
fn sentence(product: &Product, language: usize, fault: &Fault, log: &str) -> String {
    let word = product.word(language, fault.word);
    // Most of Europe and everybody else can read this much English.
    let word = if word.is_empty() { "Nothing was changed. {detail}" } else { word };
    word.replace("{detail}", &fault.detail).replace("{log}", log)
}

/// Where the product goes unless somebody says otherwise.
fn default_folder(product: &Product, machine: bool) -> String {
    format!("{}\\{}", places::programs(machine), product.rule("folder").replace('/', "\\"))
}

/// What is chosen before anybody is asked: by the command line, else as the version that is there, else by the product.
fn choose(product: &Product, settings: &Settings, old: &Record) -> Chosen {
    let by_rule = product.rule("scope") == "machine";
    let machine = match settings.scope.as_deref() {
        Some(scope) if product.rule("scope") == "asked" => scope == "machine",
        _ if old.is_there() && product.rule("scope") == "asked" => old.machine,
        _ => by_rule,
    };
    let there = old.is_there() && old.machine == machine;
    let folder = match &settings.folder {
        Some(folder) => folder.clone(),
        None if there => old.folder.clone(),
        None => default_folder(product, machine),
    };
    let choices = product.choices.iter().map(|c| match &settings.choices {
        Some(all) => all.iter().any(|k| lower(k) == lower(&c.key)),
        None if there => old.choices.contains(&c.key),
        None => c.chosen,
    });
    Chosen {
        folder,
        machine,
        choices: choices.collect(),
        desktop: settings.desktop.unwrap_or(!there || old.desktop),
        startup: settings.startup.unwrap_or(!there || old.startup),
    }
}

/// The program that removes what is installed; the copy that lies there, or this one if it is that.
fn uninstaller_of(package: &Package, old: &Record) -> Result<Vec<u8>> {
    let there = format!("{}\\{PROGRAM}", old.folder);
    files::read(if package.removes { &package.path } else { &there })
}

/// A program that stands in the folder that it is to remove: a copy of it does that, and this one waits.
fn remove_from_elsewhere(package: &Package, settings: &Settings) -> Result<u32> {
    let folder = package.path.rsplit_once('\\').map_or("", |(parent, _)| parent);
    let place = format!("{}\\~remove{:x}", files::temporary(), files::ticks());
    files::make_folder(&place)?;
    let copy = format!("{place}\\{PROGRAM}");
    files::write(&copy, &files::read(&package.path)?)?;
    let line = format!("{} {}", settings::quoted(&format!("/FROM={folder}")), settings.line);
    let code = programs::run(&copy, &line, Some(&place));
    files::remove_tree(&place);
    code.ok_or_else(|| Fault::last(&copy))
}

fn run() -> u32 {
    let line = settings::own_line();
    let settings = Settings::read(&line);
    // A portable program's arguments are all its own.
    let silent = settings.as_ref().map_or(true, |s| s.silent);
    let mut package = match Package::open() {
        Ok(package) => package,
        Err(fault) => {
            let what = if fault.code == code::DAMAGED { "This file is damaged. Please get it again." } else { &fault.detail };
            return silent::end_early(silent, what, fault.code);
        }
    };
    let product: &'static Product = match Product::read(&package.header) {
        Ok(product) => Box::leak(Box::new(product)),
        Err(fault) => return silent::end_early(silent, &fault.detail, fault.code),
    };
    if let Some(portable) = &product.portable {
        return match portable::run(&mut package, product, portable, &line) {
            Ok(code) => code,
            Err(fault) => silent::end_early(silent, &fault.detail, fault.code),
        };
    }
    let settings = match settings {
        Ok(settings) => settings,
        Err(fault) => return silent::end_early(true, &format!("{} is no switch of this program.", fault.detail), fault.code),
    };
    if package.removes && settings.from.is_none() && !settings.resume {
        return match remove_from_elsewhere(&package, &settings) {
            Ok(code) => code,
            Err(fault) => silent::end_early(settings.silent, &fault.detail, fault.code),
        };
    }
    let name = product.id.clone();
    let log_path = settings.log.clone().unwrap_or_else(|| format!("{}\\{name}-setup.log", files::temporary()));
    let mut log = log::Log::begin(log_path);
    log.line(&format!("{} {} | {}", product.name, product.version, settings.line));
    log.line(&package::summary(&package));
    let language = product.language(&settings.language);
    shortcut::begin();
    let mut watch = silent::Silent { log: &mut log, in_use: settings.in_use };
    let ready = (|| {
        one_at_a_time(product)?;
        install::resume(product, &mut watch)?;
        match &settings.from {
            Some(folder) => Record::read(folder),
            None => install::installed(product),
        }
    })();
    if settings.resume {
        // Resuming was all. The copy that does it at a login lies in the folder that it has cleared.
        if let Some((folder, _)) = package.path.rsplit_once(&format!("\\{FOLDER}\\")) {
            files::delete_at_last(&package.path);
            files::remove_folder(&format!("{folder}\\{FOLDER}"));
            files::remove_folder(folder);
        }
        return ready.map_or_else(|fault| fault.code, |_| code::DONE);
    }
    let (old, mut fault) = match ready {
        Ok(old) => (old, None),
        Err(fault) => (Record::default(), Some(fault)),
    };
    let chosen = choose(product, &settings, &old);
    let removes = package.removes || settings.remove;
    if removes && fault.is_none() && !old.is_there() {
        fault = Some(Fault::new(code::NOT_INSTALLED, "setup-not-installed", ""));
    }
    if settings.silent {
        return silent::run(&mut package, product, &chosen, &old, removes, fault, language, &mut log, &settings);
    }
    if fault.is_none() && !removes {
        let machine = chosen.machine && (install::is_administrator() || product.rule("scope") == "machine");
        fault = install::check(product, &Chosen { machine, ..chosen.clone() }, &old).err();
    }
    wizard::run(wizard::Start { package, product, settings, language, chosen, old, log, fault })
}

/// Two that change the same product at once would be in each other's way.
fn one_at_a_time(product: &Product) -> Result<()> {
    let name = wide(&format!("Global\\{}-setup", product.id));
    // SAFETY: the name ends with a zero; the system lets it go with the process.
    unsafe {
        let mutex = CreateMutexW(core::ptr::null(), 1, name.as_ptr());
        if mutex.is_null() || GetLastError() == ERROR_ALREADY_EXISTS {
            return Err(Fault::new(code::BUSY, "setup-busy", ""));
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
