//! Names that one system can hold and another can't.

use crate::footprint::RelPath;
use crate::platform::{Platform, System};
use crate::problem::{Problem, Span};
use std::collections::HashMap;

/// Names that Windows keeps for devices (whatever ending they have).
const DEVICES: [&str; 24] = [
    "CON", "PRN", "AUX", "NUL", "COM1", "COM2", "COM3", "COM4", "COM5", "COM6", "COM7", "COM8", "COM9", "LPT1", "LPT2",
    "LPT3", "LPT4", "LPT5", "LPT6", "LPT7", "LPT8", "LPT9", "CONIN$", "CONOUT$",
];

/// Everything about the names of a payload that its platform can't hold.
pub fn check<'p>(paths: impl Iterator<Item = (&'p RelPath, Option<&'p Span>)>, platform: Platform) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut folded: HashMap<String, &RelPath> = HashMap::new();
    for (path, span) in paths {
        if platform.system() == System::Windows
            && let Some(why) = forbidden_on_windows(path.name())
        {
            let problem = Problem::error(format!("Windows can't hold the name {:?} (in {platform})", path.as_str()));
            problems.push(problem.at(span.cloned()).why(why).instead("rename it, or leave it out with `drop`"));
        }
        if platform.system() == System::Linux {
            if path.name().len() > 255 {
                let problem = Problem::error(format!("the name {:?} is too long for Linux", path.as_str()));
                problems.push(problem.at(span.cloned()).why("a name has at most 255 bytes"));
            }
            continue;
        }
        if let Some(other) = folded.insert(path.as_str().to_lowercase(), path) {
            let what = format!(
                "{other:?} and {path:?} are one name where case does not count (in {platform})",
                other = other.as_str(),
                path = path.as_str()
            );
            let problem = Problem::error(what).at(span.cloned());
            problems.push(
                problem
                    .why("one would overwrite the other")
                    .instead("rename one of them, or limit its layer with `platforms`"),
            );
        }
    }
    problems
}

fn forbidden_on_windows(name: &str) -> Option<String> {
    if let Some(c) = name.chars().find(|c| "<>:\"\\|?*".contains(*c) || *c < ' ') {
        return Some(format!("{c:?} is not allowed in a name"));
    }
    if name.ends_with('.') || name.ends_with(' ') {
        return Some("a name can't end with a dot or a space".into());
    }
    let stem = name.split('.').next().unwrap_or(name).trim_end();
    let device = DEVICES.iter().find(|d| d.eq_ignore_ascii_case(stem))?;
    Some(format!("{device} is a device's name"))
}
