//! The window of a disk image, with the places that stand in the image's own file.

use super::{Drawn, Inset, Picture, Rect, hex, line};
use crate::font::{width, wrap};
use crate::packaging::{Plan, PlannedPackage};
use crate::targets::dmg::Shown;

/// The height of a window's title there, points.
const TITLE: i32 = 28;
const INK: &str = "#262626";

/// The window of a disk image.
pub fn window(plan: &Plan, package: &PlannedPackage, shown: &Shown) -> Picture {
    let (width_, height) = (shown.window.size.0 as i32, shown.window.size.1 as i32);
    let size = shown.window.icon as i32;
    let inside = |(x, y, w, h): Rect| (x, y + TITLE, w, h);
    let mut below = format!(
        "<rect width=\"{width_}\" height=\"{}\" fill=\"#ffffff\"/><rect width=\"{width_}\" height=\"{TITLE}\" fill=\"#ececec\"/>",
        height + TITLE
    );
    for (n, colour) in ["#ee6a5f", "#f5bd4f", "#61c454"].iter().enumerate() {
        below += &format!("<circle cx=\"{}\" cy=\"{}\" r=\"6\" fill=\"{colour}\"/>", 16 + n * 20, TITLE / 2);
    }
    let title = width(&shown.volume, 13.0, true);
    let middle = ((width_ as f32 - title) / 2.0).max(70.0);
    let look = format!("fill=\"{INK}\" font-weight=\"bold\"");
    below += &line(&shown.volume, (middle, TITLE as f32 / 2.0 + 4.7), 13.0, &look);
    let mut insets: Vec<(Rect, Inset)> = Vec::new();
    if let Some(pictures) = &shown.background {
        insets.push((inside((0, 0, width_, height)), Inset::Pixels(Box::new(pictures.clone()))));
    }
    let mut above = String::new();
    let mut drawn = vec![Drawn { kind: "window", text: shown.volume.clone(), at: (0, 0, width_, height) }];
    for item in &shown.window.items {
        let at = (item.x as i32 - size / 2, item.y as i32 - size / 2, size, size);
        let (x, y, ..) = inside(at);
        let kind = if item.name == shown.bundle {
            insets.push((inside(at), Inset::Icon(plan.icon.clone())));
            "program"
        } else if item.name == "Applications" {
            above += &scaled(FOLDER, x, y, size);
            "folder"
        } else {
            above += &scaled(SHEET, x, y, size);
            "file"
        };
        // The system does not show the ending of programs.
        let name = item.name.strip_suffix(".app").filter(|_| kind == "program").unwrap_or(&item.name);
        let letters = shown.window.text as f32;
        let room = (size as f32 + 24.0).max(80.0);
        for (n, text) in wrap(name, room, letters, false).iter().take(2).enumerate() {
            let left = item.x as f32 - width(text, letters, false) / 2.0;
            let baseline = (y + size) as f32 + 4.0 + letters + n as f32 * letters * 1.25;
            above += &line(text, (left, baseline), letters, &format!("fill=\"{INK}\""));
        }
        drawn.push(Drawn { kind, text: name.to_owned(), at });
    }
    let frame = format!(
        "<rect x=\"0.500\" y=\"0.500\" width=\"{}\" height=\"{}\" fill=\"none\" stroke=\"{}\"/>",
        width_ - 1,
        height + TITLE - 1,
        hex([0xb4; 3])
    );
    Picture {
        package: package.file_name.clone(),
        target: package.target,
        platform: plan.product.platform,
        language: None,
        page: "Window".into(),
        number: 1,
        size: (width_ as u32, (height + TITLE) as u32),
        contents: (0, TITLE),
        inner: (width_, height),
        drawn,
        below,
        insets,
        above: above + &frame,
    }
}

/// A folder, and a sheet of paper, in a square of 64.
const FOLDER: &str = "<path d=\"M5 18a4 4 0 0 1 4-4h15l5 6h26a4 4 0 0 1 4 4v26a4 4 0 0 1-4 4H9a4 4 0 0 1-4-4z\" fill=\"#4f9fd6\"/>\
    <path d=\"M5 26h54v24a4 4 0 0 1-4 4H9a4 4 0 0 1-4-4z\" fill=\"#73bdee\"/>\
    <path d=\"M25 47l7-15 7 15M28 42h8\" fill=\"none\" stroke=\"#3f86b8\" stroke-width=\"2.500\" stroke-linecap=\"round\" stroke-linejoin=\"round\"/>";
const SHEET: &str = "<path d=\"M15 6h24l11 11v41H15z\" fill=\"#ffffff\" stroke=\"#b8b8b8\"/>\
    <path d=\"M39 6l11 11H39z\" fill=\"#dddddd\"/>\
    <path d=\"M21 26h23M21 33h23M21 40h23M21 47h15\" stroke=\"#b8b8b8\" stroke-width=\"2\"/>";

fn scaled(drawing: &str, x: i32, y: i32, size: i32) -> String {
    format!("<g transform=\"translate({x} {y}) scale({})\">{drawing}</g>", size as f32 / 64.0)
}
