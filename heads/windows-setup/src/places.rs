//! Folders by meaning, for one user or for everyone.

use crate::files;
use crate::product::stays_inside;
use crate::text::{path, t, Text};
use windows_sys::Win32::UI::Shell as shell;

/// A folder of the system by its number.
pub fn known(folder: u32) -> Text {
    let mut buffer = [0u16; 260];
    // SAFETY: the buffer has the 260 letters that the function asks for.
    unsafe {
        shell::SHGetFolderPathW(
            core::ptr::null_mut(),
            (folder | shell::CSIDL_FLAG_CREATE) as i32,
            core::ptr::null_mut(),
            0,
            buffer.as_mut_ptr(),
        )
    };
    Text::up_to_zero(&buffer).without_slash()
}

/// The folder that programs go into.
pub fn programs(machine: bool) -> Text {
    if machine {
        known(shell::CSIDL_PROGRAM_FILES)
    } else {
        path(known(shell::CSIDL_LOCAL_APPDATA), t!("Programs"))
    }
}

/// The folder of shortcuts: 0 menu, 1 desktop, 2 startup.
pub fn shortcuts(place: i32, machine: bool) -> Text {
    let (everybody, one) = match place {
        0 => (shell::CSIDL_COMMON_PROGRAMS, shell::CSIDL_PROGRAMS),
        1 => (shell::CSIDL_COMMON_DESKTOPDIRECTORY, shell::CSIDL_DESKTOPDIRECTORY),
        _ => (shell::CSIDL_COMMON_STARTUP, shell::CSIDL_STARTUP),
    };
    known(if machine { everybody } else { one })
}

/// Whether a folder lies in one of the system's folders of programs, where only administrators can write.
pub fn is_in_programs(folder: Text) -> bool {
    let tops = [shell::CSIDL_PROGRAM_FILES, shell::CSIDL_PROGRAM_FILESX86];
    tops.iter().any(|top| setup_rules::trust::is_below(folder.units(), known(*top).units()))
}

pub fn home() -> Text {
    known(shell::CSIDL_PROFILE)
}

/// Whether a folder can be the product's: whole, on a disk, and none of the system's own.
pub fn is_usable(folder: Text) -> bool {
    let on_a_disk = folder.skip(1).begins(t!(":\\")) && stays_inside(folder.skip(3));
    let owned = [shell::CSIDL_WINDOWS, shell::CSIDL_SYSTEM, shell::CSIDL_PROGRAM_FILES, shell::CSIDL_PROFILE];
    on_a_disk && !owned.iter().any(|o| known(*o).same(folder)) && !files::temporary().same(folder)
}
