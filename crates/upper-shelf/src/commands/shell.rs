//! `completions` and `man`

use crate::exit::Exit;
use clap::Command;
use std::io::Write;
use std::path::{Path, PathBuf};
use upper_shelf_core::problem::{Code, Problem, nearest};
use upper_shelf_core::{Failure, Kind};

/// Print completions for a shell
#[derive(Debug, clap::Args)]
pub struct CompletionsArgs {
    /// The shell
    shell: clap_complete::Shell,
}

/// Print the manual page of the program or of one of its commands, or write all of them to a folder
#[derive(Debug, clap::Args)]
pub struct ManArgs {
    /// The command; without one, the page of the whole program
    command: Option<String>,
    /// Write a page for the program and one for each command here, for `man`
    #[arg(short, long, value_name = "FOLDER", conflicts_with = "command")]
    output: Option<PathBuf>,
}

pub fn completions(args: CompletionsArgs, mut command: Command) -> Result<Exit, Failure> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut command, "upper-shelf", &mut text);
    print(&text)
}

pub fn man(args: ManArgs, mut command: Command) -> Result<Exit, Failure> {
    // Each command's page has the options that all of them take.
    command.build();
    if let Some(folder) = args.output {
        std::fs::create_dir_all(&folder).map_err(|e| Failure::io("can't create the folder", &folder, e))?;
        for page in pages(&command) {
            let path = folder.join(format!("{}.1", page.get_display_name().unwrap_or_default()));
            std::fs::write(&path, rendered(page)?).map_err(|e| Failure::io("can't write", &path, e))?;
        }
        return Ok(Exit::Done);
    }
    let Some(wanted) = args.command else { return print(&rendered(command)?) };
    let names: Vec<String> = command.get_subcommands().map(|s| s.get_name().to_owned()).collect();
    match pages(&command).find(|page| page.get_name() == wanted && page.get_display_name() != Some("upper-shelf")) {
        Some(page) => print(&rendered(page)?),
        None => {
            let problem = Problem::error(Code::WrongUse, format!("there is no command {wanted:?}"));
            let near = nearest(&wanted, names.iter().map(String::as_str));
            let instead = near.map_or_else(|| "`upper-shelf --help` lists them".to_owned(), str::to_owned);
            Err(Failure::new(Kind::Problems, problem.instead(instead)))
        }
    }
}

/// The program and its commands, each under the name of its page.
fn pages(command: &Command) -> impl Iterator<Item = Command> + '_ {
    let own = command.clone().display_name("upper-shelf");
    let commands = command.get_subcommands().filter(|s| s.get_name() != "help");
    let of = |s: &Command| s.clone().display_name(format!("upper-shelf-{}", s.get_name()));
    std::iter::once(own).chain(commands.map(of))
}

fn rendered(page: Command) -> Result<Vec<u8>, Failure> {
    let mut text = Vec::new();
    let done = clap_mangen::Man::new(page).render(&mut text);
    done.map_err(|e| Failure::io("can't render", Path::new("the manual page"), e))?;
    Ok(text)
}

fn print(text: &[u8]) -> Result<Exit, Failure> {
    let mut out = std::io::stdout();
    match out.write_all(text).and_then(|()| out.flush()) {
        // A reader that stops early (`| head`) is no trouble.
        Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Failure::io("can't write", Path::new("standard output"), e))
        }
        _ => Ok(Exit::Done),
    }
}
