//! The modules of a runtime, and which of them need which others.

use super::archives;
use java_class::Module;
use module_image::{Entry, Error, Image};
use read_at::ReadAt;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Which module is always there.
pub const BASE: &str = "java.base";

/// One module.
pub struct One<'i> {
    /// What it says of itself.
    pub says: Module,
    /// Its files.
    pub files: Vec<Entry<'i>>,
    /// Bytes of these.
    pub bytes: u64,
}

/// All modules of a runtime.
pub struct Modules<'i> {
    pub all: BTreeMap<&'i str, One<'i>>,
    /// The module of every class, by the class's package and name.
    classes: HashMap<(&'i str, &'i str), &'i str>,
    java: u16,
}

impl<'i> Modules<'i> {
    /// Reads them from an image.
    ///
    /// # Errors
    /// The image is damaged.
    pub fn read<R: ReadAt>(image: &'i Image<R>) -> Result<Self, Error> {
        let mut files: BTreeMap<&str, Vec<Entry>> = BTreeMap::new();
        let mut classes = HashMap::new();
        for entry in image.entries() {
            let entry = entry?;
            if entry.name.is_of_a_tree() {
                continue;
            }
            if entry.name.extension == "class" {
                classes.insert((entry.name.folder, entry.name.base), entry.name.module);
            }
            files.entry(entry.name.module).or_default().push(entry);
        }
        let mut all = BTreeMap::new();
        let mut java = 0;
        for (name, files) in files {
            let file = format!("/{name}/module-info.class");
            let Some(entry) = image.find(&file)? else {
                return Err(Error::Usage(format!("the module {name} has no descriptor")));
            };
            let bytes = image.content(&entry)?;
            let class = java_class::read(&bytes)?;
            if name == BASE {
                java = class.java;
            }
            let says = class.module.ok_or_else(|| Error::Usage(format!("{file} describes no module")))?;
            let bytes = files.iter().map(|entry| entry.size).sum();
            all.insert(name, One { says, files, bytes });
        }
        if java == 0 {
            return Err(Error::Usage(format!("it has no module {BASE}")));
        }
        Ok(Self { all, classes, java })
    }

    /// All modules that some modules need, themselves among them, each with a reason. Those in `without` are not followed.
    pub fn closure(&self, roots: BTreeMap<String, String>, without: &BTreeSet<&str>) -> BTreeMap<String, String> {
        let mut reached = BTreeMap::new();
        let mut next: Vec<(String, String)> = roots.into_iter().rev().collect();
        while let Some((name, why)) = next.pop() {
            let Some(one) = self.all.get(name.as_str()).filter(|_| !without.contains(name.as_str())) else { continue };
            if reached.contains_key(&name) {
                continue;
            }
            // What is only needed to compile may be missing at run time.
            let required = one.says.requires.iter().filter(|requires| !requires.only_to_compile);
            next.extend(required.map(|requires| (requires.module.clone(), format!("{name} requires it"))));
            reached.insert(name, why);
        }
        reached
    }

    /// Services that some modules look for, and that only others bring: each of these modules, with a service and who looks for it. What
    /// the base looks for says nothing: it is the same for every program.
    pub fn services<'k>(&self, kept: &'k BTreeMap<String, String>) -> BTreeMap<&'i str, (&str, &'k str)> {
        let mut left_out: HashMap<&str, Vec<&'i str>> = HashMap::new();
        for (name, one) in self.all.iter().filter(|(name, _)| !kept.contains_key(**name)) {
            one.says.provides.iter().for_each(|provides| left_out.entry(&provides.service).or_default().push(name));
        }
        let mut found = BTreeMap::new();
        for (name, one) in
            kept.keys().filter(|name| *name != BASE).filter_map(|name| Some((name, self.all.get(name.as_str())?)))
        {
            for service in &one.says.uses {
                for module in left_out.get(service.as_str()).into_iter().flatten() {
                    found.entry(*module).or_insert((service.as_str(), name.as_str()));
                }
            }
        }
        found
    }
}

impl archives::Runtime for Modules<'_> {
    fn module_of(&self, class: &str) -> Option<&str> {
        let split = class.rsplit_once('/')?;
        self.classes.get(&split).copied()
    }

    fn has(&self, module: &str) -> bool {
        self.all.contains_key(module)
    }

    fn java(&self) -> u16 {
        self.java
    }
}
