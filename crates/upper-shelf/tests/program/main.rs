//! The built program is driven on files in a folder of its own, and what comes out is judged.

mod common;

mod appimage;
mod bad_days;
mod brand;
#[cfg(unix)]
mod bundle;
mod commands;
#[cfg(unix)]
mod deploy;
#[cfg(unix)]
mod dmg;
#[cfg(unix)]
mod extract;
#[cfg(unix)]
mod extract_hostile;
#[cfg(unix)]
mod foreign;
#[cfg(target_os = "linux")]
mod hostile;
#[cfg(unix)]
mod launcher;
#[cfg(target_os = "linux")]
mod libraries;
mod manifest;
#[cfg(unix)]
mod msi;
#[cfg(unix)]
mod msi_judges;
#[cfg(unix)]
mod msix;
mod msix_build;
#[cfg(unix)]
mod node;
#[cfg(unix)]
mod notices;
mod payload;
#[cfg(unix)]
mod php;
#[cfg(unix)]
mod power;
#[cfg(unix)]
mod preview;
#[cfg(unix)]
mod python;
mod real;
#[cfg(target_os = "linux")]
mod renames;
#[cfg(unix)]
mod results;
#[cfg(unix)]
mod runtimes;
#[cfg(unix)]
mod setup;
#[cfg(unix)]
mod setup_harm;
#[cfg(unix)]
mod setup_wizard;
#[cfg(unix)]
mod signing;
mod sources;
mod tar;
#[cfg(unix)]
mod tar_bad_days;
#[cfg(unix)]
mod twins;
#[cfg(unix)]
mod wizard;
