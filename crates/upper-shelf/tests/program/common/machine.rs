//! A machine of Wine that the product of [`super::hives`] was installed on: what is there, compared with the footprint
//! that was read out of the package, item by item; and with the machine before.

use super::Folder;
use super::hives::traces;
use std::collections::BTreeSet;
use std::path::Path;
use test_support::wine::{Registry, Wine};

/// Where kinds of packages may differ.
pub struct Look<'l> {
    /// The shortcut in the menu.
    pub menu: &'l str,
    /// The file of its picture.
    pub picture: &'l str,
    /// What stands behind the product's folder where it is named alone.
    pub bare: &'l str,
}

const SCOPE: [&str; 4] = ["Program Files", "Program Files (x86)", "ProgramData", "users"];

/// Every file and folder that an installation could have left, but for the package itself and Wine's own noise.
pub fn files(machine: &Wine) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for top in SCOPE {
        let lines = test_support::listing(&machine.c().join(top));
        all.extend(lines.into_iter().map(|l| format!("{top}/{l}")).filter(|l| !l.contains("/Temp/")));
    }
    all.extend(test_support::listing(&machine.home()).into_iter().map(|l| format!("home/{l}")));
    all
}

/// The registry without what Wine itself writes at each start.
pub fn quiet(registry: Registry) -> Registry {
    // Wine leaves these behind after any removal, whatever the package was.
    let noise = [
        "\\Installer\\",
        "CurrentVersion\\Installer",
        "\\Wine\\",
        "Explorer\\",
        "Volatile Environment",
        "\\Control\\",
        "Windows NT\\CurrentVersion\\Print",
        "\\Enum\\",
        "\\DeviceClasses\\",
        "\\HardwareConfig",
    ];
    let mut registry = registry;
    for (key, values) in &mut registry {
        // The list of fonts is also one of the fonts of the machine that the tests run on.
        if key.ends_with("CurrentVersion\\Fonts") {
            values.retain(|name, _| name.contains("Hive"));
        }
    }
    registry.into_iter().filter(|(k, values)| !values.is_empty() && !noise.iter().any(|n| k.contains(n))).collect()
}

/// What differs, a line each.
pub fn changed(before: &Registry, after: &Registry) -> Vec<String> {
    let keys: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let differs = keys.into_iter().filter(|k| before.get(*k) != after.get(*k));
    differs.map(|k| format!("{k}: {:?}, then {:?}", before.get(k), after.get(k))).collect()
}

pub fn value<'r>(registry: &'r Registry, key: &str, name: &str) -> Option<&'r str> {
    let key = key.to_lowercase();
    let values = registry.iter().find(|(k, _)| k.to_lowercase() == key).map(|(_, v)| v)?;
    values.get(name).map(String::as_str)
}

/// Compares every trace with the machine; gives the registry.
pub fn is_the_footprint(machine: &Wine, folder: &Folder, package: &Path, look: &Look) -> Registry {
    let registry = machine.registry();
    let at = |path: &str| machine.c().join("Program Files/Hives & Frames").join(path);
    let inside = |path: &str| format!("C:\\Program Files\\Hives & Frames\\{}", path.replace('/', "\\"));
    let exe = inside("hives.exe");
    let mut expected: BTreeSet<String> = BTreeSet::new();
    let mut kinds = BTreeSet::new();
    for trace in traces(folder, package) {
        let text = |key: &str| trace[key].as_str().unwrap_or_default().to_owned();
        let kind = text("trace");
        match kind.as_str() {
            "folder" => {
                assert!(at(&text("path")).is_dir(), "{trace}");
                expected.insert(text("path"));
            }
            "file" => {
                let bytes = std::fs::read(at(&text("path"))).unwrap_or_else(|e| panic!("{trace}: {e}"));
                assert!(bytes == std::fs::read(folder.at("built").join(text("path"))).expect("read"), "{trace}");
                expected.insert(text("path"));
            }
            "shortcut" if text("place") == "menu" => {
                let link = look.menu;
                let bytes = std::fs::read(machine.c().join(link[3..].replace('\\', "/"))).expect("the shortcut");
                let wide = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
                let has = |text: &str| bytes.windows(text.len() * 2).any(|w| w == wide(text));
                assert!(has("All hives") && has(look.picture));
                machine.run(&["start", "/wait", link]);
                let told =
                    std::fs::read_to_string(machine.c().join("where.txt")).expect("the shortcut starts the program");
                assert!(told.contains(&format!("program  {exe}")), "{told}");
                assert!(told.contains("started  C:\\Program Files\\Hives & Frames"), "{told}");
                assert!(told.ends_with("argument with space\nargument quo\"te\nargument [x](y)\n"), "{told}");
            }
            "shortcut" => assert!(
                files(machine).iter().any(|f| f.contains("Desktop/Hives & Frames.lnk")),
                "{trace}: {:?}",
                files(machine)
            ),
            "file-type" => {
                let class = "machine\\Software\\Classes\\works.fernhollow.hives.comb";
                assert_eq!(value(&registry, class, "@"), Some("\"Hive journal\""));
                assert_eq!(
                    value(&registry, &format!("{class}\\shell\\open\\command"), "@"),
                    Some(format!("\"\"{exe}\" \"%1\"\"").as_str())
                );
                for extension in ["comb", "brood"] {
                    let key = format!("machine\\Software\\Classes\\.{extension}");
                    assert_eq!(value(&registry, &key, "@"), Some("\"works.fernhollow.hives.comb\""));
                    assert_eq!(value(&registry, &key, "Content Type"), Some("\"application/vnd.fernhollow.comb\""));
                }
            }
            "link-scheme" => {
                assert_eq!(value(&registry, "machine\\Software\\Classes\\hives", "URL Protocol"), Some("\"\""));
                let command = value(&registry, "machine\\Software\\Classes\\hives\\shell\\open\\command", "@");
                assert_eq!(command, Some(format!("\"\"{exe}\" \"%1\"\"").as_str()));
            }
            "environment" => {
                let now = value(
                    &registry,
                    "machine\\System\\CurrentControlSet\\Control\\Session Manager\\Environment",
                    &text("name"),
                );
                let now = now.expect("the variable");
                match text("name").as_str() {
                    "PATH" => assert!(
                        now.ends_with(&format!("\\wbem;{}\"", inside("tools")))
                            || now.ends_with(&format!(";{}\"", inside("tools"))),
                        "{now}"
                    ),
                    _ => assert_eq!(now, format!("\"{}\"", inside("data"))),
                }
            }
            "registry" => {
                let (root, wow) = (text("root"), if text("view") == "32-bit" { "Wow6432Node\\" } else { "" });
                let root = if root == "user" { "user" } else { "machine" };
                let key = format!("{root}\\Software\\{wow}Fernhollow\\Hives");
                let name = trace["name"].as_str().unwrap_or("@");
                let now = value(&registry, &key, name).unwrap_or_else(|| panic!("{trace} is not there"));
                let expected = match name {
                    "Text" => "\"#[a] (b)\"".to_owned(),
                    "Where" => format!("str(2):\"%TEMP%\\{}{}\"", inside("").trim_end_matches('\\'), look.bare),
                    "Number" => "dword:f0000000".into(),
                    "Bytes" => "hex:00,ff,10".into(),
                    "List" => "str(7):\"one\\0two three\\0\"".into(),
                    "Mine" => "\"yes\"".into(),
                    _ => "\"its own, 32-bit\"".into(),
                };
                assert_eq!(now, expected, "{trace}");
            }
            "font" => {
                let key = "machine\\Software\\Microsoft\\Windows NT\\CurrentVersion\\Fonts";
                assert_eq!(
                    value(&registry, key, "Hive Sans (TrueType)"),
                    Some(format!("\"{}\"", inside("fonts/hive.ttf")).as_str())
                );
            }
            "program" | "choice" | "rule" => {}
            other => panic!("nothing compares a trace of the kind {other}"),
        }
        kinds.insert(kind);
    }
    assert_eq!(kinds.len(), 11, "{kinds:?}");
    // And nothing else is in the product's folder.
    let there: BTreeSet<String> = test_support::listing(&at(""))
        .iter()
        .map(|l| l.split([' ', '/']).next().unwrap_or_default().to_owned())
        .filter(|name| !["uninstall.exe", "uninstall.dat"].contains(&name.as_str()))
        .collect();
    let tops: BTreeSet<String> =
        expected.iter().map(|p| p.split([' ', '/']).next().unwrap_or_default().to_owned()).collect();
    assert_eq!(there, tops);
    registry
}
