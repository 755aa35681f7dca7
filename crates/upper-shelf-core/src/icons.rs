//! One picture into every size and form that a system wants: PNG sizes and SVG for icon themes, ICO, ICNS.

use crate::content::ContentHash;
use crate::footprint::{IconForm, IconImage};
use crate::problem::{Code, Failure, Kind, Problem, Span};
use crate::svg::{self, Fonts};
use image::codecs::png::{CompressionType, FilterType, PngEncoder};
use image::{ImageEncoder, RgbaImage};
use resvg::{tiny_skia, usvg};
use std::path::Path;

/// Sizes of the desktop's icon theme.
pub const THEME_SIZES: [u32; 9] = [16, 22, 24, 32, 48, 64, 128, 256, 512];
/// Sizes in an ICO file; 256 is stored as PNG, the others as bitmaps.
pub const ICO_SIZES: [u32; 9] = [16, 20, 24, 32, 40, 48, 64, 96, 256];
/// Sizes in an ICNS file (those with a double-density twin are stored twice).
pub const ICNS_SIZES: [u32; 7] = [16, 32, 64, 128, 256, 512, 1024];
/// The largest picture that is ever made.
const LARGEST: u32 = 1024;
/// A picture smaller than this looks blurred somewhere.
const ENOUGH: u32 = 512;

/// The picture that everything is made from.
#[derive(Debug, Clone)]
pub enum Icon {
    /// A drawing: exact in any size.
    Svg(Vec<u8>),
    /// A picture of pixels, square.
    Pixels(RgbaImage),
}

impl Icon {
    /// Reads an SVG or a PNG; warns when it is too small or not square.
    ///
    /// # Errors
    /// It can't be read, or is neither.
    pub fn load(path: &Path, span: Option<Span>) -> Result<(Self, Vec<Problem>), Failure> {
        let bytes = crate::input::read(path).map_err(|e| {
            let mut failure = Failure::io("can't read the icon", path, e);
            failure.kind = Kind::Problems;
            failure.problems[0].span = span.clone();
            failure
        })?;
        let bad = |why: String| {
            let problem = Problem::error(Code::Icon, format!("the icon {} can't be used", path.display()))
                .at(span.clone())
                .why(why);
            Failure::new(Kind::Problems, problem.instead("an SVG, or a square PNG of 512 pixels or more"))
        };
        let mut warnings = Vec::new();
        let mut warn = |what: String, why: &str| {
            warnings.push(Problem::warning(Code::Icon, what).at(span.clone()).on(path).why(why))
        };
        if bytes.starts_with(b"\x89PNG") {
            let mut reader = image::ImageReader::with_format(std::io::Cursor::new(&bytes), image::ImageFormat::Png);
            let mut limits = image::Limits::default();
            (limits.max_image_width, limits.max_image_height) = (Some(8192), Some(8192));
            reader.limits(limits);
            let picture = reader.decode().map_err(|e| bad(e.to_string()))?.into_rgba8();
            let (w, h) = picture.dimensions();
            if w != h {
                warn(format!("the icon has {w} × {h} pixels"), "icons are square, so it gets a transparent border");
            }
            if w.max(h) < ENOUGH {
                warn(
                    format!("the icon has {w} × {h} pixels only"),
                    "icons of up to 512 pixels are made from it, and the large ones will look blurred",
                );
            }
            return Ok((Self::Pixels(squared(picture)), warnings));
        }
        let bytes = svg::plain(&bytes).map_err(bad)?;
        let tree = svg::tree(&bytes, Fonts::None).map_err(bad)?;
        let size = tree.size();
        // The largest picture is drawn once to see whether that comes to an end.
        svg::in_time(move || fitted(&tree, LARGEST)).map_err(bad)?;
        if (size.width() - size.height()).abs() > 0.5 {
            warn(
                format!("the icon is {} × {}", size.width(), size.height()),
                "icons are square, so it gets a transparent border",
            );
        }
        if bytes.windows(5).any(|w| w == b"<text") {
            warn(
                "the icon has text in it".into(),
                "fonts differ from machine to machine, so text is left out: turn it into paths",
            );
        }
        Ok((Self::Svg(bytes), warnings))
    }

    /// A plain drawing for products without a picture: a shelf in a colour of the product's own.
    pub fn plain(id: &str) -> Self {
        let hash = blake3::hash(id.as_bytes());
        let hue = u32::from(hash.as_bytes()[0]) * 360 / 256;
        let (r, g, b) = rgb_of_hue(hue);
        Self::Svg(format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 64 64\" width=\"64\" height=\"64\">\
             <rect x=\"4\" y=\"4\" width=\"56\" height=\"56\" rx=\"12\" fill=\"#{r:02x}{g:02x}{b:02x}\"/>\
             <path d=\"M14 31h36v3H14zM14 50h36v3H14z\" fill=\"#fff\"/>\
             <path d=\"M18 17h6v14h-6zM26 14h5v17h-5zM35 31l4-16 6 1.500-3.700 14.500zM20 38h10v12H20zM34 36h5v14h-5zM41 40h5v10h-5z\" fill=\"#fff\" opacity=\".85\"/></svg>"
        ).into_bytes())
    }

    /// The drawing itself, if it is one.
    pub fn svg(&self) -> Option<&[u8]> {
        match self {
            Self::Svg(bytes) => Some(bytes),
            Self::Pixels(_) => None,
        }
    }

    /// The picture with `size` pixels a side.
    pub fn pixels(&self, size: u32) -> RgbaImage {
        match self {
            Self::Pixels(picture) => {
                image::imageops::resize(picture, size, size, image::imageops::FilterType::Lanczos3)
            }
            Self::Svg(bytes) => draw(bytes, size).unwrap_or_else(|| RgbaImage::new(size, size)),
        }
    }

    /// The picture with `size` pixels a side as a PNG file.
    pub fn png(&self, size: u32) -> Vec<u8> {
        let mut out = Vec::new();
        let encoder = PngEncoder::new_with_quality(&mut out, CompressionType::Best, FilterType::Adaptive);
        let picture = self.pixels(size);
        // Writing into memory can't fail.
        let _ = encoder.write_image(&picture, size, size, image::ExtendedColorType::Rgba8);
        out
    }

    /// An ICO file with [`ICO_SIZES`].
    ///
    /// # Errors
    /// As the encoder's.
    pub fn ico(&self) -> std::io::Result<Vec<u8>> {
        let mut folder = ico::IconDir::new(ico::ResourceType::Icon);
        for size in ICO_SIZES {
            let picture = ico::IconImage::from_rgba_data(size, size, self.pixels(size).into_raw());
            // Windows reads both forms from Vista on; small pictures are quicker to show and hardly larger as bitmaps.
            let entry = if size > 48 {
                ico::IconDirEntry::encode_as_png(&picture)?
            } else {
                ico::IconDirEntry::encode_as_bmp(&picture)?
            };
            folder.add_entry(entry);
        }
        let mut out = std::io::Cursor::new(Vec::new());
        folder.write(&mut out)?;
        Ok(out.into_inner())
    }

    /// An ICNS file with [`ICNS_SIZES`].
    ///
    /// # Errors
    /// As the encoder's.
    pub fn icns(&self) -> std::io::Result<Vec<u8>> {
        use icns::{IconFamily, IconType, Image, PixelFormat};
        let mut family = IconFamily::new();
        for size in ICNS_SIZES {
            let picture = Image::from_data(PixelFormat::RGBA, size, size, self.pixels(size).into_raw())?;
            for density in [1, 2] {
                if let Some(kind) = IconType::from_pixel_size_and_density(size, size, density) {
                    family.add_icon_with_type(&picture, kind)?;
                }
            }
        }
        let mut out = Vec::new();
        family.write(&mut out)?;
        Ok(out)
    }

    /// The files of the desktop's icon theme: form, path below the theme's folder, bytes.
    pub fn theme_files(&self, name: &str) -> Vec<(IconForm, String, Vec<u8>)> {
        let drawing = self.svg().map(|svg| (IconForm::Svg, format!("scalable/apps/{name}.svg"), svg.to_vec()));
        let pictures = THEME_SIZES.iter().map(|&n| (IconForm::Png(n), format!("{n}x{n}/apps/{name}.png"), self.png(n)));
        drawing.into_iter().chain(pictures).collect()
    }

    /// The icon theme's files, as a footprint has them.
    pub fn images(&self) -> Vec<IconImage> {
        let files = self.theme_files("x").into_iter();
        files.map(|(form, _, bytes)| IconImage { form, content: Some(ContentHash::of(&bytes)) }).collect()
    }
}

/// Where an icon theme's file belongs: the form that its path stands for.
pub fn form_of_theme_path(path: &str) -> Option<IconForm> {
    let (size, file) = path.split_once("/apps/")?;
    match size.split_once('x') {
        Some((w, h)) if w == h && file.ends_with(".png") => w.parse().ok().map(IconForm::Png),
        _ => (size == "scalable" && file.ends_with(".svg")).then_some(IconForm::Svg),
    }
}

fn squared(picture: RgbaImage) -> RgbaImage {
    let (w, h) = picture.dimensions();
    if w == h {
        return picture;
    }
    let side = w.max(h);
    let mut square = RgbaImage::new(side, side);
    image::imageops::overlay(&mut square, &picture, i64::from((side - w) / 2), i64::from((side - h) / 2));
    square
}

fn draw(svg: &[u8], size: u32) -> Option<RgbaImage> {
    let tree = svg::tree(svg, Fonts::None).ok()?;
    svg::in_time(move || fitted(&tree, size)).ok()?
}

/// A drawing in the middle of a square.
fn fitted(tree: &usvg::Tree, size: u32) -> Option<RgbaImage> {
    let (w, h) = (tree.size().width(), tree.size().height());
    let scale = size as f32 / w.max(h);
    let (x, y) = ((size as f32 - w * scale) / 2.0, (size as f32 - h * scale) / 2.0);
    rendered(tree, (size, size), tiny_skia::Transform::from_scale(scale, scale).post_translate(x, y))
}

/// A drawing in so many pixels, which it fills; and its own size. Text in it is drawn in the tool's own font.
///
/// # Errors
/// Why it can't be drawn, as the end of a sentence.
pub fn draw_into(svg: &[u8], (width, height): (u32, u32)) -> Result<(RgbaImage, (f32, f32)), String> {
    let tree = svg::tree(&svg::plain(svg)?, Fonts::Own)?;
    let own = (tree.size().width(), tree.size().height());
    let transform = tiny_skia::Transform::from_scale(width as f32 / own.0, height as f32 / own.1);
    let drawn = svg::in_time(move || rendered(&tree, (width, height), transform))?;
    Ok((drawn.ok_or("it has no pixels")?, own))
}

pub(crate) fn rendered(
    tree: &usvg::Tree,
    (width, height): (u32, u32),
    transform: tiny_skia::Transform,
) -> Option<RgbaImage> {
    let mut canvas = tiny_skia::Pixmap::new(width, height)?;
    resvg::render(tree, transform, &mut canvas.as_mut());
    RgbaImage::from_raw(width, height, canvas.take_demultiplied())
}

/// A strong, not too bright colour of a hue in degrees.
fn rgb_of_hue(hue: u32) -> (u8, u8, u8) {
    let (low, high) = (60u32, 170u32);
    let rising = low + (high - low) * (hue % 60) / 60;
    let falling = high - (high - low) * (hue % 60) / 60;
    let (r, g, b) = match hue / 60 {
        0 => (high, rising, low),
        1 => (falling, high, low),
        2 => (low, high, rising),
        3 => (low, falling, high),
        4 => (rising, low, high),
        _ => (high, low, falling),
    };
    (r as u8, g as u8, b as u8)
}
