//! Programs that are started: the product's own at the end (not as the administrator who installed it), and this one
//! again with more rights.

use crate::desired::Chosen;
use crate::product::Product;
use crate::settings::quoted_path;
use crate::text::{cat, t, Text};
use core::ptr::{null, null_mut};
use windows_sys::Win32::Foundation::{CloseHandle, HANDLE};
use windows_sys::Win32::Security as se;
use windows_sys::Win32::System::Threading as th;
use windows_sys::Win32::UI::Shell::{ShellExecuteExW, SEE_MASK_NOCLOSEPROCESS, SHELLEXECUTEINFOW};
use windows_sys::Win32::UI::WindowsAndMessaging::{GetShellWindow, GetWindowThreadProcessId, SW_SHOWNORMAL};

/// Starts a program of the product as the user who is logged in.
pub fn start(product: &Product, chosen: &Chosen, key: Text) {
    let Some(program) = product.program(key) else { return };
    let line = cat(&[quoted_path(chosen.path(program.file)), t!(" "), chosen.arguments(&program.arguments, &[])]);
    let folder = chosen.working_folder(&program);
    let folder = if folder.is_empty() { chosen.folder } else { folder };
    // SAFETY: structures are plain data and say their sizes; texts end with a zero; handles are closed once.
    unsafe {
        let mut info: th::STARTUPINFOW = core::mem::zeroed();
        info.cb = core::mem::size_of_val(&info) as u32;
        let mut process: th::PROCESS_INFORMATION = core::mem::zeroed();
        let token = shell_token();
        let flags = th::CREATE_UNICODE_ENVIRONMENT;
        let mut ok = 0;
        if let Some(token) = token {
            ok = th::CreateProcessWithTokenW(
                token,
                0,
                null(),
                line.ptr().cast_mut(),
                0,
                null(),
                folder.ptr(),
                &info,
                &mut process,
            );
            CloseHandle(token);
        }
        if ok == 0 {
            ok = th::CreateProcessW(
                null(),
                line.ptr().cast_mut(),
                null(),
                null(),
                0,
                flags,
                null(),
                folder.ptr(),
                &info,
                &mut process,
            );
        }
        if ok != 0 {
            CloseHandle(process.hProcess);
            CloseHandle(process.hThread);
        }
    }
}

/// The token of the desktop's own process: that of the user, without an administrator's rights. None where this
/// process has no more rights than that.
fn shell_token() -> Option<HANDLE> {
    if !is_administrator() {
        return None;
    }
    // SAFETY: handles are closed once; sizes are those of the structures.
    unsafe {
        let window = GetShellWindow();
        let mut id = 0;
        if window.is_null() || GetWindowThreadProcessId(window, &mut id) == 0 {
            return None;
        }
        let process = th::OpenProcess(th::PROCESS_QUERY_INFORMATION, 0, id);
        let (mut token, mut copy) = (null_mut(), null_mut());
        let opened = !process.is_null() && th::OpenProcessToken(process, se::TOKEN_DUPLICATE, &mut token) != 0;
        CloseHandle(process);
        if !opened {
            return None;
        }
        let access = se::TOKEN_QUERY
            | se::TOKEN_ASSIGN_PRIMARY
            | se::TOKEN_DUPLICATE
            | se::TOKEN_ADJUST_DEFAULT
            | se::TOKEN_ADJUST_SESSIONID;
        let ok = se::DuplicateTokenEx(token, access, null(), se::SecurityImpersonation, se::TokenPrimary, &mut copy);
        CloseHandle(token);
        (ok != 0).then_some(copy)
    }
}

/// Which of a user's two tokens this process has, if there are two.
fn elevation() -> i32 {
    let (mut kind, mut length) = (0i32, 0);
    // SAFETY: the buffer is as long as is said; the handle is closed once.
    unsafe {
        let mut token = null_mut();
        if th::OpenProcessToken(th::GetCurrentProcess(), se::TOKEN_QUERY, &mut token) != 0 {
            se::GetTokenInformation(token, se::TokenElevationType, (&raw mut kind).cast(), 4, &mut length);
            CloseHandle(token);
        }
    }
    kind
}

/// Whether this process has rights that other programs of the same user don't have: they could write what it reads.
pub fn is_elevated() -> bool {
    elevation() == se::TokenElevationTypeFull
}

pub fn is_administrator() -> bool {
    // SAFETY: no preconditions.
    let is_member = unsafe { windows_sys::Win32::UI::Shell::IsUserAnAdmin() != 0 };
    is_member && elevation() != se::TokenElevationTypeLimited
}

/// Runs a program as an administrator and waits for it; none if the user refuses.
pub fn run_elevated(path: Text, line: Text) -> Option<u32> {
    // SAFETY: the structure is plain data and says its size; texts live until the call is over.
    unsafe {
        let mut info: SHELLEXECUTEINFOW = core::mem::zeroed();
        info.cbSize = core::mem::size_of_val(&info) as u32;
        info.fMask = SEE_MASK_NOCLOSEPROCESS;
        info.lpVerb = t!("runas").ptr();
        info.lpFile = path.ptr();
        info.lpParameters = line.ptr();
        info.nShow = SW_SHOWNORMAL;
        if ShellExecuteExW(&mut info) == 0 {
            return None;
        }
        Some(wait(info.hProcess))
    }
}

/// Waits for a process and gives its exit code; its handle is closed.
///
/// # Safety
/// The handle is open.
unsafe fn wait(process: HANDLE) -> u32 {
    let mut code = crate::system::code::FAILED;
    th::WaitForSingleObject(process, th::INFINITE);
    th::GetExitCodeProcess(process, &mut code);
    CloseHandle(process);
    code
}

/// Runs a program in a folder and waits for it; no folder is this one.
pub fn run(path: Text, line: Text, folder: Text) -> Option<u32> {
    let line = cat(&[quoted_path(path), t!(" "), line]);
    // SAFETY: structures are plain data and say their sizes; texts end with a zero; handles are closed once.
    unsafe {
        let mut info: th::STARTUPINFOW = core::mem::zeroed();
        info.cb = core::mem::size_of_val(&info) as u32;
        let mut process: th::PROCESS_INFORMATION = core::mem::zeroed();
        let folder = if folder.is_empty() { null() } else { folder.ptr() };
        let ok = th::CreateProcessW(
            null(),
            line.ptr().cast_mut(),
            null(),
            null(),
            1,
            0,
            null(),
            folder,
            &info,
            &mut process,
        );
        if ok == 0 {
            return None;
        }
        CloseHandle(process.hThread);
        Some(wait(process.hProcess))
    }
}
