//! Where Windows knows file types and link schemes: keys that every package for it writes.

use crate::footprint::{Footprint, RegistryValue, Trace};
use crate::problem::Problem;

/// The key of what programs open, below the machine's or a person's own.
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
const OWN: [&str; 7] = ["InstallFolder", "Desktop", "Startup", "CSettings", "Choice.", "Unfinished", "RecordSeal"];

/// Registry values that meet those of file types and link schemes: which of the two would hold nobody can say, and
/// reading the package could not tell them apart.
pub fn conflicts(footprint: &Footprint) -> Vec<Problem> {
    let id = footprint.product.id.as_deref().unwrap_or_default();
    // Keys with the table of the manifest that writes them, and the classes of file types.
    let mut keys: Vec<(String, &str)> = Vec::new();
    let mut classes = Vec::new();
    for trace in footprint.traces() {
        match trace {
            Trace::FileType { extensions, .. } => {
                let class = class_name(id, extensions);
                keys.push((format!("{CLASSES}{class}"), "file-type"));
                keys.extend(extensions.iter().map(|e| (format!("{CLASSES}.{e}"), "file-type")));
                classes.push(class);
            }
            Trace::LinkScheme { scheme, .. } => {
                keys.push((format!("{CLASSES}{scheme}"), "link-scheme"));
                keys.push((format!("{CLASSES}{}", link_class(id, scheme)), "link-scheme"));
            }
            _ => {}
        }
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
    for trace in footprint.traces() {
        let Trace::Registry { key, name, value, .. } = trace else { continue };
        if let Some((_, table)) = keys.iter().find(|(k, _)| inside(key, k)) {
            let problem = Problem::error(format!("the registry key {key} belongs to a [[{table}]]"));
            problems.push(problem.why("both would write there").instead(format!("leave it to [[{table}]]")));
        } else if key.eq_ignore_ascii_case(&own_key(id))
            && let Some(name) = name.as_deref().filter(|n| OWN.iter().any(|o| n.starts_with(o)))
        {
            let problem = Problem::error(format!("the registry value {name} of {key} is the installer's own"));
            problems.push(problem.why("it remembers there what was chosen").instead("another name, or a key below"));
        } else if name.is_none() && matches!(value, RegistryValue::Text(text) if classes.contains(text)) {
            let problem = Problem::error(format!("the registry key {key} makes a file type of the product out of it"));
            problems.push(problem.instead("add the ending to `extensions` of its [[file-type]]"));
        }
    }
    problems
}
