//! The registry of a package: hives that only its own programs see, over the machine's.
//!
//! Sources: hives of packages of others; the documentation of registry redirection for 32-bit programs.

use crate::footprint::{Item as _, List, RegistryEntry, RegistryRoot, RegistryValue, RegistryView, Scope};
use crate::platform::Platform;
use crate::targets::{Loss, left_out};
use registry_hive::{Error, Key, Options, Value, kind};
use std::collections::{HashMap, HashSet};

/// What stands for the product's own folder in values.
pub const INSTALL: &str = "{install}";
/// The hive of what all users have, and the keys in front of it.
pub const MACHINE: (&str, [&str; 2]) = ("Registry.dat", ["REGISTRY", "MACHINE"]);
/// The hive of what each user has.
pub const USER: (&str, [&str; 3]) = ("User.dat", ["REGISTRY", "USER", "[{AppVCurrentUserSID}]"]);
/// What 32-bit programs see in the place of a machine's `Software`.
const NARROW: &str = "WOW6432Node";

/// The entries that hives hold, with what they don't.
pub fn carried(
    entries: &List<RegistryEntry>,
    platform: Option<Platform>,
    scope: Scope,
    losses: &mut Vec<Loss>,
) -> List<RegistryEntry> {
    let is_narrow = platform == Some(Platform::WindowsX86);
    let mut letters = HashMap::new();
    let (mut kept, mut places) = (Vec::new(), HashSet::new());
    for entry in entries {
        let RegistryEntry { root, view, key, name, value } = entry;
        let root = match root {
            RegistryRoot::Installed if scope == Scope::User => RegistryRoot::User,
            RegistryRoot::Installed => RegistryRoot::Machine,
            RegistryRoot::Machine | RegistryRoot::User => *root,
        };
        let value = match value {
            RegistryValue::Text(text) | RegistryValue::Expandable(text) if text.contains(INSTALL) => Err(()),
            RegistryValue::List(all) if all.iter().any(|text| text.contains(INSTALL)) => Err(()),
            // An empty text would end the list.
            RegistryValue::List(all) => {
                Ok(RegistryValue::List(all.iter().filter(|text| !text.is_empty()).cloned().collect()))
            }
            RegistryValue::Bytes(hex) => Ok(RegistryValue::Bytes(hex.to_lowercase())),
            other => Ok(other.clone()),
        };
        let Ok(value) = value else {
            let why = "it names the product's folder, which the system chooses; programs can ask the system for it";
            losses.push(left_out(entry.clone(), why));
            continue;
        };
        let mut parts: Vec<&str> = key.split('\\').filter(|part| !part.is_empty()).collect();
        // Only there do 32-bit programs see something else.
        let in_software = parts.first().is_some_and(|first| first.eq_ignore_ascii_case("Software"));
        let is_there = root == RegistryRoot::Machine && in_software;
        let named = is_there && parts.get(1).is_some_and(|second| second.eq_ignore_ascii_case(NARROW));
        if named {
            parts.remove(1);
        }
        let is_other = (*view == RegistryView::Bits32 || named) && !is_narrow && is_there;
        let view = if is_other { RegistryView::Bits32 } else { RegistryView::Own };
        if is_other {
            parts.insert(1, NARROW);
        }
        let mut parts = with_first_letters(root, &parts, &mut letters);
        if is_other {
            parts.remove(1);
        }
        let name = name.clone().filter(|name| !name.is_empty());
        let one = RegistryEntry { root, view, key: parts.join("\\"), name, value };
        if one.key.is_empty() || !places.insert(one.name().into_owned()) {
            losses.push(left_out(entry.clone(), "there is another one in its place"));
        } else {
            kept.push(one);
        }
    }
    kept.into()
}

/// A key is one, whatever its letters' case: the first one's letters stay.
fn with_first_letters(
    root: RegistryRoot,
    parts: &[&str],
    letters: &mut HashMap<(RegistryRoot, String), String>,
) -> Vec<String> {
    let mut path = String::new();
    let own = parts.iter().map(|part| {
        path += &format!("\\{}", part.to_uppercase());
        letters.entry((root, path.clone())).or_insert_with(|| (*part).to_owned()).clone()
    });
    own.collect()
}

/// The hives of entries that were carried: names and bytes.
///
/// # Errors
/// A name or a value that hives can't hold.
pub fn hives(
    entries: &[RegistryEntry],
    platform: Option<Platform>,
    time: u32,
) -> Result<Vec<(&'static str, Vec<u8>)>, Error> {
    let is_narrow = platform == Some(Platform::WindowsX86);
    let mut all = Vec::new();
    for (root, file, first) in
        [(RegistryRoot::Machine, MACHINE.0, &MACHINE.1[..]), (RegistryRoot::User, USER.0, &USER.1[..])]
    {
        let mut hive = Key::new("ROOT");
        let of_root: Vec<&RegistryEntry> = entries.iter().filter(|entry| entry.root == root).collect();
        for entry in &of_root {
            let mut parts: Vec<&str> = entry.key.split('\\').collect();
            let in_software = parts.first().is_some_and(|first| first.eq_ignore_ascii_case("Software"));
            if entry.view == RegistryView::Bits32 {
                parts.insert(1, NARROW);
            }
            put(&mut hive, first, &parts, entry);
            if is_narrow && root == RegistryRoot::Machine && in_software {
                // Where a 64-bit system leads its 32-bit programs.
                parts.insert(1, NARROW);
                put(&mut hive, first, &parts, entry);
            }
        }
        if !of_root.is_empty() {
            // In units of 100 ns since 1601.
            let time = (u64::from(time) + 11_644_473_600) * 10_000_000;
            all.push((file, registry_hive::write(&hive, &Options { time, file_name: file.into() })?));
        }
    }
    Ok(all)
}

fn put(hive: &mut Key, first: &[&str], parts: &[&str], entry: &RegistryEntry) {
    let path: Vec<&str> = first.iter().chain(parts).copied().collect();
    let (kind, data) = match &entry.value {
        RegistryValue::Text(text) => (kind::SZ, registry_hive::text(text)),
        RegistryValue::Expandable(text) => (kind::EXPAND_SZ, registry_hive::text(text)),
        RegistryValue::Number(number) => (kind::DWORD, number.to_le_bytes().to_vec()),
        RegistryValue::Bytes(hex) => {
            let pair = |at: usize| hex.get(at..at + 2).and_then(|pair| u8::from_str_radix(pair, 16).ok());
            (kind::BINARY, (0..hex.len()).step_by(2).filter_map(pair).collect())
        }
        RegistryValue::List(all) => {
            (kind::MULTI_SZ, registry_hive::texts(&all.iter().map(String::as_str).collect::<Vec<_>>()))
        }
    };
    let name = entry.name.as_deref().unwrap_or_default();
    hive.make(&path).values.push(Value::new(name, kind, data));
}

/// The values in a hive. In packages the first keys say whose part of the registry it is; in one for 32-bit programs they may
/// stand where a 64-bit system looks for them, too.
pub fn entries(root: &Key, is_narrow: bool) -> Vec<RegistryEntry> {
    let mut all = Vec::new();
    let mut found = false;
    for (path, part) in [(&MACHINE.1[..], RegistryRoot::Machine), (&USER.1[..2], RegistryRoot::User)] {
        for key in root.find(path).into_iter().flat_map(|key| &key.keys) {
            found = true;
            // Which user it is, is not known before.
            let is_user = part == RegistryRoot::User && (key.name.starts_with("[{") || key.name.starts_with("S-1-"));
            match is_user {
                true => key.keys.iter().for_each(|key| collect(key, "", part, &mut all)),
                false => collect(key, "", part, &mut all),
            }
        }
    }
    if !found {
        root.keys.iter().for_each(|key| collect(key, "", RegistryRoot::Installed, &mut all));
    }
    let narrow = format!("software\\{}\\", NARROW.to_lowercase());
    let (others, mut plain): (Vec<_>, Vec<_>) = all.into_iter().partition(|entry| {
        entry.root == RegistryRoot::Machine && format!("{}\\", entry.key.to_lowercase()).starts_with(&narrow)
    });
    let known: HashMap<String, RegistryValue> = match is_narrow {
        true => plain.iter().map(|entry| (place(entry), entry.value.clone())).collect(),
        false => HashMap::new(),
    };
    for mut entry in others {
        let rest = entry.key.get(narrow.len()..).map(|rest| format!("\\{rest}")).unwrap_or_default();
        entry.key = format!("{}{rest}", &entry.key[.."software".len()]);
        if known.get(&place(&entry)) == Some(&entry.value) {
            continue;
        }
        entry.view = RegistryView::Bits32;
        plain.push(entry);
    }
    plain
}

fn place(entry: &RegistryEntry) -> String {
    format!("{}\0{}", entry.key, entry.name.as_deref().unwrap_or_default()).to_lowercase()
}

fn collect(key: &Key, above: &str, root: RegistryRoot, all: &mut Vec<RegistryEntry>) {
    let path = if above.is_empty() { key.name.clone() } else { format!("{above}\\{}", key.name) };
    for value in &key.values {
        let name = Some(value.name.clone()).filter(|name| !name.is_empty());
        let (view, value) = (RegistryView::Own, value_of(value));
        all.push(RegistryEntry { root, view, key: path.clone(), name, value });
    }
    key.keys.iter().for_each(|key| collect(key, &path, root, all));
}

fn value_of(value: &Value) -> RegistryValue {
    let bytes = || RegistryValue::Bytes(value.data.iter().map(|byte| format!("{byte:02x}")).collect());
    match value.kind {
        kind::SZ => value.text().map_or_else(bytes, RegistryValue::Text),
        kind::EXPAND_SZ => value.text().map_or_else(bytes, RegistryValue::Expandable),
        kind::MULTI_SZ => value.texts().map_or_else(bytes, RegistryValue::List),
        kind::DWORD => value.number().and_then(|n| u32::try_from(n).ok()).map_or_else(bytes, RegistryValue::Number),
        _ => bytes(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use RegistryRoot::{Installed, Machine, User};
    use RegistryView::{Bits32, Own};

    fn entry(root: RegistryRoot, view: RegistryView, key: &str, text: &str) -> RegistryEntry {
        let value = RegistryValue::Text(text.into());
        RegistryEntry { root, view, key: key.into(), name: Some("Colour".into()), value }
    }

    /// What is carried, each as `root view key = value`, and how much is lost.
    fn kept(entries: &[RegistryEntry], platform: Platform, scope: Scope) -> (Vec<String>, usize) {
        let mut losses = Vec::new();
        let all = carried(&entries.to_vec().into(), Some(platform), scope, &mut losses);
        (all.iter().map(|e| format!("{:?} {:?} {} = {}", e.root, e.view, e.key, e.value)).collect(), losses.len())
    }

    #[test]
    fn a_value_is_where_its_programs_look_for_it() {
        for (root, view, key, platform, scope, expected) in [
            (Installed, Own, r"Software\Hive", Platform::WindowsX64, Scope::Machine, r"Machine Own Software\Hive"),
            (Installed, Own, r"Software\Hive", Platform::WindowsX64, Scope::User, r"User Own Software\Hive"),
            (Machine, Bits32, r"Software\Hive", Platform::WindowsX64, Scope::User, r"Machine Bits32 Software\Hive"),
            // A 32-bit product sees nothing else; users have one part for all programs, and so has all outside of `Software`.
            (Machine, Bits32, r"Software\Hive", Platform::WindowsX86, Scope::User, r"Machine Own Software\Hive"),
            (User, Bits32, r"Software\Hive", Platform::WindowsX64, Scope::User, r"User Own Software\Hive"),
            (Machine, Bits32, r"System\Hive", Platform::WindowsX64, Scope::User, r"Machine Own System\Hive"),
            // The other name of the same place.
            (
                Machine,
                Own,
                r"software\wow6432NODE\Hive",
                Platform::WindowsX64,
                Scope::User,
                r"Machine Bits32 software\Hive",
            ),
        ] {
            let (all, lost) = kept(&[entry(root, view, key, "amber")], platform, scope);
            assert_eq!((all, lost), (vec![format!("{expected} = \"amber\"")], 0), "{root:?} {view:?} {key}");
        }
    }

    #[test]
    fn what_a_hive_cannot_hold_is_a_loss() {
        let of = |text: &str| kept(&[entry(User, Own, r"Software\Hive", text)], Platform::WindowsX64, Scope::User).1;
        assert_eq!((of("amber"), of("{install}/amber")), (0, 1), "nobody knows the folder before");
        let twice = [entry(Installed, Own, r"Software\Hive", "a"), entry(Machine, Own, r"SOFTWARE\HIVE", "b")];
        assert_eq!(kept(&twice, Platform::WindowsX64, Scope::Machine).1, 1, "one place holds one value");
        let letters = [entry(User, Own, r"Software\Hive\One", "a"), entry(User, Own, r"SOFTWARE\hive\Two", "b")];
        let (all, _) = kept(&letters, Platform::WindowsX64, Scope::User);
        assert_eq!(all, [r#"User Own Software\Hive\One = "a""#, r#"User Own Software\Hive\Two = "b""#]);
    }

    #[test]
    fn a_32_bit_products_values_lie_where_either_system_looks() {
        let own = entry(Machine, Own, r"Software\Hive", "amber");
        let all = hives(std::slice::from_ref(&own), Some(Platform::WindowsX86), 0).expect("hives");
        let [(name, bytes)] = &all[..] else { panic!("one hive, and not {}", all.len()) };
        let mut root = registry_hive::read(bytes).expect("a hive");
        assert_eq!(*name, "Registry.dat");
        let there = |root: &Key, path: &[&str]| root.find(path).is_some_and(|key| key.values.len() == 1);
        assert!(there(&root, &["REGISTRY", "MACHINE", "Software", "Hive"]));
        assert!(there(&root, &["REGISTRY", "MACHINE", "Software", "WOW6432Node", "Hive"]));
        assert_eq!(entries(&root, true), std::slice::from_ref(&own), "it is one value");
        // One that is different there is another one.
        let copy = root.make(&["REGISTRY", "MACHINE", "Software", "WOW6432Node", "Hive"]);
        copy.values[0].data = registry_hive::text("white");
        let white = entry(Machine, Bits32, r"Software\Hive", "white");
        assert_eq!(entries(&root, true), [own, white]);
    }
}
