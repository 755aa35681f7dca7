//! What of a footprint a setup program, and a portable program, carries.

use crate::footprint::{
    Choice, FileType, Footprint, Identity, InstallRules, List, Node, Program, RegistryEntry, RegistryView, RelPath,
    Service, Shortcut,
};
use crate::platform::Platform;
use crate::targets::msi::carry::file_name;
use crate::targets::msi::upgrade_code;
use crate::targets::{Loss, in_one_language, lose};
use std::collections::{BTreeMap, BTreeSet, HashSet};

fn filled(text: &Option<String>) -> Option<String> {
    text.clone().filter(|t| !t.is_empty())
}

/// The paths of the files that stay files.
fn files_of(tree: &List<Node>) -> BTreeSet<&RelPath> {
    tree.iter().filter_map(|node| if let Node::File { path, .. } = node { Some(path) } else { None }).collect()
}

fn identity(p: &Identity, losses: &mut Vec<Loss>) -> Identity {
    for (what, there) in [("the description", p.description.is_some()), ("the licence's name", p.license.is_some())] {
        if there {
            let why = "the list of installed apps has no place for it".into();
            losses.push(Loss { what: format!("{what} is left out"), why });
        }
    }
    Identity {
        id: filled(&p.id),
        name: filled(&p.name),
        version: filled(&p.version),
        publisher: filled(&p.publisher),
        summary: p.summary.clone().filter(|s| !s.is_empty()),
        homepage: filled(&p.homepage),
        support: filled(&p.support),
        ..Identity::default()
    }
}

/// The tree as Windows has it.
fn nodes(tree: &List<Node>, files: &BTreeSet<&RelPath>, losses: &mut Vec<Loss>) -> List<Node> {
    tree.filter_map(|node| match node {
        Node::Folder { path, mode: _ } => Some(Node::Folder { path: path.clone(), mode: 0o755 }),
        Node::File { path, mode: _, size, content } => {
            Some(Node::File { path: path.clone(), mode: 0o644, size: *size, content: *content })
        }
        Node::HardLink { to, .. } if files.contains(to) => Some(node.clone()),
        Node::HardLink { path, .. } | Node::Link { path, .. } => {
            losses.push(Loss {
                what: format!("the link {path} is left out"),
                why: "most users on Windows aren't allowed to create links; use a copy of the file".into(),
            });
            None
        }
    })
}

fn carried_programs(programs: &List<Program>, files: &BTreeSet<&RelPath>, losses: &mut Vec<Loss>) -> List<Program> {
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    programs.filter_map(|program| {
        let Program { key, file, environment, unset, .. } = program;
        if !files.contains(file) {
            lose(format!("the program {key} is left out"), "its file is not among the package's files");
            return None;
        }
        let names: Vec<&str> = environment.keys().chain(unset).map(String::as_str).collect();
        if !names.is_empty() {
            let what = format!("the variables of the program {key} are left out: {}", names.join(", "));
            lose(what, "a shortcut can't set any; a `launcher` can");
        }
        Some(Program { environment: BTreeMap::new(), unset: BTreeSet::new(), ..program.clone() })
    })
}

/// What a setup program carries.
pub fn setup(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let (footprint, mut losses) =
        in_one_language(footprint, "shortcuts and file types on Windows are in one language", true);
    let footprint = &*footprint;
    let Footprint {
        product,
        platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        registry,
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

    let name = product.name.as_deref().map_or("Product".into(), file_name);
    let id = product.id.as_deref().unwrap_or_default();
    let product = identity(product, &mut losses);
    let files = files_of(tree);
    let tree = nodes(tree, &files, &mut losses);
    let programs = carried_programs(programs, &files, &mut losses);
    // What belongs to a program that is left out was said with it.
    let has = |key: &str| programs.iter().any(|p| p.key == key);
    let mut lose_one = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let shortcuts = shortcuts.filter_map(|shortcut| {
        let plain = file_name(&shortcut.name);
        if !has(&shortcut.program) {
            return None;
        }
        if shortcut.name != plain {
            let why = "it is a file, and Windows forbids such names";
            lose_one(format!("the shortcut “{}” is named “{plain}”", shortcut.name), why);
        }
        let description = shortcut.description.clone().filter(|d| !d.is_empty());
        Some(Shortcut { name: plain.into(), description, ..shortcut.clone() })
    });
    let mut taken_extensions = HashSet::new();
    let file_types = file_types.filter_map(|kind| {
        if !has(&kind.program) {
            return None;
        }
        let is_free = |e: &&String| taken_extensions.insert(e.to_lowercase());
        let kept: Vec<String> = kind.extensions.iter().filter(is_free).cloned().collect();
        if kept.len() < kind.extensions.len() {
            let what = format!("the file type “{}” doesn't get all of its extensions", kind.name);
            lose_one(what, "another file type already has them");
        }
        (!kept.is_empty()).then(|| FileType { extensions: kept, ..kind.clone() })
    });
    let link_schemes = link_schemes.filter_map(|l| has(&l.program).then(|| l.clone()));
    // A 32-bit product sees nothing else.
    let is_narrow = *platform == Some(Platform::WindowsX86);
    let registry = registry.filter_map(|entry| {
        let view = if is_narrow { RegistryView::Own } else { entry.view };
        Some(RegistryEntry { view, name: filled(&entry.name), ..entry.clone() })
    });
    let services = services.filter_map(|service| {
        let (description, account) = (filled(&service.description), filled(&service.account));
        has(&service.program).then(|| Service { description, account, ..service.clone() })
    });
    let fonts = fonts.filter_map(|font| {
        if !files.contains(&font.file) {
            lose_one(format!("the font {} is left out", font.file), "it is not among the package's files");
            return None;
        }
        Some(font.clone())
    });
    let mut claimed: BTreeSet<RelPath> = BTreeSet::new();
    let choices = choices.filter_map(|choice| {
        let is_free = |f: &&RelPath| files.contains(f) && claimed.insert((*f).clone());
        let mut own: Vec<RelPath> = choice.files.iter().filter(is_free).cloned().collect();
        own.sort();
        let description = choice.description.clone().filter(|d| !d.is_empty());
        Some(Choice { description, files: own, ..choice.clone() })
    });
    let InstallRules {
        scope,
        folder,
        minimum_windows,
        minimum_macos,
        downgrade,
        // What only Windows Installer has: here the change of versions is one step, whole or not at all.
        upgrade: _,
        upgrade_code: stated,
        start_at_end,
        keep_changed,
    } = install;
    let of_macos = InstallRules { minimum_macos: *minimum_macos, ..InstallRules::default() };
    lose(&mut losses, commands, "Windows finds commands by the folders on PATH");
    lose(&mut losses, shell_files, "Windows has no manual pages, and its shells are different");
    lose(&mut losses, &of_macos.rules(), "it is a rule for macOS");
    lose(&mut losses, &bundle.rules(), "it is a rule for application bundles of macOS");
    let install = InstallRules {
        scope: Some(scope.unwrap_or_default()),
        folder: Some(folder.clone().unwrap_or(name)),
        minimum_windows: *minimum_windows,
        minimum_macos: None,
        downgrade: Some(downgrade.unwrap_or_default()),
        upgrade: None,
        // The same product installed by Windows Installer is found by it.
        upgrade_code: Some(stated.clone().unwrap_or_else(|| upgrade_code(id, None))),
        start_at_end: start_at_end.clone().filter(|key| has(key)),
        keep_changed: keep_changed.iter().filter(|path| files.contains(path)).cloned().collect(),
    };
    let carried = Footprint {
        product,
        platform: *platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment: environment.clone(),
        registry,
        services,
        fonts,
        choices,
        install,
        ..Footprint::default()
    };
    (carried, losses)
}

/// What a portable program carries: the files and the programs.
pub fn portable(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let (footprint, mut losses) =
        in_one_language(footprint, "a portable program has its summary in one language", false);
    let footprint = &*footprint;
    let Footprint {
        product,
        platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        registry,
        services,
        fonts,
        commands,
        shell_files,
        // All files are there, and nothing is installed.
        choices: _,
        permissions: _,
        icons: _,
        install: _,
        bundle: _,
        foreign: _,
    } = footprint;
    let product = identity(product, &mut losses);
    let files = files_of(tree);
    let carried = Footprint {
        product,
        platform: *platform,
        tree: nodes(tree, &files, &mut losses),
        programs: carried_programs(programs, &files, &mut losses),
        ..Footprint::default()
    };
    let lost = [
        ("command", commands.len()),
        ("shell file", shell_files.len()),
        ("environment variable", environment.len()),
        ("file type", file_types.len()),
        ("font", fonts.len()),
        ("link scheme", link_schemes.len()),
        ("registry value", registry.len()),
        ("service", services.len()),
        ("shortcut", shortcuts.len()),
    ];
    for (kind, count) in lost.into_iter().filter(|(_, count)| *count > 0) {
        let s = if count == 1 { " is" } else { "s are" };
        let why = "a portable program is started, not installed".into();
        losses.push(Loss { what: format!("{count} {kind}{s} left out"), why });
    }
    (carried, losses)
}
