//! What only macOS has.

use super::Resolver;
use crate::footprint::Trace;

impl Resolver<'_> {
    /// The rules for macOS.
    pub(super) fn macos(&mut self, traces: &mut Vec<Trace>) {
        let Some(version) = &self.project.manifest.install.smallest_macos else { return };
        let parts: Vec<Option<u8>> = version.split('.').map(|p| p.parse().ok()).collect();
        if parts.iter().any(Option::is_none) || !(2..=3).contains(&parts.len()) {
            let what = format!("{version:?} is no version of macOS");
            self.problem("install.smallest-macos", what, "", "smallest-macos = \"11.0\"");
        }
        traces.push(Trace::Rule { key: "smallest-macos".into(), value: version.clone() });
    }
}
