//! PHP runtimes: which extensions a product's code uses, and settings that name these.

mod code;

use super::{Keep, Module, Runtime, Trimmed, Wanted, natives};
use crate::footprint::RelPath;
use crate::payload::{Payload, PayloadFile, Source, patterns};
use crate::problem::{Code, Problem};
use code::{Named, named};
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::LazyLock;

const RULES: &str = include_str!("rules.txt");
/// A source, or a list of packages, is no longer than this, bytes.
const LONGEST: u64 = 64 << 20;
/// The settings.
const SETTINGS: &str = "php.ini";
/// The variable by which the settings find the runtime's folder.
pub const HOME: &str = "PHP_RUNTIME";

#[derive(Default)]
struct Rules {
    needs: HashMap<&'static str, Vec<&'static str>>,
    prefixes: Vec<(&'static str, &'static str)>,
    texts: Vec<(&'static str, &'static str)>,
    only: BTreeSet<&'static str>,
    files: Vec<String>,
}

static READ: LazyLock<Rules> = LazyLock::new(|| {
    let mut read = Rules::default();
    for line in RULES.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let words: Vec<&str> = line.split(' ').collect();
        match words[..] {
            ["needs", extension, ..] => drop(read.needs.insert(extension, words[2..].to_vec())),
            ["prefix", start, extension] => read.prefixes.push((start, extension)),
            ["text", start, extension] => read.texts.push((start, extension)),
            ["only", extension] => drop(read.only.insert(extension)),
            ["file", pattern] => read.files.push(pattern.to_owned()),
            _ => unreachable!("{line:?} is no rule"),
        }
    }
    read
});

/// An extension that lies in the runtime's folder.
struct Extension {
    /// Its file in there.
    path: String,
    bytes: u64,
}

/// The extensions of a runtime, by their names.
fn extensions(runtime: &Runtime, payload: &Payload) -> BTreeMap<String, Extension> {
    let mut all = BTreeMap::new();
    for file in &payload.files {
        let Some(path) = runtime.inside(&file.path) else { continue };
        let last = file.path.name();
        let name = last.strip_suffix(".so").filter(|name| !name.starts_with("lib"));
        let name = name.or_else(|| last.strip_suffix(".dll")?.strip_prefix("php_"));
        if let Some(name) = name.filter(|name| !name.is_empty() && !name.contains('.')) {
            all.insert(name.to_lowercase(), Extension { path: path.to_owned(), bytes: file.size });
        }
    }
    all
}

/// What the product's own code names, with the first file that does.
#[derive(Default)]
struct Used {
    names: BTreeMap<String, String>,
    texts: BTreeMap<String, String>,
    /// Extensions that its packages say they need.
    listed: BTreeMap<String, String>,
    unreadable: BTreeMap<String, String>,
}

impl Used {
    fn look(&mut self, file: &PayloadFile, is_started: bool) {
        let name = file.path.name();
        let end = name.rsplit_once('.').map(|(_, end)| end.to_lowercase()).unwrap_or_default();
        let is_list = matches!(name, "composer.json" | "composer.lock");
        if !is_list && !is_started && !matches!(&*end, "php" | "inc" | "phtml" | "phar") {
            return;
        }
        let bytes = match file.size <= LONGEST {
            true => file.bytes().map_err(|e| e.to_string()),
            false => Err("it is too long".to_owned()),
        };
        let bytes = match bytes {
            Ok(bytes) => bytes,
            Err(why) => return drop(self.unreadable.insert(file.path.to_string(), why)),
        };
        if is_list {
            return self.list(&bytes, file.path.as_str());
        }
        let Named { names, texts } = named(&bytes);
        for name in names {
            self.names.entry(name).or_insert_with(|| file.path.to_string());
        }
        for text in texts {
            self.texts.entry(text).or_insert_with(|| file.path.to_string());
        }
    }

    /// `"require": {"ext-mbstring": "*"}`, of the product and of each of its packages.
    fn list(&mut self, bytes: &[u8], path: &str) {
        let list: serde_json::Value = match serde_json::from_slice(bytes) {
            Ok(list) => list,
            Err(e) => return drop(self.unreadable.insert(path.to_owned(), e.to_string())),
        };
        let packages = list.get("packages").and_then(|packages| packages.as_array());
        for one in packages.into_iter().flatten().chain(std::iter::once(&list)) {
            let keys =
                one.get("require").and_then(|require| require.as_object()).into_iter().flat_map(|all| all.keys());
            for extension in keys.filter_map(|key| key.strip_prefix("ext-")) {
                let whose = one.get("name").and_then(|name| name.as_str()).unwrap_or("the product");
                let why = || format!("{whose} requires it, by {path}");
                self.listed.entry(extension.to_lowercase()).or_insert_with(why);
            }
        }
    }
}

/// Makes a PHP smaller and writes its settings, and says what is wrong or noteworthy.
pub fn trim(runtime: &Runtime, payload: &mut Payload, trimmed: &mut Trimmed) -> Vec<Problem> {
    let extensions = extensions(runtime, payload);
    let mut wanted = Used::default();
    for file in payload.files.iter().filter(|file| runtime.inside(&file.path).is_none()) {
        wanted.look(file, runtime.scripts.contains(&file.path));
    }
    let absent = format!("the runtime {:?} has no extension", runtime.key);
    let meant = |name: &str| extensions.contains_key(name).then(|| vec![name.to_owned()]);
    let names = extensions.keys().map(String::as_str);
    let Wanted { roots, without, drop, mut problems } = Wanted::new(runtime, &absent, names, meant);
    if !problems.is_empty() {
        return problems;
    }
    for (path, why) in &wanted.unreadable {
        let what = format!("which extensions {path} uses is not known");
        let problem = Problem::warning(Code::RuntimePart, what).about_setting(format!("{}.key", runtime.setting));
        problems.push(problem.why(why.clone()).instead("`also` with those, or keep = \"all\""));
    }
    let needs = symbols(runtime, payload, &extensions);
    let mut next: VecDeque<(String, String)> = roots.into_iter().collect();
    match runtime.keep {
        Keep::Used => next.extend(used(runtime, payload, &extensions, &wanted)),
        Keep::All => next.extend(extensions.keys().map(|name| (name.clone(), "all are kept".to_owned()))),
        Keep::These(_) => {}
    }
    let mut kept: BTreeMap<String, String> = BTreeMap::new();
    while let Some((name, why)) = next.pop_front() {
        if !extensions.contains_key(&name) || without.contains(&name) || kept.contains_key(&name) {
            continue;
        }
        let others = needs.get(&name).into_iter().flatten();
        next.extend(others.map(|other| (other.clone(), format!("{name} needs it"))));
        kept.insert(name, why);
    }
    let asked = wanted.listed.iter().filter(|(name, _)| !kept.contains_key(*name));
    for (name, why) in asked.filter(|(name, _)| extensions.contains_key(*name)) {
        let what = format!("the runtime {:?} comes without the extension {name}", runtime.key);
        let problem = Problem::warning(Code::RuntimePart, what).about_setting(format!("{}.key", runtime.setting));
        problems.push(problem.why(why.clone()).instead(format!("also = [{name:?}]")));
    }
    trimmed.modules = extensions
        .iter()
        .map(|(name, one)| Module { name: name.clone(), bytes: one.bytes, why: kept.get(name).cloned() })
        .collect();
    settings(runtime, payload, &extensions, &kept, &needs);
    let left: BTreeSet<&str> =
        extensions.iter().filter(|(name, _)| !kept.contains_key(*name)).map(|(_, one)| one.path.as_str()).collect();
    let rules = patterns(&READ.files).expect("patterns of ours");
    let programs = runtime.started(payload);
    let keeps_all = runtime.keep == Keep::All;
    let stays = |path: &str| {
        let is_kept = !left.contains(path) && (keeps_all || !rules.is_match(path));
        programs.contains(path) || is_kept && drop.as_ref().is_none_or(|drop| !drop.is_match(path))
    };
    let unused = natives::unused(runtime, payload, stays);
    runtime.retain(payload, |path| stays(path) && !unused.contains(path));
    problems
}

/// Which extensions each one needs: those that have what it takes from others, and those by the rules.
fn symbols(
    runtime: &Runtime,
    payload: &Payload,
    extensions: &BTreeMap<String, Extension>,
) -> BTreeMap<String, BTreeSet<String>> {
    let mut taken = BTreeMap::new();
    let mut given: HashMap<Vec<u8>, &str> = HashMap::new();
    for (name, one) in extensions {
        let Some(file) = runtime.file(payload, &one.path) else { continue };
        let symbols = natives::symbols(file);
        // All of them have this one.
        given.extend(
            symbols.given.into_iter().filter(|symbol| symbol != b"get_module").map(|symbol| (symbol, name.as_str())),
        );
        taken.insert(name, symbols.taken);
    }
    let needs = taken.into_iter().map(|(name, taken)| {
        let by_symbols = taken.iter().filter_map(|symbol| given.get(symbol)).copied();
        let by_rules = READ.needs.get(name.as_str()).into_iter().flatten().copied();
        let all = by_symbols.chain(by_rules).filter(|other| *other != name && extensions.contains_key(*other));
        (name.clone(), all.map(str::to_owned).collect())
    });
    needs.collect()
}

/// The extensions that the product's code uses: each brings functions and classes, whose names are texts in it.
fn used(
    runtime: &Runtime,
    payload: &Payload,
    extensions: &BTreeMap<String, Extension>,
    wanted: &Used,
) -> BTreeMap<String, String> {
    let names = |text: &str| wanted.names.contains_key(&text.to_lowercase());
    // On Windows they lie in a library.
    let programs = runtime.started(payload);
    let is_program = |path: &str| {
        let is_started = programs.contains(path);
        let path = path.to_lowercase();
        is_started || path.starts_with("php") && path.ends_with(".dll") && !path.contains(['_', '/'])
    };
    let programs = payload.files.iter().filter(|file| runtime.inside(&file.path).is_some_and(is_program));
    let own: BTreeSet<String> = programs.flat_map(|file| natives::texts(file, names).unwrap_or_default()).collect();
    let mut used = wanted.listed.clone();
    for (name, one) in extensions.iter().filter(|(name, _)| !READ.only.contains(name.as_str())) {
        let Some(file) = runtime.file(payload, &one.path) else { continue };
        // What it takes from others is a text in it, too.
        let taken = natives::symbols(file).taken;
        let found = natives::texts(file, names).unwrap_or_default();
        let is_its = |text: &str| {
            !extensions.contains_key(text)
                && !taken.contains(text.as_bytes())
                && (!own.contains(text) || belongs(text, name))
        };
        let found = found.into_iter().find(|text| is_its(text));
        if let Some(text) = found {
            let whose = &wanted.names[&text.to_lowercase()];
            used.entry(name.clone()).or_insert_with(|| format!("{whose} uses {text}"));
        }
    }
    for (start, extension) in &READ.texts {
        if let Some((text, whose)) =
            wanted.texts.range((*start).to_owned()..).next().filter(|(text, _)| text.starts_with(start))
        {
            used.entry((*extension).to_owned()).or_insert_with(|| format!("{whose} has the text {text}"));
        }
    }
    used
}

/// Whether a function's name begins like its extension's, or as a rule says: interpreters know some functions that they don't have.
fn belongs(function: &str, extension: &str) -> bool {
    let start = function.split('_').next().filter(|start| start.len() > 1 && start.len() < function.len());
    start.is_some_and(|start| extension.starts_with(start))
        || READ.prefixes.iter().any(|(start, other)| *other == extension && function.starts_with(start))
}

/// Settings that name the extensions, each behind those that it needs; what the runtime's own settings say of other things stays.
fn settings(
    runtime: &Runtime,
    payload: &mut Payload,
    extensions: &BTreeMap<String, Extension>,
    kept: &BTreeMap<String, String>,
    needs: &BTreeMap<String, BTreeSet<String>>,
) {
    let there = runtime.file(payload, SETTINGS).and_then(|file| file.bytes().ok()).unwrap_or_default();
    let there = String::from_utf8_lossy(&there).replace("\r\n", "\n");
    let is_ours = |line: &&str| {
        let key = line.split('=').next().unwrap_or_default().trim();
        matches!(key, "extension" | "extension_dir" | "zend_extension")
    };
    let mut text: String = there.lines().filter(|line| !is_ours(line)).map(|line| format!("{line}\n")).collect();
    if text.is_empty() {
        text.push_str("[PHP]\n");
    }
    let mut order: Vec<&str> = Vec::new();
    // As often as there are extensions at most: whatever needs each other in a circle comes in the order of names.
    while order.len() < kept.len() {
        let is_open = |name: &&String| !order.contains(&name.as_str());
        let is_ready = |name: &&String| {
            needs
                .get(*name)
                .into_iter()
                .flatten()
                .all(|other| !kept.contains_key(other) || order.contains(&other.as_str()))
        };
        let next = kept.keys().filter(is_open).find(is_ready).or_else(|| kept.keys().find(is_open));
        let Some(next) = next else { break };
        order.push(next);
    }
    let folder = kept.keys().find_map(|name| extensions[name].path.rsplit_once('/')).map(|(folder, _)| folder);
    if let Some(folder) = folder {
        text += &format!("extension_dir = \"${{{HOME}}}/{folder}\"\n");
    }
    for name in order {
        let kind = if READ.only.contains(name) { "zend_extension" } else { "extension" };
        text += &format!("{kind} = {name}\n");
    }
    let Ok(path) = RelPath::new(SETTINGS).map(|path| path.below(&runtime.into)) else { return };
    let size = text.len() as u64;
    let source = Source::Memory(text.into_bytes().into());
    if runtime.file(payload, SETTINGS).is_some() {
        runtime.put(payload, SETTINGS, source, size);
        return;
    }
    let Some(layer) = payload.files.iter().find(|file| runtime.inside(&file.path).is_some()).map(|file| file.layer)
    else {
        return;
    };
    if let Some(share) = payload.shares.get_mut(layer) {
        (share.bytes, share.files) = (share.bytes + size, share.files + 1);
    }
    let at = payload.files.partition_point(|file| file.path < path);
    payload.files.insert(at, PayloadFile { path, mode: 0o644, size, source, layer, further_name: false });
}
