//! The published consistency rules of Windows Installer ("Internal Consistency Evaluators - ICEs" in Microsoft's
//! documentation), each by its number: what a package that is made here has to fulfil, and what it breaks on purpose.

use crate::database::Database;
use crate::rows;
use crate::summary;
use std::collections::{HashMap, HashSet};

/// Rules that packages made here break, with the reason.
pub const ON_PURPOSE: [(&str, &str); 4] = [
    (
        "ICE33",
        "file types are registry values, not rows of ProgId and Extension: those would overwrite what another program has, \
         and remove it with the product",
    ),
    (
        "ICE38",
        "in a package for one user each component's key path is its file, not a registry value: a repair has to see \
         that the file is missing, and the folder is local to the machine",
    ),
    (
        "ICE61",
        "a package of the same version replaces another one: two builds of a version must not be installed side by side",
    ),
    (
        "ICE105",
        "a package that asks for its scope has one action with system privileges: it removes the setup program's \
         installation, and only when it is for everyone",
    ),
];

/// A rule's name, and what it finds.
type Rule = (&'static str, fn(&Ice) -> Vec<String>);

const RULES: [Rule; 9] = [
    ("ICE20", |i| i.dialogs()),
    ("ICE43", |i| i.shortcuts()),
    ("ICE57", |i| i.mixed()),
    ("ICE64", |i| i.folders_of_a_person()),
    ("ICE80", |i| i.bits()),
    ("ICE82", |i| i.numbers()),
    ("MsiShortcutProperty", |i| i.schema()),
    ("Feature", |i| i.advertising()),
    ("UIText", |i| i.texts()),
];

/// Texts that the tree of features shows; without them it shows nothing, or an error.
pub const TREE_TEXTS: [&str; 13] = [
    "AbsentPath",
    "GB",
    "KB",
    "MB",
    "MenuAbsent",
    "MenuAllLocal",
    "MenuLocal",
    "SelAbsentAbsent",
    "SelAbsentLocal",
    "SelLocalAbsent",
    "SelLocalLocal",
    "SelChildCostPos",
    "bytes",
];

/// Buttons of the error dialog, and what each answers.
pub const ERROR_BUTTONS: [(&str, &str); 7] = [
    ("A", "ErrorAbort"),
    ("C", "ErrorCancel"),
    ("I", "ErrorIgnore"),
    ("N", "ErrorNo"),
    ("O", "ErrorOk"),
    ("R", "ErrorRetry"),
    ("Y", "ErrorYes"),
];

/// What the rules find; nothing for a package as it should be.
pub fn check(db: &Database) -> Vec<String> {
    let directories = db.each::<rows::Directory>().map(|r| (r.directory, (r.directory_parent, r.default_dir)));
    let ice = Ice { db, directories: directories.collect() };
    let named = |(name, rule): &Rule| rule(&ice).into_iter().map(|f| format!("{name}: {f}")).collect::<Vec<_>>();
    RULES.iter().flat_map(named).collect()
}

struct Ice<'d> {
    db: &'d Database,
    /// Folders: the one above, and the name.
    directories: HashMap<&'d str, (&'d str, &'d str)>,
}

impl Ice<'_> {
    /// The standard folder that a folder is in.
    fn top<'d>(&'d self, folder: &'d str) -> &'d str {
        let mut at = folder;
        for _ in 0..100 {
            if at.ends_with("Folder") {
                return at;
            }
            match self.directories.get(at) {
                Some((parent, _)) if !parent.is_empty() && *parent != "TARGETDIR" => at = parent,
                _ => return at,
            }
        }
        at
    }

    fn dialogs(&self) -> Vec<String> {
        let mut found = Vec::new();
        if self.db.each::<rows::Dialog>().next().is_none() {
            return found;
        }
        let name = self.db.property("ErrorDialog").unwrap_or_default();
        match self.db.each::<rows::Dialog>().find(|r| r.dialog == name) {
            None => found.push("the property ErrorDialog doesn't name a dialog".to_owned()),
            Some(row) if row.attributes.unwrap_or(0) & 0x10000 == 0 => {
                found.push(format!("the dialog {name} isn't marked as an error dialog"));
            }
            Some(_) => {}
        }
        let has = |control: &str, kind: &str| {
            self.db.each::<rows::Control>().any(|r| r.dialog == name && r.control == control && r.kind == kind)
        };
        if !has("ErrorText", "Text") {
            found.push(format!("the dialog {name} has no text ErrorText"));
        }
        for (button, answer) in ERROR_BUTTONS {
            let answers = |r: rows::ControlEvent| {
                r.dialog == name && r.control == button && r.event == "EndDialog" && r.argument == answer
            };
            if !has(button, "PushButton") || !self.db.each::<rows::ControlEvent>().any(answers) {
                found.push(format!("the dialog {name} has no button {button} that returns {answer}"));
            }
        }
        for table in ["InstallUISequence", "AdminUISequence"] {
            let numbers: HashSet<i32> =
                self.db.each_in::<rows::InstallExecuteSequence>(table).filter_map(|r| r.sequence).collect();
            let missing = [-1, -2, -3].into_iter().filter(|n| !numbers.contains(n));
            found.extend(missing.map(|n| format!("{table} has no dialog at {n}")));
        }
        found
    }

    fn shortcuts(&self) -> Vec<String> {
        let roots: HashMap<&str, i32> = self.db.each::<rows::Registry>().map(|r| (r.registry, r.root)).collect();
        let components: HashMap<&str, (i32, &str)> =
            self.db.each::<rows::Component>().map(|r| (r.component, (r.attributes, r.key_path))).collect();
        let wrong = self.db.each::<rows::Shortcut>().filter(|r| {
            // One whose target is a feature is advertised.
            let (attributes, key) = components.get(r.component).copied().unwrap_or_default();
            r.target.starts_with('[') && (attributes & 4 == 0 || roots.get(key) != Some(&1))
        });
        wrong
            .map(|r| format!("the component {} of the shortcut {} has no per-user value", r.component, r.shortcut))
            .collect()
    }

    fn mixed(&self) -> Vec<String> {
        let mut users = HashSet::new();
        let mut machines = HashSet::new();
        for row in self.db.each::<rows::Registry>() {
            match row.root {
                1 => drop(users.insert(row.component)),
                2 => drop(machines.insert(row.component)),
                _ => {}
            }
        }
        for row in self.db.each::<rows::File>() {
            // Only a component with values of a user can be one of both.
            if !users.contains(row.component) {
                continue;
            }
            let folder = self.db.each::<rows::Component>().find(|r| r.component == row.component).map(|r| r.directory);
            if !is_persons(self.top(folder.unwrap_or_default())) {
                machines.insert(row.component);
            }
        }
        let mut both: Vec<&str> = users.intersection(&machines).copied().collect();
        both.sort_unstable();
        both.into_iter().map(|c| format!("the component {c} mixes per-user and per-machine data")).collect()
    }

    fn folders_of_a_person(&self) -> Vec<String> {
        let removed: HashSet<&str> = self.db.each::<rows::RemoveFile>().map(|r| r.dir_property).collect();
        let mut seen = HashSet::new();
        let mut found = Vec::new();
        for row in self.db.each::<rows::Component>() {
            let mut folder = row.directory;
            if !is_persons(self.top(folder)) {
                continue;
            }
            while !folder.ends_with("Folder") && !folder.is_empty() && seen.insert(folder) {
                let Some((above, name)) = self.directories.get(folder) else { break };
                // A folder that only stands for its parent once more is none of its own.
                if !removed.contains(folder) && *name != "." {
                    found.push(format!("nothing removes the folder {folder} from a user's own folders"));
                }
                folder = above;
            }
        }
        found
    }

    fn bits(&self) -> Vec<String> {
        let template = self.db.summary.text(summary::TEMPLATE);
        let wide = ["x64", "Arm64", "Intel64"].contains(&template.split(';').next().unwrap_or_default());
        let mut found = Vec::new();
        let mut tops: HashMap<&str, &str> = HashMap::new();
        for row in self.db.each::<rows::Component>() {
            let folder = row.directory;
            let top = *tops.entry(folder).or_insert_with(|| self.top(folder));
            let is_64 = row.attributes & 256 != 0;
            let of_64 = ["ProgramFiles64Folder", "CommonFiles64Folder", "System64Folder"].contains(&top);
            let of_32 = wide && ["ProgramFilesFolder", "CommonFilesFolder", "SystemFolder"].contains(&top);
            if is_64 && of_32 || !is_64 && of_64 {
                let bits = if is_64 { 64 } else { 32 };
                found.push(format!("the component {} of {bits} bits is in {top}", row.component));
            }
        }
        let locators = self.db.each::<rows::RegLocator>().filter(|r| !wide && r.kind.unwrap_or(0) & 16 != 0);
        found.extend(locators.map(|r| format!("{} searches the 64-bit registry", r.signature)));
        found
    }

    fn numbers(&self) -> Vec<String> {
        let mut found = Vec::new();
        for table in ["InstallExecuteSequence", "InstallUISequence"] {
            let mut at: HashMap<i32, &str> = HashMap::new();
            for row in self.db.each_in::<rows::InstallExecuteSequence>(table) {
                if let Some(other) = at.insert(row.sequence.unwrap_or(0), row.action) {
                    found.push(format!("{table}: {} and {other} have the same number", row.action));
                }
            }
        }
        found
    }

    fn schema(&self) -> Vec<String> {
        let least = self.db.summary.number(summary::PAGE_COUNT).unwrap_or(0);
        let needs = self.db.each::<rows::MsiShortcutProperty>().next().is_some();
        let wrong = needs && least < 500;
        wrong
            .then(|| format!("shortcut properties need Windows Installer 5.0 (500), not {least}"))
            .into_iter()
            .collect()
    }

    fn advertising(&self) -> Vec<String> {
        // Without an entry point (a shortcut to a feature, a class) nothing would ever bring an advertised feature.
        let mut features: HashSet<&str> = self.db.each::<rows::Feature>().map(|r| r.feature).collect();
        for row in self.db.each::<rows::Shortcut>() {
            features.remove(row.target);
        }
        let may = |r: &rows::Feature| features.contains(r.feature) && r.attributes & 8 == 0;
        let wrong = self.db.each::<rows::Feature>().filter(may);
        wrong.map(|r| format!("{} may be advertised, but nothing would install it", r.feature)).collect()
    }

    fn texts(&self) -> Vec<String> {
        if !self.db.each::<rows::Control>().any(|r| r.kind == "SelectionTree") {
            return Vec::new();
        }
        let there: HashSet<&str> = self.db.each::<rows::UIText>().map(|r| r.key).collect();
        let missing = TREE_TEXTS.into_iter().filter(|t| !there.contains(t));
        missing.map(|t| format!("the feature tree has no text {t}")).collect()
    }
}

/// Whether a standard folder is one of a user's own.
fn is_persons(folder: &str) -> bool {
    const ALL: [&str; 10] = [
        "AppDataFolder",
        "DesktopFolder",
        "FavoritesFolder",
        "LocalAppDataFolder",
        "MyPicturesFolder",
        "PersonalFolder",
        "ProgramMenuFolder",
        "SendToFolder",
        "StartMenuFolder",
        "StartupFolder",
    ];
    ALL.contains(&folder)
}
