//! What the code of a product imports: in its files, and in archives with code.

use super::library::{Distribution, Form, LONGEST, distributions, form_of, minor_of_extension, read_entry};
use crate::footprint::{RelPath, relative};
use crate::payload::{Payload, PayloadFile};
use crate::runtimes::natives;
use python_code::{Compiled, Import, When};
use read_at::Cursor;
use std::collections::{BTreeMap, HashSet};

/// The modules of an archive are no longer than this together, bytes: a small archive can ask for terabytes.
const MOST: u64 = 1 << 30;

/// What was found.
#[derive(Debug, Default)]
pub struct Found {
    /// Names that are imported, and the first reason for each. What is imported out of a module may be a module, too.
    pub imports: BTreeMap<String, String>,
    /// Modules that are imported in any case, by what the product's own code says.
    pub certain: BTreeMap<String, String>,
    /// Code for another Python only, and which.
    pub other: BTreeMap<String, u8>,
    /// Code that can't be read, and why.
    pub unreadable: BTreeMap<String, String>,
    /// The first parts of the names that the product's own modules have, wherever they lie.
    pub own: HashSet<String>,
}

/// Which folders only hold tests.
pub fn is_test(path: &str) -> bool {
    path.split(['/', '.']).any(|part| matches!(part, "test" | "tests" | "_tests" | "conftest"))
}

/// What a module's bytes import. Nothing for a compiled one of a Python that is not known.
///
/// # Errors
/// It is damaged.
pub fn imports(bytes: &[u8], form: Form) -> Result<Vec<Import>, String> {
    match form {
        Form::Source => Ok(python_code::in_source(&String::from_utf8_lossy(bytes))),
        Form::Compiled => Compiled::read(bytes).map(|compiled| compiled.imports).map_err(|e| e.to_string()),
        Form::Extension => Ok(Vec::new()),
    }
}

/// A search through a product's files.
pub struct Search<'l> {
    pub found: Found,
    /// As in 3.`13`.
    pub minor: u8,
    /// Whether the runtime has a module.
    pub has: &'l dyn Fn(&str) -> bool,
    /// What others made, in the product.
    distributions: Vec<Distribution>,
}

impl<'l> Search<'l> {
    pub fn new(payload: &Payload, minor: u8, has: &'l dyn Fn(&str) -> bool) -> Self {
        let files = || payload.files.iter();
        let distributions = distributions(files().map(|file| file.path.as_str()), |path| {
            let at = files().find(|file| file.path.as_str() == path && file.size <= LONGEST)?;
            at.bytes().ok()
        });
        Self { found: Found::default(), minor, has, distributions }
    }

    /// Looks through a file of the product; `is_started` is one that a program starts, whatever it is called.
    pub fn look(&mut self, file: &PayloadFile, is_started: bool) {
        let path = file.path.as_str();
        let name = file.path.name();
        let end = name.rsplit_once('.').map(|(_, end)| end.to_lowercase()).unwrap_or_default();
        for part in path.split('/') {
            self.found.own.insert(part.split('.').next().unwrap_or(part).to_owned());
        }
        let form = form_of(name);
        let looked = match (form, end.as_str()) {
            (Some(Form::Extension), _) => self.extension(file),
            (_, "pyz" | "pyzw" | "whl" | "egg") => self.archive(file),
            (Some(form), _) => self.code(file, form),
            (None, "pyc") if !path.contains("__pycache__/") => self.code(file, Form::Compiled),
            (None, "zip") if is_started => self.archive(file),
            (None, _) if is_started => {
                // An archive with a line before it that says what starts it, or a script.
                self.archive(file).or_else(|_| self.code(file, Form::Source))
            }
            _ => return,
        };
        if let Err(why) = looked {
            self.found.unreadable.insert(path.to_owned(), why);
        }
    }

    fn code(&mut self, file: &PayloadFile, form: Form) -> Result<(), String> {
        if file.size > LONGEST {
            return Err("it is too long".into());
        }
        let bytes = file.bytes().map_err(|e| e.to_string())?;
        let is_anothers = self.distributions.iter().any(|one| one.has(file.path.as_str()));
        self.module(&bytes, form, file.path.as_str(), is_anothers)
    }

    fn module(&mut self, bytes: &[u8], form: Form, path: &str, is_anothers: bool) -> Result<(), String> {
        let all = if form == Form::Compiled {
            let compiled = Compiled::read(bytes).map_err(|e| e.to_string())?;
            if compiled.minor != self.minor {
                self.found.other.insert(path.to_owned(), compiled.minor);
            }
            compiled.imports
        } else {
            imports(bytes, form)?
        };
        for import in all.into_iter().filter(|import| import.level == 0) {
            let why = || format!("{path} imports it");
            if import.when == When::Always && !is_anothers && !is_test(path) {
                self.found.certain.entry(import.module.clone()).or_insert_with(why);
            }
            for name in import.means("", false) {
                self.found.imports.entry(name).or_insert_with(why);
            }
        }
        Ok(())
    }

    fn archive(&mut self, file: &PayloadFile) -> Result<(), String> {
        let source = file.source.open().map_err(|e| e.to_string())?;
        let mut archive = zip::ZipArchive::new(Cursor::new(source)).map_err(|e| e.to_string())?;
        let names: Vec<String> = archive
            .file_names()
            .map(|name| name.map(|name| name.into_owned()))
            .collect::<Result<_, _>>()
            .map_err(|e| e.to_string())?;
        let is_anothers = names.iter().any(|name| name.ends_with(".dist-info/RECORD"));
        let mut all = 0;
        for name in names {
            self.found.own.extend(name.split('/').map(|part| part.split('.').next().unwrap_or(part).to_owned()));
            let Some(form) = form_of(name.rsplit('/').next().unwrap_or(&name)) else { continue };
            if form != Form::Extension {
                let bytes = read_entry(&mut archive, &name)?;
                all += bytes.len() as u64;
                if all > MOST {
                    return Err(format!("its modules have more than {MOST} bytes"));
                }
                self.module(&bytes, form, &format!("{}/{name}", file.path), is_anothers)?;
            }
        }
        Ok(())
    }

    fn extension(&mut self, file: &PayloadFile) -> Result<(), String> {
        if let Some(minor) = minor_of_extension(file.path.name()).filter(|minor| *minor != self.minor) {
            self.found.other.insert(file.path.to_string(), minor);
            return Ok(());
        }
        let has = self.has;
        for name in natives::texts(file, |name| name != "test" && has(name)).map_err(|e| e.to_string())? {
            self.found.imports.entry(name).or_insert_with(|| format!("{} has its name", file.path));
        }
        Ok(())
    }
}

impl Found {
    /// Code for another Python, unless it lies there for the right one, too.
    pub fn without_right(&self, files: &[PayloadFile], minor: u8) -> Vec<(&str, u8)> {
        let stem = |path: &str| path.split_once('.').map_or(path, |(stem, _)| stem).to_owned();
        let right: HashSet<String> = files
            .iter()
            .filter(|file| minor_of_extension(file.path.name()) == Some(minor) || file.path.name().ends_with(".py"))
            .map(|file| stem(file.path.as_str()))
            .collect();
        let all = self.other.iter().filter(|(path, _)| !right.contains(&stem(path)));
        all.map(|(path, minor)| (path.as_str(), *minor)).collect()
    }
}

/// The path of a folder, from another one, as Windows writes it.
pub fn from_to(from: &RelPath, to: &str) -> String {
    relative(from.as_str(), to).replace('/', "\\")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_found_from_others() {
        let from = RelPath::new("python").expect("a path");
        assert_eq!(from_to(&from, "lib"), "..\\lib");
        assert_eq!(from_to(&from, ""), "..");
        assert_eq!(from_to(&from, "python"), ".");
        assert_eq!(from_to(&RelPath::new("a/b").expect("a path"), "a/c/d"), "..\\c\\d");
    }
}
