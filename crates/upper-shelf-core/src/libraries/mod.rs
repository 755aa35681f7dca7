//! Libraries that programs need and that not every machine has: found in the folders of a toolkit or a system, and put beside the
//! programs with what they load by name at run time, so that these find them wherever they are installed.

mod folders;
mod licences;
mod rules;
mod run_paths;
mod settings;
pub(crate) mod unmet;
mod work;

use crate::footprint::{Node, RelPath, Variable};
use crate::payload::{Payload, PayloadFile, Share, Source, Stamp};
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem};
use crate::runtimes::Doubt;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;

/// Folders that libraries come from, as resolved for one platform.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Libraries {
    /// The source that the folders lie in.
    pub source: Option<crate::settings::Source>,
    /// The folders.
    pub from: Vec<PathBuf>,
    /// The folder in the payload that they go into; nothing is its top.
    pub into: Option<RelPath>,
    /// Patterns of libraries that every machine has, beside those that are known.
    pub base: Vec<String>,
    /// What comes along, too.
    pub also: Vec<String>,
    /// What does not.
    pub drop: Vec<String>,
    /// As written, for reports.
    pub label: String,
    /// Its keys in the manifest, as problems name them.
    pub setting: String,
}

/// A library, or a file that one loads at run time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Library {
    /// Its path in the payload.
    pub path: String,
    /// Its bytes.
    pub bytes: u64,
    /// Why it comes along.
    pub why: String,
}

/// What was collected for a platform.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema, Default)]
pub struct Collected {
    /// The files, in the order of their paths.
    pub files: Vec<Library>,
    /// What is needed and left to the machine, which has it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub base: Vec<String>,
    /// What is not certain.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub doubts: Vec<Doubt>,
    /// Texts of licences that come along.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub licences: Vec<String>,
    /// Variables that programs get.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
}

/// What becomes of the footprint.
#[derive(Debug, Default)]
pub(crate) struct Outcome {
    pub collected: Option<Collected>,
    /// Variables of every program.
    pub set: BTreeMap<String, String>,
    /// Variables of the product that get something in front.
    pub before: Vec<Variable>,
    pub problems: Vec<Problem>,
}

/// A file that comes along.
#[derive(Debug, Clone)]
struct Chosen {
    path: RelPath,
    table: usize,
    source: Source,
    size: u64,
    mode: u32,
    why: String,
    /// What it needs and where it looks for that, if it is a program or library.
    native: Option<Native>,
}

/// What a program or library needs.
#[derive(Debug, Clone, Default)]
struct Native {
    needed: Vec<String>,
    run_path: Option<String>,
    /// Folders of its own in which what it needs is looked for first.
    near: Vec<PathBuf>,
}

fn problem(table: &Libraries, code: Code, what: String) -> Problem {
    Problem::error(code, what).about_setting(format!("{}.from", table.setting))
}

/// The place of a file below a folder of the payload, or at its top.
fn below(folder: Option<&RelPath>, path: &str) -> Option<RelPath> {
    let path = RelPath::new(path).ok()?;
    Some(match folder {
        Some(folder) => path.below(folder),
        None => path,
    })
}

/// A file on disk as one of the payload.
fn on_disk(from: &std::path::Path, path: RelPath, layer: usize) -> std::io::Result<PayloadFile> {
    let meta = std::fs::metadata(from)?;
    let stamp = Stamp::of(&meta);
    let source = Source::Disk(from.to_path_buf(), stamp);
    Ok(PayloadFile { path, mode: 0o644, size: stamp.size, source, layer, further_name: false })
}

/// Puts into a payload what its programs need.
pub(crate) fn collect(tables: &[Libraries], platform: Platform, payload: &mut Payload) -> Outcome {
    let mut outcome = Outcome::default();
    if tables.is_empty() {
        return outcome;
    }
    let mut work = work::Work::new(tables, platform, payload);
    work.run();
    work.also();
    let work::Work { chosen, doubts, base, mut problems, trees, .. } = work;
    let mut chosen: Vec<Chosen> = chosen.into_values().collect();
    let licences = licences::of(tables, &chosen);
    let texts: Vec<String> = licences.iter().map(|chosen| chosen.path.to_string()).collect();
    chosen.extend(licences);
    if platform.system() == System::Linux {
        problems.extend(run_paths::rewrite(tables, payload, &mut chosen));
    }
    (outcome.set, outcome.before) = settings::variables(platform, &trees, &chosen);
    chosen.extend(settings::configurations(payload, &chosen, &trees));
    let first = payload.shares.len();
    payload.shares.extend(tables.iter().map(|table| Share { layer: table.label.clone(), ..Share::default() }));
    let others = payload.others.iter().map(|node| node.path().clone());
    let own: HashSet<RelPath> = payload.files.iter().map(|file| file.path.clone()).chain(others).collect();
    let mut files = Vec::new();
    for Chosen { path, table, source, size, mode, why, .. } in chosen {
        // What the product brings itself is meant.
        if own.contains(&path) {
            continue;
        }
        let share = &mut payload.shares[first + table];
        (share.bytes, share.files) = (share.bytes + size, share.files + 1);
        files.push(Library { path: path.to_string(), bytes: size, why });
        payload.files.push(PayloadFile { path, mode, size, source, layer: first + table, further_name: false });
    }
    payload.files.sort_by(|a, b| a.path.cmp(&b.path));
    with_folders(payload);
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut variables = outcome.set.clone();
    variables.extend(outcome.before.iter().map(|one| (one.name.clone(), format!("{}:…", one.value))));
    if let Some(first) = doubts.first() {
        let more = if doubts.len() > 1 { format!(" and {} more", doubts.len() - 1) } else { String::new() };
        problems.push(
            Problem::warning(Code::LibraryPart, format!("{}{more} can't come along", first.module))
                .about_setting(format!("{}.from", tables[0].setting))
                .why(first.why.clone())
                .instead("the folder of what is missing in `from`, or a pattern for it in `drop`"),
        );
    }
    outcome.collected = Some(Collected { files, base: base.into_iter().collect(), doubts, licences: texts, variables });
    outcome.problems = problems;
    outcome
}

/// Adds the folders that files lie in and that are not there yet.
fn with_folders(payload: &mut Payload) {
    let mut there: HashSet<RelPath> =
        payload.others.iter().filter(|node| node.is_folder()).map(|node| node.path().clone()).collect();
    let mut new = Vec::new();
    for file in &payload.files {
        for folder in std::iter::successors(file.path.parent(), RelPath::parent) {
            if !there.insert(folder.clone()) {
                break;
            }
            new.push(Node::Folder { path: folder, mode: 0o755 });
        }
    }
    payload.others.extend(new);
    payload.others.sort_by(|a, b| a.path().cmp(b.path()));
}
