//! The tables of what programs run on.

use super::written::PerPlatform;
use crate::platform::Selector;
use crate::runtimes::{Keep, RuntimeKind};
use schemars::JsonSchema;
use serde::Deserialize;

/// Something that programs run on and that comes along with them: a Java, Python, Node or PHP runtime, or any other interpreter. Its files become a part of
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
    /// Its folder, relative to the manifest, or within the source; for Java the one with `bin` and `lib`, for Python that of its program or the one with `bin`. Default: all of the source.
    pub from: Option<PerPlatform<String>>,
    /// The folder in the payload that it goes into; default: its key.
    pub into: Option<PerPlatform<String>>,
    /// Its program that starts others, in its own folder. Default for Java: `bin/java`; on Windows `bin/javaw.exe`, for console programs
    /// `bin/java.exe`. For Python: `bin/python3`; on Windows `pythonw.exe`, for console programs `python.exe`. For Node: `bin/node`; on Windows `node.exe`. For PHP:
    /// `bin/php`; on Windows `php-win.exe`, for console programs `php.exe`.
    pub program: Option<PerPlatform<String>>,
    /// Options for it that come before what it starts, such as `-Xmx512m`.
    #[serde(default)]
    pub options: Vec<String>,
    /// What of it comes along. For Java and Python: `used` (default: the modules that the product's code needs), `all`, or names of modules,
    /// and what these need. For Node: `used` (default: what the product's lock files need), `all`, or patterns of files of the
    /// interpreter. For PHP: `used` (default: the extensions that the product's code uses), `all`, or names of extensions. Else `all` (default), or patterns of files.
    pub keep: Option<Keep>,
    /// Modules that come along, too: what is only looked up by name at run time is not found. For Python, `NAME.*` is all that is in a package. For
    /// Node: packages that are only for development. For PHP: extensions.
    #[serde(default)]
    pub also: Vec<String>,
    /// What does not come along: modules, packages or extensions that are not needed after all, and patterns of files.
    #[serde(default)]
    pub drop: Vec<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// What a runtime starts: one of `jar`, `class`, `module`, `script` and `zip-app`. All paths are paths in the payload.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Start {
    /// A Java archive that names its main class.
    pub jar: Option<String>,
    /// A main class of Java, such as `works.fernhollow.Report`; `class-path` says where it is.
    pub class: Option<String>,
    /// A module of Java, such as `works.fernhollow.report`, or one with its main class behind a slash; or a module of Python, such as
    /// `hives.report`. `module-path` says where it is.
    pub module: Option<String>,
    /// A script.
    pub script: Option<String>,
    /// An archive of Python's modules with `__main__.py` in it.
    pub zip_app: Option<String>,
    /// Archives and folders with classes of Java; `lib/*` stands for all archives in a folder.
    #[serde(default)]
    pub class_path: Vec<String>,
    /// Archives that are modules of Java, and folders of them; or folders and archives with modules of Python.
    #[serde(default)]
    pub module_path: Vec<String>,
}
