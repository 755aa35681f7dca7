//! The system's own file for updates (`.appinstaller`): where a package lies on a server, and when the system looks whether there
//! is a newer one.
//!
//! Source: Microsoft's published schema of App Installer files, version 2018.

use super::manifest::{name, package_version, processor, publisher};
use crate::app_manifest::AppManifest;
use crate::footprint::file_name_of;
use crate::platform::System;
use crate::settings::{AppInstaller, UpdateCheck, UpdatePrompt};
use crate::targets::Job;
use crate::xml::{Element, Namespaces};

/// The one namespace; systems before Windows 10 1803 know an older one only.
const NAMESPACES: &Namespaces = &[("", "http://schemas.microsoft.com/appx/appinstaller/2018")];

/// The file's name: without a version, because its address never changes.
pub fn file_name(job: &Job) -> String {
    let product = job.footprint.product.name.as_deref().unwrap_or("Product");
    let platform = job.footprint.platform.map_or("windows-x64", |platform| platform.name());
    format!("{}-{platform}.appinstaller", file_name_of(product))
}

/// The file for one package.
pub fn write(job: &Job, settings: &AppInstaller) -> Vec<u8> {
    let package = Element::new("MainPackage")
        .with("Name", name(job))
        .with("Publisher", publisher(job))
        .with("Version", package_version(job))
        .with("ProcessorArchitecture", processor(job.footprint.platform))
        .with("Uri", at(settings, &format!("{}.msix", job.file_name)));
    whole(settings, &file_name(job), &package_version(job), package)
}

/// The same for a bundle in a file whose name begins with `stem`: its own name, and its bytes.
pub fn of_bundle(bundle: &AppManifest, file: &str, stem: &str, settings: &AppInstaller) -> (String, Vec<u8>) {
    let package = Element::new("MainBundle")
        .with("Name", bundle.name.as_str())
        .with("Publisher", bundle.publisher.as_str())
        .with("Version", bundle.version.as_str())
        .with("Uri", at(settings, file));
    // Its address never changes: what stands in front of the version.
    let product = bundle.title.as_deref().map_or_else(|| stem.to_owned(), file_name_of);
    let own = format!("{product}-{}.appinstaller", System::Windows.name());
    let bytes = whole(settings, &own, &bundle.version, package);
    (own, bytes)
}

/// The address of a file on the server. Names of packages have nothing that an address has to spell out, but for letters of other
/// languages.
fn at(settings: &AppInstaller, file: &str) -> String {
    format!("{}/{}", settings.address.trim_end_matches('/'), opc::names::encoded(file))
}

fn whole(settings: &AppInstaller, own: &str, version: &str, package: Element) -> Vec<u8> {
    let mut updates = Element::new("UpdateSettings");
    if settings.check != UpdateCheck::Background {
        let mut start = Element::new("OnLaunch").with("HoursBetweenUpdateChecks", settings.hours.to_string());
        if settings.prompt != UpdatePrompt::Silent {
            start = start.with("ShowPrompt", "true");
        }
        if settings.prompt == UpdatePrompt::Required {
            start = start.with("UpdateBlocksActivation", "true");
        }
        updates = updates.holding(start);
    }
    if settings.check != UpdateCheck::Start {
        updates = updates.holding(Element::new("AutomaticBackgroundTask"));
    }
    Element::new("AppInstaller")
        .with("Uri", at(settings, own))
        .with("Version", version)
        .holding(package)
        .holding(updates)
        .write(NAMESPACES)
}
