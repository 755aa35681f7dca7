//! What of a footprint an application bundle carries.

use crate::footprint::{
    BundleRules, EnvironmentAction, Footprint, InstallRules, List, Node, Permission, Place, Program, RelPath, Shortcut,
    WorkingFolder,
};
use crate::targets::{Loss, in_one_language, left_out, lose, without_hard_links};

/// A path as the file system stores it: letters with their marks apart. What can't be stored stays, and is refused later.
pub fn stored(path: &RelPath) -> RelPath {
    let names = path.as_str().split('/').map(|n| hfs_plus::name::stored(n).map(|u| hfs_plus::name::shown(&u)));
    let names: Result<Vec<String>, _> = names.collect();
    names.ok().and_then(|n| RelPath::new(n.join("/")).ok()).unwrap_or_else(|| path.clone())
}

/// What a bundle carries, with what it does not.
pub fn carry(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let (footprint, mut losses) = in_one_language(footprint, "a bundle has its file types in one language", false);
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
        permissions,
        // The bundle has the picture, in the system's own form: it is no item of its own.
        icons: _,
        install,
        bundle,
        foreign: _,
    } = footprint;
    let main = footprint.main_program();
    let finished = super::finished::folder(tree).is_some();

    if let Some(version) = &product.version
        && !version.is_empty()
        && super::list::documented(version) != *version
        && !finished
    {
        losses.push(Loss {
            what: format!("users see the version {version} as {}", super::list::documented(version)),
            why: "a bundle's version has three numbers and nothing else".into(),
        });
    }
    let mut product = product.clone();
    product.name.get_or_insert_with(|| "Product".into());
    let title = product.name.clone().unwrap_or_default();
    let tree = nodes(tree, &mut losses);
    let programs = programs.filter_map(|p| Some(if finished { of_finished(p, &mut losses) } else { in_place(p) }));
    let shortcuts = entry(footprint, &title, shortcuts, &mut losses);
    let other = "it belongs to a program other than the bundle's";
    let mut is_main = |item: crate::footprint::Trace, program: &str| {
        let is_main = Some(program) == main;
        if !is_main {
            losses.push(left_out(item, other));
        }
        is_main
    };
    let file_types = file_types.filter_map(|t| is_main(t.clone().into(), &t.program).then(|| t.clone()));
    let link_schemes = link_schemes.filter_map(|l| is_main(l.clone().into(), &l.program).then(|| l.clone()));
    let environment = environment.filter_map(|variable| {
        if variable.action == EnvironmentAction::Set && !variable.value.contains("{install}") {
            return Some(variable.clone());
        }
        let why = "the system gives a program fixed values only; a variable of the [[program]] can hold this one";
        losses.push(left_out(variable.clone(), why));
        None
    });
    lose(&mut losses, registry, "macOS has no registry");
    lose(&mut losses, services, "a bundle that is copied installs no services");
    lose(&mut losses, fonts, "it stays a file of the product; other programs don't see it");
    lose(
        &mut losses,
        commands,
        "a bundle is copied, not installed; users can link to its program from a folder on their PATH",
    );
    lose(&mut losses, shell_files, "a bundle is copied, not installed; the file itself is included");
    lose(&mut losses, choices, "all files are there: nothing is chosen");
    // Of all others the system asks nobody.
    let is_asked = |p: &&Permission| p.access.is_asked_about() && p.reason.is_some();
    let permissions = permissions.iter().filter(is_asked).cloned().collect();
    let InstallRules { minimum_macos, .. } = *install;
    let of_windows = InstallRules { minimum_macos: None, ..install.clone() };
    lose(&mut losses, &of_windows.rules(), "it is a rule for installing on Windows");
    let mut bundle = bundle.clone();
    if finished {
        let names = BundleRules { names: std::mem::take(&mut bundle.names), ..BundleRules::default() };
        lose(&mut losses, &names.rules(), "a finished bundle brings its own names");
    }
    let carried = Footprint {
        product,
        platform: *platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        environment,
        permissions,
        install: InstallRules { minimum_macos, ..InstallRules::default() },
        bundle,
        ..Footprint::default()
    };
    (carried, losses)
}

fn nodes(tree: &List<Node>, losses: &mut Vec<Loss>) -> List<Node> {
    for node in tree {
        if let Node::File { path, mode, .. } = node
            && mode & 0o7000 != 0
        {
            losses.push(Loss {
                what: format!("the special mode bits of {path} ({mode:o}) are left out"),
                why: "the system ignores them in a copied program".into(),
            });
        }
    }
    let single = without_hard_links(tree, |path, to| {
        losses.push(Loss {
            what: format!("{path} and {to} become separate files"),
            why: "copying a program separates them".into(),
        });
    });
    single.filter_map(|node| {
        let mut node = node.clone();
        *node.path_mut() = stored(node.path());
        match &mut node {
            Node::Folder { mode, .. } | Node::File { mode, .. } => *mode &= 0o777,
            Node::HardLink { .. } | Node::Link { .. } => {}
        }
        Some(node)
    })
}

/// A program of a finished bundle: how it is started is settled.
fn of_finished(program: &Program, losses: &mut Vec<Loss>) -> Program {
    let plain = Program { console: program.console, ..Program::plain(program.key.clone(), stored(&program.file)) };
    if !program.is_plain() {
        losses.push(Loss {
            what: format!("arguments, variables and the working folder of {} are left out", program.file),
            why: "a finished bundle starts its program as it was built to".into(),
        });
    }
    plain
}

/// A program with its paths as the file system stores them.
fn in_place(program: &Program) -> Program {
    let working_folder = match &program.working_folder {
        WorkingFolder::Inside(path) => WorkingFolder::Inside(stored(path)),
        other @ (WorkingFolder::Unchanged | WorkingFolder::Home | WorkingFolder::Install) => other.clone(),
    };
    Program { file: stored(&program.file), working_folder, ..program.clone() }
}

/// The one entry that a bundle is.
fn entry(footprint: &Footprint, title: &str, shortcuts: &List<Shortcut>, losses: &mut Vec<Loss>) -> List<Shortcut> {
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let main = footprint.main_program();
    let mut has_entry = false;
    shortcuts.filter_map(|shortcut| {
        let Shortcut { place, name, program, arguments, description } = shortcut;
        if has_entry || *place != Place::Menu || Some(program.as_str()) != main {
            let why = "on macOS a program is its own only entry";
            lose(format!("the shortcut “{name}” ({}) is left out", place.name()), why);
            return None;
        }
        has_entry = true;
        if name != title {
            lose(
                format!("the shortcut “{name}” is named “{title}”"),
                "the program is its own entry, and has the product's name",
            );
        }
        if !arguments.is_empty() || (description.is_some() && *description != footprint.product.summary) {
            lose(format!("the shortcut's own settings (“{name}”) are left out"), "the program is its own entry");
        }
        Some(Shortcut {
            place: Place::Menu,
            name: title.into(),
            program: program.clone(),
            arguments: Vec::new(),
            description: None,
        })
    })
}
