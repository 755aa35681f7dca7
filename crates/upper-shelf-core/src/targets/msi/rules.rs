//! How the package goes onto a machine: properties, upgrades, conditions, the chosen folder; and back.

use super::codes;
use super::layout::{Layout, Result, upgrade_code};
use super::words::{command_line, formatted};
use crate::footprint::{Footprint, Trace};
use crate::targets::Job;
use msi_database::database::{Database, Value};

/// The standard folder that programs go into, and the folder below it, for a footprint's scope.
pub fn programs_folder(footprint: &Footprint) -> (&'static str, Option<&'static str>) {
    match (footprint.rule("scope"), super::layout::is_64(footprint)) {
        (Some("person"), _) => ("LocalAppDataFolder", Some("Programs")),
        (_, true) => ("ProgramFiles64Folder", None),
        (_, false) => ("ProgramFilesFolder", None),
    }
}

/// A version of Windows as it is compared: the build from 10 on, else version times 100.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Windows {
    /// `10.0.BUILD`.
    Build(u32),
    /// Before 10.
    Number(u32),
}

impl Windows {
    /// From `10.0.17763` or `6.1`.
    pub fn parse(text: &str) -> Option<Self> {
        let parts: Option<Vec<u32>> = text.split('.').map(|p| p.parse().ok()).collect();
        match parts?.as_slice() {
            [major, _, build] if *major >= 10 => Some(Self::Build(*build)),
            [major, _] if *major >= 10 => Some(Self::Build(10240)),
            [major, minor, ..] if *minor < 100 => Some(Self::Number(major * 100 + minor)),
            _ => None,
        }
    }

    /// The one form in which it is carried.
    pub fn text(self) -> String {
        match self {
            Self::Build(build) => format!("10.0.{build}"),
            Self::Number(n) => format!("{}.{}", n / 100, n % 100),
        }
    }

    fn condition(self) -> String {
        match self {
            Self::Build(build) => format!("Installed OR WINDOWSBUILD >= {build}"),
            Self::Number(n) => format!("Installed OR VersionNT >= {n}"),
        }
    }

    fn from_condition(condition: &str) -> Option<Self> {
        let rest = condition.strip_prefix("Installed OR ")?;
        let build = rest.strip_prefix("WINDOWSBUILD >= ").and_then(|n| n.parse().ok()).map(Self::Build);
        build.or_else(|| rest.strip_prefix("VersionNT >= ").and_then(|n| n.parse().ok()).map(Self::Number))
    }
}

/// The condition that refuses to replace a newer version.
const NO_NEWER: &str = "Installed OR NOT NEWERFOUND";

pub fn properties(it: &mut Layout) -> Result<()> {
    let job: &Job = it.job;
    let p = &job.footprint.product;
    let text = |v: &Option<String>| v.clone().unwrap_or_default();
    let id = text(&p.id);
    let version = codes::version(&text(&p.version)).unwrap_or_else(|_| "0.0.0".into());
    let upgrade = upgrade_code(&id, job.footprint.rule("upgrade-code"));
    let scope = job.footprint.rule("scope").unwrap_or("machine");
    let mut properties = vec![
        ("ProductName", text(&p.name)),
        ("ProductVersion", version.clone()),
        ("Manufacturer", text(&p.publisher)),
        ("ProductLanguage", "1033".into()),
        ("UpgradeCode", upgrade.clone()),
        ("UpperShelfId", id),
        ("UpperShelfVersion", text(&p.version)),
        ("ARPPRODUCTICON", super::layout::ICON.into()),
        ("ARPCOMMENTS", text(&p.summary)),
        ("ARPURLINFOABOUT", text(&p.homepage)),
        ("INSTALLLEVEL", "1".into()),
    ];
    let support = text(&p.support);
    properties.push((if support.contains("://") { "ARPHELPLINK" } else { "ARPCONTACT" }, support));
    match scope {
        "machine" => properties.push(("ALLUSERS", "1".into())),
        "asked" => properties.extend([("ALLUSERS", "2".into()), ("MSIINSTALLPERUSER", "1".into())]),
        _ => {}
    }
    let mut secure = vec!["INSTALLDIR", "NEWERFOUND", "OLDERFOUND", "REMEMBEREDFOLDER"];
    for trace in job.footprint.traces() {
        if let Trace::Shortcut { place, .. } = trace
            && let Some(property) = super::layout::switch(*place).and_then(|c| c.split(' ').next())
            && !secure.contains(&property)
        {
            secure.push(property);
            properties.push((property, "1".into()));
        }
    }
    if !job.footprint.traces().iter().any(|t| matches!(t, Trace::Choice { .. })) {
        properties.push(("ARPNOMODIFY", "1".into()));
    }
    secure.sort_unstable();
    properties.push(("SecureCustomProperties", secure.join(";")));
    for (name, value) in properties {
        if !value.is_empty() {
            it.row("Property", &[name, &value])?;
        }
    }
    upgrades(it, &upgrade, &version)?;
    conditions(it)?;
    remembered_folder(it, scope)?;
    actions(it)
}

fn upgrades(it: &mut Layout, code: &str, version: &str) -> Result<()> {
    let blocked = it.job.footprint.rule("downgrade") != Some("allowed");
    let mut row = |min: &str, max: &str, attributes: i32, property: &str| {
        let row = [
            it.db.text(code),
            it.db.text(min),
            it.db.text(max),
            Value::Null,
            Value::Int(attributes),
            Value::Null,
            it.db.text(property),
        ];
        it.db.insert("Upgrade", &row)
    };
    // 1 takes over which features were there; 512 and 256 include the bounds; 2 only looks.
    if blocked {
        row("", version, 1 | 512, "OLDERFOUND")?;
        row(version, "", 2, "NEWERFOUND")
    } else {
        row("0.0.0", "", 1 | 256, "OLDERFOUND")
    }
}

fn conditions(it: &mut Layout) -> Result<()> {
    if it.job.footprint.rule("downgrade") != Some("allowed") {
        let sentence =
            "A newer version of [ProductName] is already installed. Remove it first if this older one is wanted.";
        it.row("LaunchCondition", &[NO_NEWER, sentence])?;
    }
    if let Some(windows) = it.job.footprint.rule("smallest-windows").and_then(Windows::parse) {
        let sentence = format!("[ProductName] needs Windows {} or newer.", windows.text());
        it.row("LaunchCondition", &[&windows.condition(), &sentence])?;
        let key = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion";
        locator(it, "WINDOWSBUILD", "SBuild", 2, key, "CurrentBuildNumber")?;
    }
    Ok(())
}

fn locator(it: &mut Layout, property: &str, signature: &str, root: i32, key: &str, name: &str) -> Result<()> {
    it.row("AppSearch", &[property, signature])?;
    // 2 takes the value as it is; 16 looks where 64-bit programs look.
    let kind = 2 | if it.bits64 { 16 } else { 0 };
    let row = [it.db.text(signature), Value::Int(root), it.db.text(key), it.db.text(name), Value::Int(kind)];
    it.db.insert("RegLocator", &row)
}

fn remembered_folder(it: &mut Layout, scope: &str) -> Result<()> {
    let key = it.own_key();
    for (signature, root, scopes) in [("SFolderMachine", 2, "machine asked"), ("SFolderPerson", 1, "person asked")] {
        if scopes.contains(scope) {
            locator(it, "REMEMBEREDFOLDER", signature, root, &key, "InstallFolder")?;
        }
    }
    Ok(())
}

/// Where a product goes that asks for whom it is, with the condition: the folders as they are, wherever the system's
/// own properties lead.
pub fn folders_by_scope(footprint: &Footprint) -> Vec<(String, &'static str)> {
    let name = formatted(&footprint.rule("folder").unwrap_or_default().replace('/', "\\"));
    let machine = if super::layout::is_64(footprint) {
        vec![("[%ProgramW6432]", "Scope = \"machine\"")]
    } else {
        vec![
            ("[%ProgramFiles(x86)]", "Scope = \"machine\" AND VersionNT64"),
            ("[%ProgramFiles]", "Scope = \"machine\" AND NOT VersionNT64"),
        ]
    };
    let person = ("[LocalAppDataFolder]Programs", "Scope = \"person\"");
    machine.into_iter().chain([person]).map(|(top, condition)| (format!("{top}\\{name}\\"), condition)).collect()
}

fn actions(it: &mut Layout) -> Result<()> {
    let mut action = |name: &str, kind: i32, source: &str, target: &str| {
        let row = [it.db.text(name), Value::Int(kind), it.db.text(source), it.db.text(target), Value::Null];
        it.db.insert("CustomAction", &row)
    };
    let asked = it.job.footprint.rule("scope") == Some("asked");
    // 51 sets a property.
    action("RememberFolder", 51, "INSTALLDIR", "[REMEMBEREDFOLDER]")?;
    action("SetLocation", 51, "ARPINSTALLLOCATION", "[INSTALLDIR]")?;
    action("SetHome", 51, "PERSONHOME", "[%USERPROFILE]")?;
    if asked {
        let folders = folders_by_scope(it.job.footprint);
        let person = folders.last().map_or("", |f| f.0.as_str());
        let row =
            [it.db.text("PersonFolder"), Value::Int(51), it.db.text("INSTALLDIR"), it.db.text(person), Value::Null];
        it.db.insert("CustomAction", &row)?;
        for table in ["InstallExecuteSequence", "InstallUISequence"] {
            // The installer may have settled 2 to nothing before this.
            let condition = "NOT INSTALLDIR AND ALLUSERS <> 1 AND MSIINSTALLPERUSER = 1";
            super::sequences::action(it, table, "PersonFolder", condition, 70)?;
        }
    }
    let start = it.job.footprint.rule("start-at-end").and_then(|program| it.program(program));
    if let Some((file, _, arguments, _)) = start {
        let line = formatted(&command_line(arguments));
        // An installed program (18), not waited for (192).
        let row = [it.db.text("StartProgram"), Value::Int(18 | 192), it.db.text(&file), it.db.text(&line), Value::Null];
        it.db.insert("CustomAction", &row)?;
    }
    Ok(())
}

/// The rules that a package's tables tell.
pub fn read(db: &Database) -> Vec<Trace> {
    let mut rules = Vec::new();
    let mut rule = |key: &str, value: String| rules.push(Trace::Rule { key: key.into(), value });
    let scope = match db.property("ALLUSERS") {
        Some("1") => "machine",
        Some("2") => "asked",
        _ => "person",
    };
    rule("scope", scope.into());
    if let Some(code) = db.property("UpgradeCode") {
        rule("upgrade-code", code.to_owned());
    }
    let sequence = |action: &str| {
        db.rows("InstallExecuteSequence").find(|r| db.str(r[0]) == action).and_then(|r| db.int(*r.get(2)?))
    };
    if let Some(at) = sequence("RemoveExistingProducts") {
        let late = sequence("InstallFiles").is_some_and(|files| files < at);
        rule("upgrade", if late { "late" } else { "early" }.into());
    }
    let conditions: Vec<&str> = db.rows("LaunchCondition").map(|r| db.str(r[0])).collect();
    if db.property("UpperShelfId").is_some() {
        rule("downgrade", if conditions.contains(&NO_NEWER) { "blocked" } else { "allowed" }.into());
    }
    for condition in conditions {
        if let Some(windows) = Windows::from_condition(condition) {
            rule("smallest-windows", windows.text());
        } else if condition != NO_NEWER {
            rule(&format!("condition {condition}"), "must hold".into());
        }
    }
    rules
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_of_windows_come_back() {
        for (text, carried) in
            [("10.0.17763", "10.0.17763"), ("10.0", "10.0.10240"), ("6.1", "6.1"), ("6.1.7601", "6.1")]
        {
            let windows = Windows::parse(text).expect("a version");
            assert_eq!(windows.text(), carried);
            assert_eq!(Windows::from_condition(&windows.condition()), Some(windows));
        }
        assert_eq!(Windows::parse("ten"), None);
    }
}
