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
