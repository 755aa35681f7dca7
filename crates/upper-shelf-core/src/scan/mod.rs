//! Looks through a folder of built files and proposes a manifest: what is in it is recognised by content, not by name.

mod starts;
mod told;

use crate::footprint::file_name_of;
use crate::libraries::unmet;
use crate::platform::{Platform, System};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::recognise::{FileKind, recognise};
use serde::Serialize;
pub use starts::OnRuntime;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
pub use told::{Fact, Told};

/// What was found in a folder.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Scan {
    /// The folder.
    pub folder: PathBuf,
    /// How many files there are.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How many there are of each kind of program file.
    pub kinds: BTreeMap<&'static str, u64>,
    /// Whether a bundled web browser's runtime is in it.
    pub web_runtime: bool,
    /// The likely programs by platform, best first.
    pub programs: Vec<Candidate>,
    /// The likely program, where it runs on something else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub on_runtime: Option<OnRuntime>,
    /// Libraries that programs for Linux need and that are neither in the folder nor on every machine, each with a file that needs it.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub libraries: BTreeMap<String, String>,
    /// The likely icon.
    pub icon: Option<String>,
    /// The likely version.
    pub version: Option<Found>,
    /// What the files say of the product themselves.
    pub told: Told,
    /// Platforms that have a folder of their own, by its name, in which the paths of programs begin.
    pub platforms: Vec<Platform>,
    /// The likely name.
    pub name: String,
}

/// Something that was found in the files.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Found {
    /// What.
    pub value: String,
    /// Where.
    pub place: String,
}

/// A file that may be the main program.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Candidate {
    /// Relative to the folder.
    pub path: String,
    /// What it is.
    pub kind: FileKind,
    /// Higher is likelier.
    pub score: i64,
}

/// Looks through a folder.
///
/// # Errors
/// The folder can't be read, or there is nothing in it.
pub fn scan(folder: &Path) -> Result<Scan, Failure> {
    let meta = fs::metadata(folder).map_err(|e| Failure::io("can't scan", folder, e))?;
    if !meta.is_dir() {
        let problem = Problem::error(Code::MissingFile, format!("{} is not a folder", folder.display())).on(folder);
        return Err(Failure::new(Kind::Problems, problem.instead("the folder with the built files")));
    }
    let whole = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let folder_name = whole.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let mut files = Vec::new();
    let mut stack = vec![(folder.to_owned(), String::new())];
    while let Some((dir, prefix)) = stack.pop() {
        let entries = fs::read_dir(&dir).map_err(|e| Failure::io("can't scan", &dir, e))?;
        for entry in entries.flatten() {
            let Some(name) = entry.file_name().to_str().map(|n| format!("{prefix}{n}")) else { continue };
            match entry.metadata() {
                Ok(meta) if meta.is_dir() => stack.push((entry.path(), format!("{name}/"))),
                Ok(meta) if meta.is_file() => files.push((name, entry.path(), meta)),
                _ => {}
            }
        }
    }
    files.sort_by(|a, b| a.0.cmp(&b.0));
    if files.is_empty() {
        let problem = Problem::error(Code::NoFiles, format!("there is no file in {}", folder.display())).on(folder);
        return Err(Failure::new(Kind::Problems, problem.instead("build the program first")));
    }
    let (base, in_name) = split_version(&folder_name);
    let mut scan = Scan {
        folder: folder.to_owned(),
        files: files.len() as u64,
        bytes: files.iter().map(|f| f.2.len()).sum(),
        kinds: BTreeMap::new(),
        web_runtime: false,
        programs: Vec::new(),
        on_runtime: None,
        libraries: BTreeMap::new(),
        icon: None,
        version: in_name.map(|value| Found { value, place: "the folder's name".to_owned() }),
        told: Told::default(),
        platforms: platform_folders(folder, &files),
        name: String::new(),
    };
    let mut pictures = Vec::new();
    for (name, path, meta) in &files {
        let last = name.rsplit('/').next().unwrap_or(name);
        if matches!(last, "icudtl.dat" | "v8_context_snapshot.bin" | "resources.pak" | "chrome_100_percent.pak") {
            scan.web_runtime = true;
        }
        if let Some(score) = picture_score(name, path, &base) {
            pictures.push((score, name.clone()));
        }
        let Some(kind) = recognise(path) else { continue };
        let label = match kind {
            FileKind::ElfProgram(_) => "Linux program",
            FileKind::ElfLibrary => "Linux library",
            FileKind::PeProgram(..) => "Windows program",
            FileKind::PeLibrary => "Windows library",
            FileKind::MachOProgram(_) => "macOS program",
            FileKind::MachOLibrary => "macOS library",
            FileKind::Jar => "Java archive",
            FileKind::Script => "script",
        };
        *scan.kinds.entry(label).or_default() += 1;
        if let Some(score) = program_score(name, kind, meta, &base) {
            scan.programs.push(Candidate { path: name.clone(), kind, score });
        }
    }
    scan.programs.sort_by(|a, b| b.score.cmp(&a.score).then(a.path.cmp(&b.path)));
    if !scan.web_runtime && scan.platforms.is_empty() {
        let by_name = files.iter().map(|(name, path, _)| (name.as_str(), path.as_path())).collect();
        let found = starts::find(&by_name, &scan.programs, &base);
        // A script that starts itself needs no runtime that isn't there.
        let has_script = scan.programs.iter().any(|one| one.kind == FileKind::Script && one.score > 0);
        scan.on_runtime = found.filter(|one| one.folder.is_some() || !has_script);
    }
    if let Some(folder) = scan.on_runtime.as_ref().and_then(|one| one.folder.clone()) {
        scan.programs.retain(|one| !starts::is_in(&one.path, &folder));
    }
    let named: Vec<(&str, &Path)> = files.iter().map(|(name, path, _)| (name.as_str(), path.as_path())).collect();
    scan.libraries = unmet::unmet(&named);
    let windows = scan.programs.iter().find(|c| matches!(c.kind, FileKind::PeProgram(..)));
    let windows = windows.and_then(|c| named.iter().find(|(name, _)| *name == c.path).copied());
    scan.told = told::read(&named, windows);
    if let Some((version, place)) = scan.told.get(Fact::Version) {
        scan.version.get_or_insert(Found { value: version.to_owned(), place: place.to_owned() });
    }
    scan.icon = pictures.into_iter().max_by(|a, b| a.0.cmp(&b.0).then(b.1.cmp(&a.1))).map(|(_, name)| name);
    let generic = [
        "built",
        "build",
        "dist",
        "out",
        "bin",
        "release",
        "target",
        "app",
        "linux-x64",
        "linux-arm64",
        "files",
        "publish",
        "output",
    ];
    let named = if base.is_empty() || generic.contains(&base.to_lowercase().as_str()) {
        let first = scan.programs.first().map(|c| c.path.rsplit('/').next().unwrap_or(&c.path).to_owned());
        first.map_or("My Program".to_owned(), |n| n.split('.').next().unwrap_or(&n).to_owned())
    } else {
        base
    };
    scan.name = match scan.told.get(Fact::Name) {
        Some((name, _)) if name.contains(' ') || name.contains(char::is_uppercase) => name.to_owned(),
        Some((name, _)) => title(name),
        None => title(&named),
    };
    Ok(scan)
}

/// The platforms whose names all folders at the top have; nothing if there is anything else.
fn platform_folders(folder: &Path, files: &[(String, PathBuf, fs::Metadata)]) -> Vec<Platform> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let names: Vec<String> = entries.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    let all: Option<Vec<Platform>> = names.iter().map(|n| n.parse().ok()).collect();
    let mut all = all.unwrap_or_default();
    all.retain(|p| files.iter().any(|f| f.0.starts_with(&format!("{p}/"))));
    all.sort_unstable();
    all
}

/// `combwright-2.4.0` → `combwright`, `2.4.0`.
fn split_version(name: &str) -> (String, Option<String>) {
    let start = name.match_indices(['-', '_', ' ']).find(|(at, _)| {
        let rest = name[at + 1..].trim_start_matches('v');
        rest.starts_with(|c: char| c.is_ascii_digit()) && rest.contains('.')
    });
    match start {
        Some((at, _)) => {
            let version: String = name[at + 1..]
                .trim_start_matches('v')
                .chars()
                .take_while(|c| c.is_ascii_digit() || *c == '.')
                .collect();
            (name[..at].to_owned(), Some(version.trim_end_matches('.').to_owned()))
        }
        None => (name.to_owned(), None),
    }
}

fn program_score(name: &str, kind: FileKind, meta: &fs::Metadata, base: &str) -> Option<i64> {
    let last = name.rsplit('/').next().unwrap_or(name);
    let stem = last.split('.').next().unwrap_or(last).to_lowercase();
    let name = match name.split_once('/') {
        Some((top, rest)) if top.parse::<Platform>().is_ok() => rest,
        _ => name,
    };
    let depth = name.matches('/').count() as i64;
    let mut score = match kind {
        FileKind::ElfProgram(_) | FileKind::PeProgram(..) | FileKind::MachOProgram(_) => 100,
        FileKind::Jar => 40,
        FileKind::Script => 20,
        FileKind::ElfLibrary | FileKind::PeLibrary | FileKind::MachOLibrary => return None,
    };
    #[cfg(unix)]
    if matches!(kind, FileKind::Script | FileKind::ElfProgram(_))
        && std::os::unix::fs::PermissionsExt::mode(&meta.permissions()) & 0o111 == 0
    {
        score -= 60;
    }
    // Libraries that can also be started are seldom what people start.
    if last.contains(".so") {
        score -= 80;
    }
    let base = base.to_lowercase();
    if !base.is_empty() && stem == base {
        score += 80;
    } else if !base.is_empty() && (stem.contains(&base) || base.contains(&stem)) {
        score += 30;
    }
    for helper in
        ["helper", "crash", "sandbox", "uninst", "updat", "setup", "test", "debug", "install", "daemon", "server"]
    {
        if stem.contains(helper) {
            score -= 50;
        }
    }
    if name.starts_with("bin/") || name.starts_with("usr/bin/") {
        score += 15;
    }
    score -= depth * 12;
    // Of two otherwise equal ones the bigger one.
    score += (meta.len().max(1).ilog2() / 4) as i64;
    Some(score)
}

fn picture_score(name: &str, path: &Path, base: &str) -> Option<i64> {
    let lower = name.to_lowercase();
    let last = lower.rsplit('/').next().unwrap_or(&lower);
    let mut score = if last.ends_with(".svg") {
        30
    } else if last.ends_with(".png") {
        let (w, h) = image::ImageReader::open(path).ok()?.into_dimensions().ok()?;
        if w != h || w < 48 {
            return None;
        }
        (w.min(1024) / 40) as i64
    } else {
        return None;
    };
    let base = base.to_lowercase();
    if !base.is_empty() && last.contains(&base) {
        score += 40;
    }
    if last.contains("icon") || last.contains("logo") || lower.contains("/apps/") {
        score += 30;
    }
    Some(score - lower.matches('/').count() as i64 * 3)
}

fn title(name: &str) -> String {
    let words = name.split(['-', '_']).filter(|w| !w.is_empty()).map(|w| {
        let mut letters = w.chars();
        letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
    });
    words.collect::<Vec<String>>().join(" ")
}

impl Scan {
    /// A short manifest that builds as it is. `from` is the folder as the manifest names it; `ignore` are files beside
    /// the manifest that are not the program's.
    pub fn manifest(&self, from: &str, ignore: &[&str]) -> String {
        let mut out = String::from(
            "# Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.\n\n[product]\n",
        );
        self.product(from, &mut out);
        let from = match (self.platforms.is_empty(), from) {
            (true, from) => from.to_owned(),
            (false, ".") => "{platform}".to_owned(),
            (false, from) => format!("{from}/{{platform}}"),
        };
        let _ = writeln!(out, "\n[[layer]]\nfrom = {}   # files that later builds add are included", quoted(&from));
        let runtime = self.on_runtime.as_ref().and_then(|one| one.folder.as_ref());
        let runtime = runtime.map(|folder| format!("{folder}/**"));
        let ignored: Vec<String> = ignore.iter().copied().chain(runtime.as_deref()).map(quoted).collect();
        if !ignored.is_empty() {
            let list = ignored.join(", ");
            let _ = writeln!(out, "drop = [{list}]   # not part of the program");
        }
        let programs = self.by_platform();
        match &self.on_runtime {
            Some(one) => out.push_str(&one.tables(&from)),
            None => self.program(&programs, &mut out),
        }
        self.libraries(&programs, &mut out);
        out.push_str("\n[targets]\n");
        let runtime = self.on_runtime.as_ref().and_then(|one| one.platform);
        let platforms: Vec<Platform> = programs.iter().map(|(platform, _)| *platform).chain(runtime).collect();
        if !platforms.is_empty() {
            let names: Vec<String> = platforms.iter().map(|platform| quoted(platform.name())).collect();
            let _ = writeln!(out, "platforms = [{}]   # what the program was built for", names.join(", "));
        }
        let _ = writeln!(out, "build = [{}]", self.formats(&platforms).join(", "));
        out
    }

    /// Where the libraries come from that are not in the folder.
    fn libraries(&self, programs: &[(Platform, &Candidate)], out: &mut String) {
        let linux: Vec<Platform> =
            programs.iter().map(|(platform, _)| *platform).filter(|one| one.system() == System::Linux).collect();
        let Some((library, by)) = self.libraries.first_key_value().filter(|_| !linux.is_empty()) else { return };
        let more = match self.libraries.len() - 1 {
            0 => String::new(),
            1 => " and one more library".to_owned(),
            n => format!(" and {n} more libraries"),
        };
        let _ = writeln!(
            out,
            "\n# {by} needs {library}{more}: not every machine has {}.",
            if more.is_empty() { "it" } else { "them" }
        );
        // A table that this machine can't fill would be an error.
        let mark = if linux.iter().all(|one| unmet::are_here(self.libraries.keys(), *one)) { "" } else { "# " };
        let _ = writeln!(
            out,
            "{mark}[[libraries]]\n{mark}from = [\"/\"]   # this machine's own; or the root of a system for which the program was built"
        );
        if programs.len() > linux.len() {
            let _ = writeln!(out, "{mark}platforms = [\"linux\"]");
        }
    }

    /// Who it is: as the files say, else with a hint.
    fn product(&self, from: &str, out: &mut String) {
        let slug = file_name_of(&self.name).to_lowercase();
        let slug: String = slug.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect();
        let slug = slug.trim_matches('-');
        let slug = if slug.is_empty() { "program" } else { slug };
        let (version, found) = match &self.version {
            Some(Found { value, place }) => (value.clone(), format!("found in {place}")),
            None => ("1.0.0".to_owned(), "not found anywhere: set the right one".to_owned()),
        };
        let mut line = |key: &str, value: &str, place: &str| {
            let _ = writeln!(out, "{key} = {}   # {place}", quoted(value));
        };
        match self.told.get(Fact::Id) {
            Some((id, place)) => {
                line("id", id, &format!("found in {place}; it can't be changed after the first release"))
            }
            None => line(
                "id",
                &format!("com.example.{slug}"),
                "the reverse of a domain that you own, and a name; it can't be changed after the first release",
            ),
        }
        let _ = writeln!(out, "name = {}", quoted(&self.name));
        let _ = writeln!(out, "version = {}   # {found}", quoted(&version));
        match self.told.get(Fact::Publisher) {
            Some((publisher, place)) => {
                let _ = writeln!(out, "publisher = {}   # found in {place}", quoted(publisher));
            }
            None => {
                let _ =
                    writeln!(out, "publisher = {}   # the maker's name, as users see it", quoted("Unknown publisher"));
            }
        }
        for (key, fact) in [("summary", Fact::Summary), ("homepage", Fact::Homepage), ("license", Fact::License)] {
            if let Some((text, _)) = self.told.get(fact) {
                let _ = writeln!(out, "{key} = {}", quoted(text));
            }
        }
        if let Some((all, _)) = self.told.get(Fact::Categories) {
            let all: Vec<String> = all.split(';').map(str::trim).filter(|c| !c.is_empty()).map(quoted).collect();
            let _ = writeln!(out, "categories = [{}]", all.join(", "));
        }
        match &self.icon {
            Some(icon) => {
                let path = if from == "." { icon.clone() } else { format!("{from}/{icon}") };
                let _ = writeln!(out, "icon = {}   # one picture; every size is made from it", quoted(&path));
            }
            None => out.push_str("# icon = \"art/icon.svg\"   # one SVG or square PNG; every size is made from it\n"),
        }
    }

    /// The likeliest program of each platform: its path below the layer.
    fn by_platform(&self) -> Vec<(Platform, &Candidate)> {
        let of = |c: &Candidate| match c.kind {
            FileKind::ElfProgram(p) | FileKind::PeProgram(p, _) | FileKind::MachOProgram(p) => Some(p),
            _ => None,
        };
        if self.platforms.is_empty() {
            return self.programs.first().and_then(|c| of(c).map(|p| (p, c))).into_iter().collect();
        }
        let best = |platform: Platform| {
            let inside = format!("{platform}/");
            self.programs.iter().find(|c| c.path.starts_with(&inside)).map(|c| (platform, c))
        };
        self.platforms.iter().filter_map(|p| best(*p)).collect()
    }

    fn program(&self, by_platform: &[(Platform, &Candidate)], out: &mut String) {
        let below = |c: &Candidate| match self.platforms.is_empty() {
            true => c.path.clone(),
            false => c.path.split_once('/').map_or(c.path.clone(), |(_, rest)| rest.to_owned()),
        };
        let Some(main) = by_platform.first().map(|(_, c)| *c).or(self.programs.first()) else { return };
        if main.kind == FileKind::Jar {
            let _ = writeln!(out, "\n# {} is a Java archive that doesn't say which class is started.", main.path);
            return;
        }
        out.push_str("\n[[program]]\nkey = \"app\"\n");
        let mut files: Vec<(Platform, String)> = by_platform.iter().map(|(p, c)| (*p, below(c))).collect();
        files.dedup_by(|a, b| a.1 == b.1 && a.0.system() == b.0.system());
        match &files[..] {
            [] => drop(writeln!(out, "file = {}", quoted(&main.path))),
            [(_, one)] => drop(writeln!(out, "file = {}", quoted(one))),
            several => {
                let systems = several.iter().map(|(p, _)| p.system()).collect::<std::collections::BTreeSet<_>>();
                let name = |p: Platform| if systems.len() == several.len() { p.system().name() } else { p.name() };
                let each: Vec<String> = several.iter().map(|(p, f)| format!("{} = {}", name(*p), quoted(f))).collect();
                let _ = writeln!(out, "file = {{ {} }}", each.join(", "));
            }
        }
        if matches!(main.kind, FileKind::PeProgram(_, true)) && by_platform.len() < 2 {
            out.push_str("console = true\n");
        }
        let others: Vec<&str> = self
            .programs
            .iter()
            .filter(|c| self.platforms.is_empty() && c.path != main.path && c.score > main.score - 60)
            .take(4)
            .map(|c| c.path.as_str())
            .collect();
        if !others.is_empty() {
            let _ = writeln!(out, "# Other candidates: {}", others.join(", "));
        }
        out.push_str("\n[[shortcut]]\nprogram = \"app\"\nplaces = [\"menu\"]\n");
    }

    /// The formats that people on these systems expect, of those that can hold the version.
    fn formats(&self, platforms: &[Platform]) -> Vec<&'static str> {
        let has = |system: System| platforms.iter().any(|platform| platform.system() == system);
        let version = self.version.as_ref().map_or("1.0.0", |found| &found.value);
        let mut formats = Vec::new();
        if has(System::Windows) {
            formats.extend(crate::targets::msi::is_version(version).then_some("\"msi\""));
            formats.push("\"nsis\"");
        }
        if has(System::Macos) {
            formats.push("\"dmg\"");
        }
        // A script has no platform: it is for the one that such scripts are for.
        let is_script = self.programs.first().is_some_and(|c| c.kind == FileKind::Script);
        if has(System::Linux) || platforms.is_empty() && is_script {
            formats.extend(["\"appimage\"", "\"tar\""]);
        }
        if formats.is_empty() { vec!["\"zip\""] } else { formats }
    }
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}
