//! Whether the platform can start what is to be started on it: programs are recognised by content. What it emulates counts
//! as able.

use super::{Payload, Source};
use crate::footprint::{Node, Program};
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem, Span};
use crate::recognise::{FileKind, recognise};

/// Extensions of files that may hold code, so that not every file of a payload is opened.
const CODE: [&str; 9] = ["exe", "dll", "so", "dylib", "node", "pyd", "jnilib", "bin", "bundle"];

/// What a file is, as people say it; and whether a platform can run or load it.
fn judged(kind: FileKind, platform: Platform) -> (String, bool) {
    use Platform as P;
    let able = |of: Platform| {
        of == platform
            || match (platform, of) {
                // WOW64, and the emulation of Windows on ARM.
                (P::WindowsX64 | P::WindowsArm64, P::WindowsX86) | (P::WindowsArm64, P::WindowsX64) => true,
                // Rosetta; a file for both processors is for each of them.
                (P::MacosArm64 | P::MacosUniversal, P::MacosX64) => true,
                (P::MacosArm64 | P::MacosX64, P::MacosUniversal) => true,
                _ => false,
            }
    };
    let system = platform.system();
    match kind {
        FileKind::ElfProgram(p) => (format!("a program for {p}"), able(p)),
        FileKind::PeProgram(p, _) => (format!("a program for {p}"), able(p)),
        FileKind::MachOProgram(p) => (format!("a program for {p}"), able(p)),
        FileKind::ElfLibrary => ("a library for Linux".into(), system == System::Linux),
        FileKind::PeLibrary => ("a library for Windows".into(), system == System::Windows),
        FileKind::MachOLibrary => ("a library for macOS".into(), system == System::Macos),
        FileKind::Jar => ("a Java archive".into(), true),
        FileKind::Script => ("a script".into(), true),
    }
}

/// Looks at programs, and gives those the right to be started that lack it. `span` is where a program's file is written,
/// by its key; `said` hears of what was set right.
pub(crate) fn check(
    programs: &[Program],
    payload: &mut Payload,
    platform: Platform,
    span: &dyn Fn(&str) -> Option<Span>,
    said: &mut dyn FnMut(&str, String),
) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut seen = Vec::new();
    for Program { key, file, .. } in programs {
        // One that is a further name of a file has the content and the mode of that.
        let named = payload.others.iter().find_map(|node| match node {
            Node::HardLink { path, to } if path == file => Some(to),
            Node::HardLink { .. } | Node::Folder { .. } | Node::File { .. } | Node::Link { .. } => None,
        });
        let named = named.unwrap_or(file);
        let Some(found) = payload.files.iter_mut().find(|f| f.path == *named) else { continue };
        seen.push(named.clone());
        let Source::Disk(path, _) = &found.source else { continue };
        let Some(kind) = recognise(path) else { continue };
        let (what, fits) = judged(kind, platform);
        if kind == FileKind::Jar && platform.system() != System::Windows {
            let problem =
                Problem::error(Code::WrongProgram, format!("{file} can't be started by itself: it is a Java archive"));
            let problem = problem.at(span(key)).why("it takes a Java runtime to start it");
            problems.push(problem.instead(format!(
                "runtime = \"the key of a [[runtime]]\" and start = {{ jar = {:?} }}, without `file`",
                file.as_str()
            )));
            // Its mode would only be said to be wrong once more.
            found.mode |= 0o111;
            continue;
        }
        let is_library = matches!(kind, FileKind::ElfLibrary | FileKind::PeLibrary | FileKind::MachOLibrary);
        if !fits || is_library {
            let problem =
                Problem::error(Code::WrongProgram, format!("{file} can't be started on {platform}: it is {what}"));
            let advice = format!(
                "the file that was built for {platform}: file = {{ {platform} = \"…\" }}, or a layer of its own with `platforms`"
            );
            problems.push(problem.at(span(key)).why(format!("it is the file of the program {key:?}")).instead(advice));
            continue;
        }
        let starts = matches!(kind, FileKind::ElfProgram(_) | FileKind::MachOProgram(_) | FileKind::Script);
        if platform.system() != System::Windows && starts && found.mode & 0o111 == 0 {
            found.mode |= 0o111;
            said(key, format!("{file} is made executable: it is {what}, and wasn't executable where it was built"));
        }
    }
    problems.extend(others(payload, platform, &seen));
    problems
}

/// One warning on all other files with code for another processor or system.
fn others(payload: &Payload, platform: Platform, seen: &[crate::footprint::RelPath]) -> Option<Problem> {
    let mut wrong = Vec::new();
    for file in &payload.files {
        let name = file.path.name();
        let is_code = file.mode & 0o111 != 0
            || name.rsplit_once('.').is_some_and(|(_, e)| CODE.contains(&e.to_lowercase().as_str()))
            || name.contains(".so.");
        let Source::Disk(path, _) = &file.source else { continue };
        if !is_code || seen.contains(&file.path) {
            continue;
        }
        if let Some((what, false)) = recognise(path).map(|kind| judged(kind, platform)) {
            wrong.push(format!("{} ({what})", file.path));
        }
    }
    let first = wrong.first()?;
    let more = match wrong.len() {
        1 => String::new(),
        n => format!(" and {} more files", n - 1),
    };
    let problem = Problem::warning(Code::WrongProgram, format!("{platform} can't run {first}{more}"));
    Some(
        problem
            .why("they contain code for another system or processor")
            .instead("exclude them with `drop`, or limit their layer with `platforms`"),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_emulated_counts_as_able() {
        use Platform as P;
        let able = [
            (P::WindowsX64, FileKind::PeProgram(P::WindowsX86, false)),
            (P::WindowsArm64, FileKind::PeProgram(P::WindowsX64, true)),
            (P::MacosArm64, FileKind::MachOProgram(P::MacosX64)),
            (P::MacosX64, FileKind::MachOProgram(P::MacosUniversal)),
            (P::LinuxArm64, FileKind::Script),
        ];
        let unable = [
            (P::WindowsX86, FileKind::PeProgram(P::WindowsX64, false)),
            (P::WindowsX64, FileKind::PeProgram(P::WindowsArm64, false)),
            (P::MacosX64, FileKind::MachOProgram(P::MacosArm64)),
            (P::LinuxArm64, FileKind::ElfProgram(P::LinuxX64)),
            (P::LinuxX64, FileKind::PeProgram(P::WindowsX64, false)),
            (P::MacosArm64, FileKind::ElfProgram(P::LinuxArm64)),
        ];
        for (platform, kind) in able {
            assert!(judged(kind, platform).1, "{platform} {kind:?}");
        }
        for (platform, kind) in unable {
            assert!(!judged(kind, platform).1, "{platform} {kind:?}");
        }
    }
}
