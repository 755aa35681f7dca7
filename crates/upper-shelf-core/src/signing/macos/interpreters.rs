//! What a program must be allowed that runs an interpreter, for the hardened runtime would stop it.
//!
//! Source: Apple, "Hardened Runtime", and the signatures that these interpreters' makers put on them.

/// Machine code may be made while it runs.
pub const JIT: &str = "com.apple.security.cs.allow-jit";
/// Memory may be written and run.
pub const UNSIGNED_MEMORY: &str = "com.apple.security.cs.allow-unsigned-executable-memory";
/// Libraries of others may be loaded.
pub const OTHERS_LIBRARIES: &str = "com.apple.security.cs.disable-library-validation";
/// Variables may say where libraries are.
pub const VARIABLES: &str = "com.apple.security.cs.allow-dyld-environment-variables";

/// Whether a file of this name is the interpreter.
type IsIt = fn(&str) -> bool;

/// Which interpreter is recognised by which file, and what it needs.
const KNOWN: [(&str, IsIt, &[&str]); 3] = [
    ("Java", is_java, &[JIT, UNSIGNED_MEMORY, OTHERS_LIBRARIES, VARIABLES]),
    ("Node", is_node, &[JIT, UNSIGNED_MEMORY, OTHERS_LIBRARIES]),
    ("Python", is_python, &[UNSIGNED_MEMORY, OTHERS_LIBRARIES]),
];

fn is_java(name: &str) -> bool {
    name == "libjvm.dylib"
}

fn is_node(name: &str) -> bool {
    name == "node" || name.starts_with("libnode.") && name.ends_with(".dylib")
}

fn is_python(name: &str) -> bool {
    name == "Python" || name.starts_with("libpython3") && name.ends_with(".dylib") || {
        let version = name.strip_prefix("python3").unwrap_or("-");
        version.is_empty() || version.strip_prefix('.').is_some_and(|n| n.chars().all(|c| c.is_ascii_digit()))
    }
}

/// What is needed because of some files, each with the interpreter that needs it; `paths` are those of code.
pub fn needed<'p>(paths: impl Iterator<Item = &'p str>) -> Vec<(&'static str, &'static str)> {
    let mut found = Vec::new();
    for path in paths {
        let name = path.rsplit('/').next().unwrap_or(path);
        for (interpreter, is_it, keys) in KNOWN {
            if is_it(name) {
                found.extend(keys.iter().map(|key| (*key, interpreter)));
            }
        }
    }
    found.sort_unstable();
    found.dedup_by_key(|(key, _)| *key);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn interpreters_are_known_by_their_files() {
        let keys = |path: &str| needed([path].into_iter()).len();
        assert_eq!([keys("jre/lib/server/libjvm.dylib"), keys("bin/node"), keys("lib/libpython3.12.dylib")], [4, 3, 2]);
        assert_eq!(
            [keys("bin/python3"), keys("bin/python3.11"), keys("Frameworks/Python.framework/Versions/3/Python")],
            [2; 3]
        );
        assert_eq!([keys("bin/nodes"), keys("python3-config"), keys("python.py"), keys("combwright")], [0; 4]);
        assert_eq!(needed(["bin/node", "lib/libjvm.dylib"].into_iter()).len(), 4, "each is said once");
    }
}
