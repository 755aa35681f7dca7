//! A portable program: unpacked once for each version into the person's cache, and started from there.

use crate::files;
use crate::package::Package;
use crate::product::{Portable, Product};
use crate::programs;
use crate::settings::command_line;
use crate::shortcut;
use crate::system::{code, wide, Fault, Result};
use crate::wishes::Chosen;
use alloc::format;
use alloc::string::String;
use windows_sys::Win32::System::Environment::SetEnvironmentVariableW;
use windows_sys::Win32::UI::Shell::CSIDL_LOCAL_APPDATA;

fn set(name: &str, value: &str) {
    // SAFETY: both texts end with a zero.
    unsafe { SetEnvironmentVariableW(wide(name).as_ptr(), wide(value).as_ptr()) };
}

/// Unpacks if need be, runs, and gives the program's exit code.
pub fn run(package: &mut Package, product: &Product, portable: &Portable, line: &str) -> Result<u32> {
    shortcut::begin();
    // The seal tells one package from every other, also of the same version.
    let seal: String = package.seal[16..24].iter().map(|b| format!("{b:02x}")).collect();
    let cache = format!("{}\\{}", crate::places::known(CSIDL_LOCAL_APPDATA), product.id);
    let folder = format!("{cache}\\{}-{seal}", product.version);
    if !files::is_folder(&folder) {
        unpack(package, product, &cache, &folder)?;
    }
    let chosen =
        Chosen { folder, machine: false, choices: product.choices.iter().map(|_| true).collect(), desktop: false, startup: false };
    let program = product.program(&portable.program);
    let program = program.ok_or_else(|| Fault::new(code::DAMAGED, "setup-damaged", "it has no program"))?;
    if portable.beside {
        let own = package.path.rsplit_once('\\').map_or("", |(parent, _)| parent);
        let settings = format!("{own}\\{} settings", product.name.replace(['<', '>', ':', '"', '/', '\\', '|', '?', '*'], "-"));
        files::make_folders(&settings)?;
        set("APPDATA", &settings);
        set("LOCALAPPDATA", &settings);
    }
    set("PORTABLE_PROGRAM", &package.path);
    let own = command_line(&program.arguments.iter().map(|a| chosen.text(a)).collect::<alloc::vec::Vec<_>>());
    let all = format!("{own} {line}");
    let working = Some(chosen.working_folder(program)).filter(|f| !f.is_empty());
    let path = chosen.path(&program.file);
    programs::run(&path, all.trim(), working.as_deref()).ok_or_else(|| Fault::last(&path))
}

fn unpack(package: &mut Package, product: &Product, cache: &str, folder: &str) -> Result<()> {
    let wanted = product.bytes + (8 << 20);
    files::make_folders(cache)?;
    if files::free_space(cache).is_some_and(|free| free < wanted) {
        return Err(Fault::new(code::SPACE, "setup-space", format!("{} MB", wanted.div_ceil(1_000_000))));
    }
    // Two that start at once each unpack for themselves; the first one to be ready wins.
    let part = format!("{folder}.part{:x}", files::ticks());
    let result = fill(package, product, &part).and_then(|()| match files::rename(&part, folder) {
        Err(_) if files::is_folder(folder) => Ok(()),
        other => other,
    });
    if files::is_folder(&part) {
        files::remove_tree(&part);
    }
    result
}

fn fill(package: &mut Package, product: &Product, part: &str) -> Result<()> {
    files::make_folders(part)?;
    for path in &product.folders {
        files::make_folders(&format!("{part}\\{path}"))?;
    }
    let mut buffer = alloc::vec![0; 1 << 18];
    let mut made = String::new();
    for file in &product.files {
        let path = format!("{part}\\{}", file.path);
        let parent = path.rsplit_once('\\').map_or(part, |(p, _)| p);
        if parent != made {
            files::make_folders(parent)?;
            made = parent.into();
        }
        let mut left = package.file_at(file.offset)? as usize;
        let out = files::File::create(&path)?;
        while left > 0 {
            let n = left.min(buffer.len());
            package.bytes(&mut buffer[..n])?;
            out.write(&buffer[..n], &path)?;
            left -= n;
        }
        out.set_time(file.time.0, file.time.1);
    }
    for (path, of) in &product.links {
        files::hard_link(&format!("{part}\\{path}"), &format!("{part}\\{of}"))?;
    }
    Ok(())
}
