//! Python runtimes: which modules a product imports, and these alone.

mod closure;
mod library;
mod product;
mod rules;

use super::natives;
use super::{Doubt, Keep, Module, Runtime, Trimmed, Wanted};
use crate::footprint::RelPath;
use crate::payload::{Payload, PayloadFile, Source, Stamp};
use crate::problem::{Code, Failure, Problem};
use crate::sources;
use closure::{Closure, Follow};
use library::Library;
use product::{Found, Search, from_to};
use python_code::unchecked;
use read_at::Cursor;
use rules::rules;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

/// Changes whenever the same modules give other bytes.
const FORM: u32 = 1;
/// So many modules that are imported and nowhere to be found are told.
const MOST_MISSING: usize = 20;

/// Makes a Python runtime smaller, and says what is wrong or noteworthy.
pub fn trim(runtime: &Runtime, payload: &mut Payload, trimmed: &mut Trimmed) -> Vec<Problem> {
    let unreadable = |why: String| {
        let problem = runtime.problem(format!("the modules of the runtime {:?} can't be read", runtime.key), "from");
        vec![problem.why(why).instead("another build of the runtime")]
    };
    let library = match Library::find(runtime, payload) {
        Ok(Some(library)) => library,
        Ok(None) => {
            let problem = runtime.problem(format!("the runtime {:?} has no modules of Python", runtime.key), "from");
            if runtime.file(payload, "pyvenv.cfg").is_some() {
                let problem = problem.why("it is a virtual environment, which takes them from the Python that made it");
                return vec![problem.instead("the folder of that Python; and a layer with what is in site-packages")];
            }
            let why = "they lie in lib/python3.X, on Windows in Lib or in python3X.zip, beside what is started";
            return vec![problem.why(why).instead("the folder of a Python")];
        }
        Err(why) => return unreadable(why),
    };
    trimmed.version = Some(format!("3.{}", library.minor));
    let absent = format!("the runtime {:?} has no module", runtime.key);
    let meant = |name: &str| {
        let all: Vec<String> = library.meant(name).into_iter().map(str::to_owned).collect();
        (!all.is_empty() || rules().is_builtin(name)).then_some(all)
    };
    let names = library.modules.keys().map(String::as_str);
    let Wanted { roots, without, drop, mut problems } = Wanted::new(runtime, &absent, names, meant);
    if !problems.is_empty() {
        return problems;
    }
    let has = |name: &str| library.modules.contains_key(name);
    let mut search = Search::new(payload, library.minor, &has);
    for file in payload.files.iter().filter(|file| runtime.inside(&file.path).is_none()) {
        search.look(file, runtime.scripts.contains(&file.path));
    }
    let found = search.found;
    problems.extend(other_python(runtime, payload, &found, library.minor));
    let is_left = |name: &str| {
        without
            .iter()
            .any(|one| name.strip_prefix(one.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('.')))
    };
    let mut follow = Follow::new(runtime, payload, &library);
    roots.iter().for_each(|(name, why)| follow.root(name, why, true));
    match &runtime.keep {
        Keep::Used => found.imports.iter().for_each(|(name, why)| follow.root(name, why, true)),
        Keep::All => library.modules.keys().for_each(|name| follow.root(name, "all are kept", false)),
        Keep::These(_) => {}
    }
    let always = rules().always.iter().flat_map(|name| library.meant(name));
    always.filter(|name| !rules().is_apart(name)).for_each(|name| follow.always(name));
    let Closure { needed, perhaps, unreadable } = follow.all(&is_left);
    // Where all of it is kept, nothing depends on what its modules import.
    if let Some((path, why)) = unreadable.first_key_value().filter(|_| runtime.keep != Keep::All) {
        let what = format!("a module of the runtime {:?} can't be read: {path}", runtime.key);
        let problem = runtime.problem(what, "from").why(why.clone());
        problems.push(problem.instead("another build of the runtime, or keep = \"all\""));
        return problems;
    }
    // What can't be read may import anything.
    for (path, why) in &found.unreadable {
        let what = format!("what {path} imports is not known");
        problems.push(
            Problem::warning(Code::RuntimePart, what)
                .about_setting(format!("{}.key", runtime.setting))
                .why(why.clone())
                .instead("`also` with the modules that it needs, or keep = \"all\""),
        );
    }
    problems.extend(missing(runtime, &library, &found, &is_left));
    trimmed.modules = library
        .modules
        .iter()
        .map(|(name, one)| Module { name: name.clone(), bytes: one.bytes, why: needed.get(name).cloned() })
        .collect();
    if runtime.keep == Keep::Used {
        trimmed.doubts = perhaps.into_iter().map(|(module, why)| Doubt { module, why }).collect();
    }
    if let Err(failure) = archive(runtime, payload, &library, &needed) {
        problems.extend(failure.problems);
    }
    files(runtime, payload, &library, &needed, drop.as_ref());
    search_paths(runtime, payload);
    problems
}

/// Code that this Python never loads.
fn other_python(runtime: &Runtime, payload: &Payload, found: &Found, minor: u8) -> Vec<Problem> {
    let all = found.without_right(&payload.files, minor).into_iter().map(|(path, other)| {
        let what = format!("{path} is for Python 3.{other}, and the runtime {:?} is Python 3.{minor}", runtime.key);
        let problem = runtime.problem(what, "from").why("no other Python loads it");
        problem.instead(format!("a runtime of Python 3.{other}, or the same code for Python 3.{minor}"))
    });
    all.collect()
}

/// Modules that the product's own code imports in any case, and that nobody has.
fn missing(runtime: &Runtime, library: &Library, found: &Found, is_left: &dyn Fn(&str) -> bool) -> Vec<Problem> {
    let top = |name: &str| name.split('.').next().unwrap_or(name).to_owned();
    let tops: HashSet<String> = library.modules.keys().map(|name| top(name)).collect();
    let mut told = BTreeSet::new();
    let all = found.certain.iter().filter_map(|(name, why)| {
        let top = top(name);
        let is_there = tops.contains(&top) || found.own.contains(&top) || rules().is_builtin(&top);
        if is_there && !is_left(name) || !told.insert(top.clone()) {
            return None;
        }
        let what = format!("there is no module {top}, neither in the payload nor in the runtime {:?}", runtime.key);
        let problem = Problem::warning(Code::RuntimePart, what).about_setting(format!("{}.key", runtime.setting));
        Some(problem.why(why.replace("imports it", &format!("imports {name}"))).instead("a [[layer]] with it"))
    });
    all.take(MOST_MISSING).collect()
}

/// The archive with the modules that are needed: from the cache, or made now.
fn archive(
    runtime: &Runtime,
    payload: &mut Payload,
    library: &Library,
    needed: &BTreeMap<String, String>,
) -> Result<(), Failure> {
    let Some(path) = &library.archive else { return Ok(()) };
    let Some(file) = runtime.file(payload, path) else { return Ok(()) };
    let inside = library.modules.iter().filter(|(_, one)| one.is_in_archive);
    let names: BTreeSet<&str> =
        inside.clone().filter(|(name, _)| needed.contains_key(*name)).map(|(_, one)| one.path.as_str()).collect();
    if names.len() == inside.count() {
        return Ok(());
    }
    let of = format!("{FORM}\n{:?}\n{}\n", file.source, names.iter().copied().collect::<Vec<_>>().join(" "));
    let name = path.rsplit('/').next().unwrap_or(path);
    let made = sources::made(&of, name, &format!("made for Python programs: {} modules", names.len()), |to| {
        write(file, &names, to).map_err(|e| Failure::io("can't write", to, e))
    })?;
    let meta = made.metadata().map_err(|e| Failure::io("can't read", &made, e))?;
    runtime.put(payload, path, Source::Disk(made, Stamp::of(&meta)), meta.len());
    Ok(())
}

/// Entries are copied as they are: what was compressed is not compressed again.
fn write(file: &PayloadFile, names: &BTreeSet<&str>, to: &Path) -> std::io::Result<()> {
    let other = std::io::Error::other::<zip::result::ZipError>;
    let mut archive = zip::ZipArchive::new(Cursor::new(file.source.open()?)).map_err(other)?;
    let mut out = zip::ZipWriter::new(std::io::BufWriter::new(std::fs::File::create(to)?));
    for n in 0..archive.len() {
        let entry = archive.by_index_raw(n).map_err(other)?;
        let is_kept = entry.name().is_ok_and(|name| names.contains(&*name));
        if is_kept {
            out.raw_copy_file(entry).map_err(other)?;
        }
    }
    out.finish().map_err(other)?.into_inner().map_err(|e| e.into_error())?.sync_all()
}

/// Takes out the files of what is not needed.
fn files(
    runtime: &Runtime,
    payload: &mut Payload,
    library: &Library,
    needed: &BTreeMap<String, String>,
    drop: Option<&globset::GlobSet>,
) {
    let kept: BTreeSet<&str> = needed.keys().map(String::as_str).collect();
    let whole: HashSet<usize> = library
        .distributions
        .iter()
        .enumerate()
        .filter(|(_, own)| {
            needed
                .keys()
                .any(|name| library.modules.get(name).is_some_and(|one| !one.is_in_archive && own.has(&one.path)))
        })
        .map(|(n, _)| n)
        .collect();
    let programs: HashSet<String> = runtime.started(payload);
    let keeps_all = runtime.keep == Keep::All;
    let stays = |path: &str| {
        if programs.contains(path) {
            return true;
        }
        if let Some(n) = library.distributions.iter().position(|own| own.has(path)) {
            return whole.contains(&n);
        }
        let is_of_this = library.cached.get(path).is_none_or(|(_, is_of_this)| *is_of_this);
        match library.owner(path) {
            Some(module) => kept.contains(module) && is_of_this,
            None if path.contains("__pycache__/") => keeps_all,
            None => keeps_all || rules().stays(path, &kept),
        }
    };
    let is_dropped = |path: &str| drop.is_some_and(|drop| drop.is_match(path));
    let without = natives::unused(runtime, payload, |path| stays(path) && !is_dropped(path));
    runtime.retain(payload, |path| stays(path) && !is_dropped(path) && !without.contains(path));
    // Beside a source lies what was compiled of it, for a time of the source that packages don't keep.
    let cached = payload
        .files
        .iter_mut()
        .filter(|file| runtime.inside(&file.path).is_some_and(|path| library.cached.contains_key(path)));
    for file in cached {
        if let Some(bytes) = file.bytes().ok().and_then(|bytes| unchecked(&bytes)) {
            file.source = Source::Memory(bytes.into());
        }
    }
}

/// A Python for embedding only looks for modules in the folders of a list: those of scripts are added.
fn search_paths(runtime: &Runtime, payload: &mut Payload) {
    let own = payload.files.iter().filter_map(|file| runtime.inside(&file.path).map(str::to_owned));
    let Some(path) = own.into_iter().find(|path| !path.contains('/') && path.ends_with("._pth")) else { return };
    let Some(Ok(bytes)) = runtime.file(payload, &path).map(PayloadFile::bytes) else { return };
    let mut list = String::from_utf8_lossy(&bytes).replace("\r\n", "\n");
    let folders: BTreeSet<String> = runtime
        .scripts
        .iter()
        .map(|script| from_to(&runtime.into, script.parent().as_ref().map_or("", RelPath::as_str)))
        .collect();
    if folders.is_empty() {
        return;
    }
    if !list.ends_with('\n') {
        list.push('\n');
    }
    for folder in folders.iter().filter(|folder| !list.lines().any(|line| line == *folder)).cloned().collect::<Vec<_>>()
    {
        list += &format!("{folder}\n");
    }
    let bytes = list.replace('\n', "\r\n").into_bytes();
    let size = bytes.len() as u64;
    runtime.put(payload, &path, Source::Memory(bytes.into()), size);
}
