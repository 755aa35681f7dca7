//! The window of a disk image: where the program and the Applications folder stand, and the picture behind them.

use crate::font;
use crate::icons::Icon;
use crate::problem::{Code, Problem};
use crate::settings::{DiskImage, Words};
use ds_store::{Alias, Item, Window};
use image::RgbaImage;

const LABEL: u32 = DiskImage::LABEL;
/// Height of the letters below the arrow, points.
const WORD: f32 = 14.0;

/// Points to the right and points down.
type Vector = (f64, f64);

impl DiskImage {
    /// What of it can't be shown.
    pub fn check(&self) -> Vec<Problem> {
        let mut problems = Vec::new();
        let (width, height) = self.size;
        let mut bad = |what: String, why: &str, instead: &str| {
            problems.push(
                Problem::error(Code::WindowRoom, what).about_setting("disk-image").why(why.to_owned()).instead(instead),
            );
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
                format!("[disk-image] icons of {} points", self.icon),
                "the system shows them from 16 to 512",
                "icon-size = 128",
            );
        }
        if !(10..=16).contains(&self.text) {
            bad(
                format!("[disk-image] text of {} points", self.text),
                "the system shows them from 10 to 16",
                "text-size = 13",
            );
        }
        let half = self.icon / 2;
        let own = [("the program", self.program), ("the Applications folder", self.applications)];
        let files = self.files.iter().map(|f| (f.name.as_str(), f.place));
        let all: Vec<(&str, (u32, u32))> = own.into_iter().chain(files).collect();
        for (n, (name, (x, y))) in all.iter().enumerate() {
            if *x < half || *y < half || x + half > width || y + half + LABEL > height {
                let what = format!("[disk-image] {name} at [{x}, {y}] is outside the window");
                let why = format!(
                    "its icon takes {} points and its name {LABEL} below; the window has {width} × {height}",
                    self.icon
                );
                bad(what, &why, "a position further inside, or a larger window");
            }
            let over = |(_, (a, b)): &&(&str, (u32, u32))| x.abs_diff(*a) < self.icon && y.abs_diff(*b) < self.icon;
            if let Some((other, _)) = all[..n].iter().find(over) {
                let what = format!("[disk-image] {name} and {other} overlap");
                bad(what, "each icon needs its own space", "positions further apart");
            }
        }
        if let Some(Err(why)) = self.background.as_deref().map(|b| pictures(b, self.size)) {
            bad(
                "[disk-image] the background can't be used".into(),
                &why,
                "an SVG, or a PNG of twice the window's size",
            );
        }
        if let Words::Stated(words) = &self.words
            && self.background.is_none()
            && let Some(why) = self.words_have_no_room()
        {
            let problem = Problem::error(Code::WindowRoom, format!("the words {words:?} can't be drawn"));
            problems.push(problem.about_setting("disk-image.word").why(why).instead("word = \"\""));
        }
        let has_text = self.background.as_ref().is_some_and(|b| b.windows(5).any(|w| w == b"<text"));
        if has_text {
            let problem = Problem::warning(Code::Icon, "[disk-image] the background has text in it")
                .why("it is drawn in the tool's own font, which is the same on every machine");
            problems.push(problem.instead("convert the text to paths to use another font"));
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
            items: [item(app, self.program), item("Applications", self.applications)]
                .into_iter()
                .chain(self.files.iter().map(|f| item(&f.name, f.place)))
                .collect(),
            ..Window::default()
        }
    }

    /// The file with the picture behind the symbols: the manifest's own, else one in this colour.
    pub fn picture(&self, accent: [u8; 3]) -> Option<Vec<u8>> {
        let drawing = self.background.clone().unwrap_or_else(|| self.drawing(accent).into_bytes());
        tiff(&pictures(&drawing, self.size).ok()?)
    }

    /// The way from one symbol to the other, with some air at both ends: where it begins, its direction, its length; none
    /// if they are too close for an arrow.
    fn way(&self) -> Option<(Vector, Vector, f64)> {
        let ((x0, y0), (x1, y1)) = (self.program, self.applications);
        let (dx, dy) = (f64::from(x1) - f64::from(x0), f64::from(y1) - f64::from(y0));
        let length = dx.hypot(dy).max(1.0);
        let (ux, uy) = (dx / length, dy / length);
        let gap = f64::from(self.icon) * 0.5 + 22.0;
        let way = length - gap * 2.0;
        (way > 30.0).then(|| ((f64::from(x0) + ux * gap, f64::from(y0) + uy * gap), (ux, uy), way))
    }

    /// The words below the arrow in lines that are no longer than it; none where they have no room.
    fn word_lines(&self) -> Option<Vec<String>> {
        let (_, (ux, _), length) = self.way()?;
        // Beside an arrow that goes up or down there is the window's half.
        let room = if ux.abs() > 0.7 { length } else { f64::from(self.size.0) / 2.0 - 40.0 } as f32;
        let (Words::Usual(word) | Words::Stated(word)) = &self.words else { return None };
        let fits = word.split_whitespace().all(|w| font::width(w, WORD, false) <= room);
        let lines = font::wrap(word, room, WORD, false);
        (fits && lines.len() <= 3).then_some(lines)
    }

    /// Why the words below the arrow can't be drawn, if they can't.
    fn words_have_no_room(&self) -> Option<String> {
        let (Words::Usual(words) | Words::Stated(words)) = &self.words else { return None };
        if !font::has(words) {
            return Some(
                "the tool's own font has Latin, Greek and Cyrillic letters; other scripts need a background".into(),
            );
        }
        self.word_lines().is_none().then(|| "there is no room for it between the icons".into())
    }

    /// The picture behind the symbols, as a drawing: the product's colour, very light, and an arrow from one to the other.
    fn drawing(&self, accent: [u8; 3]) -> String {
        let (width, height) = self.size;
        let light = |part: u32| accent.map(|c| (u32::from(c) * part / 100 + 255 * (100 - part) / 100) as u8);
        let hex = |c: [u8; 3]| format!("#{:02x}{:02x}{:02x}", c[0], c[1], c[2]);
        let mut arrow = String::new();
        if let Some(((sx, sy), (ux, uy), length)) = self.way() {
            let (ex, ey) = (sx + ux * length, sy + uy * length);
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
            // Dark enough to be read on any of these grounds.
            let ink = hex(accent.map(|c| (u32::from(c) / 4 + 28) as u8));
            let lines = self.word_lines().filter(|_| self.words_have_no_room().is_none());
            for (n, line) in lines.unwrap_or_default().iter().enumerate() {
                let (mx, my) = ((sx + ex) / 2.0, (sy + ey) / 2.0);
                let (x, y) = if ux.abs() > 0.7 { (mx, my + 42.0) } else { (mx + f64::from(self.size.0) / 4.0, my) };
                let left = x - f64::from(font::width(line, WORD, false)) / 2.0;
                let top = y + n as f64 * f64::from(WORD) * 1.3;
                arrow += &format!(
                    "<text x=\"{left:.1}\" y=\"{top:.1}\" font-family=\"{}\" font-size=\"{WORD}\" fill=\"{ink}\">{}</text>",
                    font::FAMILY,
                    quick_xml::escape::escape(line.as_str()),
                );
            }
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

/// A background in the window's size, and in twice that for dense screens; or what speaks against it.
fn pictures(background: &[u8], (width, height): (u32, u32)) -> Result<[RgbaImage; 2], String> {
    let fits = |w: f32, h: f32| (w / h / (width as f32 / height as f32) - 1.0).abs() < 0.01;
    let sizes = [(width, height), (width * 2, height * 2)];
    if background.starts_with(b"\x89PNG") {
        let mut reader = image::ImageReader::with_format(std::io::Cursor::new(background), image::ImageFormat::Png);
        let mut limits = image::Limits::default();
        (limits.max_image_width, limits.max_image_height) = (Some(16384), Some(16384));
        reader.limits(limits);
        let picture = reader.decode().map_err(|e| e.to_string())?.into_rgba8();
        let (w, h) = picture.dimensions();
        if w < width || h < height || !fits(w as f32, h as f32) {
            return Err(format!("it has {w} × {h} pixels, and the window {width} × {height} points"));
        }
        return Ok(sizes.map(|(w, h)| image::imageops::resize(&picture, w, h, image::imageops::FilterType::Lanczos3)));
    }
    let [once, twice] = sizes.map(|size| crate::icons::draw_into(background, size));
    let ((once, (w, h)), (twice, _)) = (once?, twice?);
    if fits(w, h) {
        Ok([once, twice])
    } else {
        Err(format!("it has {w} × {h} pixels, so its shape differs from the window's"))
    }
}

/// One file with both pictures: a TIFF whose parts say how dense they are.
fn tiff(pictures: &[RgbaImage; 2]) -> Option<Vec<u8>> {
    use tiff::encoder::{Compression, Rational, TiffEncoder, colortype::RGB8};
    use tiff::tags::ResolutionUnit;
    let mut out = std::io::Cursor::new(Vec::new());
    let mut encoder = TiffEncoder::new(&mut out).ok()?.with_compression(Compression::Deflate(Default::default()));
    for (picture, density) in pictures.iter().zip([72, 144]) {
        let (width, height) = picture.dimensions();
        // What shines through is white, as the window's own ground is.
        let mut plain = vec![0; picture.as_raw().len() / 4 * 3];
        for (to, from) in plain.as_chunks_mut::<3>().0.iter_mut().zip(picture.as_raw().as_chunks::<4>().0) {
            let [red, green, blue, alpha] = from.map(u32::from);
            let ground = 255 * (255 - alpha);
            let flat = |colour: u32| ((colour * alpha + ground) / 255) as u8;
            *to = [flat(red), flat(green), flat(blue)];
        }
        let mut page = encoder.new_image::<RGB8>(width, height).ok()?;
        page.resolution(ResolutionUnit::Inch, Rational { n: density, d: 1 });
        page.write_data(&plain).ok()?;
    }
    Some(out.into_inner())
}

/// Both pictures out of such a file.
pub fn decoded(tiff: &[u8]) -> Option<[RgbaImage; 2]> {
    use tiff::decoder::{Decoder, DecodingResult};
    let mut decoder = Decoder::new(std::io::Cursor::new(tiff)).ok()?;
    let mut picture = || {
        let (width, height) = decoder.dimensions().ok()?;
        let DecodingResult::U8(bytes) = decoder.read_image().ok()? else { return None };
        if decoder.more_images() {
            decoder.next_image().ok()?;
        }
        let picture = image::RgbImage::from_raw(width, height, bytes)?;
        Some(image::DynamicImage::ImageRgb8(picture).into_rgba8())
    };
    Some([picture()?, picture()?])
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
