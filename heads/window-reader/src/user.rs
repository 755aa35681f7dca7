//! For tests: a program started as a user without an administrator's rights, and a service that does nothing.

use crate::system::*;
use core::ptr::addr_of;

/// `TokenLinkedToken`: the other one of a user's two tokens.
const LINKED: u32 = 19;
const ALL_ACCESS: u32 = 0xF01FF;

/// Runs a command line with fewer rights and gives its exit code.
///
/// # Safety
/// The line ends with a zero.
pub unsafe fn run(line: *const u16) -> u32 {
    let (mut own, mut linked, mut primary, mut size) = (0, 0, 0, 0);
    let asked = OpenProcessToken(GetCurrentProcess(), ALL_ACCESS, &mut own) != 0
        && GetTokenInformation(own, LINKED, &mut linked, 8, &mut size) != 0
        && DuplicateTokenEx(linked, 0x200_0000, 0, 2, 1, &mut primary) != 0;
    if !asked {
        return 201;
    }
    let startup = StartupInfo { size: core::mem::size_of::<StartupInfo>() as u32, rest: [0; 12] };
    let mut info = ProcessInfo::default();
    if CreateProcessAsUserW(primary, 0, line, 0, 0, 1, 0, 0, 0, &startup, &mut info) == 0 {
        return 202;
    }
    let mut code = 203;
    WaitForSingleObject(info.process, u32::MAX);
    GetExitCodeProcess(info.process, &mut code);
    CloseHandle(info.process);
    CloseHandle(info.thread);
    code
}

static mut SERVICE: isize = 0;
static NAME: [u16; 1] = [0];

/// Running (4) and accepts to be stopped (1), or stopped (1).
unsafe fn state(state: u32) {
    SetServiceStatus(SERVICE, &[0x10, state, u32::from(state == 4), 0, 0, 0, 0]);
}

unsafe extern "system" fn control(what: u32) {
    state(if what == 1 { 1 } else { 4 });
}

unsafe extern "system" fn main(_: u32, _: *const *const u16) {
    SERVICE = RegisterServiceCtrlHandlerW(NAME.as_ptr(), control);
    state(4);
}

/// Runs as a service until it is stopped.
///
/// # Safety
/// Called once.
pub unsafe fn serve() -> u32 {
    let entries =
        [ServiceEntry { name: NAME.as_ptr(), main: Some(main) }, ServiceEntry { name: core::ptr::null(), main: None }];
    u32::from(StartServiceCtrlDispatcherW(addr_of!(entries).cast()) == 0)
}
