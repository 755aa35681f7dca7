//! The window of a disk image: where the program and the folder of applications stand, and the picture behind them.

use crate::icons::{Icon, draw_scaled};
use crate::manifest::written::DiskImage;
use crate::problem::Problem;
use ds_store::{Alias, Item, Window};

/// Room below a symbol for its name, points.
const LABEL: u32 = 24;

/// What the manifest says of the window, with everything that it leaves open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    /// Width and height, points.
    pub size: (u32, u32),
    /// Width of a symbol, points.
    pub icon: u32,
    /// Height of letters, points.
    pub text: u32,
    /// The middle of the program's symbol.
    pub program: (u32, u32),
    /// The middle of the folder of applications.
    pub applications: (u32, u32),
}

impl Plan {
    /// Of a manifest.
    pub fn of(written: &DiskImage) -> Self {
        let pair = |p: [u32; 2]| (p[0], p[1]);
        let size = written.window.map_or((640, 400), pair);
        let icon = written.icon_size.unwrap_or(128);
        // A little above the middle: names stand below the symbols.
        let line = (size.1 / 2).saturating_sub(LABEL / 2);
        Self {
            size,
            icon,
            text: written.text_size.unwrap_or(13),
            program: written.program.map_or((size.0 / 4, line), pair),
            applications: written.applications.map_or((size.0 - size.0 / 4, line), pair),
        }
    }

    /// What of it can't be shown.
    pub fn check(&self) -> Vec<Problem> {
        let mut problems = Vec::new();
        let (width, height) = self.size;
        let mut bad = |what: String, why: &str, instead: &str| {
            problems.push(Problem::error(what).why(why.to_owned()).instead(instead));
        };
        if !(200..=4000).contains(&width) || !(150..=4000).contains(&height) {
            bad(
                format!("[disk-image] a window of {width} × {height} points"),
                "it has 200 × 150 to 4000 × 4000",
                "window = [640, 400]",
            );
        }
        if !(16..=512).contains(&self.icon) {
            bad(
                format!("[disk-image] symbols of {} points", self.icon),
                "the system shows them from 16 to 512",
                "icon-size = 128",
            );
        }
        if !(10..=16).contains(&self.text) {
            bad(
                format!("[disk-image] letters of {} points", self.text),
                "the system shows them from 10 to 16",
                "text-size = 13",
            );
        }
        let half = self.icon / 2;
        for (key, (x, y)) in [("program", self.program), ("applications", self.applications)] {
            if x < half || y < half || x + half > width || y + half + LABEL > height {
                let what = format!("[disk-image] {key} = [{x}, {y}] leads out of the window");
                let why = format!(
                    "its symbol has {} points and its name {LABEL} below, and the window {width} × {height}",
                    self.icon
                );
                bad(what, &why, "a place further inside, or a larger window");
            }
        }
        let apart = |a: u32, b: u32| a.abs_diff(b) < self.icon;
        if apart(self.program.0, self.applications.0) && apart(self.program.1, self.applications.1) {
            bad(
                "[disk-image] the program and the folder of applications lie over each other".into(),
                "each symbol needs its own room",
                "places that are further apart",
            );
        }
        problems
    }

    /// The window as the system keeps it.
    pub fn window(&self, app: &str, background: Alias) -> Window {
        let item = |name: &str, (x, y): (u32, u32)| Item::new(name, x, y);
        Window {
            size: self.size,
            icon: self.icon,
            text: self.text,
            background: Some(background),
            items: vec![item(app, self.program), item("Applications", self.applications)],
            ..Window::default()
        }
    }

    /// The picture behind the symbols, as a drawing: the product's colour, very light, and an arrow from one to the other.
    pub fn drawing(&self, accent: [u8; 3]) -> String {
        let (width, height) = self.size;
        let light = |part: u32| accent.map(|c| (u32::from(c) * part / 100 + 255 * (100 - part) / 100) as u8);
        let hex = |c: [u8; 3]| format!("#{:02x}{:02x}{:02x}", c[0], c[1], c[2]);
        let ((x0, y0), (x1, y1)) = (self.program, self.applications);
        let (from, to) = ((f64::from(x0), f64::from(y0)), (f64::from(x1), f64::from(y1)));
        let (dx, dy) = (to.0 - from.0, to.1 - from.1);
        let length = dx.hypot(dy).max(1.0);
        let (ux, uy) = (dx / length, dy / length);
        // Between the symbols, with some air at both ends.
        let gap = f64::from(self.icon) * 0.5 + 22.0;
        let mut arrow = String::new();
        if length > gap * 2.0 + 30.0 {
            let (sx, sy) = (from.0 + ux * gap, from.1 + uy * gap);
            let (ex, ey) = (to.0 - ux * gap, to.1 - uy * gap);
            let (bx, by) = (ex - ux * 20.0, ey - uy * 20.0);
            let (nx, ny) = (-uy * 15.0, ux * 15.0);
            arrow = format!(
                "<path d=\"M{sx:.1} {sy:.1}L{:.1} {:.1}M{:.1} {:.1}L{ex:.1} {ey:.1}L{:.1} {:.1}\" fill=\"none\" stroke=\"{}\" stroke-width=\"7\" stroke-linecap=\"round\" stroke-linejoin=\"round\"/>",
                ex - ux * 2.0,
                ey - uy * 2.0,
                bx + nx,
                by + ny,
                bx - nx,
                by - ny,
                hex(light(62)),
            );
        }
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\">\
             <defs><linearGradient id=\"g\" x1=\"0\" y1=\"0\" x2=\"0\" y2=\"1\"><stop offset=\"0\" stop-color=\"#ffffff\"/><stop offset=\"1\" stop-color=\"{}\"/></linearGradient></defs>\
             <rect width=\"{width}\" height=\"{height}\" fill=\"url(#g)\"/><rect y=\"{}\" width=\"{width}\" height=\"4\" fill=\"{}\"/>{arrow}</svg>",
            hex(light(16)),
            height.saturating_sub(4),
            hex(light(70)),
        )
    }
}

/// One file with the drawing for plain and for dense screens: a TIFF of two pictures that say how dense they are.
pub fn tiff(svg: &str) -> Option<Vec<u8>> {
    use tiff::encoder::{Compression, Rational, TiffEncoder, colortype::RGB8};
    use tiff::tags::ResolutionUnit;
    let mut out = std::io::Cursor::new(Vec::new());
    let mut encoder = TiffEncoder::new(&mut out).ok()?.with_compression(Compression::Deflate(Default::default()));
    for scale in [1, 2] {
        let picture = draw_scaled(svg, scale)?;
        let (width, height) = picture.dimensions();
        let plain: Vec<u8> = picture.pixels().flat_map(|p| [p[0], p[1], p[2]]).collect();
        let mut page = encoder.new_image::<RGB8>(width, height).ok()?;
        page.resolution(ResolutionUnit::Inch, Rational { n: 72 * scale, d: 1 });
        page.write_data(&plain).ok()?;
    }
    Some(out.into_inner())
}

/// The colour that a product's picture has most of, for a background that goes with it; the wizard's if it has none.
pub fn accent(icon: &Icon, otherwise: [u8; 3]) -> [u8; 3] {
    let picture = icon.pixels(32);
    let strong = picture.pixels().filter(|p| p[3] > 200).map(|p| [p[0], p[1], p[2]]).filter(|c| {
        let (low, high) = (c.iter().min().copied().unwrap_or(0), c.iter().max().copied().unwrap_or(0));
        high - low > 60
    });
    let mut counts = std::collections::BTreeMap::<[u8; 3], (u32, [u32; 3])>::new();
    for colour in strong {
        let (count, sum) = counts.entry(colour.map(|c| c >> 5)).or_default();
        *count += 1;
        sum.iter_mut().zip(colour).for_each(|(s, c)| *s += u32::from(c));
    }
    counts
        .into_values()
        .max_by_key(|(count, _)| *count)
        .map_or(otherwise, |(count, sum)| sum.map(|s| (s / count) as u8))
}
