//! The items that only Windows has.

use super::{Item, Kind};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// The part of the registry that a value stands in.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema, Default,
)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryRoot {
    /// The machine's or the user's, as the product is installed for everyone or for one.
    #[default]
    Installed,
    /// The machine's: `HKEY_LOCAL_MACHINE`.
    Machine,
    /// The user's: `HKEY_CURRENT_USER`.
    User,
}

/// Which programs see a value.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema, Default,
)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryView {
    /// Those of the product's own processor.
    #[default]
    Own,
    /// 32-bit programs.
    #[serde(rename = "32-bit")]
    Bits32,
}

/// A registry value.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryValue {
    /// `REG_SZ`.
    Text(String),
    /// `REG_EXPAND_SZ`: variables such as `%TEMP%` are put in when it is read.
    Expandable(String),
    /// `REG_DWORD`.
    Number(u32),
    /// `REG_BINARY`, in hexadecimal digits.
    Bytes(String),
    /// `REG_MULTI_SZ`.
    List(Vec<String>),
}

/// A value in the registry.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RegistryEntry {
    /// The part of the registry.
    pub root: RegistryRoot,
    /// Which programs see it.
    pub view: RegistryView,
    /// The key, with backslashes.
    pub key: String,
    /// The value's name; `None` for the key's own value.
    pub name: Option<String>,
    /// The value; `{install}` stands for the product's own folder in text.
    pub value: RegistryValue,
}

impl Item for RegistryEntry {
    const KIND: Kind = Kind::Registry;
    /// Windows takes names of keys and values without regard to case.
    fn name(&self) -> Cow<'_, str> {
        let Self { root, view, key, name, .. } = self;
        let name = name.as_deref().map_or(String::new(), |n| format!("\0{n}"));
        format!("{root:?} {view:?} {key}{name}").to_lowercase().into()
    }
}

/// A program that the system runs without anybody logged in.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Service {
    /// The name by which the system knows it.
    pub name: String,
    /// The name that people read.
    pub title: String,
    /// What it does.
    pub description: Option<String>,
    /// The program's key.
    pub program: String,
    /// Arguments behind the program's own.
    pub arguments: Vec<String>,
    /// When it starts.
    pub start: ServiceStart,
    /// The account that it runs as; `None` for the system's own.
    pub account: Option<String>,
}

impl Item for Service {
    const KIND: Kind = Kind::Service;
    fn name(&self) -> Cow<'_, str> {
        self.name.to_lowercase().into()
    }
}

/// When a service starts.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema, Default,
)]
#[serde(rename_all = "kebab-case")]
pub enum ServiceStart {
    /// With the system.
    #[default]
    Automatic,
    /// When somebody asks for it.
    OnDemand,
    /// Never, until somebody changes that.
    Disabled,
}
