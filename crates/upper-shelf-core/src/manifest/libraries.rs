//! The table of libraries that come along.

use super::written::PerPlatform;
use crate::platform::Selector;
use schemars::JsonSchema;
use serde::Deserialize;

/// Folders from which the libraries come that the payload's programs need and that not every machine has, with what those load by name at run time.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Libraries {
    /// The source that the folders are in.
    pub source: Option<String>,
    /// Folders, relative to the manifest, or within the source: a toolkit's, one with libraries in it, or the root of a system (`/` is this machine's
    /// own). The first one that has a library counts. Default: all of the source.
    pub from: Option<PerPlatform<Vec<String>>>,
    /// The folder in the payload that they go into. Default: `lib`; on Windows that of the first program.
    pub into: Option<PerPlatform<String>>,
    /// Patterns of further libraries that every machine has and that don't come along.
    #[serde(default)]
    pub base: Vec<String>,
    /// What comes along, too: names of libraries, and files by their paths in one of the folders, such as `usr/share/icons/Comb/**`.
    #[serde(default)]
    pub also: Vec<String>,
    /// What does not come along: patterns of names, and of paths in the payload.
    #[serde(default)]
    pub drop: Vec<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}
