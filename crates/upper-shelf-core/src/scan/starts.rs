//! Programs that run on something else: which runtime they need, whether one lies in the folder, and how they are started.

use super::Candidate;
use crate::platform::Platform;
use crate::recognise::{FileKind, recognise};
use crate::runtimes::RuntimeKind;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

/// A list in an archive, or a package's description, is no longer than this, bytes.
const LONGEST: u64 = 1 << 20;

/// A program that runs on a runtime.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OnRuntime {
    /// What it runs on.
    pub kind: RuntimeKind,
    /// The runtime's folder, if there is one in the folder that was looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// The platform of that runtime.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub platform: Option<Platform>,
    /// What is started: `jar`, `script` or `zip-app`.
    pub key: &'static str,
    /// Its path.
    pub path: String,
}

/// Files by their names in the folder.
type Files<'f> = BTreeMap<&'f str, &'f Path>;

/// Whether a path is one in a folder.
pub fn is_in(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

/// The runtimes in a folder, each with the platform of its program.
fn runtimes(files: &Files) -> Vec<(RuntimeKind, String, Option<Platform>)> {
    let mut all = Vec::new();
    for name in files.keys() {
        let (folder, last) = name.rsplit_once('/').unwrap_or(("", name));
        let above = folder.strip_suffix("bin").filter(|above| above.is_empty() || above.ends_with('/'));
        let has = |path: String| files.contains_key(path.as_str());
        let library = |folder: &str| {
            files.keys().any(|other| {
                let rest = other.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
                rest.is_some_and(|rest| rest == "Lib/os.py" || rest.starts_with("python3") && rest.ends_with(".zip"))
            })
        };
        let found = match (above, last) {
            (Some(above), "java" | "java.exe") if has(format!("{above}lib/modules")) => {
                Some((RuntimeKind::Java, above))
            }
            (Some(above), _) if last.starts_with("python3.") && has(format!("{above}lib/{last}/os.py")) => {
                Some((RuntimeKind::Python, above))
            }
            (Some(above), "node") => Some((RuntimeKind::Node, above)),
            (None, "python.exe") if library(folder) => Some((RuntimeKind::Python, folder)),
            (None, "node.exe") => Some((RuntimeKind::Node, folder)),
            _ => None,
        };
        let Some((kind, folder)) = found else { continue };
        let folder = folder.trim_end_matches('/');
        // What lies among the program's own files can't be told from these.
        if !folder.is_empty() {
            let platform = match recognise(files[name]) {
                Some(
                    FileKind::ElfProgram(platform)
                    | FileKind::PeProgram(platform, _)
                    | FileKind::MachOProgram(platform),
                ) => Some(platform),
                _ => None,
            };
            all.push((kind, folder.to_owned(), platform));
        }
    }
    all
}

/// Whether an archive of Java says what is started in it.
fn has_main(path: &Path) -> bool {
    let list = || -> Option<String> {
        let mut archive = zip::ZipArchive::new(std::fs::File::open(path).ok()?).ok()?;
        let mut list = String::new();
        archive.by_name("META-INF/MANIFEST.MF").ok()?.take(LONGEST).read_to_string(&mut list).ok()?;
        Some(list)
    };
    list().is_some_and(|list| list.lines().any(|line| line.starts_with("Main-Class:")))
}

/// What a package of Node starts.
fn main_of(path: &Path) -> Option<String> {
    let mut text = String::new();
    std::fs::File::open(path).ok()?.take(LONGEST).read_to_string(&mut text).ok()?;
    let package: serde_json::Value = serde_json::from_str(&text).ok()?;
    let main = package.get("main").and_then(|main| main.as_str()).unwrap_or("index.js");
    Some(main.trim_start_matches("./").to_owned())
}

/// The program, unless there is one that starts by itself. `programs` are those that were recognised, the likeliest first.
pub fn find(files: &Files, programs: &[Candidate], base: &str) -> Option<OnRuntime> {
    let runtimes = runtimes(files);
    let is_own = |path: &str| !runtimes.iter().any(|(_, folder, _)| is_in(path, folder));
    let starts_alone =
        |kind| matches!(kind, FileKind::ElfProgram(_) | FileKind::PeProgram(..) | FileKind::MachOProgram(_));
    if programs.iter().any(|one| starts_alone(one.kind) && is_own(&one.path)) {
        return None;
    }
    let made = |kind: RuntimeKind, key, path: &str| {
        let runtime = runtimes.iter().find(|(other, ..)| *other == kind);
        let folder = runtime.map(|(_, folder, _)| folder.clone());
        Some(OnRuntime {
            kind,
            folder,
            platform: runtime.and_then(|(.., platform)| *platform),
            key,
            path: path.to_owned(),
        })
    };
    let mut jars = programs.iter().filter(|one| one.kind == FileKind::Jar && is_own(&one.path));
    if let Some(jar) = jars.find(|one| files.get(one.path.as_str()).is_some_and(|path| has_main(path))) {
        return made(RuntimeKind::Java, "jar", &jar.path);
    }
    let shallow = || files.keys().filter(|name| name.matches('/').count() < 2 && is_own(name));
    for package in shallow() {
        let Some(folder) =
            package.strip_suffix("package.json").filter(|folder| folder.is_empty() || folder.ends_with('/'))
        else {
            continue;
        };
        let main = main_of(files[package]).map(|main| format!("{folder}{main}"));
        if let Some(main) = main.filter(|main| files.contains_key(main.as_str())) {
            return made(RuntimeKind::Node, "script", &main);
        }
    }
    if let Some(archive) = shallow().find(|name| name.ends_with(".pyz")) {
        return made(RuntimeKind::Python, "zip-app", archive);
    }
    let names =
        [&*base.to_lowercase().replace('-', "_"), "main", "app", "run", "__main__"].map(|name| format!("{name}.py"));
    let place = |name: &str| {
        let last = name.rsplit('/').next().unwrap_or(name);
        names.iter().position(|other| last.eq_ignore_ascii_case(other)).unwrap_or(names.len())
    };
    let all: Vec<&&str> = shallow().filter(|name| name.ends_with(".py")).collect();
    let best = all.iter().min_by_key(|name| (place(name), name.matches('/').count()))?;
    // Of several without such a name nobody knows which one.
    (all.len() == 1 || place(best) < names.len()).then(|| made(RuntimeKind::Python, "script", best))?
}

impl OnRuntime {
    /// The tables of a manifest; as a remark where it isn't known where the runtime is.
    pub fn tables(&self, from: &str) -> String {
        let kind = self.kind.name();
        let path = |path: &str| super::quoted(&if from == "." { path.to_owned() } else { format!("{from}/{path}") });
        let (line, runtime) = match &self.folder {
            Some(folder) => ("", format!("{}   # `upper-shelf runtimes` shows what comes along of it", path(folder))),
            None => ("# ", "\"the runtime's folder\"".to_owned()),
        };
        let lines = [
            "[[runtime]]".to_owned(),
            format!("key = {kind:?}"),
            format!("kind = {kind:?}"),
            format!("from = {runtime}"),
            String::new(),
            "[[program]]".to_owned(),
            "key = \"app\"".to_owned(),
            format!("runtime = {kind:?}"),
            format!("start = {{ {} = {} }}", self.key, super::quoted(&self.path)),
        ];
        let lines: String = lines.iter().map(|text| format!("{line}{text}").trim_end().to_owned() + "\n").collect();
        match self.folder {
            Some(_) => format!("\n{lines}\n[[shortcut]]\nprogram = \"app\"\nplaces = [\"menu\"]\n"),
            None => {
                let title = self.kind.title();
                format!(
                    "\n# {} runs on {title}. With a runtime, which a [[source]] may bring, it can be started:\n{lines}",
                    self.path
                )
            }
        }
    }
}
