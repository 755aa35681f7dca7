//! Who the product is.

use super::Text;
use serde::{Deserialize, Serialize};

/// Who the product is. What a package does not say is `None` or empty.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Identity {
    /// Reverse DNS; never changes once released.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub id: Option<String>,
    /// The name that people read.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub name: Option<String>,
    /// The version.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub version: Option<String>,
    /// The publisher.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub publisher: Option<String>,
    /// One line on what it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub summary: Option<Text>,
    /// Paragraphs on what it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub description: Option<String>,
    /// Web page.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub homepage: Option<String>,
    /// Where people get help: web page or mail address.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub support: Option<String>,
    /// SPDX expression.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub license: Option<String>,
    /// Registered categories of the desktop menu specification.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub categories: Vec<String>,
}

/// A name as part of a file's name: no spaces, nothing that a shell or a web address gives a meaning.
pub fn file_name_of(name: &str) -> String {
    let kept: String = name.chars().map(|c| if c.is_alphanumeric() || "._+".contains(c) { c } else { '-' }).collect();
    let words: Vec<&str> = kept.split('-').filter(|w| !w.is_empty()).collect();
    words.join("-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_files_have_nothing_that_a_shell_minds() {
        assert_eq!(file_name_of("Nectar Map & Co."), "Nectar-Map-Co.");
        assert_eq!(file_name_of("Bienen-Stöcke"), "Bienen-Stöcke");
    }
}
