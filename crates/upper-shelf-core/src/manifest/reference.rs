//! The JSON Schema and the reference page, made from the written types: neither can say anything else than the code.

use super::written::Manifest;
use crate::problem::Code;
use serde_json::Value;
use std::fmt::Write;

/// The JSON Schema of `shelf.toml`, for editors.
pub fn json_schema() -> String {
    let mut schema = schemars::schema_for!(Manifest).to_value();
    schema["title"] = "shelf.toml".into();
    let mut text = serde_json::to_string_pretty(&schema).unwrap_or_default();
    text.push('\n');
    text
}

/// The reference page, as Markdown.
pub fn page() -> String {
    let schema = schemars::schema_for!(Manifest).to_value();
    let mut out = String::from(
        "# The manifest `shelf.toml`: every table and key\n\n\
         This page is generated from the program's own types (`cargo test` fails when it is stale; \
         `UPDATE_REFERENCE=1 cargo test -p upper-shelf-core --test reference` writes it anew).\n\n\
         - Any text may hold `{version}`, `{platform}`, and `{env:NAME}` for an environment variable (one that is not set \
         is an error). Its value goes into packages as plain text and is shown like any other: no password belongs there.\n\
         - **per platform** means: one value for all, or a table with one for each system or platform, \
         `{ windows = \"a.exe\", linux = \"bin/a\" }`; the most exact name wins.\n\
         - **per language** means: one text for all, or a table with one for each language, `{ en = \"Pictures\", \
         de = \"Bilder\" }`.\n\
         - Platforms: ",
    );
    let names: Vec<String> = crate::platform::Platform::ALL.iter().map(|p| format!("`{p}`")).collect();
    let _ = writeln!(out, "{}; systems: `windows`, `macos`, `linux`.\n", names.join(", "));
    let definitions = &schema["$defs"];
    tables(&mut out, &schema, "", definitions);
    out
}

/// The page that explains the codes of problems, as Markdown.
pub fn problems_page() -> String {
    let mut out = String::from(
        "# Problems by their codes\n\n\
         With `--json` each problem has a `code`, which stays the same while its sentences may change. This page is generated \
         from the program (`cargo test` fails when it is stale).\n\n| code | what it means |\n|---|---|\n",
    );
    for code in Code::ALL {
        let _ = writeln!(out, "| `{}` | {} |", code.name(), code.about());
    }
    out
}

fn resolve<'s>(mut schema: &'s Value, definitions: &'s Value) -> &'s Value {
    loop {
        if let Some(name) = schema.get("$ref").and_then(Value::as_str).and_then(|r| r.strip_prefix("#/$defs/")) {
            schema = &definitions[name];
            continue;
        }
        // A table that may be left out.
        let choices = schema.get("anyOf").and_then(Value::as_array);
        let table = choices.filter(|all| all.iter().any(|one| one["type"] == "null")).and_then(|all| all.first());
        if let Some(table) = table.filter(|table| table.get("$ref").is_some()) {
            let inner = resolve(table, definitions);
            if inner.get("properties").is_some() {
                return inner;
            }
        }
        match schema.get("allOf").and_then(Value::as_array).and_then(|a| a.first()) {
            Some(first) => schema = first,
            None => return schema,
        }
    }
}

/// A section for each table in `schema`, depth first.
fn tables(out: &mut String, schema: &Value, path: &str, definitions: &Value) {
    for (key, property) in schema["properties"].as_object().into_iter().flatten() {
        let list = property.get("items").is_some();
        let inner = resolve(property.get("items").unwrap_or(property), definitions);
        if inner.get("properties").is_none() {
            continue;
        }
        let name = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
        let heading = if list { format!("[[{name}]]") } else { format!("[{name}]") };
        let about =
            property.get("description").or(inner.get("description")).and_then(Value::as_str).unwrap_or_default();
        let _ = writeln!(out, "## `{heading}`\n\n{}\n", one_line(about));
        let required: Vec<&str> =
            inner["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let plain: Vec<(&String, &Value)> = inner["properties"]
            .as_object()
            .into_iter()
            .flatten()
            .filter(|(_, p)| resolve(p, definitions).get("properties").is_none())
            .collect();
        if !plain.is_empty() {
            out.push_str("| key | form | what it is |\n|---|---|---|\n");
            for (key, property) in plain {
                let must = if required.contains(&key.as_str()) { ", **required**" } else { "" };
                let about = property.get("description").and_then(Value::as_str).unwrap_or_default();
                let _ = writeln!(
                    out,
                    "| `{key}` | {}{must} | {} |",
                    form(property, definitions),
                    one_line(about).replace('|', "\\|")
                );
            }
            out.push('\n');
        }
        tables(out, inner, &name, definitions);
    }
}

fn form(property: &Value, definitions: &Value) -> String {
    let schema = resolve(property, definitions);
    let choices = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array);
    if let Some(choices) = choices {
        let constants: Vec<String> = choices
            .iter()
            .filter_map(|c| c.get("const"))
            .map(|c| format!("`{}`", c.as_str().unwrap_or_default()))
            .collect();
        if !constants.is_empty() {
            return constants.join(" or ");
        }
        let real: Vec<&Value> = choices.iter().filter(|c| c.get("type").is_none_or(|t| t != "null")).collect();
        let per_platform = real.iter().any(|c| c.get("additionalProperties") == Some(&Value::Bool(false)));
        let first = real.first().map_or_else(String::new, |c| form(c, definitions));
        let is_text = |c: &&Value| c.get("type").and_then(Value::as_str) == Some("string");
        let per_language = real.iter().any(is_text) && real.iter().any(|c| c["additionalProperties"].is_object());
        return match (per_platform, per_language) {
            (true, _) => format!("{first}, per platform"),
            (_, true) => format!("{first}, per language"),
            _ => first,
        };
    }
    if let Some(names) = schema.get("enum").and_then(Value::as_array) {
        let names: Vec<&str> = names.iter().filter_map(Value::as_str).collect();
        return if names.len() > 4 {
            "name of a platform or system".into()
        } else {
            names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ")
        };
    }
    let kind = match schema.get("type") {
        Some(Value::String(one)) => one.as_str(),
        Some(Value::Array(some)) => some.iter().filter_map(Value::as_str).find(|t| *t != "null").unwrap_or(""),
        _ => "",
    };
    match kind {
        "string" => "text".into(),
        "integer" => "number".into(),
        "boolean" => "`true` or `false`".into(),
        "array" => format!("list of {}", schema.get("items").map_or_else(String::new, |i| form(i, definitions))),
        "object" => match schema.get("additionalProperties").map(|inner| resolve(inner, definitions)) {
            Some(inner) if inner.get("type").and_then(Value::as_str) != Some("string") && inner.is_object() => {
                "table".into()
            }
            _ => "table of texts".into(),
        },
        _ => String::new(),
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
