//! What of a footprint a setup program, and a portable program, carries.

use crate::footprint::{Footprint, Identity, RegistryView, RelPath, Trace};
use crate::manifest::resolve::windows::KEEP_CHANGED;
use crate::platform::Platform;
use crate::targets::Loss;
use crate::targets::msi::carry::file_name;
use crate::targets::msi::upgrade_code;
use std::collections::{BTreeMap, BTreeSet, HashSet};

struct Carrier<'f> {
    footprint: &'f Footprint,
    files: BTreeSet<&'f RelPath>,
    losses: Vec<Loss>,
}

impl<'f> Carrier<'f> {
    fn new(footprint: &'f Footprint) -> Self {
        let file = |t: &'f Trace| if let Trace::File { path, .. } = t { Some(path) } else { None };
        Self { footprint, files: footprint.traces().iter().filter_map(file).collect(), losses: Vec::new() }
    }

    fn lose(&mut self, what: String, why: &str) {
        self.losses.push(Loss { what, why: why.into() });
    }

    fn identity(&mut self) -> Identity {
        let p = &self.footprint.product;
        for (what, there) in [("the description", p.description.is_some()), ("the licence's name", p.license.is_some())]
        {
            if there {
                self.lose(format!("{what} is left out"), "the list of applications has no place for it");
            }
        }
        let filled = |text: &Option<String>| text.clone().filter(|t| !t.is_empty());
        Identity {
            id: filled(&p.id),
            name: filled(&p.name),
            version: filled(&p.version),
            publisher: filled(&p.publisher),
            summary: filled(&p.summary),
            homepage: filled(&p.homepage),
            support: filled(&p.support),
            ..Identity::default()
        }
    }

    /// Whether a program is there, with its file.
    fn has(&self, program: &str) -> bool {
        matches!(self.footprint.program(program), Some(Trace::Program { file, .. }) if self.files.contains(file))
    }

    /// A trace of the tree, or a program; `None` for what is left out.
    fn of_tree(&mut self, trace: &Trace) -> Option<Trace> {
        match trace {
            Trace::Folder { path, .. } => Some(Trace::Folder { path: path.clone(), mode: 0o755 }),
            Trace::File { path, size, content, .. } => {
                Some(Trace::File { path: path.clone(), mode: 0o644, size: *size, content: *content })
            }
            Trace::HardLink { to, .. } if self.files.contains(to) => Some(trace.clone()),
            Trace::HardLink { path, .. } | Trace::Link { path, .. } => {
                let why = "most people on Windows may not make links; put a copy of the file there";
                self.lose(format!("the link {path} is left out"), why);
                None
            }
            Trace::Program { key, file, .. } if !self.files.contains(file) => {
                self.lose(format!("the program {key} is left out"), "its file is not among the package's files");
                None
            }
            Trace::Program { key, file, arguments, environment, working_folder, console } => {
                if !environment.is_empty() {
                    let names: Vec<&str> = environment.keys().map(String::as_str).collect();
                    let what = format!("the variables of the program {key} are left out: {}", names.join(", "));
                    self.lose(what, "a shortcut can't set any; a `launcher` can");
                }
                Some(Trace::Program {
                    key: key.clone(),
                    file: file.clone(),
                    arguments: arguments.clone(),
                    environment: BTreeMap::new(),
                    working_folder: working_folder.clone(),
                    console: *console,
                })
            }
            _ => None,
        }
    }
}

/// What a setup program carries.
pub fn setup(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let mut it = Carrier::new(footprint);
    let product = it.identity();
    let mut taken_extensions = HashSet::new();
    let mut claimed: BTreeSet<RelPath> = BTreeSet::new();
    let mut rules: BTreeMap<String, String> = BTreeMap::new();
    let mut traces = Vec::new();
    let filled = |text: &Option<String>| text.clone().filter(|t| !t.is_empty());
    for trace in footprint.traces() {
        match trace {
            Trace::Folder { .. }
            | Trace::File { .. }
            | Trace::HardLink { .. }
            | Trace::Link { .. }
            | Trace::Program { .. } => {
                traces.extend(it.of_tree(trace));
            }
            Trace::Shortcut { place, name, program, arguments, description } if it.has(program) => {
                let plain = file_name(name);
                if plain != *name {
                    let why = "it is a file, and Windows forbids such names";
                    it.lose(format!("the shortcut “{name}” is named “{plain}”"), why);
                }
                traces.push(Trace::Shortcut {
                    place: *place,
                    name: plain,
                    program: program.clone(),
                    arguments: arguments.clone(),
                    description: filled(description),
                });
            }
            Trace::FileType { mime, extensions, name, program } if it.has(program) => {
                let free = |e: &&String| taken_extensions.insert(e.to_lowercase());
                let kept: Vec<String> = extensions.iter().filter(free).cloned().collect();
                if kept.len() < extensions.len() {
                    let what = format!("the file type “{name}” does not get all of its endings");
                    it.lose(what, "another file type has them");
                }
                if !kept.is_empty() {
                    let (mime, name, program) = (mime.clone(), name.clone(), program.clone());
                    traces.push(Trace::FileType { mime, extensions: kept, name, program });
                }
            }
            Trace::LinkScheme { program, .. } if it.has(program) => traces.push(trace.clone()),
            Trace::Service(service) if it.has(&service.program) => {
                let mut service = service.clone();
                service.description = filled(&service.description);
                service.account = filled(&service.account);
                traces.push(Trace::Service(service));
            }
            // Said with their program.
            Trace::Shortcut { .. } | Trace::FileType { .. } | Trace::LinkScheme { .. } | Trace::Service(_) => {}
            Trace::Environment { .. } => traces.push(trace.clone()),
            Trace::Registry { root, view, key, name, value } => {
                // A 32-bit product sees nothing else.
                let own = matches!(footprint.platform, Some(Platform::WindowsX86));
                let view = if own { RegistryView::Own } else { *view };
                let (root, key, name, value) = (*root, key.clone(), filled(name), value.clone());
                traces.push(Trace::Registry { root, view, key, name, value });
            }
            Trace::Font { file, .. } if it.files.contains(file) => traces.push(trace.clone()),
            Trace::Font { file, .. } => {
                it.lose(format!("the font {file} is left out"), "it is not among the package's files");
            }
            Trace::Choice { key, title, description, chosen, files } => {
                let free = |f: &&RelPath| it.files.contains(f) && claimed.insert((*f).clone());
                let mut files: Vec<RelPath> = files.iter().filter(free).cloned().collect();
                files.sort();
                let (key, title, description) = (key.clone(), title.clone(), filled(description));
                traces.push(Trace::Choice { key, title, description, chosen: *chosen, files });
            }
            Trace::Rule { key, value } => match key.as_str() {
                // What only Windows Installer has: here the change of versions is one step, whole or not at all.
                "upgrade" => {}
                "start-at-end" if !it.has(value) => {}
                _ if key.strip_prefix(KEEP_CHANGED).is_some_and(|f| !it.files.iter().any(|p| p.as_str() == f)) => {}
                _ => drop(rules.insert(key.clone(), value.clone())),
            },
            // Shortcuts and the list of applications show the picture; it is no trace of its own on Windows.
            Trace::Icon { .. } => {}
        }
    }
    let name = footprint.product.name.as_deref().map_or("Product".into(), file_name);
    // The same product installed by Windows Installer is found by it.
    let upgrade = upgrade_code(footprint.product.id.as_deref().unwrap_or_default(), None);
    for (key, value) in
        [("scope", "machine"), ("downgrade", "blocked"), ("folder", &name), ("upgrade-code", upgrade.as_str())]
    {
        rules.entry(key.to_owned()).or_insert_with(|| value.to_owned());
    }
    traces.extend(rules.into_iter().map(|(key, value)| Trace::Rule { key, value }));
    (Footprint::new(product, footprint.platform, traces), it.losses)
}

/// What a portable program carries: the files and the programs.
pub fn portable(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let mut it = Carrier::new(footprint);
    let product = it.identity();
    let mut lost = BTreeMap::<&str, usize>::new();
    let mut traces = Vec::new();
    for trace in footprint.traces() {
        match trace {
            Trace::Folder { .. }
            | Trace::File { .. }
            | Trace::HardLink { .. }
            | Trace::Link { .. }
            | Trace::Program { .. } => {
                traces.extend(it.of_tree(trace));
            }
            Trace::Shortcut { .. }
            | Trace::FileType { .. }
            | Trace::LinkScheme { .. }
            | Trace::Environment { .. }
            | Trace::Registry { .. }
            | Trace::Service(_)
            | Trace::Font { .. } => *lost.entry(trace.kind()).or_default() += 1,
            // All files are there, and nothing is installed.
            Trace::Choice { .. } | Trace::Rule { .. } | Trace::Icon { .. } => {}
        }
    }
    for (kind, count) in lost {
        let s = if count == 1 { " is" } else { "s are" };
        it.lose(format!("{count} {kind}{s} left out"), "a portable program is started, not installed");
    }
    (Footprint::new(product, footprint.platform, traces), it.losses)
}
