//! Paths inside the product's own folder.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::Arc;

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
            return Err("contains an empty name");
        }
        if path.split('/').any(|name| name == "." || name == "..") {
            return Err("contains `.` or `..`");
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

/// The way from one folder of the payload to another.
pub fn relative(from: &str, to: &str) -> String {
    let parts = |path: &str| path.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect::<Vec<_>>();
    let (from, to) = (parts(from), parts(to));
    let same = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let way: Vec<String> =
        std::iter::repeat_n("..".to_owned(), from.len() - same).chain(to[same..].iter().cloned()).collect();
    if way.is_empty() { ".".to_owned() } else { way.join("/") }
}
