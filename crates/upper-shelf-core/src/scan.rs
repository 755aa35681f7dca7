//! Looks through a folder of built files and proposes a manifest: what is in it is recognised by content, not by name.

use crate::manifest::resolve::file_name_of;
use crate::platform::Platform;
use crate::problem::{Failure, Kind, Problem};
use object::read::elf::FileHeader;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// A Linux program, for this processor.
    ElfProgram(Platform),
    /// A Linux library.
    ElfLibrary,
    /// A Windows program; whether it needs a console.
    PeProgram(Platform, bool),
    /// A Windows library.
    PeLibrary,
    /// A macOS program.
    MachOProgram(Platform),
    /// A macOS library.
    MachOLibrary,
    /// A Java archive that can be started.
    Jar,
    /// A script with an interpreter's name in its first line.
    Script,
}

/// What was found in a folder.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Scan {
    /// The folder.
    pub folder: PathBuf,
    /// Files and their plain bytes.
    pub files: (u64, u64),
    /// How many there are of each kind of program file.
    pub kinds: BTreeMap<&'static str, u64>,
    /// Whether a bundled web browser's runtime is in it.
    pub web_runtime: bool,
    /// The likely programs by platform, best first.
    pub programs: Vec<Candidate>,
    /// The likely icon.
    pub icon: Option<String>,
    /// The likely version and where it was found.
    pub version: Option<(String, String)>,
    /// The likely name.
    pub name: String,
}

/// A file that may be the main program.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Candidate {
    /// Relative to the folder.
    pub path: String,
    /// What it is.
    pub kind: FileKind,
    /// Higher is likelier.
    pub score: i64,
}

/// Recognises a program file by its first bytes; `None` for data.
pub fn recognise(path: &Path) -> Option<FileKind> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(64 << 10).read_to_end(&mut head).ok()?;
    match head.get(..4)? {
        b"\x7fELF" => elf(&head),
        [b'M', b'Z', ..] => pe(&head),
        [0xcf, 0xfa, 0xed, 0xfe] => mach_o(&head),
        [0xca, 0xfe, 0xba, 0xbe] => fat(&head),
        b"PK\x03\x04" => {
            let archive = zip::ZipArchive::new(File::open(path).ok()?).ok()?;
            archive.index_for_name("META-INF/MANIFEST.MF").map(|_| FileKind::Jar)
        }
        [b'#', b'!', ..] => Some(FileKind::Script),
        _ => None,
    }
}

fn elf(head: &[u8]) -> Option<FileKind> {
    use object::elf;
    let header = elf::FileHeader64::<object::Endianness>::parse(head).ok()?;
    let endian = header.endian().ok()?;
    let platform = match header.e_machine.get(endian) {
        elf::EM_X86_64 => Platform::LinuxX64,
        elf::EM_AARCH64 => Platform::LinuxArm64,
        _ => return None,
    };
    let kind = header.e_type.get(endian);
    let segments = header.program_headers(endian, head).unwrap_or_default();
    let has_interpreter = segments.iter().any(|s| s.p_type.get(endian) == elf::PT_INTERP);
    // A program that is linked statically and can be placed anywhere has no interpreter, but an entry point.
    let starts = has_interpreter || kind == elf::ET_EXEC || header.e_entry.get(endian) != 0;
    match kind {
        elf::ET_EXEC | elf::ET_DYN if starts => Some(FileKind::ElfProgram(platform)),
        elf::ET_DYN => Some(FileKind::ElfLibrary),
        _ => None,
    }
}

fn pe(head: &[u8]) -> Option<FileKind> {
    let at = u32::from_le_bytes(head.get(60..64)?.try_into().ok()?) as usize;
    let header = head.get(at..at + 96)?;
    if &header[..4] != b"PE\0\0" {
        return None;
    }
    let field = |at: usize| u16::from_le_bytes([header[at], header[at + 1]]);
    let platform = match field(4) {
        0x8664 => Platform::WindowsX64,
        0x14c => Platform::WindowsX86,
        0xaa64 => Platform::WindowsArm64,
        _ => return None,
    };
    if field(22) & 0x2000 != 0 {
        return Some(FileKind::PeLibrary);
    }
    // Subsystem 3: a console program.
    Some(FileKind::PeProgram(platform, field(92) == 3))
}

fn mach_o(head: &[u8]) -> Option<FileKind> {
    let number = |at: usize| Some(u32::from_le_bytes(head.get(at..at + 4)?.try_into().ok()?));
    let platform = match number(4)? {
        0x0100_0007 => Platform::MacosX64,
        0x0100_000c => Platform::MacosArm64,
        _ => return None,
    };
    match number(12)? {
        2 => Some(FileKind::MachOProgram(platform)),
        6 | 8 => Some(FileKind::MachOLibrary),
        _ => None,
    }
}

/// A fat file, which shares its first bytes with compiled Java classes: those have a version of 45 or more there.
fn fat(head: &[u8]) -> Option<FileKind> {
    let count = u32::from_be_bytes(head.get(4..8)?.try_into().ok()?);
    (1..=8).contains(&count).then_some(FileKind::MachOProgram(Platform::MacosUniversal))
}

/// Looks through a folder.
///
/// # Errors
/// The folder can't be read, or there is nothing in it.
pub fn scan(folder: &Path) -> Result<Scan, Failure> {
    let meta = fs::metadata(folder).map_err(|e| Failure::io("can't look through", folder, &e))?;
    if !meta.is_dir() {
        let problem = Problem::error(format!("{} is not a folder", folder.display())).on(folder);
        return Err(Failure::new(Kind::Problems, problem.instead("the folder with the built files")));
    }
    let whole = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let folder_name = whole.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let mut files = Vec::new();
    let mut stack = vec![(folder.to_owned(), String::new())];
    while let Some((dir, prefix)) = stack.pop() {
        let entries = fs::read_dir(&dir).map_err(|e| Failure::io("can't look through", &dir, &e))?;
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
        let problem = Problem::error(format!("there is no file in {}", folder.display())).on(folder);
        return Err(Failure::new(Kind::Problems, problem.instead("build the program first")));
    }
    let (base, in_name) = split_version(&folder_name);
    let mut scan = Scan {
        folder: folder.to_owned(),
        files: (files.len() as u64, files.iter().map(|f| f.2.len()).sum()),
        kinds: BTreeMap::new(),
        web_runtime: false,
        programs: Vec::new(),
        icon: None,
        version: in_name.map(|v| (v, "the folder's name".to_owned())),
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
        let says_version = last.eq_ignore_ascii_case("version") || last.eq_ignore_ascii_case("version.txt");
        if (says_version || last == "package.json")
            && let Some(version) = version_in_file(path, last)
        {
            scan.version.get_or_insert((version, name.clone()));
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
    scan.name = title(&named);
    Ok(scan)
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

fn version_in_file(path: &Path, name: &str) -> Option<String> {
    let mut text = String::new();
    File::open(path).ok()?.take(64 << 10).read_to_string(&mut text).ok()?;
    let found = if name == "package.json" {
        serde_json::from_str::<serde_json::Value>(&text).ok()?.get("version")?.as_str()?.to_owned()
    } else {
        text.trim().to_owned()
    };
    let good = found.starts_with(|c: char| c.is_ascii_digit())
        && found.len() < 30
        && found.chars().all(|c| c.is_ascii_alphanumeric() || ".-+".contains(c));
    good.then_some(found)
}

fn program_score(name: &str, kind: FileKind, meta: &fs::Metadata, base: &str) -> Option<i64> {
    let last = name.rsplit('/').next().unwrap_or(name);
    let stem = last.split('.').next().unwrap_or(last).to_lowercase();
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
        let quoted = |text: &str| toml::Value::String(text.to_owned()).to_string();
        let slug = file_name_of(&self.name).to_lowercase();
        let slug: String = slug.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect();
        let slug = slug.trim_matches('-');
        let slug = if slug.is_empty() { "program" } else { slug };
        let (version, found) = match &self.version {
            Some((version, place)) => (version.clone(), format!("found in {place}")),
            None => ("1.0.0".to_owned(), "nothing says it: put the right one here".to_owned()),
        };
        let mut out = String::from(
            "# What Upper Shelf makes packages from. `upper-shelf plan` shows what that will be.\n\n[product]\n",
        );
        let _ = writeln!(
            out,
            "# The reverse of a domain that you own, and a name. It can't be changed after the first release."
        );
        let _ = writeln!(out, "id = {}", quoted(&format!("com.example.{slug}")));
        let _ = writeln!(out, "name = {}", quoted(&self.name));
        let _ = writeln!(out, "version = {}   # {found}", quoted(&version));
        let _ = writeln!(out, "publisher = {}   # who people see as its maker", quoted("Unknown publisher"));
        match &self.icon {
            Some(icon) => {
                let path = if from == "." { icon.clone() } else { format!("{from}/{icon}") };
                let _ = writeln!(out, "icon = {}   # one picture; every size is made from it", quoted(&path));
            }
            None => out.push_str("# icon = \"art/icon.svg\"   # one SVG or square PNG; every size is made from it\n"),
        }
        let _ = writeln!(out, "\n[[layer]]\nfrom = {}   # followed: what a later build adds comes along", quoted(from));
        if !ignore.is_empty() {
            let list = ignore.iter().map(|i| quoted(i)).collect::<Vec<_>>().join(", ");
            let _ = writeln!(out, "drop = [{list}]   # what is not the program's");
        }
        let main = self.programs.first();
        if let Some(main) = main {
            out.push_str("\n[[program]]\nkey = \"app\"\n");
            let _ = writeln!(out, "file = {}", quoted(&main.path));
            match main.kind {
                FileKind::PeProgram(_, true) => out.push_str("console = true\n"),
                FileKind::Jar => out.push_str("# A Java archive needs a bundled runtime or a script that starts it.\n"),
                _ => {}
            }
            let others: Vec<&str> = self
                .programs
                .iter()
                .skip(1)
                .filter(|c| c.score > main.score - 60)
                .take(4)
                .map(|c| c.path.as_str())
                .collect();
            if !others.is_empty() {
                let _ = writeln!(out, "# It could also be: {}", others.join(", "));
            }
            out.push_str("\n[[shortcut]]\nprogram = \"app\"\nplaces = [\"menu\"]\n");
        }
        let platform = main.and_then(|c| match c.kind {
            FileKind::ElfProgram(p) | FileKind::PeProgram(p, _) | FileKind::MachOProgram(p) => Some(p),
            _ => None,
        });
        out.push_str("\n[targets]\n");
        if let Some(platform) = platform {
            let _ = writeln!(out, "platforms = [\"{platform}\"]   # what the program was built for");
        }
        let formats = match platform.map(Platform::system) {
            Some(crate::platform::System::Linux) if main.is_some() => "\"appimage\", \"tar\"",
            _ => "\"zip\"",
        };
        let _ = writeln!(out, "build = [{formats}]");
        out
    }
}
