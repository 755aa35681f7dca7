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
