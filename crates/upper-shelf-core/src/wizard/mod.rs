//! The wizard: one description of its pages for every format that has one. Sizes are in units of a twelfth of the
//! height of the system's font, as Windows Installer has them.

mod pages;
mod words;

pub use pages::{
    Action, Control, FILES_IN_USE, FILES_IN_USE_CLOSABLE, HEIGHT, Kind, Page, RADIO_HEIGHT, RADIO_PITCH, WIDTH, pages,
    removal,
};
pub use words::WORDS;

use crate::footprint::{Footprint, Text, text_bytes};
use std::collections::BTreeMap;

/// A language of the wizard with all of its words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Language {
    /// Its code: `en`, `de`.
    pub code: String,
    /// Every word.
    pub words: BTreeMap<&'static str, String>,
}

impl Language {
    /// A language, with the words that come with this program and those that the manifest brings over them.
    ///
    /// # Errors
    /// The keys that no words are there for; keys that are no words.
    pub fn new(code: &str, own: &BTreeMap<String, String>) -> Result<Self, (Vec<&'static str>, Vec<String>)> {
        let column = |en: &'static str, de: &'static str| match code {
            "en" => Some(en),
            "de" => Some(de),
            _ => None,
        };
        let mut words = BTreeMap::new();
        let mut missing = Vec::new();
        for (key, en, de) in WORDS {
            match own.get(key).map(String::as_str).or(column(en, de)) {
                Some(word) => drop(words.insert(key, word.to_owned())),
                None => missing.push(key),
            }
        }
        let strange: Vec<String> = own.keys().filter(|k| !WORDS.iter().any(|w| w.0 == *k)).cloned().collect();
        if missing.is_empty() && strange.is_empty() {
            Ok(Self { code: code.to_owned(), words })
        } else {
            Err((missing, strange))
        }
    }

    /// A word, with what stands for the product's facts filled in.
    pub fn word(&self, key: &str, footprint: &Footprint) -> String {
        let p = &footprint.product;
        let text = |v: &Option<String>| v.clone().unwrap_or_default();
        let files = footprint.files().count();
        let types: Vec<String> = footprint
            .file_types
            .iter()
            .map(|t| t.extensions.iter().map(|e| format!(".{e}")).collect::<Vec<_>>().join(", "))
            .collect();
        let word = self.words.get(key).map_or("", String::as_str);
        let size = text_bytes(footprint.size());
        // Most of Europe writes a comma before the decimals.
        let comma = !["en", "ja", "ko", "zh"].contains(&self.code.as_str());
        let size = if comma { size.replace('.', ",") } else { size };
        word.replace("{version}", &text(&p.version))
            .replace("{size}", &size)
            .replace("{files}", &files.to_string())
            .replace("{types}", &types.join(", "))
            // An ampersand would mark a key.
            .replace("{product}", &text(&p.name).replace('&', "&&"))
    }
}

/// The wizard of a product.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wizard {
    /// The licence's text, in each language that has its own.
    pub license: Option<Text>,
    /// The colour of its lines: red, green, blue.
    pub accent: [u8; 3],
    /// Its languages; the first is for all systems whose own is not among them.
    pub languages: Vec<Language>,
    /// Pages before the progress that don't come, by their names in [`pages()`].
    pub left_out: Vec<&'static str>,
}

impl Default for Wizard {
    fn default() -> Self {
        let words = WORDS.iter().map(|(key, en, _)| (*key, (*en).to_owned())).collect();
        Self {
            license: None,
            accent: [0x3A, 0x6E, 0xA5],
            languages: vec![Language { code: "en".into(), words }],
            left_out: Vec::new(),
        }
    }
}

impl Wizard {
    /// The colour of the strip behind titles: the accent's, almost white.
    pub fn tint(&self) -> [u8; 3] {
        self.accent.map(|c| (u32::from(c) / 8 + 223) as u8)
    }
}

/// A colour such as `#e8a028`.
pub fn color(text: &str) -> Option<[u8; 3]> {
    let hex = text.strip_prefix('#').filter(|h| h.len() == 6)?;
    let number = u32::from_str_radix(hex, 16).ok()?;
    Some([(number >> 16) as u8, (number >> 8) as u8, number as u8])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_is_there_in_both_languages_with_the_same_blanks() {
        for (key, en, de) in WORDS {
            assert!(!en.is_empty() && !de.is_empty(), "{key}");
            for blank in ["{product}", "{version}", "{size}", "{files}", "{types}"] {
                assert_eq!(en.contains(blank), de.contains(blank), "{key}: {blank}");
            }
            assert_eq!(en.contains('&'), de.contains('&'), "{key}: a letter for the keyboard");
        }
    }

    #[test]
    fn a_missing_word_is_named() {
        let own = BTreeMap::from([("next".to_owned(), "Suivant".to_owned()), ("nxt".to_owned(), "x".to_owned())]);
        let (missing, strange) = Language::new("fr", &own).expect_err("refused");
        assert!(missing.contains(&"cancel") && !missing.contains(&"next"));
        assert_eq!(strange, ["nxt"]);
    }
}
