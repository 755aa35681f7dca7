//! Names of entries, in the parts that the index has.

/// The name of an entry: `/module/folder/base.extension`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name<'n> {
    /// The module; empty for the tops of the two trees.
    pub module: &'n str,
    /// The folder, without slashes around it.
    pub folder: &'n str,
    /// The name, without its extension.
    pub base: &'n str,
    /// The extension.
    pub extension: &'n str,
}

impl<'n> Name<'n> {
    /// The parts of a name of a module's file; `None` if it is no such name.
    pub fn of(name: &'n str) -> Option<Self> {
        let (module, path) = name.strip_prefix('/')?.split_once('/')?;
        let (folder, file) = path.rsplit_once('/').unwrap_or(("", path));
        let (base, extension) = file.rsplit_once('.').unwrap_or((file, ""));
        // One that ends in a dot would lose it.
        (!module.is_empty() && !file.is_empty() && !file.ends_with('.')).then_some(Self {
            module,
            folder,
            base,
            extension,
        })
    }

    /// The path in the module.
    pub fn path(&self) -> String {
        let mut path = String::new();
        if !self.folder.is_empty() {
            path.push_str(self.folder);
            path.push('/');
        }
        path.push_str(self.base);
        if !self.extension.is_empty() {
            path.push('.');
            path.push_str(self.extension);
        }
        path
    }

    /// Whether it is in one of the trees that are made of the others.
    pub fn is_of_a_tree(&self) -> bool {
        self.module.is_empty() || matches!(self.module, "modules" | "packages")
    }
}

impl std::fmt::Display for Name<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        if !self.module.is_empty() {
            write!(f, "/{}/", self.module)?;
        }
        f.write_str(&self.path())
    }
}
