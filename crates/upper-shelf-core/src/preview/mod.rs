//! What people will see, before anything is shipped: each page of the wizards and the window of the disk image, drawn
//! from the same descriptions that the packages are written from.

mod folder;
mod page;
mod review;
mod window;

use crate::font;
use crate::icons::{Icon, rendered};
use crate::packaging::{Plan, PlannedPackage};
use crate::platform::Platform;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::TargetName;
use crate::targets::{dmg, nsis};
use crate::wizard::{self, Language};
use image::{ImageEncoder, RgbaImage};
use resvg::{tiny_skia, usvg};
use serde::Serialize;

pub use folder::{Drawing, Made, Wanted, folder};
use review::review;

/// A rectangle: left, top, width, height; pixels at the density of one.
pub type Rect = (i32, i32, i32, i32);

/// A control or a symbol as it was drawn.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Drawn {
    /// What it is.
    pub kind: &'static str,
    /// What it says.
    pub text: String,
    /// Where, from the upper left corner of the window's contents.
    #[serde(serialize_with = "Area::write")]
    #[schemars(with = "Area")]
    pub at: Rect,
}

/// A part of a picture, as reports have it: pixels at one pixel a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Area {
    /// From the left.
    pub x: i32,
    /// From above.
    pub y: i32,
    /// How wide.
    pub width: i32,
    /// How high.
    pub height: i32,
}

impl From<Rect> for Area {
    fn from((x, y, width, height): Rect) -> Self {
        Self { x, y, width, height }
    }
}

impl Area {
    fn write<S: serde::Serializer>(rect: &Rect, s: S) -> Result<S::Ok, S::Error> {
        Self::from(*rect).serialize(s)
    }
}

/// A picture that lies between the lower and the upper drawing.
#[derive(Debug, Clone)]
enum Inset {
    Icon(Icon),
    /// For one and for two pixels a point.
    Pixels(Box<[RgbaImage; 2]>),
}

/// What one page or window looks like.
#[derive(Debug, Clone)]
pub struct Picture {
    /// The package that shows it.
    pub package: String,
    /// Its format.
    pub target: TargetName,
    /// Its platform.
    pub platform: Platform,
    /// The language of its words; none where there is only one.
    pub language: Option<String>,
    /// The page's name.
    pub page: String,
    /// Place in the order of the pages.
    pub number: usize,
    /// Width and height with the window's frame.
    pub size: (u32, u32),
    /// Where the contents begin inside the frame.
    pub contents: (i32, i32),
    /// Width and height of the contents.
    pub inner: (i32, i32),
    /// What was drawn.
    pub drawn: Vec<Drawn>,
    below: String,
    insets: Vec<(Rect, Inset)>,
    above: String,
}

/// The height of a drawn window's title.
const TITLE: i32 = 30;
/// Its frame's thickness.
const FRAME: i32 = 1;

impl Picture {
    /// A name for its file, without ending.
    pub fn stem(&self) -> String {
        let language = self.language.as_deref().map(|l| format!("-{l}")).unwrap_or_default();
        let mut page = String::new();
        let letters: Vec<char> = self.page.chars().collect();
        for (n, c) in letters.iter().enumerate() {
            let after_small = n > 0 && letters[n - 1].is_lowercase();
            let before_small = n > 0 && letters.get(n + 1).is_some_and(|c| c.is_lowercase());
            if c.is_uppercase() && (after_small || before_small) {
                page.push('-');
            }
            page.extend(c.to_lowercase());
        }
        format!("{}-{}{language}-{:02}-{page}", self.target.name(), self.platform, self.number)
    }

    /// Everything that can be read on it, for people who hear it.
    pub fn words(&self) -> String {
        let all: Vec<&str> = self.drawn.iter().map(|d| d.text.as_str()).filter(|t| !t.is_empty()).collect();
        all.join(" | ")
    }

    /// The picture with so many pixels a point, as a PNG file.
    ///
    /// # Errors
    /// It can't be drawn: a size of nothing.
    pub fn png(&self, density: u32) -> Result<Vec<u8>, Failure> {
        let cant =
            |why: String| Failure::new(Kind::Problems, Problem::error(Code::Icon, "a picture can't be drawn").why(why));
        let (width, height) = (self.size.0 * density, self.size.1 * density);
        let layer = |drawing: &str| {
            let tree = usvg::Tree::from_str(&self.svg(drawing), &self.fonts()).map_err(|e| cant(e.to_string()))?;
            let scale = tiny_skia::Transform::from_scale(density as f32, density as f32);
            rendered(&tree, (width, height), scale).ok_or_else(|| cant(format!("it has {width} × {height} pixels")))
        };
        let mut canvas = layer(&self.below)?;
        for ((left, top, w, h), inset) in &self.insets {
            let (w, h) = (*w as u32 * density, *h as u32 * density);
            let pixels = match inset {
                Inset::Icon(icon) => icon.pixels(w),
                Inset::Pixels(both) => both[(density as usize - 1).min(1)].clone(),
            };
            let pixels = if pixels.dimensions() == (w, h) {
                pixels
            } else {
                image::imageops::resize(&pixels, w, h, image::imageops::FilterType::Lanczos3)
            };
            let (left, top) = (left * density as i32, top * density as i32);
            image::imageops::overlay(&mut canvas, &pixels, left.into(), top.into());
        }
        image::imageops::overlay(&mut canvas, &layer(&self.above)?, 0, 0);
        let mut out = Vec::new();
        let encoder = image::codecs::png::PngEncoder::new(&mut out);
        let written = encoder.write_image(&canvas, width, height, image::ExtendedColorType::Rgba8);
        written.map_err(|e| cant(e.to_string()))?;
        Ok(out)
    }

    /// The machine's fonts take time to look through, and are only wanted for letters that ours does not have.
    fn fonts(&self) -> usvg::Options<'static> {
        let ours = self.drawn.iter().all(|d| font::has(&d.text));
        if ours { font::options() } else { font::options_of_machine() }
    }

    fn svg(&self, drawing: &str) -> String {
        let (w, h) = self.size;
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}\" height=\"{h}\" font-family=\"{}\">{drawing}</svg>",
            font::FAMILY
        )
    }
}

/// A text with what means something in a drawing written otherwise.
fn escaped(text: &str) -> String {
    // What no drawing can hold stands for itself no longer.
    let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    quick_xml::escape::escape(text.as_str()).into_owned()
}

fn hex([r, g, b]: [u8; 3]) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}

/// A line of text: where its baseline begins (or its middle is), and its look.
fn line(text: &str, (x, y): (f32, f32), size: f32, look: &str) -> String {
    format!(
        "<text x=\"{x:.1}\" y=\"{y:.1}\" font-size=\"{size}\" xml:space=\"preserve\" {look}>{}</text>",
        escaped(text)
    )
}

fn rect((x, y, w, h): Rect, look: &str) -> String {
    format!("<rect x=\"{x}\" y=\"{y}\" width=\"{w}\" height=\"{h}\" {look}/>")
}

/// The same, for a line of one pixel around it.
fn box_((x, y, w, h): Rect, look: &str) -> String {
    let (x, y) = (x as f32 + 0.5, y as f32 + 0.5);
    format!("<rect x=\"{x}\" y=\"{y}\" width=\"{}\" height=\"{}\" {look}/>", w - 1, h - 1)
}

/// Pictures, and what somebody should look at.
#[derive(Debug, Default)]
pub struct Pictures {
    /// In the order of packages, languages and pages.
    pub pictures: Vec<Picture>,
    /// Words that have no room, and the like.
    pub warnings: Vec<Problem>,
}

impl Pictures {
    /// Further ones; what was said already is not said again.
    fn add(&mut self, more: Self) {
        self.pictures.extend(more.pictures);
        for warning in more.warnings {
            if !self.warnings.contains(&warning) {
                self.warnings.push(warning);
            }
        }
    }
}

/// Draws what a package shows. Formats without windows of their own give nothing.
///
/// # Errors
/// The package can't be laid out.
pub fn pictures(plan: &Plan, package: &PlannedPackage, languages: &[String]) -> Result<Pictures, Failure> {
    let all = match package.target {
        TargetName::Msi => wizard::pages(&package.carried, &plan.product.wizard),
        TargetName::Nsis => nsis::shown(&package.carried, &plan.product.wizard),
        TargetName::Dmg => {
            let shown = dmg::shown(&plan.job(package)).map_err(|e| {
                let problem = Problem::error(Code::FormatLimit, "the disk image can't be laid out").why(e.to_string());
                Failure::new(Kind::Problems, problem)
            })?;
            return Ok(Pictures { pictures: vec![window::window(plan, package, &shown)], warnings: Vec::new() });
        }
        _ => return Ok(Pictures::default()),
    };
    let mut drawn = Pictures::default();
    let is_wanted = |l: &&Language| languages.is_empty() || languages.contains(&l.code);
    for language in plan.product.wizard.languages.iter().filter(is_wanted) {
        for (n, one) in all.iter().enumerate() {
            let (picture, warnings) = page::page(plan, package, language, one, n + 1);
            drawn.add(Pictures { pictures: vec![picture], warnings });
        }
    }
    Ok(drawn)
}
