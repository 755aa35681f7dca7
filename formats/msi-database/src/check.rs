//! Finds what Windows insists on and other readers let pass. Each finding is a sentence that names table, row and column.

pub mod ice;

use crate::compound::Compound;
use crate::database::{Database, Table, Value};
use crate::names::unpack;
use crate::rows;
use crate::schema::{self, Kind, Rule};
use crate::summary;
use crate::write::encode;
use std::collections::{HashMap, HashSet};
use std::io::{Read, Seek};

/// Tables without which nothing can be installed.
const REQUIRED: [&str; 8] = [
    "Component",
    "Directory",
    "Feature",
    "FeatureComponents",
    "InstallExecuteSequence",
    "Media",
    "Property",
    "_Validation",
];
/// Properties without which nothing can be installed.
const PROPERTIES: [&str; 5] = ["Manufacturer", "ProductCode", "ProductLanguage", "ProductName", "ProductVersion"];
/// Standard actions that every installation needs.
const ACTIONS: [&str; 8] = [
    "CostInitialize",
    "FileCost",
    "CostFinalize",
    "InstallValidate",
    "InstallInitialize",
    "ProcessComponents",
    "RegisterProduct",
    "InstallFinalize",
];
/// No more findings than these are listed.
const MOST: usize = 200;

/// Whether a text is an identifier: letters, digits, `_` and `.`, beginning with a letter or `_`.
pub fn is_identifier(text: &str) -> bool {
    let first = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_');
    first && text.len() <= 72 && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '.')
}

/// Whether a text is a GUID in upper case and braces.
pub fn is_guid(text: &str) -> bool {
    let Some(inner) = text.strip_prefix('{').and_then(|t| t.strip_suffix('}')) else { return false };
    inner.split('-').map(str::len).eq([8, 4, 4, 4, 12])
        && inner.chars().all(|c| c == '-' || c.is_ascii_digit() || ('A'..='F').contains(&c))
}

/// All findings; none for a package as it should be.
pub fn check<R: Read + Seek>(compound: &Compound<R>, db: &Database, remarks: &[String]) -> Vec<String> {
    let mut it = Strict { db, found: remarks.to_vec() };
    if compound.clsid != crate::write::PACKAGE_CLASS {
        it.say("the file doesn't have the class ID of an installation package".into());
    }
    for name in REQUIRED {
        if db.table(name).is_none_or(|t| t.rows().len() == 0) {
            it.say(format!("the table {name} is missing or empty"));
        }
    }
    let streams: HashSet<String> =
        compound.streams().iter().map(|s| unpack(&s.name)).filter(|(_, table)| !table).map(|(n, _)| n).collect();
    for (name, table) in db.tables() {
        it.table(name, table, &streams);
    }
    it.references();
    it.validation();
    it.properties();
    it.summary();
    it.sequences();
    it.media(&streams);
    it.components();
    it.strings();
    if it.found.len() > MOST {
        let more = it.found.len() - MOST;
        it.found.truncate(MOST);
        it.found.push(format!("and {more} more"));
    }
    it.found
}

struct Strict<'d> {
    db: &'d Database,
    found: Vec<String>,
}

impl Strict<'_> {
    fn say(&mut self, finding: String) {
        self.found.push(finding);
    }

    fn text(&self, row: &[Value], column: usize) -> &str {
        row.get(column).map_or("", |v| self.db.str(*v))
    }

    fn table(&mut self, name: &str, table: &Table, streams: &HashSet<String>) {
        let standard = schema::TABLES.get(name);
        if table.keys() == 0 {
            self.say(format!("{name} has no key"));
        }
        if let Some(standard) = standard {
            let same = standard.len() <= table.columns().len()
                && standard
                    .iter()
                    .zip(table.columns())
                    .all(|((s, _), c)| s.name == c.name && fits(s.kind, c.kind) && s.key == c.key);
            if !same {
                self.say(format!("the columns of {name} aren't those that Windows expects"));
                return;
            }
        }
        for row in table.rows() {
            let key = self.text(row, 0).to_owned();
            for (n, (column, value)) in table.columns().iter().zip(row).enumerate() {
                let wrong = if *value == Value::Null {
                    // A key may be empty where the standard says so.
                    (!column.nullable).then(|| "is empty".to_owned())
                } else if *value == Value::Stream {
                    let stream = self.db.stream_name(name, row);
                    (!streams.contains(&stream)).then(|| format!("has no stream {stream}"))
                } else {
                    standard.and_then(|s| self.value(&s[n].1, *value))
                };
                if let Some(wrong) = wrong {
                    self.say(format!("{name}, row {key:?}: {} {wrong}", column.name));
                }
            }
        }
    }

    /// What is wrong with a value by its column's rule.
    fn value(&self, rule: &Rule, value: Value) -> Option<String> {
        if let Value::Int(n) = value {
            let set = !rule.set.is_empty() && !rule.set.contains(&n.to_string());
            let out = rule.min.is_some_and(|min| n < min) || rule.max.is_some_and(|max| n > max);
            return (set || out).then(|| format!("is {n}, which is not allowed there"));
        }
        let text = self.db.str(value);
        if !rule.set.is_empty() && !rule.set.iter().any(|s| s == text) {
            return Some(format!("is {text:?}, which is not allowed there"));
        }
        let good = match rule.category.as_deref() {
            Some("Identifier") => is_identifier(text),
            Some("Guid") => is_guid(text),
            Some("UpperCase") => !text.chars().any(char::is_lowercase),
            Some("Version") => {
                let is_version = text.split('.').count() <= 4 && text.split('.').all(|p| p.parse::<u16>().is_ok());
                // A file may take another file's version.
                is_version || is_identifier(text)
            }
            Some("Language") => text.split(',').all(|p| p.parse::<u16>().is_ok()),
            Some("Filename") => file_name(text),
            Some("DefaultDir") => text.split(':').all(|p| p == "." || file_name(p)) && text.split(':').count() <= 2,
            Some("Cabinet") => {
                // A cabinet beside the package may have a long name only.
                text.strip_prefix('#').map_or_else(|| file_name(text), is_identifier)
            }
            Some("Condition") => balanced(text),
            Some("Formatted" | "Template" | "RegPath") => !text.contains('\0'),
            _ => true,
        };
        (!good).then(|| format!("is {text:?}, which is not in the form of {}", rule.category.as_deref().unwrap_or("")))
    }

    /// Every row that another row refers to is there.
    fn references(&mut self) {
        let keys: HashMap<&str, HashSet<&str>> =
            self.db.tables().map(|(n, t)| (n, t.rows().map(|r| self.text(r, 0)).collect())).collect();
        let mut missing = Vec::new();
        for (name, table) in self.db.tables() {
            let Some(standard) = schema::TABLES.get(name) else { continue };
            for (n, (column, rule)) in standard.iter().enumerate() {
                let Some((to, 1)) = rule.refers.as_ref().map(|(t, c)| (t.as_str(), *c)) else { continue };
                // Versions are mostly versions, and only seldom another file.
                if rule.category.as_deref() == Some("Version") {
                    continue;
                }
                for row in table.rows() {
                    let key = self.text(row, n);
                    if !key.is_empty() && !keys.get(to).is_some_and(|k| k.contains(key)) {
                        missing.push(format!(
                            "{name}, row {:?}: {} refers to {key:?}, which {to} doesn't have",
                            self.text(row, 0),
                            column.name
                        ));
                    }
                }
            }
        }
        self.found.extend(missing);
    }

    fn validation(&mut self) {
        let described: HashSet<(&str, &str)> =
            self.db.each::<rows::Validation>().map(|r| (r.table, r.column)).collect();
        let mut missing = Vec::new();
        for (name, table) in self.db.tables() {
            for column in table.columns() {
                if !described.contains(&(name, column.name.as_str())) {
                    missing.push(format!("_Validation has no entry for {name}.{}", column.name));
                }
            }
        }
        self.found.extend(missing);
    }

    fn properties(&mut self) {
        for name in PROPERTIES {
            if self.db.property(name).is_none_or(str::is_empty) {
                self.say(format!("the property {name} is missing"));
            }
        }
        for name in ["ProductCode", "UpgradeCode"] {
            if self.db.property(name).is_some_and(|code| !is_guid(code)) {
                self.say(format!("the property {name} isn't an upper-case GUID"));
            }
        }
        let version = self.db.property("ProductVersion").unwrap_or_default();
        let parts: Vec<Option<u32>> = version.split('.').map(|p| p.parse().ok()).collect();
        let limits = [255, 255, 65535, u32::MAX];
        if parts.len() > 4 || parts.iter().zip(limits).any(|(p, limit)| p.is_none_or(|p| p > limit)) {
            self.say(format!("the version {version:?} can't be compared"));
        }
        if self.db.property("ProductLanguage").is_some_and(|l| l.parse::<u16>().is_err()) {
            self.say("the property ProductLanguage isn't a number".into());
        }
        let known: HashSet<&str> = self.db.each::<rows::Upgrade>().map(|r| r.action_property).collect();
        let secure: HashSet<&str> = self.db.property("SecureCustomProperties").unwrap_or_default().split(';').collect();
        let missing: Vec<String> =
            known.difference(&secure).map(|p| format!("SecureCustomProperties doesn't list {p}")).collect();
        self.found.extend(missing);
    }

    fn summary(&mut self) {
        let summary = &self.db.summary;
        let template = summary.text(summary::TEMPLATE).to_owned();
        let processor = template.split(';').next().unwrap_or_default();
        if !["Intel", "x64", "Arm64", "Intel64", ""].contains(&processor) || !template.contains(';') {
            self.say(format!("the summary's template {template:?} names no processor and language"));
        }
        if !is_guid(summary.text(summary::REVISION)) {
            self.say("the summary has no upper-case package code".into());
        }
        if summary.number(summary::PAGE_COUNT).is_none_or(|n| n < 100) {
            self.say("the summary doesn't state the required version of Windows Installer".into());
        }
        if processor == "Arm64" && summary.number(summary::PAGE_COUNT).is_some_and(|n| n < 500) {
            self.say("a package for Arm64 needs Windows Installer 5.0 (500)".into());
        }
        if processor == "x64" && summary.number(summary::PAGE_COUNT).is_some_and(|n| n < 200) {
            self.say("a package for x64 needs Windows Installer 2.0 (200)".into());
        }
        if summary.number(summary::WORD_COUNT).is_none() {
            self.say("the summary doesn't state whether files are compressed".into());
        }
        if let Some(page) = summary.number(summary::CODE_PAGE)
            && page as u16 != self.db.code_page as u16
        {
            self.say(format!("the summary's code page {} is not the strings' {}", page as u16, self.db.code_page));
        }
        let wide = matches!(processor, "x64" | "Arm64" | "Intel64");
        let wrong: Vec<String> = self
            .db
            .each::<rows::Component>()
            .filter(|r| !wide && r.attributes & 256 != 0)
            .map(|r| format!("Component, row {:?}: 64-bit, in a package for {processor}", r.component))
            .collect();
        self.found.extend(wrong);
    }

    fn sequences(&mut self) {
        let custom: HashSet<&str> = self
            .db
            .each::<rows::CustomAction>()
            .map(|r| r.action)
            .chain(self.db.each::<rows::Dialog>().map(|r| r.dialog))
            .collect();
        // Actions that put a text into a property each (type 51) may come in any order.
        let texts: HashSet<&str> =
            self.db.each::<rows::CustomAction>().filter(|r| r.kind == 51).map(|r| r.action).collect();
        let mut wrong = Vec::new();
        for table in [
            "InstallExecuteSequence",
            "InstallUISequence",
            "AdminExecuteSequence",
            "AdminUISequence",
            "AdvtExecuteSequence",
        ] {
            let mut at: HashMap<i32, &str> = HashMap::new();
            for row in self.db.each_in::<rows::InstallExecuteSequence>(table) {
                let (action, number) = (row.action, row.sequence.unwrap_or(0));
                if number > 0
                    && let Some(other) = at.insert(number, action)
                    && !(texts.contains(other) && texts.contains(action))
                {
                    wrong.push(format!("{table}: {action} and {other} have the same number {number}"));
                }
                if !standard_action(action) && !custom.contains(action) {
                    wrong.push(format!("{table}: unknown action {action:?}"));
                }
            }
        }
        let execute: HashMap<&str, i32> =
            self.db.each::<rows::InstallExecuteSequence>().map(|r| (r.action, r.sequence.unwrap_or(0))).collect();
        let mut last = 0;
        for action in ACTIONS {
            match execute.get(action) {
                None => wrong.push(format!("InstallExecuteSequence doesn't have {action}")),
                Some(at) if *at < last => wrong.push(format!("InstallExecuteSequence: {action} comes too early")),
                Some(at) => last = *at,
            }
        }
        for (table, action) in [
            ("File", "InstallFiles"),
            ("Registry", "WriteRegistryValues"),
            ("Shortcut", "CreateShortcuts"),
            ("Environment", "WriteEnvironmentStrings"),
            ("ServiceInstall", "InstallServices"),
            ("CreateFolder", "CreateFolders"),
            ("DuplicateFile", "DuplicateFiles"),
            ("Upgrade", "FindRelatedProducts"),
            ("AppSearch", "AppSearch"),
            ("LaunchCondition", "LaunchConditions"),
        ] {
            if self.db.table(table).is_some_and(|t| t.rows().len() > 0) && !execute.contains_key(action) {
                wrong.push(format!("{table} has rows, but InstallExecuteSequence doesn't have {action}"));
            }
        }
        self.found.extend(wrong);
    }

    fn media(&mut self, streams: &HashSet<String>) {
        let mut last = 0;
        let mut wrong = Vec::new();
        for row in self.db.each::<rows::Media>() {
            let (disk, end, cabinet) = (row.disk_id, row.last_sequence, row.cabinet);
            if end < last {
                wrong.push(format!("Media, row {disk}: LastSequence {end} is less than the previous row's"));
            }
            last = end;
            if let Some(name) = cabinet.strip_prefix('#')
                && !streams.contains(name)
            {
                wrong.push(format!("Media, row {disk}: there is no cabinet {name} inside"));
            }
        }
        let mut seen = HashSet::new();
        for row in self.db.each::<rows::File>() {
            let sequence = row.sequence;
            if sequence > last || !seen.insert(sequence) {
                wrong.push(format!(
                    "File, row {:?}: the sequence {sequence} is in no cabinet, or already taken",
                    row.file
                ));
            }
        }
        self.found.extend(wrong);
    }

    fn components(&mut self) {
        let files: HashMap<&str, &str> = self.db.each::<rows::File>().map(|r| (r.file, r.component)).collect();
        let values: HashMap<&str, &str> = self.db.each::<rows::Registry>().map(|r| (r.registry, r.component)).collect();
        let used: HashSet<&str> = self.db.each::<rows::FeatureComponents>().map(|r| r.component).collect();
        let mut codes = HashSet::new();
        let mut wrong = Vec::new();
        for row in self.db.each::<rows::Component>() {
            let (name, code, key) = (row.component, row.component_id, row.key_path);
            if !code.is_empty() && !codes.insert(code) {
                wrong.push(format!("Component, row {name:?}: another one has the same GUID"));
            }
            if !used.contains(name) {
                wrong.push(format!("Component, row {name:?}: it is in no feature"));
            }
            let attributes = row.attributes;
            let owner = if attributes & 4 != 0 { values.get(key) } else { files.get(key) };
            if !key.is_empty() && attributes & 32 == 0 && owner != Some(&name) {
                wrong.push(format!("Component, row {name:?}: the key path {key:?} is not its own"));
            }
        }
        let hashed: Vec<String> = self.db.each::<rows::MsiFileHash>().map(|r| r.file.to_owned()).collect();
        let versioned: HashSet<&str> =
            self.db.each::<rows::File>().filter(|r| !r.version.is_empty()).map(|r| r.file).collect();
        wrong.extend(
            hashed
                .iter()
                .filter(|f| versioned.contains(f.as_str()))
                .map(|f| format!("MsiFileHash, row {f:?}: the file has a version")),
        );
        self.found.extend(wrong);
    }

    fn strings(&mut self) {
        let page = self.db.code_page;
        let lost: Vec<String> = self
            .db
            .strings()
            .filter(|s| encode(s, page).is_none())
            .map(|s| format!("code page {page} can't hold {s:?}"))
            .collect();
        self.found.extend(lost);
    }
}

/// A column of four bytes may stand where two are usual (as in packages with very many files), and texts of any width.
fn fits(standard: Kind, there: Kind) -> bool {
    match standard {
        Kind::Short | Kind::Long => matches!(there, Kind::Short | Kind::Long),
        Kind::Text(_) => matches!(there, Kind::Text(_)),
        Kind::Stream => there == Kind::Stream,
    }
}

/// `SHORT|long`, or a name that is short.
fn file_name(text: &str) -> bool {
    let good = |name: &str| !name.is_empty() && !name.contains(['\\', '/', '?', '|', '>', '<', ':', '*', '"']);
    match text.split_once('|') {
        Some((short, long)) => {
            let (stem, ending) = short.split_once('.').unwrap_or((short, ""));
            let plain = good(short) && !short.contains([' ', '+', ',', ';', '=', '[', ']']);
            good(long) && plain && (1..=8).contains(&stem.chars().count()) && ending.chars().count() <= 3
        }
        None => good(text),
    }
}

/// Whether brackets and quotes of a condition match.
fn balanced(text: &str) -> bool {
    let (mut depth, mut quoted) = (0i32, false);
    for c in text.chars() {
        match c {
            '"' => quoted = !quoted,
            '(' if !quoted => depth += 1,
            ')' if !quoted => depth -= 1,
            _ => {}
        }
        if depth < 0 {
            return false;
        }
    }
    depth == 0 && !quoted && !text.trim().is_empty()
}

/// Whether it is one of Windows Installer's own actions.
fn standard_action(action: &str) -> bool {
    const ALL: &str = " ADMIN ADVERTISE AllocateRegistrySpace AppSearch BindImage CCPSearch CostFinalize CostInitialize \
        CreateFolders CreateShortcuts DeleteServices DisableRollback DuplicateFiles ExecuteAction FileCost \
        FindRelatedProducts ForceReboot INSTALL InstallAdminPackage InstallExecute InstallExecuteAgain InstallFiles \
        InstallFinalize InstallInitialize InstallODBC InstallServices InstallSFPCatalogFile InstallValidate \
        IsolateComponents LaunchConditions MigrateFeatureStates MoveFiles MsiConfigureServices MsiPublishAssemblies \
        MsiUnpublishAssemblies PatchFiles ProcessComponents PublishComponents PublishFeatures PublishProduct \
        RegisterClassInfo RegisterComPlus RegisterExtensionInfo RegisterFonts RegisterMIMEInfo RegisterProduct \
        RegisterProgIdInfo RegisterTypeLibraries RegisterUser RemoveDuplicateFiles RemoveEnvironmentStrings \
        RemoveExistingProducts RemoveFiles RemoveFolders RemoveIniValues RemoveODBC RemoveRegistryValues \
        RemoveShortcuts ResolveSource RMCCPSearch ScheduleReboot SelfRegModules SelfUnregModules SEQUENCE \
        SetODBCFolders StartServices StopServices UnpublishComponents UnpublishFeatures UnregisterClassInfo \
        UnregisterComPlus UnregisterExtensionInfo UnregisterFonts UnregisterMIMEInfo UnregisterProgIdInfo \
        UnregisterTypeLibraries ValidateProductID WriteEnvironmentStrings WriteIniValues WriteRegistryValues ";
    ALL.contains(&format!(" {action} "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_are_told_apart() {
        assert!(is_identifier("F1_a.b") && !is_identifier("1a") && !is_identifier("a b") && !is_identifier(""));
        assert!(
            is_guid("{01234567-89AB-CDEF-0123-456789ABCDEF}") && !is_guid("{01234567-89ab-cdef-0123-456789abcdef}")
        );
        assert!(
            file_name("A~1.TXT|a b.text") && !file_name("A|b|c") && !file_name("TOOLONGNAME|b") && !file_name("a:b")
        );
        assert!(balanced("NOT (A OR B)") && !balanced("(A") && !balanced("A)") && !balanced("\""));
        assert!(standard_action("InstallFiles") && !standard_action("Install"));
    }
}
