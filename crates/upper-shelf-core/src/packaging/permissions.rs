//! Who is allowed what: what the system of a plan makes of the permissions that a product declares, and what can't be held back
//! there.

use super::Plan;
use crate::footprint::{Access, Permission};
use crate::platform::System;
use crate::settings::TargetName;
use crate::signing::macos::entitlement;
use crate::targets::capability;
use serde::Serialize;

/// What a system makes of something that a product wants to get at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Permitted {
    /// What, and why.
    #[serde(flatten)]
    pub permission: Permission,
    /// What the system makes of it, a sentence each.
    pub means: Vec<String>,
}

impl Plan {
    /// What the system makes of what the product wants to get at.
    pub fn permitted(&self) -> Vec<Permitted> {
        let wanted = self.footprint.permissions.iter();
        wanted
            .map(|permission| Permitted { permission: permission.clone(), means: self.means(permission.access) })
            .collect()
    }

    fn means(&self, access: Access) -> Vec<String> {
        match self.product.platform.system() {
            System::Windows => self.on_windows(access),
            System::Macos => self.on_macos(access),
            System::Linux => vec!["nothing is held back: programs may do what their user may".into()],
        }
    }

    fn on_windows(&self, access: Access) -> Vec<String> {
        let mut all = Vec::new();
        if self.packages.iter().any(|package| package.target == TargetName::Msix) {
            all.push(match capability(access) {
                Some(name) => format!("an MSIX package declares `{name}`"),
                None => "an MSIX package has no capability for it".into(),
            });
        }
        let is_switched = matches!(
            access,
            Access::Bluetooth
                | Access::Calendars
                | Access::Camera
                | Access::Contacts
                | Access::Location
                | Access::Microphone
        );
        all.push(match is_switched {
            true => "users can switch it off for all desktop programs in the privacy settings".into(),
            false if access == Access::Server => "the firewall asks the user when the program first listens".into(),
            false => "it is not held back: desktop programs may do what their user may".into(),
        });
        all
    }

    fn on_macos(&self, access: Access) -> Vec<String> {
        let mut all = vec![match access {
            _ if access.is_asked_about() => "macOS asks the user, and shows the reason".to_owned(),
            Access::Server => "the firewall asks the user, if it is on".to_owned(),
            _ => "it is not held back outside of a sandbox".to_owned(),
        }];
        let settings = &self.product.code_signing;
        if let Some(key) = entitlement(access).filter(|_| settings.runtime && settings.key.is_some()) {
            all.push(format!("the hardened runtime allows it by `{key}`"));
        }
        all
    }
}
