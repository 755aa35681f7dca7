//! The page for administrators that lies beside a setup program: command lines, switches, exit codes, and how to see
//! whether it is installed. Everything on it comes from what was read back out of the finished program.

use super::program::REMOVER;
use crate::footprint::{Choice, Downgrade, Footprint, Place, Scope};
use std::fmt::Write as _;

/// The page, in Markdown.
pub fn page(name: &str, footprint: &Footprint) -> String {
    let p = &footprint.product;
    let text = |t: &Option<String>| t.clone().unwrap_or_default();
    let (product, id) = (text(&p.name), text(&p.id));
    let scope = footprint.install.scope();
    let folder = footprint.install.windows_folder();
    let programs = if scope == Scope::Person { "%LOCALAPPDATA%\\Programs" } else { "%ProgramFiles%" };
    let mut out = String::new();
    let mut line = |text: String| {
        let _ = writeln!(out, "{text}");
    };
    line(format!("# Deploying {product} {}\n", text(&p.version)));
    line(format!(
        "`{name}`, by {}. For {}.\n",
        text(&p.publisher),
        match scope {
            Scope::Person => "one person, without administrator rights",
            Scope::Asked => "one person or everyone, as it is told",
            Scope::Machine => "everyone on the machine; it needs administrator rights",
        }
    ));
    line("## Command lines\n".into());
    line("| to | command line |\n|---|---|".into());
    line(format!("| install, upgrade or repair, silently | `\"{name}\" /S` |"));
    if scope == Scope::Asked {
        line(format!("| install for everyone | `\"{name}\" /S /SCOPE=machine` |"));
    }
    line(format!("| remove | `\"{name}\" /S /REMOVE` |"));
    line(format!("| remove, without this file | `\"{programs}\\{folder}\\{REMOVER}\" /S` |"));
    line(
        "\nEach ends with a code of the table below when all is done; batch files wait for that, at a prompt put `start /wait \"\"` in front. Nothing is changed unless all is.\n"
            .into(),
    );
    line("## Switches\n".into());
    line("| switch | what it does |\n|---|---|".into());
    line("| `/S` | no windows, no questions |".into());
    line(format!(
        "| `/FOLDER=\"FOLDER\"` | the folder. Default: where the version before is, else `{programs}\\{folder}` |"
    ));
    if scope == Scope::Asked {
        line("| `/SCOPE=machine`, `/SCOPE=person` | for everyone, or for one person (default) |".into());
    }
    if footprint.has_shortcut_in(Place::Desktop) {
        line("| `/DESKTOP=0` | no shortcut on the desktop |".into());
    }
    if footprint.has_shortcut_in(Place::Startup) {
        line("| `/STARTUP=0` | not started when people log in |".into());
    }
    let choices = &footprint.choices;
    if !choices.is_empty() {
        line("| `/CHOICES=KEY,KEY` | only these parts, of those below; `/CHOICES=` for none |".into());
    }
    line("| `/IN-USE=stop`, `/IN-USE=wait`, `/IN-USE=close` | when running programs use files: end with 32 (default), wait up to ten minutes, or have Windows close them |".into());
    line("| `/LANGUAGE=de` | the language of its sentences; default: the system's |".into());
    line(format!(
        "| `/LOG=FILE` | where each step is written down; default `%TEMP%\\{id}-setup.log`, which goes after a removal that went well |"
    ));
    line("| `/REMOVE` | takes the product away |".into());
    if !choices.is_empty() {
        line("\n## Parts\n\n| key | what it is | unless told otherwise |\n|---|---|---|".into());
        for Choice { key, title, description, chosen, .. } in choices {
            let about = description.as_deref().map_or(String::new(), |d| format!(": {d}"));
            line(format!("| `{key}` | {title}{about} | {} |", if *chosen { "installed" } else { "left out" }));
        }
    }
    line("\n## Exit codes\n\n| code | means |\n|---|---|".into());
    for (code, means) in [
        ("0", "done"),
        ("13", "the file is damaged; nothing was changed"),
        ("32", "files are in use; nothing was changed"),
        ("87", "a switch, a part or the folder is not known; nothing was changed"),
        ("112", "there is not enough space; nothing was changed"),
        (
            "740",
            "it needs an administrator (also to change or remove what is installed for everyone); nothing was changed",
        ),
        ("1150", "Windows is too old; nothing was changed"),
        ("1602", "somebody cancelled it; everything is as it was"),
        ("1603", "it failed, and everything is as it was; the log says why"),
        ("1605", "it is not installed (when removing)"),
        ("1618", "another installation of it is under way; try again later"),
        (
            "1625",
            "it is installed by its MSI in the other scope (for everyone, or for one person); nothing was changed",
        ),
        ("1638", "a newer version is there; nothing was changed"),
        ("3010", "done; a restart is needed"),
    ] {
        line(format!("| {code} | {means} |"));
    }
    line("\n## How to see whether it is installed\n".into());
    let root = if scope == Scope::Person { "HKEY_CURRENT_USER" } else { "HKEY_LOCAL_MACHINE" };
    let entry = format!("{root}\\Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\{id}");
    line(format!("- Version: the value `DisplayVersion` of `{entry}`, here `{}`", text(&p.version)));
    line("- Command line that removes it silently: the value `QuietUninstallString` there".into());
    line(format!("- Folder: the value `InstallFolder` of `{root}\\Software\\{id}`"));
    if scope == Scope::Asked {
        line("- Installed for one person, the same below `HKEY_CURRENT_USER`".into());
    }
    if let Some(windows) = footprint.install.minimum_windows {
        line(format!("\nIt needs Windows {windows} or newer, and says so before it changes anything."));
    }
    if footprint.install.downgrade == Some(Downgrade::Blocked) {
        line("\nA newer version is never replaced by this one: that ends with 1638, and nothing changes.".into());
    }
    line("\nWhere its MSI is installed in the same scope, it replaces it, with its folder and its parts.".into());
    line("\nIf the power fails while it runs, the next start of Windows (or of this file) finishes the new state or brings back the old one.".into());
    out
}
