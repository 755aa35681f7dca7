//! What of a footprint a package for Windows' own installer carries.

use super::registry;
use crate::footprint::{
    Command, Downgrade, EnvironmentAction, FileType, Font, Footprint, Identity, InstallRules, LinkScheme, List, Node,
    Permission, Place, Program, RelPath, Service, Shortcut, SystemVersion, Variable, WorkingFolder,
};
use crate::targets::msi::carry::file_name;
use crate::targets::{Loss, in_one_language, left_out, lose, without_hard_links};
use std::collections::{BTreeSet, HashSet};

/// The oldest Windows that installs such packages from a file by itself, and starts programs of the desktop in them: 1809.
pub const OLDEST: u32 = 17763;
/// The oldest Windows that installs services out of them: 2004.
pub const WITH_SERVICES: u32 = 19041;

/// The accounts that services of such packages can have, by the names of the manifest's schema.
pub const ACCOUNTS: [(&str, Option<&str>); 3] = [
    ("localSystem", None),
    ("localService", Some(r"NT AUTHORITY\LocalService")),
    ("networkService", Some(r"NT AUTHORITY\NetworkService")),
];

/// The name of the schema for an account.
pub fn account(own: Option<&str>) -> Option<&'static str> {
    let bare = own.map(|own| own.rsplit('\\').next().unwrap_or(own).replace(' ', ""));
    let is_same = |(name, _): &&(&str, Option<&str>)| match &bare {
        None => *name == "localSystem",
        Some(bare) => name.eq_ignore_ascii_case(bare),
    };
    ACCOUNTS.iter().find(is_same).map(|(name, _)| *name)
}

/// One line as an attribute holds it: nothing that a reader of XML would change.
pub fn one_line(text: &str) -> String {
    let is_odd = |c: char| c.is_control() || matches!(c, '\u{FFFE}' | '\u{FFFF}' | '\u{85}' | '\u{2028}');
    let plain: String = text.chars().map(|c| if is_odd(c) { ' ' } else { c }).collect();
    plain.trim().to_owned()
}

/// Arguments as they come back; none where one names the folder of the product, which nobody knows before.
fn kept_arguments(all: &[String]) -> Option<Vec<String>> {
    let knows = all.iter().all(|argument| !argument.contains(registry::INSTALL));
    knows.then(|| all.iter().map(|argument| one_line(argument)).collect())
}

fn filled(text: Option<&str>) -> Option<String> {
    text.map(one_line).filter(|text| !text.is_empty())
}

/// The build of Windows that a version names; none before Windows 10.
fn build(version: SystemVersion) -> Option<u32> {
    (version.major >= 10).then(|| version.patch.unwrap_or(10240))
}

/// What a package carries, with what it does not.
pub fn carry(footprint: &Footprint) -> (Footprint, Vec<Loss>) {
    let why = "a package has texts in one language unless it brings an index of resources";
    let (footprint, mut losses) = in_one_language(footprint, why, false);
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
        registry: entries,
        services,
        fonts,
        commands,
        shell_files,
        choices,
        permissions,
        // The package has the picture, in the sizes that the system asks for: it is no item of its own.
        icons: _,
        install,
        bundle,
        foreign: _,
    } = footprint;
    let product = identity(product, &mut losses);
    let tree = nodes(tree, &mut losses);
    let files: BTreeSet<&RelPath> = tree.iter().map(Node::path).collect();
    let (commands, of_commands, environment) = at_a_prompt(commands, environment, programs, &files);
    let programs: List<Program> =
        carried_programs(programs, &files, &mut losses).into_iter().chain(of_commands).collect();
    let has = |key: &str| programs.iter().any(|program| program.key == key);
    let shortcuts = carried_shortcuts(footprint, shortcuts, &has, &mut losses);
    let mut taken = HashSet::new();
    let file_types = file_types.filter_map(|kind| carried_type(kind, &has, &mut taken, &mut losses));
    let link_schemes = link_schemes.filter_map(|LinkScheme { scheme, program }| {
        has(program).then(|| LinkScheme { scheme: scheme.to_lowercase(), program: program.clone() })
    });
    let services = services.filter_map(|service| carried_service(service, &has, &mut losses));
    // The system takes a font's name from its file.
    let fonts = fonts.filter_map(|Font { file, .. }| {
        let is_there = files.contains(file) && !programs.is_empty();
        if !is_there {
            let what = format!("the font {file} is left out");
            losses.push(Loss { what, why: "it is not among the package's files".into() });
        }
        is_there.then(|| Font { file: file.clone(), title: file.name().to_owned() })
    });
    let registry = registry::carried(entries, *platform, install.scope(), &mut losses);
    lose(
        &mut losses,
        &environment,
        "a package sets no variables; those of a [[program]] with a `launcher` reach the program itself",
    );
    lose(&mut losses, shell_files, "Windows has no manual pages, and its shells are different");
    lose(&mut losses, choices, "all files are there: nothing is chosen");
    lose(&mut losses, &bundle.rules(), "it is a rule for application bundles of macOS");
    // Windows shows no reasons.
    let is_declared = |p: &&Permission| super::permissions::capability(p.access).is_some();
    let plain = |p: &Permission| Permission { reason: None, ..p.clone() };
    let permissions = permissions.iter().filter(is_declared).map(plain).collect();
    let install = rules(install, !services.is_empty(), &mut losses);
    losses.push(Loss {
        what: "the icon is there in one density, and stands on a plate in the taskbar".into(),
        why: "other densities and shapes need an index of resources".into(),
    });
    drop(files);
    let carried = Footprint {
        product,
        platform: *platform,
        tree,
        programs,
        shortcuts,
        file_types,
        link_schemes,
        registry,
        services,
        fonts,
        commands,
        permissions,
        install,
        ..Footprint::default()
    };
    (carried, losses)
}

fn identity(product: &Identity, losses: &mut Vec<Loss>) -> Identity {
    let Identity { id, name, version, publisher, summary, description, homepage, support, license, categories: _ } =
        product;
    let lost = [
        ("the description", description.is_some()),
        ("the homepage", homepage.is_some()),
        ("the support address", support.is_some()),
        ("the licence's name", license.is_some()),
    ];
    for (what, _) in lost.into_iter().filter(|(_, there)| *there) {
        let why = "a package's manifest has no place for it".into();
        losses.push(Loss { what: format!("{what} is left out"), why });
    }
    let name = filled(name.as_deref()).unwrap_or_else(|| "Product".into());
    Identity {
        id: filled(id.as_deref()),
        version: filled(version.as_deref()),
        // The schema demands both.
        publisher: Some(filled(publisher.as_deref()).unwrap_or_else(|| name.clone())),
        name: Some(name),
        summary: summary.as_ref().and_then(|text| filled(Some(text.as_str()))).map(Into::into),
        ..Identity::default()
    }
}

/// The tree as packages have it: files only.
fn nodes(tree: &List<Node>, losses: &mut Vec<Loss>) -> List<Node> {
    let single = without_hard_links(tree, |path, to| {
        let why = "packages have no hard links".into();
        losses.push(Loss { what: format!("{path} and {to} become separate files"), why });
    });
    let mut full: HashSet<RelPath> = HashSet::new();
    for node in &single {
        let mut above = node.path().parent();
        while let Some(folder) = above {
            above = folder.parent();
            if !full.insert(folder) {
                break;
            }
        }
    }
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    single.filter_map(|node| match node {
        Node::File { path, mode: _, size, content } => {
            Some(Node::File { path: path.clone(), mode: 0o644, size: *size, content: *content })
        }
        Node::Folder { path, .. } => {
            if !full.contains(path) {
                lose(format!("the folder {path} is left out"), "it is empty, and packages consist of files");
            }
            None
        }
        Node::HardLink { path, .. } | Node::Link { path, .. } => {
            lose(format!("the link {path} is left out"), "packages have no links; use a copy of the file");
            None
        }
    })
}

/// Commands: those of the footprint, and the launchers in a folder that is put on `PATH`. With programs for those, and the
/// variables that remain.
fn at_a_prompt(
    commands: &List<Command>,
    environment: &List<Variable>,
    programs: &List<Program>,
    files: &BTreeSet<&RelPath>,
) -> (List<Command>, Vec<Program>, List<Variable>) {
    let of_there = |command: &&Command| {
        programs.iter().any(|program| program.key == command.program && files.contains(&program.file))
    };
    let mut all: List<Command> = commands.iter().filter(of_there).cloned().collect();
    let mut further = Vec::new();
    let mut is_folder = |folder: &str| {
        let mut found = false;
        for file in files.iter().filter(|file| file.parent().is_some_and(|parent| parent.as_str() == folder)) {
            let Some((name, ending)) = file.name().rsplit_once('.') else { continue };
            if !ending.eq_ignore_ascii_case("exe") || name.is_empty() {
                continue;
            }
            found = true;
            let is_taken = |key: &str| programs.iter().any(|program| program.key == key);
            let key = name.to_lowercase();
            let key = if is_taken(&key) { format!("{key}-command") } else { key };
            further.push(Program { console: true, ..Program::plain(key.clone(), (*file).clone()) });
            all.extend([Command { name: name.to_owned(), program: key }]);
        }
        found
    };
    let rest = environment.filter_map(|variable| {
        if !variable.name.eq_ignore_ascii_case("PATH") || variable.action == EnvironmentAction::Set {
            return Some(variable.clone());
        }
        let own = |part: &&str| part.strip_prefix("{install}/").is_none_or(|folder| !is_folder(folder));
        let left: Vec<&str> = variable.value.split(';').filter(own).collect();
        (!left.is_empty()).then(|| Variable { value: left.join(";"), ..variable.clone() })
    });
    (all, further, rest)
}

fn carried_programs(programs: &List<Program>, files: &BTreeSet<&RelPath>, losses: &mut Vec<Loss>) -> Vec<Program> {
    let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
    let kept = programs.iter().filter_map(|program| {
        let Program { key, file, arguments, environment, unset, working_folder, console } = program;
        if !files.contains(file) {
            lose(format!("the program {key} is left out"), "its file is not among the package's files");
            return None;
        }
        let what = |lost: &str| format!("{lost} of the program {key} are left out");
        if !arguments.is_empty() {
            lose(what("the arguments"), "the system starts the file alone; a `launcher` has them");
        }
        if !environment.is_empty() || !unset.is_empty() {
            lose(what("the variables"), "the system sets none; a `launcher` does");
        }
        if *working_folder != WorkingFolder::Unchanged {
            lose(
                format!("the program {key} starts in a folder of the system"),
                "a package can't choose another; a `launcher` can, or the program itself",
            );
        }
        Some(Program { console: *console, ..Program::plain(key.clone(), file.clone()) })
    });
    kept.collect()
}

/// In the menu each program has one entry; when the user logs in it is started once.
fn carried_shortcuts(
    footprint: &Footprint,
    shortcuts: &List<Shortcut>,
    has: &impl Fn(&str) -> bool,
    losses: &mut Vec<Loss>,
) -> List<Shortcut> {
    let summary = footprint.product.summary.as_ref().and_then(|text| filled(Some(text.as_str())));
    let mut seen = BTreeSet::new();
    let mut order: Vec<&Shortcut> = shortcuts.iter().filter(|shortcut| has(&shortcut.program)).collect();
    // The entry that is the product's own, of several.
    order.sort_by_key(|shortcut| Some(shortcut.name.as_str()) != footprint.product.name.as_deref());
    let mut kept = Vec::new();
    for shortcut in order {
        let Shortcut { place, name, program, arguments, description } = shortcut;
        let mut lose = |what: String, why: &str| losses.push(Loss { what, why: why.into() });
        let is_first = *place == Place::Desktop || seen.insert((*place, program));
        let title = if *place == Place::Desktop { file_name(name) } else { one_line(name) };
        if !is_first || title.is_empty() {
            losses.push(left_out(shortcut.clone(), "each program has one entry in the menu, and is started once"));
            continue;
        }
        if *place == Place::Desktop && title != name.as_str() {
            let why = "it is a file, and Windows forbids such names";
            lose(format!("the shortcut “{name}” is named “{title}”"), why);
        }
        if *place != Place::Desktop && !arguments.is_empty() {
            let what = format!("the arguments of the shortcut “{title}” are left out");
            lose(what, "the system starts the file alone; a `launcher` has them");
        }
        let own = filled(description.as_ref().map(|text| text.as_str()));
        let (arguments, description) = match (place, kept_arguments(arguments)) {
            (Place::Menu, _) => (Vec::new(), Some(own.or_else(|| summary.clone()).unwrap_or_else(|| title.clone()))),
            (Place::Desktop, Some(all)) => (all, own),
            (Place::Desktop, None) => {
                losses.push(left_out(
                    shortcut.clone(),
                    "its arguments name the product's folder, which the system chooses",
                ));
                continue;
            }
            (Place::Startup, _) => (Vec::new(), None),
        };
        let description = description.map(Into::into);
        kept.push(Shortcut { place: *place, name: title.into(), program: program.clone(), arguments, description });
    }
    let on_desktop = |shortcut: &Shortcut| shortcut.place == Place::Desktop;
    if kept.iter().any(on_desktop) {
        losses.push(Loss {
            what: "Windows 10 makes no shortcuts on the desktop".into(),
            why: "packages have had them since Windows 11; users can drag one from the menu".into(),
        });
    }
    kept.into()
}

/// Kinds of files that the system lets nobody else open.
const RESERVED: [&str; 22] = [
    "appx",
    "appxbundle",
    "bat",
    "cmd",
    "com",
    "cpl",
    "exe",
    "hta",
    "inf",
    "ins",
    "job",
    "lnk",
    "msi",
    "msix",
    "msp",
    "mst",
    "pif",
    "reg",
    "scf",
    "scr",
    "url",
    "vbs",
];

fn carried_type(
    kind: &FileType,
    has: &impl Fn(&str) -> bool,
    taken: &mut HashSet<String>,
    losses: &mut Vec<Loss>,
) -> Option<FileType> {
    let FileType { mime, extensions, name, program } = kind;
    if !has(program) {
        return None;
    }
    let mut kept: Vec<String> = Vec::new();
    for extension in extensions.iter().map(|extension| extension.to_lowercase()) {
        let why = if RESERVED.contains(&extension.as_str()) {
            "the system lets packages open no such files"
        } else if !taken.insert(extension.clone()) {
            "it is there already"
        } else {
            kept.push(extension);
            continue;
        };
        let what = format!("the file type “{name}” doesn't get the extension {extension}");
        losses.push(Loss { what, why: why.into() });
    }
    let name = filled(Some(name.as_str())).unwrap_or_else(|| mime.clone()).into();
    (!kept.is_empty()).then(|| FileType { mime: mime.clone(), extensions: kept, name, program: program.clone() })
}

fn carried_service(service: &Service, has: &impl Fn(&str) -> bool, losses: &mut Vec<Loss>) -> Option<Service> {
    let Service { name, title, description, program, arguments, start, account: own } = service;
    if !has(program) {
        return None;
    }
    let Some(account) = account(own.as_deref()) else {
        let why = "services of packages run as LocalSystem, LocalService or NetworkService";
        losses.push(left_out(service.clone(), why));
        return None;
    };
    let Some(arguments) = kept_arguments(arguments) else {
        let why = "its arguments name the product's folder, which the system chooses";
        losses.push(left_out(service.clone(), why));
        return None;
    };
    let plain = one_line(name);
    if *title != plain || description.is_some() {
        let what = format!("the title and description of the service {plain} are left out");
        losses.push(Loss { what, why: "a package gives a service its name only".into() });
    }
    let account = ACCOUNTS.iter().find(|(one, _)| *one == account).and_then(|(_, account)| *account);
    Some(Service {
        title: plain.clone(),
        name: plain,
        description: None,
        program: program.clone(),
        arguments,
        start: *start,
        account: account.map(str::to_owned),
    })
}

/// The rules that hold: which Windows is the oldest. All else the system decides.
fn rules(install: &InstallRules, has_services: bool, losses: &mut Vec<Loss>) -> InstallRules {
    let InstallRules {
        scope,
        // The system chooses the folder, and finds older versions by the package's own name.
        folder: _,
        minimum_windows,
        minimum_macos,
        downgrade,
        upgrade: _,
        upgrade_code: _,
        start_at_end,
        keep_changed,
    } = install;
    let oldest = if has_services { WITH_SERVICES } else { OLDEST };
    let stated = minimum_windows.and_then(build);
    if minimum_windows.is_some() && stated.is_none_or(|stated| stated < oldest) {
        let why = if has_services { "older ones install no services out of packages" } else { "older ones can't" };
        losses.push(Loss { what: format!("it requires Windows 10.0.{oldest}"), why: why.into() });
    }
    let lost = InstallRules {
        scope: *scope,
        minimum_macos: None,
        downgrade: downgrade.filter(|downgrade| *downgrade == Downgrade::Allowed),
        start_at_end: start_at_end.clone(),
        ..InstallRules::default()
    };
    for rule in lost.rules() {
        let why = match rule.name {
            "scope" => "each user installs it; an administrator can provide it for everyone",
            "downgrade" => "the system replaces a newer version only if an administrator forces it",
            _ => "the system installs it without a wizard of ours",
        };
        losses.push(left_out(rule, why));
    }
    let of_macos = InstallRules { minimum_macos: *minimum_macos, ..InstallRules::default() };
    lose(losses, &of_macos.rules(), "it is a rule for macOS");
    for path in keep_changed {
        let why = "nobody can change files of a package: the program has to keep what users change elsewhere".into();
        losses.push(Loss { what: format!("{path} isn't kept when a user has changed it"), why });
    }
    let patch = Some(stated.unwrap_or(oldest).max(oldest));
    let minimum_windows = Some(SystemVersion { major: 10, minor: Some(0), patch });
    InstallRules { minimum_windows, ..InstallRules::default() }
}
