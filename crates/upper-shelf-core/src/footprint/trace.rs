//! One item of a footprint, of any kind: to be shown, compared, or named in a sentence.

use super::{
    Choice, Command, FileType, Font, Foreign, IconImage, Item, LinkScheme, Node, Program, RegistryEntry, Rule, Service,
    ShellFile, Shortcut, Variable,
};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// The kinds of items, in stable order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// Something in the product's own folder.
    Node,
    /// A program.
    Program,
    /// A shortcut.
    Shortcut,
    /// A kind of file.
    FileType,
    /// A kind of link.
    LinkScheme,
    /// An environment variable.
    Variable,
    /// A registry value.
    Registry,
    /// A service.
    Service,
    /// A font.
    Font,
    /// A name at a command prompt.
    Command,
    /// A manual page, or completions of a shell.
    ShellFile,
    /// A part that may be left out.
    Choice,
    /// A rule.
    Rule,
    /// What has no place of its own.
    Foreign,
    /// A picture.
    Icon,
}

/// What tells an item from all others of a footprint; its order is that of stable output.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TraceKey<'t> {
    pub(super) kind: Kind,
    pub(super) name: Cow<'t, str>,
}

impl TraceKey<'_> {
    /// The same, for longer than its item.
    pub fn into_owned(self) -> TraceKey<'static> {
        TraceKey { kind: self.kind, name: self.name.into_owned().into() }
    }
}

/// One item.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "trace", content = "item")]
pub enum Trace {
    /// Something in the product's own folder.
    Node(Node),
    /// Something that a user starts.
    Program(Program),
    /// An entry in a menu, on the desktop, or among what starts by itself.
    Shortcut(Shortcut),
    /// A kind of file that a program opens.
    FileType(FileType),
    /// A kind of link that a program opens.
    LinkScheme(LinkScheme),
    /// A variable.
    Variable(Variable),
    /// A value in the registry of Windows.
    Registry(RegistryEntry),
    /// A program that the system runs without anybody logged in.
    Service(Service),
    /// A font that all programs can use.
    Font(Font),
    /// A name under which a program is started at a command prompt.
    Command(Command),
    /// A manual page, or completions of a shell.
    ShellFile(ShellFile),
    /// A part that people may leave out.
    Choice(Choice),
    /// How the product goes onto a machine, or what its bundle says.
    Rule(Rule),
    /// What another maker's package has besides.
    Foreign(Foreign),
    /// A picture that stands for the product.
    Icon(IconImage),
}

macro_rules! from {
    ($($variant:ident $type:ident),+) => {
        $(impl From<$type> for Trace {
            fn from(item: $type) -> Self {
                Self::$variant(item)
            }
        })+
    };
}
from!(
    Node Node, Program Program, Shortcut Shortcut, FileType FileType, LinkScheme LinkScheme, Variable Variable,
    Registry RegistryEntry, Service Service, Font Font, Command Command, ShellFile ShellFile, Choice Choice, Rule Rule, Foreign Foreign, Icon IconImage
);

impl Trace {
    /// The kind's name, as people read it.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Node(Node::Folder { .. }) => "folder",
            Self::Node(Node::File { .. }) => "file",
            Self::Node(Node::HardLink { .. }) => "hard link",
            Self::Node(Node::Link { .. }) => "link",
            Self::Program(_) => "program",
            Self::Shortcut(_) => "shortcut",
            Self::FileType(_) => "file type",
            Self::LinkScheme(_) => "link scheme",
            Self::Variable(_) => "environment variable",
            Self::Registry(_) => "registry value",
            Self::Service(_) => "service",
            Self::Font(_) => "font",
            Self::Command(_) => "command",
            Self::ShellFile(ShellFile { kind: super::ShellFileKind::Manual, .. }) => "manual page",
            Self::ShellFile(_) => "completion",
            Self::Choice(_) => "choice",
            Self::Rule(_) => "rule",
            Self::Foreign(_) => "further item",
            Self::Icon(_) => "icon",
        }
    }

    /// What tells it from all other items of a footprint.
    pub fn key(&self) -> TraceKey<'_> {
        match self {
            Self::Node(item) => item.key(),
            Self::Program(item) => item.key(),
            Self::Shortcut(item) => item.key(),
            Self::FileType(item) => item.key(),
            Self::LinkScheme(item) => item.key(),
            Self::Variable(item) => item.key(),
            Self::Registry(item) => item.key(),
            Self::Service(item) => item.key(),
            Self::Font(item) => item.key(),
            Self::Command(item) => item.key(),
            Self::ShellFile(item) => item.key(),
            Self::Choice(item) => item.key(),
            Self::Rule(item) => item.key(),
            Self::Foreign(item) => item.key(),
            Self::Icon(item) => item.key(),
        }
    }

    /// The path in the product's own folder, of the items that have one.
    pub fn path(&self) -> Option<&super::RelPath> {
        match self {
            Self::Node(node) => Some(node.path()),
            Self::Program(_)
            | Self::Shortcut(_)
            | Self::FileType(_)
            | Self::LinkScheme(_)
            | Self::Variable(_)
            | Self::Registry(_)
            | Self::Service(_)
            | Self::Font(_)
            | Self::Command(_)
            | Self::ShellFile(_)
            | Self::Choice(_)
            | Self::Rule(_)
            | Self::Foreign(_)
            | Self::Icon(_) => None,
        }
    }
}
