//! Folders by meaning, for one person or for everyone.

use crate::files;
use crate::system::narrow;
use alloc::format;
use alloc::string::String;
use windows_sys::Win32::UI::Shell as shell;

/// A folder of the system by its number.
pub fn known(folder: u32) -> String {
    let mut buffer = [0u16; 260];
    // SAFETY: the buffer has the 260 letters that the function asks for.
    unsafe {
        shell::SHGetFolderPathW(
            core::ptr::null_mut(), (folder | shell::CSIDL_FLAG_CREATE) as i32, core::ptr::null_mut(), 0, buffer.as_mut_ptr(),
        )
    };
    narrow(&buffer).trim_end_matches('\\').into()
}

/// The folder that programs go into.
pub fn programs(machine: bool) -> String {
    if machine { known(shell::CSIDL_PROGRAM_FILES) } else { format!("{}\\Programs", known(shell::CSIDL_LOCAL_APPDATA)) }
}

/// The folder of shortcuts: 0 menu, 1 desktop, 2 startup.
pub fn shortcuts(place: i32, machine: bool) -> String {
    known(match (place, machine) {
        (0, true) => shell::CSIDL_COMMON_PROGRAMS,
        (0, false) => shell::CSIDL_PROGRAMS,
        (1, true) => shell::CSIDL_COMMON_DESKTOPDIRECTORY,
        (1, false) => shell::CSIDL_DESKTOPDIRECTORY,
        (_, true) => shell::CSIDL_COMMON_STARTUP,
        (_, false) => shell::CSIDL_STARTUP,
    })
}

pub fn home() -> String {
    known(shell::CSIDL_PROFILE)
}

/// Whether a folder can be the product's: whole, on a disk, and none of the system's own.
pub fn is_usable(folder: &str) -> bool {
    let rest = folder.get(1..).and_then(|f| f.strip_prefix(":\\"));
    let plain = rest.is_some_and(|r| {
        !r.is_empty() && !r.contains(['<', '>', '"', '|', '?', '*', '/', ':'])
            && !r.split('\\').any(|n| n.is_empty() || n == "." || n == ".." || n.ends_with(['.', ' ']))
    });
    let owned = [known(shell::CSIDL_WINDOWS), known(shell::CSIDL_SYSTEM), programs(true), home(), files::temporary()];
    plain && !owned.iter().any(|o| crate::system::same(o, folder))
}
