//! Looks through the layers, in their order, and lays them over each other. Reads no file's bytes.

use super::Modes;
use super::{Layer, Payload, PayloadFile, Share, Source, Stamp, names};
use crate::footprint::{Node, RelPath};
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};

struct Found {
    layer: usize,
    kind: FoundKind,
}

enum FoundKind {
    Folder {
        mode: u32,
    },
    File {
        source: PathBuf,
        stamp: Stamp,
        mode: u32,
        /// What it is on its disk, if it has several names there.
        shared: Option<(u64, u64)>,
    },
    Link {
        target: String,
    },
}

/// A pattern as layers have them.
fn glob(pattern: &str) -> Result<globset::Glob, String> {
    // A pattern without a slash means the name, wherever it is.
    let anywhere =
        if pattern.contains('/') { pattern.trim_start_matches('/').to_owned() } else { format!("**/{pattern}") };
    let glob = GlobBuilder::new(anywhere.trim_end_matches('/')).literal_separator(true).build();
    glob.map_err(|e| e.kind().to_string())
}

/// Patterns that a file fits when it fits one of them.
///
/// # Errors
/// What is wrong with the first malformed one.
pub fn patterns(patterns: &[String]) -> Result<GlobSet, String> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        set.add(glob(pattern).map_err(|why| format!("the pattern {pattern:?} is malformed: {why}"))?);
    }
    set.build().map_err(|e| e.to_string())
}

/// The payload of a platform, and everything that is wrong or noteworthy about it.
pub fn gather(layers: &[Layer], platform: Platform, own: &[PathBuf]) -> (Payload, Vec<Problem>) {
    let mut found: BTreeMap<RelPath, Found> = BTreeMap::new();
    let (mut problems, mut under) = (Vec::new(), Vec::new());
    let for_windows = platform.system() == System::Windows;
    for (index, layer) in layers.iter().enumerate() {
        let (found, problems) = (&mut found, &mut problems);
        let under = (platform == Platform::MacosUniversal).then_some(&mut under);
        let walk = Walk {
            layer,
            index,
            keep: None,
            drop: None,
            executable: None,
            for_windows,
            own,
            found,
            under,
            problems,
            count: 0,
        };
        walk.start();
    }
    check_links(&found, layers, &mut problems);
    problems.extend(names::check(found.iter().map(|(path, f)| (path, layers[f.layer].span.as_ref())), platform));
    (Payload { under, ..assemble(found, layers) }, problems)
}

fn assemble(found: BTreeMap<RelPath, Found>, layers: &[Layer]) -> Payload {
    let mut payload = Payload {
        shares: layers.iter().map(|l| Share { layer: l.label.clone(), ..Share::default() }).collect(),
        ..Payload::default()
    };
    let mut first_names: HashMap<(u64, u64), RelPath> = HashMap::new();
    for (path, Found { layer, kind }) in found {
        match kind {
            FoundKind::Folder { mode } => payload.others.push(Node::Folder { path, mode }),
            FoundKind::Link { target } => payload.others.push(Node::Link { path, target }),
            FoundKind::File { source, stamp, mode, shared } => {
                if let Some(identity) = shared {
                    if let Some(to) = first_names.get(&identity) {
                        payload.others.push(Node::HardLink { path, to: to.clone() });
                        continue;
                    }
                    first_names.insert(identity, path.clone());
                }
                payload.shares[layer].bytes += stamp.size;
                payload.shares[layer].files += 1;
                let size = stamp.size;
                payload.files.push(PayloadFile {
                    path,
                    mode,
                    size,
                    source: Source::Disk(source, stamp),
                    layer,
                    further_name: false,
                });
            }
        }
    }
    payload
}

struct Walk<'w> {
    layer: &'w Layer,
    index: usize,
    keep: Option<GlobSet>,
    drop: Option<GlobSet>,
    executable: Option<GlobSet>,
    for_windows: bool,
    /// The folder that packages are put into, and what lies beside the manifest for this program: never the product's.
    own: &'w [PathBuf],
    found: &'w mut BTreeMap<RelPath, Found>,
    /// Files that others come to lie over, where that is to be known.
    under: Option<&'w mut Vec<(RelPath, PathBuf, Stamp)>>,
    problems: &'w mut Vec<Problem>,
    count: u64,
}

impl Walk<'_> {
    fn start(mut self) {
        let span = self.layer.span.clone();
        let from = &self.layer.from;
        let meta = match fs::metadata(from) {
            Ok(meta) => meta,
            Err(e) => {
                let why = match e.kind() {
                    std::io::ErrorKind::NotFound => "there is no such folder or file".to_owned(),
                    _ => e.to_string(),
                };
                let (named, instead) = match &self.layer.source {
                    Some(_) => (self.layer.label.clone(), "correct `from`: a folder that the source has"),
                    None => (from.display().to_string(), "build the files first, or correct `from`"),
                };
                let problem = Problem::error(Code::Unreadable, format!("the layer {named} can't be read"));
                self.problems.push(problem.at(span).why(why).instead(instead));
                return;
            }
        };
        self.keep = self.globs("keep", &self.layer.keep);
        self.drop = self.globs("drop", &self.layer.drop);
        self.executable = self.globs("executable", &self.layer.executable);
        if let Some(into) = &self.layer.into {
            self.parents_of(into);
        }
        if meta.is_file() {
            let name = from.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            if let Ok(path) = RelPath::new(name) {
                let path = self.layer.into.as_ref().map_or(path.clone(), |into| path.below(into));
                if let Some(into) = &self.layer.into {
                    self.put(into.clone(), FoundKind::Folder { mode: 0o755 });
                }
                let name = path.name().to_owned();
                self.file(from, path, &meta, &name);
            }
            return;
        }
        if let Some(into) = self.layer.into.clone() {
            self.put(into, FoundKind::Folder { mode: 0o755 });
        }
        self.folder(from, None);
        if self.count == 0 {
            let problem =
                Problem::warning(Code::NoFiles, format!("the layer {} contains no files", self.layer.label)).at(span);
            let why = if self.layer.keep.is_empty() && self.layer.drop.is_empty() {
                "the folder is empty"
            } else {
                "nothing in the folder passes its `keep` and `drop`"
            };
            self.problems.push(problem.why(why));
        }
    }

    /// Whether it is one of this program's own, by whatever way the layer comes to it.
    fn is_own(&self, entry: &fs::DirEntry) -> bool {
        let named = self.own.iter().filter(|own| own.file_name() == Some(&entry.file_name()));
        let whole = |path: &Path| fs::canonicalize(path).ok();
        named.into_iter().any(|own| whole(own).is_some_and(|own| whole(&entry.path()) == Some(own)))
    }

    fn globs(&mut self, key: &str, patterns: &[String]) -> Option<GlobSet> {
        if patterns.is_empty() {
            return None;
        }
        let mut set = GlobSetBuilder::new();
        for (n, pattern) in patterns.iter().enumerate() {
            match glob(pattern) {
                Ok(glob) => drop(set.add(glob)),
                Err(e) => self.problems.push(
                    Problem::error(Code::InvalidValue, format!("the pattern {pattern:?} is malformed"))
                        .about_setting(format!("{}.{key}.{n}", self.layer.setting))
                        .why(e)
                        .instead("`*` stands for any characters in a name, `**` for any folders, `{a,b}` for either"),
                ),
            }
        }
        set.build().ok()
    }

    fn folder(&mut self, dir: &Path, below: Option<&str>) {
        let entries = match fs::read_dir(dir) {
            Ok(entries) => entries,
            Err(e) => return self.unreadable(dir, &e),
        };
        for entry in entries {
            let entry = match entry {
                Ok(entry) => entry,
                Err(e) => return self.unreadable(dir, &e),
            };
            let name = entry.file_name();
            let Some(name) = name.to_str() else {
                let problem = Problem::error(
                    Code::NameNotAllowed,
                    format!("the name {name:?} in {} is not valid text", dir.display()),
                );
                let problem = problem.on(entry.path()).at(self.layer.span.clone());
                let problem = problem.why("packages store names as Unicode text, and this one isn't UTF-8");
                self.problems.push(problem.instead("rename the file, or exclude it with `drop`"));
                continue;
            };
            let inside = below.map_or(name.to_owned(), |b| format!("{b}/{name}"));
            if self.drop.as_ref().is_some_and(|d| d.is_match(&inside)) {
                continue;
            }
            if self.is_own(&entry) {
                continue;
            }
            let meta = match entry.metadata() {
                Ok(meta) => meta,
                Err(e) => {
                    self.unreadable(&entry.path(), &e);
                    continue;
                }
            };
            let kept = self.keep.as_ref().is_none_or(|k| k.is_match(&inside));
            let path = match RelPath::new(&*inside) {
                Ok(path) => self.layer.into.as_ref().map_or(path.clone(), |into| path.below(into)),
                Err(_) => continue,
            };
            if meta.is_dir() {
                if self.keep.is_none() {
                    let mode = self.mode_of(&meta, None);
                    self.put(path, FoundKind::Folder { mode });
                } else if kept {
                    // A pattern that fits a folder keeps all that is in it.
                    let keep = self.keep.take();
                    self.parents_of(&path);
                    let mode = self.mode_of(&meta, None);
                    self.put(path, FoundKind::Folder { mode });
                    self.folder(&entry.path(), Some(&inside));
                    self.keep = keep;
                    continue;
                }
                self.folder(&entry.path(), Some(&inside));
            } else if kept {
                if self.keep.is_some() {
                    self.parents_of(&path);
                }
                if meta.is_symlink() {
                    self.link(&entry.path(), path);
                } else if meta.is_file() {
                    self.file(&entry.path(), path, &meta, &inside);
                } else {
                    let problem = Problem::error(
                        Code::SpecialFile,
                        format!("{} is a device, pipe or socket", entry.path().display()),
                    );
                    let problem = problem.on(entry.path()).at(self.layer.span.clone());
                    self.problems.push(problem.instead("exclude it with `drop`"));
                }
            }
        }
    }

    fn file(&mut self, source: &Path, path: RelPath, meta: &fs::Metadata, inside: &str) {
        self.count += 1;
        let shared = shared(source, meta);
        let mode = self.mode_of(meta, Some((source, inside)));
        self.put(path, FoundKind::File { source: source.to_owned(), stamp: Stamp::of(meta), mode, shared });
    }

    fn link(&mut self, source: &Path, path: RelPath) {
        self.count += 1;
        match fs::read_link(source) {
            Ok(target) => match target.to_str() {
                // Windows writes links with backslashes; everywhere else, and in packages, they are slashes.
                Some(target) if cfg!(windows) => self.put(path, FoundKind::Link { target: target.replace('\\', "/") }),
                Some(target) => self.put(path, FoundKind::Link { target: target.to_owned() }),
                None => self.problems.push(
                    Problem::error(
                        Code::NameNotAllowed,
                        format!("the link {} has a target that is not valid text", source.display()),
                    )
                    .on(source)
                    .at(self.layer.span.clone())
                    .instead("rename what it points to, or exclude it with `drop`"),
                ),
            },
            Err(e) => self.unreadable(source, &e),
        }
    }

    fn unreadable(&mut self, path: &Path, e: &std::io::Error) {
        let problem =
            Problem::error(Code::Unreadable, format!("{} can't be read", path.display())).on(path).why(e.to_string());
        let problem = problem.at(self.layer.span.clone());
        self.problems.push(problem.instead("check its permissions, or exclude it with `drop`"));
    }

    /// The owner's bits count for everybody, so that a strict umask on the build machine does not lock people out. A file
    /// comes with its path in the layer.
    fn mode_of(&self, meta: &fs::Metadata, file: Option<(&Path, &str)>) -> u32 {
        #[cfg(unix)]
        let (mode, has_modes) = (std::os::unix::fs::PermissionsExt::mode(&meta.permissions()), true);
        #[cfg(not(unix))]
        let (mode, has_modes) = {
            let _ = meta;
            (0o755, false)
        };
        let Some((source, inside)) = file else {
            return if self.layer.modes == Modes::Exact && has_modes { mode & 0o7777 } else { 0o755 };
        };
        let named = self.executable.as_ref().is_some_and(|e| e.is_match(inside));
        let starts = named
            || match self.layer.modes {
                Modes::Exact if has_modes => return mode & 0o7777,
                // Windows starts by name. Elsewhere such programs often come without the right to be started: the name
                // counts wherever this runs.
                Modes::Usual if self.for_windows => inside.to_ascii_lowercase().ends_with(".exe"),
                Modes::Usual if has_modes => mode & 0o100 != 0,
                Modes::Usual | Modes::Exact | Modes::Content => is_started(source),
            };
        if starts { 0o755 } else { 0o644 }
    }

    fn parents_of(&mut self, path: &RelPath) {
        let mut above = path.parent();
        while let Some(folder) = above {
            // A file there is a clash, which is said.
            if !self.found.get(&folder).is_some_and(|there| matches!(there.kind, FoundKind::Folder { .. })) {
                self.put(folder.clone(), FoundKind::Folder { mode: 0o755 });
            }
            above = folder.parent();
        }
    }

    fn put(&mut self, path: RelPath, kind: FoundKind) {
        let is_folder = matches!(kind, FoundKind::Folder { .. });
        if let Some(there) = self.found.get(&path)
            && matches!(there.kind, FoundKind::Folder { .. }) != is_folder
        {
            let (what, other) = if is_folder { ("a folder", "a file") } else { ("a file", "a folder") };
            let problem = Problem::error(
                Code::NameClash,
                format!("{path} is {what} in the layer {}, and {other} in one below it", self.layer.label),
            );
            let problem = problem.at(self.layer.span.clone());
            self.problems
                .push(problem.instead("exclude one of them with `drop`, or put the layer elsewhere with `into`"));
            return;
        }
        let is_file = matches!(kind, FoundKind::File { .. });
        let old = self.found.insert(path.clone(), Found { layer: self.index, kind });
        if let (Some(under), Some(Found { kind: FoundKind::File { source, stamp, .. }, .. }), true) =
            (&mut self.under, old, is_file)
        {
            under.push((path, source, stamp));
        }
    }
}

/// Whether a file is one that is started: a program or a script, by its first bytes.
fn is_started(path: &Path) -> bool {
    use crate::recognise::{FileKind as K, recognise};
    matches!(recognise(path), Some(K::ElfProgram(_) | K::MachOProgram(_) | K::PeProgram(..) | K::Script))
}

/// What a file with several names is on its disk: the disk and the file's number there.
#[cfg(unix)]
fn shared(_: &Path, meta: &fs::Metadata) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    (meta.nlink() > 1).then(|| (meta.dev(), meta.ino()))
}

/// The same; Windows tells it only of an open file. One that can't be opened is an error when it is read.
#[cfg(windows)]
fn shared(source: &Path, _: &fs::Metadata) -> Option<(u64, u64)> {
    let about = fs::File::open(source).and_then(winapi_util::file::information).ok()?;
    (about.number_of_links() > 1).then(|| (about.volume_serial_number(), about.file_index()))
}

/// Links must stay inside the payload: elsewhere there is something else, or nothing.
fn check_links(found: &BTreeMap<RelPath, Found>, layers: &[Layer], problems: &mut Vec<Problem>) {
    let names: BTreeSet<&str> = found.keys().map(RelPath::as_str).collect();
    for (path, entry) in found {
        let FoundKind::Link { target } = &entry.kind else { continue };
        let span = layers[entry.layer].span.clone();
        let advice = "make it a relative link to something inside, or exclude it with `drop`";
        if target.starts_with('/') || target.contains(":\\") || target.starts_with('\\') {
            let problem =
                Problem::error(Code::LinkOutside, format!("the link {path} points to the absolute path {target}"))
                    .at(span);
            problems.push(problem.why("on another machine it leads to something else, or nowhere").instead(advice));
            continue;
        }
        match resolve(path, target) {
            None => {
                let problem =
                    Problem::error(Code::LinkOutside, format!("the link {path} → {target} leaves the payload"))
                        .at(span);
                problems.push(problem.why("on another machine it leads to something else, or nowhere").instead(advice));
            }
            Some(to) if !to.is_empty() && !names.contains(to.as_str()) && !through_link(found, &to) => {
                let problem =
                    Problem::warning(Code::BrokenLink, format!("the link {path} → {target} leads nowhere")).at(span);
                problems.push(problem.why(format!("{to} isn't in the payload")));
            }
            Some(_) => {}
        }
    }
}

/// The path a link leads to, by its letters; `None` when it leaves the tree.
pub fn resolve(link: &RelPath, target: &str) -> Option<String> {
    let parent = link.parent();
    let mut at: Vec<&str> = parent.as_ref().map(|p| p.as_str().split('/').collect()).unwrap_or_default();
    for name in target.split('/') {
        match name {
            "" | "." => {}
            ".." => drop(at.pop()?),
            other => at.push(other),
        }
    }
    Some(at.join("/"))
}

/// A target below another link is that link's matter.
fn through_link(found: &BTreeMap<RelPath, Found>, path: &str) -> bool {
    path.match_indices('/').any(|(at, _)| {
        let above = RelPath::new(&path[..at]).ok();
        above.and_then(|a| found.get(&a)).is_some_and(|f| matches!(f.kind, FoundKind::Link { .. }))
    })
}
