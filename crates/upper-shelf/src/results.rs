//! The JSON Schema of what commands print with `--json`: results on standard output, progress on standard error.

use crate::commands::{
    cache, check, compare, demo, icons, init, inspect, keys, plan, preview, runtimes, sign, simulate,
};
use crate::{output, progress};
use schemars::generate::SchemaSettings;
use serde_json::{Map, Value, json};
use upper_shelf_core::extract::Extracted;
use upper_shelf_core::packaging::Built;
use upper_shelf_core::signing::Verdict;
use upper_shelf_core::signing::macos::notary::Notarized;

/// A definition for each command under its name, one for the failure of any of them, one for a line of progress, and those
/// of the types that they are made of.
pub fn schema() -> Value {
    let mut made = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let results = [
        ("init", made.subschema_for::<init::Proposed>()),
        ("check", made.subschema_for::<check::Checked>()),
        ("plan", made.subschema_for::<Vec<plan::Planned>>()),
        ("preview", made.subschema_for::<preview::Preview>()),
        ("build", made.subschema_for::<Vec<Built>>()),
        ("inspect", made.subschema_for::<inspect::Answer>()),
        ("extract", made.subschema_for::<Extracted>()),
        ("compare", made.subschema_for::<compare::Compared>()),
        ("runtimes", made.subschema_for::<Vec<runtimes::OfPlatform>>()),
        ("cache", made.subschema_for::<cache::Answer>()),
        ("icons", made.subschema_for::<icons::Made>()),
        ("sign", made.subschema_for::<sign::Answer>()),
        ("verify", made.subschema_for::<Vec<Verdict>>()),
        ("notarize", made.subschema_for::<Vec<Notarized>>()),
        ("keys", made.subschema_for::<keys::Answer>()),
        ("simulate", made.subschema_for::<simulate::Ready>()),
        ("demo", made.subschema_for::<demo::Demo>()),
        ("failure", made.subschema_for::<output::Failed>()),
        ("progress", made.subschema_for::<progress::Line>()),
    ];
    let mut definitions: Map<String, Value> = results.into_iter().map(|(name, s)| (name.into(), s.into())).collect();
    definitions.extend(made.take_definitions(true));
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What Upper Shelf prints with --json",
        "description": "#/$defs/COMMAND describes a command's result on standard output; #/$defs/failure what any command \
            prints there when it fails, and #/$defs/progress each line of progress on standard error.",
        "$defs": definitions,
    })
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    /// `UPDATE_REFERENCE=1` writes it anew.
    #[test]
    fn the_stored_schema_is_up_to_date() {
        let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/results.schema.json");
        let made = serde_json::to_string_pretty(&super::schema()).expect("JSON") + "\n";
        if std::env::var_os("UPDATE_REFERENCE").is_some() {
            std::fs::write(&file, &made).expect("written");
        }
        let stored = std::fs::read_to_string(&file).unwrap_or_default();
        assert!(
            stored == made,
            "docs/results.schema.json is stale: UPDATE_REFERENCE=1 cargo test -p upper-shelf results"
        );
    }
}
