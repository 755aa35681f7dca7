//! The page for administrators that lies beside a setup program: command lines, switches, exit codes, and how to see
//! whether it is installed. Everything on it comes from what was read back out of the finished program.

use super::program::UNINSTALL_PROGRAM;
use crate::footprint::{Choice, Downgrade, Footprint, Place, Scope};
use std::fmt::Write as _;

/// The page, in Markdown.
pub fn page(name: &str, footprint: &Footprint) -> String {
    let p = &footprint.product;
    let text = |t: &Option<String>| t.clone().unwrap_or_default();
    let (product, id) = (text(&p.name), text(&p.id));
    let scope = footprint.install.scope();
    let folder = footprint.install.windows_folder();
    let programs = if scope == Scope::User { "%LOCALAPPDATA%\\Programs" } else { "%ProgramFiles%" };
    let mut out = String::new();
    let mut line = |text: String| {
        let _ = writeln!(out, "{text}");
    };
    line(format!("# Deploying {product} {}\n", text(&p.version)));
    line(format!(
        "`{name}`, by {}. For {}.\n",
        text(&p.publisher),
        match scope {
            Scope::User => "one user, without administrator rights",
            Scope::Asked => "one user or everyone, as you choose",
            Scope::Machine => "everyone on the machine; needs administrator rights",
        }
    ));
    line("## Command lines\n".into());
    line("| to | command line |\n|---|---|".into());
    line(format!("| install, upgrade or repair, silently | `\"{name}\" /S` |"));
    if scope == Scope::Asked {
        line(format!("| install for everyone | `\"{name}\" /S /SCOPE=machine` |"));
    }
    line(format!("| remove | `\"{name}\" /S /REMOVE` |"));
    line(format!("| remove, without this file | `\"{programs}\\{folder}\\{UNINSTALL_PROGRAM}\" /S` |"));
    line(
        "\nEach command exits with a code from the table below once everything is done. Batch files wait for it; at a prompt, put `start /wait \"\"` before it. Either everything is changed or nothing is.\n"
            .into(),
    );
    line("## Switches\n".into());
    line("| switch | what it does |\n|---|---|".into());
    line("| `/S` | silent: no windows, no questions |".into());
    line(format!(
        "| `/FOLDER=\"FOLDER\"` | the folder. Default: the folder of the installed version, otherwise `{programs}\\{folder}` |"
    ));
    if scope == Scope::Asked {
        line("| `/SCOPE=machine`, `/SCOPE=user` | for everyone, or for one user (default) |".into());
    }
    if footprint.has_shortcut_in(Place::Desktop) {
        line("| `/DESKTOP=0` | no desktop shortcut |".into());
    }
    if footprint.has_shortcut_in(Place::Startup) {
        line("| `/STARTUP=0` | don't start when users sign in |".into());
    }
    let choices = &footprint.choices;
    if !choices.is_empty() {
        line("| `/CHOICES=KEY,KEY` | only these of the parts listed below; `/CHOICES=` for none |".into());
    }
    line("| `/IN-USE=stop`, `/IN-USE=wait`, `/IN-USE=close` | if running programs use files: exit with 32 (default), wait up to ten minutes, or let Windows close the programs |".into());
    line("| `/LANGUAGE=de` | the language of messages; default: the system's |".into());
    line(format!(
        "| `/LOG=FILE` | the log file. Default: `%TEMP%\\{id}-setup.log`, which is deleted after a successful removal |"
    ));
    line("| `/REMOVE` | remove the product |".into());
    if !choices.is_empty() {
        line("\n## Parts\n\n| key | what it is | by default |\n|---|---|---|".into());
        for Choice { key, title, description, chosen, .. } in choices {
            let about = description.as_ref().map_or(String::new(), |d| format!(": {}", d.as_str()));
            line(format!(
                "| `{key}` | {}{about} | {} |",
                title.as_str(),
                if *chosen { "installed" } else { "left out" }
            ));
        }
    }
    line("\n## Exit codes\n\n| code | means |\n|---|---|".into());
    for (code, means) in [
        ("0", "done"),
        ("13", "the file is damaged; nothing was changed"),
        ("32", "files are in use; nothing was changed"),
        ("87", "unknown switch or part, or a folder that can't be used; nothing was changed"),
        ("112", "not enough disk space; nothing was changed"),
        (
            "740",
            "administrator rights are required (also to change or remove an installation for everyone); nothing was changed",
        ),
        ("1150", "Windows is too old; nothing was changed"),
        ("1602", "cancelled by the user; changes were rolled back"),
        ("1603", "it failed and changes were rolled back; the log says why"),
        ("1605", "the product isn't installed (when removing)"),
        ("1618", "the product is already being installed or removed; try again later"),
        (
            "1625",
            "the product's MSI is installed in the other scope (for everyone, or for one user); nothing was changed",
        ),
        ("1638", "a newer version is installed; nothing was changed"),
        ("3010", "done; a restart is required"),
    ] {
        line(format!("| {code} | {means} |"));
    }
    line("\n## How to detect the installation\n".into());
    let root = if scope == Scope::User { "HKEY_CURRENT_USER" } else { "HKEY_LOCAL_MACHINE" };
    let entry = format!("{root}\\Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\{id}");
    line(format!("- Version: the value `DisplayVersion` of `{entry}`, here `{}`", text(&p.version)));
    line("- Command line for a silent removal: the value `QuietUninstallString` of the same key".into());
    line(format!("- Folder: the value `InstallFolder` of `{root}\\Software\\{id}`"));
    if scope == Scope::Asked {
        line("- If installed for one user: the same values below `HKEY_CURRENT_USER`".into());
    }
    if let Some(windows) = footprint.install.minimum_windows {
        line(format!("\nIt requires Windows {windows} or later, and checks that before it changes anything."));
    }
    if footprint.install.downgrade == Some(Downgrade::Blocked) {
        line("\nIt never replaces a newer version: that ends with 1638, and nothing changes.".into());
    }
    line(
        "\nIf the product's MSI is installed in the same scope, it is replaced; its folder and parts are kept.".into(),
    );
    line("\nIf the power fails during the installation, the next start of Windows (or of this file) completes it or restores the former version.".into());
    out
}
