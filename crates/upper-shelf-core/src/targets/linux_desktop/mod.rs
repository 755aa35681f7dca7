//! What a Linux desktop reads: desktop entries, icon theme files, software-centre metadata, MIME packages. Written from
//! a footprint as small files below one folder, and read back from them.
//!
//! Sources: the freedesktop.org specifications Desktop Entry 1.5, Icon Theme, Shared MIME-info, and AppStream.

mod read;
mod text;
mod write;

use super::Loss;
use crate::footprint::{Identity, Place};
use std::collections::BTreeMap;

pub use read::{Desktop, read};
pub use write::write;

/// Small files by their path below `share/`.
pub type Files = BTreeMap<String, Vec<u8>>;

const FOLDERS: [(Place, &str); 3] =
    [(Place::Menu, "applications"), (Place::Desktop, "desktop"), (Place::Startup, "autostart")];

/// Fills in what software-centre metadata must have.
pub fn complete(identity: &Identity) -> (Identity, Vec<Loss>) {
    let mut whole = identity.clone();
    let mut made = Vec::new();
    let name = whole.name.clone().unwrap_or_else(|| "Unnamed".into());
    let mut fill = |slot: &mut Option<String>, key: &str, value: String, what: &str| {
        if slot.is_none() {
            made.push(Loss {
                what: format!("no {key}"),
                why: format!("software centres need one: {what} is used instead"),
            });
            *slot = Some(value);
        }
    };
    let mut summary = whole.summary.as_ref().map(|s| s.as_str().to_owned());
    fill(&mut summary, "summary", name, "the name");
    let summary = summary.unwrap_or_default();
    fill(&mut whole.description, "description", format!("{summary}."), "the summary");
    whole.summary.get_or_insert_with(|| summary.clone().into());
    fill(&mut whole.license, "license", "LicenseRef-proprietary".into(), "LicenseRef-proprietary");
    (whole, made)
}

/// The identity's categories as entries can hold them: carried names are the registered or marked ones.
pub fn carried_categories(identity: &Identity) -> Vec<String> {
    identity.categories.iter().map(|c| write::category(c)).collect()
}
