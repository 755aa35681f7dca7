//! The modules that a runtime of Python has, and where they lie in its folder.

use super::super::Runtime;
use crate::payload::Payload;
use read_at::Cursor;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::Read;

/// A module, or a list of a distribution's files, is no longer than this, bytes.
pub const LONGEST: u64 = 64 << 20;

/// What a module's code is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Form {
    Extension,
    Source,
    Compiled,
}

/// One module.
#[derive(Debug, Clone)]
pub struct One {
    pub form: Form,
    /// Its file in the runtime's folder, or its name in the archive.
    pub path: String,
    pub is_in_archive: bool,
    pub is_package: bool,
    /// Whether it belongs to Python itself, and not to what was installed into it.
    pub is_standard: bool,
    /// Bytes of its code.
    pub bytes: u64,
}

/// Something that was installed into a folder of modules: it stays as a whole, or goes.
#[derive(Debug, Clone, Default)]
pub struct Distribution {
    /// The folder of modules, with a slash behind it.
    pub folder: String,
    /// Its files and folders in there.
    pub tops: BTreeSet<String>,
}

impl Distribution {
    pub fn has(&self, path: &str) -> bool {
        let rest = path.strip_prefix(&*self.folder);
        rest.is_some_and(|rest| self.tops.contains(rest.split('/').next().unwrap_or(rest)))
    }
}

/// The modules of a runtime.
#[derive(Debug, Default)]
pub struct Library {
    /// As in 3.`13`.
    pub minor: u8,
    /// The archive that the modules of Python itself lie in.
    pub archive: Option<String>,
    pub modules: BTreeMap<String, One>,
    pub distributions: Vec<Distribution>,
    /// Which module a file belongs to.
    owners: HashMap<String, String>,
    /// Compiled modules that lie beside their sources: which module, and whether this Python takes it.
    pub cached: BTreeMap<String, (String, bool)>,
}

/// A version in a name such as `python3.13` or `cpython-313`, behind what stands before it.
fn minor_behind(name: &str, start: &str) -> Option<u8> {
    let digits: String = name.strip_prefix(start)?.chars().take_while(char::is_ascii_digit).collect();
    digits.parse().ok()
}

/// Which Python an extension module's name says that it is for: `comb.cpython-313-x86_64-linux-gnu.so`, `comb.cp313-win_amd64.pyd`.
pub fn minor_of_extension(name: &str) -> Option<u8> {
    name.split('.').skip(1).find_map(|part| minor_behind(part, "cpython-3").or_else(|| minor_behind(part, "cp3")))
}

fn is_name(text: &str) -> bool {
    let mut letters = text.chars();
    letters.next().is_some_and(|c| c.is_alphabetic() || c == '_') && letters.all(|c| c.is_alphanumeric() || c == '_')
}

/// What the code in a file is, by its name.
pub fn form_of(file: &str) -> Option<Form> {
    let form = match file.rsplit('.').next()? {
        "py" | "pyw" => Form::Source,
        "pyc" => Form::Compiled,
        "so" | "pyd" => Form::Extension,
        _ => return None,
    };
    // Only those of extension modules say more in their names.
    (form == Form::Extension || file.matches('.').count() == 1).then_some(form)
}

/// The module that a file below a folder of modules is, by its path from there; whether it is a package; and what its code is.
pub fn module_of(path: &str) -> Option<(String, bool, Form)> {
    let (folders, file) = path.rsplit_once('/').map_or((None, path), |(folders, file)| (Some(folders), file));
    let (stem, form) = (file.split('.').next()?, form_of(file)?);
    let is_package = stem == "__init__";
    let mut parts: Vec<&str> = folders.map(|folders| folders.split('/').collect()).unwrap_or_default();
    if !is_package {
        parts.push(stem);
    }
    (!parts.is_empty() && parts.iter().all(|part| is_name(part))).then(|| (parts.join("."), is_package, form))
}

/// The source's path and the Python of a compiled module that lies beside its source: `bees/__pycache__/wax.cpython-313.pyc`.
fn cached(path: &str) -> Option<(String, Option<u8>)> {
    let (folder, file) = path.rsplit_once('/').unwrap_or(("", path));
    let above = folder.strip_suffix("__pycache__")?;
    let parts: Vec<&str> = file.split('.').collect();
    let minor = match parts[..] {
        [_, tag, "pyc"] => minor_behind(tag, "cpython-3"),
        // Others are optimised, which is not asked for.
        [_, _, _, "pyc"] => None,
        _ => return None,
    };
    Some((format!("{above}{}.py", parts[0]), minor))
}

/// Distributions in folders of modules, by the lists of files that they bring. `files` are paths, and `read` gives the content of one.
pub fn distributions<'p>(
    files: impl Iterator<Item = &'p str>,
    read: impl Fn(&str) -> Option<Vec<u8>>,
) -> Vec<Distribution> {
    let mut all = Vec::new();
    for path in files {
        let Some(info) = path.strip_suffix("/RECORD").filter(|info| info.ends_with(".dist-info")) else { continue };
        let folder = info.rsplit_once('/').map(|(folder, _)| format!("{folder}/")).unwrap_or_default();
        let list = read(path).unwrap_or_default();
        let list = String::from_utf8_lossy(&list);
        let names = list.lines().filter_map(|line| line.trim_start_matches('"').split([',', '"']).next());
        let tops = names.filter_map(|name| name.split('/').next());
        let tops = tops.filter(|top| !matches!(*top, "" | "." | ".." | "__pycache__")).map(str::to_owned).collect();
        all.push(Distribution { folder, tops });
    }
    all
}

impl Library {
    /// Finds them in a runtime's folder.
    ///
    /// # Errors
    /// The archive can't be read. Nothing if there is no Python.
    pub fn find(runtime: &Runtime, payload: &Payload) -> Result<Option<Self>, String> {
        let own: Vec<(&str, u64)> =
            payload.files.iter().filter_map(|file| Some((runtime.inside(&file.path)?, file.size))).collect();
        let mut library = Self::default();
        // Folders of modules, those with others in them behind these; and whether they are Python's own.
        let mut folders: Vec<(String, bool)> = Vec::new();
        for (path, _) in &own {
            let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
            let last = folder.rsplit('/').next().unwrap_or_default();
            let is_windows = folder.eq_ignore_ascii_case("lib");
            if matches!(name, "os.py" | "os.pyc") && (is_windows || last.starts_with("python3.")) {
                library.minor = minor_behind(last, "python3.").unwrap_or(library.minor);
                for further in ["site-packages", "dist-packages"] {
                    folders.push((format!("{folder}/{further}/"), false));
                }
                folders.push((format!("{folder}/lib-dynload/"), true));
                folders.push((format!("{folder}/"), true));
            }
            let minor = minor_behind(name, "python3");
            if let Some(minor) = minor.filter(|_| matches!(folder, "" | "lib") && name.ends_with(".zip")) {
                (library.archive, library.minor) = (Some((*path).to_owned()), minor);
            }
            if let Some(minor) = minor.filter(|_| folder.is_empty() && name.ends_with(".dll")) {
                library.minor = minor;
                folders.extend([("DLLs/".to_owned(), true), (String::new(), true)]);
            }
        }
        if folders.is_empty() && library.archive.is_none() {
            return Ok(None);
        }
        folders.push(("lib/python3/dist-packages/".into(), false));
        // The longest first, which are inside of others.
        folders.sort_by_key(|(folder, _)| std::cmp::Reverse(folder.len()));
        library.distributions = distributions(own.iter().map(|(path, _)| *path), |path| {
            let file = runtime.file(payload, path).filter(|file| file.size <= LONGEST)?;
            file.bytes().ok()
        });
        library.in_folders(&own, &folders);
        library.in_archive(runtime, payload)?;
        Ok(Some(library))
    }

    fn add(&mut self, name: String, one: One) {
        self.owners.insert(one.path.clone(), name.clone());
        // Of several for one name the extension comes first, and a source before what was compiled of it.
        match self.modules.get(&name) {
            Some(there) if (!there.is_package, there.form) <= (!one.is_package, one.form) => {}
            _ => drop(self.modules.insert(name, one)),
        }
    }

    fn in_folders(&mut self, own: &[(&str, u64)], folders: &[(String, bool)]) {
        let placed = |path: &str| {
            folders.iter().find_map(|(folder, is_standard)| {
                Some((folder.as_str(), path.strip_prefix(folder.as_str())?.to_owned(), *is_standard))
            })
        };
        for (path, bytes) in own {
            let Some((folder, rest, is_standard)) = placed(path) else { continue };
            let Some((name, is_package, form)) = module_of(&rest) else { continue };
            // Beside the program on Windows there are no others.
            if folder.is_empty() && (form != Form::Extension || rest.contains('/')) {
                continue;
            }
            let path = (*path).to_owned();
            self.add(name, One { form, path, is_in_archive: false, is_package, is_standard, bytes: *bytes });
        }
        // What lies in a package's folder is the package's.
        for (path, _) in own {
            let Some((folder, rest, _)) = placed(path) else { continue };
            if let Some((source, minor)) = cached(path) {
                if let Some(module) = self.owners.get(&source) {
                    self.cached.insert((*path).to_owned(), (module.clone(), minor == Some(self.minor)));
                }
            } else if !self.owners.contains_key(*path) && !folder.is_empty() {
                let mut above = rest.as_str();
                while let Some((parent, _)) = above.rsplit_once('/') {
                    above = parent;
                    let name = above.replace('/', ".");
                    if self.modules.get(&name).is_some_and(|one| one.is_package) {
                        self.owners.insert((*path).to_owned(), name);
                        break;
                    }
                }
            }
        }
    }

    fn in_archive(&mut self, runtime: &Runtime, payload: &Payload) -> Result<(), String> {
        let Some(path) = self.archive.clone() else { return Ok(()) };
        let Some(file) = runtime.file(payload, &path) else { return Ok(()) };
        let source = file.source.open().map_err(|e| e.to_string())?;
        let mut archive = zip::ZipArchive::new(Cursor::new(source)).map_err(|e| format!("{path}: {e}"))?;
        for n in 0..archive.len() {
            let entry = archive.by_index_raw(n).map_err(|e| format!("{path}: {e}"))?;
            let name = entry.name().map_err(|e| format!("{path}: {e}"))?.into_owned();
            if let Some((module, is_package, form)) = module_of(&name) {
                let bytes = entry.size();
                self.add(module, One { form, path: name, is_in_archive: true, is_package, is_standard: true, bytes });
            }
        }
        Ok(())
    }

    /// The module that a file of the runtime's folder belongs to.
    pub fn owner(&self, path: &str) -> Option<&str> {
        let cached = || self.cached.get(path).map(|(module, _)| module);
        self.owners.get(path).or_else(cached).map(String::as_str)
    }

    /// The names of modules that a name means, which may have `.*` at its end.
    pub fn meant<'l>(&'l self, name: &str) -> Vec<&'l str> {
        let Some(package) = name.strip_suffix(".*") else {
            // Some are called differently on every machine.
            return self.modules.get_key_value(name).map(|(name, _)| name.as_str()).into_iter().collect();
        };
        // `_sysconfigdata.*` is `_sysconfigdata__linux_x86_64-linux-gnu`, too.
        let is_one = |one: &&String| {
            let rest = one.strip_prefix(package);
            rest.is_some_and(|rest| rest.starts_with('.') || package == "_sysconfigdata" && rest.starts_with('_'))
        };
        self.modules.keys().filter(is_one).map(String::as_str).collect()
    }
}

/// Bytes of a file in an archive.
///
/// # Errors
/// There is none, it is too long, or it is damaged.
pub fn read_entry(archive: &mut zip::ZipArchive<impl Read + std::io::Seek>, name: &str) -> Result<Vec<u8>, String> {
    let entry = archive.by_name(name).map_err(|e| format!("{name}: {e}"))?;
    let mut bytes = Vec::new();
    entry.take(LONGEST + 1).read_to_end(&mut bytes).map_err(|e| format!("{name}: {e}"))?;
    if bytes.len() as u64 > LONGEST { Err(format!("{name} is too long")) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_files_say_which_modules_they_are() {
        let said = |path| module_of(path).map(|(name, is_package, form)| format!("{name} {is_package} {form:?}"));
        assert_eq!(said("os.py").as_deref(), Some("os false Source"));
        assert_eq!(said("xml/dom/__init__.pyc").as_deref(), Some("xml.dom true Compiled"));
        assert_eq!(said("_bz2.cpython-311-x86_64-linux-gnu.so").as_deref(), Some("_bz2 false Extension"));
        assert_eq!(said("numpy/core/_x.cp313-win_amd64.pyd").as_deref(), Some("numpy.core._x false Extension"));
        for none in ["__init__.py", "a-b.py", "x.libs/libz.so", "os.cpython-311.pyc", "README.txt", "3d.py", "x.so.3"] {
            assert_eq!(said(none), None, "{none}");
        }
        assert_eq!(cached("a/__pycache__/b.cpython-311.pyc"), Some(("a/b.py".into(), Some(11))));
        assert_eq!(cached("__pycache__/b.cpython-311.opt-1.pyc"), Some(("b.py".into(), None)));
        assert_eq!(cached("a/b.pyc"), None);
        assert_eq!(minor_of_extension("comb.cp39-win32.pyd"), Some(9));
        assert_eq!(minor_of_extension("comb.abi3.so"), None);
    }

    #[test]
    fn lists_of_files_say_what_belongs_together() {
        let list = "hives/__init__.py,sha256=x,1\n\"hives.libs/a,b.so\",,\n../../bin/hives,,\n__pycache__/one.pyc,,\nhives-1.dist-info/RECORD,,\n";
        let all = distributions(["lib/hives-1.dist-info/RECORD", "lib/x"].into_iter(), |_| Some(list.into()));
        assert_eq!(all[0].folder, "lib/");
        assert_eq!(Vec::from_iter(&all[0].tops), ["hives", "hives-1.dist-info", "hives.libs"]);
        assert!(all[0].has("lib/hives/wax.py") && !all[0].has("lib/wax.py") && !all[0].has("hives/wax.py"));
    }
}
