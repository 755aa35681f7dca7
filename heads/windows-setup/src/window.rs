//! A page as a window with the system's own controls: in the system's font, at the screen's resolution, for keyboard
//! and screen readers as any other window. The strip with the picture and the lines are drawn; all else are controls.

use crate::product::{control, Instruction, Page, Product};
use crate::text::{cat, number, t, Text, EMPTY};
use crate::wizard::Ui;
use alloc::vec;
use alloc::vec::Vec;
use core::ptr::{null, null_mut};
use windows_sys::Win32::Foundation::{COLORREF, HWND, RECT};
use windows_sys::Win32::Graphics::Gdi as gdi;
use windows_sys::Win32::System::LibraryLoader::GetModuleHandleW;
use windows_sys::Win32::UI::Controls as cc;
use windows_sys::Win32::UI::Input::KeyboardAndMouse as keys;
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

/// The name of the windows' class.
pub const CLASS: Text = t!("UpperShelfWizard");
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
    pub fn of(product: &Product, dpi: u32) -> Self {
        let (accent, tint) = (product.wizard.number(0) as u32, product.wizard.number(1) as u32);
        let dpi = if dpi == 0 { 96 } else { dpi as i32 };
        let font = |points: i32, weight: u32| {
            let height = -(points * dpi / 72);
            // SAFETY: the name ends with a zero.
            unsafe {
                gdi::CreateFontW(
                    height,
                    0,
                    0,
                    0,
                    weight as i32,
                    0,
                    0,
                    0,
                    gdi::DEFAULT_CHARSET.into(),
                    0,
                    0,
                    gdi::CLEARTYPE_QUALITY.into(),
                    0,
                    t!("Segoe UI").ptr(),
                )
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

    /// Where a control is.
    pub fn rect(&self, item: Instruction) -> RECT {
        let at = |n: usize| item.number(control::AT + n);
        RECT {
            left: self.px(at(0)),
            top: self.px(at(1)),
            right: self.px(at(0) + at(2)),
            bottom: self.px(at(1) + at(3)),
        }
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

/// The screen's resolution.
pub fn dpi() -> u32 {
    // SAFETY: what is asked for is given back.
    unsafe {
        let screen = gdi::GetDC(null_mut());
        let dpi = gdi::GetDeviceCaps(screen, gdi::LOGPIXELSY as i32);
        gdi::ReleaseDC(null_mut(), screen);
        dpi as u32
    }
}

/// Makes an empty window of a page's size in the middle of the screen.
pub fn make(title: Text, page: &Page, look: &Look, owner: HWND) -> HWND {
    let style = wm::WS_POPUP | wm::WS_CAPTION | wm::WS_SYSMENU | if owner.is_null() { wm::WS_MINIMIZEBOX } else { 0 };
    let mut rect = RECT { left: 0, top: 0, right: look.px(page.item.number(1)), bottom: look.px(page.item.number(2)) };
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
        let window = wm::CreateWindowExW(
            wm::WS_EX_DLGMODALFRAME | wm::WS_EX_CONTROLPARENT,
            CLASS.ptr(),
            title.ptr(),
            style,
            left,
            top,
            width,
            height,
            owner,
            null_mut(),
            GetModuleHandleW(null()),
            null(),
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
    unsafe {
        wm::LoadImageW(GetModuleHandleW(null()), core::ptr::without_provenance(1), wm::IMAGE_ICON, size, size, 0).cast()
    }
}

/// Draws what is no control: the strip with the picture, the lines.
pub fn draw(window: HWND, page: &Page, look: &Look) {
    // SAFETY: painting begins and ends here; all objects are alive.
    unsafe {
        let mut paint = core::mem::zeroed();
        let dc = gdi::BeginPaint(window, &mut paint);
        for item in &page.controls {
            let rect = look.rect(*item);
            match item.number(control::KIND) {
                kind::STRIP => drop(gdi::FillRect(dc, &rect, look.tint_brush)),
                kind::ACCENT => drop(gdi::FillRect(dc, &rect, look.accent_brush)),
                _ => {}
            }
        }
        for item in &page.controls {
            let mut rect = look.rect(*item);
            match item.number(control::KIND) {
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
pub fn fill(window: HWND, page: &Page, ui: &Ui) {
    // SAFETY: the window is alive; only its own children are destroyed.
    unsafe {
        let mut child = wm::GetWindow(window, wm::GW_CHILD);
        while !child.is_null() {
            let next = wm::GetWindow(child, wm::GW_HWNDNEXT);
            wm::DestroyWindow(child);
            child = next;
        }
    }
    let default = page.item.number(3);
    for (n, item) in page.controls.iter().enumerate() {
        add(window, default == n as i32, FIRST_ID + n as i32, *item, ui);
    }
    // SAFETY: as above.
    unsafe {
        let default = wm::GetDlgItem(window, FIRST_ID + default);
        let first = wm::GetNextDlgTabItem(window, null_mut(), 0);
        let can = !default.is_null() && keys::IsWindowEnabled(default) != 0;
        keys::SetFocus(if can { default } else { first });
        gdi::InvalidateRect(window, null(), 1);
    }
}

/// A control of the system's.
struct Child<'c> {
    window: HWND,
    class: Text,
    /// Whether it lies deeper: something is typed into it or chosen from it.
    deep: bool,
    text: Text,
    style: u32,
    id: i32,
    font: gdi::HFONT,
    rect: &'c RECT,
}

impl Child<'_> {
    fn make(&self) -> HWND {
        let style = self.style | wm::WS_CHILD | wm::WS_VISIBLE | wm::WS_CLIPSIBLINGS;
        let rect = self.rect;
        // SAFETY: texts end with a zero; the parent is alive.
        unsafe {
            let made = wm::CreateWindowExW(
                if self.deep { wm::WS_EX_CLIENTEDGE } else { 0 },
                self.class.ptr(),
                self.text.ptr(),
                style,
                rect.left,
                rect.top,
                rect.right - rect.left,
                rect.bottom - rect.top,
                self.window,
                self.id as usize as *mut _,
                GetModuleHandleW(null()),
                null(),
            );
            send(made, wm::WM_SETFONT, self.font as usize, 1);
            made
        }
    }
}

/// Sends a message to a window that is alive.
fn send(window: HWND, message: u32, w: usize, l: isize) -> isize {
    // SAFETY: what is pointed to lives until the call is over.
    unsafe { wm::SendMessageW(window, message, w, l) }
}

const STATIC: Text = t!("STATIC");
const BUTTON: Text = t!("BUTTON");
const EDIT: Text = t!("EDIT");
const LIST: Text = t!("LISTBOX");
const VIEW: Text = t!("SysListView32");

fn add(window: HWND, is_default: bool, id: i32, item: Instruction, ui: &Ui) {
    let rect = ui.look.rect(item);
    let (tab, scroll) = (wm::WS_TABSTOP, wm::WS_VSCROLL);
    let property = item.text(control::PROPERTY);
    let kind = item.number(control::KIND);
    let deep = matches!(kind, kind::FOLDER | kind::LICENSE | kind::PROGRAMS | kind::PARTS);
    let text = ui.word(item.number(control::WORDS));
    let mut child = Child { window, class: STATIC, deep, text, style: 0, id, font: ui.look.font, rect: &rect };
    match kind {
        kind::TITLE => child.font = ui.look.title,
        kind::BELOW | kind::TEXT => {}
        // Names of files are cut in the middle, and have no keys.
        kind::DOING => (child.text, child.style) = (EMPTY, 0x80 | 0x8000),
        kind::BUTTON => {
            let default = if is_default { wm::BS_DEFPUSHBUTTON } else { wm::BS_PUSHBUTTON };
            (child.class, child.style) = (BUTTON, tab | default as u32);
        }
        kind::CHECK => (child.class, child.style) = (BUTTON, tab | wm::BS_AUTOCHECKBOX as u32),
        kind::FOLDER => {
            (child.class, child.style) = (EDIT, tab | wm::ES_AUTOHSCROLL as u32);
            child.text = ui.chosen.folder;
        }
        kind::LICENSE => {
            (child.class, child.style) = (EDIT, tab | scroll | (wm::ES_MULTILINE | wm::ES_READONLY) as u32);
            child.text = EMPTY;
        }
        kind::SCOPE => return scope(child, ui),
        kind::PROGRESS => (child.class, child.style, child.text) = (t!("msctls_progress32"), cc::PBS_SMOOTH, EMPTY),
        kind::PROGRAMS => {
            (child.class, child.style) = (LIST, tab | scroll | wm::LBS_NOINTEGRALHEIGHT as u32);
            child.text = EMPTY;
        }
        kind::PARTS => {
            child.style = tab | cc::LVS_REPORT | cc::LVS_NOCOLUMNHEADER | cc::LVS_SINGLESEL;
            (child.class, child.text) = (VIEW, EMPTY);
        }
        // Drawn, not made.
        _ => return,
    }
    let made = child.make();
    match kind {
        // SAFETY: the button is alive.
        kind::BUTTON if !property.is_empty() && !ui.is_ticked(property) => unsafe {
            keys::EnableWindow(made, 0);
        },
        kind::CHECK => tick(made, ui.is_ticked(property)),
        kind::LICENSE => {
            let lines = text.replace(t!("\r\n"), t!("\n")).replace(t!("\n"), t!("\r\n"));
            send(made, cc::EM_LIMITTEXT, 0, 0);
            send(made, wm::WM_SETTEXT, 0, lines.ptr() as isize);
        }
        kind::PROGRESS => drop(send(made, cc::PBM_SETRANGE32, 0, 1000)),
        kind::PROGRAMS => {
            for name in &ui.programs {
                send(made, wm::LB_ADDSTRING, 0, name.ptr() as isize);
            }
        }
        kind::PARTS => parts(made, &rect, ui),
        _ => {}
    }
}

/// For whom: two buttons of which one is pressed.
fn scope(mut child: Child, ui: &Ui) {
    let rect = *child.rect;
    let middle = (rect.top + rect.bottom) / 2;
    let (upper, lower) = (RECT { bottom: middle, ..rect }, RECT { top: middle, ..rect });
    child.class = BUTTON;
    child.style = wm::BS_AUTORADIOBUTTON as u32 | wm::WS_TABSTOP | wm::WS_GROUP;
    child.text = ui.named(t!("scope-user"));
    let me = Child { rect: &upper, ..child }.make();
    child.style = wm::BS_AUTORADIOBUTTON as u32;
    child.text = ui.named(t!("scope-machine"));
    let all = Child { rect: &lower, id: child.id + SECOND, ..child }.make();
    tick(me, !ui.chosen.machine);
    tick(all, ui.chosen.machine);
}

fn parts(made: HWND, rect: &RECT, ui: &Ui) {
    // Boxes to tick.
    send(made, cc::LVM_SETEXTENDEDLISTVIEWSTYLE, 4, 4);
    // SAFETY: the structure is plain data.
    let mut column: cc::LVCOLUMNW = unsafe { core::mem::zeroed() };
    column.mask = cc::LVCF_WIDTH;
    column.cx = rect.right - rect.left - ui.look.px(20);
    send(made, cc::LVM_INSERTCOLUMNW, 0, (&raw const column) as isize);
    for (n, choice) in ui.product.choices.iter().enumerate() {
        // In the language of the pages, where the product says it in several.
        let said = |kind: Text, plain: Text| {
            let said = ui.named(cat(&[kind, choice.text(0)]));
            if said.is_empty() {
                plain
            } else {
                said
            }
        };
        let (title, description) = (said(t!("choice:"), choice.text(1)), said(t!("about:"), choice.text(2)));
        let text = if description.is_empty() { title } else { cat(&[title, t!(": "), description]) };
        // SAFETY: the structure is plain data.
        let mut item: cc::LVITEMW = unsafe { core::mem::zeroed() };
        item.mask = cc::LVIF_TEXT;
        item.iItem = n as i32;
        item.pszText = text.ptr().cast_mut();
        send(made, cc::LVM_INSERTITEMW, 0, (&raw const item) as isize);
        item.stateMask = cc::LVIS_STATEIMAGEMASK;
        item.state = if ui.chosen.has(n as i32) { 2 << 12 } else { 1 << 12 };
        send(made, cc::LVM_SETITEMSTATE, n, (&raw const item) as isize);
    }
}

/// Which parts are ticked.
pub fn ticked_parts(list: HWND, count: usize) -> Vec<bool> {
    let mut all = Vec::new();
    for n in 0..count {
        all.push(send(list, cc::LVM_GETITEMSTATE, n, cc::LVIS_STATEIMAGEMASK as isize) >> 12 == 2);
    }
    all
}

fn tick(button: HWND, ticked: bool) {
    send(button, wm::BM_SETCHECK, ticked.into(), 0);
}

pub fn is_ticked(button: HWND) -> bool {
    send(button, wm::BM_GETCHECK, 0, 0) == 1
}

/// The text of a control.
pub fn text_of(control: HWND) -> Text {
    let mut buffer = vec![0u16; 32768];
    // SAFETY: the buffer is as long as is said.
    unsafe { wm::GetWindowTextW(control, buffer.as_mut_ptr(), 32768) };
    Text::up_to_zero(&buffer)
}

/// The control of a kind on a page.
pub fn of_kind(window: HWND, page: &Page, wanted: i32) -> Option<HWND> {
    let n = page.controls.iter().position(|c| c.number(control::KIND) == wanted)?;
    // SAFETY: the window is alive.
    Some(unsafe { wm::GetDlgItem(window, FIRST_ID + n as i32) })
}

/// Shows how far it is.
pub fn progress(window: HWND, page: &Page, thousandths: u32, doing: Text) {
    if let Some(bar) = of_kind(window, page, kind::PROGRESS) {
        send(bar, cc::PBM_SETPOS, thousandths as usize, 0);
    }
    if let Some(text) = of_kind(window, page, kind::DOING).filter(|_| !doing.is_empty()) {
        let line = cat(&[number(thousandths / 10), t!(" %  "), doing]);
        send(text, wm::WM_SETTEXT, 0, line.ptr() as isize);
    }
}

/// A box with a sentence, before there are pages.
pub fn say(title: Text, sentence: Text) {
    // SAFETY: texts end with a zero.
    unsafe { wm::MessageBoxW(null_mut(), sentence.ptr(), title.ptr(), wm::MB_ICONERROR) };
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
