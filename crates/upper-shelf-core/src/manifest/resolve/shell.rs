//! What is found at a command prompt: commands, manual pages, completions.

use super::Resolver;
use crate::footprint::{Command, Footprint, List, RelPath, ShellFile, ShellFileKind, file_name_of};
use crate::manifest::written::Shell;
use crate::platform::System;
use crate::settings::TargetName;

/// Whether a program can be started by this name on every system, and in every shell as it is.
fn is_command(name: &str) -> bool {
    let good = |c: char| c.is_ascii_alphanumeric() || "._+-".contains(c);
    (1..=64).contains(&name.len()) && !name.starts_with(['-', '.']) && name.chars().all(good)
}

impl Resolver<'_> {
    /// Adds commands and what belongs to them; the programs are there already.
    pub(super) fn shell(&mut self, footprint: &mut Footprint, targets: &[TargetName]) {
        footprint.commands = self.commands(footprint, targets);
        footprint.shell_files = self.shell_files(footprint);
    }

    fn commands(&mut self, footprint: &Footprint, targets: &[TargetName]) -> List<Command> {
        let m = &self.project.manifest;
        let installs = self.platform.system() == System::Linux && targets.contains(&TargetName::Tar);
        let mut plain = file_name_of(&m.product.name).to_lowercase();
        if !is_command(&plain) {
            plain = m.product.id.rsplit('.').next().unwrap_or_default().to_lowercase();
        }
        let mut commands = Vec::new();
        for (n, program) in m.program.iter().enumerate() {
            let is_again = m.program[..n].iter().any(|p| p.key == program.key && self.applies(&p.platforms));
            if is_again || !footprint.programs.iter().any(|p| p.key == program.key) {
                continue;
            }
            let at = format!("program.{n}.command");
            let name = match &program.command {
                Some(name) => name.clone(),
                None if installs => {
                    let is_main = footprint.main_program() == Some(&program.key);
                    let made = if is_main { plain.clone() } else { format!("{plain}-{}", program.key) };
                    self.detail(
                        &format!("program {} · command", n + 1),
                        &made,
                        "made from the product's name, or its id if the name has other letters",
                    );
                    made
                }
                None => continue,
            };
            if !is_command(&name) {
                let why = "commands consist of letters, digits and ._+-";
                self.problem(&at, format!("{name:?} can't be a command"), why, format!("command = \"{plain}\""));
                self.programs_are_wrong = true;
                continue;
            }
            commands.push((Command { name, program: program.key.clone() }, at));
        }
        self.list(commands)
    }

    fn shell_files(&mut self, footprint: &Footprint) -> List<ShellFile> {
        let m = &self.project.manifest;
        let mut files = Vec::new();
        for (n, page) in m.manual.iter().enumerate() {
            if !self.applies(&page.platforms) {
                continue;
            }
            let at = format!("manual.{n}.file");
            let Some(file) = self.shell_file(&at, &page.file) else { continue };
            let name = file.name().to_owned();
            // `NAME.1`, with letters behind the digit where a system wants them.
            let section =
                name.trim_end_matches(".gz").rsplit_once('.').map(|(stem, section)| (stem.is_empty(), section));
            if !section.is_some_and(|(nameless, s)| !nameless && s.starts_with(|c: char| ('1'..='9').contains(&c))) {
                let why = "its name ends with the section of the manual";
                self.problem(&at, format!("{name:?} can't be a manual page"), why, "file = \"man/combwright.1\"");
                continue;
            }
            // The script that installs it divides its list there.
            if name.contains('=') {
                let why = "its name can't contain an equals sign";
                self.problem(&at, format!("{name:?} can't be a manual page"), why, "file = \"man/combwright.1\"");
                continue;
            }
            files.push((ShellFile { kind: ShellFileKind::Manual, name, file }, format!("manual.{n}")));
        }
        let main = footprint.main_program();
        let usual = footprint.commands.iter().find(|c| Some(c.program.as_str()) == main);
        let usual = usual.or_else(|| footprint.commands.first()).map(|c| c.name.clone());
        for (n, completion) in m.completion.iter().enumerate() {
            if !self.applies(&completion.platforms) {
                continue;
            }
            let at = format!("completion.{n}");
            let Some(file) = self.shell_file(&format!("{at}.file"), &completion.file) else { continue };
            let Some(name) = completion.command.clone().or_else(|| usual.clone()) else {
                if self.programs_are_wrong {
                    continue;
                }
                let what = "the completion belongs to no command".to_owned();
                self.problem(&at, what, "no program has a `command`", "command = \"combwright\" in a [[program]]");
                continue;
            };
            let known = footprint.commands.iter().any(|c| c.name == name);
            if !known && completion.command.is_some() {
                let instead =
                    usual.clone().map_or_else(|| "a program\'s `command`".into(), |u| format!("command = {u:?}"));
                self.problem(&format!("{at}.command"), format!("no program has the command {name:?}"), "", instead);
                continue;
            }
            let kind = match completion.shell {
                Shell::Bash => ShellFileKind::Bash,
                Shell::Zsh => ShellFileKind::Zsh,
                Shell::Fish => ShellFileKind::Fish,
            };
            files.push((ShellFile { kind, name, file }, at));
        }
        self.list(files)
    }

    fn shell_file(&mut self, at: &str, file: &str) -> Option<RelPath> {
        self.one_line(at, file);
        match RelPath::new(file.replace('\\', "/")) {
            Ok(path) => Some(path),
            Err(why) => {
                let what = format!("the file {file:?} {why}");
                self.problem(at, what, "it is a path inside the payload", "file = \"share/man/combwright.1\"");
                None
            }
        }
    }
}
