//! What Python code imports: out of sources ([`in_source`]), and out of compiled modules ([`Compiled::read`]) of Python 3.8 to 3.13.
//! No Python is needed.
//!
//! Source of the format's facts: Python's own documentation of `import`, `dis` and `marshal`, PEP 552 (compiled modules with hashes), and
//! compiled modules of these versions, looked at from the outside. See `docs/formats/python-code.md`.

mod compiled;
mod marshal;
mod source;

pub use compiled::{Compiled, HEADER, unchecked};
pub use format_error::{Error, Result};
pub use source::in_source;

/// One import.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Import {
    /// The module: `os.path`; empty for `from . import bees`.
    pub module: String,
    /// How many dots stand before it.
    pub level: u32,
    /// What is taken out of it; modules may be among these.
    pub names: Vec<String>,
    /// When it happens.
    pub when: When,
}

/// When an import happens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum When {
    /// Whenever the module itself is imported.
    Always,
    /// When the module itself is imported, unless a condition or a handler of errors stands around it.
    AtOnce,
    /// When a function is called.
    Called,
}

impl Import {
    /// The modules that it may mean, for code in a module of this name. A package's own name stands for its `__init__`.
    pub fn means(&self, module: &str, is_package: bool) -> Vec<String> {
        let mut base = self.module.clone();
        if self.level > 0 {
            let up = self.level as usize - usize::from(is_package);
            let mut parts: Vec<&str> = module.split('.').collect();
            // More dots than packages are an error when it is run.
            parts.truncate(parts.len().saturating_sub(up));
            if !base.is_empty() {
                parts.push(&self.module);
            }
            base = parts.join(".");
        }
        let within = self.names.iter().filter(|name| *name != "*").map(|name| format!("{base}.{name}"));
        std::iter::once(base.clone()).chain(within).filter(|name| !name.is_empty()).collect()
    }
}
