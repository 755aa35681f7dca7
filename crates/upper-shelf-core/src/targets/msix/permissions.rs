//! What a package declares that its programs want to get at.
//!
//! Source: Microsoft, "App capability declarations".

use crate::footprint::Access;

/// A capability: the element that declares it, and its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capability {
    /// The element.
    pub element: &'static str,
    /// Its name.
    pub name: &'static str,
}

/// The capability that declares something; none where there is none, and programs of the desktop do as their user may.
pub fn capability(access: Access) -> Option<Capability> {
    let (element, name) = match access {
        Access::Internet => ("Capability", "internetClient"),
        Access::Server => ("Capability", "internetClientServer"),
        Access::LocalNetwork => ("Capability", "privateNetworkClientServer"),
        Access::Calendars => ("uap:Capability", "appointments"),
        Access::Contacts => ("uap:Capability", "contacts"),
        Access::DocumentsFolder => ("uap:Capability", "documentsLibrary"),
        Access::Music => ("uap:Capability", "musicLibrary"),
        Access::Photos => ("uap:Capability", "picturesLibrary"),
        Access::RemovableDisks => ("uap:Capability", "removableStorage"),
        Access::Videos => ("uap:Capability", "videosLibrary"),
        Access::Bluetooth => ("DeviceCapability", "bluetooth"),
        Access::Camera => ("DeviceCapability", "webcam"),
        Access::Location => ("DeviceCapability", "location"),
        Access::Microphone => ("DeviceCapability", "microphone"),
        Access::DesktopFolder
        | Access::DownloadsFolder
        | Access::OtherPrograms
        | Access::Reminders
        | Access::Speech => return None,
    };
    Some(Capability { element, name })
}

/// What a capability declares.
pub fn access(name: &str) -> Option<Access> {
    Access::ALL.into_iter().find(|access| capability(*access).is_some_and(|own| own.name == name))
}
