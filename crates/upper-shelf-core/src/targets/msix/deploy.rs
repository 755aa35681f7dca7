//! The page for administrators that lies beside a package: commands, trust, errors, and how to see whether it is installed.
//! Everything on it is read from the finished package.
//!
//! Source: Microsoft's documentation of the PowerShell module Appx and of the installer's error codes.

use crate::app_manifest::AppManifest;
use crate::as_installed::names;
use crate::footprint::{Footprint, Place};
use std::fmt::Write as _;

/// The page, in Markdown.
pub fn page(name: &str, manifest: &AppManifest, footprint: &Footprint) -> String {
    let p = &footprint.product;
    let text = |t: &Option<String>| t.clone().unwrap_or_default();
    let (full, family) = names(manifest);
    let mut out = String::new();
    let mut line = |text: String| {
        let _ = writeln!(out, "{text}");
    };
    line(format!("# Deploying {} {}\n", text(&p.name), text(&p.version)));
    line(format!("`{name}`, by {}. Windows installs it by itself, for each user.\n", text(&p.publisher)));
    line("## Commands\n\nIn PowerShell; those for everyone need administrator rights.\n".into());
    line("| to | command |\n|---|---|".into());
    line(format!("| install or upgrade, for yourself | `Add-AppxPackage -Path \"{name}\"` |"));
    line(format!(
        "| provide it for everyone, now and later | `Add-AppxProvisionedPackage -Online -PackagePath \"{name}\" -SkipLicense` |"
    ));
    line(format!("| repair | `Get-AppxPackage {} \\| Reset-AppxPackage` |", manifest.name));
    line(format!("| remove, for yourself | `Remove-AppxPackage {full}` |"));
    line(format!("| remove for everyone | `Remove-AppxProvisionedPackage -Online -AllUsers -PackageName {full}` |"));
    line(
        "\n`Reset-AppxPackage` also removes the user's data of the program. It is there since Windows 10 2004.\n"
            .into(),
    );
    line("## Trust\n".into());
    line(format!(
        "Windows installs it only if it is signed with a certificate of the subject\n`{}`\nthat leads to an authority which the machine trusts. The certificate of an authority of your own belongs in the machine's store *Trusted Root Certification Authorities*; a certificate that nobody issued, in *Trusted People*:\n`Import-Certificate -FilePath FILE.cer -CertStoreLocation Cert:\\LocalMachine\\TrustedPeople`\n",
        manifest.publisher
    ));
    line("## How to detect the installation\n".into());
    line(format!(
        "- Name: `{}`; `Get-AppxPackage {}` shows it for the user, with `-AllUsers` for everyone",
        manifest.name, manifest.name
    ));
    line(format!("- Version: `{}`", manifest.version));
    line(format!("- Full name: `{full}` (changes with each version)"));
    line(format!("- Family name: `{family}` (the same in every version)"));
    line(format!("- Folder: `(Get-AppxPackage {}).InstallLocation`; nobody may write there", manifest.name));
    line("\n## What it is for the system\n".into());
    let programs: Vec<String> = footprint.programs.iter().map(|program| format!("`{}`", program.file)).collect();
    line(format!("- Programs: {}", programs.join(", ")));
    for shortcut in footprint.shortcuts.iter().filter(|shortcut| shortcut.place == Place::Startup) {
        line(format!("- “{}” starts when the user signs in; users can turn that off in the settings", shortcut.name));
    }
    for command in &footprint.commands {
        line(format!("- At a prompt: `{}`", command.name));
    }
    for service in &footprint.services {
        line(format!("- The service `{}`: installing it needs administrator rights", service.name));
    }
    line(format!(
        "- Rights: {}",
        manifest.capabilities.iter().map(|c| format!("`{c}`")).collect::<Vec<_>>().join(", ")
    ));
    if !footprint.registry.is_empty() {
        line("- Registry values of its own, which only its programs see: `reg query` and policies don't".into());
    }
    line("- What its programs write to the machine's registry and to `%APPDATA%` is kept apart, and goes when it is removed".into());
    line("\n## Errors\n\n| code | means |\n|---|---|".into());
    for (code, means) in [
        ("0x80073CF0", "the package can't be opened: damaged, or another publisher than its certificate's"),
        (
            "0x80073CF3",
            "another package of the same name is in the way, or Windows is too old, or the processor is another one",
        ),
        ("0x80073CFB", "the same version with other contents is installed: remove it first"),
        ("0x80073D06", "a newer version is installed; `-ForceUpdateFromAnyVersion` replaces it"),
        ("0x80073D02", "its programs are running: close them, or `-ForceApplicationShutdown`"),
        ("0x800B0109", "the certificate leads to no authority that the machine trusts"),
        ("0x800B0100", "it isn't signed"),
        ("0x80070070", "not enough disk space"),
    ] {
        line(format!("| {code} | {means} |"));
    }
    if let Some(windows) = footprint.install.minimum_windows {
        line(format!("\nIt requires Windows {windows} or later."));
    }
    line("\nIt doesn't replace the product's MSI or setup program, nor do they replace it: remove one before you install the other. What they kept in the registry and in the user's folders stays theirs.".into());
    out
}
