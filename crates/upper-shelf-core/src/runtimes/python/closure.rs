//! Which modules of a runtime are needed: imports, followed.

use super::super::{Runtime, natives};
use super::library::{Form, LONGEST, Library, One, read_entry};
use super::product::{imports, is_test};
use super::rules::rules;
use crate::payload::Payload;
use python_code::When;
use read_at::{Cursor, ReadAt};
use std::collections::{BTreeMap, BTreeSet};

/// What is needed, and what may be.
#[derive(Debug, Default)]
pub struct Closure {
    /// Each module with the reason for which it comes along.
    pub needed: BTreeMap<String, String>,
    /// Modules that are imported within functions only, which are not followed; and by whom.
    pub perhaps: BTreeMap<String, String>,
    /// What can't be read, and why.
    pub unreadable: BTreeMap<String, String>,
}

/// Follows imports. Those within functions are followed in the product's code, in what others made, and in the modules of Python that these
/// import themselves: these are what a product uses. In what only those need, they are mostly about things that nobody asked for.
pub struct Follow<'f> {
    runtime: &'f Runtime,
    payload: &'f Payload,
    library: &'f Library,
    archive: Option<zip::ZipArchive<Cursor<Box<dyn ReadAt>>>>,
    /// Modules that were looked at, and whether their functions were, too.
    seen: BTreeMap<String, bool>,
    next: Vec<(String, String, bool)>,
    /// Distributions that come along, by their places in the library's list.
    whole: BTreeSet<usize>,
    /// What every program needs, whatever the product is.
    always: Vec<&'f str>,
    closure: Closure,
}

impl<'f> Follow<'f> {
    pub fn new(runtime: &'f Runtime, payload: &'f Payload, library: &'f Library) -> Self {
        let archive = library.archive.as_ref().and_then(|path| {
            let source = runtime.file(payload, path)?.source.open().ok()?;
            zip::ZipArchive::new(Cursor::new(source)).ok()
        });
        Self {
            runtime,
            payload,
            library,
            archive,
            seen: BTreeMap::new(),
            next: Vec::new(),
            whole: BTreeSet::new(),
            always: Vec::new(),
            closure: Closure::default(),
        }
    }

    /// Adds a module; `deep` says whether what its functions import is needed, too.
    pub fn root(&mut self, name: &str, why: &str, deep: bool) {
        self.next.push((name.to_owned(), why.to_owned(), deep));
    }

    /// Adds a module that every program needs.
    pub fn always(&mut self, name: &'f str) {
        self.always.push(name);
    }

    /// Follows all of them, the product's first. What is in `without` stays out, with all that is in it.
    pub fn all(mut self, without: &dyn Fn(&str) -> bool) -> Closure {
        self.next.reverse();
        self.follow(without);
        let perhaps = std::mem::take(&mut self.closure.perhaps);
        let always =
            self.always.iter().rev().map(|name| ((*name).to_owned(), "every program needs it".to_owned(), false));
        self.next.extend(always);
        self.follow(without);
        // What the functions of those import says nothing of the product.
        self.closure.perhaps = perhaps;
        let needed = &self.closure.needed;
        self.closure.perhaps.retain(|name, _| !needed.contains_key(name) && !without(name));
        self.closure
    }

    fn follow(&mut self, without: &dyn Fn(&str) -> bool) {
        while let Some((name, why, deep)) = self.next.pop() {
            if without(&name) {
                continue;
            }
            let Some(one) = self.library.modules.get(&name) else { continue };
            let deep = deep || !one.is_standard;
            match self.seen.insert(name.clone(), deep) {
                Some(was) if was >= deep => {
                    self.seen.insert(name, was);
                    continue;
                }
                Some(_) => {}
                None => drop(self.closure.needed.insert(name.clone(), why)),
            }
            // Packages are imported before what is in them.
            if let Some((package, _)) = name.rsplit_once('.') {
                self.next.push((package.to_owned(), format!("{name} is in it"), false));
            }
            if let Err(why) = self.module(&name, one, deep) {
                self.closure.unreadable.insert(one.path.clone(), why);
            }
            for also in rules().also(&name) {
                for other in self.library.meant(also) {
                    self.next.push((
                        other.to_owned(),
                        format!("{name} needs it, without an import that says so"),
                        false,
                    ));
                }
            }
            if !one.is_standard {
                self.as_a_whole(&name, one);
            }
        }
    }

    fn module(&mut self, name: &str, one: &One, deep: bool) -> Result<(), String> {
        let library = self.library;
        let bytes = if one.is_in_archive {
            let Some(archive) = &mut self.archive else { return Ok(()) };
            read_entry(archive, &one.path)?
        } else {
            let Some(file) = self.runtime.file(self.payload, &one.path) else { return Ok(()) };
            if one.form == Form::Extension {
                if !one.is_standard {
                    let has = |name: &str| name != "test" && library.modules.contains_key(name);
                    for found in natives::texts(file, has).map_err(|e| e.to_string())? {
                        self.next.push((found, format!("{} has its name", one.path), true));
                    }
                }
                return Ok(());
            }
            if file.size > LONGEST {
                return Err("it is too long".into());
            }
            file.bytes().map_err(|e| e.to_string())?
        };
        for import in imports(&bytes, one.form)? {
            let is_followed = deep || import.when != When::Called;
            for means in import.means(name, one.is_package) {
                if !library.modules.contains_key(&means) || one.is_standard && rules().is_aside(name, &means) {
                    continue;
                }
                if is_followed {
                    self.next.push((means, format!("{name} imports it"), !one.is_standard));
                } else {
                    self.closure.perhaps.entry(means).or_insert_with(|| format!("a function of {name} imports it"));
                }
            }
        }
        Ok(())
    }

    /// What was installed comes along as a whole: much of it is looked up by name.
    fn as_a_whole(&mut self, name: &str, one: &One) {
        let Some(n) = self.library.distributions.iter().position(|own| own.has(&one.path)) else { return };
        if !self.whole.insert(n) {
            return;
        }
        let own = &self.library.distributions[n];
        for (other, there) in &self.library.modules {
            if own.has(&there.path) && !self.seen.contains_key(other) && !is_test(other) {
                self.next.push((other.clone(), format!("{name} belongs to it"), true));
            }
        }
    }
}
