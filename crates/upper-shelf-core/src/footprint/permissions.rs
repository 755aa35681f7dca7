//! What a product wants to get at, beyond its own files: one declaration for all systems.

use super::{Item, Kind};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;

/// The type, all of it, and its names in manifests.
macro_rules! accesses {
    ($($(#[$doc:meta])+ $variant:ident $name:literal),+ $(,)?) => {
        /// Something that people are asked about, or that a system holds back, before a program gets at it.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Access {
            $($(#[$doc])+ $variant),+
        }

        impl Access {
            /// All of them, by name.
            pub const ALL: [Self; [$($name),+].len()] = [$(Self::$variant),+];

            /// Its name in manifests.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name),+
                }
            }
        }
    };
}

accesses! {
    /// Devices nearby.
    Bluetooth "bluetooth",
    /// Appointments.
    Calendars "calendars",
    /// The camera.
    Camera "camera",
    /// People's addresses.
    Contacts "contacts",
    /// Files on the desktop.
    DesktopFolder "desktop-folder",
    /// The user's documents.
    DocumentsFolder "documents-folder",
    /// What was downloaded.
    DownloadsFolder "downloads-folder",
    /// Other machines, which it asks.
    Internet "internet",
    /// Machines in the local network.
    LocalNetwork "local-network",
    /// Where the user is.
    Location "location",
    /// The microphone.
    Microphone "microphone",
    /// The user's music.
    Music "music",
    /// Other programs, which it steers.
    OtherPrograms "other-programs",
    /// The user's pictures.
    Photos "photos",
    /// Reminders.
    Reminders "reminders",
    /// Disks that can be taken out.
    RemovableDisks "removable-disks",
    /// Other machines, which ask it.
    Server "server",
    /// What is said, as words.
    Speech "speech",
    /// The user's films.
    Videos "videos",
}

impl Access {
    /// Whether macOS asks the user about it, with a reason that the program has to give.
    pub fn is_asked_about(self) -> bool {
        !matches!(self, Self::Internet | Self::Server | Self::Videos)
    }
}

/// One thing that a product wants to get at.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Permission {
    /// What.
    pub access: Access,
    /// Why: a sentence that systems show when they ask.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reason: Option<String>,
}

impl Item for Permission {
    const KIND: Kind = Kind::Permission;
    fn name(&self) -> Cow<'_, str> {
        self.access.name().into()
    }
}

impl fmt::Display for Permission {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.access.name())?;
        self.reason.iter().try_for_each(|reason| write!(f, ": {reason}"))
    }
}
