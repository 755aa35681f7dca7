//! The packages of one product for several processors in one more file, which is made of finished ones.

use super::partial::{self, Partial};
use super::{Built, hashes_of};
use crate::budget::Package;
use crate::manifest::Project;
use crate::platform::System;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{AppInstaller, TargetName};
use crate::signing::{self, Elsewhere, Signer};
use crate::targets;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

/// Makes a bundle of the packages that Windows installs by itself, where there are several.
///
/// # Errors
/// They can't be read, the key or the medium fail; or the bundle's signature is not there yet.
pub(super) fn bundle(
    project: &Project,
    built: &[Built],
    (languages, app_installer): (&[String], Option<&AppInstaller>),
    (output, threads): (&Path, usize),
    elsewhere: Option<&Arc<Elsewhere>>,
) -> Result<Option<Built>, Failure> {
    let own: Vec<&Built> = built.iter().filter(|one| one.target == TargetName::Msix).collect();
    let [first, _, ..] = own[..] else { return Ok(None) };
    let began = Instant::now();
    let stem = first.file.file_stem().unwrap_or_default().to_string_lossy();
    let stem = stem.replace(first.platform.name(), System::Windows.name());
    let name = format!("{stem}.msixbundle");
    let mut made = Partial::create(output, &name)?;
    let out = |partial: &Partial| partial.file.try_clone().map_err(|e| Failure::io("can't write", &partial.path, e));
    let files: Vec<PathBuf> = own.iter().map(|one| one.file.clone()).collect();
    let said = targets::write_bundle(&files, languages, threads, out(&made)?)?;
    let mut signature = None;
    if let Some(settings) = project.signing(System::Windows) {
        let signer = Signer::open(&settings, &crate::footprint::Identity::default(), elsewhere)?;
        signing::later(signer.package(&made.path, &name, &mut made.file))?;
        signer.stop()?;
        signature = Some(signer.holds(&made.path)?);
    }
    let seconds = began.elapsed().as_secs_f64();
    let began = Instant::now();
    let findings = targets::target(TargetName::Msix).findings(&Package::of_ours(&made.path))?;
    if !findings.is_empty() {
        let problem = Problem::error(Code::FormatRules, format!("{name} breaks rules of its format"));
        let remedy = "this is a bug in the tool: please report it";
        return Err(Failure::new(Kind::Machine, problem.why(findings.join("; ")).instead(remedy)));
    }
    let trouble = |e: std::io::Error| Failure::io("can't read", &made.path, e);
    let (blake3, sha256) = hashes_of(&made.path).map_err(trouble)?;
    let bytes = made.file.metadata().map_err(trouble)?.len();
    let file = output.join(&name);
    let mut beside = Vec::new();
    if let Some(settings) = app_installer {
        let (own, text) = targets::app_installer_of_bundle(&said, &name, &stem, settings);
        let mut partial = Partial::create(output, &own)?;
        let trouble = |e: std::io::Error| Failure::io("can't write", &output.join(&own), e);
        std::io::Write::write_all(&mut partial.file, &text).map_err(trouble)?;
        partial::take_away(&file)?;
        partial.finish(&output.join(&own), false)?;
        beside.push(output.join(&own));
    }
    made.finish(&file, false)?;
    Ok(Some(Built {
        file,
        page: None,
        target: TargetName::Msix,
        platform: first.platform,
        packages: files,
        sidecars: beside,
        bytes,
        plain_bytes: own.iter().map(|one| one.plain_bytes).sum(),
        blake3,
        sha256,
        seconds,
        verify_seconds: began.elapsed().as_secs_f64(),
        signature,
        signed_programs: 0,
        foreign_signatures: Vec::new(),
        layers: first.layers.clone(),
        biggest: first.biggest.clone(),
        losses: Vec::new(),
    }))
}
