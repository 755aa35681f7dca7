//! The footprint: everything that a product leaves on a machine once installed, as plain data. It is the middle of the
//! program: the manifest is laid out into one, every package format is written from one and read back into one.
//!
//! It must not know the manifest, nor any format.

mod difference;
mod system;
mod text;

use crate::content::ContentHash;
use crate::platform::Platform;
pub use difference::{Change, Difference};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
pub use system::{RegistryRoot, RegistryValue, RegistryView, Service, ServiceStart};
pub use text::bytes as text_bytes;

/// A path inside the product's own folder: names joined with `/`, none of them empty, `.` or `..`.
///
/// A clone shares the text: a product may have very many of them, each in several footprints.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RelPath(Arc<str>);

impl RelPath {
    /// Checks the form.
    ///
    /// # Errors
    /// What is wrong with it, as the end of a sentence.
    pub fn new(path: impl Into<String>) -> Result<Self, &'static str> {
        let path = path.into();
        if path.is_empty() {
            return Err("is empty");
        }
        if path.starts_with('/') {
            return Err("is absolute");
        }
        if path.contains('\0') {
            return Err("contains a zero byte");
        }
        if path.split('/').any(|name| name.is_empty()) {
            return Err("has an empty name in it");
        }
        if path.split('/').any(|name| name == "." || name == "..") {
            return Err("has `.` or `..` in it");
        }
        Ok(Self(path.into()))
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The last name.
    pub fn name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }

    /// The folder that it is in.
    pub fn parent(&self) -> Option<Self> {
        self.0.rsplit_once('/').map(|(parent, _)| Self(parent.into()))
    }

    /// The path below a folder.
    pub fn below(&self, folder: &Self) -> Self {
        Self(format!("{folder}/{self}").into())
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl Serialize for RelPath {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for RelPath {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        Self::new(String::deserialize(d)?).map_err(serde::de::Error::custom)
    }
}

/// Where a shortcut stands: a location by meaning, which each system maps to its own folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// The system's menu of programs.
    Menu,
    /// The desktop.
    Desktop,
    /// Started when the person logs in.
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

/// Where a program is started in.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WorkingFolder {
    /// Where the person stands.
    Unchanged,
    /// The person's home folder.
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum IconForm {
    /// A square picture with so many pixels a side.
    Png(u32),
    /// A drawing.
    Svg,
}

/// One item of what is left on a machine.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "trace")]
pub enum Trace {
    /// A folder in the product's own folder.
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
    /// Something that a person starts.
    Program {
        /// Its key.
        key: String,
        /// Its file.
        file: RelPath,
        /// Arguments that always go first.
        arguments: Vec<String>,
        /// Variables that it is started with; `{install}` stands for the product's own folder.
        environment: BTreeMap<String, String>,
        /// Where it is started in.
        working_folder: WorkingFolder,
        /// Whether it needs a terminal.
        console: bool,
    },
    /// An entry in a menu, on the desktop, or among what starts by itself.
    Shortcut {
        /// Where.
        place: Place,
        /// The name that people read.
        name: String,
        /// The program's key.
        program: String,
        /// Arguments behind the program's own.
        arguments: Vec<String>,
        /// One line on what it does.
        description: Option<String>,
    },
    /// A kind of file that a program opens.
    FileType {
        /// Media type.
        mime: String,
        /// Name endings, without the dot.
        extensions: Vec<String>,
        /// The name that people read.
        name: String,
        /// The program's key.
        program: String,
    },
    /// A kind of link that a program opens.
    LinkScheme {
        /// The part before the colon.
        scheme: String,
        /// The program's key.
        program: String,
    },
    /// A variable for all of the product's programs; where the system can, for all programs.
    Environment {
        /// Its name.
        name: String,
        /// What is done to it.
        action: EnvironmentAction,
        /// The value; `{install}` stands for the product's own folder.
        value: String,
    },
    /// A value in the registry of Windows.
    Registry {
        /// The part of the registry.
        root: RegistryRoot,
        /// Which programs see it.
        view: RegistryView,
        /// The key, with backslashes.
        key: String,
        /// The value's name; `None` for the key's own value.
        name: Option<String>,
        /// The value; `{install}` stands for the product's own folder in text.
        value: RegistryValue,
    },
    /// A program that the system runs without anybody logged in.
    Service(Box<Service>),
    /// A font that all programs can use.
    Font {
        /// Its file.
        file: RelPath,
        /// Its full name, such as `Fernhollow Sans Bold`.
        title: String,
    },
    /// A part that people may leave out.
    Choice {
        /// Its key.
        key: String,
        /// The name that people read.
        title: String,
        /// What it is for.
        description: Option<String>,
        /// Whether it is taken unless somebody says otherwise.
        chosen: bool,
        /// Its files.
        files: Vec<RelPath>,
    },
    /// How the product goes onto a machine: for whom, over which versions, on which systems.
    Rule {
        /// Its name.
        key: String,
        /// What holds.
        value: String,
    },
    /// A picture that stands for the product.
    Icon {
        /// Its form.
        form: IconForm,
        /// Its bytes' hash.
        content: Option<ContentHash>,
    },
}

impl Trace {
    /// The kind's name, as people read it.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Folder { .. } => "folder",
            Self::File { .. } => "file",
            Self::HardLink { .. } => "hard link",
            Self::Link { .. } => "link",
            Self::Program { .. } => "program",
            Self::Shortcut { .. } => "shortcut",
            Self::FileType { .. } => "file type",
            Self::LinkScheme { .. } => "link scheme",
            Self::Environment { .. } => "environment variable",
            Self::Registry { .. } => "registry value",
            Self::Service { .. } => "service",
            Self::Font { .. } => "font",
            Self::Choice { .. } => "choice",
            Self::Rule { .. } => "rule",
            Self::Icon { .. } => "icon",
        }
    }

    /// What tells it from all other traces of a footprint.
    pub fn key(&self) -> TraceKey<'_> {
        let name: Cow<str> = match self {
            Self::Folder { path, .. }
            | Self::File { path, .. }
            | Self::HardLink { path, .. }
            | Self::Link { path, .. } => path.as_str().into(),
            Self::Program { key, .. } => key.into(),
            Self::Shortcut { place, name, .. } => format!("{}: {name}", place.name()).into(),
            Self::FileType { mime, .. } => mime.into(),
            Self::LinkScheme { scheme, .. } => format!("{scheme}:").into(),
            Self::Environment { name, .. } => name.into(),
            // Windows takes names of keys and values without regard to case.
            Self::Registry { root, view, key, name, .. } => {
                let name = name.as_deref().map_or(String::new(), |n| format!("\0{n}"));
                format!("{root:?} {view:?} {key}{name}").to_lowercase().into()
            }
            Self::Service(service) => service.name.to_lowercase().into(),
            Self::Font { file, .. } => file.as_str().into(),
            Self::Choice { key, .. } | Self::Rule { key, .. } => key.into(),
            Self::Icon { form: IconForm::Png(size), .. } => format!("{size:05}").into(),
            Self::Icon { form: IconForm::Svg, .. } => "SVG".into(),
        };
        let order = match self {
            // One name in the tree is one thing, whatever it is.
            Self::Folder { .. } | Self::File { .. } | Self::HardLink { .. } | Self::Link { .. } => 0,
            Self::Program { .. } => 1,
            Self::Shortcut { .. } => 2,
            Self::FileType { .. } => 3,
            Self::LinkScheme { .. } => 4,
            Self::Environment { .. } => 5,
            Self::Registry { .. } => 6,
            Self::Service { .. } => 7,
            Self::Font { .. } => 8,
            Self::Choice { .. } => 9,
            Self::Rule { .. } => 10,
            Self::Icon { .. } => 11,
        };
        TraceKey { order, name }
    }

    /// The path in the product's own folder, of the traces that have one.
    pub fn path(&self) -> Option<&RelPath> {
        match self {
            Self::Folder { path, .. }
            | Self::File { path, .. }
            | Self::HardLink { path, .. }
            | Self::Link { path, .. } => Some(path),
            Self::Program { .. }
            | Self::Shortcut { .. }
            | Self::FileType { .. }
            | Self::LinkScheme { .. }
            | Self::Environment { .. }
            | Self::Registry { .. }
            | Self::Service { .. }
            | Self::Font { .. }
            | Self::Choice { .. }
            | Self::Rule { .. }
            | Self::Icon { .. } => None,
        }
    }
}

/// What tells a trace from all others; its order is that of stable output.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TraceKey<'t> {
    order: u8,
    name: Cow<'t, str>,
}

impl TraceKey<'_> {
    /// The same, for longer than its trace.
    pub fn into_owned(self) -> TraceKey<'static> {
        TraceKey { order: self.order, name: self.name.into_owned().into() }
    }
}

/// Everything that a product leaves on a machine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Footprint {
    /// Who it is.
    pub product: Identity,
    /// The platform, where the package says it.
    pub platform: Option<Platform>,
    traces: Vec<Trace>,
}

impl Footprint {
    /// From traces in any order; of two with the same key the later one stays.
    pub fn new(product: Identity, platform: Option<Platform>, traces: impl IntoIterator<Item = Trace>) -> Self {
        let mut traces: Vec<Trace> = traces.into_iter().collect();
        // Sorting needs room for a half of them.
        if !traces.is_sorted_by(|a, b| a.key() <= b.key()) {
            traces.sort_by(|a, b| a.key().cmp(&b.key()));
        }
        traces.dedup_by(|later, earlier| {
            let same = later.key() == earlier.key();
            if same {
                std::mem::swap(later, earlier);
            }
            same
        });
        traces.shrink_to_fit();
        Self { product, platform, traces }
    }

    /// The traces in stable order: the tree by path, then the rest by kind and name.
    pub fn traces(&self) -> &[Trace] {
        &self.traces
    }

    /// The traces that `keep` keeps or changes.
    pub fn filter_map(&self, keep: impl FnMut(&Trace) -> Option<Trace>) -> Self {
        Self::new(self.product.clone(), self.platform, self.traces.iter().filter_map(keep))
    }

    /// Says what is in the files, once that is known.
    pub fn set_hashes(&mut self, of: impl Fn(&RelPath) -> Option<ContentHash>) {
        for trace in &mut self.traces {
            if let Trace::File { path, content, .. } = trace {
                *content = of(path);
            }
        }
    }

    /// The same without the hashes of contents: what a mere listing can say.
    pub fn without_hashes(&self) -> Self {
        self.filter_map(|t| {
            let mut t = t.clone();
            if let Trace::File { content, .. } | Trace::Icon { content, .. } = &mut t {
                *content = None;
            }
            Some(t)
        })
    }

    /// Plain bytes of all files.
    pub fn size(&self) -> u64 {
        self.traces.iter().map(|t| if let Trace::File { size, .. } = t { *size } else { 0 }).sum()
    }

    /// The program with a key.
    pub fn program(&self, wanted: &str) -> Option<&Trace> {
        self.traces.iter().find(|t| matches!(t, Trace::Program { key, .. } if key == wanted))
    }

    /// The value of a rule.
    pub fn rule(&self, wanted: &str) -> Option<&str> {
        self.traces.iter().find_map(|t| match t {
            Trace::Rule { key, value } if key == wanted => Some(value.as_str()),
            _ => None,
        })
    }

    /// The first program: the one that the product is started with.
    pub fn main_program(&self) -> Option<&str> {
        let menu = self.traces.iter().find_map(|t| match t {
            Trace::Shortcut { place: Place::Menu, program, .. } => Some(program.as_str()),
            _ => None,
        });
        let first = || {
            self.traces.iter().find_map(|t| if let Trace::Program { key, .. } = t { Some(key.as_str()) } else { None })
        };
        // The program named like the product's own entry comes first, then the first in the menu, then the first at all.
        let named = self.traces.iter().find_map(|t| match t {
            Trace::Shortcut { place: Place::Menu, name, program, .. } if Some(name) == self.product.name.as_ref() => {
                Some(program.as_str())
            }
            _ => None,
        });
        named.or(menu).or_else(first)
    }
}
