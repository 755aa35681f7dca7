//! Mistakes in a manifest, one at a time: what is underlined, what is said of it, why, and what to write instead.
//!
//! Each test changes lines of one manifest that is right; the snapshot shows the change and the answer to it.

use crate::common::{RIGHT, folder};
use std::fmt::Write as _;
use std::path::Path;
use upper_shelf_core::manifest;
use upper_shelf_core::packaging::{self, Options};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::problem::{Code, Problem};

/// What is said of a manifest, errors only, for one platform or for all.
fn errors(folder: &Path, text: &str, platform: Option<Platform>) -> Vec<Problem> {
    std::fs::write(folder.join("shelf.toml"), text).unwrap();
    let platforms = platform.map(|platform| vec![platform]);
    let options = Options {
        platforms,
        targets: None,
        host: Platform::LinuxX64,
        epoch: None,
        output: None,
        keys_elsewhere: false,
    };
    let plans = manifest::load(folder, &|_| None).and_then(|project| packaging::plan(&project, &options));
    plans.err().map_or_else(Vec::new, |failure| failure.problems.into_iter().filter(Problem::is_error).collect())
}

/// A change to the right manifest, and what is said of it.
fn answer(folder: &Path, right: &str, wrong: &str) -> String {
    assert_eq!(RIGHT.matches(right).count(), 1, "{right} is to be found once");
    let mut out = format!("{}\n", wrong.trim());
    let problems = errors(folder, &RIGHT.replace(right, wrong), None);
    if problems.is_empty() {
        out.push_str("  fine\n");
    }
    for problem in problems {
        let under = problem
            .span
            .as_ref()
            .map_or_else(|| "-".to_owned(), |span| span.text.chars().skip(span.column - 1).take(span.width).collect());
        let what = problem.what.replace(&folder.display().to_string(), "…");
        let _ = writeln!(out, "  {}: {what}", problem.code.name());
        let _ = writeln!(out, "    at       {under}");
        let why = problem.why.map(|why| ("why", why));
        let instead = problem.instead.map(|instead| ("instead", instead.replace('\n', "⏎")));
        for (label, text) in why.into_iter().chain(instead) {
            let _ = writeln!(out, "    {label:<8} {text}");
        }
    }
    out
}

fn answers(changes: &[(&str, &str)]) -> String {
    let folder = folder();
    changes.iter().map(|(right, wrong)| answer(folder.path(), right, wrong)).collect()
}

#[test]
fn the_manifest_that_the_others_change_is_right() {
    let folder = folder();
    assert_eq!(errors(folder.path(), RIGHT, None), []);
}

#[test]
fn of_the_product() {
    insta::assert_snapshot!(answers(&[
        ("id = \"works.fernhollow.hives\"", "id = \"Hives\""),
        ("name = \"Hives\"\nversion", "name = \" \"\nversion"),
        ("version = \"1.4.0\"\npublisher", "version = \"v1.4\"\npublisher"),
        ("publisher = \"Fernhollow Apiary Works\"", "publisher = \"Fernhollow\\nApiary Works\""),
        ("summary = \"All hives at a glance\"", "summary = { xx = \"Hives\", en = \" \" }"),
        ("summary = \"All hives at a glance\"", "summary = {}"),
        ("homepage = \"https://fernhollow.example\"", "homepage = \"fernhollow.example\""),
        ("categories = [\"Office\"]", "categories = [\"Office\", \"Bee keeping\"]"),
        ("released = \"2026-11-20\"", "released = \"20.11.2026\""),
    ]), @r#"
    id = "Hives"
      invalid-value: "Hives" can't be an id
        at       "Hives"
        why      systems expect a reverse DNS name: three or more parts of letters, digits and hyphens
        instead  id = "com.example.my-program"
    name = " "
    version
      invalid-value: " " can't be a name
        at       " "
        why      users read it
        instead  one line of text
    version = "v1.4"
    publisher
      invalid-value: "v1.4" can't be a version
        at       "v1.4"
        why      versions begin with a digit, and consist of letters, digits and .+-~_
        instead  version = "1.0.0"
    publisher = "Fernhollow\nApiary Works"
      invalid-value: "Fernhollow\nApiary Works" can't be a publisher
        at       "Fernhollow\nApiary Works"
        why      users read it
        instead  one line of text
    summary = { xx = "Hives", en = " " }
      invalid-value: "xx" isn't a known language
        at       xx
        instead  a two-letter code, such as "de"
      invalid-value: the text is empty
        at       " "
        instead  leave the language out
    summary = {}
      missing-key: the text is given in no language
        at       {}
        instead  { en = "…", de = "…" }
    homepage = "fernhollow.example"
      invalid-value: "fernhollow.example" isn't a web address
        at       "fernhollow.example"
        instead  https://fernhollow.example
    categories = ["Office", "Bee keeping"]
      invalid-value: "Bee keeping" can't be a category
        at       "Bee keeping"
        instead  a registered name such as Office or Graphics
    released = "20.11.2026"
      invalid-value: "20.11.2026" isn't a date
        at       "20.11.2026"
        instead  released = "2026-11-20"
    "#);
}

#[test]
fn of_layers_and_programs() {
    insta::assert_snapshot!(answers(&[
        ("from = \"built\"", "from = \"bulit\""),
        ("into = \"share\"", "into = \"../share\""),
        ("keep = [\"**\"]", "keep = [\"{a\"]"),
        ("keep = [\"**\"]", "keep = [\"*.exe\"]"),
        ("key = \"app\"", "key = \"The App\""),
        ("file = \"share/hives\"", "file = \"share/hive\""),
        ("file = \"share/hives\"", "file = \"/usr/bin/hives\""),
        ("working-folder = \"home\"", "working-folder = \"../elsewhere\""),
        ("arguments = [\"--all\"]", "arguments = [\"--all\\n\"]"),
        ("environment = { HIVES = \"all\" }", "environment = { 1HIVES = \"all\" }"),
        ("command = \"hives\"", "command = \"all hives\""),
        ("[[shortcut]]", "[[program]]\nkey = \"app\"\nfile = \"share/hives\"\n[[shortcut]]"),
    ]), @r#"
    from = "bulit"
      unreadable: the layer …/bulit can't be read
        at       "bulit"
        why      there is no such folder or file
        instead  build the files first, or correct `from`
    into = "../share"
      invalid-value: the folder "../share" contains `.` or `..`
        at       "../share"
        why      it must lie inside the payload
        instead  into = "share/art"
    keep = ["{a"]
      invalid-value: the pattern "{a" is malformed
        at       "{a"
        why      unclosed alternate group; missing '}' (maybe escape '{' with '[{]'?)
        instead  `*` stands for any characters in a name, `**` for any folders, `{a,b}` for either
    keep = ["*.exe"]
      missing-file: the program "app" has no file share/hives
        at       "share/hives"
        why      it isn't in the payload
        instead  a file from one of the layers; `upper-shelf plan` shows all
      missing-file: the font "Hive Sans" has no file share/hive.ttf (windows-x64)
        at       "share/hive.ttf"
        why      it isn't in the payload
        instead  a file from one of the layers
      missing-file: there is no file share/hives.1
        at       "share/hives.1"
        why      it isn't in the payload
        instead  a file from one of the layers
      missing-file: there is no file share/hives.bash
        at       "share/hives.bash"
        why      it isn't in the payload
        instead  a file from one of the layers
      no-match: the choice "samples" has no files (windows-x64)
        at       ["share/sample*"]
        why      none of its patterns matches a file of the payload
        instead  files = ["samples/**"]
      no-match: `keep-changed` matches no file (windows-x64)
        at       ["share/sample*"]
        why      no pattern matches a file of the payload
        instead  keep-changed = ["templates/**"]
    key = "The App"
      invalid-value: "The App" can't be a key
        at       "The App"
        why      keys consist of lower-case letters, digits and hyphens
        instead  key = "app"
    file = "share/hive"
      missing-file: the program "app" has no file share/hive
        at       "share/hive"
        why      it isn't in the payload
        instead  file = "share/hives"
    file = "/usr/bin/hives"
      invalid-value: the program's file "/usr/bin/hives" is absolute
        at       "/usr/bin/hives"
        why      it is a path inside the payload
        instead  file = "bin/name"
    working-folder = "../elsewhere"
      invalid-value: the working folder "../elsewhere" contains `.` or `..`
        at       "../elsewhere"
        instead  `unchanged`, `home`, `install`, or a folder in the payload
    arguments = ["--all\n"]
      invalid-value: "--all\n" has a line break or control character
        at       "--all\n"
        instead  one line of text
    environment = { 1HIVES = "all" }
      invalid-value: "1HIVES" can't be a variable's name
        at       1HIVES
        instead  letters, digits and _ only
    command = "all hives"
      invalid-value: "all hives" can't be a command
        at       "all hives"
        why      commands consist of letters, digits and ._+-
        instead  command = "hives"
    [[program]]
    key = "app"
    file = "share/hives"
    [[shortcut]]
      duplicate: two programs have the key "app"
        at       "app"
        instead  a different key for one of them
    "#);
}

#[test]
fn of_shortcuts_types_links_and_variables() {
    insta::assert_snapshot!(answers(&[
        ("program = \"app\"\nname = \"Hives\"", "program = \"apps\"\nname = \"Hives\""),
        ("program = \"app\"\nname = \"Hives\"", "program = \"app\"\nname = \"Hives\\t\""),
        ("[[file-type]]", "[[shortcut]]\nprogram = \"app\"\nname = \"Hives\"\n[[file-type]]"),
        ("extensions = [\"hive\"]", "extensions = [\"hive\", \"hi ve\"]"),
        ("extensions = [\"hive\"]", "extensions = []"),
        ("mime = \"application/x-hive\"", "mime = \"hive\""),
        ("scheme = \"hives\"", "scheme = \"Hives://\""),
        ("name = \"HIVES_SEASON\"", "name = \"HIVES-SEASON\""),
        ("value = \"2026\"", "value = \"2026\\u0007\""),
    ]), @r#"
    program = "apps"
    name = "Hives"
      unknown-program: no program has the key "apps"
        at       "apps"
        instead  "app"
    program = "app"
    name = "Hives\t"
      invalid-value: "Hives\t" has a line break or control character
        at       "Hives\t"
        instead  one line of text
    [[shortcut]]
    program = "app"
    name = "Hives"
    [[file-type]]
      duplicate: this shortcut appears twice: menu: “Hives” starts app (All hives at a glance)
        at       [[shortcut]]
        why      one would replace the other
        instead  a different name for one of them
    extensions = ["hive", "hi ve"]
      invalid-value: "hi ve" can't be a file extension
        at       "hi ve"
        instead  letters and digits, such as "comb"
    extensions = []
      missing-key: the file type has no extension
        at       []
        instead  extensions = ["comb"]
    mime = "hive"
      invalid-value: "hive" isn't a media type
        at       "hive"
        instead  application/vnd.example.name
    scheme = "Hives://"
      invalid-value: "Hives://" can't be a link scheme
        at       "Hives://"
        why      it is the part before the colon
        instead  "hives"
    name = "HIVES-SEASON"
      invalid-value: "HIVES-SEASON" can't be a variable's name
        at       "HIVES-SEASON"
        instead  letters, digits and _ only
    value = "2026\u0007"
      invalid-value: "2026\u{7}" has a line break or control character
        at       "2026\u0007"
        instead  one line of text
    "#);
}

#[test]
fn of_what_only_windows_has() {
    insta::assert_snapshot!(answers(&[
        (r"key = 'Software\Fernhollow\Hives'", r"key = '\Software\Hives\'"),
        ("value = { number = 2026 }", "value = { number = 2026, text = \"2026\" }"),
        ("value = { number = 2026 }", "value = { bytes = \"0f1\" }"),
        ("value = { number = 2026 }", "value = -1"),
        ("name = \"HiveScale\"", "name = \"Hive Scale\""),
        ("file = \"share/hive.ttf\"", "file = \"share/hives.ttf\""),
        ("title = \"Hive Sans\"", "title = \"Hive\\nSans\""),
        ("key = \"samples\"", "key = \"Samples\""),
        ("files = [\"share/sample*\"]", "files = [\"examples/**\"]"),
        ("scope = \"machine\"", "scope = \"person\""),
        ("folder = \"Fernhollow/Hives\"", "folder = 'C:\\Hives'"),
        ("minimum-windows = \"10.0.17763\"", "minimum-windows = \"ten\""),
        ("start-at-end = \"app\"", "start-at-end = \"setup\""),
        ("keep-changed = [\"share/sample*\"]", "keep-changed = [\"*.tmpl\"]"),
    ]), @r#"
    key = '\Software\Hives\'
      invalid-value: "\\Software\\Hives\\" can't be a registry key
        at       '\Software\Hives\'
        why      keys begin and end with a name, not with a backslash
        instead  key = 'Software\Fernhollow\Combwright'
    value = { number = 2026, text = "2026" }
      invalid-value: a registry value has exactly one type
        at       { number = 2026, text = "2026" }
        instead  value = { text = "…" }, or one of expandable, number, bytes, list
    value = { bytes = "0f1" }
      invalid-value: "0f1" isn't a sequence of bytes
        at       { bytes = "0f1" }
        why      each byte is two hexadecimal digits
        instead  "00ff"
    value = -1
      invalid-value: `registry[0].value` can't be -1
        at       -1
        instead  a number from 0 to 4294967295
    name = "Hive Scale"
      invalid-value: "Hive Scale" can't be a service's name
        at       "Hive Scale"
        why      names have up to 80 characters, without spaces or slashes
        instead  name = "HiveScale"
    file = "share/hives.ttf"
      missing-file: the font "Hive Sans" has no file share/hives.ttf (windows-x64)
        at       "share/hives.ttf"
        why      it isn't in the payload
        instead  file = "share/hive.ttf"
    title = "Hive\nSans"
      invalid-value: "Hive\nSans" has a line break or control character
        at       "Hive\nSans"
        instead  one line of text
    key = "Samples"
      invalid-value: "Samples" can't be a key
        at       "Samples"
        why      keys consist of up to 30 lower-case letters, digits and hyphens
        instead  key = "samples"
    files = ["examples/**"]
      no-match: the choice "samples" has no files (windows-x64)
        at       ["examples/**"]
        why      none of its patterns matches a file of the payload
        instead  files = ["samples/**"]
    scope = "person"
      invalid-value: unknown value "person" for `install.scope`
        at       "person"
        instead  "user"
    folder = 'C:\Hives'
      invalid-value: "C:\\Hives" can't be a folder below the programs folder
        at       'C:\Hives'
        why      up to four names, each without < > : " | ? *
        instead  folder = "Combwright"
    minimum-windows = "ten"
      invalid-value: "ten" isn't a version of Windows
        at       "ten"
        instead  minimum-windows = "10.0.17763"
    start-at-end = "setup"
      unknown-program: no program has the key "setup" (windows-x64)
        at       "setup"
        instead  add a [[program]] with this key
    keep-changed = ["*.tmpl"]
      no-match: `keep-changed` matches no file (windows-x64)
        at       ["*.tmpl"]
        why      no pattern matches a file of the payload
        instead  keep-changed = ["templates/**"]
    "#);
}

#[test]
fn of_what_only_other_systems_have() {
    insta::assert_snapshot!(answers(&[
        ("minimum-macos = \"11.0\"", "minimum-macos = \"11.0.0.1\""),
        ("names = { de = \"Stöcke\" }", "names = { d = \"Stöcke\" }"),
        ("names = { de = \"Stöcke\" }", "names = { de = \"\" }"),
        ("camera = \"To photograph frames\"", "camera = \"\""),
        ("camera = \"To photograph frames\"", "cameras = \"To photograph frames\""),
        ("file = \"share/hives.1\"", "file = \"share/hives.txt\""),
        ("file = \"share/hives.1\"", "file = \"share/hive.1\""),
        ("file = \"share/hives.1\"", "file = \"share/all=hives.1\""),
        ("file = \"share/hives.bash\"", "file = \"share/hives.bash\"\ncommand = \"hive\""),
        ("shell = \"bash\"", "shell = \"csh\""),
    ]), @r#"
    minimum-macos = "11.0.0.1"
      invalid-value: "11.0.0.1" isn't a version of macOS
        at       "11.0.0.1"
        instead  minimum-macos = "11.0"
    names = { d = "Stöcke" }
      invalid-value: "d" isn't a language code
        at       d
        why      the system knows them as `de` or `pt-BR`
        instead  names = { de = "…" }
    names = { de = "" }
      invalid-value: the name is empty
        at       ""
        instead  leave the language out
    camera = ""
      invalid-value: the reason for camera is empty
        at       ""
        why      the system shows it when it asks for permission
        instead  camera = "To photograph frames"
    cameras = "To photograph frames"
      unknown-key: unknown key `cameras` in `permissions`
        at       cameras
        instead  camera
    file = "share/hives.txt"
      invalid-value: "hives.txt" can't be a manual page
        at       "share/hives.txt"
        why      its name ends with the section of the manual
        instead  file = "man/combwright.1"
    file = "share/hive.1"
      missing-file: there is no file share/hive.1
        at       "share/hive.1"
        why      it isn't in the payload
        instead  file = "share/hives.1"
    file = "share/all=hives.1"
      invalid-value: "all=hives.1" can't be a manual page
        at       "share/all=hives.1"
        why      its name can't contain an equals sign
        instead  file = "man/combwright.1"
    file = "share/hives.bash"
    command = "hive"
      invalid-value: no program has the command "hive"
        at       "hive"
        instead  command = "hives"
    shell = "csh"
      invalid-value: unknown value "csh" for `completion[0].shell`
        at       "csh"
        instead  "zsh"
    "#);
}

#[test]
fn of_the_wizard_and_the_targets() {
    insta::assert_snapshot!(answers(&[
        ("pages = [\"start\", \"choices\"]", "pages = []"),
        ("pages = [\"start\", \"choices\"]", "pages = [\"start\", \"license\"]"),
        ("pages = [\"start\", \"choices\"]", "pages = [\"start\", \"finish\"]"),
        ("accent = \"#e8a028\"", "accent = \"honey\""),
        ("languages = [\"en\", \"de\"]", "languages = [\"en\", \"german\"]"),
        ("languages = [\"en\", \"de\"]", "languages = [\"en\", \"da\"]"),
        ("back = \"Zurück\"", "backwards = \"Zurück\""),
        ("accent = \"#e8a028\"", "license = \"LICENCE.txt\""),
        ("accent = \"#e8a028\"", "license = { de = \"LIZENZ.txt\", en = \"\" }"),
        ("accent = \"#e8a028\"", "license = {}"),
        ("build = [\"tar\", \"zip\", \"msi\", \"nsis\", \"dmg\"]", "build = [\"tar\", \"exe\"]"),
        ("platforms = [\"linux-x64\", \"windows-x64\", \"macos-arm64\"]", "platforms = [\"darwin\"]"),
        ("[target.msi]\nversion = \"1.4.0\"", "[target.msi]\nversion = \"300.4.0\""),
        ("[target.msi]\nversion = \"1.4.0\"", "[target.msi]\nupgrade-code = \"hives\""),
        ("[target.msi]\nversion = \"1.4.0\"", "[target.msi]\ncode-page = 7\nversion = \"1.4.0\""),
        ("[target.msi]\nversion = \"1.4.0\"", "[target.tar]\nlevel = 30"),
        ("[target.msi]\nversion = \"1.4.0\"", "[target.nsis]\ndictionary-megabytes = 33"),
    ]), @r##"
    pages = []
      invalid-value: a wizard needs at least one page
        at       []
        instead  pages = ["start"]
    pages = ["start", "license"]
      invalid-value: the page `license` has no licence to show
        at       ["start", "license"]
        instead  license = "LICENSE.txt"
    pages = ["start", "finish"]
      invalid-value: unknown value "finish" for `wizard.pages[1]`
        at       "finish"
        instead  one of start, license, folder, choices
    accent = "honey"
      invalid-value: "honey" isn't a colour
        at       "honey"
        instead  accent = "#e8a028"
    languages = ["en", "german"]
      invalid-value: "german" isn't a known language
        at       "german"
        instead  a two-letter code, such as "de"
    languages = ["en", "da"]
      invalid-value: the language "da" has no words for next, back, install and 70 more
        at       "da"
        why      only en and de are built in
        instead  [wizard.words.da]⏎next = "…"
    backwards = "Zurück"
      invalid-value: "backwards" isn't one of the wizard's words
        at       backwards
        instead  one of the wizard's words
    license = "LICENCE.txt"
      unreadable: the licence LICENCE.txt can't be read (windows-x64)
        at       "LICENCE.txt"
        why      No such file or directory (os error 2)
        instead  a text file beside the manifest, in UTF-8
    license = { de = "LIZENZ.txt", en = "" }
      unreadable: the licence LIZENZ.txt can't be read (windows-x64)
        at       "LIZENZ.txt"
        why      No such file or directory (os error 2)
        instead  a text file beside the manifest, in UTF-8
      invalid-value: the text is empty
        at       ""
        instead  leave the language out
    license = {}
      missing-key: the text is given in no language
        at       {}
        instead  { en = "…", de = "…" }
    build = ["tar", "exe"]
      invalid-value: unknown value "exe" for `targets.build[1]`
        at       "exe"
        instead  one of appimage, zip, tar, msi, msix, nsis, portable, dmg
    platforms = ["darwin"]
      invalid-value: unknown value "darwin" for `targets.platforms[0]`
        at       "darwin"
        instead  one of macos-arm64, macos-x64, macos-universal
    [target.msi]
    version = "300.4.0"
      format-limit: an MSI can't hold the version "300.4.0"
        at       "300.4.0"
        why      300 is more than 255, the largest number that fits there
        instead  up to three numbers such as 2.4.0, the first two below 256, raised for each release
    [target.msi]
    upgrade-code = "hives"
      invalid-value: "hives" can't be an upgrade code
        at       "hives"
        why      it is a GUID, written without braces
        instead  upgrade-code = "01234567-89AB-CDEF-0123-456789ABCDEF"
    [target.msi]
    code-page = 7
    version = "1.4.0"
      fine
    [target.tar]
    level = 30
      invalid-value: `target.tar.level` can't be 30
        at       30
        instead  a number from 0 to 22
    [target.nsis]
    dictionary-megabytes = 33
      invalid-value: the dictionary can't be 33 megabytes
        at       33
        why      the format takes powers of two only
        instead  dictionary-megabytes = 32
    "##);
}

/// Whatever text a line of it has, a line break or a control character in it is an error of that line.
#[test]
fn no_control_character_gets_into_a_package() {
    let folder = folder();
    let lines: Vec<&str> = RIGHT.lines().collect();
    for (number, line) in lines.iter().enumerate() {
        let Some((key, value)) = line.split_once(" = \"") else { continue };
        let changed = format!("{key} = \"\\u0001{value}");
        let wrong = [&lines[..number], &[changed.as_str()], &lines[number + 1..]].concat().join("\n");
        let mut problems = errors(folder.path(), &wrong, Some(Platform::WindowsX64));
        if problems.is_empty() {
            problems = errors(folder.path(), &wrong, Some(Platform::MacosArm64));
        }
        let is_there = |problem: &Problem| problem.span.as_ref().is_some_and(|at| at.line == number + 1);
        assert!(problems.iter().any(is_there), "of line {}, {line}: {problems:?}", number + 1);
    }
}

/// A line that is left out, twice there, or of another type ends in an answer, never in a panic, and never in thousands.
#[test]
fn any_line_may_be_missing_twice_there_or_of_another_type() {
    let folder = folder();
    let mut codes = std::collections::BTreeSet::new();
    for line in RIGHT.lines().filter(|line| !line.is_empty()) {
        let key = line.split(" = ").next().unwrap();
        for wrong in ["", &format!("{line}\n{line}"), &format!("{key} = 7"), &format!("{key} = [[1], {{ a = 2 }}]")] {
            let problems = errors(folder.path(), &RIGHT.replacen(line, wrong, 1), Some(Platform::LinuxX64));
            assert!(problems.len() < 20, "{wrong}: {problems:#?}");
            codes.extend(problems.iter().map(|problem| problem.code));
        }
    }
    for code in
        [Code::Syntax, Code::UnknownKey, Code::MissingKey, Code::WrongType, Code::InvalidValue, Code::UnknownProgram]
    {
        assert!(codes.contains(&code), "{code:?}: {codes:?}");
    }
}
