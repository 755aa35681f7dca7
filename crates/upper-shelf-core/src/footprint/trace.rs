//! One item of a footprint, of any kind: to be shown, compared, or named in a sentence.

use super::{
    Choice, Command, FileType, Font, Foreign, IconImage, Item, LinkScheme, Node, Permission, Program, RegistryEntry,
    Rule, Service, ShellFile, Shortcut, Variable,
};
use schemars::{JsonSchema, Schema, SchemaGenerator};
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
    /// Something that the product wants to get at.
    Permission,
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

/// The type, and what is said of it: its schema, and the way from each kind of item.
///
/// Deriving the schema makes one function of all variants' schemas, which takes minutes to optimise.
macro_rules! traces {
    ($($(#[doc = $doc:literal])+ $variant:ident($type:ident) $name:literal),+ $(,)?) => {
        /// One item.
        #[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
        #[serde(rename_all = "kebab-case", tag = "trace", content = "item")]
        pub enum Trace {
            $($(#[doc = $doc])+ $variant($type)),+
        }

        impl JsonSchema for Trace {
            fn schema_name() -> Cow<'static, str> {
                "Trace".into()
            }

            fn json_schema(generator: &mut SchemaGenerator) -> Schema {
                let items: &[(&str, &str, fn(&mut SchemaGenerator) -> Schema)] =
                    &[$(($name, concat!($($doc),+), SchemaGenerator::subschema_for::<$type>)),+];
                let one = |(name, about, item): &(&str, &str, fn(&mut SchemaGenerator) -> Schema)| {
                    serde_json::json!({
                        "type": "object",
                        "properties": { "trace": { "type": "string", "const": name }, "item": item(generator) },
                        "required": ["trace", "item"],
                        "description": about.trim(),
                    })
                };
                let all: Vec<serde_json::Value> = items.iter().map(one).collect();
                schemars::json_schema!({ "oneOf": all, "description": "One item." })
            }
        }

        $(impl From<$type> for Trace {
            fn from(item: $type) -> Self {
                Self::$variant(item)
            }
        })+
    };
}

traces! {
    /// Something in the product's own folder.
    Node(Node) "node",
    /// Something that a user starts.
    Program(Program) "program",
    /// An entry in a menu, on the desktop, or among what starts by itself.
    Shortcut(Shortcut) "shortcut",
    /// A kind of file that a program opens.
    FileType(FileType) "file-type",
    /// A kind of link that a program opens.
    LinkScheme(LinkScheme) "link-scheme",
    /// A variable.
    Variable(Variable) "variable",
    /// A value in the registry of Windows.
    Registry(RegistryEntry) "registry",
    /// A program that the system runs without anybody logged in.
    Service(Service) "service",
    /// A font that all programs can use.
    Font(Font) "font",
    /// A name under which a program is started at a command prompt.
    Command(Command) "command",
    /// A manual page, or completions of a shell.
    ShellFile(ShellFile) "shell-file",
    /// A part that people may leave out.
    Choice(Choice) "choice",
    /// Something that the product wants to get at.
    Permission(Permission) "permission",
    /// How the product goes onto a machine, or what its bundle says.
    Rule(Rule) "rule",
    /// What another maker's package has besides.
    Foreign(Foreign) "foreign",
    /// A picture that stands for the product.
    Icon(IconImage) "icon",
}

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
            Self::Permission(_) => "permission",
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
            Self::Permission(item) => item.key(),
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
            | Self::Permission(_)
            | Self::Rule(_)
            | Self::Foreign(_)
            | Self::Icon(_) => None,
        }
    }
}
