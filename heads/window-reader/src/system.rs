//! The system's functions that the program calls, with the names of Windows' own documentation.
#![allow(non_snake_case)]

#[repr(C)]
#[derive(Clone, Copy, Default, PartialEq, Eq)]
pub struct Rect {
    pub left: i32,
    pub top: i32,
    pub right: i32,
    pub bottom: i32,
}

pub type Visit = unsafe extern "system" fn(isize, isize) -> i32;

#[cfg_attr(windows, link(name = "kernel32", kind = "raw-dylib"))]
extern "system" {
    pub fn CreateFileW(
        name: *const u16,
        access: u32,
        share: u32,
        security: usize,
        how: u32,
        flags: u32,
        template: isize,
    ) -> isize;
    pub fn ExitProcess(code: u32) -> !;
    pub fn GetCommandLineW() -> *const u16;
    pub fn Sleep(milliseconds: u32);
    pub fn WideCharToMultiByte(
        page: u32,
        flags: u32,
        from: *const u16,
        len: i32,
        to: *mut u8,
        most: i32,
        default: usize,
        used: usize,
    ) -> i32;
    pub fn WriteFile(handle: isize, from: *const u8, len: u32, done: *mut u32, overlapped: usize) -> i32;
}

#[repr(C)]
pub struct StartupInfo {
    pub size: u32,
    pub rest: [u64; 12],
}

#[repr(C)]
#[derive(Default)]
pub struct ProcessInfo {
    pub process: isize,
    pub thread: isize,
    pub ids: [u32; 2],
}

#[repr(C)]
pub struct ServiceEntry {
    pub name: *const u16,
    pub main: Option<unsafe extern "system" fn(u32, *const *const u16)>,
}

/// `SERVICE_STATUS`: type, state, accepted controls, exit codes, check point, wait hint.
pub type ServiceStatus = [u32; 7];

#[cfg_attr(windows, link(name = "kernel32", kind = "raw-dylib"))]
extern "system" {
    pub fn CloseHandle(handle: isize) -> i32;
    pub fn GetCurrentProcess() -> isize;
    pub fn GetExitCodeProcess(process: isize, code: *mut u32) -> i32;
    pub fn WaitForSingleObject(handle: isize, milliseconds: u32) -> u32;
}

#[cfg_attr(windows, link(name = "advapi32", kind = "raw-dylib"))]
extern "system" {
    pub fn CreateProcessAsUserW(
        token: isize,
        name: usize,
        line: *const u16,
        process: usize,
        thread: usize,
        inherit: i32,
        flags: u32,
        environment: usize,
        folder: usize,
        startup: *const StartupInfo,
        info: *mut ProcessInfo,
    ) -> i32;
    pub fn DuplicateTokenEx(token: isize, access: u32, security: usize, level: u32, kind: u32, copy: *mut isize)
        -> i32;
    pub fn GetTokenInformation(token: isize, class: u32, to: *mut isize, size: u32, needed: *mut u32) -> i32;
    pub fn OpenProcessToken(process: isize, access: u32, token: *mut isize) -> i32;
    pub fn RegisterServiceCtrlHandlerW(name: *const u16, handler: unsafe extern "system" fn(u32)) -> isize;
    pub fn SetServiceStatus(service: isize, status: *const ServiceStatus) -> i32;
    pub fn StartServiceCtrlDispatcherW(entries: *const ServiceEntry) -> i32;
}

#[cfg_attr(windows, link(name = "user32", kind = "raw-dylib"))]
extern "system" {
    pub fn EnumChildWindows(parent: isize, visit: Visit, data: isize) -> i32;
    pub fn EnumWindows(visit: Visit, data: isize) -> i32;
    pub fn GetClassNameW(window: isize, to: *mut u16, len: i32) -> i32;
    pub fn GetWindowRect(window: isize, rect: *mut Rect) -> i32;
    pub fn IsWindowEnabled(window: isize) -> i32;
    pub fn IsWindowVisible(window: isize) -> i32;
    pub fn MapWindowPoints(from: isize, to: isize, points: *mut Rect, count: u32) -> i32;
    pub fn PostMessageW(window: isize, message: u32, w: usize, l: isize) -> i32;
    pub fn SendMessageTimeoutW(
        window: isize,
        message: u32,
        w: usize,
        l: isize,
        flags: u32,
        milliseconds: u32,
        result: *mut usize,
    ) -> isize;
}

#[cfg_attr(windows, link(name = "shell32", kind = "raw-dylib"))]
extern "system" {
    pub fn CommandLineToArgvW(line: *const u16, count: *mut i32) -> *const *const u16;
}

/// `GUID`.
#[repr(C)]
pub struct Guid(pub u32, pub u16, pub u16, pub [u8; 8]);

/// `WINTRUST_FILE_INFO`.
#[repr(C)]
pub struct TrustFile {
    pub size: u32,
    pub path: *const u16,
    pub handle: isize,
    pub known: *const Guid,
}

/// `WINTRUST_DATA`.
#[repr(C)]
pub struct TrustData {
    pub size: u32,
    pub policy: usize,
    pub subject: usize,
    pub ui: u32,
    pub revocation: u32,
    pub union: u32,
    pub file: *const TrustFile,
    pub action: u32,
    pub state: isize,
    pub reference: usize,
    pub flags: u32,
    pub context: u32,
    pub settings: usize,
}

impl Default for TrustData {
    fn default() -> Self {
        Self {
            size: 0,
            policy: 0,
            subject: 0,
            ui: 0,
            revocation: 0,
            union: 0,
            file: core::ptr::null(),
            action: 0,
            state: 0,
            reference: 0,
            flags: 0,
            context: 0,
            settings: 0,
        }
    }
}

#[cfg_attr(windows, link(name = "wintrust", kind = "raw-dylib"))]
extern "system" {
    pub fn WinVerifyTrust(window: isize, action: *const Guid, data: *const TrustData) -> i32;
}
