//! What of a footprint a Windows Installer package carries, in the form in which it is read back.

use super::rules::Windows;
use super::words::{arguments, carried, line};
use super::{layout, registry};
use crate::footprint::{
    Choice, FileType, Footprint, Identity, InstallRules, LinkScheme, List, Node, Program, RegistryEntry, RegistryView,
    RelPath, Service, Shortcut, Variable,
};
use crate::targets::{Loss, in_one_language, lose, without_hard_links};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// A program as commands are matched with it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Command {
    /// The program's key.
    pub key: String,
    /// Its file.
    pub file: RelPath,
    /// Its arguments, as they come back.
    pub arguments: Vec<String>,
}

/// Arguments as they are after a Formatted column and a command line.
pub fn line_arguments(all: &[String]) -> Vec<String> {
    arguments(&line(all))
}

/// The program that a command starts, and the arguments behind its own: of several that fit the one with the most
/// arguments of its own, then the first.
pub fn program_of(programs: &[Command], file: &RelPath, all: &[String]) -> Option<(String, Vec<String>)> {
    let fits = programs.iter().filter(|p| p.file == *file && all.starts_with(&p.arguments));
    let best = fits.reduce(|best, next| if next.arguments.len() > best.arguments.len() { next } else { best })?;
    Some((best.key.clone(), all[best.arguments.len()..].to_vec()))
}

/// A name that Windows takes for a file: what it forbids becomes a dash.
pub(crate) fn file_name(name: &str) -> String {
    let plain: String =
        name.chars().map(|c| if "<>:\"/\\|?*".contains(c) || c.is_control() { '-' } else { c }).collect();
    let plain = plain.trim_end_matches(['.', ' ']).trim_start();
    if plain.is_empty() { "-".into() } else { plain.to_owned() }
}

fn filled<T: Clone + std::ops::Deref<Target = str>>(text: &Option<T>) -> Option<T> {
    text.clone().filter(|t| !t.is_empty())
}

/// What a Windows Installer package carries, with what it does not.
pub fn carry(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let (footprint, mut losses) =
        in_one_language(footprint, "an MSI has its shortcuts, file types and choices in one language", false);
    let footprint = &*footprint;
    let Footprint {
        product: p,
        platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        registry: entries,
        services,
        fonts,
        commands,
        shell_files,
        choices,
        // A program does what its user may.
        permissions: _,
        // Shortcuts and the list of applications show the picture; it is no item of its own on Windows.
        icons: _,
        install,
        bundle,
        foreign: _,
    } = footprint;

    for (what, there) in [("the description", p.description.is_some()), ("the licence's name", p.license.is_some())] {
        if there {
            let why = "the list of installed apps has no place for it".into();
            losses.push(Loss { what: format!("{what} is left out"), why });
        }
    }
    let product = Identity { description: None, license: None, categories: Vec::new(), ..p.clone() };
    let tree = nodes(tree, &mut losses);
    let files: BTreeSet<&RelPath> =
        tree.iter().filter_map(|n| if let Node::File { path, .. } = n { Some(path) } else { None }).collect();
    let programs = without_variables(programs, &files, &mut losses);
    let started: Vec<Command> = programs
        .iter()
        .map(|p| Command { key: p.key.clone(), file: p.file.clone(), arguments: line_arguments(&p.arguments) })
        .collect();
    // A command as it comes back: perhaps as another program with the same file.
    let command = |key: &str, own: &[String]| -> Option<(String, Vec<String>)> {
        let Program { file, arguments, .. } = footprint.program(key)?;
        let all: Vec<String> = arguments.iter().chain(own).cloned().collect();
        program_of(&started, file, &line_arguments(&all))
    };
    let mut lose_one = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let shortcuts = shortcuts.filter_map(|Shortcut { place, name, program, arguments, description }| {
        let (program, arguments) = command(program, arguments)?;
        let plain = file_name(name);
        if *name != plain {
            let why = "it is a file, and Windows forbids such names";
            lose_one(format!("the shortcut “{name}” is named “{plain}”"), why);
        }
        Some(Shortcut { place: *place, name: plain.into(), program, arguments, description: filled(description) })
    });
    let mut taken_extensions = HashSet::new();
    let file_types = file_types.filter_map(|FileType { mime, extensions, name, program }| {
        let (program, _) = command(program, &[])?;
        let mut kept: Vec<String> =
            extensions.iter().filter(|e| taken_extensions.insert(e.to_lowercase())).cloned().collect();
        if kept.len() < extensions.len() {
            let what = format!("the file type “{name}” doesn't get all of its extensions");
            lose_one(what, "another file type already has them");
        }
        kept.get_mut(1..)?.sort();
        Some(FileType { mime: carried(mime), extensions: kept, name: carried(name).into(), program })
    });
    let link_schemes = link_schemes.filter_map(|LinkScheme { scheme, program }| {
        let (program, _) = command(program, &[])?;
        Some(LinkScheme { scheme: scheme.clone(), program })
    });
    let environment = environment.filter_map(|Variable { name, action, value }| {
        Some(Variable { name: name.clone(), action: *action, value: carried(value) })
    });
    let entries = entries.filter_map(|RegistryEntry { root, view, key, name, value }| {
        Some(RegistryEntry {
            root: *root,
            // A 32-bit product sees nothing else.
            view: if layout::is_64(footprint) { *view } else { RegistryView::Own },
            key: carried(key),
            name: name.as_deref().map(carried).filter(|n| !n.is_empty()),
            value: registry::carried(value),
        })
    });
    let services = services.filter_map(|service| {
        let Service { name, title, description, program, arguments, start, account } = service;
        let (program, arguments) = command(program, arguments)?;
        Some(Service {
            name: carried(name),
            title: carried(title),
            description: filled(description),
            program,
            arguments,
            start: *start,
            account: account.as_deref().map(carried).filter(|a| !a.is_empty()),
        })
    });
    let fonts = fonts.filter_map(|font| {
        if !files.contains(&font.file) {
            lose_one(format!("the font {} is left out", font.file), "it is not among the package's files");
            return None;
        }
        Some(crate::footprint::Font { file: font.file.clone(), title: carried(&font.title) })
    });
    let mut claimed: BTreeSet<RelPath> = BTreeSet::new();
    let choices = choices.filter_map(|Choice { key, title, description, chosen, files: of_choice }| {
        let is_free = |f: &&RelPath| files.contains(f) && claimed.insert((*f).clone());
        let mut own: Vec<RelPath> = of_choice.iter().filter(is_free).cloned().collect();
        own.sort();
        let (key, title, description) = (key.clone(), title.clone(), filled(description));
        Some(Choice { key, title, description, chosen: *chosen, files: own })
    });
    let InstallRules {
        scope,
        folder,
        minimum_windows,
        minimum_macos,
        downgrade,
        upgrade,
        upgrade_code,
        start_at_end,
        keep_changed,
    } = install;
    for path in keep_changed {
        let why = "Windows Installer removes it with the product, and keeps a changed one on upgrades only if it has no version";
        lose_one(format!("{path} isn't kept when a user has changed it"), why);
    }
    let of_macos = InstallRules { minimum_macos: *minimum_macos, ..InstallRules::default() };
    lose(&mut losses, commands, "Windows finds commands by the folders on PATH");
    lose(&mut losses, shell_files, "Windows has no manual pages, and its shells are different");
    lose(&mut losses, &of_macos.rules(), "it is a rule for macOS");
    lose(&mut losses, &bundle.rules(), "it is a rule for application bundles of macOS");
    let id = p.id.as_deref().unwrap_or_default();
    let folder = folder.clone().unwrap_or_else(|| p.name.as_deref().map_or("Product".into(), file_name));
    let install = InstallRules {
        scope: Some(scope.unwrap_or_default()),
        folder: Some(folder),
        minimum_windows: minimum_windows.and_then(Windows::of).map(Windows::version),
        minimum_macos: None,
        downgrade: Some(downgrade.unwrap_or_default()),
        upgrade: Some(upgrade.unwrap_or_default()),
        upgrade_code: Some(upgrade_code.clone().unwrap_or_else(|| layout::upgrade_code(id, None))),
        start_at_end: start_at_end.as_deref().and_then(|key| command(key, &[])).map(|(program, _)| program),
        keep_changed: BTreeSet::new(),
    };
    drop(files);
    let carried = Footprint {
        product,
        platform: *platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        registry: entries,
        services,
        fonts,
        choices,
        install,
        ..Footprint::default()
    };
    (carried, losses)
}

/// The tree as Windows has it, without links.
fn nodes(tree: &List<Node>, losses: &mut Vec<Loss>) -> List<Node> {
    let single = without_hard_links(tree, |path, to| {
        losses.push(Loss {
            what: format!("{path} and {to} become separate files"),
            why: "Windows Installer has no hard links".into(),
        });
    });
    single.filter_map(|node| match node {
        Node::Folder { path, mode: _ } => Some(Node::Folder { path: path.clone(), mode: 0o755 }),
        Node::File { path, mode: _, size, content } => {
            Some(Node::File { path: path.clone(), mode: 0o644, size: *size, content: *content })
        }
        Node::HardLink { path, .. } | Node::Link { path, .. } => {
            losses.push(Loss {
                what: format!("the link {path} is left out"),
                why: "Windows Installer can't create links; use a copy of the file".into(),
            });
            None
        }
    })
}

fn without_variables(programs: &List<Program>, files: &BTreeSet<&RelPath>, losses: &mut Vec<Loss>) -> List<Program> {
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    programs.filter_map(|program| {
        let Program { key, file, environment, .. } = program;
        if !files.contains(file) {
            lose(format!("the program {key} is left out"), "its file is not among the package's files");
            return None;
        }
        if !environment.is_empty() {
            let names: Vec<&str> = environment.keys().map(String::as_str).collect();
            let what = format!("the variables of the program {key} are left out: {}", names.join(", "));
            lose(what, "a shortcut can't set any; set them with [[environment]] or in the program");
        }
        Some(Program { environment: BTreeMap::new(), ..program.clone() })
    })
}
