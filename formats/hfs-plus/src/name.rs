//! Names: how HFS+ stores them, and in which order it sorts them. Both follow tables of their own, older than today's
//! Unicode, that will never change: a name that is sorted otherwise can't be found again.
//!
//! Sources: Apple's Technical Note 1150 ("Unicode Subtleties", "Case-Insensitive String Comparison Algorithm") for the
//! order; for decomposition, Unicode 3.2's canonical one without three ranges, which is what macOS 10.3 and later do.

use crate::{Error, Result};
use std::cmp::Ordering;
use unicode_normalization::char::{canonical_combining_class, decompose_canonical};

/// The longest name, in UTF-16 units of its stored form.
pub const LONGEST: usize = 255;

/// Ranges of capitals: first, last, step from one to the next, and how far the small letter is away.
const FOLDED: &[(u16, u16, u16, u16)] = &[
    (0x0041, 0x005A, 1, 32),
    (0x00C6, 0x00C6, 1, 32),
    (0x00D0, 0x00D0, 1, 32),
    (0x00D8, 0x00D8, 1, 32),
    (0x00DE, 0x00DE, 1, 32),
    (0x0110, 0x0110, 1, 1),
    (0x0126, 0x0126, 1, 1),
    (0x0132, 0x0132, 1, 1),
    (0x013F, 0x0141, 2, 1),
    (0x014A, 0x014A, 1, 1),
    (0x0152, 0x0152, 1, 1),
    (0x0166, 0x0166, 1, 1),
    (0x0181, 0x0181, 1, 210),
    (0x0182, 0x0184, 2, 1),
    (0x0186, 0x0186, 1, 206),
    (0x0187, 0x0187, 1, 1),
    (0x0189, 0x018A, 1, 205),
    (0x018B, 0x018B, 1, 1),
    (0x018E, 0x018E, 1, 79),
    (0x018F, 0x018F, 1, 202),
    (0x0190, 0x0190, 1, 203),
    (0x0191, 0x0191, 1, 1),
    (0x0193, 0x0193, 1, 205),
    (0x0194, 0x0194, 1, 207),
    (0x0196, 0x0196, 1, 211),
    (0x0197, 0x0197, 1, 209),
    (0x0198, 0x0198, 1, 1),
    (0x019C, 0x019C, 1, 211),
    (0x019D, 0x019D, 1, 213),
    (0x019F, 0x019F, 1, 214),
    (0x01A2, 0x01A4, 2, 1),
    (0x01A7, 0x01A7, 1, 1),
    (0x01A9, 0x01A9, 1, 218),
    (0x01AC, 0x01AC, 1, 1),
    (0x01AE, 0x01AE, 1, 218),
    (0x01B1, 0x01B2, 1, 217),
    (0x01B3, 0x01B5, 2, 1),
    (0x01B7, 0x01B7, 1, 219),
    (0x01B8, 0x01B8, 1, 1),
    (0x01BC, 0x01BC, 1, 1),
    (0x01C4, 0x01C4, 1, 2),
    (0x01C5, 0x01C5, 1, 1),
    (0x01C7, 0x01C7, 1, 2),
    (0x01C8, 0x01C8, 1, 1),
    (0x01CA, 0x01CA, 1, 2),
    (0x01CB, 0x01CB, 1, 1),
    (0x01E4, 0x01E4, 1, 1),
    (0x01F1, 0x01F1, 1, 2),
    (0x01F2, 0x01F2, 1, 1),
    (0x0391, 0x03A1, 1, 32),
    (0x03A3, 0x03A9, 1, 32),
    (0x03E2, 0x03EE, 2, 1),
    (0x0402, 0x0402, 1, 80),
    (0x0404, 0x0406, 1, 80),
    (0x0408, 0x040B, 1, 80),
    (0x040F, 0x040F, 1, 80),
    (0x0410, 0x0418, 1, 32),
    (0x041A, 0x042F, 1, 32),
    (0x0460, 0x0474, 2, 1),
    (0x0478, 0x0480, 2, 1),
    (0x0490, 0x04BE, 2, 1),
    (0x04C3, 0x04C3, 1, 1),
    (0x04C7, 0x04C7, 1, 1),
    (0x04CB, 0x04CB, 1, 1),
    (0x0531, 0x0556, 1, 48),
    (0x10A0, 0x10C5, 1, 48),
    (0x2160, 0x216F, 1, 16),
    (0xFF21, 0xFF3A, 1, 32),
];

/// Units that the order passes over: joiners and marks of direction.
const IGNORED: &[(u16, u16)] = &[(0x200C, 0x200F), (0x202A, 0x202E), (0x206A, 0x206F), (0xFEFF, 0xFEFF)];

/// A unit as the order sees it; nothing where it passes over it.
pub fn folded(unit: u16) -> Option<u16> {
    if unit < 0x41 {
        // Zero comes after all others.
        return Some(if unit == 0 { 0xFFFF } else { unit });
    }
    let range = &FOLDED[..FOLDED.partition_point(|(first, ..)| *first <= unit)];
    if let Some((first, last, step, away)) = range.last()
        && unit <= *last
        && (unit - first).is_multiple_of(*step)
    {
        return Some(unit + away);
    }
    (!IGNORED.iter().any(|(first, last)| (*first..=*last).contains(&unit))).then_some(unit)
}

/// The order of names in a folder. Names that are equal here can't both be there.
pub fn order(a: &[u16], b: &[u16]) -> Ordering {
    a.iter().filter_map(|u| folded(*u)).cmp(b.iter().filter_map(|u| folded(*u)))
}

/// Whether a character is stored decomposed.
fn is_decomposed(c: char) -> bool {
    // What Unicode learned after 3.2 (Balinese …) stays as it is, and so do symbols and compatibility ideographs.
    matches!(c, '\u{C0}'..='\u{1AFF}' | '\u{1E00}'..='\u{1FFF}' | '\u{3000}'..='\u{D7A3}' | '\u{FB1D}'..='\u{FB4F}' | '\u{1D15E}'..='\u{1D1C0}')
}

/// A name as a path of other systems writes it, in the form that volumes store.
///
/// # Errors
/// [`Error::Usage`] for an empty name, `.`, `..`, a slash, a zero, or more than [`LONGEST`] units.
pub fn stored(name: &str) -> Result<Vec<u16>> {
    if name.is_empty() || name == "." || name == ".." || name.contains(['/', '\0']) {
        return Err(Error::Usage(format!("{name:?} isn't a valid name")));
    }
    let mut all: Vec<char> = Vec::with_capacity(name.len());
    for c in name.chars() {
        match c {
            // What divides folders in paths is a letter of names here, and the other way round.
            ':' => all.push('/'),
            c if is_decomposed(c) => decompose_canonical(c, |part| all.push(part)),
            c => all.push(c),
        }
    }
    // Marks on one letter stand in Unicode's order.
    let mut start = 0;
    while start < all.len() {
        let end = start + all[start..].iter().take_while(|c| canonical_combining_class(**c) != 0).count();
        all[start..end].sort_by_key(|c| canonical_combining_class(*c));
        start = end + 1;
    }
    let units: Vec<u16> = all.iter().flat_map(|c| c.encode_utf16(&mut [0; 2]).to_vec()).collect();
    if units.len() > LONGEST {
        return Err(Error::Usage(format!("the name {name:?} has {} of at most {LONGEST} units", units.len())));
    }
    Ok(units)
}

/// A stored name as a path writes it; units that are no text become a replacement character.
pub fn shown(units: &[u16]) -> String {
    String::from_utf16_lossy(units).replace('/', ":")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn capitals_sort_as_small_letters_and_joiners_count_for_nothing() {
        let o = |a: &str, b: &str| order(&stored(a).expect("a name"), &stored(b).expect("a name"));
        assert_eq!(o("Hives", "hIVES"), Ordering::Equal);
        assert_eq!(o("ΩMEGA", "ωmega"), Ordering::Equal);
        assert_eq!(o("a\u{200D}b", "ab"), Ordering::Equal);
        assert_eq!(o("Ä", "ä"), Ordering::Equal, "both decompose");
        // What newer tables fold, this one keeps apart.
        assert_ne!(o("Ẁ\u{1E9E}", "ẁß"), Ordering::Equal);
        assert_eq!(o("a", "b"), Ordering::Less);
        assert_eq!(o("ab", "a"), Ordering::Greater);
        assert_eq!(o("_", "a"), Ordering::Less, "between the capitals and the small letters, and so before both");
    }

    #[test]
    fn names_are_stored_decomposed_but_for_three_ranges() {
        let s = |n: &str| String::from_utf16(&stored(n).expect("a name")).expect("text");
        assert_eq!(s("Bienenstöcke é"), "Bienensto\u{308}cke e\u{301}");
        assert_eq!(s("한"), "\u{1112}\u{1161}\u{11AB}");
        assert_eq!(s("\u{212B}\u{F900}\u{2260}"), "\u{212B}\u{F900}\u{2260}");
        assert_eq!(s("\u{1B06}"), "\u{1B06}");
        assert_eq!(s("a\u{301}\u{323}"), "a\u{323}\u{301}", "marks in Unicode's order");
        assert_eq!(s("12:30"), "12/30");
        assert_eq!(shown(&stored("12:30").expect("a name")), "12:30");
    }

    #[test]
    fn what_is_no_name_is_refused() {
        for bad in ["", ".", "..", "a/b", "a\0", &"ö".repeat(128)] {
            assert!(stored(bad).is_err(), "{bad:?}");
        }
        assert!(stored(&"o".repeat(255)).is_ok());
    }
}
