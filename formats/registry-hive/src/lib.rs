//! Registry hives: the files that hold a part of the Windows registry, as packages bring one along.
//!
//! - [`write()`] makes one out of a tree of keys: the same tree gives the same bytes.
//! - [`read()`] takes any, by whomever it was made.
//! - [`check()`] says what is wrong with one that can be read: what systems rely on, and most readers pass over.
//!
//! Source of the format's facts: the published descriptions of the format from the outside ("Windows registry file format
//! specification", M. Suhanov; "Windows NT Registry File format", J. Metz), and hives of others.
//!
//! ```
//! use registry_hive::{Key, Options, Value, kind, read, write};
//! let mut root = Key::new("ROOT");
//! let product = root.make(&["Software", "Fernhollow"]);
//! product.values.push(Value::new("Edition", kind::SZ, registry_hive::text("Honey")));
//! let bytes = write(&root, &Options::default())?;
//! assert_eq!(read(&bytes)?, root);
//! # Ok::<(), registry_hive::Error>(())
//! ```

mod cells;
mod check;
mod read;
mod structs;
mod write;

pub use check::check;
pub use format_error::{Error, Result};
pub use read::{LIMITS, Limits, read, read_within};
pub use structs::kind;
pub use write::{Options, write};

/// A key, with all that is below it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Key {
    /// Its name.
    pub name: String,
    /// Its values, in their order.
    pub values: Vec<Value>,
    /// The keys below it, in the order of their names.
    pub keys: Vec<Key>,
}

/// A value of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Value {
    /// Its name; empty for the key's default value.
    pub name: String,
    /// What it is: one of [`kind`].
    pub kind: u32,
    /// Its bytes.
    pub data: Vec<u8>,
}

impl Key {
    /// One without anything.
    pub fn new(name: &str) -> Self {
        Self { name: name.to_owned(), ..Self::default() }
    }

    /// The key below it at a path, which is made where it is missing. Names are alike whatever their case.
    pub fn make(&mut self, path: &[&str]) -> &mut Self {
        let Some((first, rest)) = path.split_first() else { return self };
        let wanted = upper(first);
        let at = match self.keys.binary_search_by(|key| upper(&key.name).cmp(&wanted)) {
            Ok(at) => at,
            Err(at) => {
                self.keys.insert(at, Self::new(first));
                at
            }
        };
        self.keys[at].make(rest)
    }

    /// The key below it at a path.
    pub fn find(&self, path: &[&str]) -> Option<&Self> {
        let Some((first, rest)) = path.split_first() else { return Some(self) };
        let wanted = upper(first);
        self.keys.iter().find(|key| upper(&key.name) == wanted)?.find(rest)
    }
}

impl Value {
    /// One with all that it has.
    pub fn new(name: &str, kind: u32, data: Vec<u8>) -> Self {
        Self { name: name.to_owned(), kind, data }
    }

    /// Its text, of a value that is one; what stands behind a zero is no part of it.
    pub fn text(&self) -> Option<String> {
        if ![kind::SZ, kind::EXPAND_SZ, kind::LINK].contains(&self.kind) {
            return None;
        }
        let units = units(&self.data);
        let end = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
        Some(String::from_utf16_lossy(&units[..end]))
    }

    /// Its texts, of a value that has several.
    pub fn texts(&self) -> Option<Vec<String>> {
        let units = (self.kind == kind::MULTI_SZ).then(|| units(&self.data))?;
        let all = units.split(|unit| *unit == 0).take_while(|text| !text.is_empty());
        Some(all.map(String::from_utf16_lossy).collect())
    }

    /// Its number, of a value that is one.
    pub fn number(&self) -> Option<u64> {
        match (self.kind, self.data.len()) {
            (kind::DWORD, 4) | (kind::QWORD, 8) => {
                Some(self.data.iter().rev().fold(0, |all, byte| all << 8 | u64::from(*byte)))
            }
            (kind::DWORD_BIG_ENDIAN, 4) => Some(self.data.iter().fold(0, |all, byte| all << 8 | u64::from(*byte))),
            _ => None,
        }
    }
}

fn units(data: &[u8]) -> Vec<u16> {
    data.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit)).collect()
}

/// The bytes of a text, with the zero at its end.
pub fn text(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

/// The bytes of several texts, with the zeros at their ends.
pub fn texts(all: &[&str]) -> Vec<u8> {
    let mut out: Vec<u8> = all.iter().flat_map(|one| text(one)).collect();
    out.extend([0, 0]);
    out
}

/// A name as names are compared: each unit of UTF-16 becomes its capital letter, if that is one unit. (The system has a table
/// of its own for this; it is taken to be Unicode's.)
pub(crate) fn upper(name: &str) -> Vec<u16> {
    name.encode_utf16().map(upper_unit).collect()
}

fn upper_unit(unit: u16) -> u16 {
    let Some(letter) = char::from_u32(unit.into()) else { return unit };
    let mut capital = letter.to_uppercase();
    match (capital.next().map(u32::from), capital.next()) {
        (Some(one), None) => u16::try_from(one).unwrap_or(unit),
        _ => unit,
    }
}

/// The hash of a name in lists of keys.
pub(crate) fn hash(name: &str) -> u32 {
    upper(name).into_iter().fold(0, |all: u32, unit| all.wrapping_mul(37).wrapping_add(unit.into()))
}
