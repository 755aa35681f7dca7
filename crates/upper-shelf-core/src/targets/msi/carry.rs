//! What of a footprint a Windows Installer package carries, in the form in which it is read back.

use super::rules::Windows;
use super::words::{arguments, carried, line};
use super::{layout, registry};
use crate::content::ContentHash;
use crate::footprint::{Footprint, Identity, RelPath, Service, Trace};
use crate::manifest::resolve::windows::KEEP_CHANGED;
use crate::targets::Loss;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// A program as commands are matched with it: key, file, arguments.
pub type Program = (String, RelPath, Vec<String>);

/// Arguments as they are after a Formatted column and a command line.
pub fn line_arguments(all: &[String]) -> Vec<String> {
    arguments(&line(all))
}

/// The program that a command starts, and the arguments behind its own: of several that fit the one with the most
/// arguments of its own, then the first.
pub fn program_of(programs: &[Program], file: &RelPath, all: &[String]) -> Option<(String, Vec<String>)> {
    let fits = programs.iter().filter(|(_, f, first)| f == file && all.starts_with(first));
    let best = fits.reduce(|best, next| if next.2.len() > best.2.len() { next } else { best })?;
    Some((best.0.clone(), all[best.2.len()..].to_vec()))
}

/// A name that Windows takes for a file: what it forbids becomes a dash.
pub(crate) fn file_name(name: &str) -> String {
    let plain: String =
        name.chars().map(|c| if "<>:\"/\\|?*".contains(c) || c.is_control() { '-' } else { c }).collect();
    let plain = plain.trim_end_matches(['.', ' ']).trim_start();
    if plain.is_empty() { "-".into() } else { plain.to_owned() }
}

pub fn carry(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let mut losses = Vec::new();
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let p = &footprint.product;
    for (what, there) in [("the description", p.description.is_some()), ("the licence's name", p.license.is_some())] {
        if there {
            lose(format!("{what} is left out"), "the list of applications has no place for it");
        }
    }
    let product = Identity { description: None, license: None, categories: Vec::new(), ..p.clone() };
    let mut files: BTreeMap<&RelPath, (u64, Option<ContentHash>)> = BTreeMap::new();
    for trace in footprint.traces() {
        if let Trace::File { path, size, content, .. } = trace {
            files.insert(path, (*size, *content));
        }
    }
    for trace in footprint.traces() {
        if let Trace::HardLink { path, to } = trace
            && let Some(file) = files.get(to).copied()
        {
            files.insert(path, file);
        }
    }
    let programs: Vec<Program> = footprint
        .traces()
        .iter()
        .filter_map(|t| match t {
            Trace::Program { key, file, arguments, .. } if files.contains_key(file) => {
                Some((key.clone(), file.clone(), line_arguments(arguments)))
            }
            _ => None,
        })
        .collect();
    // A command as it comes back: perhaps as another program with the same file.
    let command = |key: &str, own: &[String]| -> Option<(String, Vec<String>)> {
        let Some(Trace::Program { file, arguments, .. }) = footprint.program(key) else { return None };
        let all: Vec<String> = arguments.iter().chain(own).cloned().collect();
        program_of(&programs, file, &line_arguments(&all))
    };
    let mut taken_extensions = HashSet::new();
    let mut claimed: BTreeSet<RelPath> = BTreeSet::new();
    let mut rules: BTreeMap<String, String> = BTreeMap::new();
    let mut traces = Vec::new();
    for trace in footprint.traces() {
        match trace {
            Trace::Folder { path, .. } => traces.push(Trace::Folder { path: path.clone(), mode: 0o755 }),
            Trace::File { path, size, content, .. } => {
                traces.push(Trace::File { path: path.clone(), mode: 0o644, size: *size, content: *content });
            }
            Trace::HardLink { path, to } => {
                lose(
                    format!("{path} and {to} are one file no more"),
                    "Windows Installer knows no hard links: it becomes a file of its own",
                );
                if let Some((size, content)) = files.get(path) {
                    traces.push(Trace::File { path: path.clone(), mode: 0o644, size: *size, content: *content });
                }
            }
            Trace::Link { path, .. } => {
                lose(
                    format!("the link {path} is left out"),
                    "Windows Installer can't make links; put a copy of the file there",
                );
            }
            Trace::Program { key, file, arguments, environment, working_folder, console } => {
                if !files.contains_key(file) {
                    lose(format!("the program {key} is left out"), "its file is not among the package's files");
                    continue;
                }
                if !environment.is_empty() {
                    let names: Vec<&str> = environment.keys().map(String::as_str).collect();
                    let what = format!("the variables of the program {key} are left out: {}", names.join(", "));
                    lose(what, "a shortcut can't set any; set them with [[environment]] or in the program");
                }
                traces.push(Trace::Program {
                    key: key.clone(),
                    file: file.clone(),
                    arguments: arguments.clone(),
                    environment: BTreeMap::new(),
                    working_folder: working_folder.clone(),
                    console: *console,
                });
            }
            Trace::Shortcut { place, name, program, arguments, description } => {
                let Some((program, arguments)) = command(program, arguments) else { continue };
                let plain = file_name(name);
                if plain != *name {
                    lose(
                        format!("the shortcut “{name}” is named “{plain}”"),
                        "it is a file, and Windows forbids such names",
                    );
                }
                let description = description.clone().filter(|d| !d.is_empty());
                traces.push(Trace::Shortcut { place: *place, name: plain, program, arguments, description });
            }
            Trace::FileType { mime, extensions, name, program } => {
                let Some((program, _)) = command(program, &[]) else { continue };
                let mut kept: Vec<String> =
                    extensions.iter().filter(|e| taken_extensions.insert(e.to_lowercase())).cloned().collect();
                if kept.len() < extensions.len() {
                    lose(
                        format!("the file type “{name}” does not get all of its endings"),
                        "another file type has them",
                    );
                }
                if kept.is_empty() {
                    continue;
                }
                kept[1..].sort();
                let (mime, name) = (carried(mime), carried(name));
                traces.push(Trace::FileType { mime, extensions: kept, name, program });
            }
            Trace::LinkScheme { scheme, program } => {
                let Some((program, _)) = command(program, &[]) else { continue };
                traces.push(Trace::LinkScheme { scheme: scheme.clone(), program });
            }
            Trace::Environment { name, action, value } => {
                traces.push(Trace::Environment { name: name.clone(), action: *action, value: carried(value) });
            }
            Trace::Registry { root, view, key, name, value } => traces.push(Trace::Registry {
                root: *root,
                // A 32-bit product sees nothing else.
                view: if layout::is_64(footprint) { *view } else { crate::footprint::RegistryView::Own },
                key: carried(key),
                name: name.as_deref().map(carried).filter(|n| !n.is_empty()),
                value: registry::carried(value),
            }),
            Trace::Service(service) => {
                let Service { name, title, description, program, arguments, start, account } = &**service;
                let Some((program, arguments)) = command(program, arguments) else { continue };
                traces.push(Trace::Service(Box::new(Service {
                    name: carried(name),
                    title: carried(title),
                    description: description.clone().filter(|d| !d.is_empty()),
                    program,
                    arguments,
                    start: *start,
                    account: account.as_deref().map(carried).filter(|a| !a.is_empty()),
                })));
            }
            Trace::Font { file, title } => {
                if files.contains_key(file) {
                    traces.push(Trace::Font { file: file.clone(), title: carried(title) });
                } else {
                    lose(format!("the font {file} is left out"), "it is not among the package's files");
                }
            }
            Trace::Choice { key, title, description, chosen, files: of_choice } => {
                let mut own: Vec<RelPath> = of_choice
                    .iter()
                    .filter(|f| files.contains_key(f) && claimed.insert((*f).clone()))
                    .cloned()
                    .collect();
                own.sort();
                traces.push(Trace::Choice {
                    key: key.clone(),
                    title: title.clone(),
                    description: description.clone().filter(|d| !d.is_empty()),
                    chosen: *chosen,
                    files: own,
                });
            }
            Trace::Rule { key, value } => {
                if let Some(path) = key.strip_prefix(KEEP_CHANGED) {
                    let why = "Windows Installer takes it away when it removes the product, and keeps a changed one on upgrades only if it has no version";
                    lose(format!("{path} is not kept when somebody changed it"), why);
                    continue;
                }
                let value = match key.as_str() {
                    "smallest-windows" => Windows::parse(value).map(Windows::text),
                    "start-at-end" => command(value, &[]).map(|(program, _)| program),
                    _ => Some(value.clone()),
                };
                rules.extend(value.map(|value| (key.clone(), value)));
            }
            // Shortcuts and the list of applications show the picture; it is no trace of its own on Windows.
            Trace::Icon { .. } => {}
        }
    }
    let id = p.id.clone().unwrap_or_default();
    let default = |key: &str, value: &str| (key.to_owned(), value.to_owned());
    let name = p.name.as_deref().map_or("Product".into(), file_name);
    for (key, value) in [
        default("scope", "machine"),
        default("downgrade", "blocked"),
        default("upgrade", "early"),
        default("folder", &name),
        default("upgrade-code", &layout::upgrade_code(&id, None)),
    ] {
        rules.entry(key).or_insert(value);
    }
    traces.extend(rules.into_iter().map(|(key, value)| Trace::Rule { key, value }));
    (Footprint::new(product, footprint.platform, traces), losses)
}
