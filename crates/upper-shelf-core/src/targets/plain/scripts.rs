//! The scripts in the tar for Linux. They need a POSIX shell and nothing else; whatever they put somewhere they write
//! down first, so that uninstalling takes away exactly that. Files are brought close to their places before anything is
//! changed; then only names change, and what was interrupted is undone by the next run.

use crate::footprint::{Command, Footprint, RelPath, ShellFile, ShellFileKind};
use crate::targets::launcher::plain;

fn head(footprint: &Footprint, what: &str) -> String {
    let p = &footprint.product;
    let text = |v: &Option<String>| v.clone().unwrap_or_default();
    format!(
        "#!/bin/sh\n# {what} Needs a POSIX shell and nothing else.\nset -eu\numask 022\nunset CDPATH\nid={}\nname={}\nversion={}\n",
        plain(&text(&p.id)),
        plain(&text(&p.name)),
        plain(&text(&p.version)),
    )
}

/// Where things go, for one user or for everyone; the same in both scripts.
const PLACES: &str = include_str!("places.sh");
/// How the lists begin that say what is found at a command prompt: `NAME=PROGRAM` and `PLACE=FILE`, line by line.
const COMMANDS: &str = "commands=";
const SHELL_FILES: &str = "shell_files=";

/// The folder below `share/` in which files of a kind are found, and what stands around their names there.
///
/// Sources: the Filesystem Hierarchy Standard (`man/manN`), and the manuals of `bash-completion`, zsh and fish.
fn place(file: &ShellFile) -> String {
    let name = &file.name;
    match file.kind {
        ShellFileKind::Manual => {
            let page = name.strip_suffix(".gz").unwrap_or(name);
            let section = page.rsplit('.').next().and_then(|s| s.chars().next()).unwrap_or('1');
            format!("man/man{section}/{name}")
        }
        ShellFileKind::Bash => format!("bash-completion/completions/{name}"),
        ShellFileKind::Zsh => format!("zsh/site-functions/_{name}"),
        ShellFileKind::Fish => format!("fish/vendor_completions.d/{name}.fish"),
    }
}

fn from_place(place: &str, file: &str) -> Option<ShellFile> {
    let file = RelPath::new(file).ok()?;
    let (folder, name) = place.rsplit_once('/')?;
    let (kind, name) = match folder {
        "bash-completion/completions" => (ShellFileKind::Bash, name),
        "zsh/site-functions" => (ShellFileKind::Zsh, name.strip_prefix('_')?),
        "fish/vendor_completions.d" => (ShellFileKind::Fish, name.strip_suffix(".fish")?),
        _ if folder.starts_with("man/man") => (ShellFileKind::Manual, name),
        _ => return None,
    };
    Some(ShellFile { kind, name: name.to_owned(), file })
}

/// `install.sh`.
pub fn install(footprint: &Footprint) -> String {
    let mut out = head(footprint, "Installs the program.");
    let main = footprint.main_program().unwrap_or_default();
    let mut commands: Vec<&Command> = footprint.commands.iter().collect();
    // The main program's comes first: it is the one that the script names at its end.
    commands.sort_by_key(|c| c.program != main);
    let commands: Vec<String> = commands.iter().map(|c| format!("{}={}", c.name, c.program)).collect();
    let files: Vec<String> = footprint.shell_files.iter().map(|f| format!("{}={}", place(f), f.file)).collect();
    for (key, list) in [(COMMANDS, commands), (SHELL_FILES, files)] {
        out.push_str(&format!("{key}{}\n", plain(&list.join("\n"))));
    }
    out.push_str(PLACES);
    out.push_str(include_str!("install.sh"));
    out
}

/// What `install.sh` puts where a command prompt finds it.
pub fn read(script: &str) -> (Vec<Command>, Vec<ShellFile>) {
    let command = |line: &str| {
        let (name, program) = line.split_once('=')?;
        Some(Command { name: name.to_owned(), program: program.to_owned() })
    };
    let file = |line: &str| line.split_once('=').and_then(|(place, file)| from_place(place, file));
    let commands = list(script, COMMANDS).lines().filter_map(command).collect();
    (commands, list(script, SHELL_FILES).lines().filter_map(file).collect())
}

/// The text of a word that a script assigns.
fn list(script: &str, key: &str) -> String {
    let Some(begin) = script.find(&format!("\n{key}'")) else { return String::new() };
    let mut rest = &script[begin + key.len() + 2..];
    let mut text = String::new();
    while let Some((part, after)) = rest.split_once('\'') {
        text.push_str(part);
        match after.strip_prefix("\\''") {
            Some(more) => {
                text.push('\'');
                rest = more;
            }
            None => return text,
        }
    }
    String::new()
}

/// `uninstall.sh`.
pub fn uninstall(footprint: &Footprint) -> String {
    let mut out = head(footprint, "Removes the installed program: exactly what was installed.");
    out.push_str(PLACES);
    out.push_str(include_str!("uninstall.sh"));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_prompt_finds_is_read_as_it_was_written() {
        let command = |name: &str, program: &str| Command { name: name.into(), program: program.into() };
        let file = |kind, name: &str, file: &str| ShellFile {
            kind,
            name: name.into(),
            file: RelPath::new(file).expect("a path"),
        };
        let footprint = Footprint {
            commands: vec![command("comb", "app"), command("comb-map", "map")].into(),
            shell_files: vec![
                file(ShellFileKind::Manual, "comb.1", "man/comb.1"),
                file(ShellFileKind::Manual, "comb.conf.5.gz", "bee's man/comb.conf.5.gz"),
                file(ShellFileKind::Bash, "comb", "comb=1.bash"),
                file(ShellFileKind::Zsh, "comb", "_comb"),
                file(ShellFileKind::Fish, "comb", "comb.fish"),
            ]
            .into(),
            ..Footprint::default()
        };
        let (commands, files) = read(&install(&footprint));
        assert_eq!(footprint.commands, commands.into());
        assert_eq!(footprint.shell_files, files.into());
        let nothing = read(&install(&Footprint::default()));
        assert_eq!((nothing.0.len(), nothing.1.len()), (0, 0));
        assert_eq!(read("commands='unfinished").0, []);
    }
}
