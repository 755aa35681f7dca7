//! Programs on Node: the interpreter, and of the product's packages those that it needs when it runs.

mod lock;

use super::{Amount, Keep, Module, Runtime, Trimmed, Wanted, natives, retain};
use crate::footprint::RelPath;
use crate::payload::{Payload, PayloadFile, patterns};
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem};
use globset::GlobSet;
use lock::Lock;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

const RULES: &str = include_str!("rules.txt");
/// A lock file is no longer than this, bytes.
const LONGEST: u64 = 64 << 20;
/// So many packages of one kind are named.
const MOST_NAMED: usize = 3;

/// Patterns of one kind of rule.
fn rules(kind: &str) -> GlobSet {
    let lines = RULES.lines().filter(|line| !line.starts_with('#'));
    let all: Vec<String> =
        lines.filter_map(|line| line.strip_prefix(kind)).map(|rest| rest.trim().to_owned()).collect();
    patterns(&all).expect("patterns of ours")
}

static OF_RUNTIME: LazyLock<GlobSet> = LazyLock::new(|| rules("runtime "));
static OF_PACKAGES: LazyLock<GlobSet> = LazyLock::new(|| rules("package "));

/// What Node calls a platform: its system and its processor.
fn names_of(platform: Platform) -> (&'static str, &'static str) {
    let os = match platform.system() {
        System::Windows => "win32",
        System::Macos => "darwin",
        System::Linux => "linux",
    };
    let cpu = match platform {
        Platform::WindowsX86 => "ia32",
        Platform::WindowsArm64 | Platform::MacosArm64 | Platform::LinuxArm64 => "arm64",
        // Packages for either processor of a Mac are of use.
        Platform::WindowsX64 | Platform::MacosX64 | Platform::LinuxX64 | Platform::MacosUniversal => "x64",
    };
    (os, cpu)
}

/// A folder of the product with a lock file, and what becomes of its packages.
struct Project {
    /// With a slash behind it; nothing for the payload's own folder.
    folder: String,
    lock: Lock,
    /// Folders of packages that stay out, from the project's own, and why.
    out: BTreeMap<String, String>,
}

impl Project {
    /// Whether a path of the payload is a folder of packages, or something in one.
    fn is_of_packages(&self, path: &str) -> bool {
        path.strip_prefix(&*self.folder).is_some_and(|rest| rest.split('/').any(|part| part == "node_modules"))
    }

    /// The package that a file of the payload belongs to, and the rest of its path.
    fn place<'p>(&self, path: &'p str) -> Option<(&'p str, &'p str)> {
        let rest = path.strip_prefix(&*self.folder)?;
        let package = self.lock.package_of(rest).filter(|package| package.contains("node_modules/"))?;
        Some((package, rest[package.len()..].trim_start_matches('/')))
    }
}

/// Leaves out what a program on Node doesn't need, and says what is wrong or noteworthy.
pub fn trim(runtime: &Runtime, payload: &mut Payload, trimmed: &mut Trimmed) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut projects = projects(runtime, payload, &mut problems);
    let Wanted { drop, problems: wrong, .. } = wanted(runtime, &mut projects);
    problems.extend(wrong);
    let keep = match &runtime.keep {
        Keep::These(these) => match patterns(these) {
            Ok(set) => Some(set),
            Err(why) => {
                problems.push(runtime.problem(why, "keep"));
                None
            }
        },
        Keep::All | Keep::Used => None,
    };
    if problems.iter().any(Problem::is_error) {
        return problems;
    }
    let keeps_all = runtime.keep == Keep::All;
    let programs = runtime.started(payload);
    runtime.retain(payload, |path| {
        let is_kept = keeps_all || keep.as_ref().map_or(!OF_RUNTIME.is_match(path), |keep| keep.is_match(path));
        programs.contains(path) || is_kept && drop.as_ref().is_none_or(|drop| !drop.is_match(path))
    });
    for project in &projects {
        let before = packages(project, payload);
        let (wrong, left) = add_ons(runtime, project, payload);
        problems.extend(wrong);
        let stays = |path: &RelPath| {
            let Some((package, rest)) = project.place(path.as_str()) else { return true };
            !project.out.contains_key(package)
                && !left.contains(path)
                && (keeps_all || !OF_PACKAGES.is_match(rest))
                && drop.as_ref().is_none_or(|drop| !drop.is_match(path.as_str()))
        };
        retain(payload, |path| project.is_of_packages(path.as_str()), |path| stays(path));
        let after = packages(project, payload);
        for (folder, amount) in &before {
            let (bytes, files) = (amount.bytes, amount.files);
            trimmed.before = Amount { bytes: trimmed.before.bytes + bytes, files: trimmed.before.files + files };
            let kept = after.get(folder);
            if let Some(kept) = kept {
                trimmed.after =
                    Amount { bytes: trimmed.after.bytes + kept.bytes, files: trimmed.after.files + kept.files };
            }
            let package = &project.lock.packages[*folder];
            let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            let because =
                || project.lock.reasons.get(*folder).cloned().unwrap_or_else(|| "the lock file has it".into());
            let why = kept.map(|_| because());
            let name = folder.strip_prefix("node_modules/").unwrap_or(folder).replace("/node_modules/", " › ");
            trimmed.modules.push(Module { name: format!("{name}{version}"), bytes, why });
        }
        problems.extend(missing(runtime, project, &before));
    }
    trimmed.modules.sort_by(|a, b| a.name.cmp(&b.name));
    problems
}

/// The folders of the product that have a lock file.
fn projects(runtime: &Runtime, payload: &Payload, problems: &mut Vec<Problem>) -> Vec<Project> {
    let mut all = Vec::new();
    let (mut with_packages, mut with_lock) = (BTreeSet::new(), BTreeSet::new());
    for file in payload.files.iter().filter(|file| runtime.inside(&file.path).is_none()) {
        let path = file.path.as_str();
        if let Some((folder, _)) = path.split_once("node_modules/") {
            with_packages.insert(folder.to_owned());
        }
        let Some(folder) =
            path.strip_suffix("package-lock.json").filter(|folder| folder.is_empty() || folder.ends_with('/'))
        else {
            continue;
        };
        if folder.contains("node_modules/") {
            continue;
        }
        with_lock.insert(folder.to_owned());
        let read = match file.size <= LONGEST {
            true => file.bytes().map_err(|e| e.to_string()).and_then(|bytes| Lock::read(&bytes)),
            false => Err("it is too long".into()),
        };
        match read {
            Ok(lock) => all.push(Project { folder: folder.to_owned(), lock, out: BTreeMap::new() }),
            Err(why) => problems.push(
                runtime
                    .problem(format!("{path} is no lock file"), "key")
                    .why(why)
                    .instead("the file that the package manager wrote"),
            ),
        }
    }
    if runtime.keep != Keep::All {
        for folder in with_packages.difference(&with_lock) {
            let what = format!("which packages in {folder}node_modules the product needs is not known");
            problems.push(
                Problem::warning(Code::RuntimePart, what)
                    .about_setting(format!("{}.key", runtime.setting))
                    .why("no package-lock.json lies beside it")
                    .instead("the lock file in the same layer; or keep = \"all\""),
            );
        }
    }
    let (os, cpu) = names_of(runtime.platform);
    for project in &mut all {
        let useless = project.lock.packages.iter().filter(|(folder, package)| !folder.is_empty() && !package.link);
        // On a Mac for both processors, those for either stay.
        let either = runtime.platform == Platform::MacosUniversal;
        project.out = useless
            .filter_map(|(folder, package)| {
                let why = package.useless(os, cpu)?;
                let is_out = !either || package.useless(os, "arm64").is_some();
                (is_out && runtime.keep != Keep::All).then(|| (folder.clone(), why))
            })
            .collect();
    }
    all
}

/// What the manifest wants of the packages: each name is every package that is called so.
fn wanted(runtime: &Runtime, projects: &mut [Project]) -> Wanted {
    fn name_of(folder: &str) -> &str {
        folder.rsplit("node_modules/").next().unwrap_or(folder)
    }
    let folders = projects.iter().flat_map(|project| project.lock.packages.keys());
    let names: BTreeSet<String> =
        folders.map(|folder| name_of(folder).to_owned()).filter(|name| !name.is_empty()).collect();
    let meant = |name: &str| names.contains(name).then(|| vec![name.to_owned()]);
    let wanted = Wanted::new(runtime, "no lock file has a package", names.iter().map(String::as_str), meant);
    for project in projects {
        project.out.retain(|folder, _| !wanted.roots.contains_key(name_of(folder)));
        let left = project.lock.packages.keys().filter(|folder| wanted.without.contains(name_of(folder)));
        project.out.extend(left.map(|folder| (folder.clone(), "the manifest leaves it out".to_owned())));
    }
    wanted
}

/// How much each package of a project has.
fn packages<'p>(project: &'p Project, payload: &Payload) -> BTreeMap<&'p str, Amount> {
    let mut all: BTreeMap<&str, Amount> = BTreeMap::new();
    for file in &payload.files {
        let Some((package, _)) = project.place(file.path.as_str()) else { continue };
        let Some((folder, _)) = project.lock.packages.get_key_value(package) else { continue };
        let amount = all.entry(folder).or_default();
        (amount.bytes, amount.files) = (amount.bytes + file.size, amount.files + 1);
    }
    all
}

/// Native add-ons of other platforms: those that lie beside the right one stay out, and one without it is an error.
fn add_ons(runtime: &Runtime, project: &Project, payload: &Payload) -> (Vec<Problem>, BTreeSet<RelPath>) {
    let mut by_package: BTreeMap<&str, Vec<(&PayloadFile, Platform)>> = BTreeMap::new();
    for file in payload.files.iter().filter(|file| file.path.name().ends_with(".node")) {
        let Some((package, _)) = project.place(file.path.as_str()) else { continue };
        if project.out.contains_key(package) {
            continue;
        }
        if let Some(platform) = natives::platform(file) {
            by_package.entry(package).or_default().push((file, platform));
        }
    }
    let (mut problems, mut left) = (Vec::new(), BTreeSet::new());
    for (package, all) in by_package {
        let fits = |platform: Platform| {
            platform == runtime.platform
                || runtime.platform == Platform::MacosUniversal && platform.system() == System::Macos
                || platform == Platform::MacosUniversal && runtime.platform.system() == System::Macos
        };
        let (right, wrong): (Vec<_>, Vec<_>) = all.into_iter().partition(|(_, platform)| fits(*platform));
        if let Some((file, platform)) = wrong.first().filter(|_| right.is_empty()) {
            let what =
                format!("{} is for {platform}, and the runtime {:?} for {}", file.path, runtime.key, runtime.platform);
            let name = package.rsplit("node_modules/").next().unwrap_or(package);
            problems.push(
                Problem::error(Code::WrongProgram, what)
                    .about_setting(format!("{}.key", runtime.setting))
                    .why(format!("the package {name} was installed on another system"))
                    .instead("the packages as installed for this platform: a layer with `platforms`"),
            );
        } else if runtime.keep != Keep::All {
            left.extend(wrong.into_iter().map(|(file, _)| file.path.clone()));
        }
    }
    (problems, left)
}

/// Packages that are needed and not there.
fn missing(runtime: &Runtime, project: &Project, there: &BTreeMap<&str, Amount>) -> Option<Problem> {
    let is_missing = |folder: &&String| {
        let package = &project.lock.packages[*folder];
        folder.contains("node_modules/")
            && !package.link
            && !package.optional
            && !project.out.contains_key(*folder)
            && project.lock.reasons.contains_key(*folder)
            && !there.contains_key(folder.as_str())
    };
    let all: Vec<&String> = project.lock.packages.keys().filter(is_missing).collect();
    if all.is_empty() || there.is_empty() && runtime.keep == Keep::All {
        return None;
    }
    let named: Vec<&str> = all.iter().take(MOST_NAMED).map(|name| name.as_str()).collect();
    let more = all.len().saturating_sub(MOST_NAMED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let what = format!("the payload has no {}{more}", named.join(", "));
    let problem = Problem::warning(Code::RuntimePart, what).about_setting(format!("{}.key", runtime.setting));
    Some(
        problem
            .why(format!("{}package-lock.json needs it", project.folder))
            .instead("the packages, installed beside the lock file"),
    )
}
