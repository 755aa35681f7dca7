//! The JSON Schema of what commands print, and of types that are a text there.

/// Gives a type that is written as a text its schema.
macro_rules! written_as_text {
    ($type:ty, $name:literal, $pattern:literal, $about:literal) => {
        impl schemars::JsonSchema for $type {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({ "type": "string", "pattern": $pattern, "description": $about })
            }
        }
    };
}

written_as_text!(crate::content::ContentHash, "ContentHash", "^[0-9a-f]{64}$", "A BLAKE3 hash, in hexadecimal digits.");
written_as_text!(
    crate::footprint::RelPath,
    "RelPath",
    "^[^/]",
    "A path below the folder that the product is installed into, with `/` between names."
);
written_as_text!(
    crate::footprint::SystemVersion,
    "SystemVersion",
    r"^[0-9]+(\.[0-9]+){0,2}$",
    "The version of a system: one to three numbers."
);
