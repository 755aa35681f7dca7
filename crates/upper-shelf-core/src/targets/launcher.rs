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
    for Program { key, file, arguments, environment, working_folder, console } in &footprint.programs {
        let _ = writeln!(out, "{key})");
        let _ = writeln!(out, "  file={}", plain(file.as_str()));
        for (name, value) in environment {
            let _ = writeln!(out, "  export {name}={}", quote(value));
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
            let Some(Program { key: _, file, arguments, environment, working_folder, console }) = &mut program else {
                continue;
            };
            if let Some(word) = inner.strip_prefix("file=") {
                *file = RelPath::new(unquote(word)?.0).ok()?;
            } else if let Some(export) = inner.strip_prefix("export ") {
                let (name, word) = export.split_once('=')?;
                environment.insert(name.to_owned(), unquote(word)?.0);
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
