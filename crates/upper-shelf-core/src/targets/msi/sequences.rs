//! The order in which Windows Installer does things: its standard actions at their usual numbers, and our own between.

use super::layout::{Layout, Result};
use crate::footprint::Upgrade;
use msi_database::rows;

/// Standard actions, and whether they belong to installing, to its user interface, to an administrative installation
/// (and its interface), to advertising.
const STANDARD: [(&str, i32, &str); 38] = [
    ("FindRelatedProducts", 25, "xu"),
    ("AppSearch", 50, "xu"),
    ("LaunchConditions", 100, "xu"),
    ("ValidateProductID", 700, "xu"),
    ("CostInitialize", 800, "xuaAd"),
    ("FileCost", 900, "xuaA"),
    ("CostFinalize", 1000, "xuaAd"),
    ("MigrateFeatureStates", 1200, "xu"),
    ("ExecuteAction", 1300, "uA"),
    ("InstallValidate", 1400, "xad"),
    ("InstallInitialize", 1500, "xad"),
    ("ProcessComponents", 1600, "x"),
    ("UnpublishFeatures", 1800, "x"),
    ("StopServices", 1900, "x"),
    ("DeleteServices", 2000, "x"),
    ("UnregisterFonts", 2500, "x"),
    ("RemoveRegistryValues", 2600, "x"),
    ("RemoveShortcuts", 3200, "x"),
    ("RemoveEnvironmentStrings", 3300, "x"),
    ("RemoveFiles", 3500, "x"),
    ("RemoveFolders", 3600, "x"),
    ("CreateFolders", 3700, "x"),
    ("InstallAdminPackage", 3900, "a"),
    ("InstallFiles", 4000, "xa"),
    ("CreateShortcuts", 4500, "xd"),
    ("WriteRegistryValues", 5000, "x"),
    ("WriteEnvironmentStrings", 5200, "x"),
    ("RegisterFonts", 5300, "x"),
    ("InstallServices", 5800, "x"),
    ("StartServices", 5900, "x"),
    ("RegisterUser", 6000, "x"),
    ("RegisterProduct", 6100, "x"),
    ("PublishFeatures", 6300, "xd"),
    ("PublishProduct", 6400, "xd"),
    ("InstallExecute", 6500, "x"),
    ("InstallFinalize", 6600, "xad"),
    // Ours.
    ("RememberFolder", 60, "xu"),
    ("SetLocation", 1010, "x"),
];

const TABLES: [(char, &str); 5] = [
    ('x', "InstallExecuteSequence"),
    ('u', "InstallUISequence"),
    ('a', "AdminExecuteSequence"),
    ('A', "AdminUISequence"),
    ('d', "AdvtExecuteSequence"),
];

/// The pages, in the sequence of the user interface: behind the words of every language.
pub const FIRST_PAGE: i32 = 31_000;
/// The first of the words, behind the last standard action.
pub const WORDS: i32 = 1210;
const EXECUTE: i32 = 31_100;

/// When an upgrade takes the old version away: inside the transaction, so that a failure brings it back.
const REMOVE_EARLY: i32 = 1501;
const REMOVE_LATE: i32 = 6550;

/// A row of a sequence.
pub fn action(it: &mut Layout, table: &str, action: &str, condition: &str, at: i32) -> Result<()> {
    it.db.add_in(table, &rows::InstallExecuteSequence { action, condition, sequence: Some(at) })
}

pub fn write(it: &mut Layout) -> Result<()> {
    for (letter, table) in TABLES {
        for (name, at, tables) in STANDARD {
            if tables.contains(letter) {
                let condition = match name {
                    "RememberFolder" => "REMEMBEREDFOLDER AND NOT INSTALLDIR",
                    // The page for repair and removal chooses no parts, and hands over properties alone. Where parts were
                    // costed before, Wine leaves those that are known by a user's registry value.
                    "CostFinalize" | "MigrateFeatureStates" if letter == 'u' => "NOT Installed",
                    _ => "",
                };
                // While pages are shown there are as many actions before this one as there are words.
                let at = if letter == 'u' && name == "ExecuteAction" { EXECUTE } else { at };
                action(it, table, name, condition, at)?;
            }
        }
    }
    let at = match it.job.footprint.install.upgrade.unwrap_or_default() {
        Upgrade::Early => REMOVE_EARLY,
        Upgrade::Late => REMOVE_LATE,
    };
    action(it, "InstallExecuteSequence", "RemoveExistingProducts", "", at)?;
    action(it, "InstallExecuteSequence", "SetHome", "", 1020)
}
