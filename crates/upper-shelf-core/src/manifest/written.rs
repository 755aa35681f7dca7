//! The manifest as people write it. These types are the one source of its form: the checks, the JSON Schema and the
//! reference page are made from them, and their doc comments are the reference's text.

pub use super::formats::{
    AppimageSettings, Bundle, DiskImage, DiskImageFile, DmgSettings, ListValue, MsiSettings, NsisSettings, Permissions,
    PortableSettings, TarSettings, TargetSettings, ZipSettings,
};
pub use super::keys::{Signing, SigningLinux, SigningMacos, SigningOpenPgp, SigningWindows};
pub use super::libraries::Libraries;
pub use super::runtimes::{Runtime, Start};
use crate::footprint::{
    Downgrade, EnvironmentAction, Place, RegistryRoot, RegistryValue, RegistryView, Scope, ServiceStart, Upgrade,
};
use crate::payload::Modes;
use crate::platform::{Platform, Selector};
use crate::settings::TargetName;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;

/// A text for users: one for every language, or a table with one per language: `{ en = "Pictures", de = "Bilder" }`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Text {
    /// The same in every language.
    Same(String),
    /// By the code of the language.
    Each(BTreeMap<String, String>),
}

impl<'de> Deserialize<'de> for Text {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Either {
            Each(BTreeMap<String, String>),
            Same(String),
        }
        Ok(match Either::deserialize(d)? {
            Either::Each(each) => Self::Each(each),
            Either::Same(text) => Self::Same(text),
        })
    }
}

impl JsonSchema for Text {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Text".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A text for every language, or one for each: `{ en = \"…\", de = \"…\" }`.",
            "anyOf": [
                { "type": "string" },
                { "type": "object", "additionalProperties": { "type": "string" } },
            ],
        })
    }
}

/// One value for all platforms, or a table with a value for each: `{ windows = "a.exe", linux = "bin/a" }`. The most
/// specific name wins (`linux-arm64` before `linux`).
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
    /// What layers are made of and what lies elsewhere: it is fetched once, checked and kept.
    #[serde(default)]
    pub source: Vec<Source>,
    /// Folders of files, stacked in this order.
    #[serde(default)]
    pub layer: Vec<Layer>,
    /// What programs run on and comes along with them.
    #[serde(default)]
    pub runtime: Vec<Runtime>,
    /// Where the libraries come from that programs need.
    #[serde(default)]
    pub libraries: Vec<Libraries>,
    /// Programs that users start.
    #[serde(default)]
    pub program: Vec<Program>,
    /// Entries in the menu, on the desktop, or started at sign-in. Default: the first program in the menu, unless all programs
    /// are console programs. `shortcut = []` means none.
    pub shortcut: Option<Vec<Shortcut>>,
    /// File types that a program opens.
    #[serde(default)]
    pub file_type: Vec<FileType>,
    /// Link schemes that a program opens.
    #[serde(default)]
    pub link_scheme: Vec<LinkScheme>,
    /// Environment variables for the programs.
    #[serde(default)]
    pub environment: Vec<Environment>,
    /// Values in the Windows registry.
    #[serde(default)]
    pub registry: Vec<Registry>,
    /// Programs that Windows runs in the background, even if nobody is signed in.
    #[serde(default)]
    pub service: Vec<Service>,
    /// Manual pages.
    #[serde(default)]
    pub manual: Vec<Manual>,
    /// Shell completions.
    #[serde(default)]
    pub completion: Vec<Completion>,
    /// Fonts for all programs.
    #[serde(default)]
    pub font: Vec<Font>,
    /// Optional parts.
    #[serde(default)]
    pub choice: Vec<Choice>,
    /// How the product is installed.
    #[serde(default)]
    pub install: Install,
    /// The installation wizard.
    #[serde(default)]
    pub wizard: Wizard,
    /// The window that a disk image opens on macOS.
    #[serde(default)]
    pub disk_image: DiskImage,
    /// What the product wants to get at beyond its own files.
    #[serde(default)]
    pub permissions: Permissions,
    /// What only the application bundle on macOS has.
    #[serde(default)]
    pub bundle: Bundle,
    /// The keys that sign.
    #[serde(default)]
    pub signing: Signing,
    /// What is built.
    #[serde(default)]
    pub targets: Targets,
    /// Settings of single formats.
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
    /// The name that users see; spaces are fine.
    pub name: String,
    /// The version; increase it with each release.
    pub version: String,
    /// Who publishes it.
    pub publisher: String,
    /// One line on what it does, without a full stop.
    pub summary: Option<Text>,
    /// A paragraph or more on what it does; an empty line separates paragraphs.
    pub description: Option<String>,
    /// One SVG, or one square PNG of 512 pixels or more; every size and format is made from it.
    pub icon: Option<PerPlatform<String>>,
    /// The product's web page.
    pub homepage: Option<String>,
    /// Where users get help: a web page or an email address.
    pub support: Option<String>,
    /// The licence as an SPDX expression, such as `MIT` or `LicenseRef-proprietary`.
    pub license: Option<String>,
    /// Registered categories of the desktop menu specification, such as `Office`; default `Utility`.
    #[serde(default)]
    pub categories: Vec<String>,
    /// The date of this version's release, such as `2026-11-20`: the date of all files in packages.
    /// Default: SOURCE_DATE_EPOCH, else a fixed date.
    pub released: Option<String>,
}

/// Something that is fetched, or a file elsewhere on this machine. An archive (ZIP, tar, wheel, Java module) is unpacked.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Source {
    /// The name by which layers refer to it: lower-case letters, digits and hyphens.
    pub key: String,
    /// Where it is fetched from: `https://…`, `http://…` or `file:///…`.
    pub url: Option<PerPlatform<String>>,
    /// A file on this machine instead, relative to the manifest.
    pub file: Option<PerPlatform<String>>,
    /// Its SHA-256, in hexadecimal digits; `url` demands it.
    pub sha256: Option<PerPlatform<String>>,
}

/// A set of files.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Layer {
    /// The source that it is made of.
    pub source: Option<String>,
    /// The folder (or single file), relative to the manifest, or within the source; default: all of the source. Files that later
    /// builds add are included.
    pub from: Option<PerPlatform<String>>,
    /// The folder in the payload that it goes into; default: the top.
    pub into: Option<PerPlatform<String>>,
    /// Only files that match one of these patterns. `*.png` matches a name in any folder, `art/**` everything below a folder.
    #[serde(default)]
    pub keep: Vec<String>,
    /// No files that match one of these patterns.
    #[serde(default)]
    pub drop: Vec<String>,
    /// How file modes are set.
    #[serde(default)]
    pub modes: Modes,
    /// Files that are executable regardless of their modes and content: patterns as in `keep`.
    #[serde(default)]
    pub executable: Vec<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A program that users start.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Program {
    /// The name by which other tables refer to it: lower-case letters, digits and hyphens.
    pub key: String,
    /// Its file in the payload; one that runs on a runtime has none.
    pub file: Option<PerPlatform<String>>,
    /// The key of the runtime that it runs on. On Windows it gets a launcher.
    pub runtime: Option<String>,
    /// What the runtime starts.
    pub start: Option<Start>,
    /// Arguments that always come first.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// Environment variables that it is started with; `{install}` stands for the product's own folder.
    #[serde(default)]
    pub environment: BTreeMap<String, String>,
    /// Environment variables that it is started without, whatever the user has set, such as `PYTHONHOME`.
    #[serde(default)]
    pub unset: Vec<String>,
    /// Its working folder: `unchanged` (default), `home`, `install`, or a folder in the payload.
    pub working_folder: Option<String>,
    /// Whether it is a console program.
    #[serde(default)]
    pub console: bool,
    /// The name by which it is started at a command prompt, such as `combwright`. On Windows a folder with a launcher of
    /// that name is added to the `PATH`. Default for installing tar archives: the product's name in lower case, followed
    /// by `-KEY` for all but the main program.
    pub command: Option<String>,
    /// For Windows: a launcher that starts it, such as `Combwright.exe`: a small program with the product's icon, name
    /// and version that passes on arguments, variables and working folder. Shortcuts and links start the launcher.
    pub launcher: Option<String>,
    /// Whether the product's icon, name and version are put into the file, for Windows.
    #[serde(default)]
    pub brand: bool,
    /// Whether branding may remove a signature that the file has; else that is an error.
    #[serde(default)]
    pub drop_signature: bool,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// An entry in the menu, on the desktop, or started at sign-in.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Shortcut {
    /// The program's key.
    pub program: String,
    /// Where it appears; default: the menu.
    pub places: Option<Vec<Place>>,
    /// The name that users see; default: the product's.
    pub name: Option<Text>,
    /// Arguments after the program's own.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// One line on what it does; default: the product's summary.
    pub description: Option<Text>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A file type that a program opens.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct FileType {
    /// The program's key.
    pub program: String,
    /// Extensions, without the dot.
    pub extensions: Vec<String>,
    /// The name that users see, such as `Hive journal`.
    pub name: Text,
    /// The media type, such as `application/vnd.fernhollow.comb`; default: made from the product's id and the first
    /// extension.
    pub mime: Option<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A link scheme that a program opens.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LinkScheme {
    /// The part before the colon: lower-case letters, digits, `+`, `-`, `.`.
    pub scheme: String,
    /// The program's key.
    pub program: String,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// An environment variable for the programs.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Environment {
    /// Its name.
    pub name: String,
    /// The value; `{install}` stands for the product's own folder.
    pub value: PerPlatform<String>,
    /// What happens to an existing value.
    #[serde(default)]
    pub action: EnvironmentAction,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A value in the Windows registry.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Registry {
    /// The part of the registry: `installed` (default: the machine's or the user's, as the product is installed),
    /// `machine` or `user`.
    #[serde(default)]
    pub root: RegistryRoot,
    /// Which programs see it: `own` (default: those of the product's processor) or `32-bit`.
    #[serde(default)]
    pub view: RegistryView,
    /// The key, such as `Software\Fernhollow\Combwright`.
    pub key: String,
    /// The value's name; default: the key's default value.
    pub name: Option<String>,
    /// The value: a text, a whole number, a list of texts, or one of `{ text = "…" }`, `{ expandable = "…" }`,
    /// `{ number = 1 }`, `{ bytes = "00ff" }`, `{ list = ["…"] }`. `{install}` stands for the product's own folder in text.
    pub value: RegistryData,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

/// A registry value, in the shortest form or in one that names its kind.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RegistryData {
    /// `REG_SZ`.
    Text(String),
    /// `REG_DWORD`.
    Number(u32),
    /// `REG_MULTI_SZ`.
    List(Vec<String>),
    /// Of a kind that is named.
    Named(NamedRegistryData),
}

impl RegistryData {
    /// The value; `None` if there is not exactly one.
    pub fn value(&self) -> Option<RegistryValue> {
        match self {
            Self::Text(text) => Some(RegistryValue::Text(text.clone())),
            Self::Number(number) => Some(RegistryValue::Number(*number)),
            Self::List(list) => Some(RegistryValue::List(list.clone())),
            Self::Named(named) => named.value(),
        }
    }
}

/// A registry value whose kind is named: exactly one of these.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NamedRegistryData {
    /// `REG_SZ`.
    pub text: Option<String>,
    /// `REG_EXPAND_SZ`: variables such as `%TEMP%` are put in when it is read.
    pub expandable: Option<String>,
    /// `REG_DWORD`.
    pub number: Option<u32>,
    /// `REG_BINARY`, in hexadecimal digits.
    pub bytes: Option<String>,
    /// `REG_MULTI_SZ`.
    pub list: Option<Vec<String>>,
}

impl NamedRegistryData {
    fn value(&self) -> Option<RegistryValue> {
        let mut all = Vec::new();
        all.extend(self.text.clone().map(RegistryValue::Text));
        all.extend(self.expandable.clone().map(RegistryValue::Expandable));
        all.extend(self.number.map(RegistryValue::Number));
        all.extend(self.bytes.as_ref().map(|b| RegistryValue::Bytes(b.to_lowercase())));
        all.extend(self.list.clone().map(RegistryValue::List));
        if all.len() == 1 { all.pop() } else { None }
    }
}

/// A program that Windows runs in the background, even if nobody is signed in.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Service {
    /// The name that the system uses: no spaces, no slashes.
    pub name: String,
    /// The program's key.
    pub program: String,
    /// The name that users see; default: `name`.
    pub title: Option<String>,
    /// What it does.
    pub description: Option<String>,
    /// Arguments after the program's own.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// When it starts.
    #[serde(default)]
    pub start: ServiceStart,
    /// The account that it runs under; default: the local system.
    pub account: Option<String>,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

/// A manual page, for `man`.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Manual {
    /// Its file in the payload, named after the command and the section: `share/man/combwright.1`, or the same with `.gz`.
    pub file: String,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A shell's completions for a command.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Completion {
    /// The shell.
    pub shell: Shell,
    /// Its file in the payload.
    pub file: String,
    /// The command; default: the main program's.
    pub command: Option<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
}

/// A shell that completes commands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Shell {
    /// bash.
    Bash,
    /// zsh.
    Zsh,
    /// fish.
    Fish,
}

/// A font for all programs.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Font {
    /// Its file in the payload.
    pub file: String,
    /// Its full name, such as `Fernhollow Sans Bold`.
    pub title: String,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

/// An optional part.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Choice {
    /// The name that administrators use: lower-case letters, digits and hyphens.
    pub key: String,
    /// The name that users see.
    pub title: Text,
    /// What it is for.
    pub description: Option<Text>,
    /// Its files: patterns as in a layer's `keep`.
    pub files: Vec<String>,
    /// Whether it is selected by default; default: yes.
    #[serde(default = "yes")]
    pub chosen: bool,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

fn yes() -> bool {
    true
}

/// How the product is installed.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Install {
    /// For whom: `machine` (default: everyone on it), `user` (no administrator needed), or `asked` (the user decides).
    pub scope: Option<Scope>,
    /// The folder below the system's programs folder; default: the product's name.
    pub folder: Option<String>,
    /// The oldest version of macOS that it runs on, such as `11.0`.
    pub minimum_macos: Option<String>,
    /// The oldest version of Windows that it runs on, such as `10.0.17763`.
    pub minimum_windows: Option<String>,
    /// Whether an older version may replace a newer one: `blocked` (default) or `allowed`.
    pub downgrade: Option<Downgrade>,
    /// When an upgrade removes the old version: `early` (default: before the new one is installed) or `late`.
    pub upgrade: Option<Upgrade>,
    /// The program to start after the installation; default: none.
    pub start_at_end: Option<String>,
    /// Files that users may change, as patterns: once changed they are neither replaced nor removed. For setup programs
    /// only.
    #[serde(default)]
    pub keep_changed: Vec<String>,
}

/// The installation wizard.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Wizard {
    /// The pages before the progress page, in a fixed order; at least one. Default: all that apply.
    pub pages: Option<Vec<WizardPage>>,
    /// A text file (UTF-8) with the licence that users have to accept, or one for each language:
    /// `{ en = "LICENSE.txt", de = "LIZENZ.txt" }`; default: no such page.
    pub license: Option<Text>,
    /// Its accent colour, such as `#e8a028`.
    pub accent: Option<String>,
    /// Its languages, such as `["en", "de"]`; the first is used on systems in any other language. Default: these
    /// two.
    pub languages: Option<Vec<String>>,
    /// Texts that replace the built-in ones, by language and key:
    /// `[wizard.words.de]`, `done-text = "…"`. A language other than `en` and `de` needs all of them.
    #[serde(default)]
    pub words: BTreeMap<String, BTreeMap<String, String>>,
}

/// An optional page of the wizard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WizardPage {
    /// What will be installed, and how much space it takes.
    Start,
    /// The licence.
    License,
    /// The folder.
    Folder,
    /// The parts.
    Choices,
}

/// What is built.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Targets {
    /// The package formats; default: `msi` for Windows, `dmg` for macOS, `appimage` for Linux.
    pub build: Option<Vec<TargetName>>,
    /// The platforms; default: those that the layers' folders exist for, or else the one that the tool runs on.
    pub platforms: Option<Vec<Platform>>,
    /// The folder that packages are put into, relative to the manifest; default `packages`.
    pub output: Option<String>,
    /// The packages' names without their extension; default `{name}-{version}-{platform}`.
    pub file_name: Option<String>,
}
