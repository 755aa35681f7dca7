//! What is needed, found step by step.

use super::folders::{Folders, index, walk};
use super::rules::{Rules, rules};
use super::settings::by_name;
use super::{Chosen, Libraries, Native, below, on_disk, problem};
use crate::footprint::{Node, RelPath};
use crate::payload::{Payload, PayloadFile, Source, patterns};
use crate::platform::{Platform, System};
use crate::problem::{Code, Problem};
use crate::runtimes::{Doubt, natives};
use globset::GlobSet;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// More files than these are in no tree that is meant.
const MOST_FILES: usize = 200_000;

/// What a file needs, if it is a program or a library.
pub fn native(file: &PayloadFile) -> Option<Native> {
    let bytes = file.source.open().ok()?;
    match elf_image::read(&bytes) {
        Ok(Some(linking)) => {
            return Some(Native { needed: linking.needed, run_path: linking.run_path, near: Vec::new() });
        }
        Ok(None) => {}
        Err(_) => return None,
    }
    let mut start = [0; 2];
    if file.size < 2 || bytes.read_exact_at(&mut start, 0).is_err() || &start != b"MZ" {
        return None;
    }
    Some(Native { needed: natives::needed(file).into_iter().collect(), run_path: None, near: Vec::new() })
}

/// The name of folders with a platform's libraries.
pub fn triplet(platform: Platform) -> Option<&'static str> {
    match platform {
        Platform::LinuxX64 => Some("x86_64-linux-gnu"),
        Platform::LinuxArm64 => Some("aarch64-linux-gnu"),
        _ => None,
    }
}

/// The name by which a name is found.
fn key_on(system: System, name: &str) -> String {
    if system == System::Windows { name.to_lowercase() } else { name.to_owned() }
}

pub(super) struct Work<'w> {
    tables: &'w [Libraries],
    platform: Platform,
    rules: &'static Rules,
    places: Vec<Vec<Folders>>,
    /// Libraries of each folder, by their names.
    indexes: HashMap<PathBuf, HashMap<String, PathBuf>>,
    base_of_manifest: GlobSet,
    drop: GlobSet,
    /// Libraries that the manifest names, which come along even if every machine has them.
    wanted: HashSet<String>,
    /// Names of the payload's own files, and what its programs need.
    own: HashSet<String>,
    own_natives: Vec<(RelPath, Native)>,
    pub chosen: BTreeMap<RelPath, Chosen>,
    pub doubts: Vec<Doubt>,
    pub base: BTreeSet<String>,
    pub problems: Vec<Problem>,
    /// Trees of which something came along, with their folders in the payload.
    pub trees: BTreeMap<&'static str, String>,
    is_debug: bool,
    /// Rules whose files were looked at.
    applied: HashSet<usize>,
}

/// What nobody has: the library, and who needs it.
type Missing = Vec<(String, String)>;

impl<'w> Work<'w> {
    pub fn new(tables: &'w [Libraries], platform: Platform, payload: &Payload) -> Self {
        let system = platform.system();
        let triplet = triplet(platform);
        let places = tables.iter().map(|table| table.from.iter().map(|from| Folders::new(from, triplet)).collect());
        let mut problems = Vec::new();
        let mut globs = |key: &str, of: fn(&Libraries) -> &[String]| {
            let mut all = Vec::new();
            for table in tables {
                if let Err(why) = patterns(of(table)) {
                    problems.push(
                        Problem::error(Code::InvalidValue, why).about_setting(format!("{}.{key}", table.setting)),
                    );
                } else {
                    all.extend(of(table).iter().map(|one| key_on(system, one)));
                }
            }
            patterns(&all).unwrap_or_default()
        };
        let base_of_manifest = globs("base", |table| &table.base);
        let drop = globs("drop", |table| &table.drop);
        let wanted = tables.iter().flat_map(|table| &table.also).filter(|one| !one.contains('/'));
        let names = payload.files.iter().map(|file| &file.path).chain(payload.others.iter().map(Node::path));
        let is_here = |file: &&PayloadFile| natives::platform(file) == Some(platform);
        let places: Vec<Vec<Folders>> = places.collect();
        let roots = || places.iter().flatten();
        let natives = payload.files.iter().filter_map(|file| {
            let mut native = native(file)?;
            native.near =
                roots().flat_map(|place| near(native.run_path.as_deref(), std::slice::from_ref(place), None)).collect();
            Some((file, native))
        });
        let own_natives: Vec<(RelPath, Native)> =
            natives.filter(|(file, _)| is_here(file)).map(|(file, native)| (file.path.clone(), native)).collect();
        let rules = rules();
        let is_debug = own_natives.iter().any(|(_, native)| needs_debug(rules, native));
        Self {
            tables,
            platform,
            rules,
            places,
            indexes: HashMap::new(),
            base_of_manifest,
            drop,
            wanted: wanted.map(|one| key_on(system, one)).collect(),
            own: names.map(|path| key_on(system, path.name())).collect(),
            own_natives,
            chosen: BTreeMap::new(),
            doubts: Vec::new(),
            base: BTreeSet::new(),
            problems,
            trees: BTreeMap::new(),
            is_debug,
            applied: HashSet::new(),
        }
    }

    fn key(&self, name: &str) -> String {
        key_on(self.platform.system(), name)
    }

    /// What the payload needs, and what comes with that.
    pub fn run(&mut self) {
        let roots: Vec<(String, Native)> =
            self.own_natives.iter().map(|(path, native)| (path.to_string(), native.clone())).collect();
        let (found, missing) = self.closure(roots);
        self.tell(&missing);
        self.chosen.extend(found.into_iter().map(|one| (one.path.clone(), one)));
        self.companions();
    }

    fn tell(&mut self, missing: &Missing) {
        let mut all: BTreeMap<&String, Vec<&String>> = BTreeMap::new();
        for (name, by) in missing {
            all.entry(name).or_default().push(by);
        }
        for (name, by) in all {
            let more = if by.len() > 1 { format!(" and {} more need", by.len() - 1) } else { " needs".to_owned() };
            let table = &self.tables[0];
            let folders = table.from.iter().map(|from| from.display().to_string()).collect::<Vec<_>>().join(", ");
            self.problems.push(
                problem(
                    table,
                    Code::MissingLibrary,
                    format!("{}{more} the library {name}, which nobody brings", by[0]),
                )
                .why(format!("it is neither in the payload nor in {folders}"))
                .instead(format!("the folder with it in `from`; or base = [{name:?}], if every machine has it")),
            );
        }
    }

    /// Everything that these need, each once, and what is not to be had.
    fn closure(&mut self, roots: Vec<(String, Native)>) -> (Vec<Chosen>, Missing) {
        let (mut found, mut missing): (BTreeMap<String, Chosen>, Missing) = (BTreeMap::new(), Vec::new());
        let taken: HashSet<String> = self.chosen.keys().map(|path| self.key(path.name())).collect();
        let mut next = roots;
        while let Some((by, native)) = next.pop() {
            for name in &native.needed {
                let key = self.key(name);
                let is_wanted = self.wanted.contains(&key);
                if self.own.contains(&key)
                    || taken.contains(&key)
                    || found.contains_key(&key)
                    || self.drop.is_match(&key)
                {
                    continue;
                }
                let is_base =
                    self.rules.is_everywhere(self.platform.system(), name) || self.base_of_manifest.is_match(&key);
                if is_base && !is_wanted {
                    self.base.insert(name.clone());
                    continue;
                }
                match self.find(name, &native.near) {
                    Some((table, path, file, its)) => {
                        next.push((path.name().to_owned(), its.clone()));
                        let chosen = Chosen {
                            path,
                            table,
                            size: file.size,
                            source: file.source,
                            mode: 0o644,
                            why: format!("{by} needs it"),
                            native: Some(its),
                        };
                        found.insert(key, chosen);
                    }
                    None => missing.push((name.clone(), by.clone())),
                }
            }
        }
        (found.into_values().collect(), missing)
    }

    /// A library by its name, for this processor.
    fn find(&mut self, name: &str, near: &[PathBuf]) -> Option<(usize, RelPath, PayloadFile, Native)> {
        let key = self.key(name);
        for table in 0..self.tables.len() {
            let own = self.places[table].iter().flat_map(|folders| folders.libraries.iter().cloned());
            let folders: Vec<PathBuf> = near.iter().cloned().chain(own).collect();
            for folder in folders {
                let system = self.platform.system();
                let names =
                    self.indexes.entry(folder.clone()).or_insert_with(|| index(&folder, |name| key_on(system, name)));
                let Some(path) = names.get(&key).cloned() else { continue };
                let place = below(self.tables[table].into.as_ref(), name)?;
                if let Some((file, native)) = self.candidate(table, &path, place.clone()) {
                    return Some((table, place, file, native));
                }
            }
        }
        None
    }

    /// A file on disk that is a program or library for this processor.
    fn candidate(&self, table: usize, path: &Path, place: RelPath) -> Option<(PayloadFile, Native)> {
        let file = on_disk(path, place, 0).ok()?;
        let mut native = native(&file)?;
        if natives::platform(&file) != Some(self.platform) || needs_debug(self.rules, &native) && !self.is_debug {
            return None;
        }
        // What it names itself, below the root that it came from.
        let whole = path.canonicalize().ok()?;
        native.near = near(native.run_path.as_deref(), &self.places[table], whole.parent());
        Some((file, native))
    }

    /// What libraries load by name at run time.
    fn companions(&mut self) {
        loop {
            // What the product brings itself comes with what belongs to it.
            let rules = self.rules;
            let due = rules.with.iter().enumerate().filter(|(n, _)| !self.applied.contains(n)).find_map(|(n, rule)| {
                let one = self.chosen.values().find(|one| rule.is_about(one.path.name()))?;
                Some((n, rule, one.path.name().to_owned(), one.table))
            });
            let Some((n, rule, library, table)) = due else { return };
            self.applied.insert(n);
            let wanted: Vec<String> = rule.rest.iter().map(|one| (*one).to_owned()).collect();
            let files = patterns(&wanted).unwrap_or_default();
            let Some((place, folder)) = self.tree(table, rule.tree) else {
                let place = rules.places(rule.tree).first().copied().unwrap_or_default();
                let is_told = self.doubts.iter().any(|doubt| doubt.module == place);
                if rules.must.contains(&rule.tree) && !is_told {
                    let why = format!("{library} loads what is there by name, and no folder of `from` has it");
                    self.doubts.push(Doubt { module: place.to_owned(), why });
                }
                continue;
            };
            self.trees.insert(rule.tree, place.clone());
            let all = match walk(&folder, MOST_FILES) {
                Ok(all) => all,
                Err(e) => {
                    let why = format!("{} can't be read: {e}", folder.display());
                    self.doubts.push(Doubt { module: place, why });
                    continue;
                }
            };
            for (inside, path) in
                all.iter().filter(|(inside, _)| files.is_match(inside) && !rules.is_left(rule.tree, inside))
            {
                let place = match rules.is_flat(rule.tree, inside) {
                    true => below(
                        self.tables[table].into.as_ref(),
                        path.file_name().and_then(|n| n.to_str()).unwrap_or_default(),
                    ),
                    false => RelPath::new(format!("{place}/{inside}")).ok(),
                };
                let why = format!("{library} loads such files by their names");
                if let Some(place) = place {
                    self.bring(table, path, place, &why, rules.is_list(rule.tree, inside));
                }
            }
        }
    }

    /// Where a tree of a library from some table is: its folder in the payload and on disk.
    fn tree(&self, table: usize, tree: &'static str) -> Option<(String, PathBuf)> {
        let places = self.rules.places(tree);
        let on_disk = |place: &&str| self.places[table].iter().find_map(|folders| folders.tree(place));
        Some((self.as_placed(table, places.first()?)?, places.iter().find_map(on_disk)?))
    }

    /// The folder in the payload for what lies below `lib`, `share` or elsewhere.
    fn as_placed(&self, table: usize, path: &str) -> Option<String> {
        let into = self.tables[table].into.as_ref();
        let placed = match path.strip_prefix("lib/") {
            Some(rest) => below(into, rest),
            None => below(into.and_then(RelPath::parent).as_ref(), path),
        };
        placed.map(|path| path.to_string())
    }

    /// Brings one more file with what it needs; what can't be had whole stays behind.
    fn bring(&mut self, table: usize, path: &Path, place: RelPath, why: &str, is_list: bool) {
        if self.chosen.contains_key(&place) || self.drop.is_match(self.key(place.as_str())) {
            return;
        }
        let Ok(file) = on_disk(path, place.clone(), 0) else { return };
        let (mut source, mut size, mut its) = (file.source.clone(), file.size, None);
        if native(&file).is_some() {
            // One for another processor, or of a debug build.
            let Some((_, own)) = self.candidate(table, path, place.clone()) else { return };
            let (found, missing) = self.closure(vec![(place.to_string(), own.clone())]);
            if let Some((name, by)) = missing.first() {
                let why = match *by == place.as_str() {
                    true => format!("it needs {name}, which is not there"),
                    false => format!("{by}, which it needs, needs {name}, which is not there"),
                };
                self.doubts.push(Doubt { module: place.to_string(), why });
                return;
            }
            self.chosen.extend(found.into_iter().map(|one| (one.path.clone(), one)));
            its = Some(own);
        } else if is_list {
            let Ok(text) = std::fs::read_to_string(path) else { return };
            let text = by_name(&text);
            (size, source) = (text.len() as u64, Source::Memory(Arc::from(text.into_bytes())));
        }
        let chosen = Chosen { path: place.clone(), table, source, size, mode: 0o644, why: why.to_owned(), native: its };
        self.chosen.insert(place, chosen);
    }

    /// What the manifest wants beside what is found.
    pub fn also(&mut self) {
        for table in 0..self.tables.len() {
            for (n, wanted) in self.tables[table].also.clone().iter().enumerate() {
                let at = format!("{}.also.{n}", self.tables[table].setting);
                let absent = |what: String| Problem::error(Code::NoMatch, what).about_setting(at.clone());
                if !wanted.contains('/') {
                    let (found, missing) = self.closure(vec![(
                        String::from("the manifest"),
                        Native { needed: vec![wanted.clone()], ..Native::default() },
                    )]);
                    let (own, of_others): (Missing, Missing) =
                        missing.into_iter().partition(|(name, _)| name == wanted);
                    if !own.is_empty() {
                        self.problems.push(
                            absent(format!("there is no library {wanted}"))
                                .instead("the name of a library in one of the folders of `from`"),
                        );
                    }
                    self.tell(&of_others);
                    self.chosen.extend(found.into_iter().map(|one| {
                        (
                            one.path.clone(),
                            Chosen {
                                why: one.why.replace("the manifest needs it", "the manifest wants it (`also`)"),
                                ..one
                            },
                        )
                    }));
                    continue;
                }
                let bare = wanted.trim_start_matches('/');
                // Only the folder that has no sign of a pattern in its name is looked through.
                let fixed = bare.split('/').take_while(|part| !part.contains(['*', '?', '[', '{'])).collect::<Vec<_>>();
                let fixed = if fixed.len() == bare.split('/').count() {
                    fixed[..fixed.len() - 1].join("/")
                } else {
                    fixed.join("/")
                };
                let Ok(files) = patterns(&[format!("/{bare}")]) else {
                    self.problems.push(absent(format!("the pattern {wanted:?} is malformed")));
                    continue;
                };
                let mut found = Vec::new();
                for folders in &self.places[table] {
                    let Ok(all) = walk(&folders.root.join(&fixed), MOST_FILES) else { continue };
                    let whole =
                        |inside: &str| if fixed.is_empty() { inside.to_owned() } else { format!("{fixed}/{inside}") };
                    let fits = all.into_iter().filter(|(inside, _)| files.is_match(whole(inside)));
                    found.extend(fits.filter_map(|(_, path)| Some((folders.as_placed(&path)?, path))));
                }
                if found.is_empty() {
                    self.problems.push(
                        absent(format!("{wanted} matches no file")).instead("a path in one of the folders of `from`"),
                    );
                }
                for (inside, path) in found {
                    if let Some(place) = self.as_placed(table, &inside).and_then(|place| RelPath::new(place).ok()) {
                        self.bring(table, &path, place, "the manifest wants it (`also`)", false);
                    }
                }
            }
        }
        // What came by this may load others.
        self.companions();
    }
}

/// The folders that a file names itself, below the roots that libraries come from. `own` is the file's folder there.
fn near(run_path: Option<&str>, places: &[Folders], own: Option<&Path>) -> Vec<PathBuf> {
    let parts = run_path.unwrap_or_default().split(':').filter(|part| !part.is_empty());
    let each = parts.flat_map(|part| match part.replace("${ORIGIN}", "$ORIGIN").strip_prefix("$ORIGIN") {
        Some(rest) => own.map(|own| own.join(rest.trim_start_matches('/'))).into_iter().collect::<Vec<_>>(),
        None => places.iter().map(|place| place.root.join(part.trim_start_matches('/'))).collect(),
    });
    each.collect()
}

fn needs_debug(rules: &Rules, native: &Native) -> bool {
    native.needed.iter().any(|name| rules.debug.is_match(name) || rules.debug.is_match(name.to_lowercase()))
}
