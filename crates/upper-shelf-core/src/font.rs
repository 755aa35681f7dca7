//! The letters of pictures: one font that comes with the tool, so that text is the same on every machine.

use resvg::usvg::{self, fontdb};
use std::sync::{Arc, LazyLock};
use ttf_parser::Face;

static REGULAR: &[u8] = include_bytes!("../fonts/OpenSans-Regular.ttf");
static BOLD: &[u8] = include_bytes!("../fonts/OpenSans-Bold.ttf");
/// The font's name in drawings.
pub const FAMILY: &str = "Open Sans";

static OWN: LazyLock<Arc<fontdb::Database>> = LazyLock::new(|| Arc::new(own()));
static EVERY: LazyLock<Arc<fontdb::Database>> = LazyLock::new(|| {
    let mut all = own();
    all.load_system_fonts();
    Arc::new(all)
});

fn own() -> fontdb::Database {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(REGULAR.to_vec());
    fonts.load_font_data(BOLD.to_vec());
    fonts.set_sans_serif_family(FAMILY);
    fonts.set_serif_family(FAMILY);
    fonts.set_monospace_family(FAMILY);
    fonts
}

fn face(bold: bool) -> &'static Face<'static> {
    static FACES: LazyLock<[Face<'static>; 2]> = LazyLock::new(|| {
        [REGULAR, BOLD].map(|bytes| Face::parse(bytes, 0).expect("the font that comes with the tool"))
    });
    &FACES[usize::from(bold)]
}

/// Whether the font has all letters of a text.
pub fn has(text: &str) -> bool {
    text.chars().all(|c| c.is_control() || face(false).glyph_index(c).is_some())
}

/// Options for reading drawings whose text is in the tool's own font, whatever they ask for.
pub fn options() -> usvg::Options<'static> {
    usvg::Options { fontdb: OWN.clone(), font_family: FAMILY.into(), ..usvg::Options::default() }
}

/// The same, with the machine's fonts for letters that the tool's own one does not have. What is drawn with them is
/// not the same everywhere.
pub fn options_of_machine() -> usvg::Options<'static> {
    usvg::Options { fontdb: EVERY.clone(), font_family: FAMILY.into(), ..usvg::Options::default() }
}

/// The width of a line of text with letters of `size`.
pub fn width(text: &str, size: f32, bold: bool) -> f32 {
    let face = face(bold);
    // Letters of other writings are about square.
    let advance = |c: char| match face.glyph_index(c) {
        Some(glyph) => f32::from(face.glyph_hor_advance(glyph).unwrap_or(0)),
        None => f32::from(face.units_per_em()),
    };
    text.chars().map(advance).sum::<f32>() * size / f32::from(face.units_per_em())
}

/// A text in lines of at most so much width, broken between words; a word that is wider than a line is broken inside.
pub fn wrap(text: &str, room: f32, size: f32, bold: bool) -> Vec<String> {
    let mut lines = Vec::new();
    for paragraph in text.lines() {
        let mut line = String::new();
        for word in paragraph.split_inclusive(' ') {
            if !line.is_empty() && width(&format!("{line}{}", word.trim_end()), size, bold) > room {
                lines.push(std::mem::take(&mut line).trim_end().to_owned());
            }
            for c in word.chars() {
                if !line.is_empty() && c != ' ' && width(&format!("{line}{c}"), size, bold) > room {
                    lines.push(std::mem::take(&mut line));
                }
                line.push(c);
            }
        }
        lines.push(line.trim_end().to_owned());
    }
    lines
}

/// A line that is too wide, cut with an ellipsis: in its middle, where paths have what matters least.
pub fn cut(text: &str, room: f32, size: f32) -> String {
    if width(text, size, false) <= room {
        return text.to_owned();
    }
    let chars: Vec<char> = text.chars().collect();
    let shorter = |kept: usize| {
        let (left, right) = (kept - kept / 2, kept / 2);
        chars[..left].iter().chain(&['…']).chain(&chars[chars.len() - right..]).collect::<String>()
    };
    (0..chars.len()).rev().map(shorter).find(|t| width(t, size, false) <= room).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_broken_between_words_and_none_is_too_wide() {
        let text = "An older version is replaced; your own documents stay as they are.";
        let lines = wrap(text, 200.0, 12.0, false);
        assert!(lines.len() > 1 && lines.iter().all(|l| width(l, 12.0, false) <= 200.0), "{lines:?}");
        assert_eq!(lines.join(" "), text);
        let path = "C:\\a-very-long-folder-without-a-single-space-anywhere-in-it";
        let lines = wrap(path, 100.0, 12.0, false);
        assert!(lines.len() > 2 && lines.iter().all(|l| width(l, 12.0, false) <= 100.0), "{lines:?}");
        assert_eq!(lines.concat(), path);
        assert_eq!(wrap("a\n\nb", 100.0, 12.0, false), ["a", "", "b"]);
    }

    #[test]
    fn what_is_cut_keeps_both_ends() {
        let cut = cut("drawings/of/hives/and/their/frames.txt", 120.0, 12.0);
        assert!(cut.starts_with("draw") && cut.ends_with(".txt") && cut.contains('…'), "{cut}");
        assert!(width(&cut, 12.0, false) <= 120.0);
    }

    #[test]
    fn bold_is_wider_and_letters_that_are_not_there_are_known() {
        assert!(width("Combwright", 13.0, true) > width("Combwright", 13.0, false));
        assert!(has("Größe, řeka, Ελλάδα, Москва") && !has("日本"));
    }
}
