//! The tables of what programs run on.

use super::written::PerPlatform;
use crate::platform::Selector;
use crate::runtimes::{Keep, RuntimeKind};
use schemars::JsonSchema;
use serde::Deserialize;

/// Something that programs run on and that comes along with them: a Java runtime, or any other interpreter. Its files become a part of
/// the payload.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Runtime {
    /// The name by which programs refer to it: lower-case letters, digits and hyphens.
    pub key: String,
    /// What it is.
    pub kind: RuntimeKind,
    /// The source that it is in.
    pub source: Option<String>,
    /// Its folder, relative to the manifest, or within the source; for Java the one with `bin` and `lib`. Default: all of the source.
    pub from: Option<PerPlatform<String>>,
    /// The folder in the payload that it goes into; default: its key.
    pub into: Option<PerPlatform<String>>,
    /// Its program that starts others, in its own folder. Default for Java: `bin/java`; on Windows `bin/javaw.exe`, for console programs
    /// `bin/java.exe`.
    pub program: Option<PerPlatform<String>>,
    /// Options for it that come before what it starts, such as `-Xmx512m`.
    #[serde(default)]
    pub options: Vec<String>,
    /// What of it comes along. For Java: `used` (default: the modules that the product's archives need), `all`, or names of modules, and what
    /// these need. Else `all` (default), or patterns of files.
    pub keep: Option<Keep>,
    /// Modules of Java that come along, too: what is only looked up by name at run time is not found.
    #[serde(default)]
    pub also: Vec<String>,
    /// What does not come along: modules of Java that are not needed after all, and patterns of files.
    #[serde(default)]
    pub drop: Vec<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// What a runtime starts: one of `jar`, `class`, `module` and `script`. All paths are paths in the payload.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Start {
    /// A Java archive that names its main class.
    pub jar: Option<String>,
    /// A main class of Java, such as `works.fernhollow.Report`; `class-path` says where it is.
    pub class: Option<String>,
    /// A module of Java, such as `works.fernhollow.report`, or one with its main class behind a slash; `module-path` says where it is.
    pub module: Option<String>,
    /// A script.
    pub script: Option<String>,
    /// Archives and folders with classes of Java; `lib/*` stands for all archives in a folder.
    #[serde(default)]
    pub class_path: Vec<String>,
    /// Archives that are modules of Java, and folders of them.
    #[serde(default)]
    pub module_path: Vec<String>,
}
