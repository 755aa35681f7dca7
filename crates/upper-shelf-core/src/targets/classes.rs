//! Where Windows knows file types and link schemes: keys that every package for it writes.

use crate::footprint::{Footprint, RegistryEntry, RegistryValue};
use crate::problem::{Code, Problem};

/// The key of what programs open, below the machine's or a user's own.
pub const CLASSES: &str = r"Software\Classes\";

/// The name by which Windows knows a file type: after the product and the first ending.
pub fn class_name(id: &str, extensions: &[String]) -> String {
    format!("{id}.{}", extensions.first().map_or("", String::as_str))
}

/// The name by which Windows knows what opens a kind of link for a product.
pub fn link_class(id: &str, scheme: &str) -> String {
    format!("{id}.link.{scheme}")
}

/// The product's own key, for what packages remember.
pub fn own_key(id: &str) -> String {
    format!("Software\\{id}")
}

/// Names of values in the product's own key that packages write, and beginnings of such names.
const OWN: [&str; 8] =
    ["InstallFolder", "Desktop", "Startup", "CSettings", "Choice.", "Unfinished", "RecordSeal", super::order::NAME];

/// Registry values that meet those of file types and link schemes: which of the two would hold nobody can say, and
/// reading the package could not tell them apart.
pub fn conflicts(footprint: &Footprint) -> Vec<Problem> {
    let id = footprint.product.id.as_deref().unwrap_or_default();
    // Keys with the table of the manifest that writes them, and the classes of file types.
    let mut keys: Vec<(String, &str)> = Vec::new();
    let mut classes = Vec::new();
    for kind in &footprint.file_types {
        let class = class_name(id, &kind.extensions);
        keys.push((format!("{CLASSES}{class}"), "file-type"));
        keys.extend(kind.extensions.iter().map(|e| (format!("{CLASSES}.{e}"), "file-type")));
        classes.push(class);
    }
    for link in &footprint.link_schemes {
        keys.push((format!("{CLASSES}{}", link.scheme), "link-scheme"));
        keys.push((format!("{CLASSES}{}", link_class(id, &link.scheme)), "link-scheme"));
    }
    if let Some((_, table)) = keys.last() {
        let table = *table;
        keys.push((format!("{}\\Capabilities", own_key(id)), table));
    }
    let inside = |key: &str, of: &str| {
        let rest = key.get(..of.len()).filter(|k| k.eq_ignore_ascii_case(of)).map(|_| &key[of.len()..]);
        rest.is_some_and(|r| r.is_empty() || r.starts_with('\\'))
    };
    let mut problems = Vec::new();
    for entry in &footprint.registry {
        let RegistryEntry { root: _, view: _, key, name, value } = entry;
        if let Some((_, table)) = keys.iter().find(|(k, _)| inside(key, k)) {
            let problem = Problem::error(Code::Reserved, format!("the registry key {key} belongs to a [[{table}]]"))
                .about_key(entry, "key");
            problems.push(problem.why("both would write to it").instead(format!("leave it to [[{table}]]")));
        } else if key.eq_ignore_ascii_case(&own_key(id))
            && let Some(name) = name.as_deref().filter(|n| OWN.iter().any(|o| n.starts_with(o)))
        {
            let problem =
                Problem::error(Code::Reserved, format!("the registry value {name} of {key} is used by the installer"))
                    .about(entry);
            problems.push(problem.why("the installer remembers choices there").instead("another name, or a key below"));
        } else if name.is_none() && matches!(value, RegistryValue::Text(text) if classes.contains(text)) {
            let problem = Problem::error(
                Code::Reserved,
                format!("the registry key {key} would turn it into a file type of the product"),
            );
            problems.push(problem.about(entry).instead("add the extension to `extensions` of its [[file-type]]"));
        }
    }
    problems
}
