//! Which files of a runtime's folder come along with which modules.

use crate::payload::patterns;
use globset::GlobSet;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

const RULES: &str = include_str!("rules.txt");

/// A class or a package whose users may look for a module by name.
pub struct Hint {
    /// The class, or the package with a slash at its end.
    pub class: &'static str,
    /// The module.
    pub module: &'static str,
    /// What it is for.
    pub why: &'static str,
}

struct Rules {
    libraries: BTreeMap<&'static str, &'static str>,
    files: Vec<(GlobSet, &'static str)>,
    hints: Vec<Hint>,
}

fn read(rules: &'static str) -> Rules {
    let mut read = Rules { libraries: BTreeMap::new(), files: Vec::new(), hints: Vec::new() };
    for line in rules.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let mut words = line.splitn(4, ' ');
        let [kind, what, module] = std::array::from_fn(|_| words.next().unwrap_or_default());
        match kind {
            "library" => drop(read.libraries.insert(what, module)),
            "file" => read.files.push((patterns(&[what.to_owned()]).expect("a pattern of ours"), module)),
            "hint" => read.hints.push(Hint { class: what, module, why: words.next().unwrap_or_default() }),
            other => unreachable!("{other:?} is no kind of rule"),
        }
    }
    read
}

fn rules() -> &'static Rules {
    static READ: LazyLock<Rules> = LazyLock::new(|| read(RULES));
    &READ
}

/// Hints at modules that are looked for by name.
pub fn hints() -> &'static [Hint] {
    &rules().hints
}

/// The name of a native library, without what its system adds to it.
fn library(name: &str) -> Option<&str> {
    let unix = |end: &str| name.strip_suffix(end)?.strip_prefix("lib");
    unix(".so").or_else(|| unix(".dylib")).or_else(|| name.strip_suffix(".dll"))
}

/// A program in the folder for programs.
fn command(path: &str) -> Option<&str> {
    let name = path.strip_prefix("bin/").filter(|name| !name.contains('/') && library(name).is_none())?;
    Some(name.strip_suffix(".exe").unwrap_or(name))
}

/// Whether a file stays beside these modules.
pub fn stays(path: &str, modules: &BTreeSet<&str>) -> bool {
    if let Some(module) = path.strip_prefix("legal/").and_then(|rest| rest.split_once('/')).map(|(module, _)| module) {
        // Texts that nobody can place stay.
        return modules.contains(module) || !module.contains('.');
    }
    if let Some(command) = command(path) {
        return matches!(command, "java" | "javaw");
    }
    let name = path.rsplit('/').next().unwrap_or(path);
    if let Some(module) = library(name).and_then(|library| rules().libraries.get(library)) {
        return modules.contains(module);
    }
    rules().files.iter().filter(|(set, _)| set.is_match(path)).all(|(_, module)| modules.contains(module))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_nobodys_stays_and_the_rest_goes_with_its_module() {
        let modules = BTreeSet::from(["java.base", "java.logging"]);
        for path in [
            "bin/java",
            "bin/javaw.exe",
            "bin/server/jvm.dll",
            "bin/api-ms-win-core-file-l1-1-0.dll",
            "lib/server/libjvm.so",
            "lib/libjli.dylib",
            "lib/security/cacerts",
            "lib/tzdb.dat",
            "lib/jspawnhelper",
            "conf/logging.properties",
            "conf/security/java.security",
            "legal/java.base/LICENSE",
            "release",
            "NOTICE",
        ] {
            assert!(stays(path, &modules), "{path}");
        }
        for path in [
            "bin/javac",
            "bin/keytool.exe",
            "bin/awt.dll",
            "lib/libawt.so",
            "lib/server/classes.jsa",
            "lib/src.zip",
            "jmods/java.base.jmod",
            "conf/management/jmxremote.access",
            "legal/java.desktop/lcms.md",
            "man/man1/java.1",
            "include/linux/jni_md.h",
        ] {
            assert!(!stays(path, &modules), "{path}");
        }
    }

    #[test]
    fn every_rule_names_a_module_or_none() {
        let rules = rules();
        let named = rules.libraries.values().chain(rules.files.iter().map(|(_, module)| module));
        for module in named.copied().chain(rules.hints.iter().map(|hint| hint.module)) {
            assert!(module == "-" || module.starts_with("java.") || module.starts_with("jdk."), "{module:?}");
        }
        assert!(rules.hints.iter().all(|hint| !hint.why.is_empty()));
    }
}
