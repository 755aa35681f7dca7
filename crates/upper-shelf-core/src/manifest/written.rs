//! The manifest as people write it. These types are the one source of its form: the checks, the JSON Schema and the
//! reference page are made from them, and their doc comments are the reference's text.

pub use super::formats::{
    AppimageSettings, Bundle, DiskImage, DiskImageFile, DmgSettings, ListValue, MsiSettings, NsisSettings,
    PortableSettings, TarSettings, TargetSettings, ZipSettings,
};
use crate::footprint::{
    Downgrade, EnvironmentAction, Place, RegistryRoot, RegistryValue, RegistryView, Scope, ServiceStart, Upgrade,
};
use crate::payload::Modes;
use crate::platform::{Platform, Selector};
use crate::settings::TargetName;
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
    /// Values in the registry of Windows.
    #[serde(default)]
    pub registry: Vec<Registry>,
    /// Programs that Windows runs without anybody logged in.
    #[serde(default)]
    pub service: Vec<Service>,
    /// Fonts for all programs.
    #[serde(default)]
    pub font: Vec<Font>,
    /// Parts that people may leave out.
    #[serde(default)]
    pub choice: Vec<Choice>,
    /// How the product goes onto a machine.
    #[serde(default)]
    pub install: Install,
    /// The pages on which people install it.
    #[serde(default)]
    pub wizard: Wizard,
    /// The window that a disk image opens on macOS.
    #[serde(default)]
    pub disk_image: DiskImage,
    /// What the application bundle says of the product on macOS.
    #[serde(default)]
    pub bundle: Bundle,
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
    /// Files that may be started whatever their modes and their content say: patterns as in `keep`.
    #[serde(default)]
    pub executable: Vec<String>,
    /// Only for these platforms; default: all.
    pub platforms: Option<Vec<Selector>>,
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
    /// For Windows: a launcher that starts it, such as `Combwright.exe`: a small program with the product's icon, name
    /// and version that passes on arguments, variables and working folder. Shortcuts and links start the launcher.
    pub launcher: Option<String>,
    /// Whether the product's icon, name and version are put into the file, for Windows; a signature in it is dropped.
    #[serde(default)]
    pub brand: bool,
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

/// A value in the registry of Windows.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Registry {
    /// The part of the registry: `installed` (default: the machine's or the person's, as the product is installed),
    /// `machine` or `person`.
    #[serde(default)]
    pub root: RegistryRoot,
    /// Which programs see it: `own` (default: those of the product's processor) or `32-bit`.
    #[serde(default)]
    pub view: RegistryView,
    /// The key, such as `Software\Fernhollow\Combwright`.
    pub key: String,
    /// The value's name; default: the key's own value.
    pub name: Option<String>,
    /// The value: `{ text = "…" }`, `{ expandable = "…" }`, `{ number = 1 }`, `{ bytes = "00ff" }` or
    /// `{ list = ["…"] }`; `{install}` stands for the product's own folder in text.
    pub value: RegistryData,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

/// A registry value: exactly one of these.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RegistryData {
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

impl RegistryData {
    /// The value; `None` if there is not exactly one.
    pub fn value(&self) -> Option<RegistryValue> {
        let mut all = Vec::new();
        all.extend(self.text.clone().map(RegistryValue::Text));
        all.extend(self.expandable.clone().map(RegistryValue::Expandable));
        all.extend(self.number.map(RegistryValue::Number));
        all.extend(self.bytes.as_ref().map(|b| RegistryValue::Bytes(b.to_lowercase())));
        all.extend(self.list.clone().map(RegistryValue::List));
        if all.len() == 1 { all.pop() } else { None }
    }
}

/// A program that Windows runs without anybody logged in.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Service {
    /// The name by which the system knows it: no spaces, no slashes.
    pub name: String,
    /// The program's key.
    pub program: String,
    /// The name that people read; default: `name`.
    pub title: Option<String>,
    /// What it does.
    pub description: Option<String>,
    /// Arguments behind the program's own.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// When it starts.
    #[serde(default)]
    pub start: ServiceStart,
    /// The account that it runs as; default: the system's own.
    pub account: Option<String>,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
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

/// A part that people may leave out.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Choice {
    /// The name by which administrators mean it: letters, digits and dashes.
    pub key: String,
    /// The name that people read.
    pub title: String,
    /// What it is for.
    pub description: Option<String>,
    /// Its files: patterns as in a layer's `keep`.
    pub files: Vec<String>,
    /// Whether it is taken unless somebody says otherwise; default: yes.
    #[serde(default = "yes")]
    pub chosen: bool,
    /// Only for these platforms; default: all of Windows.
    pub platforms: Option<Vec<Selector>>,
}

fn yes() -> bool {
    true
}

/// How the product goes onto a machine.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Install {
    /// For whom: `machine` (default: everyone on it), `person` (no administrator needed), or `asked`.
    pub scope: Option<Scope>,
    /// The folder below the system's folder of programs; default: the product's name.
    pub folder: Option<String>,
    /// The smallest version of macOS, such as `11.0`.
    pub smallest_macos: Option<String>,
    /// The smallest version of Windows, such as `10.0.17763`.
    pub smallest_windows: Option<String>,
    /// Whether an older version may replace a newer one: `blocked` (default) or `allowed`.
    pub downgrade: Option<Downgrade>,
    /// When an upgrade takes the old version away: `early` (default: before the new one comes) or `late`.
    pub upgrade: Option<Upgrade>,
    /// The program to start when people have installed it; default: none.
    pub start_at_end: Option<String>,
    /// Files that people may change, as patterns: once changed they are neither replaced nor removed. Setup programs
    /// heed it.
    #[serde(default)]
    pub keep_changed: Vec<String>,
}

/// The pages on which people install it.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Wizard {
    /// The pages before the progress, in their own order; at least one. Default: all that there is something to say on.
    pub pages: Option<Vec<WizardPage>>,
    /// A text file (UTF-8) with the licence that people have to agree to; default: no such page.
    pub license: Option<String>,
    /// The colour of its lines, such as `#e8a028`.
    pub accent: Option<String>,
    /// Its languages, such as `["en", "de"]`; the first is for systems whose own is not among them. Default: both of
    /// these.
    pub languages: Option<Vec<String>>,
    /// Words in place of those that come with this program, by language and key:
    /// `[wizard.words.de]`, `done-text = "…"`. A language other than `en` and `de` needs all of them.
    #[serde(default)]
    pub words: BTreeMap<String, BTreeMap<String, String>>,
}

/// A page of the wizard that may be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WizardPage {
    /// What will happen, and how much space it takes.
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
    /// The package formats; default: `appimage` for Linux, `zip` for the others.
    pub build: Option<Vec<TargetName>>,
    /// The platforms; default: those that the layers' folders exist for, else the one this is run on.
    pub platforms: Option<Vec<Platform>>,
    /// The folder that packages are put into, relative to the manifest; default `packages`.
    pub output: Option<String>,
    /// The packages' names without their ending; default `{name}-{version}-{platform}`.
    pub file_name: Option<String>,
}
