//! Registry rows: the values that the manifest names, and those by which Windows knows file types, link schemes and
//! fonts. And back: each pattern becomes the trace that it stands for, all else stays a value.

use super::layout::{Layout, Result, SETTINGS, SETTINGS_32};
use super::words::{arguments, command_line, formatted, unformatted};
use crate::footprint::{RegistryRoot, RegistryValue, RegistryView, RelPath, Trace};
use crate::targets::classes::{CLASSES, class_name};
use msi_database::database::Database;
use std::collections::{BTreeMap, HashMap};

const FONTS: &str = r"Software\Microsoft\Windows NT\CurrentVersion\Fonts";
const OPEN: &str = r"\shell\open\command";

fn root_number(root: RegistryRoot) -> i32 {
    match root {
        RegistryRoot::Installed => -1,
        RegistryRoot::Person => 1,
        RegistryRoot::Machine => 2,
    }
}

/// A value in the column's form.
fn written(value: &RegistryValue) -> String {
    let plain = |text: &str| {
        let text = formatted(text);
        if text.starts_with('#') { format!("#{text}") } else { text }
    };
    match value {
        RegistryValue::Text(text) => plain(text),
        RegistryValue::Expandable(text) => format!("#%{}", formatted(text)),
        RegistryValue::Number(n) => format!("#{n}"),
        RegistryValue::Bytes(hex) => format!("#x{hex}"),
        RegistryValue::List(list) => {
            let all: String = list.iter().map(|t| format!("[~]{}", formatted(t))).collect();
            format!("{all}[~]")
        }
    }
}

/// A value from the column's form.
fn read_value(text: &str) -> RegistryValue {
    if let Some(rest) = text.strip_prefix("##") {
        return RegistryValue::Text(format!("#{}", unformatted(rest)));
    }
    if let Some(rest) = text.strip_prefix("#%") {
        return RegistryValue::Expandable(unformatted(rest));
    }
    if let Some(hex) = text.strip_prefix("#x") {
        return RegistryValue::Bytes(hex.to_lowercase());
    }
    if let Some(n) = text.strip_prefix('#') {
        let number =
            n.parse::<i64>().ok().and_then(|n| u32::try_from(n).ok().or(i32::try_from(n).ok().map(|n| n as u32)));
        return number.map_or_else(|| RegistryValue::Text(text.to_owned()), RegistryValue::Number);
    }
    if text.contains("[~]") {
        let inner = text.strip_prefix("[~]").unwrap_or(text);
        let inner = inner.strip_suffix("[~]").unwrap_or(inner);
        return RegistryValue::List(inner.split("[~]").map(unformatted).collect());
    }
    RegistryValue::Text(unformatted(text))
}

/// A value as it comes back.
pub fn carried(value: &RegistryValue) -> RegistryValue {
    read_value(&written(value))
}

pub fn write(it: &mut Layout) -> Result<()> {
    let job = it.job;
    let id = job.footprint.product.id.clone().unwrap_or_default();
    let mut has_32 = false;
    let mut count = 0;
    let mut row = |it: &mut Layout, root: i32, key: &str, name: &str, value: &str, component: &str| -> Result<()> {
        count += 1;
        it.registry_row(&format!("R{count}"), root, key, name, value, component)
    };
    for trace in job.footprint.traces() {
        match trace {
            Trace::Registry { root, view, key, name, value } => {
                let component = match view {
                    RegistryView::Own => SETTINGS,
                    RegistryView::Bits32 => SETTINGS_32,
                };
                if *view == RegistryView::Bits32 && !has_32 {
                    has_32 = true;
                    let at = it.own_key();
                    it.registry_component(SETTINGS_32, 0, "", "RSettings32")?;
                    it.registry_row("RSettings32", -1, &at, "Settings32", "#1", SETTINGS_32)?;
                }
                let name = name.as_deref().unwrap_or_default();
                row(it, root_number(*root), &formatted(key), &formatted(name), &written(value), component)?;
            }
            Trace::FileType { mime, extensions, name, program } => {
                let Some((file, component, first, _)) = it.program(program) else { continue };
                let class = class_name(&id, extensions);
                let key = format!("{CLASSES}{}", formatted(&class));
                row(it, -1, &key, "", &written(&RegistryValue::Text(name.clone())), &component)?;
                row(it, -1, &format!("{key}\\DefaultIcon"), "", &format!("[#{file}],0"), &component)?;
                row(it, -1, &format!("{key}{OPEN}"), "", &open_command(&file, first), &component)?;
                for extension in extensions {
                    let key = format!("{CLASSES}.{}", formatted(extension));
                    row(it, -1, &key, "", &formatted(&class), &component)?;
                    row(it, -1, &key, "Content Type", &formatted(mime), &component)?;
                    row(it, -1, &format!("{key}\\OpenWithProgids"), &formatted(&class), "", &component)?;
                }
            }
            Trace::LinkScheme { scheme, program } => {
                let Some((file, component, first, _)) = it.program(program) else { continue };
                let key = format!("{CLASSES}{scheme}");
                row(it, -1, &key, "", &format!("URL:{scheme}"), &component)?;
                row(it, -1, &key, "URL Protocol", "", &component)?;
                row(it, -1, &format!("{key}{OPEN}"), "", &open_command(&file, first), &component)?;
            }
            Trace::Font { file, title } => {
                let Some((file, component)) = it.file(file) else { continue };
                row(it, -1, FONTS, &format!("{} (TrueType)", formatted(title)), &format!("[#{file}]"), &component)?;
            }
            Trace::Folder { .. }
            | Trace::File { .. }
            | Trace::HardLink { .. }
            | Trace::Link { .. }
            | Trace::Program { .. }
            | Trace::Shortcut { .. }
            | Trace::Environment { .. }
            | Trace::Service { .. }
            | Trace::Choice { .. }
            | Trace::Rule { .. }
            | Trace::Icon { .. } => {}
        }
    }
    Ok(())
}

/// How the shell starts a program with a file or a link.
fn open_command(file: &str, first: &[String]) -> String {
    let line = formatted(&command_line(first));
    let space = if line.is_empty() { "" } else { " " };
    format!("\"[#{file}]\"{space}{line} \"%1\"")
}

/// The file's key and the arguments of such a command.
fn opened(command: &str) -> Option<(&str, Vec<String>)> {
    let rest = command.strip_prefix("\"[#").or_else(|| command.strip_prefix("[#"))?;
    let (file, rest) = rest.split_once(']')?;
    let line = rest.strip_prefix('"').unwrap_or(rest).trim();
    let line = line.strip_suffix("\"%1\"").or_else(|| line.strip_suffix("%1"))?;
    Some((file, arguments(&unformatted(line.trim_end()))))
}

struct Row<'d> {
    root: i32,
    name: &'d str,
    value: &'d str,
    bits64: bool,
}

/// The registry's traces. `programs` gives a program's key for a file's key and arguments, `files` a path for a file's
/// key.
pub fn read(
    db: &Database,
    bits64: bool,
    mut programs: impl FnMut(&str, &[String]) -> Option<String>,
    files: &HashMap<&str, RelPath>,
) -> Vec<Trace> {
    let wide: HashMap<&str, bool> =
        db.rows("Component").map(|r| (db.str(r[0]), db.int(r[3]).is_some_and(|a| a & 256 != 0))).collect();
    let own = db.property("UpperShelfId").map(|id| format!("Software\\{}", formatted(id)));
    let mut keys: BTreeMap<&str, Vec<Row>> = BTreeMap::new();
    for r in db.rows("Registry") {
        let (key, name) = (db.str(r[2]), db.str(r[3]));
        let mark = name == "InstallFolder" || name == "Settings32" || name.starts_with('S') && db.str(r[4]) == "#1";
        if own.as_deref() == Some(key) && mark && db.str(r[0]).starts_with('R') && is_mark(db.str(r[0])) {
            continue;
        }
        let bits64 = wide.get(db.str(r[5])).copied().unwrap_or(false);
        keys.entry(key).or_default().push(Row { root: db.int(r[1]).unwrap_or(-1), name, value: db.str(r[4]), bits64 });
    }
    let own_value =
        |key: &str, name: &str| keys.get(key).and_then(|rows| rows.iter().find(|r| r.name == name)).map(|r| r.value);
    let mut traces = Vec::new();
    let mut used: Vec<String> = Vec::new();
    for key in keys.keys() {
        let Some(class) = key.strip_prefix(CLASSES).and_then(|k| k.strip_suffix(OPEN)) else { continue };
        let Some((file, first)) = own_value(key, "").and_then(opened) else { continue };
        let Some(program) = programs(file, &first) else { continue };
        let class_key = format!("{CLASSES}{class}");
        let open_key = (*key).to_owned();
        if own_value(&class_key, "URL Protocol").is_some() {
            traces.push(Trace::LinkScheme { scheme: unformatted(class), program });
            used.extend([class_key, open_key]);
            continue;
        }
        let mut extensions = Vec::new();
        let mut mime = None;
        for (at, rows) in &keys {
            let Some(extension) = at.strip_prefix(CLASSES).and_then(|k| k.strip_prefix('.')) else { continue };
            if !extension.contains('\\') && rows.iter().any(|r| r.name.is_empty() && r.value == class) {
                extensions.push(unformatted(extension));
                mime = mime.or_else(|| own_value(at, "Content Type").map(unformatted));
                used.extend([(*at).to_owned(), format!("{at}\\OpenWithProgids")]);
            }
        }
        if extensions.is_empty() {
            continue;
        }
        // The class is named after the first ending.
        let plain = unformatted(class);
        extensions.sort_by_key(|e| !plain.ends_with(&format!(".{e}")));
        let name = own_value(&class_key, "").map_or(String::new(), |v| match read_value(v) {
            RegistryValue::Text(text) => text,
            _ => v.to_owned(),
        });
        let mime = mime.unwrap_or_else(|| "application/octet-stream".into());
        traces.push(Trace::FileType { mime, extensions, name, program });
        used.extend([format!("{class_key}\\DefaultIcon"), class_key, open_key]);
    }
    for (key, rows) in &keys {
        if used.iter().any(|u| u == key) {
            continue;
        }
        for row in rows {
            let font = row.name.strip_suffix(" (TrueType)").filter(|_| *key == FONTS);
            let file = row.value.strip_prefix("[#").and_then(|v| v.strip_suffix(']')).and_then(|k| files.get(k));
            if let (Some(title), Some(file)) = (font, file) {
                traces.push(Trace::Font { file: file.clone(), title: unformatted(title) });
                continue;
            }
            let root = match row.root {
                1 => RegistryRoot::Person,
                2 => RegistryRoot::Machine,
                _ => RegistryRoot::Installed,
            };
            let view = if row.bits64 == bits64 { RegistryView::Own } else { RegistryView::Bits32 };
            let name = Some(unformatted(row.name)).filter(|n| !n.is_empty());
            traces.push(Trace::Registry { root, view, key: unformatted(key), name, value: read_value(row.value) });
        }
    }
    traces
}

/// Whether a row is one of ours that only stands for a component.
fn is_mark(key: &str) -> bool {
    key == "RFolder" || key == "RSettings32" || key.starts_with("RS") && key.contains('_')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_come_back() {
        for value in [
            RegistryValue::Text("#1 [x] {y}".into()),
            RegistryValue::Text(String::new()),
            RegistryValue::Expandable(r"%TEMP%\a".into()),
            RegistryValue::Number(u32::MAX),
            RegistryValue::Number(0),
            RegistryValue::Bytes("00ff".into()),
            RegistryValue::List(vec!["a".into(), "b [c]".into()]),
            RegistryValue::Text("{install}/art".into()),
        ] {
            assert_eq!(carried(&value), value);
        }
    }

    #[test]
    fn commands_of_others_are_understood() {
        assert_eq!(opened("\"[#f]\" \"%1\""), Some(("f", vec![])));
        assert_eq!(opened("\"[#f]\" --open \"a b\" \"%1\""), Some(("f", vec!["--open".into(), "a b".into()])));
        assert_eq!(opened("notepad %1"), None);
    }
}
