//! Texts for people, which may be there in several languages.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::ops::Deref;

/// A text for people: one for all languages, or others for some of them.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(from = "Form", into = "Form")]
#[schemars(with = "Form")]
pub struct Text {
    plain: String,
    /// By the code of a language, such as `de` or `pt-BR`.
    others: BTreeMap<String, String>,
}

/// How it stands in JSON.
#[derive(Serialize, Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
enum Form {
    /// The same in every language.
    Plain(String),
    /// Another one in some.
    Several {
        /// The text where no other is meant.
        text: String,
        /// The text in other languages, by their codes.
        languages: BTreeMap<String, String>,
    },
}

impl From<Form> for Text {
    fn from(form: Form) -> Self {
        match form {
            Form::Plain(plain) => plain.into(),
            Form::Several { text, languages } => Self::several(text, languages),
        }
    }
}

impl From<Text> for Form {
    fn from(Text { plain, others }: Text) -> Self {
        if others.is_empty() { Self::Plain(plain) } else { Self::Several { text: plain, languages: others } }
    }
}

impl Text {
    /// A text with those in other languages; one that says the same as the text itself is none.
    pub fn several(plain: impl Into<String>, others: BTreeMap<String, String>) -> Self {
        let plain = plain.into();
        let others = others.into_iter().filter(|(_, text)| *text != plain).collect();
        Self { plain, others }
    }

    /// The text where no other is meant.
    pub fn as_str(&self) -> &str {
        &self.plain
    }

    /// The text in a language.
    pub fn of(&self, language: &str) -> &str {
        self.others.get(language).unwrap_or(&self.plain)
    }

    /// The texts in other languages, by their codes.
    pub fn others(&self) -> &BTreeMap<String, String> {
        &self.others
    }

    /// Adds the text in another language.
    pub fn add(&mut self, language: impl Into<String>, text: impl Into<String>) {
        let text = text.into();
        if text != self.plain {
            self.others.insert(language.into(), text);
        }
    }

    /// The same with each text changed.
    pub fn map(&self, change: impl Fn(&str) -> String) -> Self {
        let others = self.others.iter().map(|(language, text)| (language.clone(), change(text))).collect();
        Self::several(change(&self.plain), others)
    }
}

impl Deref for Text {
    type Target = str;

    fn deref(&self) -> &str {
        &self.plain
    }
}

impl PartialEq<str> for Text {
    fn eq(&self, other: &str) -> bool {
        self.plain == other
    }
}

impl PartialEq<String> for Text {
    fn eq(&self, other: &String) -> bool {
        self.plain == *other
    }
}

impl From<String> for Text {
    fn from(plain: String) -> Self {
        Self { plain, others: BTreeMap::new() }
    }
}

impl From<&str> for Text {
    fn from(plain: &str) -> Self {
        plain.to_owned().into()
    }
}

impl fmt::Display for Text {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.plain)?;
        self.others.iter().try_for_each(|(language, text)| write!(f, " [{language}: {text}]"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_text_is_a_string_in_json_and_several_are_an_object() {
        let one: Text = "Pictures".into();
        let mut several = one.clone();
        several.add("de", "Bilder");
        several.add("en", "Pictures");
        for (text, json) in [(&one, "\"Pictures\""), (&several, r#"{"text":"Pictures","languages":{"de":"Bilder"}}"#)] {
            assert_eq!(serde_json::to_string(text).expect("JSON"), json);
            assert_eq!(serde_json::from_str::<Text>(json).expect("JSON"), *text);
        }
        assert_eq!((several.of("de"), several.of("fr"), &*several), ("Bilder", "Pictures", "Pictures"));
        assert_eq!(several.to_string(), "Pictures [de: Bilder]");
    }
}
