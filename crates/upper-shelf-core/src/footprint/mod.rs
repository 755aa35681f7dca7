//! The footprint: everything that a product leaves on a machine once installed, as plain data. It is the middle of the
//! program: the manifest is laid out into one, every package format is written from one and read back into one.
//!
//! It must not know the manifest, nor any format.
//!
//! | file | what is there |
//! |---|---|
//! | `items` | what every system has: the tree, programs, shortcuts, … |
//! | `system` | what only Windows has: registry, services |
//! | `permissions` | what it wants to get at |
//! | `rules` | how a product goes onto a machine, and what its bundle says |
//! | `foreign` | what packages of other makers hold besides |
//! | `list` | lists of items, in order, each name once |
//! | `words` | texts in several languages |
//! | `trace` | one item of any kind, to show or compare |
//! | `difference`, `text` | what changes from one footprint to another; a footprint as people read it |

mod difference;
mod foreign;
mod identity;
mod items;
mod list;
mod path;
mod permissions;
mod rules;
mod system;
mod text;
mod trace;
mod words;

use crate::content::ContentHash;
use crate::platform::Platform;
pub use difference::{Change, Difference, FieldChange};
pub use foreign::Foreign;
pub use identity::{Identity, file_name_of};
pub use items::{
    Choice, Command, EnvironmentAction, FileType, Font, IconForm, IconImage, LinkScheme, Node, Place, Program,
    ShellFile, ShellFileKind, Shortcut, Variable, WorkingFolder,
};
pub use list::List;
pub use path::RelPath;
pub(crate) use path::relative;
pub use permissions::{Access, Permission};
pub use rules::{BundleRules, Downgrade, InstallRules, JsonText, Rule, Scope, SystemVersion, Upgrade};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
pub use system::{RegistryEntry, RegistryRoot, RegistryValue, RegistryView, Service, ServiceStart};
pub use text::bytes as text_bytes;
pub use trace::{Kind, Trace, TraceKey};
pub use words::Text;

/// Something that a footprint has in a list.
pub trait Item {
    /// Its kind.
    const KIND: Kind;

    /// What tells it from all others of its kind; the order of stable output.
    fn name(&self) -> Cow<'_, str>;

    /// What tells it from everything else in a footprint.
    fn key(&self) -> TraceKey<'_> {
        TraceKey { kind: Self::KIND, name: self.name() }
    }
}

/// Everything that a product leaves on a machine.
///
/// Formats take it apart without `..`, so that a new list makes the compiler name each of them.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Footprint {
    /// Who it is.
    pub product: Identity,
    /// The platform, where the package says it.
    pub platform: Option<Platform>,
    /// Files, folders and links in the product's own folder.
    pub tree: List<Node>,
    /// What people start.
    pub programs: List<Program>,
    /// Entries in menus, on the desktop, among what starts by itself.
    pub shortcuts: List<Shortcut>,
    /// Kinds of files that programs open.
    pub file_types: List<FileType>,
    /// Kinds of links that programs open.
    pub link_schemes: List<LinkScheme>,
    /// Variables.
    pub environment: List<Variable>,
    /// Values in the registry.
    pub registry: List<RegistryEntry>,
    /// What runs without anybody logged in.
    pub services: List<Service>,
    /// Fonts for all programs.
    pub fonts: List<Font>,
    /// Names at a command prompt.
    pub commands: List<Command>,
    /// Manual pages, and completions of shells.
    pub shell_files: List<ShellFile>,
    /// Parts that people may leave out.
    pub choices: List<Choice>,
    /// What the product wants to get at.
    pub permissions: List<Permission>,
    /// Pictures that stand for the product.
    pub icons: List<IconImage>,
    /// How it goes onto a machine.
    pub install: InstallRules,
    /// What its application bundle says besides.
    pub bundle: BundleRules,
    /// What the package of another maker has besides.
    #[serde(skip_serializing_if = "nothing", default)]
    pub foreign: List<Foreign>,
}

fn nothing(list: &List<Foreign>) -> bool {
    list.is_empty()
}

impl Footprint {
    /// Every item of it, in stable order: the tree by path, then the rest by kind and name.
    pub fn traces(&self) -> impl Iterator<Item = Trace> + '_ {
        let Self {
            product: _,
            platform: _,
            tree,
            programs,
            shortcuts,
            file_types,
            link_schemes,
            environment,
            registry,
            services,
            fonts,
            commands,
            shell_files,
            choices,
            permissions,
            icons,
            install,
            bundle,
            foreign,
        } = self;
        let mut rules: Vec<Rule> = install.rules();
        rules.extend(bundle.rules());
        rules.sort();
        let first = tree.traces().chain(programs.traces()).chain(shortcuts.traces()).chain(file_types.traces());
        let second = link_schemes.traces().chain(environment.traces()).chain(registry.traces());
        let third = services.traces().chain(fonts.traces()).chain(commands.traces()).chain(shell_files.traces());
        let third = third.chain(choices.traces()).chain(permissions.traces());
        let last = rules.into_iter().map(Trace::from).chain(foreign.traces()).chain(icons.traces());
        first.chain(second).chain(third).chain(last)
    }

    /// Says what is in the files, once that is known.
    pub fn set_hashes(&mut self, of: impl Fn(&RelPath) -> Option<ContentHash>) {
        for node in self.tree.items_mut() {
            if let Node::File { path, content, .. } = node {
                *content = of(path);
            }
        }
    }

    /// Says how long files are that were changed.
    pub fn set_sizes(&mut self, of: impl Fn(&RelPath) -> Option<u64>) {
        for node in self.tree.items_mut() {
            if let Node::File { path, size, .. } = node {
                *size = of(path).unwrap_or(*size);
            }
        }
    }

    /// The same without hashes of contents: what a mere listing can say.
    pub fn without_hashes(&self) -> Self {
        let mut plain = self.clone();
        plain.set_hashes(|_| None);
        plain.icons.items_mut().iter_mut().for_each(|icon| icon.content = None);
        plain
    }

    /// Bytes of all files.
    pub fn size(&self) -> u64 {
        self.files().map(|(_, size)| size).sum()
    }

    /// The files, with their sizes.
    pub fn files(&self) -> impl Iterator<Item = (&RelPath, u64)> {
        self.tree.iter().filter_map(|n| if let Node::File { path, size, .. } = n { Some((path, *size)) } else { None })
    }

    /// The further names of files, with the files.
    pub fn hard_links(&self) -> impl Iterator<Item = (&RelPath, &RelPath)> {
        self.tree.iter().filter_map(|n| if let Node::HardLink { path, to } = n { Some((path, to)) } else { None })
    }

    /// The program with a key.
    pub fn program(&self, key: &str) -> Option<&Program> {
        self.programs.iter().find(|p| p.key == key)
    }

    /// Whether there is a shortcut in a place.
    pub fn has_shortcut_in(&self, place: Place) -> bool {
        self.shortcuts.iter().any(|s| s.place == place)
    }

    /// The key of the program that the product is started with.
    pub fn main_program(&self) -> Option<&str> {
        let mut menu = self.shortcuts.iter().filter(|s| s.place == Place::Menu);
        // The program named like the product's own entry comes first, then the first in the menu, then the first at all.
        let named = menu.clone().find(|s| self.product.name.as_deref() == Some(s.name.as_str()));
        let shortcut = named.or_else(|| menu.next()).map(|s| s.program.as_str());
        shortcut.or_else(|| self.programs.first().map(|p| p.key.as_str()))
    }
}
