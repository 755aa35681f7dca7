//! What of a product for macOS will be signed, and what its programs may do.

use super::code::{Standing, parts_of, standing};
use super::interpreters::needed;
use crate::footprint::{Access, Identity};
use crate::payload::PayloadFile;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::CodeSigning;
use crate::signing::{self, ForeignSignature, PlannedEntitlement, PlannedSigning};
use code_signature::Entitlements;
use std::path::Path;

/// Reads the list of what programs may do.
///
/// # Errors
/// It can't be read, or is none.
pub fn list(path: &Path) -> Result<Entitlements, Failure> {
    let bytes = crate::input::read(path).map_err(|e| Failure::io("can't read", path, e))?;
    Entitlements::from_list(&bytes).map_err(|e| {
        let what = format!("{} is no list of entitlements", path.display());
        let problem = Problem::error(Code::InvalidValue, what).on(path).why(e.to_string());
        Failure::new(Kind::Problems, problem.instead("a property list, with a dictionary of entitlements in it"))
    })
}

/// What a product's programs may do: what the manifest names, what the interpreters among its files need, and what has to be
/// allowed for its permissions, with the reasons.
///
/// # Errors
/// The list can't be read.
pub fn entitlements(
    settings: &CodeSigning,
    files: &[PayloadFile],
) -> Result<(Entitlements, Vec<(String, String)>), Failure> {
    let mut all = settings.entitlements.as_deref().map(list).transpose()?.unwrap_or_default();
    let mut reasons = Vec::new();
    if settings.runtime && settings.key.is_some() {
        for (key, interpreter) in needed(files.iter().map(|file| file.path.as_str())) {
            if !all.0.contains_key(key) {
                all.0.insert(key.to_owned(), true.into());
                reasons.push((key.to_owned(), format!("{interpreter} needs it")));
            }
        }
        for access in &settings.permissions {
            let Some(key) = entitlement(*access).filter(|key| !all.0.contains_key(key)) else { continue };
            all.0.insert(key.to_owned(), true.into());
            reasons.push((key.to_owned(), format!("[permissions] {}", access.name())));
        }
    }
    Ok((all, reasons))
}

/// What the hardened runtime has to allow before a program may ask for something.
///
/// Source: Apple, "Hardened Runtime", resource access.
pub fn entitlement(access: Access) -> Option<&'static str> {
    Some(match access {
        Access::Calendars | Access::Reminders => "com.apple.security.personal-information.calendars",
        Access::Camera => "com.apple.security.device.camera",
        Access::Contacts => "com.apple.security.personal-information.addressbook",
        Access::Location => "com.apple.security.personal-information.location",
        Access::Microphone | Access::Speech => "com.apple.security.device.audio-input",
        Access::OtherPrograms => "com.apple.security.automation.apple-events",
        Access::Photos => "com.apple.security.personal-information.photos-library",
        Access::Bluetooth
        | Access::DesktopFolder
        | Access::DocumentsFolder
        | Access::DownloadsFolder
        | Access::Internet
        | Access::LocalNetwork
        | Access::Music
        | Access::RemovableDisks
        | Access::Server
        | Access::Videos => return None,
    })
}

/// What is wrong with how a product's code is to be signed, as far as that can be seen without a secret.
pub fn check(settings: &CodeSigning, product: &Identity, elsewhere: bool, now: u64) -> Vec<Problem> {
    let mut all = Vec::new();
    if let Some(key) = &settings.key {
        all.extend(signing::check(key, product, settings.team.as_deref(), elsewhere, now));
    }
    if let Some(Err(failure)) = settings.entitlements.as_deref().map(list) {
        let problems = failure.problems.into_iter();
        all.extend(problems.map(|problem| problem.about_setting("signing.macos.entitlements")));
    }
    all
}

/// What will be signed of a product: programs and libraries, and what others have signed.
///
/// # Errors
/// A file can't be read.
pub fn planned(settings: &CodeSigning, files: &[PayloadFile]) -> Result<PlannedSigning, Failure> {
    let (mut programs, mut foreign_signatures) = (Vec::new(), Vec::new());
    for file in files {
        let trouble = |e: std::io::Error| Failure::io("can't read", Path::new(file.path.as_str()), e);
        let Some(Ok(parts)) = parts_of(&file.source).map_err(trouble)? else { continue };
        match standing(&file.source, &parts).map_err(trouble)?.0 {
            Standing::Somebody(by) if !settings.replace => {
                foreign_signatures.push(ForeignSignature { path: file.path.clone(), by });
            }
            Standing::Somebody(_) | Standing::Nobody => programs.push(file.path.clone()),
        }
    }
    let (all, reasons) = entitlements(settings, files)?;
    let entitlements = all.0.keys().map(|name| PlannedEntitlement {
        name: name.clone(),
        reason: reasons.iter().find(|(key, _)| key == name).map(|(_, why)| why.clone()),
    });
    Ok(PlannedSigning {
        key: settings.key.as_ref().map(|key| key.key.clone()),
        timestamps: settings.key.as_ref().map(|key| key.timestamps.clone()).unwrap_or_default(),
        programs,
        foreign_signatures,
        entitlements: entitlements.collect(),
    })
}
