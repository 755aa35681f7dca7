//! Code in the payload: which files are Mach-O, and what of them a Mac would refuse.

use super::libraries;
use crate::footprint::{Node, RelPath, SystemVersion};
use crate::payload::PayloadFile;
use crate::platform::Platform;
use crate::problem::{Code, Problem};
use crate::signing::macos::may_be_code;
use crate::targets::Job;
use mach_o::{FileKind, Processor, SignedParts, Version};
use std::collections::BTreeSet;

/// What a file says of itself, if it is a Mach-O. What can't be opened now is said when it is packed.
fn read(file: &PayloadFile) -> Option<mach_o::Result<mach_o::File>> {
    if file.size < 28 || !may_be_code(file.path.as_str()) {
        return None;
    }
    mach_o::read(&file.source.open().ok()?).transpose()
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
pub(super) fn is_of_the_system(path: &str) -> bool {
    path.starts_with("/usr/lib/") || path.starts_with("/System/")
}

/// The minimum macOS that all of a payload's code runs on; nothing if none says.
pub fn minimum_system(files: &[PayloadFile], platform: Platform) -> Option<Version> {
    let code: Vec<mach_o::File> = files.iter().filter_map(read).filter_map(Result::ok).collect();
    let slices = code.iter().flat_map(|c| &c.slices).filter(|s| s.kind != FileKind::Object);
    let most = |processor: Processor| {
        slices.clone().filter(|s| s.processor.0 == processor.0).filter_map(|s| s.minimum_system).max()
    };
    let (intel, arm) = (most(Processor::X86_64), most(Processor::ARM64));
    match platform {
        Platform::MacosX64 => intel,
        Platform::MacosArm64 => arm,
        // Macs with processors of Apple's own begin with 11: what is for all of them sets no limit for others.
        _ => intel.max(arm.filter(|a| intel.is_none() || *a > Version(11, 0, 0))),
    }
}

fn version(version: SystemVersion) -> Option<Version> {
    let small = |n: Option<u32>| u8::try_from(n.unwrap_or(0)).ok();
    Some(Version(u16::try_from(version.major).ok()?, small(version.minor)?, small(version.patch)?))
}

/// What a Mac would refuse of the payload's code.
pub fn check(job: &Job) -> Vec<Problem> {
    let mut problems = Vec::new();
    let paths: BTreeSet<&str> = job.footprint.tree.iter().map(|node| node.path().as_str()).collect();
    let declared = job.footprint.install.minimum_macos.and_then(version);
    let found: Vec<_> = job.files.iter().filter_map(|f| Some((f, read(f)?))).collect();
    let good: Vec<(&RelPath, &mach_o::File)> =
        found.iter().filter_map(|(f, code)| Some((&f.path, code.as_ref().ok()?))).collect();
    let links = job.footprint.tree.iter().filter_map(|node| match node {
        Node::Link { path, target } => Some((path.as_str(), target.as_str())),
        Node::Folder { .. } | Node::File { .. } | Node::HardLink { .. } => None,
    });
    problems.extend(libraries::check(&good, &paths, &links.collect()));
    for (file, found) in found {
        let path = &file.path;
        let code = match found {
            Ok(code) => code,
            Err(e) => {
                let problem =
                    Problem::error(Code::Program, format!("{path} is a damaged program or library")).why(e.to_string());
                problems.push(problem.instead("build it again"));
                continue;
            }
        };
        let signable = file.source.open().map_err(mach_o::Error::from).and_then(|bytes| SignedParts::find(&bytes));
        if let Err(e @ mach_o::Error::Unsupported(_)) = signable {
            let problem = Problem::warning(Code::NotSignable, format!("{path} can't be signed")).why(e.to_string());
            problems
                .push(problem.instead("build it again; Macs with processors of Apple's own start nothing unsigned"));
        }
        for processor in wanted(job.footprint.platform) {
            if !code.slices.iter().any(|s| s.processor.0 == processor.0) {
                let has: Vec<String> = code.slices.iter().map(|s| s.processor.to_string()).collect();
                let problem = Problem::error(Code::WrongProgram, format!("{path} has no code for {processor}"));
                problems.push(
                    problem
                        .why(format!("it is built for {}", has.join(", ")))
                        .instead("build it for that processor, too"),
                );
            }
        }
        for slice in &code.slices {
            if let (Some(declared), Some(needs)) = (declared, slice.minimum_system)
                && needs > declared && slice.kind != FileKind::Object
                // Macs with processors of Apple's own begin with 11.
                && !(slice.processor.0 == Processor::ARM64.0 && needs <= Version(11, 0, 0))
            {
                let problem = Problem::error(Code::MinimumSystem, format!("{path} needs macOS {needs}"));
                let problem = problem.why(format!("the manifest declares macOS {declared} as sufficient"));
                problems.push(problem.instead(format!("minimum-macos = \"{needs}\"")));
            }
            for search in
                slice.search_paths.iter().filter(|p| p.starts_with('/') && !is_of_the_system(&format!("{p}/")))
            {
                let problem = Problem::error(Code::BuildPath, format!("{path} looks for libraries in {search}"));
                let problem = problem.why("this path exists only on the machine that built it");
                problems.push(problem.instead("a search path that begins with @executable_path or @loader_path"));
            }
        }
    }
    problems
}
