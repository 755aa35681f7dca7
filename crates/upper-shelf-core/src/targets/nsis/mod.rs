//! Setup programs and portable programs for Windows, in the NSIS format: our own head, and behind it the instructions
//! and the packed files. What the head runs is what is read back.

mod carry;
mod deploy;
mod program;
mod read;
mod rules;

use super::{Depth, Format, Job, Loss, Target, Visit, damaged, not_for_one_person, unwritten};
use crate::budget::Package;
use crate::footprint::{Footprint, Scope};
use crate::payload::brand::product_version;
use crate::payload::feed::{Part, Stream};
use crate::platform::{Platform, System};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::{Settings, SetupCompression, TargetName};
use nsis_archive::header::Header;
use nsis_archive::write::{Options, Writer};
use nsis_archive::{Error, Method};
use pe_image::{Image, Manifest, set_icon};
pub(crate) use program::UNINSTALL_PROGRAM;
pub use program::shown;
use std::fs::File;
use std::path::Path;

/// The files' bytes and the format's own lengths have to fit into 31 bits.
const MOST: u64 = 0x7FFF_0000;

/// The setup program.
pub struct Nsis;

/// The portable program.
pub struct Portable;

/// The heads: what they do, how they unpack, for which processor.
macro_rules! head {
    ($kind:literal, $platform:expr) => {
        match $platform {
            Some(Platform::WindowsX86) => stored!($kind, "-x86.exe"),
            Some(Platform::WindowsArm64) => stored!($kind, "-arm64.exe"),
            _ => stored!($kind, "-x64.exe"),
        }
    };
}
macro_rules! stored {
    ($kind:literal, $end:literal) => {
        include_bytes!(concat!("../../../heads/", $kind, $end)).as_slice()
    };
}

/// The head that goes with a package: it has what that one needs, and nothing else.
fn head(job: &Job, portable: bool) -> &'static [u8] {
    let platform = job.footprint.platform;
    match (portable, compression(job)) {
        (false, SetupCompression::Lzma) => head!("setup-lzma", platform),
        (false, SetupCompression::Deflate) => head!("setup-deflate", platform),
        (true, SetupCompression::Lzma) => head!("portable-lzma", platform),
        (true, SetupCompression::Deflate) => head!("portable-deflate", platform),
    }
}

fn compression(job: &Job) -> SetupCompression {
    job.settings.nsis.compression
}

/// The head with the product's icon and version, and what Windows should know before it starts it.
fn head_for(job: &Job, file_name: &str, portable: bool, administrator: bool) -> Result<Vec<u8>, pe_image::Error> {
    let image = Image::parse(head(job, portable))?;
    let mut resources = image.resources()?;
    let icon = job.icon.ico()?;
    set_icon(&mut resources, &icon)?;
    product_version(file_name, &job.footprint.product).put(&mut resources);
    Manifest { administrator, themed: true, every_resolution: true, long_paths: true }.put(&mut resources);
    image.with_resources(&resources)
}

/// The head of a setup program.
fn setup_head(job: &Job) -> Result<Vec<u8>, Failure> {
    let administrator = job.footprint.install.scope() == Scope::Machine;
    let head = head_for(job, &format!("{}.exe", job.file_name), false, administrator);
    head.map_err(|e| Failure::new(Kind::Problems, Problem::error(Code::FormatLimit, e.to_string())))
}

/// Whether so much of the payload is code of x86 processors that the filter for it helps.
fn is_mostly_code(job: &Job) -> bool {
    if matches!(job.footprint.platform, Some(Platform::WindowsArm64)) {
        return false;
    }
    let code = ["exe", "dll", "pyd", "ocx", "sys", "node", "drv", "scr", "cpl"];
    let is_code = |name: &str| name.rsplit_once('.').is_some_and(|(_, e)| code.contains(&e.to_lowercase().as_str()));
    let all: u64 = job.files.iter().map(|f| f.size).sum();
    let of_code: u64 = job.files.iter().filter(|f| is_code(f.path.name())).map(|f| f.size).sum();
    of_code * 4 >= all && of_code > 0
}

fn options(job: &Job) -> Options {
    let all: u64 = job.files.iter().map(|f| f.size + 200).sum();
    let most = job.settings.nsis.dictionary_megabytes << 20;
    // A dictionary that reaches over everything is as good as a larger one.
    let dictionary = all.next_power_of_two().clamp(1 << 16, u64::from(most)) as u32;
    let method = match compression(job) {
        SetupCompression::Lzma => Method::Lzma { filtered: is_mostly_code(job) },
        SetupCompression::Deflate => Method::Deflate,
    };
    Options { method, dictionary, threads: job.threads, flags: 0 }
}

fn failure(e: Error) -> Failure {
    match e {
        Error::Io(e) => unwritten(e),
        other => {
            let problem =
                Problem::error(Code::FormatLimit, "the setup program can't be written").why(other.to_string());
            Failure::new(Kind::Problems, problem.instead("fewer files, or an MSI"))
        }
    }
}

fn write(
    job: &Job,
    head: &[u8],
    header: &Header,
    more: Option<&[u8]>,
    mut stream: Stream,
    out: File,
) -> Result<(), Error> {
    let header = header.write()?;
    let mut writer = Writer::new(out, head, &header, &options(job))?;
    let ended = || Error::Io(std::io::Error::other("the files ended too early"));
    for file in job.files {
        writer.file(file.size)?;
        loop {
            match stream.next_part().ok_or_else(ended)? {
                Part::End(_) => break,
                part => part.pass_on(|bytes| writer.data(bytes))?,
            }
        }
    }
    if let Some(more) = more {
        writer.file(more.len() as u64)?;
        writer.data(more)?;
    }
    let (mut out, length) = writer.finish()?;
    out.set_len(length)?;
    Ok(pe_image::set_checksum(&mut out)?)
}

/// What speaks against both kinds.
fn check(job: &Job, portable: bool) -> Vec<Problem> {
    let mut problems = Vec::new();
    let all: u64 = job.files.iter().map(|f| f.size + 4).sum();
    if all > MOST {
        let problem = Problem::error(Code::FormatLimit, format!("the payload has {all} bytes"));
        let problem = problem.why("a setup program holds up to 2 GiB of files");
        problems.push(problem.instead("an MSI, whose cabinets hold more"));
    }
    let megabytes = job.settings.nsis.dictionary_megabytes;
    if !(megabytes.is_power_of_two() && megabytes <= 256) {
        let problem = Problem::error(Code::InvalidValue, format!("the dictionary can't be {megabytes} megabytes"));
        let problem = problem.about_setting("target.nsis.dictionary-megabytes");
        problems.push(problem.why("the format takes powers of two only").instead("dictionary-megabytes = 32"));
    }
    let head_for = head_for(job, "setup.exe", portable, false).err();
    problems.extend(head_for.map(|e| {
        Problem::error(Code::Icon, "the product's icon can't be put into the setup program").why(e.to_string())
    }));
    problems
}

impl Format for Nsis {
    fn name(&self) -> &'static str {
        TargetName::Nsis.name()
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        read::read(package, depth, false)
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        read::files(package, visit)
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        read::findings(package)
    }
}

impl Target for Nsis {
    fn target(&self) -> TargetName {
        TargetName::Nsis
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".exe"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        carry::setup(footprint)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = check(job, false);
        for file in job.files {
            let name = file.path.as_str().to_lowercase();
            if [program::UNINSTALL_PROGRAM, program::RECORD].contains(&name.as_str())
                || name.split('/').next() == Some("~setup")
            {
                let problem = Problem::error(Code::Reserved, format!("the payload has a file {}", file.path));
                let problem = problem.why("the setup program puts its own file there");
                problems.push(problem.instead("another name, or another folder"));
            }
        }
        problems.extend(super::classes::conflicts(job.footprint));
        problems.extend(not_for_one_person(job.footprint));
        problems
    }

    fn sign_own_programs(&self, job: &Job) -> Result<(), Failure> {
        program::uninstaller(job, &setup_head(job)?).map(drop)
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        let head = setup_head(job)?;
        let (header, block) = program::setup(job, &head)?;
        write(job, &head, &header, Some(&block), stream, out).map_err(failure)
    }

    fn page(&self, _: &Path, name: &str, footprint: &Footprint) -> Result<Option<(&'static str, String)>, Failure> {
        Ok(Some((".DEPLOY.md", deploy::page(name, footprint))))
    }
}

impl Format for Portable {
    fn name(&self) -> &'static str {
        TargetName::Portable.name()
    }

    fn systems(&self) -> &'static [System] {
        &[System::Windows]
    }

    fn read(&self, package: &Package, depth: Depth) -> Result<Option<Footprint>, Failure> {
        read::read(package, depth, true)
    }

    fn files(&self, package: &Package, visit: Visit) -> Result<(), Failure> {
        read::files(package, visit)
    }

    fn findings(&self, package: &Package) -> Result<Vec<String>, Failure> {
        read::findings(package)
    }
}

impl Target for Portable {
    fn target(&self) -> TargetName {
        TargetName::Portable
    }

    fn extension(&self, _: &Settings) -> &'static str {
        ".portable.exe"
    }

    fn carry(&self, footprint: &Footprint) -> (Footprint, Vec<Loss>) {
        carry::portable(footprint)
    }

    fn check(&self, job: &Job) -> Vec<Problem> {
        let mut problems = check(job, true);
        if starts(job).is_none() {
            let problem = Problem::error(Code::NeedsProgram, "the portable program has no program to start");
            problems.push(match &job.settings.portable.program {
                Some(key) => problem.why(format!("no program has the key {key:?}")).instead("the key of a [[program]]"),
                None => problem.why("there is no [[program]]").instead("[[program]]\nkey = \"app\""),
            });
        }
        problems
    }

    fn write(&self, job: &Job, stream: Stream, out: File) -> Result<(), Failure> {
        let (start, console) = starts(job).unwrap_or_default();
        let head = head_for(job, &format!("{}.portable.exe", job.file_name), true, false);
        let mut head =
            head.map_err(|e| Failure::new(Kind::Problems, Problem::error(Code::FormatLimit, e.to_string())))?;
        if console {
            crate::payload::brand::for_terminal(&mut head);
        }
        let header = program::portable(job, &start).map_err(failure)?;
        write(job, &head, &header, None, stream, out).map_err(failure)
    }
}

/// The key of the program that a portable one starts, and whether it is for a terminal.
fn starts(job: &Job) -> Option<(String, bool)> {
    let wanted = job.settings.portable.program.as_deref();
    let program = job.footprint.programs.iter().find(|p| wanted.is_none_or(|w| w == p.key))?;
    Some((program.key.clone(), program.console))
}

/// A failure about a package that can't be read.
fn unread(package: &Path, e: Error) -> Failure {
    match e {
        Error::Io(e) if e.get_ref().is_none() => Failure::io("can't read", package, e),
        e => damaged(package, e),
    }
}
