//! Which names of files a system can hold, and which would lead somewhere else than they say. One rule for all who take
//! names from outside: gathering, extraction, readers, and the heads on customers' machines (so without a standard
//! library, and on UTF-16 units where Windows is meant).
//!
//! The rules of Windows are those that "Naming Files, Paths, and Namespaces" in Microsoft's documentation states.
//!
//! ```
//! use safe_names::{Fault, on_windows};
//! let units = |name: &str| name.encode_utf16().collect::<Vec<_>>();
//! assert_eq!(on_windows(&units("hive.exe")), None);
//! assert_eq!(on_windows(&units("hive.exe:stream")), Some(Fault::Character(':')));
//! assert_eq!(on_windows(&units("COM¹.txt")), Some(Fault::Device("COM¹")));
//! ```
#![no_std]

use core::fmt;

/// Why a name is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It is empty.
    Empty,
    /// It is `.` or `..`: it leads elsewhere.
    Dots,
    /// It has a character that can't be in a name: a separator, a sign of streams, a wildcard, a control character.
    Character(char),
    /// It ends with a dot or a space, which the system cuts off: it would be another name.
    End,
    /// It is the name of a device, with whatever extension.
    Device(&'static str),
    /// It has more than this many units (bytes, or UTF-16 code units on Windows).
    TooLong(usize),
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Empty => f.write_str("a name can't be empty"),
            Self::Dots => f.write_str("`.` and `..` lead to another folder"),
            Self::Character(c) => write!(f, "{c:?} is not allowed in a name"),
            Self::End => f.write_str("a name can't end with a dot or a space"),
            Self::Device(name) => write!(f, "{name} is a device's name"),
            Self::TooLong(most) => write!(f, "a name has at most {most} characters"),
        }
    }
}

/// The longest name of NTFS, HFS+ and APFS, in UTF-16 code units; and of file systems of Linux, in bytes.
pub const LONGEST: usize = 255;

/// Names that Windows keeps for devices, whatever extension they have. The digits of `COM` and `LPT` may be superscripts.
const DEVICES: [&str; 30] = [
    "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$", "COM1", "COM2", "COM3", "COM4", "COM5", "COM6", "COM7", "COM8",
    "COM9", "COM¹", "COM²", "COM³", "LPT1", "LPT2", "LPT3", "LPT4", "LPT5", "LPT6", "LPT7", "LPT8", "LPT9", "LPT¹",
    "LPT²", "LPT³",
];

fn is(unit: u16, c: u8) -> bool {
    unit == u16::from(c)
}

/// What is wrong with a name (no path) on Windows, in UTF-16 code units.
pub fn on_windows(name: &[u16]) -> Option<Fault> {
    let last = name.last().copied();
    if last.is_none() {
        return Some(Fault::Empty);
    }
    if name.len() <= 2 && name.iter().all(|u| is(*u, b'.')) {
        return Some(Fault::Dots);
    }
    for unit in name {
        if *unit < 32 || b"<>:\"/\\|?*".iter().any(|c| is(*unit, *c)) {
            return Some(Fault::Character(char::from(*unit as u8)));
        }
    }
    if last.is_some_and(|u| is(u, b'.') || is(u, b' ')) {
        return Some(Fault::End);
    }
    if name.len() > LONGEST {
        return Some(Fault::TooLong(LONGEST));
    }
    let mut stem = name.split(|u| is(*u, b'.')).next().unwrap_or(name);
    while let Some((_, rest)) = stem.split_last().filter(|(u, _)| is(**u, b' ')) {
        stem = rest;
    }
    let upper = |u: u16| if (97..=122).contains(&u) { u - 32 } else { u };
    let is_device = |device: &&&str| device.encode_utf16().eq(stem.iter().copied().map(upper));
    DEVICES.iter().find(is_device).map(|device| Fault::Device(device))
}

/// What is wrong with a name (no path) on Linux and macOS, which take anything but a slash and a zero byte.
pub fn on_unix(name: &str) -> Option<Fault> {
    match name {
        "" => Some(Fault::Empty),
        "." | ".." => Some(Fault::Dots),
        name if name.len() > LONGEST => Some(Fault::TooLong(LONGEST)),
        name => name.chars().find(|c| matches!(c, '/' | '\0')).map(Fault::Character),
    }
}
