//! What the classes of a product refer to: in its Java archives, in archives in these, and in folders of classes.

use super::files::hints;
use crate::payload::PayloadFile;
use read_at::{Cursor, ReadAt};
use std::collections::BTreeMap;
use std::io::{Read, Seek};

/// A class file, or an archive in an archive, is no longer than this, bytes.
const LONGEST: u64 = 256 << 20;
/// What is read of an archive, and of those in it, is no longer than this together, bytes: a small one can ask for terabytes.
const MOST: u64 = 4 << 30;
/// An archive lies in an archive, and this in a third one at most.
const DEEPEST: usize = 2;
/// Where classes for later versions of Java lie (JEP 238).
const VERSIONS: &str = "META-INF/versions/";

/// The classes of a runtime, and what they belong to.
pub trait Runtime {
    /// The module that has a class.
    fn module_of(&self, class: &str) -> Option<&str>;
    /// Whether there is a module of this name.
    fn has(&self, module: &str) -> bool;
    /// Its Java, such as 17.
    fn java(&self) -> u16;
}

/// What was found.
#[derive(Debug, Default)]
pub struct Found {
    /// Modules that are needed, and the first reason for each.
    pub needed: BTreeMap<String, String>,
    /// Modules with classes whose names stand in texts.
    pub named: BTreeMap<String, String>,
    /// Modules that may be looked for.
    pub hinted: BTreeMap<String, String>,
    /// Archives with classes for a later Java, and that Java.
    pub too_new: BTreeMap<String, u16>,
    /// Archives that can't be read, and why.
    pub unreadable: BTreeMap<String, String>,
    /// How many classes were read.
    pub classes: usize,
    /// Bytes that were read of the archive at hand.
    bytes: u64,
}

/// Which Java a name in an archive is for, and the name without that.
fn versioned(name: &str) -> (u16, &str) {
    let split = name.strip_prefix(VERSIONS).and_then(|rest| rest.split_once('/'));
    split.and_then(|(java, rest)| Some((java.parse().ok()?, rest))).unwrap_or((0, name))
}

impl Found {
    /// Looks through a file of the product, if it may hold classes.
    pub fn look(&mut self, file: &PayloadFile, runtime: &impl Runtime) {
        let path = file.path.as_str();
        let end = path.rsplit_once('.').map(|(_, end)| end.to_lowercase()).unwrap_or_default();
        let is_archive = matches!(end.as_str(), "jar" | "war" | "ear" | "jmod");
        if !is_archive && end != "class" {
            return;
        }
        self.bytes = 0;
        let looked = file.source.open().and_then(|source| {
            if is_archive {
                return self.archive(Cursor::new(source), path, 0, runtime).map_err(std::io::Error::other);
            }
            let mut bytes = vec![0; file.size.min(LONGEST) as usize];
            source.read_exact_at(&mut bytes, 0)?;
            self.class(&bytes, path, runtime);
            Ok(())
        });
        if let Err(e) = looked {
            self.unreadable.insert(path.to_owned(), e.to_string());
        }
    }

    fn archive(
        &mut self,
        source: impl Read + Seek,
        path: &str,
        depth: usize,
        runtime: &impl Runtime,
    ) -> Result<(), String> {
        let mut archive = zip::ZipArchive::new(source).map_err(|e| e.to_string())?;
        for n in 0..archive.len() {
            let entry = archive.by_index(n).map_err(|e| e.to_string())?;
            let name = entry.name().map_err(|e| e.to_string())?.into_owned();
            let (java, rest) = versioned(&name);
            let is_class = rest.ends_with(".class");
            let is_archive = rest.ends_with(".jar") && depth < DEEPEST;
            let is_list = name == "META-INF/MANIFEST.MF";
            // What is for a later Java is not looked at by this one.
            if !(is_class || is_archive || is_list) || java > runtime.java() {
                continue;
            }
            let mut bytes = Vec::new();
            entry.take(LONGEST + 1).read_to_end(&mut bytes).map_err(|e| format!("{name}: {e}"))?;
            self.bytes += bytes.len() as u64;
            if bytes.len() as u64 > LONGEST || self.bytes > MOST {
                return Err(format!("{name} is too long"));
            }
            if is_class {
                self.class(&bytes, path, runtime);
            } else if is_list {
                self.opened(&String::from_utf8_lossy(&bytes), path, runtime);
            } else {
                self.archive(std::io::Cursor::new(bytes), &format!("{path}/{name}"), depth + 1, runtime)?;
            }
        }
        Ok(())
    }

    /// The packages that an archive's manifest opens: `java.desktop/sun.awt java.base/sun.nio.ch` (JEP 261).
    fn opened(&mut self, list: &str, path: &str, runtime: &impl Runtime) {
        // Lines that are too long go on behind a blank.
        let list = list.replace("\r\n", "\n").replace("\n ", "");
        for (key, value) in list.lines().filter_map(|line| line.split_once(": ")) {
            if !matches!(key, "Add-Exports" | "Add-Opens") {
                continue;
            }
            for module in value.split_whitespace().filter_map(|word| word.split_once('/')).map(|(module, _)| module) {
                if runtime.has(module) {
                    self.need(module, || format!("{path} opens it ({key})"));
                }
            }
        }
    }

    fn need(&mut self, module: &str, why: impl FnOnce() -> String) {
        if !self.needed.contains_key(module) {
            self.needed.insert(module.to_owned(), why());
        }
    }

    fn class(&mut self, bytes: &[u8], path: &str, runtime: &impl Runtime) {
        let class = match java_class::read(bytes) {
            Ok(class) => class,
            Err(e) => {
                self.unreadable.entry(path.to_owned()).or_insert_with(|| e.to_string());
                return;
            }
        };
        self.classes += 1;
        if class.java > runtime.java() {
            let java = self.too_new.entry(path.to_owned()).or_default();
            *java = class.java.max(*java);
        }
        let dotted = |name: &str| name.replace('/', ".");
        if let Some(module) = &class.module {
            let required = module.requires.iter().filter(|requires| !requires.only_to_compile);
            for requires in required.filter(|requires| runtime.has(&requires.module)) {
                self.need(&requires.module, || format!("the module {} in {path} requires it", module.name));
            }
        }
        for name in &class.classes {
            if let Some(module) = runtime.module_of(name) {
                self.need(module, || format!("{} in {path} uses {}", dotted(&class.name), dotted(name)));
            }
            for hint in hints() {
                let fits = match hint.class.strip_suffix('/') {
                    Some(package) => name.strip_prefix(package).is_some_and(|rest| rest.starts_with('/')),
                    None => *name == hint.class,
                };
                if fits && runtime.has(hint.module) && !self.hinted.contains_key(hint.module) {
                    let why = format!("{} in {path} uses {}: {}", dotted(&class.name), dotted(name), hint.why);
                    self.hinted.insert(hint.module.to_owned(), why);
                }
            }
        }
        for text in &class.texts {
            // `java.sql.DriverManager`, as reflection has it.
            let is_name = text.contains('.') && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"._$".contains(&b));
            let Some(module) =
                is_name.then(|| text.replace('.', "/")).and_then(|name| runtime.module_of(&name).map(str::to_owned))
            else {
                continue;
            };
            self.named
                .entry(module)
                .or_insert_with(|| format!("{} in {path} has the name {text}", dotted(&class.name)));
        }
    }
}
