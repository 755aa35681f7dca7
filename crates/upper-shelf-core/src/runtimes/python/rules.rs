//! What the table of rules says of Python's own modules.

use crate::payload::patterns;
use globset::GlobSet;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::LazyLock;

const RULES: &str = include_str!("rules.txt");

/// The rules, read.
pub struct Rules {
    /// What every program needs.
    pub always: Vec<&'static str>,
    apart: HashSet<&'static str>,
    also: HashMap<&'static str, Vec<&'static str>>,
    never: HashSet<(&'static str, &'static str)>,
    builtin: HashSet<&'static str>,
    files: Vec<(GlobSet, &'static str)>,
}

/// The rules.
pub fn rules() -> &'static Rules {
    static READ: LazyLock<Rules> = LazyLock::new(|| Rules::read(RULES));
    &READ
}

impl Rules {
    fn read(rules: &'static str) -> Self {
        let mut read = Self {
            always: Vec::new(),
            apart: HashSet::new(),
            also: HashMap::new(),
            never: HashSet::new(),
            builtin: HashSet::new(),
            files: Vec::new(),
        };
        for line in rules.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
            let mut words = line.split(' ');
            let kind = words.next().unwrap_or_default();
            let mut first = || words.next().unwrap_or_default();
            match kind {
                "always" => read.always.extend(words),
                "apart" => read.apart.extend(words),
                "builtin" => read.builtin.extend(words),
                "also" => drop(read.also.insert(first(), words.collect())),
                "never" => {
                    let importer = first();
                    read.never.extend(words.map(|module| (importer, module)));
                }
                "file" => {
                    let set = patterns(&[first().to_owned()]).expect("a pattern of ours");
                    read.files.push((set, words.next().unwrap_or_default()));
                }
                other => unreachable!("{other:?} is no kind of rule"),
            }
        }
        read
    }

    /// Whether a module of a package that every program needs is only needed by some.
    pub fn is_apart(&self, module: &str) -> bool {
        self.apart.contains(module)
    }

    /// What a module needs without saying so.
    pub fn also(&self, module: &str) -> &[&'static str] {
        self.also.get(module).map_or(&[], Vec::as_slice)
    }

    /// Whether an import is one of a module's own tests, or of its use as a command.
    pub fn is_aside(&self, importer: &str, module: &str) -> bool {
        let is_command = importer.ends_with(".__main__");
        let top = module.split('.').next().unwrap_or(module);
        is_command || self.never.contains(&(importer, module)) || self.never.contains(&(importer, top))
    }

    /// Whether interpreters have a module in themselves.
    pub fn is_builtin(&self, module: &str) -> bool {
        self.builtin.contains(module)
    }

    /// Whether a file of the runtime's folder that belongs to no module stays beside these.
    pub fn stays(&self, path: &str, modules: &BTreeSet<&str>) -> bool {
        self.files.iter().filter(|(set, _)| set.is_match(path)).all(|(_, module)| modules.contains(module))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_go_with_their_module_and_what_is_nobodys_stays() {
        let stays = |path, modules: &[&'static str]| rules().stays(path, &modules.iter().copied().collect());
        for path in
            ["lib/libpython3.13.so", "vcruntime140.dll", "LICENSE.txt", "python313.dll", "lib/python3.11/LICENSE.txt"]
        {
            assert!(stays(path, &[]), "{path}");
        }
        for path in [
            "bin/pip3",
            "include/python3.11/Python.h",
            "lib/python3.11/config-3.11-x86_64-linux-gnu/libpython.a",
            "python.cat",
        ] {
            assert!(!stays(path, &["_tkinter"]), "{path}");
        }
        assert!(stays("lib/tcl8.6/init.tcl", &["_tkinter"]) && !stays("lib/tcl8.6/init.tcl", &[]));
        assert!(rules().is_aside("pickle", "doctest") && !rules().is_aside("pickle", "struct"));
        assert!(rules().is_builtin("sys") && !rules().is_builtin("json"));
    }
}
