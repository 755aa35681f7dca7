//! What programs will not be able to do once Windows has installed them from a package: write beside themselves or to the
//! machine's registry, or get an administrator's rights. It is told by what they import and by texts in them, so it is said how
//! sure that is; programs of interpreters (.NET, Java, scripts) show neither.

use crate::payload::PayloadFile;
use crate::problem::{Code, Problem};
use object::{NameOrOrdinal, Object, ReadCache};
use read_at::{Cursor, ReadAt};
use regex::bytes::{RegexSet, RegexSetBuilder};
use std::collections::{BTreeMap, BTreeSet};

/// How much of a program is searched at once, bytes, and how much of it twice, so that no text is cut in two.
const CHUNK: usize = 1 << 20;
const OVERLAP: usize = 1 << 10;
/// More names beside one program are not searched for.
const MOST_NAMES: usize = 200;
/// Endings of files that programs like to write.
const KEPT: [&str; 9] = ["cfg", "conf", "config", "db", "ini", "log", "prefs", "sqlite", "sqlite3"];
/// What the manifest inside of a program says when it demands an administrator.
const ADMINISTRATOR: &str = "requireAdministrator";
const MACHINE: &str = "HKEY_LOCAL_MACHINE";

/// Functions of the system that tell what a program does.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Does {
    /// Changes the registry.
    registry: Option<&'static str>,
    /// Asks where it lies itself.
    place: bool,
    /// Writes files.
    files: bool,
    /// Writes settings into text files, by the system's oldest functions for that.
    settings: bool,
}

impl Does {
    fn of(imports: impl Iterator<Item = String>) -> Self {
        const REGISTRY: [&str; 6] =
            ["RegSetValueEx", "RegSetValue", "RegSetKeyValue", "RegCreateKeyEx", "RegCreateKey", "SHSetValue"];
        let mut own = Self::default();
        for name in imports {
            // Functions with texts are there twice, with a letter at the end.
            let bare = name.strip_suffix(['A', 'W']).unwrap_or(&name);
            own.registry = own.registry.or(REGISTRY.into_iter().find(|one| *one == bare));
            own.place |= bare == "GetModuleFileName";
            own.settings |= bare.starts_with("WritePrivateProfile");
            own.files |= ["WriteFile", "WriteFileEx", "fwrite", "fopen", "_wfopen", "_wfopen_s"].contains(&bare);
        }
        own
    }
}

/// What was found in the programs of a payload.
#[derive(Default)]
struct Found {
    administrators: Vec<String>,
    registry: Vec<(String, &'static str)>,
    /// The program, the file beside it, and whether that is likely.
    beside: Vec<(String, String, bool)>,
}

/// The texts to look for in a program: the two above, then names of files; each as the system's two kinds of programs have it.
fn texts(names: &[&str]) -> Option<RegexSet> {
    let both = |text: &str| {
        let wide: String =
            text.encode_utf16().flat_map(u16::to_le_bytes).map(|byte| format!("\\x{byte:02x}")).collect();
        format!("(?i-u:{}|{wide})", regex::escape(text))
    };
    let all = [ADMINISTRATOR, MACHINE].into_iter().chain(names.iter().copied().filter(|name| name.is_ascii()));
    RegexSetBuilder::new(all.map(both)).unicode(false).size_limit(1 << 24).build().ok()
}

/// Which of the texts are in a program.
fn search(set: &RegexSet, bytes: &dyn ReadAt, size: u64) -> std::io::Result<BTreeSet<usize>> {
    let mut found = BTreeSet::new();
    let (mut at, mut buffer) = (0, vec![0; CHUNK.min(size as usize)]);
    while at < size && found.len() < set.len() {
        let length = buffer.len().min((size - at) as usize);
        bytes.read_exact_at(&mut buffer[..length], at)?;
        found.extend(set.matches(&buffer[..length]));
        if at + length as u64 == size {
            break;
        }
        at += (length - OVERLAP) as u64;
    }
    Ok(found)
}

fn has_ending(name: &str, endings: &[&str]) -> bool {
    name.rsplit_once('.').is_some_and(|(_, ending)| endings.iter().any(|own| ending.eq_ignore_ascii_case(own)))
}

/// Looks at one program; nothing in what can't be read as one, which others say.
fn look(file: &PayloadFile, beside: &[&str], found: &mut Found) -> Option<()> {
    let bytes = file.source.open().ok()?;
    let cache = ReadCache::new(Cursor::new(&bytes));
    let object = object::File::parse(&cache).ok()?;
    let imports = object.imports().ok()?;
    // Some are known by their number only.
    let named = imports.map_while(Result::ok).filter_map(|import| match import.name() {
        NameOrOrdinal::Name(name) => Some(String::from_utf8_lossy(name).into_owned()),
        NameOrOrdinal::Ordinal(_) => None,
    });
    let does = Does::of(named);
    let is_started = has_ending(file.path.name(), &["exe"]);
    let writes_beside = does.settings || does.place && does.files;
    if !is_started && does.registry.is_none() && !writes_beside {
        return None;
    }
    let names: &[&str] = if writes_beside { &beside[..beside.len().min(MOST_NAMES)] } else { &[] };
    let texts_in = search(&texts(names)?, &*bytes, file.size).ok()?;
    let path = file.path.to_string();
    if is_started && texts_in.contains(&0) {
        found.administrators.push(path.clone());
    }
    if let Some(function) = does.registry.filter(|_| texts_in.contains(&1)) {
        found.registry.push((path.clone(), function));
    }
    let named = names.iter().filter(|name| name.is_ascii()).enumerate().find(|(n, _)| texts_in.contains(&(n + 2)));
    if let Some((_, name)) = named {
        found.beside.push((path, (*name).to_owned(), does.settings));
    }
    Some(())
}

/// The first few of many, and how many more there are.
fn few(all: &[String]) -> String {
    let first = all.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
    if all.len() > 3 { format!("{first} and {} more", all.len() - 3) } else { first }
}

/// Warnings of what the programs of a package will not be able to do; `capabilities` are those that the package declares.
pub fn check(files: &[PayloadFile], capabilities: &[String]) -> Vec<Problem> {
    let folder_of =
        |file: &PayloadFile| file.path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder).to_owned();
    // What lies in each folder that programs like to write.
    let mut kept: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for file in files.iter().filter(|file| has_ending(file.path.name(), &KEPT)) {
        kept.entry(folder_of(file)).or_default().push(file.path.name());
    }
    let mut found = Found::default();
    for file in files.iter().filter(|file| has_ending(file.path.name(), &["exe", "dll"])) {
        look(file, kept.get(&folder_of(file)).map_or(&[][..], |names| names), &mut found);
    }
    let declares = |name: &str| capabilities.iter().any(|own| own == name);
    let mut problems = Vec::new();
    if !found.administrators.is_empty() && !declares("allowElevation") {
        let what = format!("from an MSIX package, Windows won't start {}", few(&found.administrators));
        let problem = Problem::warning(Code::NotInPackages, what).about_setting("targets");
        let why = "it demands an administrator's rights, and the package doesn't declare that";
        problems.push(problem.why(why).instead("[target.msix]\ncapabilities = [\"allowElevation\"]"));
    }
    if let Some((_, function)) = found.registry.first() {
        let paths: Vec<String> = found.registry.iter().map(|(path, _)| path.clone()).collect();
        let what =
            format!("likely to write to the machine's registry, which fails in an MSIX package: {}", few(&paths));
        let problem = Problem::warning(Code::NotInPackages, what).about_setting("targets");
        let why = format!("it uses {function} and contains the text {MACHINE}");
        let instead = "let it write to HKEY_CURRENT_USER; values that are always the same belong in [[registry]]";
        problems.push(problem.why(why).instead(instead));
    }
    if !found.beside.is_empty() && !declares("packageWriteRedirectionCompatibilityShim") {
        let (is_likely, name) = (found.beside.iter().any(|(.., is_likely)| *is_likely), &found.beside[0].1);
        let paths: Vec<String> = found.beside.iter().map(|(path, ..)| path.clone()).collect();
        let may = if is_likely { "likely to write" } else { "may write" };
        let what = format!("{may} into the program's folder, which fails in an MSIX package: {}", few(&paths));
        let problem = Problem::warning(Code::NotInPackages, what).about_setting("targets");
        let how = if is_likely { "it writes settings files" } else { "it looks for its own folder and writes files" };
        let why = format!("{how}, and contains the name of {name}, which lies beside it");
        let instead = "let it write to %LOCALAPPDATA%; or have Windows redirect it:\n[target.msix]\ncapabilities = [\"packageWriteRedirectionCompatibilityShim\"]";
        problems.push(problem.why(why).instead(instead));
    }
    problems
}

#[cfg(test)]
mod tests {
    use super::*;

    fn does(names: &[&str]) -> Does {
        Does::of(names.iter().map(|name| (*name).to_owned()))
    }

    #[test]
    fn functions_tell_what_a_program_does() {
        assert_eq!(does(&["RegSetValueExW", "WriteFile"]).registry, Some("RegSetValueEx"));
        assert_eq!(does(&["RegQueryValueExW", "RegOpenKeyExA"]), Does::default());
        let own = does(&["GetModuleFileNameA", "fopen", "WritePrivateProfileStringW"]);
        assert!(own.place && own.files && own.settings);
    }

    #[test]
    fn texts_are_found_in_both_kinds_of_letters_and_across_chunks() {
        let set = texts(&["Bee.ini", "größe.ini", "a+b.log"]).expect("patterns");
        let wide: Vec<u8> = "hkey_local_machine".encode_utf16().flat_map(u16::to_le_bytes).collect();
        for (text, expected) in [
            (&b"level=\"requireAdministrator\""[..], Some(0)),
            (&wide, Some(1)),
            (b"\\BEE.INI\0", Some(2)),
            (b"a+b.log", Some(3)),
            (b"aab.log", None),
            (b"bee-ini", None),
        ] {
            // Where one chunk ends, and the next one begins.
            for before in [0, CHUNK - 3, 2 * CHUNK - OVERLAP - 5] {
                let mut bytes = vec![b'.'; before];
                bytes.extend(text);
                bytes.extend([b'.'; 2000]);
                let size = bytes.len() as u64;
                let found: Vec<usize> = search(&set, &bytes, size).expect("read").into_iter().collect();
                assert_eq!(found, expected.into_iter().collect::<Vec<_>>(), "{text:?} behind {before}");
            }
        }
    }

    #[test]
    fn many_are_told_by_a_few() {
        let names = ["a", "b", "c", "d", "e"].map(str::to_owned);
        assert_eq!((few(&names[..2]).as_str(), few(&names).as_str()), ("a, b", "a, b, c and 2 more"));
    }
}
