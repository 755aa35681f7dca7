//! The kinds of values that traces of Windows have.

use serde::{Deserialize, Serialize};

/// The part of the registry that a value stands in.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema, Default,
)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryRoot {
    /// The machine's or the person's, as the product is installed for everyone or for one.
    #[default]
    Installed,
    /// The machine's: `HKEY_LOCAL_MACHINE`.
    Machine,
    /// The person's: `HKEY_CURRENT_USER`.
    Person,
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
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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

/// A program that the system runs without anybody logged in. It has a place of its own in memory: with very many files
/// the largest kind of trace would set the size of all.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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
