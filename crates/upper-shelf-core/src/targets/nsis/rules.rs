//! The rules for installing as a setup program has them: a name and a text each, which its head knows too
//! (`heads/windows-setup`, `product.rs`).

use crate::footprint::{Downgrade, InstallRules, Scope};

const DOWNGRADE: &str = "downgrade";
const FOLDER: &str = "folder";
const SCOPE: &str = "scope";
const MINIMUM_WINDOWS: &str = "smallest-windows";
const START_AT_END: &str = "start-at-end";
const UPGRADE_CODE: &str = "upgrade-code";

/// What is said of rules, in stable order. Kept files are marked where they are packed.
pub fn write(rules: &InstallRules) -> Vec<(&'static str, String)> {
    let InstallRules {
        scope,
        folder,
        minimum_windows,
        // Of another system.
        minimum_macos: _,
        downgrade,
        // The change of versions is one step.
        upgrade: _,
        upgrade_code,
        start_at_end,
        keep_changed: _,
    } = rules;
    let all = [
        (DOWNGRADE, downgrade.map(|d| d.name().to_owned())),
        (FOLDER, folder.clone()),
        (SCOPE, scope.map(|s| s.name().to_owned())),
        (MINIMUM_WINDOWS, minimum_windows.map(|v| v.to_string())),
        (START_AT_END, start_at_end.clone()),
        (UPGRADE_CODE, upgrade_code.clone()),
    ];
    all.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
}

/// Takes what is said of a rule; what is not known is no rule of this version, and skipped.
pub fn read(name: &str, value: String, rules: &mut InstallRules) {
    match name {
        DOWNGRADE => rules.downgrade = Downgrade::named(&value),
        FOLDER => rules.folder = Some(value),
        SCOPE => rules.scope = Scope::named(&value),
        MINIMUM_WINDOWS => rules.minimum_windows = value.parse().ok(),
        START_AT_END => rules.start_at_end = Some(value),
        UPGRADE_CODE => rules.upgrade_code = Some(value),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_rule_comes_back_and_unknown_ones_do_not_matter() {
        let rules = InstallRules {
            scope: Some(Scope::Asked),
            folder: Some("Fernhollow/Combwright".into()),
            minimum_windows: "10.0.17763".parse().ok(),
            downgrade: Some(Downgrade::Allowed),
            upgrade_code: Some("{0}".into()),
            start_at_end: Some("app".into()),
            ..InstallRules::default()
        };
        let mut read_back = InstallRules::default();
        for (name, value) in write(&rules) {
            read(name, value, &mut read_back);
        }
        read("a rule of a later version", "yes".into(), &mut read_back);
        assert_eq!(read_back, rules);
    }
}
