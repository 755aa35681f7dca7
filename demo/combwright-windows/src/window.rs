//! The window: a comb of six-sided cells, and the journal's hives with their visits.

use crate::system::*;
use crate::{Text, TITLE};

const WIDTH: i32 = 860;
const HEIGHT: i32 = 560;
/// Colours as Windows has them: blue, green, red.
const PAPER: u32 = 0x00E4_F4FB;
const HONEY: u32 = 0x0028_A0E8;
const DARK: u32 = 0x0020_3548;
const SOFT: u32 = 0x0050_7088;

static mut SHOWN: *const Text<32768> = core::ptr::null();

/// Shows the journal until the window is closed.
///
/// # Safety
/// One thread.
pub unsafe fn show(journal: &Text<32768>, _wanted: &Text<256>) {
    SHOWN = journal;
    let class = Class {
        style: 3,
        procedure,
        extra_class: 0,
        extra_window: 0,
        instance: 0,
        icon: 0,
        cursor: LoadCursorW(0, 32512),
        background: 0,
        menu: core::ptr::null(),
        name: TITLE.as_ptr(),
    };
    RegisterClassW(&class);
    CreateWindowExW(0, TITLE.as_ptr(), TITLE.as_ptr(), 0x10CF_0000, 120, 80, WIDTH, HEIGHT, 0, 0, 0, 0);
    let mut message = Message { window: 0, message: 0, w: 0, l: 0, rest: [0; 6] };
    while GetMessageW(&mut message, 0, 0, 0) > 0 {
        DispatchMessageW(&message);
    }
}

unsafe extern "system" fn procedure(window: isize, message: u32, w: usize, l: isize) -> isize {
    match message {
        0x0002 => {
            PostQuitMessage(0);
            0
        }
        // The whole window is painted: nothing is to be erased.
        0x0014 => 1,
        0x000F => {
            let mut paint = Paint { dc: 0, erase: 0, rect: Rect::default(), rest: [0; 64] };
            let dc = BeginPaint(window, &mut paint);
            let mut all = Rect::default();
            GetClientRect(window, &mut all);
            draw(dc, all);
            EndPaint(window, &paint);
            0
        }
        _ => DefWindowProcW(window, message, w, l),
    }
}

unsafe fn fill(dc: isize, rect: Rect, color: u32) {
    let brush = CreateSolidBrush(color);
    FillRect(dc, &rect, brush);
    DeleteObject(brush);
}

unsafe fn cell(dc: isize, x: i32, y: i32, r: i32) {
    let h = r * 866 / 1000;
    let points =
        [[x - r, y], [x - r / 2, y - h], [x + r / 2, y - h], [x + r, y], [x + r / 2, y + h], [x - r / 2, y + h]];
    Polygon(dc, points.as_ptr(), 6);
}

/// How a line looks.
struct Style {
    size: i32,
    weight: i32,
    color: u32,
}

unsafe fn line(dc: isize, text: &[u16], (x, y): (i32, i32), style: &Style, right: i32) {
    let Style { size, weight, color } = *style;
    let mut face = Text::<32>::empty();
    face.add("Segoe UI");
    let font = CreateFontW(-size, 0, 0, 0, weight, 0, 0, 0, 1, 0, 0, 5, 0, face.units.as_ptr());
    let old = SelectObject(dc, font);
    SetTextColor(dc, color);
    let mut rect = Rect { left: x, top: y, right, bottom: y + size * 2 };
    DrawTextW(dc, text.as_ptr(), text.len() as i32, &mut rect, 0x8820);
    SelectObject(dc, old);
    DeleteObject(font);
}

unsafe fn draw(dc: isize, all: Rect) {
    fill(dc, all, PAPER);
    fill(dc, Rect { bottom: 96, ..all }, HONEY);
    SetBkMode(dc, 1);
    let brush = CreateSolidBrush(DARK);
    let old = SelectObject(dc, brush);
    let pen = SelectObject(dc, GetStockObject(8));
    for (x, y) in [(48, 48), (84, 27), (84, 69)] {
        cell(dc, x, y, 21);
    }
    SelectObject(dc, pen);
    SelectObject(dc, old);
    DeleteObject(brush);
    line(dc, &TITLE[..10], (124, 18), &Style { size: 30, weight: 600, color: DARK }, all.right - 24);
    let mut below = Text::<64>::empty();
    below.add("the journal of your hives");
    line(dc, below.as_slice(), (126, 58), &Style { size: 16, weight: 400, color: DARK }, all.right - 24);
    let text = (*SHOWN).as_slice();
    let (mut y, mut from) = (116, 0);
    while from < text.len() && y < all.bottom - 24 {
        let end = text[from..].iter().position(|u| *u == b'\n' as u16).map_or(text.len(), |n| from + n);
        let row = &text[from..end];
        from = end + 1;
        let hive = row.len() > 7 && row[0] == b'[' as u16;
        if row.is_empty() || row[0] == b'#' as u16 {
            continue;
        }
        if hive {
            y += 10;
            line(dc, &row[6..row.len() - 1], (28, y), &Style { size: 19, weight: 600, color: DARK }, all.right - 24);
            y += 30;
        } else {
            line(dc, row, (48, y), &Style { size: 15, weight: 400, color: SOFT }, all.right - 24);
            y += 24;
        }
    }
}
