//! Code in the payload: which files are Mach-O, and what of them a Mac would refuse.

use crate::footprint::RelPath;
use crate::payload::{PayloadFile, Source};
use crate::platform::Platform;
use crate::problem::Problem;
use crate::targets::Job;
use mach_o::{FileKind, Processor, Version};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read;

/// Endings of files that are never code, however they begin: they need not be opened.
const NEVER: [&str; 12] = ["txt", "png", "svg", "json", "html", "md", "icns", "plist", "class", "xml", "css", "js"];

fn may_be_code(file: &PayloadFile) -> bool {
    let ending = file.path.name().rsplit_once('.').map(|(_, e)| e.to_lowercase());
    file.size >= 28 && !ending.is_some_and(|e| NEVER.contains(&e.as_str()))
}

/// What a file says of itself, if it is a Mach-O.
fn read(file: &PayloadFile) -> Option<mach_o::Result<mach_o::File>> {
    if !may_be_code(file) {
        return None;
    }
    let known = |magic: [u8; 4]| {
        matches!(
            u32::from_be_bytes(magic),
            0xCAFE_BABE | 0xCAFE_BABF | 0xFEED_FACE | 0xFEED_FACF | 0xCEFA_EDFE | 0xCFFA_EDFE
        )
    };
    match &file.source {
        Source::Memory(bytes) => {
            known(*bytes.first_chunk()?).then(|| mach_o::read(&bytes.to_vec()).transpose()).flatten()
        }
        Source::Joined(parts) => {
            let mut all = mach_o::File { slices: Vec::new(), universal: true };
            for (path, _) in parts.iter() {
                all.slices.extend(mach_o::read(&File::open(path).ok()?).ok()??.slices);
            }
            Some(Ok(all))
        }
        Source::Disk(path, _) => {
            // What can't be opened now is said when it is packed.
            let mut disk = File::open(path).ok()?;
            let mut magic = [0; 4];
            disk.read_exact(&mut magic).ok()?;
            known(magic).then(|| mach_o::read(&disk).transpose()).flatten()
        }
    }
}

/// The files that are code.
pub fn of(files: &[PayloadFile]) -> BTreeSet<RelPath> {
    files.iter().filter(|f| read(f).is_some()).map(|f| super::stored(&f.path)).collect()
}

/// The processors that a platform's programs are for.
fn wanted(platform: Option<Platform>) -> &'static [Processor] {
    match platform {
        Some(Platform::MacosArm64) => &[Processor::ARM64],
        Some(Platform::MacosX64) => &[Processor::X86_64],
        Some(Platform::MacosUniversal) => &[Processor::X86_64, Processor::ARM64],
        _ => &[],
    }
}

/// Whether the system has a library of this path, by where it is.
fn is_of_the_system(path: &str) -> bool {
    path.starts_with("/usr/lib/") || path.starts_with("/System/")
}

/// A library's path in the payload, from the folder of the file that names it; nothing for one outside of it.
fn inside(path: &str, from: &str) -> Option<String> {
    let mut parts: Vec<&str> = if from.is_empty() { Vec::new() } else { from.split('/').collect() };
    // Beside the product's folder there are only those with a place of their own.
    let mut is_beside = false;
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." if is_beside => return None,
            ".." => is_beside = parts.pop().is_none(),
            name if is_beside && !super::OWN_PLACES.contains(&name) => return None,
            name => {
                is_beside = false;
                parts.push(name);
            }
        }
    }
    (!is_beside).then(|| parts.join("/"))
}

/// Where a library is looked for in the payload, by its path as a program names it; nothing for a path of the machine
/// that built it. `searches` are search paths, each with the folder of the file that has it.
fn candidates(library: &str, folder: &str, searches: &[(String, String)]) -> Option<Vec<String>> {
    let from = |path: &str, folder: &str| match path.split_once('/').unwrap_or((path, "")) {
        ("@loader_path", rest) => Some(vec![inside(rest, folder)]),
        // The program is the one of the bundle, or a helper beside this file.
        ("@executable_path", rest) => Some(vec![inside(rest, ""), inside(rest, folder)]),
        _ => None,
    };
    let found = match library.strip_prefix("@rpath/") {
        None => from(library, folder)?,
        Some(rest) => {
            let places = searches.iter().filter_map(|(search, folder)| from(search, folder)).flatten().flatten();
            places.map(|place| inside(rest, &place)).collect()
        }
    };
    Some(found.into_iter().flatten().collect())
}

fn version(text: &str) -> Option<Version> {
    let mut numbers = text.split('.').map(str::parse::<u16>);
    let mut next = || numbers.next().unwrap_or(Ok(0)).ok();
    let (major, minor, patch) = (next()?, next()?, next()?);
    Some(Version(major, u8::try_from(minor).ok()?, u8::try_from(patch).ok()?))
}

/// What a Mac would refuse of the payload's code.
pub fn check(job: &Job) -> Vec<Problem> {
    let mut problems = Vec::new();
    let paths: BTreeSet<&str> = job.footprint.traces().iter().filter_map(|t| t.path()).map(RelPath::as_str).collect();
    let declared = job.footprint.rule("smallest-macos").and_then(version);
    let found: Vec<_> = job.files.iter().filter_map(|f| Some((f, read(f)?))).collect();
    let folder_of = |path: &RelPath| path.parent().map_or(String::new(), |p| p.as_str().to_owned());
    let good = found.iter().filter_map(|(f, code)| Some((f, code.as_ref().ok()?)));
    let searches: BTreeSet<(String, String)> = good
        .flat_map(|(f, code)| code.slices.iter().flat_map(|s| &s.search_paths).map(|p| (p.clone(), folder_of(&f.path))))
        .collect();
    let searches: Vec<(String, String)> = searches.into_iter().collect();
    for (file, found) in found {
        let path = &file.path;
        let code = match found {
            Ok(code) => code,
            Err(e) => {
                let problem = Problem::error(format!("{path} is a damaged program or library")).why(e.to_string());
                problems.push(problem.instead("build it again"));
                continue;
            }
        };
        for processor in wanted(job.footprint.platform) {
            if !code.slices.iter().any(|s| s.processor.0 == processor.0) {
                let has: Vec<String> = code.slices.iter().map(|s| s.processor.to_string()).collect();
                let problem = Problem::error(format!("{path} has no code for {processor}"));
                problems.push(
                    problem
                        .why(format!("it is built for {}", has.join(", ")))
                        .instead("build it for that processor too"),
                );
            }
        }
        let folder = folder_of(path);
        for slice in &code.slices {
            if let (Some(declared), Some(needs)) = (declared, slice.smallest_system)
                && needs > declared && slice.kind != FileKind::Object
                // Macs with processors of Apple's own begin with 11.
                && !(slice.processor.0 == Processor::ARM64.0 && needs <= Version(11, 0, 0))
            {
                let problem = Problem::error(format!("{path} needs macOS {needs}"));
                let problem = problem.why(format!("the manifest says that macOS {declared} is enough"));
                problems.push(problem.instead(format!("smallest-macos = \"{needs}\"")));
            }
            for library in slice.libraries.iter().filter(|l| !l.optional && !is_of_the_system(&l.path)) {
                let problem = Problem::error(format!("{path} loads {}", library.path));
                problems.push(match candidates(&library.path, &folder, &searches) {
                    Some(places) if places.iter().any(|p| paths.contains(p.as_str())) => continue,
                    Some(places) => {
                        let places = if places.is_empty() { "nowhere".to_owned() } else { places.join(", ") };
                        let problem =
                            problem.why(format!("no such file is in the payload; it is looked for in: {places}"));
                        problem.instead("a layer that brings the library there")
                    }
                    None => {
                        let name = library.path.rsplit('/').next().unwrap_or_default();
                        let problem = problem.why("this path is of the machine that built it: no other has it");
                        problem.instead(format!("bring the library along, and name it @rpath/{name}"))
                    }
                });
            }
            for search in
                slice.search_paths.iter().filter(|p| p.starts_with('/') && !is_of_the_system(&format!("{p}/")))
            {
                let problem = Problem::error(format!("{path} looks for libraries in {search}"));
                let problem = problem.why("this path is of the machine that built it");
                problems.push(problem.instead("a search path that begins with @executable_path or @loader_path"));
            }
        }
    }
    problems
}
