//! What of a footprint an application bundle carries.

use crate::footprint::{EnvironmentAction, Footprint, Place, RelPath, Trace, WorkingFolder};
use crate::targets::Loss;
use std::collections::HashMap;

/// A path as the file system stores it: letters with their marks apart. What can't be stored stays, and is refused later.
pub fn stored(path: &RelPath) -> RelPath {
    let names = path.as_str().split('/').map(|n| hfs_plus::name::stored(n).map(|u| hfs_plus::name::shown(&u)));
    let names: Result<Vec<String>, _> = names.collect();
    names.ok().and_then(|n| RelPath::new(n.join("/")).ok()).unwrap_or_else(|| path.clone())
}

/// Whether a rule is one that a bundle says.
fn is_of_bundles(key: &str) -> bool {
    let whole = [super::AGENT, super::COPYRIGHT, "smallest-macos"];
    whole.contains(&key) || [super::REASON, super::NAME, super::KEY].iter().any(|start| key.starts_with(start))
}

/// What a bundle carries, with what it does not.
pub fn carry(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let mut losses = Vec::new();
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let main = footprint.main_program();
    let finished = super::finished::folder(footprint.traces()).is_some();
    if let Some(version) = &footprint.product.version
        && !version.is_empty()
        && super::list::documented(version) != *version
        && !finished
    {
        lose(
            format!("people see the version {version} as {}", super::list::documented(version)),
            "a bundle's version has three numbers and nothing else",
        );
    }
    let files: HashMap<&RelPath, &Trace> = footprint
        .traces()
        .iter()
        .filter(|t| matches!(t, Trace::File { .. }))
        .filter_map(|t| Some((t.path()?, t)))
        .collect();
    let mut has_entry = false;
    let mut product = footprint.product.clone();
    product.name.get_or_insert_with(|| "Product".into());
    let mut traces = Vec::new();
    for trace in footprint.traces() {
        match trace {
            Trace::Folder { path, mode } => traces.push(Trace::Folder { path: stored(path), mode: mode & 0o777 }),
            Trace::File { path, mode, size, content } => {
                if mode & 0o7000 != 0 {
                    lose(
                        format!("the special mode bits of {path} ({mode:o}) are left out"),
                        "the system ignores them in a program that somebody copied",
                    );
                }
                traces.push(Trace::File { path: stored(path), mode: mode & 0o777, size: *size, content: *content });
            }
            Trace::HardLink { path, to } => {
                if let Some(Trace::File { mode, size, content, .. }) = files.get(to) {
                    lose(
                        format!("{path} and {to} are one file no more"),
                        "copying a program takes them apart: it becomes a file of its own",
                    );
                    traces.push(Trace::File { path: stored(path), mode: mode & 0o777, size: *size, content: *content });
                }
            }
            Trace::Link { path, target } => traces.push(Trace::Link { path: stored(path), target: target.clone() }),
            Trace::Program { key, file, arguments, environment, working_folder, console }
                if finished
                    && (!arguments.is_empty()
                        || !environment.is_empty()
                        || *working_folder != WorkingFolder::Unchanged) =>
            {
                lose(
                    format!("arguments, variables and the working folder of {file} are left out"),
                    "a finished bundle starts its program as it was built to",
                );
                let (file, key, console) = (stored(file), key.clone(), *console);
                let (arguments, environment) = Default::default();
                let working_folder = WorkingFolder::Unchanged;
                traces.push(Trace::Program { key, file, arguments, environment, working_folder, console });
            }
            Trace::Program { key, file, arguments, environment, working_folder, console } => {
                let working_folder = match working_folder {
                    WorkingFolder::Inside(path) => WorkingFolder::Inside(stored(path)),
                    other => other.clone(),
                };
                traces.push(Trace::Program {
                    key: key.clone(),
                    file: stored(file),
                    arguments: arguments.clone(),
                    environment: environment.clone(),
                    working_folder,
                    console: *console,
                });
            }
            Trace::Shortcut { place: Place::Menu, name, program, arguments, description }
                if !has_entry && Some(program.as_str()) == main =>
            {
                has_entry = true;
                let title = product.name.clone().unwrap_or_default();
                if *name != title {
                    lose(
                        format!("the shortcut “{name}” is named “{title}”"),
                        "the program is its own entry, and has the product's name",
                    );
                }
                if !arguments.is_empty() || (description.is_some() && *description != footprint.product.summary) {
                    lose(
                        format!("what the shortcut “{name}” says besides the program is left out"),
                        "the program is its own entry",
                    );
                }
                traces.push(Trace::Shortcut {
                    place: Place::Menu,
                    name: title,
                    program: program.clone(),
                    arguments: Vec::new(),
                    description: None,
                });
            }
            Trace::Shortcut { place, name, .. } => {
                lose(
                    format!("the shortcut “{name}” ({}) is left out", place.name()),
                    "on macOS a program is its own only entry",
                );
            }
            Trace::FileType { program, .. } | Trace::LinkScheme { program, .. } if Some(program.as_str()) != main => {
                lose(
                    format!("the {} {trace} is left out", trace.kind()),
                    "it belongs to another program than the one that the bundle is",
                );
            }
            Trace::FileType { .. } | Trace::LinkScheme { .. } => traces.push(trace.clone()),
            Trace::Environment { action: EnvironmentAction::Set, value, .. } if !value.contains("{install}") => {
                traces.push(trace.clone());
            }
            Trace::Environment { .. } => {
                let why =
                    "the system gives a program fixed values only; a variable of the [[program]] can hold this one";
                lose(format!("the {} {trace} is left out", trace.kind()), why);
            }
            Trace::Registry { .. } => {
                lose(format!("the {} {trace} is left out", trace.kind()), "macOS has no registry")
            }
            Trace::Service(_) => {
                lose(
                    format!("the {} {trace} is left out", trace.kind()),
                    "a bundle that is copied installs no services",
                );
            }
            Trace::Font { .. } => {
                lose(
                    format!("the {} {trace} is left out", trace.kind()),
                    "it stays a file of the product; other programs don't see it",
                );
            }
            Trace::Choice { .. } => {
                lose(format!("the {} {trace} is left out", trace.kind()), "all files are there: nothing is chosen");
            }
            Trace::Rule { key, .. } if finished && key.starts_with(super::NAME) => {
                lose(format!("the {} {trace} is left out", trace.kind()), "a finished bundle brings its own names");
            }
            Trace::Rule { key, .. } if is_of_bundles(key) => traces.push(trace.clone()),
            Trace::Rule { .. } => {
                lose(format!("the {} {trace} is left out", trace.kind()), "it is a rule for installing on Windows");
            }
            // The bundle has the picture, in the system's own form: it is no trace of its own.
            Trace::Icon { .. } => {}
        }
    }
    (Footprint::new(product, footprint.platform, traces), losses)
}
