//! The published consistency rules of Windows Installer ("Internal Consistency Evaluators - ICEs" in Microsoft's
//! documentation), each by its number: what a package that is made here has to fulfil, and what it breaks on purpose.

use crate::database::{Database, Value};
use crate::summary;
use std::collections::{HashMap, HashSet};

/// Rules that packages made here break, with the reason.
pub const ON_PURPOSE: [(&str, &str); 4] = [
    (
        "ICE33",
        "file types are registry values, not rows of ProgId and Extension: those would overwrite what another program has, \
         and take it away with the product",
    ),
    (
        "ICE38",
        "in a package for one person each component's key path is its file, not a registry value: a repair has to see \
         that the file is missing, and the folder is local to the machine",
    ),
    (
        "ICE61",
        "a package of the same version replaces another one: two builds of a version must not be installed side by side",
    ),
    (
        "ICE105",
        "a package that asks for whom it is has one action with the system's rights: it removes the setup program's \
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
    let directories = db.rows("Directory").map(|r| {
        let text = |n: usize| r.get(n).map_or("", |v| db.str(*v));
        (text(0), (text(1), text(2)))
    });
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
    fn text(&self, row: &[Value], column: usize) -> &str {
        row.get(column).map_or("", |v| self.db.str(*v))
    }

    fn int(&self, row: &[Value], column: usize) -> i32 {
        row.get(column).and_then(|v| self.db.int(*v)).unwrap_or(0)
    }

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
        if self.db.rows("Dialog").next().is_none() {
            return found;
        }
        let name = self.db.property("ErrorDialog").unwrap_or_default();
        match self.db.rows("Dialog").find(|r| self.text(r, 0) == name) {
            None => found.push("the property ErrorDialog names no dialog".to_owned()),
            Some(row) if self.int(row, 5) & 0x10000 == 0 => {
                found.push(format!("the dialog {name} is not marked as one for errors"));
            }
            Some(_) => {}
        }
        let has = |control: &str, kind: &str| {
            let is_it = |r: &&[Value]| self.text(r, 0) == name && self.text(r, 1) == control && self.text(r, 2) == kind;
            self.db.rows("Control").any(|r| is_it(&r))
        };
        if !has("ErrorText", "Text") {
            found.push(format!("the dialog {name} has no text ErrorText"));
        }
        for (button, answer) in ERROR_BUTTONS {
            let answers = |r: &[Value]| {
                self.text(r, 0) == name
                    && self.text(r, 1) == button
                    && self.text(r, 2) == "EndDialog"
                    && self.text(r, 3) == answer
            };
            if !has(button, "PushButton") || !self.db.rows("ControlEvent").any(answers) {
                found.push(format!("the dialog {name} has no button {button} that answers {answer}"));
            }
        }
        for table in ["InstallUISequence", "AdminUISequence"] {
            let numbers: HashSet<i32> = self.db.rows(table).map(|r| self.int(r, 2)).collect();
            let missing = [-1, -2, -3].into_iter().filter(|n| !numbers.contains(n));
            found.extend(missing.map(|n| format!("{table} has no dialog at {n}")));
        }
        found
    }

    fn shortcuts(&self) -> Vec<String> {
        let roots: HashMap<&str, i32> = self.db.rows("Registry").map(|r| (self.text(r, 0), self.int(r, 1))).collect();
        let components: HashMap<&str, (i32, &str)> =
            self.db.rows("Component").map(|r| (self.text(r, 0), (self.int(r, 3), self.text(r, 5)))).collect();
        let wrong = self.db.rows("Shortcut").filter(|r| {
            // One whose target is a feature is advertised.
            let (attributes, key) = components.get(self.text(r, 3)).copied().unwrap_or_default();
            self.text(r, 4).starts_with('[') && (attributes & 4 == 0 || roots.get(key) != Some(&1))
        });
        wrong
            .map(|r| {
                format!(
                    "no value of a person stands for the component {} of the shortcut {}",
                    self.text(r, 3),
                    self.text(r, 0)
                )
            })
            .collect()
    }

    fn mixed(&self) -> Vec<String> {
        let mut persons = HashSet::new();
        let mut machines = HashSet::new();
        for row in self.db.rows("Registry") {
            match self.int(row, 1) {
                1 => drop(persons.insert(self.text(row, 5))),
                2 => drop(machines.insert(self.text(row, 5))),
                _ => {}
            }
        }
        for row in self.db.rows("File") {
            // Only a component with values of a person can be one of both.
            if !persons.contains(self.text(row, 1)) {
                continue;
            }
            let folder =
                self.db.rows("Component").find(|r| self.text(r, 0) == self.text(row, 1)).map(|r| self.text(r, 2));
            if !is_persons(self.top(folder.unwrap_or_default())) {
                machines.insert(self.text(row, 1));
            }
        }
        let mut both: Vec<&str> = persons.intersection(&machines).copied().collect();
        both.sort_unstable();
        both.into_iter()
            .map(|c| format!("the component {c} has what is a person's and what is the machine's"))
            .collect()
    }

    fn folders_of_a_person(&self) -> Vec<String> {
        let removed: HashSet<&str> = self.db.rows("RemoveFile").map(|r| self.text(r, 3)).collect();
        let mut seen = HashSet::new();
        let mut found = Vec::new();
        for row in self.db.rows("Component") {
            let mut folder = self.text(row, 2);
            if !is_persons(self.top(folder)) {
                continue;
            }
            while !folder.ends_with("Folder") && !folder.is_empty() && seen.insert(folder) {
                let Some((above, name)) = self.directories.get(folder) else { break };
                // A folder that only stands for its parent once more is none of its own.
                if !removed.contains(folder) && *name != "." {
                    found.push(format!("nothing takes the folder {folder} in a person's own folders away"));
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
        for row in self.db.rows("Component") {
            let folder = self.text(row, 2);
            let top = *tops.entry(folder).or_insert_with(|| self.top(folder));
            let is_64 = self.int(row, 3) & 256 != 0;
            let of_64 = ["ProgramFiles64Folder", "CommonFiles64Folder", "System64Folder"].contains(&top);
            let of_32 = wide && ["ProgramFilesFolder", "CommonFilesFolder", "SystemFolder"].contains(&top);
            if is_64 && of_32 || !is_64 && of_64 {
                let bits = if is_64 { 64 } else { 32 };
                found.push(format!("the component {} of {bits} bits is in {top}", self.text(row, 0)));
            }
        }
        let locators = self.db.rows("RegLocator").filter(|r| !wide && self.int(r, 4) & 16 != 0);
        found.extend(locators.map(|r| format!("{} looks where 64-bit programs look", self.text(r, 0))));
        found
    }

    fn numbers(&self) -> Vec<String> {
        let mut found = Vec::new();
        for table in ["InstallExecuteSequence", "InstallUISequence"] {
            let mut at: HashMap<i32, &str> = HashMap::new();
            for row in self.db.rows(table) {
                if let Some(other) = at.insert(self.int(row, 2), self.text(row, 0)) {
                    found.push(format!("{table}: {} and {other} have the same number", self.text(row, 0)));
                }
            }
        }
        found
    }

    fn schema(&self) -> Vec<String> {
        let least = self.db.summary.number(summary::PAGE_COUNT).unwrap_or(0);
        let needs = self.db.rows("MsiShortcutProperty").next().is_some();
        let wrong = needs && least < 500;
        wrong
            .then(|| format!("properties of shortcuts need Windows Installer 5.0 (500), not {least}"))
            .into_iter()
            .collect()
    }

    fn advertising(&self) -> Vec<String> {
        // Without an entry point (a shortcut to a feature, a class) nothing would ever bring an advertised feature.
        let mut features: HashSet<&str> = self.db.rows("Feature").map(|r| self.text(r, 0)).collect();
        for row in self.db.rows("Shortcut") {
            features.remove(self.text(row, 4));
        }
        let may = |r: &&[Value]| features.contains(self.text(r, 0)) && self.int(r, 7) & 8 == 0;
        let wrong = self.db.rows("Feature").filter(may);
        wrong.map(|r| format!("{} may be advertised, and nothing would bring it", self.text(r, 0))).collect()
    }

    fn texts(&self) -> Vec<String> {
        if !self.db.rows("Control").any(|r| self.text(r, 2) == "SelectionTree") {
            return Vec::new();
        }
        let there: HashSet<&str> = self.db.rows("UIText").map(|r| self.text(r, 0)).collect();
        let missing = TREE_TEXTS.into_iter().filter(|t| !there.contains(t));
        missing.map(|t| format!("the tree of features has no text {t}")).collect()
    }
}

/// Whether a standard folder is one of a person's own.
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
