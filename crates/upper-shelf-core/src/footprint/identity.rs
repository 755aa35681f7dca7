//! Who the product is.

use serde::{Deserialize, Serialize};

/// Who the product is. What a package does not say is `None` or empty.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
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
    pub summary: Option<String>,
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
