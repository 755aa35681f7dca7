//! The manifest as people write it. These types are the one source of its form: the checks, the JSON Schema and the
//! reference page are made from them, and their doc comments are the reference's text.

use crate::footprint::{EnvironmentAction, Place};
use crate::platform::{Platform, Selector};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;

/// One value for all platforms, or a table with a value for each: `{ windows = "a.exe", linux = "bin/a" }`. The most
/// exact name wins (`linux-arm64` before `linux`).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PerPlatform<T> {
    /// The same everywhere.
    Same(T),
    /// By platform or system.
    Each(BTreeMap<Selector, T>),
}

impl<T> PerPlatform<T> {
    /// The value for a platform, and the selector that chose it.
    pub fn on(&self, platform: Platform) -> Option<(&T, Option<Selector>)> {
        match self {
            Self::Same(value) => Some((value, None)),
            Self::Each(each) => [Selector::Platform(platform), Selector::System(platform.system())]
                .into_iter()
                .find_map(|s| each.get(&s).map(|v| (v, Some(s)))),
        }
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for PerPlatform<T> {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either<T> {
            Each(BTreeMap<Selector, T>),
            Same(T),
        }
        Ok(match Either::deserialize(d)? {
            Either::Each(each) => Self::Each(each),
            Either::Same(value) => Self::Same(value),
        })
    }
}

impl<T: JsonSchema> JsonSchema for PerPlatform<T> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        format!("PerPlatform_{}", T::schema_name()).into()
    }
    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let value = generator.subschema_for::<T>();
        let properties: serde_json::Map<_, _> =
            Selector::names().map(|n| (n.to_owned(), value.clone().to_value())).collect();
        schemars::json_schema!({
            "anyOf": [value, { "type": "object", "properties": properties, "additionalProperties": false }]
        })
    }
}

/// The project file `shelf.toml`.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Manifest {
    /// What the product is.
    pub product: Product,
    /// Folders of files, laid over each other in this order.
    #[serde(default)]
    pub layer: Vec<Layer>,
    /// What people start.
    #[serde(default)]
    pub program: Vec<Program>,
    /// Entries in the menu, on the desktop, or started at login.
    #[serde(default)]
    pub shortcut: Vec<Shortcut>,
    /// Kinds of files that a program opens.
    #[serde(default)]
    pub file_type: Vec<FileType>,
    /// Kinds of links that a program opens.
    #[serde(default)]
    pub link_scheme: Vec<LinkScheme>,
    /// Environment variables that the programs get.
    #[serde(default)]
    pub environment: Vec<Environment>,
    /// What is built.
    #[serde(default)]
    pub targets: Targets,
    /// What only one format has.
    #[serde(default)]
    pub target: TargetSettings,
}

/// What the product is.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Product {
    /// Reverse DNS name of a domain that you own, such as `works.fernhollow.combwright`. It never changes once
    /// released: systems find the installed version by it.
    pub id: String,
    /// The name that people read; spaces are fine.
    pub name: String,
    /// The version; raise it for each release.
    pub version: String,
    /// Who publishes it.
    pub publisher: String,
    /// One line on what it does, without a full stop.
    pub summary: Option<String>,
    /// A paragraph or more on what it does; an empty line separates paragraphs.
    pub description: Option<String>,
    /// One SVG, or one square PNG of 512 pixels or more; every size and format is made from it.
    pub icon: Option<PerPlatform<String>>,
    /// The product's web page.
    pub homepage: Option<String>,
    /// Where people get help: a web page or a mail address.
    pub support: Option<String>,
    /// The licence as an SPDX expression, such as `MIT` or `LicenseRef-proprietary`.
    pub license: Option<String>,
    /// Registered categories of the desktop menu specification, such as `Office`; default `Utility`.
    #[serde(default)]
    pub categories: Vec<String>,
    /// The date of this version's release, such as `2026-11-20`: the time that all files inside packages bear.
    /// Default: SOURCE_DATE_EPOCH, else a fixed date.
    pub released: Option<String>,
}

/// A set of files.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Layer {
    /// The folder (or single file), relative to the manifest. It is followed: what a later build adds comes along.
    pub from: PerPlatform<String>,
    /// The folder in the payload that it goes into; default: the top.
    pub into: Option<PerPlatform<String>>,
    /// Only files that fit one of these patterns. `*.png` fits a name in any folder, `art/**` all below a folder.
    #[serde(default)]
    pub keep: Vec<String>,
    /// No files that fit one of these patterns.
    #[serde(default)]
    pub drop: Vec<String>,
    /// How permission bits are taken.
    #[serde(default)]
    pub modes: Modes,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// How permission bits are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Modes {
    /// 755 for folders and what its owner may run, 644 for the rest: the same on every build machine.
    #[default]
    Usual,
    /// As they are on disk.
    Exact,
}

/// Something that people start.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Program {
    /// The name by which other tables mean it: letters, digits and dashes.
    pub key: String,
    /// Its file in the payload.
    pub file: PerPlatform<String>,
    /// Arguments that always go first.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// Variables that it is started with; `{install}` stands for the product's own folder.
    #[serde(default)]
    pub environment: BTreeMap<String, String>,
    /// Where it is started: `unchanged` (default), `home`, `install`, or a folder in the payload.
    pub working_folder: Option<String>,
    /// Whether it needs a terminal.
    #[serde(default)]
    pub console: bool,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// An entry in the menu, on the desktop, or started at login.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Shortcut {
    /// The program's key.
    pub program: String,
    /// Where it stands; default: the menu.
    pub places: Option<Vec<Place>>,
    /// The name that people read; default: the product's.
    pub name: Option<String>,
    /// Arguments behind the program's own.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// One line on what it does; default: the product's summary.
    pub description: Option<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A kind of file that a program opens.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct FileType {
    /// The program's key.
    pub program: String,
    /// Name endings without the dot.
    pub extensions: Vec<String>,
    /// The name that people read, such as `Hive journal`.
    pub name: String,
    /// The media type, such as `application/vnd.fernhollow.comb`; default: made from the product's id and the first
    /// ending.
    pub mime: Option<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A kind of link that a program opens.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LinkScheme {
    /// The part before the colon: small letters, digits, `+`, `-`, `.`.
    pub scheme: String,
    /// The program's key.
    pub program: String,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// An environment variable that the programs get.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Environment {
    /// Its name.
    pub name: String,
    /// The value; `{install}` stands for the product's own folder.
    pub value: PerPlatform<String>,
    /// What is done to a value that is there already.
    #[serde(default)]
    pub action: EnvironmentAction,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// What is built.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Targets {
    /// The package formats; default: `appimage` for Linux, `zip` for the others.
    pub build: Option<Vec<TargetName>>,
    /// The platforms; default: those that the layers' folders exist for, else the one this is run on.
    pub platforms: Option<Vec<Platform>>,
    /// The folder that packages are put into, relative to the manifest; default `packages`.
    pub output: Option<String>,
    /// The packages' names without their ending; default `{name}-{version}-{platform}`.
    pub file_name: Option<String>,
}

/// A package format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize, serde::Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TargetName {
    /// One file for Linux that starts without being installed.
    Appimage,
    /// An archive for every system.
    Zip,
    /// An archive for every system; for Linux with scripts that install and uninstall.
    Tar,
}

/// What only one format has.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TargetSettings {
    /// For AppImages.
    #[serde(default)]
    pub appimage: AppimageSettings,
    /// For ZIP archives.
    #[serde(default)]
    pub zip: ZipSettings,
    /// For tar archives.
    #[serde(default)]
    pub tar: TarSettings,
}

/// What only AppImages have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AppimageSettings {
    /// How blocks are packed; default `zstd`.
    pub compression: Option<Compression>,
    /// How hard; default 9 for `zstd` and `gzip`, 6 for `xz`.
    #[schemars(range(min = 0, max = 22))]
    pub level: Option<u32>,
    /// Bytes in a block: a power of two from 4096 to 1048576, the default.
    #[schemars(range(min = 4096, max = 1048576))]
    pub block_size: Option<u32>,
    /// Embedded update information, in the AppImage specification's form.
    pub update_information: Option<String>,
}

/// What only ZIP archives have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ZipSettings {
    /// How hard files are packed: 0 (stored) to 9; default 6.
    #[schemars(range(min = 0, max = 9))]
    pub level: Option<u32>,
}

/// What only tar archives have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TarSettings {
    /// How it is packed; default `gzip`, which is everywhere.
    pub compression: Option<Compression>,
    /// How hard; default 6 for `gzip` and `xz`, 9 for `zstd`.
    #[schemars(range(min = 0, max = 22))]
    pub level: Option<u32>,
}

/// A compression.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Compression {
    /// Known everywhere.
    Gzip,
    /// Small, and by far the fastest to unpack.
    Zstd,
    /// Smallest, slow.
    Xz,
}
