//! A page as a window with the system's own controls: in the system's font, at the screen's resolution, for keyboard
//! and screen readers as any other window. The strip with the picture and the lines are drawn; all else are controls.

use crate::product::{Control, Page};
use crate::system::{narrow, wide};
use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;
use core::ptr::{null, null_mut};
use windows_sys::Win32::Foundation::{COLORREF, HWND, RECT};
use windows_sys::Win32::Graphics::Gdi as gdi;
use windows_sys::Win32::System::LibraryLoader::GetModuleHandleW;
use windows_sys::Win32::UI::Controls as cc;
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// What a control is, by the numbers of the notes.
pub mod kind {
    pub const STRIP: i32 = 0;
    pub const PICTURE: i32 = 1;
    pub const ACCENT: i32 = 2;
    pub const TITLE: i32 = 3;
    pub const BELOW: i32 = 4;
    pub const TEXT: i32 = 5;
    pub const LINE: i32 = 6;
    pub const BUTTON: i32 = 7;
    pub const CHECK: i32 = 8;
    pub const FOLDER: i32 = 9;
    pub const PARTS: i32 = 10;
    pub const LICENSE: i32 = 11;
    pub const SCOPE: i32 = 12;
    pub const PROGRESS: i32 = 13;
    pub const DOING: i32 = 14;
    pub const PROGRAMS: i32 = 15;
}

/// Controls' numbers begin here; the second one of a pair is so much further.
pub const FIRST_ID: i32 = 100;
pub const SECOND: i32 = 1000;

/// What the drawing needs.
pub struct Look {
    pub tint: COLORREF,
    pub dpi: i32,
    pub font: gdi::HFONT,
    pub title: gdi::HFONT,
    pub tint_brush: gdi::HBRUSH,
    pub accent_brush: gdi::HBRUSH,
}

impl Look {
    pub fn new(accent: u32, tint: u32, dpi: u32) -> Self {
        let dpi = if dpi == 0 { 96 } else { dpi as i32 };
        let font = |points: i32, weight: u32| {
            let name = wide("Segoe UI");
            let height = -(points * dpi / 72);
            // SAFETY: the name ends with a zero.
            unsafe {
                gdi::CreateFontW(height, 0, 0, 0, weight as i32, 0, 0, 0, gdi::DEFAULT_CHARSET.into(), 0, 0, gdi::CLEARTYPE_QUALITY.into(), 0, name.as_ptr())
            }
        };
        let (font, title) = (font(9, gdi::FW_NORMAL), font(13, gdi::FW_BOLD));
        // SAFETY: any colour makes a brush.
        let (tint_brush, accent_brush) = unsafe { (gdi::CreateSolidBrush(tint), gdi::CreateSolidBrush(accent)) };
        Self { tint, dpi, font, title, tint_brush, accent_brush }
    }

    /// Units of the pages in pixels: 72 to an inch.
    pub fn px(&self, units: i32) -> i32 {
        (units * self.dpi + 36) / 72
    }

    pub fn rect(&self, at: [i32; 4]) -> RECT {
        let (left, top) = (self.px(at[0]), self.px(at[1]));
        RECT { left, top, right: self.px(at[0] + at[2]), bottom: self.px(at[1] + at[3]) }
    }

    pub fn free(&self) {
        // SAFETY: these are this object's own, and nothing is drawn with them any more.
        unsafe {
            for object in [self.font, self.title, self.tint_brush, self.accent_brush] {
                gdi::DeleteObject(object);
            }
        }
    }
}

/// What the words and states of controls come from.
pub trait Fill {
    fn word(&self, n: i32) -> String;
    fn named(&self, key: &str) -> String;
    /// Whether the box of a property is ticked.
    fn is_ticked(&self, property: &str) -> bool;
    fn folder(&self) -> String;
    fn license(&self) -> String;
    /// Titles of the choices, and whether they are chosen.
    fn parts(&self) -> Vec<(String, bool)>;
    fn programs(&self) -> Vec<String>;
    fn is_for_everyone(&self) -> bool;
}

/// The resolution that a window is drawn for.
pub fn dpi_of(window: HWND) -> u32 {
    // SAFETY: the functions take any window; the newer one is there from Windows 10 on.
    unsafe {
        let user = GetModuleHandleW(wide("user32.dll").as_ptr());
        if let Some(newer) = windows_sys::Win32::System::LibraryLoader::GetProcAddress(user, c"GetDpiForWindow".as_ptr().cast()) {
            if !window.is_null() {
                let newer: unsafe extern "system" fn(HWND) -> u32 = core::mem::transmute(newer);
                return newer(window);
            }
        }
        let screen = gdi::GetDC(null_mut());
        let dpi = gdi::GetDeviceCaps(screen, gdi::LOGPIXELSY as i32);
        gdi::ReleaseDC(null_mut(), screen);
        dpi as u32
    }
}

/// Makes an empty window of a page's size in the middle of the screen.
pub fn make(class: &[u16], title: &str, page: &Page, look: &Look, owner: HWND) -> HWND {
    let style = wm::WS_POPUP | wm::WS_CAPTION | wm::WS_SYSMENU | if owner.is_null() { wm::WS_MINIMIZEBOX } else { 0 };
    let mut rect = RECT { left: 0, top: 0, right: look.px(page.size.0), bottom: look.px(page.size.1) };
    // SAFETY: names end with a zero; the class is registered.
    unsafe {
        wm::AdjustWindowRectEx(&mut rect, style, 0, wm::WS_EX_DLGMODALFRAME | wm::WS_EX_CONTROLPARENT);
        let (width, height) = (rect.right - rect.left, rect.bottom - rect.top);
        let mut area = RECT { left: 0, top: 0, right: 1024, bottom: 768 };
        wm::SystemParametersInfoW(wm::SPI_GETWORKAREA, 0, (&raw mut area).cast(), 0);
        if !owner.is_null() {
            wm::GetWindowRect(owner, &mut area);
        }
        let left = (area.left + area.right - width) / 2;
        let top = (area.top + area.bottom - height) / 2;
        let name = wide(title);
        let window = wm::CreateWindowExW(
            wm::WS_EX_DLGMODALFRAME | wm::WS_EX_CONTROLPARENT, class.as_ptr(), name.as_ptr(), style, left, top, width, height,
            owner, null_mut(), GetModuleHandleW(null()), null(),
        );
        for (size, which) in [(32, wm::ICON_BIG), (16, wm::ICON_SMALL)] {
            wm::SendMessageW(window, wm::WM_SETICON, which as usize, icon(look.dpi * size / 96) as isize);
        }
        window
    }
}

/// The product's picture in so many pixels.
pub fn icon(size: i32) -> wm::HICON {
    // SAFETY: the resource's number is that of the icon that the tool puts into the head.
    unsafe { wm::LoadImageW(GetModuleHandleW(null()), 1 as *const u16, wm::IMAGE_ICON, size, size, 0).cast() }
}

/// Draws what is no control: the strip with the picture, the lines.
pub fn draw(window: HWND, page: &Page, look: &Look) {
    // SAFETY: painting begins and ends here; all objects are alive.
    unsafe {
        let mut paint = core::mem::zeroed();
        let dc = gdi::BeginPaint(window, &mut paint);
        for control in &page.controls {
            let rect = look.rect(control.at);
            match control.kind {
                kind::STRIP => drop(gdi::FillRect(dc, &rect, look.tint_brush)),
                kind::ACCENT => drop(gdi::FillRect(dc, &rect, look.accent_brush)),
                _ => {}
            }
        }
        for control in &page.controls {
            let mut rect = look.rect(control.at);
            match control.kind {
                kind::LINE => {
                    rect.bottom = rect.top + 2;
                    gdi::DrawEdge(dc, &mut rect, gdi::EDGE_ETCHED, gdi::BF_TOP);
                }
                kind::PICTURE => {
                    let size = rect.right - rect.left;
                    let picture = icon(size);
                    wm::DrawIconEx(dc, rect.left, rect.top, picture, size, size, 0, null_mut(), wm::DI_NORMAL);
                    wm::DestroyIcon(picture);
                }
                _ => {}
            }
        }
        gdi::EndPaint(window, &paint);
    }
}

/// Puts a page's controls into its window, in the order of the tab key.
pub fn fill(window: HWND, page: &Page, look: &Look, fill: &dyn Fill) {
    // SAFETY: the window is alive; only its own children are destroyed.
    unsafe {
        let mut child = wm::GetWindow(window, wm::GW_CHILD);
        while !child.is_null() {
            let next = wm::GetWindow(child, wm::GW_HWNDNEXT);
            wm::DestroyWindow(child);
            child = next;
        }
    }
    for (n, control) in page.controls.iter().enumerate() {
        add(window, page, n as i32, control, look, fill);
    }
    // SAFETY: as above.
    unsafe {
        let default = wm::GetDlgItem(window, FIRST_ID + page.default);
        let first = wm::GetNextDlgTabItem(window, null_mut(), 0);
        let focus = if !default.is_null() && windows_sys::Win32::UI::Input::KeyboardAndMouse::IsWindowEnabled(default) != 0 {
            default
        } else {
            first
        };
        windows_sys::Win32::UI::Input::KeyboardAndMouse::SetFocus(focus);
        gdi::InvalidateRect(window, null(), 1);
    }
}

fn child(window: HWND, class: &str, text: &str, style: u32, extended: u32, rect: &RECT, id: i32, font: gdi::HFONT) -> HWND {
    let style = style | wm::WS_CHILD | wm::WS_VISIBLE | wm::WS_CLIPSIBLINGS;
    // SAFETY: texts end with a zero; the parent is alive.
    unsafe {
        let made = wm::CreateWindowExW(
            extended, wide(class).as_ptr(), wide(text).as_ptr(), style, rect.left, rect.top, rect.right - rect.left,
            rect.bottom - rect.top, window, id as usize as *mut _, GetModuleHandleW(null()), null(),
        );
        wm::SendMessageW(made, wm::WM_SETFONT, font as usize, 1);
        made
    }
}

fn add(window: HWND, page: &Page, n: i32, control: &Control, look: &Look, from: &dyn Fill) {
    let id = FIRST_ID + n;
    let rect = look.rect(control.at);
    let text = from.word(control.words);
    let tab = wm::WS_TABSTOP;
    let make = |class: &str, text: &str, style: u32, extended: u32| {
        child(window, class, text, style, extended, &rect, id, look.font)
    };
    match control.kind {
        kind::TITLE => drop(child(window, "STATIC", &text, 0, 0, &rect, id, look.title)),
        kind::BELOW | kind::TEXT => drop(make("STATIC", &text, 0, 0)),
        // Names of files are cut in the middle, and have no keys.
        kind::DOING => drop(make("STATIC", "", 0x80 | 0x8000, 0)),
        kind::BUTTON => {
            let default = if n == page.default { wm::BS_DEFPUSHBUTTON } else { wm::BS_PUSHBUTTON };
            let button = make("BUTTON", &text, tab | default as u32, 0);
            if !control.property.is_empty() && !from.is_ticked(&control.property) {
                // SAFETY: the button is alive.
                unsafe { windows_sys::Win32::UI::Input::KeyboardAndMouse::EnableWindow(button, 0) };
            }
        }
        kind::CHECK => {
            let made = make("BUTTON", &text, tab | wm::BS_AUTOCHECKBOX as u32, 0);
            tick(made, from.is_ticked(&control.property));
        }
        kind::FOLDER => drop(make("EDIT", &from.folder(), tab | wm::ES_AUTOHSCROLL as u32, wm::WS_EX_CLIENTEDGE)),
        kind::LICENSE => {
            let style = tab | wm::WS_VSCROLL | (wm::ES_MULTILINE | wm::ES_READONLY) as u32;
            let lines = from.license().replace("\r\n", "\n").replace('\n', "\r\n");
            let made = make("EDIT", "", style, wm::WS_EX_CLIENTEDGE);
            // SAFETY: the text ends with a zero.
            unsafe {
                wm::SendMessageW(made, cc::EM_LIMITTEXT, 0, 0);
                wm::SetWindowTextW(made, wide(&lines).as_ptr());
            }
        }
        kind::SCOPE => {
            let middle = (rect.top + rect.bottom) / 2;
            let (upper, lower) = (RECT { bottom: middle, ..rect }, RECT { top: middle, ..rect });
            let style = wm::BS_AUTORADIOBUTTON as u32;
            let (me, all) = (from.named("scope-person"), from.named("scope-machine"));
            let me = child(window, "BUTTON", &me, style | tab | wm::WS_GROUP, 0, &upper, id, look.font);
            let all = child(window, "BUTTON", &all, style, 0, &lower, id + SECOND, look.font);
            tick(me, !from.is_for_everyone());
            tick(all, from.is_for_everyone());
        }
        kind::PROGRESS => {
            let made = make("msctls_progress32", "", cc::PBS_SMOOTH, 0);
            // SAFETY: the control is alive.
            unsafe { wm::SendMessageW(made, cc::PBM_SETRANGE32, 0, 1000) };
        }
        kind::PROGRAMS => {
            let style = tab | wm::WS_VSCROLL | wm::LBS_NOINTEGRALHEIGHT as u32;
            let made = make("LISTBOX", "", style, wm::WS_EX_CLIENTEDGE);
            for name in from.programs() {
                // SAFETY: the text ends with a zero.
                unsafe { wm::SendMessageW(made, wm::LB_ADDSTRING, 0, wide(&name).as_ptr() as isize) };
            }
        }
        kind::PARTS => parts(&make, look, &rect, from),
        // Drawn, not made.
        _ => {}
    }
}

fn parts(make: &dyn Fn(&str, &str, u32, u32) -> HWND, look: &Look, rect: &RECT, from: &dyn Fill) {
    let style = wm::WS_TABSTOP | cc::LVS_REPORT | cc::LVS_NOCOLUMNHEADER | cc::LVS_SINGLESEL;
    let made = make("SysListView32", "", style, wm::WS_EX_CLIENTEDGE);
    // SAFETY: the structures are plain data; texts end with a zero and live until the call is over.
    unsafe {
        wm::SendMessageW(made, cc::LVM_SETEXTENDEDLISTVIEWSTYLE, 4, 4);
        let mut column: cc::LVCOLUMNW = core::mem::zeroed();
        column.mask = cc::LVCF_WIDTH;
        column.cx = rect.right - rect.left - look.px(20);
        wm::SendMessageW(made, cc::LVM_INSERTCOLUMNW, 0, (&raw const column) as isize);
        for (n, (title, chosen)) in from.parts().iter().enumerate() {
            let mut text = wide(title);
            let mut item: cc::LVITEMW = core::mem::zeroed();
            item.mask = cc::LVIF_TEXT;
            item.iItem = n as i32;
            item.pszText = text.as_mut_ptr();
            wm::SendMessageW(made, cc::LVM_INSERTITEMW, 0, (&raw const item) as isize);
            item.stateMask = cc::LVIS_STATEIMAGEMASK;
            item.state = if *chosen { 2 << 12 } else { 1 << 12 };
            wm::SendMessageW(made, cc::LVM_SETITEMSTATE, n, (&raw const item) as isize);
        }
    }
}

/// Which parts are ticked.
pub fn ticked_parts(list: HWND, count: usize) -> Vec<bool> {
    let state = |n: usize| {
        // SAFETY: the control is alive.
        unsafe { wm::SendMessageW(list, cc::LVM_GETITEMSTATE, n, cc::LVIS_STATEIMAGEMASK as isize) }
    };
    (0..count).map(|n| state(n) >> 12 == 2).collect()
}

fn tick(button: HWND, ticked: bool) {
    // SAFETY: the control is alive.
    unsafe { wm::SendMessageW(button, wm::BM_SETCHECK, ticked.into(), 0) };
}

pub fn is_ticked(button: HWND) -> bool {
    // SAFETY: the control is alive.
    unsafe { wm::SendMessageW(button, wm::BM_GETCHECK, 0, 0) == 1 }
}

/// The text of a control.
pub fn text_of(control: HWND) -> String {
    let mut buffer = vec![0u16; 32768];
    // SAFETY: the buffer is as long as is said.
    let n = unsafe { wm::GetWindowTextW(control, buffer.as_mut_ptr(), 32768) };
    narrow(&buffer[..n.max(0) as usize])
}

/// The control of a kind on a page.
pub fn of_kind(window: HWND, page: &Page, wanted: i32) -> Option<HWND> {
    let n = page.controls.iter().position(|c| c.kind == wanted)?;
    // SAFETY: the window is alive.
    Some(unsafe { wm::GetDlgItem(window, FIRST_ID + n as i32) })
}

/// Shows how far it is.
pub fn progress(window: HWND, page: &Page, thousandths: u32, doing: &str) {
    // SAFETY: the controls are alive; the text ends with a zero.
    unsafe {
        if let Some(bar) = of_kind(window, page, kind::PROGRESS) {
            wm::SendMessageW(bar, cc::PBM_SETPOS, thousandths as usize, 0);
        }
        if let Some(text) = of_kind(window, page, kind::DOING).filter(|_| !doing.is_empty()) {
            let line = format!("{} %  {doing}", thousandths / 10);
            wm::SetWindowTextW(text, wide(&line).as_ptr());
        }
    }
}

/// A box with a sentence, before there are pages.
pub fn say(title: &str, sentence: &str) {
    // SAFETY: texts end with a zero.
    unsafe { wm::MessageBoxW(null_mut(), wide(sentence).as_ptr(), wide(title).as_ptr(), wm::MB_ICONERROR) };
}

/// Gets the process ready for windows at every resolution.
pub fn begin() {
    // SAFETY: the structure says its own size.
    unsafe {
        let classes = cc::INITCOMMONCONTROLSEX {
            dwSize: core::mem::size_of::<cc::INITCOMMONCONTROLSEX>() as u32,
            dwICC: cc::ICC_STANDARD_CLASSES | cc::ICC_PROGRESS_CLASS | cc::ICC_LISTVIEW_CLASSES,
        };
        cc::InitCommonControlsEx(&classes);
    }
}
