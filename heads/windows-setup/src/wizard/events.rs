//! What the system, people and the working thread tell the windows.

use super::{page_of, ui, Task, ASKING, ENDED, IN_USE, PROGRESS, UI};
use crate::product::control;
use crate::system::{Fault, Reason};
use crate::text::{t, Text};
use crate::window::{self, kind, Look, FIRST_ID, SECOND};
use alloc::boxed::Box;
use alloc::vec::Vec;
use core::ptr::null_mut;
use windows_sys::Win32::Foundation::{HWND, LPARAM, LRESULT, WPARAM};
use windows_sys::Win32::Graphics::Gdi as gdi;
use windows_sys::Win32::UI::Input::KeyboardAndMouse::{EnableWindow, IsWindowEnabled};
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// Asked by dialog messages for the button that the return key presses.
const DM_GETDEFID: u32 = wm::WM_USER;
const HAS_DEFAULT: isize = 0x534B;

/// What the windows' class does with messages. Only the system calls it, in the thread that made the windows.
pub unsafe extern "system" fn procedure(window: HWND, message: u32, w: WPARAM, l: LPARAM) -> LRESULT {
    if UI.is_null() {
        return wm::DefWindowProcW(window, message, w, l);
    }
    let ui = ui();
    let is_asking = !ui.asking.is_null() && window == ui.asking;
    let page = if is_asking { page_of(ui.product, ASKING).unwrap_or(ui.page) } else { ui.page };
    match message {
        wm::WM_COMMAND => {
            let id = (w & 0xFFFF) as i32;
            // 1 and 2 are the return and the escape key.
            let n = match id {
                1 => page.item.number(3),
                2 => page.item.number(4),
                id if id >= FIRST_ID + SECOND => return 0,
                id => id - FIRST_ID,
            };
            let Some(control) = usize::try_from(n).ok().and_then(|n| page.controls.get(n)) else { return 0 };
            let kind = control.number(control::KIND);
            if kind == kind::BUTTON {
                let button = wm::GetDlgItem(window, FIRST_ID + n);
                if IsWindowEnabled(button) != 0 {
                    ui.press(page, n as usize);
                }
            } else if kind == kind::CHECK {
                ui.take();
                // Buttons that wait for this box.
                let property = control.text(control::PROPERTY);
                for (n, other) in page.controls.iter().enumerate() {
                    if other.number(control::KIND) == kind::BUTTON && other.text(control::PROPERTY).is(property) {
                        let button = wm::GetDlgItem(window, FIRST_ID + n as i32);
                        EnableWindow(button, ui.is_ticked(property).into());
                    }
                }
            }
            0
        }
        wm::WM_CLOSE => {
            let cancel = usize::try_from(page.item.number(4)).unwrap_or(0);
            ui.press(page, cancel);
            0
        }
        wm::WM_PAINT => {
            window::draw(window, page, &ui.look);
            0
        }
        wm::WM_CTLCOLORSTATIC => {
            let id = wm::GetDlgCtrlID(l as HWND) - FIRST_ID;
            let control = usize::try_from(id).ok().and_then(|n| page.controls.get(n));
            let kind = control.map_or(-1, |c| c.number(control::KIND));
            if matches!(kind, kind::TITLE | kind::BELOW) {
                gdi::SetBkColor(w as gdi::HDC, ui.look.tint);
                return ui.look.tint_brush as LRESULT;
            }
            if kind == kind::LICENSE {
                gdi::SetBkColor(w as gdi::HDC, gdi::GetSysColor(gdi::COLOR_WINDOW));
                return gdi::GetSysColorBrush(gdi::COLOR_WINDOW) as LRESULT;
            }
            wm::DefWindowProcW(window, message, w, l)
        }
        DM_GETDEFID => (i64::from(page.item.number(3) + FIRST_ID) | (HAS_DEFAULT as i64) << 16) as LRESULT,
        // The screen's resolution changed under the window.
        wm::WM_DPICHANGED if !is_asking => {
            let old = core::mem::replace(&mut ui.look, Look::of(ui.product, (w & 0xFFFF) as u32));
            let rect = &*(l as *const windows_sys::Win32::Foundation::RECT);
            let (width, height) = (rect.right - rect.left, rect.bottom - rect.top);
            wm::SetWindowPos(window, null_mut(), rect.left, rect.top, width, height, wm::SWP_NOZORDER);
            ui.take();
            window::fill(window, page, ui);
            old.free();
            0
        }
        PROGRESS => {
            if page.item.text(0).is(t!("Progress")) {
                window::progress(window, page, w as u32, Text::at(l as *const u16));
            }
            0
        }
        IN_USE => {
            ui.programs = *Box::from_raw(l as *mut Vec<Text>);
            ui.show(t!("MsiRMFilesInUse"));
            0
        }
        ENDED => {
            if !ui.asking.is_null() {
                ui.asked();
            }
            let reason: Option<&'static Reason> = (l as *const Reason).as_ref();
            ui.ended(reason.map(Fault), if w == Task::Remove as usize { Task::Remove } else { Task::Install });
            0
        }
        wm::WM_DESTROY if !is_asking && window == ui.window => {
            wm::PostQuitMessage(0);
            0
        }
        _ => wm::DefWindowProcW(window, message, w, l),
    }
}
