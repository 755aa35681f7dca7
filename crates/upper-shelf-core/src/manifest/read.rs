//! From the manifest's text to the written model: syntax, unknown keys, wrong types and missing keys, all found in one
//! pass against the JSON Schema of the written types; variables put in; every place remembered.

use super::written::Manifest;
use crate::problem::{Code, Problem, Span, nearest};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;
use toml::de::{DeTable, DeValue};

/// The text with what is known of its places.
#[derive(Debug, Clone)]
pub struct Source {
    file: std::path::PathBuf,
    text: String,
    places: BTreeMap<String, Range<usize>>,
}

impl Source {
    /// The place of a value, by the path of keys that leads to it (`layer.0.from`), or of the nearest one around it.
    pub fn span(&self, path: &str) -> Option<Span> {
        let mut path = path;
        loop {
            if let Some(range) = self.places.get(path) {
                return Some(Span::of(&self.file, &self.text, range.clone()));
            }
            path = path.rsplit_once('.')?.0;
        }
    }
}

/// Where environment variables are looked up.
pub type Lookup<'l> = &'l dyn Fn(&str) -> Option<String>;

/// Reads a manifest's text.
///
/// Keys that it does not know are problems beside a manifest that can be read without them, so that all else that is wrong
/// can be said too.
///
/// # Errors
/// Everything that is wrong with its form, at once.
pub fn read(file: &Path, text: &str, variables: Lookup) -> Result<(Manifest, Source, Vec<Problem>), Vec<Problem>> {
    let mut source = Source { file: file.to_owned(), text: text.to_owned(), places: BTreeMap::new() };
    let (table, errors) = DeTable::parse_recoverable(text);
    if !errors.is_empty() {
        let problems = errors.iter().map(|e| {
            let span = e.span().map(|range| Span::of(file, text, range));
            let problem =
                Problem::error(Code::Syntax, "the file isn't valid TOML").at(span).why(e.message().to_owned());
            problem.instead("write `key = \"value\"` on a line of its own, below a `[table]` or `[[list]]`")
        });
        return Err(problems.collect());
    }
    let mut problems = Vec::new();
    let mut value = convert_table(table.get_ref(), "", &mut source, &mut problems);
    let schema = schemars::schema_for!(Manifest).to_value();
    let mut check = Check { source: &source, definitions: &schema["$defs"], problems, unknown: Vec::new() };
    check.value(&value, &schema, "");
    let Check { mut problems, unknown, .. } = check;
    let only_unknown = problems.len() == unknown.len();
    unknown.iter().for_each(|key| key.settle(&mut value));
    let known = problems.len();
    let version = value.pointer("/product/version").and_then(Value::as_str).map(str::to_owned);
    substitute(&mut value, "", &source, version.as_deref(), variables, &mut problems);
    problems.sort_by_key(|p| p.span.as_ref().map(|s| (s.line, s.column)));
    if !only_unknown || problems.len() > known {
        return Err(problems);
    }
    match serde_json::from_value(value) {
        Ok(manifest) => Ok((manifest, source, problems)),
        // The schema has let it through, so this can fail only where the two disagree, which the tests look for.
        Err(e) if problems.is_empty() => {
            Err(vec![Problem::error(Code::Syntax, "the manifest can't be read").on(file).why(e.to_string())])
        }
        Err(_) => Err(problems),
    }
}

fn join(path: &str, key: &str) -> String {
    if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") }
}

fn convert_table(table: &DeTable<'_>, path: &str, source: &mut Source, problems: &mut Vec<Problem>) -> Value {
    let mut map = Map::new();
    for (key, value) in table {
        let at = join(path, key.get_ref());
        source.places.insert(format!("{at}.#key"), key.span());
        source.places.insert(at.clone(), value.span());
        map.insert(key.get_ref().to_string(), convert(value.get_ref(), &at, source, problems));
    }
    Value::Object(map)
}

fn convert(value: &DeValue<'_>, path: &str, source: &mut Source, problems: &mut Vec<Problem>) -> Value {
    match value {
        DeValue::String(s) => Value::String(s.to_string()),
        DeValue::Boolean(b) => Value::Bool(*b),
        DeValue::Integer(n) => match i64::from_str_radix(n.as_str(), n.radix()) {
            Ok(n) => n.into(),
            Err(_) => {
                problems.push(Problem::error(Code::InvalidValue, "this number is too large").at(source.span(path)));
                Value::Null
            }
        },
        DeValue::Float(n) => n.as_str().parse::<f64>().map_or(Value::Null, Value::from),
        // A date without quotes means the same as one with them.
        DeValue::Datetime(date) => Value::String(date.to_string()),
        DeValue::Array(items) => {
            let mut list = Vec::new();
            for (n, item) in items.iter().enumerate() {
                let at = join(path, &n.to_string());
                source.places.insert(at.clone(), item.span());
                list.push(convert(item.get_ref(), &at, source, problems));
            }
            Value::Array(list)
        }
        DeValue::Table(table) => convert_table(table, path, source, problems),
    }
}

/// Checks a value against a schema of the shapes that our types give.
struct Check<'c> {
    source: &'c Source,
    definitions: &'c Value,
    problems: Vec<Problem>,
    unknown: Vec<Unknown>,
}

/// Tables that were elsewhere, and what is written now.
const MOVED: [(&str, &str); 1] = [("bundle.reasons", "[permissions]\ncamera = \"To photograph frames\"")];
/// Keys that had other names, and those that they have now.
const FORMER: [(&str, &str); 2] = [("smallest-windows", "minimum-windows"), ("smallest-macos", "minimum-macos")];
/// The same of values.
const FORMER_VALUES: [(&str, &str); 5] = [
    ("person", "user"),
    ("inside", "embedded"),
    ("beside", "external"),
    ("usual", "user-folder"),
    ("beside", "program-folder"),
];
/// More than so many keys that are not known are no slips.
const MOST_UNKNOWN: usize = 100;

/// A key that the manifest does not know.
struct Unknown {
    /// The table that it is in, as a JSON pointer.
    table: String,
    key: String,
    /// The key that was meant, if one is near and is not there.
    meant: Option<String>,
}

impl Unknown {
    /// Takes the key away, or gives it the name that was meant.
    fn settle(&self, manifest: &mut Value) {
        let Some(Value::Object(table)) = manifest.pointer_mut(&self.table) else { return };
        let Some(value) = table.remove(&self.key) else { return };
        if let Some(meant) = &self.meant {
            table.entry(meant.clone()).or_insert(value);
        }
    }
}

impl Check<'_> {
    fn value(&mut self, value: &Value, schema: &Value, path: &str) {
        let schema = self.resolve(schema);
        if let Some(choices) = schema.get("anyOf").or_else(|| schema.get("oneOf")).and_then(Value::as_array) {
            return self.choice(value, choices, path);
        }
        if let Some(all) = schema.get("allOf").and_then(Value::as_array) {
            return all.clone().iter().for_each(|s| self.value(value, s, path));
        }
        let allowed: Vec<String> = match schema.get("type") {
            Some(Value::String(one)) => vec![one.clone()],
            Some(Value::Array(some)) => some.iter().filter_map(|t| t.as_str().map(str::to_owned)).collect(),
            _ => Vec::new(),
        };
        if !allowed.is_empty() && !allowed.iter().any(|t| t == kind_of(value)) {
            let wanted = allowed.iter().find(|t| *t != "null").map_or("something else", |t| people_say(t));
            let found = people_say(kind_of(value));
            let problem = Problem::error(Code::WrongType, format!("{} must be {wanted}, not {found}", quoted(path)));
            self.problems.push(problem.at(self.source.span(path)).instead(example(wanted)));
            return;
        }
        match value {
            Value::String(text) => self.enumeration(text, &schema, path),
            Value::Number(n) => {
                let limit = |key: &str| schema.get(key).and_then(Value::as_i64);
                let n = n.as_i64().unwrap_or(i64::MAX);
                let is_short = schema.get("format").is_some_and(|f| f == "uint32");
                let most = if is_short { u32::MAX.into() } else { i64::MAX };
                let (low, high) = (limit("minimum").unwrap_or(i64::MIN), limit("maximum").unwrap_or(most));
                if n < low || n > high {
                    let problem = Problem::error(Code::InvalidValue, format!("{} can't be {n}", quoted(path)))
                        .at(self.source.span(path));
                    self.problems.push(problem.instead(format!("a number from {low} to {high}")));
                }
            }
            Value::Array(items) => {
                if let Some(schema) = schema.get("items") {
                    for (n, item) in items.iter().enumerate() {
                        self.value(item, schema, &join(path, &n.to_string()));
                    }
                }
            }
            Value::Object(map) => self.object(map, &schema, path),
            Value::Null | Value::Bool(_) => {}
        }
    }

    fn resolve(&self, schema: &Value) -> Value {
        let mut schema = schema.clone();
        while let Some(name) = schema.get("$ref").and_then(Value::as_str).and_then(|r| r.strip_prefix("#/$defs/")) {
            schema = self.definitions[name].clone();
        }
        schema
    }

    /// Several shapes: the one whose type fits is the one that is meant.
    fn choice(&mut self, value: &Value, choices: &[Value], path: &str) {
        let choices: Vec<Value> = choices.iter().map(|c| self.resolve(c)).collect();
        if choices.iter().all(|c| c.get("const").is_some() || c.get("enum").is_some()) && !choices.is_empty() {
            let merged: Vec<Value> = choices
                .iter()
                .flat_map(|c| {
                    c.get("const")
                        .cloned()
                        .into_iter()
                        .chain(c.get("enum").and_then(Value::as_array).cloned().unwrap_or_default())
                })
                .collect();
            return self.value(value, &serde_json::json!({"type": "string", "enum": merged}), path);
        }
        let fits = |c: &&Value| match c.get("type") {
            Some(Value::String(t)) => t == kind_of(value),
            Some(Value::Array(ts)) => ts.iter().any(|t| t == kind_of(value)),
            _ => true,
        };
        if let Some(choice) = choices.iter().find(fits).or(choices.first()) {
            self.value(value, &choice.clone(), path);
        }
    }

    fn enumeration(&mut self, text: &str, schema: &Value, path: &str) {
        let allowed: Vec<&str> = match (schema.get("enum"), schema.get("const")) {
            (Some(Value::Array(names)), _) => names.iter().filter_map(Value::as_str).collect(),
            (_, Some(Value::String(one))) => vec![one.as_str()],
            _ => return,
        };
        if !allowed.contains(&text) {
            let problem = Problem::error(Code::InvalidValue, format!("unknown value {text:?} for {}", quoted(path)))
                .at(self.source.span(path));
            // Platforms have other names elsewhere, which may be near the wrong one.
            let mut meant = crate::platform::meant(text);
            meant.extend(FORMER_VALUES.iter().filter(|(old, _)| *old == text).map(|(_, new)| *new));
            let systems = meant.clone();
            meant.retain(|name| allowed.contains(name));
            if meant.is_empty() {
                meant.extend(nearest(text, allowed.iter().copied()));
            }
            // Where one platform is asked for, a system's name may stand for any of its platforms.
            if meant.is_empty() {
                let system = |name: &str| name.split_once('-').is_some_and(|(system, _)| systems.contains(&system));
                meant.extend(allowed.iter().copied().filter(|name| system(name)));
            }
            let instead = match meant[..] {
                [] => format!("one of {}", allowed.join(", ")),
                [one] => format!("{one:?}"),
                ref several => format!("one of {}", several.join(", ")),
            };
            self.problems.push(problem.instead(instead));
        }
    }

    fn object(&mut self, map: &Map<String, Value>, schema: &Value, path: &str) {
        let empty = Map::new();
        let properties = schema.get("properties").and_then(Value::as_object).unwrap_or(&empty);
        let open = schema.get("additionalProperties").filter(|a| a.is_object());
        // A required key that was only misspelt is not missed a second time.
        let mut meant = Vec::new();
        for (key, value) in map {
            let at = join(path, key);
            if let Some(schema) = properties.get(key).or(open) {
                self.value(value, schema, &at);
                continue;
            }
            if self.unknown.len() >= MOST_UNKNOWN {
                continue;
            }
            let mut span = self.source.span(&format!("{at}.#key"));
            // Somebody may have taken it for the place of a secret, which must not be shown again.
            if at.starts_with("signing") {
                span = span.map(Span::without_value);
            }
            let inside = if path.is_empty() { "the manifest".to_owned() } else { quoted(path) };
            let problem = Problem::error(Code::UnknownKey, format!("unknown key `{key}` in {inside}")).at(span);
            let former =
                FORMER.iter().find(|(old, new)| old == key && properties.contains_key(*new)).map(|(_, new)| *new);
            let near = former.or_else(|| nearest(key, properties.keys().map(String::as_str)));
            meant.extend(near);
            // What stands there is looked at as if it were spelt rightly.
            let missing = near.filter(|near| !map.contains_key(*near));
            if let Some(schema) = missing.and_then(|near| properties.get(near)) {
                self.value(value, schema, &at);
            }
            self.unknown.push(Unknown {
                table: path.split('.').filter(|p| !p.is_empty()).map(|p| format!("/{p}")).collect(),
                key: key.clone(),
                meant: missing.map(str::to_owned),
            });
            let moved = MOVED.iter().find(|(old, _)| *old == at).map(|(_, new)| *new);
            self.problems.push(problem.instead(match moved.or(near) {
                Some(near) => near.to_owned(),
                None => format!("one of {}", properties.keys().cloned().collect::<Vec<_>>().join(", ")),
            }));
        }
        for key in schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str) {
            if !map.contains_key(key) && !meant.contains(&key) {
                let about = properties
                    .get(key)
                    .and_then(|p| self.resolve(p).get("description").or(p.get("description")).cloned());
                let what = if path.is_empty() {
                    format!("missing table `{key}`")
                } else {
                    format!("missing key `{key}` in {}", quoted(path))
                };
                let problem = Problem::error(Code::MissingKey, what).at(self.source.span(path));
                let problem = match about.as_ref().and_then(Value::as_str) {
                    Some(about) => problem.why(about.replace('\n', " ")),
                    None => problem,
                };
                let shown = if path.is_empty() { format!("[{key}]") } else { format!("{key} = …") };
                self.problems.push(problem.instead(shown));
            }
        }
    }
}

/// A place in the manifest as a path of keys: `layer.0.from` is shown as `` `layer[0].from` ``.
fn quoted(path: &str) -> String {
    let mut shown = String::from("`");
    for part in path.split('.') {
        if part.parse::<usize>().is_ok() {
            shown.push_str(&format!("[{part}]"));
        } else {
            if shown.len() > 1 {
                shown.push('.');
            }
            shown.push_str(part);
        }
    }
    shown.push('`');
    shown
}

fn kind_of(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(n) if n.is_f64() => "number",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    }
}

fn people_say(kind: &str) -> &'static str {
    match kind {
        "string" => "text",
        "integer" => "a whole number",
        "number" => "a number with a fraction",
        "boolean" => "true or false",
        "array" => "a list",
        "object" => "a table",
        _ => "nothing",
    }
}

fn example(wanted: &str) -> &'static str {
    match wanted {
        "text" => "\"…\" in double quotes",
        "a whole number" => "digits only, without quotes",
        "true or false" => "true or false, without quotes",
        "a list" => "[\"…\", \"…\"], or [[…]] above a table of a list",
        _ => "[…] above its keys",
    }
}

/// Puts `{version}` and `{env:NAME}` into every text. `{platform}`, `{name}` and `{install}` stay for later.
fn substitute(
    value: &mut Value,
    path: &str,
    source: &Source,
    version: Option<&str>,
    variables: Lookup,
    problems: &mut Vec<Problem>,
) {
    match value {
        Value::String(text) if text.contains('{') => {
            let mut out = String::new();
            let mut rest = text.as_str();
            while let Some(start) = rest.find('{') {
                out.push_str(&rest[..start]);
                rest = &rest[start..];
                let Some(end) = rest.find('}') else { break };
                let (name, whole) = (&rest[1..end], &rest[..=end]);
                match (name, name.strip_prefix("env:")) {
                    ("version", _) => out.push_str(version.unwrap_or(whole)),
                    (_, Some(variable)) => match variables(variable) {
                        Some(found) => out.push_str(&found),
                        None => {
                            let what = format!("the environment variable {variable} is not set");
                            let problem = Problem::error(Code::UnsetVariable, what).at(source.span(path));
                            let instead = format!("set it before the build: export {variable}=…");
                            problems.push(problem.why(format!("{whole} stands for its value")).instead(instead));
                        }
                    },
                    ("platform" | "name" | "install", _) => out.push_str(whole),
                    // Braces have a meaning of their own in patterns: {png,svg}.
                    _ if path.contains(".keep.") || path.contains(".drop.") => out.push_str(whole),
                    // What the wizard's words may say of the product is known once it is laid out.
                    ("product" | "size" | "files" | "types" | "detail" | "log", _)
                        if path.starts_with("wizard.words.") =>
                    {
                        out.push_str(whole);
                    }
                    _ => {
                        let problem = Problem::error(Code::InvalidValue, format!("{whole} isn't a variable"))
                            .at(source.span(path));
                        let known = ["version", "platform", "name", "install", "env:NAME"];
                        let near = nearest(name, known)
                            .map_or("{version}, {platform}, {name}, {install} or {env:NAME}".to_owned(), |n| {
                                format!("{{{n}}}")
                            });
                        problems.push(problem.instead(near));
                    }
                }
                rest = &rest[end + 1..];
            }
            out.push_str(rest);
            *text = out;
        }
        Value::Array(items) => {
            for (n, item) in items.iter_mut().enumerate() {
                substitute(item, &join(path, &n.to_string()), source, version, variables, problems);
            }
        }
        Value::Object(map) => {
            for (key, item) in map.iter_mut() {
                substitute(item, &join(path, key), source, version, variables, problems);
            }
        }
        _ => {}
    }
}
