//! Compiled modules (`.pyc`).

use crate::marshal::{Code, Object, Reader};
use crate::{Import, When};
use format_error::{Error, Result};

/// Bytes before the code.
pub const HEADER: usize = 16;
/// Calls within calls: functions in functions.
const DEEPEST: usize = 100;

/// A compiled module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Compiled {
    /// The Python that compiled it, as in 3.`13`.
    pub minor: u8,
    /// What it imports. Nothing is certain: conditions are not looked at.
    pub imports: Vec<Import>,
}

/// What the numbers of instructions are.
struct Numbers {
    import: u8,
    extended: u8,
    constant: u8,
}

/// Which Python has a number at the beginning of a compiled module. Each version's own numbers go on from the one before.
fn minor(magic: u16) -> Option<u8> {
    Some(match magic {
        3400..=3419 => 8,
        3420..=3429 => 9,
        3430..=3449 => 10,
        3450..=3499 => 11,
        3500..=3549 => 12,
        3550..=3599 => 13,
        _ => return None,
    })
}

impl Compiled {
    /// Reads one.
    ///
    /// # Errors
    /// It is none, it is damaged, or it is of another Python than 3.8 to 3.13.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let header = bytes.first_chunk::<HEADER>().ok_or_else(|| Error::at(0, "it ends too early"))?;
        if header[2..4] != *b"\r\n" {
            return Err(Error::at(0, "it is no compiled module"));
        }
        let magic = u16::from_le_bytes([header[0], header[1]]);
        let Some(minor) = minor(magic) else {
            return Err(Error::Unsupported(format!(
                "it is of another Python than 3.8 to 3.13 (its number is {magic})"
            )));
        };
        let numbers = if minor >= 13 {
            Numbers { import: 75, extended: 71, constant: 83 }
        } else {
            Numbers { import: 108, extended: 144, constant: 100 }
        };
        let Object::Code(code) = Reader::new(&bytes[HEADER..], minor >= 11).object(0)? else {
            return Err(Error::at(HEADER, "it holds no code"));
        };
        let mut imports = Vec::new();
        imports_of(&code, &numbers, true, 0, &mut imports)?;
        Ok(Self { minor, imports })
    }
}

/// A compiled module that is taken as it is, whenever its source was changed last (PEP 552): packages give all files one time.
/// `None` for what is none.
pub fn unchecked(bytes: &[u8]) -> Option<Vec<u8>> {
    let header = bytes.first_chunk::<HEADER>().filter(|header| header[2..4] == *b"\r\n")?;
    let mut made = bytes.to_vec();
    // With a hash of the source, which nobody compares.
    if header[4] & 1 == 0 {
        made[8..HEADER].fill(0);
    }
    made[4..8].copy_from_slice(&1u32.to_le_bytes());
    Some(made)
}

fn text(object: Option<&Object>) -> Option<&str> {
    match object {
        Some(Object::Text(text)) => Some(text),
        _ => None,
    }
}

/// The body of a class runs when its module is imported. It begins by telling its name.
fn is_class(code: &Code) -> bool {
    let has = |wanted| code.names.iter().any(|name| text(Some(name)) == Some(wanted));
    has("__module__") && has("__qualname__")
}

fn imports_of(code: &Code, numbers: &Numbers, at_once: bool, depth: usize, all: &mut Vec<Import>) -> Result<()> {
    if depth > DEEPEST {
        return Err(Error::Limit("functions lie in each other deeper than in any module".into()));
    }
    let mut last: [Option<&Object>; 2] = [None, None];
    let mut high = 0usize;
    for pair in code.instructions.as_chunks::<2>().0 {
        let [number, argument] = *pair;
        let argument = usize::from(argument) | high;
        high = 0;
        if number == numbers.extended {
            high = (argument << 8) & 0xffff_ffff;
        } else if number == numbers.constant {
            last = [last[1], code.constants.get(argument)];
        } else if number == numbers.import {
            // The level and the names stand before it as constants.
            let level = if let Some(Object::Number(level)) = last[0] { *level } else { 0 };
            let names = match last[1] {
                Some(Object::Several(names)) => {
                    names.iter().filter_map(|name| text(Some(name))).map(str::to_owned).collect()
                }
                _ => Vec::new(),
            };
            let Some(module) = text(code.names.get(argument)) else { continue };
            let when = if at_once { When::AtOnce } else { When::Called };
            all.push(Import { module: module.to_owned(), level: level.clamp(0, 100) as u32, names, when });
        }
    }
    for constant in code.constants.iter() {
        if let Object::Code(inner) = constant {
            imports_of(inner, numbers, at_once && is_class(inner), depth + 1, all)?;
        }
    }
    Ok(())
}
