//! The items of a footprint that every system has.

use super::{Item, Kind, RelPath, Text};
use crate::content::ContentHash;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

/// Where a shortcut stands: a location by meaning, which each system maps to its own folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// The system's menu of programs.
    Menu,
    /// The desktop.
    Desktop,
    /// Started when the user logs in.
    Startup,
}

impl Place {
    /// Its name in manifests.
    pub fn name(self) -> &'static str {
        match self {
            Self::Menu => "menu",
            Self::Desktop => "desktop",
            Self::Startup => "startup",
        }
    }
}

/// Where a program is started in.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WorkingFolder {
    /// Where the user stands.
    Unchanged,
    /// The user's home folder.
    Home,
    /// The product's own folder.
    Install,
    /// A folder in it.
    Inside(RelPath),
}

/// What an environment trace does to a variable.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema, Default,
)]
#[serde(rename_all = "kebab-case")]
pub enum EnvironmentAction {
    /// Gives it this value.
    #[default]
    Set,
    /// Puts this value in front of what is there, with the system's separator between.
    Prepend,
    /// Puts this value behind what is there.
    Append,
}

/// The form of an icon.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IconForm {
    /// A square picture with so many pixels a side.
    Png(u32),
    /// A drawing.
    Svg,
}

/// Something in the product's own folder. One name there is one thing, whatever it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Node {
    /// A folder.
    Folder {
        /// Where.
        path: RelPath,
        /// Permission bits.
        mode: u32,
    },
    /// A file.
    File {
        /// Where.
        path: RelPath,
        /// Permission bits.
        mode: u32,
        /// Bytes.
        size: u64,
        /// Its bytes' hash; `None` where only a listing was made.
        #[serde(skip_serializing_if = "Option::is_none", default)]
        content: Option<ContentHash>,
    },
    /// One more name of a file.
    HardLink {
        /// Where.
        path: RelPath,
        /// The file.
        to: RelPath,
    },
    /// A symbolic link.
    Link {
        /// Where.
        path: RelPath,
        /// Relative to the link's folder; stays inside the product's own folder.
        target: String,
    },
}

impl Node {
    /// Where it is.
    pub fn path(&self) -> &RelPath {
        match self {
            Self::Folder { path, .. }
            | Self::File { path, .. }
            | Self::HardLink { path, .. }
            | Self::Link { path, .. } => path,
        }
    }

    /// The same, to be changed.
    pub fn path_mut(&mut self) -> &mut RelPath {
        match self {
            Self::Folder { path, .. }
            | Self::File { path, .. }
            | Self::HardLink { path, .. }
            | Self::Link { path, .. } => path,
        }
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        matches!(self, Self::Folder { .. })
    }
}

/// Something that a user starts.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Program {
    /// Its key.
    pub key: String,
    /// Its file.
    pub file: RelPath,
    /// Arguments that always go first.
    pub arguments: Vec<String>,
    /// Variables that it is started with; `{install}` stands for the product's own folder.
    pub environment: BTreeMap<String, String>,
    /// Variables that it is started without.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub unset: BTreeSet<String>,
    /// Where it is started in.
    pub working_folder: WorkingFolder,
    /// Whether it needs a terminal.
    pub console: bool,
}

impl Program {
    /// One that is started as it is.
    pub fn plain(key: impl Into<String>, file: RelPath) -> Self {
        Self {
            key: key.into(),
            file,
            arguments: Vec::new(),
            environment: BTreeMap::new(),
            unset: BTreeSet::new(),
            working_folder: WorkingFolder::Unchanged,
            console: false,
        }
    }

    /// Whether its file alone says how it is started.
    pub fn is_plain(&self) -> bool {
        let Self { key: _, file: _, arguments, environment, unset, working_folder, console: _ } = self;
        let has_no_variables = environment.is_empty() && unset.is_empty();
        arguments.is_empty() && has_no_variables && *working_folder == WorkingFolder::Unchanged
    }
}

/// An entry in a menu, on the desktop, or among what starts by itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Shortcut {
    /// Where.
    pub place: Place,
    /// The name that people read.
    pub name: Text,
    /// The program's key.
    pub program: String,
    /// Arguments behind the program's own.
    pub arguments: Vec<String>,
    /// One line on what it does.
    pub description: Option<Text>,
}

/// A kind of file that a program opens.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FileType {
    /// Media type.
    pub mime: String,
    /// Name endings, without the dot.
    pub extensions: Vec<String>,
    /// The name that people read.
    pub name: Text,
    /// The program's key.
    pub program: String,
}

/// A kind of link that a program opens.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LinkScheme {
    /// The part before the colon.
    pub scheme: String,
    /// The program's key.
    pub program: String,
}

/// A variable for all of the product's programs; where the system can, for all programs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// What is done to it.
    pub action: EnvironmentAction,
    /// The value; `{install}` stands for the product's own folder.
    pub value: String,
}

/// A font that all programs can use.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Font {
    /// Its file.
    pub file: RelPath,
    /// Its full name, such as `Fernhollow Sans Bold`.
    pub title: String,
}

/// A name under which a program is started at a command prompt.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Command {
    /// The name.
    pub name: String,
    /// The program's key.
    pub program: String,
}

/// Who looks for a [`ShellFile`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ShellFileKind {
    /// `man`: a page of the manual.
    Manual,
    /// The shell `bash`: completions.
    Bash,
    /// The shell `zsh`: completions.
    Zsh,
    /// The shell `fish`: completions.
    Fish,
}

impl ShellFileKind {
    /// The name, as in the manifest.
    pub fn name(self) -> &'static str {
        match self {
            Self::Manual => "manual",
            Self::Bash => "bash",
            Self::Zsh => "zsh",
            Self::Fish => "fish",
        }
    }
}

/// A file that a shell or the reader of manuals finds by the name of a command.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ShellFile {
    /// Who looks for it.
    pub kind: ShellFileKind,
    /// What it is found by: a command, or a page with its section such as `combwright.1`.
    pub name: String,
    /// The file.
    pub file: RelPath,
}

/// A part that people may leave out.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Choice {
    /// Its key.
    pub key: String,
    /// The name that people read.
    pub title: Text,
    /// What it is for.
    pub description: Option<Text>,
    /// Whether it is selected by default.
    pub chosen: bool,
    /// Its files.
    pub files: Vec<RelPath>,
}

/// A picture that stands for the product.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct IconImage {
    /// Its form.
    pub form: IconForm,
    /// Its bytes' hash.
    pub content: Option<ContentHash>,
}

impl Item for Node {
    const KIND: Kind = Kind::Node;
    fn name(&self) -> Cow<'_, str> {
        self.path().as_str().into()
    }
}

impl Item for Program {
    const KIND: Kind = Kind::Program;
    fn name(&self) -> Cow<'_, str> {
        self.key.as_str().into()
    }
}

impl Item for Shortcut {
    const KIND: Kind = Kind::Shortcut;
    fn name(&self) -> Cow<'_, str> {
        format!("{}: {}", self.place.name(), self.name).into()
    }
}

impl Item for FileType {
    const KIND: Kind = Kind::FileType;
    fn name(&self) -> Cow<'_, str> {
        self.mime.as_str().into()
    }
}

impl Item for LinkScheme {
    const KIND: Kind = Kind::LinkScheme;
    fn name(&self) -> Cow<'_, str> {
        format!("{}:", self.scheme).into()
    }
}

impl Item for Variable {
    const KIND: Kind = Kind::Variable;
    fn name(&self) -> Cow<'_, str> {
        self.name.as_str().into()
    }
}

impl Item for Font {
    const KIND: Kind = Kind::Font;
    fn name(&self) -> Cow<'_, str> {
        self.file.as_str().into()
    }
}

impl Item for Command {
    const KIND: Kind = Kind::Command;
    fn name(&self) -> Cow<'_, str> {
        self.name.as_str().into()
    }
}

impl Item for ShellFile {
    const KIND: Kind = Kind::ShellFile;
    fn name(&self) -> Cow<'_, str> {
        format!("{} {}", self.kind.name(), self.name).into()
    }
}

impl Item for Choice {
    const KIND: Kind = Kind::Choice;
    fn name(&self) -> Cow<'_, str> {
        self.key.as_str().into()
    }
}

impl Item for IconImage {
    const KIND: Kind = Kind::Icon;
    fn name(&self) -> Cow<'_, str> {
        match self.form {
            IconForm::Png(size) => format!("{size:05}").into(),
            IconForm::Svg => "SVG".into(),
        }
    }
}
