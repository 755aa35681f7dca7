//! The page for administrators that lies beside a package: command lines, properties, exit codes, and how to see
//! whether it is installed. Everything on it is read from the finished package.

use super::layout::{MAIN, choice_feature};
use crate::footprint::{Choice, Downgrade, Footprint, Place, Scope};
use msi_database::compound::{Compound, Limits};
use msi_database::{Result, rows, summary};
use std::fmt::Write as _;
use std::fs::File;

/// The page, in Markdown.
pub fn page(package: File, name: &str, footprint: &Footprint) -> Result<String> {
    let mut compound = Compound::open(package, Limits::default())?;
    let package = msi_database::read::read(&mut compound, msi_database::read::Limits::default())?;
    let db = &package.database;
    let property = |name: &str| db.property(name).unwrap_or_default();
    let (product, id) = (property("ProductName"), property("UpperShelfId"));
    let code = property("ProductCode");
    let scope = footprint.install.scope();
    let mut out = String::new();
    let mut line = |text: String| {
        let _ = writeln!(out, "{text}");
    };
    line(format!("# Deploying {product} {}\n", property("UpperShelfVersion")));
    line(format!(
        "`{name}`, by {}. For {}.\n",
        property("Manufacturer"),
        match scope {
            Scope::User => "one user, without administrator rights",
            Scope::Asked => "one user or everyone, as you choose",
            Scope::Machine => "everyone on the machine; needs administrator rights",
        }
    ));
    let beside: Vec<&str> = db.each::<rows::Media>().map(|row| row.cabinet).collect();
    let beside: Vec<String> =
        beside.into_iter().filter(|c| !c.is_empty() && !c.starts_with('#')).map(|c| format!("`{c}`")).collect();
    if !beside.is_empty() {
        line(format!("Its files are in {}, which must be in the same folder.\n", beside.join(", ")));
    }
    line("## Command lines\n".into());
    line("| to | command line |\n|---|---|".into());
    line(format!("| install or upgrade, silently | `msiexec /i \"{name}\" /qn /norestart /l*v install.log` |"));
    line(format!("| repair | `msiexec /i {code} REINSTALL=ALL REINSTALLMODE=omus /qn /norestart` |"));
    line(format!("| remove | `msiexec /x {code} /qn /norestart` |"));
    if scope == Scope::Asked {
        line(format!("| install for everyone | `msiexec /i \"{name}\" ALLUSERS=1 MSIINSTALLPERUSER=\"\" /qn` |"));
    }
    line("\n## Properties\n".into());
    line("| property | default | what it does |\n|---|---|---|".into());
    let folder = footprint.install.windows_folder();
    line(format!(
        "| `INSTALLDIR` | `{folder}` in the system's programs folder, or the folder of the installed version | the folder |"
    ));
    if footprint.has_shortcut_in(Place::Desktop) {
        line("| `DESKTOPSHORTCUT` | `1` | `0`: no desktop shortcut |".into());
    }
    if footprint.has_shortcut_in(Place::Startup) {
        line("| `STARTWITHSYSTEM` | `1` | `0`: don't start when users sign in |".into());
    }
    line("| `WIZARDLANGUAGE` | the system's | the wizard's language, if it is shown |".into());
    let choices = &footprint.choices;
    if !choices.is_empty() {
        let all: Vec<String> = choices.iter().filter(|c| c.chosen).map(|c| choice_feature(&c.key)).collect();
        let default = [vec![MAIN.to_owned()], all].concat().join(",");
        line(format!("| `ADDLOCAL` | `{default}` | the parts to install, separated by commas |"));
        line("\n## Parts\n\n| part | what it is |\n|---|---|".into());
        line(format!("| `{MAIN}` | {product} itself; always installed |"));
        for Choice { key, title, description, .. } in choices {
            let about = description.as_ref().map_or(String::new(), |d| format!(": {}", d.as_str()));
            line(format!("| `{}` | {}{about} |", choice_feature(key), title.as_str()));
        }
    }
    line("\n## Exit codes\n\n| code | means |\n|---|---|".into());
    for (code, means) in [
        ("0", "done"),
        ("1602", "cancelled by the user"),
        (
            "1603",
            "it failed and changes were rolled back; the log says why (also: a newer version is installed, or Windows is too old)",
        ),
        ("1605", "the product isn't installed (when removing)"),
        ("1618", "another installation is in progress; try again later"),
        ("1641", "done; the machine is restarting"),
        ("3010", "done; a restart is required"),
    ] {
        line(format!("| {code} | {means} |"));
    }
    line("\nIf the product's setup program is installed in the same scope, this package replaces it and keeps its folder and parts. In the other scope the installation ends with 1603 and a message.".into());
    line("\n## How to detect the installation\n".into());
    line(format!("- Product code: `{code}` (changes with every build that differs)"));
    line(format!("- Upgrade code: `{}` (the same in every version)", property("UpgradeCode")));
    line(format!("- Version: `{}`", property("ProductVersion")));
    line(format!("- Package code: `{}`", db.summary.text(summary::REVISION)));
    let root = if scope == Scope::User { "HKEY_CURRENT_USER" } else { "HKEY_LOCAL_MACHINE" };
    line(format!("- Folder: the value `InstallFolder` of `{root}\\Software\\{id}`"));
    if let Some(windows) = footprint.install.minimum_windows {
        line(format!("\nIt requires Windows {windows} or later, and checks that before it changes anything."));
    }
    if footprint.install.downgrade == Some(Downgrade::Blocked) {
        line("\nIt never replaces a newer version: that ends with 1603, and nothing changes.".into());
    }
    Ok(out)
}
