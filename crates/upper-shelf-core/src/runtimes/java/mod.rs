//! Java runtimes: which modules a product needs, and a module image with these alone.

mod archives;
mod files;
mod modules;

use super::{Doubt, Keep, Module, Runtime, Trimmed, Wanted};
use crate::payload::{Payload, PayloadFile, Source, Stamp};
use crate::problem::{Code, Failure, Problem};
use crate::sources;
use archives::Found;
use java_class::{Method, Returns};
use module_image::{Content, Image, Writer};
use modules::{BASE, Modules};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufWriter, Write};
use std::path::Path;

/// Changes whenever the same modules give other bytes.
const FORM: u32 = 1;
const IMAGE: &str = "lib/modules";
/// `java.base` knows all modules of the whole image in classes of these names; without them the descriptors are read.
const KNOWS_ALL: &str = "jdk/internal/module/SystemModules$";
const CHOOSES: &str = "jdk/internal/module/SystemModulesMap";
/// A list of a runtime's properties is no longer than this, bytes.
const LONGEST_LIST: u64 = 1 << 20;

/// Makes a Java runtime smaller, and says what is wrong or noteworthy.
pub fn trim(runtime: &Runtime, payload: &mut Payload, trimmed: &mut Trimmed) -> Vec<Problem> {
    let Some(image) = runtime.file(payload, IMAGE) else {
        let what = format!("the runtime {:?} has no file {IMAGE}", runtime.key);
        let end = format!("/{IMAGE}");
        let found = payload.files.iter().filter_map(|file| runtime.inside(&file.path)?.strip_suffix(&end)).min();
        let problem = runtime.problem(what, "from").why("a Java runtime's folder has `bin` and `lib` in it");
        return vec![problem.instead(match found {
            Some(folder) => format!("the folder {folder} in it"),
            None => "the folder of a Java runtime, or of a development kit".into(),
        })];
    };
    let unreadable = |e: &dyn std::fmt::Display| {
        let problem = runtime.problem(format!("the modules of the runtime {:?} can't be read", runtime.key), "from");
        vec![problem.why(e.to_string()).instead("another build of the runtime")]
    };
    let image_file = image.clone();
    let source = match image_file.source.open() {
        Ok(source) => source,
        Err(e) => return unreadable(&e),
    };
    let image = match Image::open(source) {
        Ok(image) => image,
        Err(e) => return unreadable(&e),
    };
    let modules = match Modules::read(&image) {
        Ok(modules) => modules,
        Err(e) => return unreadable(&e),
    };
    let list = release(runtime, payload);
    trimmed.version = list.as_deref().and_then(|list| property(list, "JAVA_VERSION")).map(str::to_owned);

    let mut found = Found::default();
    for file in payload.files.iter().filter(|file| runtime.inside(&file.path).is_none()) {
        found.look(file, &modules);
    }
    let mut problems = too_new(runtime, &found, &modules);
    for (path, why) in &found.unreadable {
        let problem = Problem::warning(Code::RuntimePart, format!("what {path} needs of Java is not known"));
        problems.push(problem.about_setting(format!("{}.keep", runtime.setting)).why(why.clone()));
    }
    let wanted = match wanted(runtime, &modules) {
        Ok(wanted) => wanted,
        Err(wrong) => {
            problems.extend(wrong);
            return problems;
        }
    };
    let Wanted { roots, without, drop, .. } = wanted;
    let without: BTreeSet<&str> = without.iter().map(String::as_str).collect();
    let kept = match &runtime.keep {
        Keep::All => modules
            .all
            .keys()
            .filter(|name| !without.contains(**name))
            .map(|name| ((*name).to_owned(), "all are kept".to_owned()))
            .collect(),
        Keep::Used => {
            let mut all = found.needed.clone();
            all.extend(roots);
            modules.closure(all, &without)
        }
        Keep::These(_) => modules.closure(roots, &without),
    };
    let (doubts, more) = doubts(runtime, &modules, &found, &kept, &without);
    problems.extend(more);
    trimmed.doubts = doubts;
    trimmed.modules = modules
        .all
        .iter()
        .map(|(name, one)| Module { name: (*name).to_owned(), bytes: one.bytes, why: kept.get(*name).cloned() })
        .collect();
    let names: BTreeSet<&str> = kept.keys().map(String::as_str).collect();
    let is_whole = names.len() == modules.all.len();
    if !is_whole {
        match written(&image_file, &image, &modules, &names) {
            Ok((source, size)) => runtime.put(payload, IMAGE, source, size),
            Err(failure) => problems.extend(failure.problems),
        }
        if let Some(list) = list {
            let bytes = with_modules(&list, &names);
            let size = bytes.len() as u64;
            runtime.put(payload, "release", Source::Memory(bytes.into_bytes().into()), size);
        }
    }
    let programs: BTreeSet<&str> = runtime.programs.iter().filter_map(|path| runtime.inside(path)).collect();
    let keeps_all = runtime.keep == Keep::All;
    runtime.retain(payload, |path| {
        let is_dropped = drop.as_ref().is_some_and(|drop| drop.is_match(path));
        // An archive of classes fits only the image that it was made for.
        let is_stale = !is_whole && path.ends_with(".jsa");
        !is_dropped && !is_stale && (keeps_all || programs.contains(path) || files::stays(path, &names))
    });
    problems
}

/// The properties of a runtime, as it says them itself.
fn release(runtime: &Runtime, payload: &Payload) -> Option<String> {
    let file = runtime.file(payload, "release").filter(|file| file.size <= LONGEST_LIST)?;
    String::from_utf8(file.bytes().ok()?).ok()
}

fn property<'l>(list: &'l str, key: &str) -> Option<&'l str> {
    let mut lines = list.lines().filter_map(|line| line.split_once('='));
    lines.find(|(name, _)| *name == key).map(|(_, value)| value.trim().trim_matches('"'))
}

/// The properties with other modules.
fn with_modules(list: &str, modules: &BTreeSet<&str>) -> String {
    let all = list.lines().map(|line| match line.starts_with("MODULES=") {
        true => {
            // In the order in which they stood there, in which each follows what it needs.
            let there = line.trim_start_matches("MODULES=").trim_matches('"').split(' ');
            format!("MODULES=\"{}\"\n", there.filter(|name| modules.contains(name)).collect::<Vec<_>>().join(" "))
        }
        false => format!("{line}\n"),
    });
    all.collect()
}

/// What the manifest wants of the modules.
fn wanted(runtime: &Runtime, modules: &Modules) -> Result<Wanted, Vec<Problem>> {
    let absent = format!("the runtime {:?} has no module", runtime.key);
    let meant = |name: &str| modules.all.contains_key(name).then(|| vec![name.to_owned()]);
    let mut wanted = Wanted::new(runtime, &absent, modules.all.keys().copied(), meant);
    wanted.roots.insert(BASE.to_owned(), "every program needs it".to_owned());
    if wanted.without.contains(BASE) {
        let problem = runtime.problem(format!("{BASE} can't be left out"), "drop");
        wanted.problems.push(problem.why("every program needs it").instead("leave it out of `drop`"));
    }
    if wanted.problems.is_empty() { Ok(wanted) } else { Err(wanted.problems) }
}

/// Archives that need a later Java.
fn too_new(runtime: &Runtime, found: &Found, modules: &Modules) -> Vec<Problem> {
    let own = archives::Runtime::java(modules);
    let all = found.too_new.iter().map(|(path, java)| {
        let problem = runtime
            .problem(format!("{path} needs Java {java}, and the runtime {:?} is Java {own}", runtime.key), "from");
        let problem = problem.why("it holds classes that an older Java refuses");
        problem.instead(format!("a runtime of Java {java} or later; or compile it with `--release {own}`"))
    });
    all.collect()
}

/// What was left out, and may be looked for. What the product's own classes speak for is a warning.
fn doubts(
    runtime: &Runtime,
    modules: &Modules,
    found: &Found,
    kept: &BTreeMap<String, String>,
    without: &BTreeSet<&str>,
) -> (Vec<Doubt>, Vec<Problem>) {
    let mut all: BTreeMap<&str, Doubt> = BTreeMap::new();
    let mut problems = Vec::new();
    let is_open = |module: &str| !kept.contains_key(module) && !without.contains(module);
    for (module, why) in found.named.iter().filter(|(module, _)| is_open(module)) {
        let what = format!("the runtime {:?} comes without {module}, which may be looked for by name", runtime.key);
        let problem = Problem::warning(Code::RuntimePart, what).about_setting(format!("{}.key", runtime.setting));
        problems.push(
            problem.why(why.clone()).instead(format!("also = [{module:?}], or drop = [{module:?}] if it isn't needed")),
        );
        all.insert(module, Doubt { module: module.clone(), why: why.clone() });
    }
    for (module, why) in found.hinted.iter().filter(|(module, _)| is_open(module)) {
        // Later versions of Java have some of these only as names, and what they did elsewhere.
        if modules.all.get(module.as_str()).is_some_and(|one| one.files.len() > 1) {
            all.entry(module).or_insert_with(|| Doubt { module: module.clone(), why: why.clone() });
        }
    }
    for (module, (service, user)) in modules.services(kept) {
        if is_open(module) {
            let why = format!("it brings {}, which {user} looks for", service.replace('/', "."));
            all.entry(module).or_insert_with(|| Doubt { module: module.to_owned(), why });
        }
    }
    (all.into_values().collect(), problems)
}

/// The image with some modules: from the cache, or made now.
fn written<R: read_at::ReadAt>(
    file: &PayloadFile,
    image: &Image<R>,
    modules: &Modules,
    names: &BTreeSet<&str>,
) -> Result<(Source, u64), Failure> {
    // What it is made of, as far as that can be seen without reading all of it.
    let of = format!("{FORM}\n{:?}\n{}\n", file.source, names.iter().copied().collect::<Vec<_>>().join(" "));
    let made = sources::made(&of, "modules", &format!("made for Java programs: {} modules", names.len()), |path| {
        write(path, image, modules, names).map_err(|e| match e {
            module_image::Error::Io(e) => Failure::io("can't write", path, e),
            e => Failure::io("can't write", path, std::io::Error::other(e)),
        })
    })?;
    let meta = made.metadata().map_err(|e| Failure::io("can't read", &made, e))?;
    Ok((Source::Disk(made, Stamp::of(&meta)), meta.len()))
}

fn write<R: read_at::ReadAt>(
    path: &Path,
    image: &Image<R>,
    modules: &Modules,
    names: &BTreeSet<&str>,
) -> module_image::Result<()> {
    let mut writer = Writer::new();
    for entry in modules.all.iter().filter(|(name, _)| names.contains(**name)).flat_map(|(_, one)| &one.files) {
        let path = entry.name.path();
        if entry.name.module == BASE && path.starts_with(KNOWS_ALL) {
            continue;
        }
        let content = match path.strip_suffix(".class") {
            Some(CHOOSES) if entry.name.module == BASE => Content::Memory(knows_none()),
            _ => Content::Copied(*entry),
        };
        writer.add(&entry.name.to_string(), content)?;
    }
    let mut out = BufWriter::new(std::fs::File::create(path)?);
    writer.write(image, &mut out)?;
    Ok(out.flush()?)
}

/// The class that chooses among those that know all modules, without any.
fn knows_none() -> Vec<u8> {
    let none = |name| Method { name, returned: "Ljdk/internal/module/SystemModules;", returns: Returns::Nothing };
    let names =
        |name| Method { name, returned: "[Ljava/lang/String;", returns: Returns::EmptyArray("java/lang/String") };
    java_class::simple(
        CHOOSES,
        &[none("allSystemModules"), none("defaultSystemModules"), names("moduleNames"), names("classNames")],
    )
}
