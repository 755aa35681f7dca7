//! Paths in the product's folder, with backslashes between their names.

use safe_names::{on_windows, Fault};

/// What in a path would lead out of the folder, or is no name.
pub fn fault(path: &[u16]) -> Option<Fault> {
    path.split(|u| *u == u16::from(b'\\')).find_map(on_windows)
}

/// Whether a path stays in the folder that it is below.
pub fn stays_inside(path: &[u16]) -> bool {
    fault(path).is_none()
}

/// Stands for the product's folder in texts, before that is known.
pub const SIGN: u16 = 1;

/// What a package's path is below the product's folder, which it may name at its beginning; nothing stands for that
/// folder itself. `None` for what leads out of it.
pub fn inside(path: &[u16]) -> Option<&[u16]> {
    let rest = path.strip_prefix(&[SIGN][..]).unwrap_or(path);
    let rest = rest.strip_prefix(&[u16::from(b'\\')][..]).unwrap_or(rest);
    (rest.is_empty() || stays_inside(rest)).then_some(rest)
}
