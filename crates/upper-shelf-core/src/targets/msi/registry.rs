//! Registry rows: the values that the manifest names, and those by which Windows knows file types, link schemes and
//! fonts. And back: each pattern becomes the trace that it stands for, all else stays a value.

use super::layout::{Layout, Result, SETTINGS};
use super::words::{arguments, formatted, line, unformatted};
use crate::footprint::{
    FileType, Font, LinkScheme, RegistryEntry, RegistryRoot, RegistryValue, RegistryView, RelPath, Scope,
};
use crate::targets::classes::{CLASSES, class_name, link_class};
use msi_database::database::Database;
use msi_database::rows;
use std::collections::{BTreeMap, BTreeSet, HashMap};

const FONTS: &str = r"Software\Microsoft\Windows NT\CurrentVersion\Fonts";
/// Where Windows looks for what products can open.
const REGISTERED: &str = r"Software\RegisteredApplications";
const OPEN: &str = r"\shell\open\command";

fn root_number(root: RegistryRoot) -> i32 {
    match root {
        RegistryRoot::Installed => -1,
        RegistryRoot::User => 1,
        RegistryRoot::Machine => 2,
    }
}

/// The component of values of a root and a view.
fn settings(root: RegistryRoot, view: RegistryView) -> &'static str {
    match (view, root) {
        (RegistryView::Own, RegistryRoot::Installed) => SETTINGS,
        (RegistryView::Own, RegistryRoot::Machine) => "CSettingsMachine",
        (RegistryView::Own, RegistryRoot::User) => "CSettingsPerson",
        (RegistryView::Bits32, RegistryRoot::Installed) => "CSettings32",
        (RegistryView::Bits32, RegistryRoot::Machine) => "CSettings32Machine",
        (RegistryView::Bits32, RegistryRoot::User) => "CSettings32Person",
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
    let mut known = BTreeSet::new();
    let mut count = 0;
    let mut row = |it: &mut Layout, root: i32, key: &str, name: &str, value: &str, component: &str| -> Result<()> {
        count += 1;
        it.registry_row(&format!("R{count}"), root, key, name, value, component)
    };
    for FileType { mime, extensions, name, program } in &job.footprint.file_types {
        let Some((file, component, first, _)) = it.program(program) else { continue };
        capabilities(it, &mut row)?;
        let class = class_name(&id, extensions);
        let key = format!("{CLASSES}{}", formatted(&class));
        row(it, -1, &key, "", &written(&RegistryValue::Text(name.as_str().to_owned())), &component)?;
        row(it, -1, &format!("{key}\\DefaultIcon"), "", &format!("[#{file}],0"), &component)?;
        row(it, -1, &format!("{key}{OPEN}"), "", &open_command(&file, first), &component)?;
        for extension in extensions {
            let key = format!("{CLASSES}.{}", formatted(extension));
            row(it, -1, &format!("{key}\\OpenWithProgids"), &formatted(&class), "", &component)?;
            let own = format!("{}\\Capabilities\\FileAssociations", it.own_key());
            row(it, -1, &own, &format!(".{}", formatted(extension)), &formatted(&class), &component)?;
            // What another program has is its own, and stays when this product goes.
            let place = format!(".{extension}");
            let claim = it.claim(&place, "", &|found| format!("{found} = \"{class}\""), program)?;
            row(it, -1, &key, "", &formatted(&class), &claim)?;
            row(it, -1, &key, "Content Type", &formatted(mime), &claim)?;
        }
    }
    for LinkScheme { scheme, program } in &job.footprint.link_schemes {
        let Some((file, component, first, _)) = it.program(program) else { continue };
        capabilities(it, &mut row)?;
        let class = link_class(&id, scheme);
        let own = format!("{}\\Capabilities\\URLAssociations", it.own_key());
        row(it, -1, &own, scheme, &formatted(&class), &component)?;
        let name = it.job.footprint.program(program).map(|p| p.file.name().to_owned());
        let ours = |found: &str| format!("{found} ~>< \"\\{}\"", name.as_deref().unwrap_or_default());
        let claim = it.claim(scheme, OPEN, &ours, program)?;
        for (class, component) in [(formatted(&class), &component), (scheme.clone(), &claim)] {
            let key = format!("{CLASSES}{class}");
            row(it, -1, &key, "", &format!("URL:{scheme}"), component)?;
            row(it, -1, &key, "URL Protocol", "", component)?;
            row(it, -1, &format!("{key}{OPEN}"), "", &open_command(&file, first), component)?;
        }
    }
    for RegistryEntry { root, view, key, name, value } in &job.footprint.registry {
        let component = settings(*root, *view);
        if component != SETTINGS && known.insert(component) {
            // What is a machine's, what a user's, and what 32-bit programs see is never in one component, and
            // the last not in a folder of 64-bit programs (ICE57, ICE80).
            let (bits, folder) = match view {
                RegistryView::Own => (it.bit_attribute(), "INSTALLDIR"),
                RegistryView::Bits32 => (0, it.programs_of_32_bits()?),
            };
            let (at, mark) = (it.own_key(), format!("RM_{component}"));
            it.component_in(folder, component, bits, "", &mark, None)?;
            it.registry_row(&mark, root_number(*root), &at, component, "#1", component)?;
        }
        let name = name.as_deref().unwrap_or_default();
        row(it, root_number(*root), &formatted(key), &formatted(name), &written(value), component)?;
    }
    for Font { file, title } in &job.footprint.fonts {
        let Some((file, component)) = it.file(file) else { continue };
        if job.footprint.install.scope() == Scope::Machine {
            // For everyone Windows Installer itself registers fonts, and tells running programs.
            it.db.add(&rows::Font { file: &file, font_title: &format!("{title} (TrueType)") })?;
        } else {
            row(it, -1, FONTS, &format!("{} (TrueType)", formatted(title)), &format!("[#{file}]"), &component)?;
        }
    }
    Ok(())
}

/// How a product tells the system what it can open; the rows are written once.
fn capabilities(
    it: &mut Layout,
    row: &mut impl FnMut(&mut Layout, i32, &str, &str, &str, &str) -> Result<()>,
) -> Result<()> {
    let p = &it.job.footprint.product;
    let key = format!("{}\\Capabilities", it.own_key());
    if it.db.each::<rows::Registry>().any(|r| r.key == key) {
        return Ok(());
    }
    let (id, name) = (p.id.clone().unwrap_or_default(), p.name.clone().unwrap_or_default());
    let about = p.summary.as_ref().map_or_else(|| name.clone(), |s| s.as_str().to_owned());
    row(it, -1, &key, "ApplicationName", &written(&RegistryValue::Text(name)), SETTINGS)?;
    row(it, -1, &key, "ApplicationDescription", &written(&RegistryValue::Text(about)), SETTINGS)?;
    row(it, -1, REGISTERED, &formatted(&id), &key, SETTINGS)
}

/// How the shell starts a program with a file or a link.
fn open_command(file: &str, first: &[String]) -> String {
    let line = line(first);
    let space = if line.is_empty() { "" } else { " " };
    format!("\"[#{file}]\"{space}{line} \"%1\"")
}

/// The file's key and the arguments of such a command.
fn opened(command: &str) -> Option<(&str, Vec<String>)> {
    let rest = command.strip_prefix("\"[#").or_else(|| command.strip_prefix("[#"))?;
    let (file, rest) = rest.split_once(']')?;
    let line = rest.strip_prefix('"').unwrap_or(rest).trim();
    let line = line.strip_suffix("\"%1\"").or_else(|| line.strip_suffix("%1"))?;
    Some((file, arguments(line.trim_end())))
}

struct Row<'d> {
    root: i32,
    name: &'d str,
    value: &'d str,
    bits64: bool,
}

/// What the registry's rows stand for.
#[derive(Default)]
pub struct Found {
    /// Kinds of files.
    pub file_types: Vec<FileType>,
    /// Kinds of links.
    pub link_schemes: Vec<LinkScheme>,
    /// All other values.
    pub registry: Vec<RegistryEntry>,
    /// Fonts.
    pub fonts: Vec<Font>,
}

/// What the registry's rows stand for. `programs` gives a program's key for a file's key and arguments, `files` a path for a file's
/// key.
pub fn read(
    db: &Database,
    bits64: bool,
    mut programs: impl FnMut(&str, &[String]) -> Option<String>,
    files: &HashMap<&str, RelPath>,
) -> Found {
    let wide: HashMap<&str, bool> =
        db.each::<rows::Component>().map(|r| (r.component, r.attributes & 256 != 0)).collect();
    let own = db.property("UpperShelfId").map(|id| format!("Software\\{}", formatted(id)));
    let mut keys: BTreeMap<&str, Vec<Row>> = BTreeMap::new();
    for r in db.each::<rows::Registry>() {
        let (key, name) = (r.key, r.name);
        let is_own =
            own.as_deref().is_some_and(|o| key == o || key.strip_prefix(o).is_some_and(|k| k.starts_with('\\')));
        if is_own && is_mark(r.registry, key, name) {
            continue;
        }
        if key == REGISTERED && db.property("UpperShelfId").is_some_and(|id| unformatted(name) == id) {
            continue;
        }
        let bits64 = wide.get(r.component).copied().unwrap_or(false);
        keys.entry(key).or_default().push(Row { root: r.root, name, value: r.value, bits64 });
    }
    let own_value =
        |key: &str, name: &str| keys.get(key).and_then(|rows| rows.iter().find(|r| r.name == name)).map(|r| r.value);
    let mut found = Found::default();
    let mut used: Vec<String> = Vec::new();
    for key in keys.keys() {
        let Some(class) = key.strip_prefix(CLASSES).and_then(|k| k.strip_suffix(OPEN)) else { continue };
        let Some((file, first)) = own_value(key, "").and_then(opened) else { continue };
        let Some(program) = programs(file, &first) else { continue };
        let class_key = format!("{CLASSES}{class}");
        let open_key = (*key).to_owned();
        if own_value(&class_key, "URL Protocol").is_some() {
            used.extend([class_key, open_key]);
            let plain = unformatted(class);
            let own = db.property("UpperShelfId").map(|id| link_class(id, ""));
            let scheme = own.as_deref().and_then(|own| plain.strip_prefix(own));
            // What the product offers is said twice: under its own name, and as the one that opens such links.
            let twice = own
                .as_deref()
                .is_some_and(|own| keys.contains_key(format!("{CLASSES}{}{class}", formatted(own)).as_str()));
            if !twice {
                found.link_schemes.push(LinkScheme { scheme: scheme.unwrap_or(&plain).to_owned(), program });
            }
            continue;
        }
        let mut extensions = Vec::new();
        let mut mime = None;
        for (at, rows) in &keys {
            let Some(extension) = at.strip_prefix(CLASSES).and_then(|k| k.strip_prefix('.')) else { continue };
            let offered = extension.strip_suffix("\\OpenWithProgids");
            let is_it = |r: &Row| match offered {
                Some(_) => own.is_some() && r.name == class,
                None => r.name.is_empty() && r.value == class,
            };
            let extension = offered.unwrap_or(extension);
            if !extension.contains('\\') && rows.iter().any(is_it) {
                let (plain, at) = (unformatted(extension), format!("{CLASSES}.{extension}"));
                if !extensions.contains(&plain) {
                    extensions.push(plain);
                }
                mime = mime.or_else(|| own_value(&at, "Content Type").map(unformatted));
                used.extend([format!("{at}\\OpenWithProgids"), at]);
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
        found.file_types.push(FileType { mime, extensions, name: name.into(), program });
        used.extend([format!("{class_key}\\DefaultIcon"), class_key, open_key]);
    }
    for row in db.each::<rows::Font>() {
        if let Some(file) = files.get(row.file) {
            let title = row.font_title;
            let title = title.strip_suffix(" (TrueType)").unwrap_or(title);
            found.fonts.push(Font { file: file.clone(), title: title.to_owned() });
        }
    }
    for (key, rows) in &keys {
        if used.iter().any(|u| u == key) {
            continue;
        }
        for row in rows {
            let font = row.name.strip_suffix(" (TrueType)").filter(|_| *key == FONTS);
            let file = row.value.strip_prefix("[#").and_then(|v| v.strip_suffix(']')).and_then(|k| files.get(k));
            if let (Some(title), Some(file)) = (font, file) {
                found.fonts.push(Font { file: file.clone(), title: unformatted(title) });
                continue;
            }
            let root = match row.root {
                1 => RegistryRoot::User,
                2 => RegistryRoot::Machine,
                _ => RegistryRoot::Installed,
            };
            let view = if row.bits64 == bits64 { RegistryView::Own } else { RegistryView::Bits32 };
            let name = Some(unformatted(row.name)).filter(|n| !n.is_empty());
            found.registry.push(RegistryEntry {
                root,
                view,
                key: unformatted(key),
                name,
                value: read_value(row.value),
            });
        }
    }
    found
}

/// Whether a row is one of ours that only stands for a component.
fn is_mark(row: &str, key: &str, name: &str) -> bool {
    let remembered = ["RFolder", "RSettings32", "RDesktop", "RStartup"].contains(&row);
    let of_component = ["RS", "RM", "RK", "RV"].iter().any(|r| row.starts_with(r)) && row.contains('_');
    remembered && !name.is_empty() || of_component || key.contains("\\Capabilities")
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
