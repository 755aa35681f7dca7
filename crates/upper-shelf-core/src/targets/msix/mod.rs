//! Packages that Windows installs by itself (MSIX): signed archives of files, a manifest that says what the system makes of
//! them, and a registry of their own.

pub(super) mod app_installer;
pub(super) mod bundle;
mod carry;
mod declared;
mod deploy;
mod icons;
mod manifest;
pub(crate) mod permissions;
mod read;
mod registry;
mod rules;
mod writes;

pub use read::as_installed;
pub(crate) use registry::entries;

use super::{Depth, Fact, Format, Job, Loss, Target, Visit, unwritten};
use crate::app_manifest::AppManifest;
use crate::as_installed::names;
use crate::budget::Package;
use crate::footprint::{Footprint, Foreign, List};
use crate::payload::feed::{Part, Stream};
use crate::platform::System;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{Settings, TargetName};
use opc::write::{Options, Writer};
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::Path;

/// The target.
pub struct Msix;

/// Endings of files that are packed already: packing them again takes time and gains nothing.
const PACKED: [&str; 22] = [
    "7z", "apk", "avif", "br", "bz2", "cab", "docx", "flac", "gz", "jar", "jpeg", "jpg", "mp3", "mp4", "msix", "ogg",
    "png", "webm", "webp", "woff2", "xz", "zip",
];

impl Format for Msix {
    fn name(&self) -> &'static str {
        TargetName::Msix.name()
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn slashes_only(&self) -> bool {
        true
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        read::read(package, depth)
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        read::files(package, visit)
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        read::findings(package)
    }
}

impl Target for Msix {
    fn target(&self) -> TargetName {
        TargetName::Msix
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".msix"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        carry::carry(footprint)
    }

    fn facts(&self, job: &Job) -> Vec<Fact> {
        let own = AppManifest {
            name: manifest::name(job),
            publisher: manifest::publisher(job),
            version: manifest::package_version(job),
            processor: Some(manifest::processor(job.footprint.platform).into()),
            ..AppManifest::default()
        };
        let (full, family) = names(&own);
        let fact = |what, text| Fact { what, text };
        let mut all = vec![fact("publisher", own.publisher), fact("full name", full), fact("family name", family)];
        all.extend(job.settings.msix.frameworks.iter().map(|needed| fact("needs", declared::shown(needed))));
        all
    }

    fn declared(&self, settings: &Settings) -> List<Foreign> {
        declared::declared(&settings.msix)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = Vec::new();
        let limit = |what: String| Problem::error(Code::FormatLimit, what);
        let stated = job.settings.msix.version.as_deref();
        let version = stated.or(job.footprint.product.version.as_deref()).unwrap_or_default();
        if let Err(why) = manifest::version(version) {
            let problem = limit(format!("an MSIX package can't have the version {version:?}")).why(why);
            let form = "up to four numbers such as 2.4.0, raised for each release";
            let setting = if stated.is_some() { "target.msix.version" } else { "product.version" };
            problems.push(problem.about_setting(setting).instead(match stated {
                Some(_) => form.to_owned(),
                None => format!("[target.msix]\nversion = \"2.4.0\"    # for this format only: {form}"),
            }));
        }
        if job.settings.msix.publisher.is_none() {
            let what = "the publisher of the MSIX package isn't known";
            let problem = Problem::error(Code::Certificate, what).about_setting("targets");
            problems.push(
                problem
                    .why("Windows installs it only if it names the very subject of the certificate that signs it")
                    .instead("[signing.windows] with a key and its certificate, or\n[target.msix]\npublisher = \"CN=…\"    # as the certificate's subject has it"),
            );
        }
        if job.footprint.programs.is_empty() {
            let problem = Problem::error(Code::NeedsProgram, "the MSIX package has no program to start");
            problems.push(problem.why("there is no [[program]]").instead("[[program]]\nkey = \"app\""));
        }
        for file in job.files.iter().filter(|file| read::is_made(file.path.as_str())) {
            let problem = Problem::error(Code::Reserved, format!("the payload has a file {}", file.path));
            problems.push(
                problem
                    .why("an MSIX package has its own file there")
                    .instead("another name or folder, or exclude it with `drop`"),
            );
        }
        if let Err(e) = registry::hives(&job.footprint.registry, job.footprint.platform, job.time) {
            problems.push(limit("the registry of the MSIX package can't be written".into()).why(e.to_string()));
        }
        problems.extend(declared::check(&job.settings.msix));
        problems.extend(writes::check(job.files, &job.settings.msix.capabilities));
        // What was said above would only be said again.
        let about =
            if !problems.iter().any(Problem::is_error) { rules::check(&manifest::tree(job), true) } else { Vec::new() };
        problems.extend(about.into_iter().map(|what| {
            let problem = limit(format!("the MSIX package's manifest isn't what its format demands: {what}"));
            match () {
                () if what.starts_with("Name of Identity") && job.settings.msix.name.is_some() => {
                    problem.about_setting("target.msix.name").instead("3 to 50 letters, digits, dots and dashes")
                }
                () if what.starts_with("Name of Identity") => {
                    let own = "[target.msix]\nname = \"…\"    # 3 to 50 letters, digits, dots and dashes";
                    problem.about_setting("product.id").instead(own)
                }
                () if what.starts_with("Publisher of Identity") => {
                    problem.about_setting("target.msix.publisher").instead(
                        "publisher = \"CN=Fernhollow Apiary Works, C=AT\"    # as the certificate's subject has it",
                    )
                }
                () if what.contains(" of PackageDependency") => problem
                    .about_setting("target.msix.framework")
                    .instead("name and publisher as the framework package's own manifest has them"),
                () => problem.about_setting("targets"),
            }
        }));
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        write(job, stream, out).map_err(|e| match e {
            opc::Error::Io(e) => unwritten(e),
            other => {
                let problem = Problem::error(Code::FormatLimit, "the MSIX package can't be written");
                Failure::new(Kind::Problems, problem.why(other.to_string()))
            }
        })?;
        // That of a bundle is written with it.
        let settings = job.settings.msix.app_installer.as_ref().filter(|_| !job.settings.msix.bundle);
        let Some(settings) = settings else { return Ok(()) };
        let mut file = (job.sidecar)(&app_installer::file_name(job))?;
        file.write_all(&app_installer::write(job, settings)).map_err(unwritten)
    }

    fn page(
        &self,
        package: &Path,
        name: &str,
        footprint: &Footprint,
    ) -> Result<Option<(&'static str, String)>, Failure> {
        let manifest = read::manifest_of(&Package::of_ours(package))?;
        Ok(manifest.map(|manifest| (".DEPLOY.md", deploy::page(name, &manifest, footprint))))
    }
}

/// Whether a file is stored as it is.
fn is_stored(name: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, ending)| PACKED.contains(&ending.to_lowercase().as_str()))
}

fn write(job: &Job, mut stream: Stream, out: File) -> opc::Result<()> {
    // The list of types has the signature's, whoever signs it later: the list itself is signed.
    let options = Options { threads: job.threads, level: job.settings.msix.level, signed: true };
    let mut writer = Writer::new(BufWriter::with_capacity(1 << 18, out), options)?;
    let ended = || opc::Error::Io(std::io::Error::other("the files ended too early"));
    for file in job.files {
        writer.part(file.path.as_str(), file.size, is_stored(file.path.name()))?;
        loop {
            match stream.next_part().ok_or_else(ended)? {
                Part::End(_) => break,
                part => part.pass_on(|bytes| writer.data(bytes))?,
            }
        }
    }
    let pictures = icons::all(job.icon);
    let hives = registry::hives(&job.footprint.registry, job.footprint.platform, job.time)?;
    let manifest = [(opc::MANIFEST, manifest::write(job))];
    for (name, bytes) in pictures.into_iter().chain(hives).chain(manifest) {
        writer.part(name, bytes.len() as u64, is_stored(name))?;
        writer.data(&bytes)?;
    }
    let out = writer.finish()?;
    out.into_inner().map_err(std::io::IntoInnerError::into_error)?;
    Ok(())
}
