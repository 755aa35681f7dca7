//! How the package goes onto a machine: properties, upgrades, conditions, the chosen folder; and back.

use super::codes;
use super::layout::{Layout, Result, remembered, switch, upgrade_code};
use super::words::{formatted, line};
use crate::footprint::{Choice, Downgrade, Footprint, Foreign, InstallRules, Place, Scope, SystemVersion, Upgrade};
use crate::targets::{Job, order};
use msi_database::database::Database;
use msi_database::rows;

/// The standard folder that programs go into, and the folder below it, for a footprint's scope.
pub fn programs_folder(footprint: &Footprint) -> (&'static str, Option<&'static str>) {
    match (footprint.install.scope(), super::layout::is_64(footprint)) {
        (Scope::User, _) => ("LocalAppDataFolder", Some("Programs")),
        (Scope::Machine | Scope::Asked, true) => ("ProgramFiles64Folder", None),
        (Scope::Machine | Scope::Asked, false) => ("ProgramFilesFolder", None),
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
    /// Of a version such as `10.0.17763` or `6.1`.
    pub fn of(version: SystemVersion) -> Option<Self> {
        let SystemVersion { major, minor, patch } = version;
        match minor? {
            _ if major >= 10 => Some(Self::Build(patch.unwrap_or(10240))),
            minor if minor < 100 => Some(Self::Number(major.checked_mul(100)? + minor)),
            _ => None,
        }
    }

    /// The one form in which it is carried.
    pub fn version(self) -> SystemVersion {
        match self {
            Self::Build(build) => SystemVersion { major: 10, minor: Some(0), patch: Some(build) },
            Self::Number(n) => SystemVersion { major: n / 100, minor: Some(n % 100), patch: None },
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
/// How the one begins that refuses to replace a newer one of the setup program's.
const NO_NEWER_SETUP: &str = "Installed OR NOT SETUPORDER";

pub fn properties(it: &mut Layout) -> Result<()> {
    let job: &Job = it.job;
    let p = &job.footprint.product;
    let text = |v: &Option<String>| v.clone().unwrap_or_default();
    let id = text(&p.id);
    let stated = job.settings.msi.version.clone().unwrap_or_else(|| text(&p.version));
    let version = codes::version(&stated).unwrap_or_else(|_| "0.0.0".into());
    let install = &job.footprint.install;
    let upgrade = upgrade_code(&id, install.upgrade_code.as_deref());
    let scope = install.scope();
    let mut properties = vec![
        ("ProductName", text(&p.name)),
        ("ProductVersion", version.clone()),
        ("Manufacturer", text(&p.publisher)),
        ("ProductLanguage", "1033".into()),
        ("UpgradeCode", upgrade.clone()),
        ("UpperShelfId", id),
        ("UpperShelfVersion", text(&p.version)),
        ("ARPPRODUCTICON", super::layout::ICON.into()),
        ("ARPCOMMENTS", p.summary.as_deref().unwrap_or_default().to_owned()),
        ("ARPURLINFOABOUT", text(&p.homepage)),
        ("INSTALLLEVEL", "1".into()),
    ];
    let support = text(&p.support);
    properties.push((if support.contains("://") { "ARPHELPLINK" } else { "ARPCONTACT" }, support));
    match scope {
        Scope::Machine => properties.push(("ALLUSERS", "1".into())),
        Scope::Asked => properties.extend([("ALLUSERS", "2".into()), ("MSIINSTALLPERUSER", "1".into())]),
        Scope::User => {}
    }
    twin(it, scope)?;
    remembered_switches(it, scope)?;
    let mut secure = ["INSTALLDIR", "NEWERFOUND", "OLDERFOUND", "REMEMBEREDFOLDER"].map(str::to_owned).to_vec();
    secure.append(&mut it.secure);
    if job.footprint.choices.is_empty() {
        properties.push(("ARPNOMODIFY", "1".into()));
    }
    secure.sort_unstable();
    properties.push(("SecureCustomProperties", secure.join(";")));
    for (name, value) in properties {
        if !value.is_empty() {
            it.db.add(&rows::Property { property: name, value: &value })?;
        }
    }
    upgrades(it, &upgrade, &version)?;
    conditions(it)?;
    remembered_folder(it, scope)?;
    actions(it)
}

/// When the program of a setup program's removal runs: with the older versions of this kind.
const REMOVE_SETUP: i32 = 1505;

fn upgrades(it: &mut Layout, code: &str, version: &str) -> Result<()> {
    let blocked = it.job.footprint.install.downgrade != Some(Downgrade::Allowed);
    let mut row = |min: &str, max: &str, attributes: i32, property: &str| {
        it.db.add(&rows::Upgrade {
            upgrade_code: code,
            version_min: min,
            version_max: max,
            attributes,
            action_property: property,
            ..Default::default()
        })
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
    let scope = it.job.footprint.install.scope();
    if it.job.footprint.install.downgrade != Some(Downgrade::Allowed) {
        let sentence = "A newer version of [ProductName] is already installed. To install this version, uninstall the newer one first.";
        it.db.add(&rows::LaunchCondition { condition: NO_NEWER, description: sentence })?;
        // The same product's setup program leaves its version's place in their order.
        if let Some(version) = it.job.footprint.product.version.clone() {
            let (own, text) = (it.own_key(), order::text(&version));
            for root in roots(scope) {
                let found = it.ask("SETUPORDER", root, &own, order::NAME)?;
                let condition = format!("Installed OR NOT {found} OR {found} <= \"{text}\"");
                it.db.add(&rows::LaunchCondition { condition: &condition, description: sentence })?;
            }
        }
    }
    if let Some(windows) = it.job.footprint.install.minimum_windows.and_then(Windows::of) {
        let sentence = format!("[ProductName] requires Windows {} or later.", windows.version());
        it.db.add(&rows::LaunchCondition { condition: &windows.condition(), description: &sentence })?;
        let key = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion";
        locator(it, "WINDOWSBUILD", "SBuild", 2, key, "CurrentBuildNumber")?;
    }
    Ok(())
}

pub(super) fn locator(
    it: &mut Layout,
    property: &str,
    signature: &str,
    root: i32,
    key: &str,
    name: &str,
) -> Result<()> {
    it.db.add(&rows::AppSearch { property, signature })?;
    // 2 takes the value as it is; 16 looks where 64-bit programs look.
    let kind = 2 | if it.bits64 { 16 } else { 0 };
    it.db.add(&rows::RegLocator { signature, root, key, name, kind: Some(kind) })
}

/// The registry's root for the machine, and for a user.
const MACHINE: i32 = 2;
const PERSON: i32 = 1;

/// The roots that what is installed for a scope may stand in.
fn roots(scope: Scope) -> impl Iterator<Item = i32> {
    let roots: &[i32] = match scope {
        Scope::Machine => &[MACHINE],
        Scope::User => &[PERSON],
        Scope::Asked => &[MACHINE, PERSON],
    };
    roots.iter().copied()
}

fn remembered_folder(it: &mut Layout, scope: Scope) -> Result<()> {
    let key = it.own_key();
    for root in roots(scope) {
        let signature = if root == MACHINE { "SFolderMachine" } else { "SFolderPerson" };
        locator(it, "REMEMBEREDFOLDER", signature, root, &key, "InstallFolder")?;
    }
    Ok(())
}

/// Which shortcuts there are that somebody may leave out: in the version before (of either kind of package), unless the
/// command line or a page says something else now.
fn remembered_switches(it: &mut Layout, scope: Scope) -> Result<()> {
    let job = it.job;
    let mut any = false;
    for (n, place) in [Place::Desktop, Place::Startup].into_iter().enumerate() {
        let (Some(property), Some(name)) = (switch(place), remembered(place)) else { continue };
        if !job.footprint.has_shortcut_in(place) {
            continue;
        }
        any = true;
        it.secure.push(property.to_owned());
        let found = format!("REMEMBERED{}", name.to_uppercase());
        let key = it.own_key();
        for root in roots(scope) {
            locator(it, &found, &format!("S{name}{root}"), root, &key, name)?;
        }
        it.secure.push(found.clone());
        // A box on a page is ticked by any value, so what is not wanted has none.
        let condition = format!("NOT {property} AND NOT CHOICESMADE AND (NOT {found} OR {found} = \"x1\")");
        set(it, &format!("Default{name}"), property, "1", &condition, "xu", 62 + n as i32)?;
        set(it, &format!("No{name}"), property, "{}", &format!("{property} = \"0\""), "u", 64 + n as i32)?;
    }
    if any {
        it.secure.push("CHOICESMADE".into());
        set(it, "ChoicesMade", "CHOICESMADE", "1", "", "u", 68)?;
    }
    Ok(())
}

/// An action that gives a property a value, in the sequences of these letters.
fn set(it: &mut Layout, name: &str, property: &str, value: &str, condition: &str, tables: &str, at: i32) -> Result<()> {
    it.db.add(&rows::CustomAction { action: name, kind: 51, source: property, target: value, ..Default::default() })?;
    for (letter, table) in [('x', "InstallExecuteSequence"), ('u', "InstallUISequence")] {
        if tables.contains(letter) {
            super::sequences::action(it, table, name, condition, at)?;
        }
    }
    Ok(())
}

/// The same product, installed by its setup program: one in the same scope is removed by its own program and replaced,
/// with its folder and its choices; one in the other scope is left alone, and a sentence says so.
fn twin(it: &mut Layout, scope: Scope) -> Result<()> {
    let job = it.job;
    let key = format!(
        r"Software\Microsoft\Windows\CurrentVersion\Uninstall\{}",
        formatted(&job.footprint.product.id.clone().unwrap_or_default())
    );
    // Its folder; a command line would come back without its quotes, or without its arguments.
    let machine = it.ask("SETUPOFMACHINE", MACHINE, &key, "InstallLocation")?;
    let user = it.ask("SETUPOFPERSON", PERSON, &key, "InstallLocation")?;
    let everyone = super::layout::FOR_EVERYONE;
    let (to_machine, to_person, elsewhere) = match scope {
        Scope::Machine => (machine.clone(), String::new(), user.clone()),
        Scope::User => (String::new(), user.clone(), machine.clone()),
        Scope::Asked => (
            format!("{machine} AND ({everyone})"),
            format!("{user} AND NOT ({everyone})"),
            format!("({machine} AND NOT ({everyone})) OR ({user} AND ({everyone}))"),
        ),
    };
    // 34 runs a command line; 1024 when changes are made, 2048 with system privileges.
    for (name, property, condition, kind, at) in [
        ("RemoveSetup", &machine, to_machine, 34 | 1024 | 2048, REMOVE_SETUP),
        ("RemoveOwnSetup", &user, to_person, 34 | 1024, REMOVE_SETUP + 1),
    ] {
        if condition.is_empty() {
            continue;
        }
        it.db.add(&rows::CustomAction {
            action: name,
            kind,
            source: "TARGETDIR",
            target: &format!("\"[{property}]\\{}\" /S", crate::targets::nsis::UNINSTALL_PROGRAM),
            ..Default::default()
        })?;
        let condition = format!("NOT Installed AND {condition}");
        super::sequences::action(it, "InstallExecuteSequence", name, &condition, at)?;
        // Files of the same version would be taken for the product's own, which the setup program then takes away.
        set(it, &format!("All{name}"), "REINSTALLMODE", "amus", &condition, "xu", 790 + at - REMOVE_SETUP)?;
    }
    let sentence = "[ProductName] is already installed by its setup program, for other users or only for you. \
                    Uninstall it first, then install this package again.";
    it.db.add(&rows::CustomAction { action: "RefuseOther", kind: 19, target: sentence, ..Default::default() })?;
    let condition = format!("NOT Installed AND ({elsewhere})");
    super::sequences::action(it, "InstallExecuteSequence", "RefuseOther", &condition, 120)?;
    if scope != Scope::Asked {
        super::sequences::action(it, "InstallUISequence", "RefuseOther", &condition, 120)?;
    }
    // Its parts are this one's.
    let own = it.own_key();
    for Choice { key, .. } in &job.footprint.choices {
        let name = format!("Choice.{key}");
        let (of_machine, of_person) = (it.ask("CHOSEN", MACHINE, &own, &name)?, it.ask("CHOSEN", PERSON, &own, &name)?);
        let found = match scope {
            Scope::Machine => vec![(&machine, of_machine)],
            Scope::User => vec![(&user, of_person)],
            Scope::Asked => vec![(&machine, of_machine), (&user, of_person)],
        };
        for (level, value) in [(1, "1"), (3, "0")] {
            let fits: Vec<String> = found.iter().map(|(s, f)| format!("({s} AND {f} = \"{value}\")")).collect();
            it.db.add(&rows::Condition {
                feature: &super::layout::choice_feature(key),
                level,
                condition: &format!("NOT Installed AND ({})", fits.join(" OR ")),
            })?;
        }
    }
    Ok(())
}

/// Where a product goes that asks for whom it is, with the condition: the folders as they are, wherever the system's
/// own properties lead.
pub fn folders_by_scope(footprint: &Footprint) -> Vec<(String, &'static str)> {
    let name = formatted(&footprint.install.windows_folder());
    let machine = if super::layout::is_64(footprint) {
        vec![("[%ProgramW6432]", "Scope = \"machine\"")]
    } else {
        vec![
            ("[%ProgramFiles(x86)]", "Scope = \"machine\" AND VersionNT64"),
            ("[%ProgramFiles]", "Scope = \"machine\" AND NOT VersionNT64"),
        ]
    };
    let user = ("[LocalAppDataFolder]Programs", "Scope = \"user\"");
    machine.into_iter().chain([user]).map(|(top, condition)| (format!("{top}\\{name}\\"), condition)).collect()
}

fn actions(it: &mut Layout) -> Result<()> {
    let mut action = |name: &str, kind: i32, source: &str, target: &str| {
        it.db.add(&rows::CustomAction { action: name, kind, source, target, ..Default::default() })
    };
    let asked = it.job.footprint.install.scope() == Scope::Asked;
    // 51 sets a property.
    action("RememberFolder", 51, "INSTALLDIR", "[REMEMBEREDFOLDER]")?;
    action("SetLocation", 51, "ARPINSTALLLOCATION", "[INSTALLDIR]")?;
    // Everybody's own, when the shortcut is used.
    action("SetHome", 51, "PERSONHOME", "%USERPROFILE%")?;
    if asked {
        let folders = folders_by_scope(it.job.footprint);
        let user = folders.last().map_or("", |f| f.0.as_str());
        it.db.add(&rows::CustomAction {
            action: "PersonFolder",
            kind: 51,
            source: "INSTALLDIR",
            target: user,
            ..Default::default()
        })?;
        for table in ["InstallExecuteSequence", "InstallUISequence"] {
            // The installer may have settled 2 to nothing before this.
            let condition = "NOT INSTALLDIR AND ALLUSERS <> 1 AND MSIINSTALLPERUSER = 1";
            super::sequences::action(it, table, "PersonFolder", condition, 70)?;
        }
    }
    let start = it.job.footprint.install.start_at_end.as_deref().and_then(|program| it.program(program));
    if let Some((file, _, arguments, _)) = start {
        let line = line(arguments);
        // An installed program (18), not waited for (192).
        it.db.add(&rows::CustomAction {
            action: "StartProgram",
            kind: 18 | 192,
            source: &file,
            target: &line,
            ..Default::default()
        })?;
    }
    Ok(())
}

/// The rules that a package's tables tell, and the conditions of others.
pub fn read(db: &Database) -> (InstallRules, Vec<Foreign>) {
    let sequence =
        |action: &str| db.each::<rows::InstallExecuteSequence>().find(|r| r.action == action).and_then(|r| r.sequence);
    let upgrade = sequence("RemoveExistingProducts").map(|at| {
        let late = sequence("InstallFiles").is_some_and(|files| files < at);
        if late { Upgrade::Late } else { Upgrade::Early }
    });
    let conditions: Vec<&str> = db.each::<rows::LaunchCondition>().map(|r| r.condition).collect();
    let downgrade = db
        .property("UpperShelfId")
        .map(|_| if conditions.contains(&NO_NEWER) { Downgrade::Blocked } else { Downgrade::Allowed });
    let mut rules = InstallRules {
        scope: Some(match db.property("ALLUSERS") {
            Some("1") => Scope::Machine,
            Some("2") => Scope::Asked,
            _ => Scope::User,
        }),
        upgrade_code: db.property("UpgradeCode").map(str::to_owned),
        upgrade,
        downgrade,
        ..InstallRules::default()
    };
    let mut foreign = Vec::new();
    for condition in conditions {
        if let Some(windows) = Windows::from_condition(condition) {
            rules.minimum_windows = Some(windows.version());
        } else if condition != NO_NEWER && !condition.starts_with(NO_NEWER_SETUP) {
            foreign.push(Foreign::Condition { text: condition.to_owned() });
        }
    }
    (rules, foreign)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_of_windows_come_back() {
        for (text, carried) in
            [("10.0.17763", "10.0.17763"), ("10.0", "10.0.10240"), ("6.1", "6.1"), ("6.1.7601", "6.1")]
        {
            let windows = Windows::of(text.parse().expect("numbers")).expect("a version");
            assert_eq!(windows.version().to_string(), carried);
            assert_eq!(Windows::from_condition(&windows.condition()), Some(windows));
        }
        assert_eq!("ten".parse::<SystemVersion>().ok(), None);
        assert_eq!(Windows::of("10".parse().expect("a number")), None);
    }
}
