//! The system's functions that the program calls, with the names of Windows' own documentation.
#![allow(non_snake_case)]

#[repr(C)]
pub struct Class {
    pub style: u32,
    pub procedure: unsafe extern "system" fn(isize, u32, usize, isize) -> isize,
    pub extra_class: i32,
    pub extra_window: i32,
    pub instance: isize,
    pub icon: isize,
    pub cursor: isize,
    pub background: isize,
    pub menu: *const u16,
    pub name: *const u16,
}

#[repr(C)]
#[derive(Clone, Copy, Default)]
pub struct Rect {
    pub left: i32,
    pub top: i32,
    pub right: i32,
    pub bottom: i32,
}

#[repr(C)]
pub struct Paint {
    pub dc: isize,
    pub erase: i32,
    pub rect: Rect,
    pub rest: [u8; 64],
}

#[repr(C)]
pub struct Message {
    pub window: isize,
    pub message: u32,
    pub w: usize,
    pub l: isize,
    pub rest: [u32; 6],
}

#[cfg_attr(windows, link(name = "kernel32", kind = "raw-dylib"))]
extern "system" {
    pub fn CloseHandle(handle: isize) -> i32;
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
    pub fn GetCurrentDirectoryW(len: u32, to: *mut u16) -> u32;
    pub fn GetEnvironmentVariableW(name: *const u16, to: *mut u16, len: u32) -> u32;
    pub fn GetFileAttributesW(name: *const u16) -> u32;
    pub fn GetModuleFileNameW(module: isize, to: *mut u16, len: u32) -> u32;
    pub fn GetStdHandle(which: u32) -> isize;
    pub fn MultiByteToWideChar(page: u32, flags: u32, from: *const u8, len: i32, to: *mut u16, most: i32) -> i32;
    pub fn ReadFile(handle: isize, to: *mut u8, len: u32, done: *mut u32, overlapped: usize) -> i32;
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

#[cfg_attr(windows, link(name = "shell32", kind = "raw-dylib"))]
extern "system" {
    pub fn CommandLineToArgvW(line: *const u16, count: *mut i32) -> *mut *const u16;
}

#[cfg_attr(windows, link(name = "user32", kind = "raw-dylib"))]
extern "system" {
    pub fn BeginPaint(window: isize, paint: *mut Paint) -> isize;
    pub fn CreateWindowExW(
        ex: u32,
        class: *const u16,
        title: *const u16,
        style: u32,
        x: i32,
        y: i32,
        w: i32,
        h: i32,
        parent: isize,
        menu: isize,
        instance: isize,
        param: usize,
    ) -> isize;
    pub fn DefWindowProcW(window: isize, message: u32, w: usize, l: isize) -> isize;
    pub fn DispatchMessageW(message: *const Message) -> isize;
    pub fn DrawTextW(dc: isize, text: *const u16, len: i32, rect: *mut Rect, format: u32) -> i32;
    pub fn EndPaint(window: isize, paint: *const Paint) -> i32;
    pub fn FillRect(dc: isize, rect: *const Rect, brush: isize) -> i32;
    pub fn GetClientRect(window: isize, rect: *mut Rect) -> i32;
    pub fn GetMessageW(message: *mut Message, window: isize, from: u32, to: u32) -> i32;
    pub fn LoadCursorW(instance: isize, name: usize) -> isize;
    pub fn MessageBoxW(window: isize, text: *const u16, title: *const u16, kind: u32) -> i32;
    pub fn PostQuitMessage(code: i32);
    pub fn RegisterClassW(class: *const Class) -> u16;
}

#[cfg_attr(windows, link(name = "gdi32", kind = "raw-dylib"))]
extern "system" {
    pub fn CreateFontW(
        h: i32,
        w: i32,
        e: i32,
        o: i32,
        weight: i32,
        italic: u32,
        under: u32,
        strike: u32,
        set: u32,
        out: u32,
        clip: u32,
        quality: u32,
        pitch: u32,
        face: *const u16,
    ) -> isize;
    pub fn CreateSolidBrush(color: u32) -> isize;
    pub fn DeleteObject(object: isize) -> i32;
    pub fn GetStockObject(which: i32) -> isize;
    pub fn Polygon(dc: isize, points: *const [i32; 2], count: i32) -> i32;
    pub fn SelectObject(dc: isize, object: isize) -> isize;
    pub fn SetBkMode(dc: isize, mode: i32) -> i32;
    pub fn SetTextColor(dc: isize, color: u32) -> u32;
}
