//! The small shell script that starts a product's programs with their arguments, environment and working folder, and
//! the way back from it: the same few line forms are written and read.

use crate::footprint::{EnvironmentAction, Footprint, Program, RelPath, Variable, WorkingFolder};
use std::fmt::Write;

const MARK: &str = "# Starts the product's programs; written by Upper Shelf, and read back by it line by line.";

/// Where the script stands.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// At the top of an AppImage: the program is told so (`APPDIR`), mounted or unpacked.
    InAppImage,
    /// In a folder like any other.
    Installed,
}

/// The script; `install` is the product's own folder, relative to the script's.
pub fn write(footprint: &Footprint, install: &str, stands: Stands) -> String {
    let main = footprint.main_program().unwrap_or_default();
    let mut out = format!("#!/bin/sh\n{MARK}\n");
    out.push_str("here=$(dirname -- \"$(readlink -f -- \"$0\")\")\nname=$0\n");
    // Whatever another AppImage has set for its own program is not meant for this one.
    out.push_str(
        "if [ -n \"${APPDIR-}\" ] && [ \"$(readlink -f -- \"$APPDIR\")\" = \"$here\" ]; then name=${ARGV0:-$0}\n",
    );
    out.push_str("else unset APPDIR APPIMAGE ARGV0 OWD; fi\n");
    if stands == Stands::InAppImage {
        out.push_str("APPDIR=$here; export APPDIR\n");
    }
    let _ = writeln!(out, "install=$here/{install}");
    let _ = writeln!(out, "start={main}");
    out.push_str("# Under another program's name, or with --start=KEY first, that program is started.\n");
    let keys: Vec<&str> = footprint.programs.iter().map(|p| p.key.as_str()).collect();
    out.push_str("case ${name##*/} in\n");
    keys.iter().for_each(|key| {
        let _ = writeln!(out, "'{key}') start={key} ;;");
    });
    out.push_str("esac\ncase ${1-} in\n");
    keys.iter().for_each(|key| {
        let _ = writeln!(out, "'--start={key}') start={key}; shift ;;");
    });
    out.push_str("esac\n");
    for Variable { name, action, value } in &footprint.environment {
        let value = quote(value);
        let _ = match action {
            EnvironmentAction::Set => writeln!(out, "export {name}={value}"),
            EnvironmentAction::Prepend => writeln!(out, "export {name}={value}{}", after(name)),
            EnvironmentAction::Append => writeln!(out, "export {name}={}{value}", before(name)),
        };
    }
    out.push_str("case $start in\n");
    for Program { key, file, arguments, environment, unset, working_folder, console } in &footprint.programs {
        let _ = writeln!(out, "{key})");
        let _ = writeln!(out, "  file={}", plain(file.as_str()));
        for (name, value) in environment {
            let _ = writeln!(out, "  export {name}={}", quote(value));
        }
        for name in unset {
            let _ = writeln!(out, "  unset {name}");
        }
        match working_folder {
            WorkingFolder::Unchanged => {}
            WorkingFolder::Home => out.push_str("  cd \"$HOME\" || exit 126\n"),
            WorkingFolder::Install => out.push_str("  cd \"$install\" || exit 126\n"),
            WorkingFolder::Inside(folder) => {
                let _ = writeln!(out, "  cd \"$install\"/{} || exit 126", plain(folder.as_str()));
            }
        }
        // Last first: each goes in front of what is there.
        for argument in arguments.iter().rev() {
            let _ = writeln!(out, "  set -- {} \"$@\"", quote(argument));
        }
        if *console {
            out.push_str("  # in a terminal\n");
        }
        out.push_str("  ;;\n");
    }
    out.push_str("esac\nexec \"$install/$file\" \"$@\"\n");
    out
}

/// What a variable means when it is not set: adding to it must not take that away. The XDG Base Directory Specification
/// has the folders; an empty part of `MANPATH` and `INFOPATH` stands for the usual ones.
fn usual(name: &str) -> Option<&'static str> {
    match name {
        "XDG_DATA_DIRS" => Some("/usr/local/share:/usr/share"),
        "XDG_CONFIG_DIRS" => Some("/etc/xdg"),
        "PATH" => Some("/usr/local/bin:/usr/bin:/bin"),
        "MANPATH" | "INFOPATH" => Some(""),
        _ => None,
    }
}

/// What follows a value that goes in front of a variable.
fn after(name: &str) -> String {
    match usual(name) {
        Some(usual) => format!("\":${{{name}:-{usual}}}\""),
        None => format!("\"${{{name}:+:${name}}}\""),
    }
}

/// What precedes a value that goes behind a variable.
fn before(name: &str) -> String {
    match usual(name) {
        Some(usual) => format!("\"${{{name}:-{usual}}}:\""),
        None => format!("\"${{{name}:+${name}:}}\""),
    }
}

/// A word for the shell, letter for letter.
pub fn plain(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A word for the shell; `{install}` becomes the variable `install`, the product's folder.
pub fn quote(text: &str) -> String {
    let parts = text.split("{install}").map(|part| match part {
        "" => String::new(),
        part => plain(part),
    });
    let word = parts.collect::<Vec<_>>().join("\"$install\"");
    if word.is_empty() { "''".into() } else { word }
}

/// The way back from [`quote`]: the text, and what follows the word.
fn unquote(mut word: &str) -> Option<(String, &str)> {
    let mut text = String::new();
    loop {
        if let Some(rest) = word.strip_prefix('\'') {
            let (part, rest) = rest.split_once('\'')?;
            text.push_str(part);
            word = rest;
        } else if let Some(rest) = word.strip_prefix("\\'") {
            text.push('\'');
            word = rest;
        } else if let Some(rest) = word.strip_prefix("\"$install\"") {
            text.push_str("{install}");
            word = rest;
        } else {
            return Some((text, word));
        }
    }
}

/// What a script of ours says.
#[derive(Default)]
pub struct Script {
    /// What it starts.
    pub programs: Vec<Program>,
    /// What it sets for all of them.
    pub environment: Vec<Variable>,
    /// The product's own folder, relative to the script's.
    pub install: String,
}

/// Reads a script of ours; `None` for any other.
pub fn read(script: &str) -> Option<Script> {
    let mut lines = script.lines();
    if lines.next() != Some("#!/bin/sh") || lines.next() != Some(MARK) {
        return None;
    }
    let mut read = Script::default();
    let mut program: Option<Program> = None;
    let mut in_programs = false;
    for line in lines {
        if let Some(folder) = line.strip_prefix("install=$here/") {
            read.install = folder.to_owned();
        } else if line == "case $start in" {
            in_programs = true;
        } else if let Some(export) = line.strip_prefix("export ") {
            read.environment.push(read_variable(export)?);
        } else if let Some(key) = line.strip_suffix(')').filter(|_| in_programs && program.is_none()) {
            program = Some(Program::plain(key, RelPath::new("unknown").ok()?));
        } else if line == "  ;;" {
            read.programs.push(program.take()?);
        } else if let Some(inner) = line.strip_prefix("  ") {
            let Some(Program { key: _, file, arguments, environment, unset, working_folder, console }) = &mut program
            else {
                continue;
            };
            if let Some(word) = inner.strip_prefix("file=") {
                *file = RelPath::new(unquote(word)?.0).ok()?;
            } else if let Some(export) = inner.strip_prefix("export ") {
                let (name, word) = export.split_once('=')?;
                environment.insert(name.to_owned(), unquote(word)?.0);
            } else if let Some(name) = inner.strip_prefix("unset ") {
                unset.insert(name.to_owned());
            } else if let Some(word) = inner.strip_prefix("set -- ") {
                arguments.insert(0, unquote(word)?.0);
            } else if inner == "cd \"$HOME\" || exit 126" {
                *working_folder = WorkingFolder::Home;
            } else if inner == "cd \"$install\" || exit 126" {
                *working_folder = WorkingFolder::Install;
            } else if let Some(word) = inner.strip_prefix("cd \"$install\"/") {
                *working_folder = WorkingFolder::Inside(RelPath::new(unquote(word)?.0).ok()?);
            } else if inner == "# in a terminal" {
                *console = true;
            }
        }
    }
    Some(read)
}

fn read_variable(export: &str) -> Option<Variable> {
    let (name, word) = export.split_once('=')?;
    let (append, prepend) = (before(name), after(name));
    let (action, value) = match word.strip_prefix(append.as_str()) {
        Some(word) => (EnvironmentAction::Append, unquote(word)?.0),
        None => match unquote(word)? {
            (value, rest) if rest == prepend => (EnvironmentAction::Prepend, value),
            (value, _) => (EnvironmentAction::Set, value),
        },
    };
    Some(Variable { name: name.to_owned(), action, value })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::{BTreeMap, BTreeSet};
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, symlink};
    use std::path::Path;
    use std::process::Command;

    /// A program that says how it was started: its folder, its arguments, the variables that it knows.
    const SAYS: &str = "#!/bin/sh\npwd\nprintf '%s|' \"$@\"\nprintf '\\n%s|%s|%s%s\\n' \"${ONE-}\" \"${TWO-}\" \"${MANPATH-}\" \"${THREE-}\"\n";

    fn made(folder: &Path, footprint: &Footprint, stands: Stands) -> std::path::PathBuf {
        let install = folder.join("lib/hives");
        fs::create_dir_all(install.join("in it")).expect("made");
        for name in ["says", "other's"] {
            fs::write(install.join(name), SAYS.replace("pwd", &format!("echo {}; pwd", plain(name)))).expect("written");
            fs::set_permissions(install.join(name), fs::Permissions::from_mode(0o755)).expect("mode");
        }
        let script = folder.join("start");
        fs::write(&script, write(footprint, "lib/hives", stands)).expect("written");
        fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).expect("mode");
        script
    }

    fn said(script: &Path, arguments: &[&str], variables: &[(&str, &str)]) -> String {
        let mut command = Command::new(script);
        command.args(arguments).env_clear().env("PATH", "/usr/bin:/bin").env("HOME", "/tmp");
        let output = command.envs(variables.iter().copied()).output().expect("started");
        assert!(output.status.success() && output.stderr.is_empty(), "{output:?}");
        String::from_utf8(output.stdout).expect("text")
    }

    /// A text of one line, as manifests hold them.
    fn text() -> impl Strategy<Value = String> {
        let part = prop_oneof![
            "[ -~]{0,6}",
            "['\"$`\\\\!*?;&|<>(){}\\[\\]#~%=]{0,5}",
            Just("{install}".to_owned()),
            Just("äß蜂".to_owned()),
        ];
        prop::collection::vec(part, 0..4).prop_map(|parts| parts.concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]

        #[test]
        fn a_shell_gives_the_program_exactly_what_is_written(
            arguments in prop::collection::vec(text(), 0..4), own in text(), one in text(), two in text(), before in "[a-z ']{0,4}",
        ) {
            let folder = tempfile::tempdir().expect("a folder");
            let program = Program {
                arguments: arguments.clone(),
                environment: BTreeMap::from([("ONE".to_owned(), own.clone())]),
                unset: BTreeSet::from(["THREE".to_owned()]),
                working_folder: WorkingFolder::Install,
                ..Program::plain("app", RelPath::new("says").expect("a path"))
            };
            let variable = |name: &str, action, value: &str| Variable { name: name.into(), action, value: value.into() };
            let footprint = Footprint {
                programs: vec![program].into(),
                environment: vec![
                    variable("ONE", EnvironmentAction::Set, &one),
                    variable("TWO", EnvironmentAction::Prepend, &two),
                    variable("MANPATH", EnvironmentAction::Append, &two),
                ]
                .into(),
                ..Footprint::default()
            };
            let script = made(folder.path(), &footprint, Stands::Installed);
            let install = folder.path().join("lib/hives").to_string_lossy().into_owned();
            let meant = |text: &str| text.replace("{install}", &install);
            let all: String = arguments.iter().map(|a| meant(a)).chain(["given 'here'".into()]).map(|a| a + "|").collect();
            let after = if before.is_empty() { String::new() } else { format!(":{before}") };
            let expected = format!(
                "says\n{install}\n{all}\n{}|{}{after}|:{}\n", meant(&own), meant(&two), meant(&two)
            );
            prop_assert_eq!(said(&script, &["given 'here'"], &[("TWO", &before), ("THREE", "bees")]), expected);
            // And it is read as it was written.
            let text = fs::read_to_string(&script).expect("read");
            let read = read(&text).expect("one of ours");
            prop_assert_eq!((read.programs.into(), read.environment.into()), (footprint.programs, footprint.environment));
        }
    }

    fn two_programs() -> Footprint {
        let program = |key: &str, file: &str, working_folder| Program {
            working_folder,
            ..Program::plain(key, RelPath::new(file).expect("a path"))
        };
        let inside = WorkingFolder::Inside(RelPath::new("in it").expect("a path"));
        Footprint {
            programs: vec![program("app", "says", WorkingFolder::Home), program("map", "other's", inside)].into(),
            ..Footprint::default()
        }
    }

    #[test]
    fn a_program_is_chosen_by_the_scripts_name_or_by_the_first_argument() {
        let folder = tempfile::tempdir().expect("a folder");
        let script = made(folder.path(), &two_programs(), Stands::Installed);
        let link = folder.path().join("map");
        symlink(&script, &link).expect("linked");
        let inside = folder.path().join("lib/hives/in it").to_string_lossy().into_owned();
        let map = format!("other's\n{inside}\nx|\n||\n");
        assert_eq!(said(&script, &["x"], &[]), "says\n/tmp\nx|\n||\n");
        assert_eq!(said(&script, &["--start=map", "x"], &[]), map);
        assert_eq!(said(&link, &["x"], &[]), map);
        assert_eq!(said(&link, &["--start=app", "x"], &[]), "says\n/tmp\nx|\n||\n");
        // Only the first argument is the script's; what is no program's key is the program's.
        assert_eq!(said(&script, &["x", "--start=map"], &[]), "says\n/tmp\nx|--start=map|\n||\n");
        assert_eq!(said(&script, &["--start=other"], &[]), "says\n/tmp\n--start=other|\n||\n");
    }

    #[test]
    fn what_another_appimage_has_set_is_not_taken_for_ones_own() {
        let folder = tempfile::tempdir().expect("a folder");
        let script = made(folder.path(), &two_programs(), Stands::InAppImage);
        let here = folder.path().to_string_lossy().into_owned();
        // The runtime tells under which name it was started.
        assert!(said(&script, &[], &[("APPDIR", &here), ("ARGV0", "/usr/bin/map")]).starts_with("other's\n"));
        assert!(said(&script, &[], &[("APPDIR", "/tmp"), ("ARGV0", "/usr/bin/map")]).starts_with("says\n"));
    }

    #[test]
    fn a_script_that_is_not_ours_or_no_longer_whole_is_no_description() {
        let script = write(&two_programs(), "lib/hives", Stands::Installed);
        assert!(read(&script).is_some());
        assert!(read(&script.replace("#!/bin/sh", "#!/bin/bash")).is_none());
        assert!(read(&script.replace("written by Upper Shelf", "written by hand")).is_none());
        for end in (0..script.len()).filter(|end| script.is_char_boundary(*end)) {
            // Whatever is left of it is read without a fault.
            let _ = read(&script[..end]);
        }
        assert_eq!(unquote("'not closed"), None);
        assert_eq!(unquote("'a'\\''b' rest"), Some(("a'b".to_owned(), " rest")));
    }
}
