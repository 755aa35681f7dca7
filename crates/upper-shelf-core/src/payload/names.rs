//! Names that one system can hold and another can't: what `safe_names` says of them, and names that are one where case
//! does not count.

use crate::footprint::RelPath;
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem, Span};
use std::collections::HashMap;

/// Everything about the names of a payload that its platform can't hold.
pub fn check<'p>(paths: impl Iterator<Item = (&'p RelPath, Option<&'p Span>)>, platform: Platform) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut folded: HashMap<String, &RelPath> = HashMap::new();
    for (path, span) in paths {
        let system = platform.system();
        if let Some(why) = fault(path.name(), system) {
            let what = format!("{} can't hold the name {:?}", system.title(), path.as_str());
            let problem = Problem::error(Code::NameNotAllowed, what).at(span.cloned()).why(why.to_string());
            problems.push(problem.instead("rename it, or exclude it with `drop`"));
        }
        if system == System::Linux {
            continue;
        }
        if let Some(other) = folded.insert(path.as_str().to_lowercase(), path) {
            let what = format!("{:?} and {:?} differ only in case", other.as_str(), path.as_str());
            let problem = Problem::error(Code::NameClash, what).at(span.cloned());
            problems.push(
                problem
                    .why("one would overwrite the other")
                    .instead("rename one of them, or limit its layer with `platforms`"),
            );
        }
    }
    problems
}

/// What is wrong with a name on a system, if anything is.
pub fn fault(name: &str, system: System) -> Option<safe_names::Fault> {
    match system {
        System::Windows => safe_names::on_windows(&name.encode_utf16().collect::<Vec<_>>()),
        System::Linux => safe_names::on_unix(name),
        // HFS+ and APFS count UTF-16 code units, not bytes.
        System::Macos => safe_names::on_unix(name)
            .filter(|f| !matches!(f, safe_names::Fault::TooLong(most) if name.encode_utf16().count() <= *most)),
    }
}
