//! `completions` and `man`

use crate::exit::Code;
use clap::Command;
use std::io::Write;
use std::path::Path;
use upper_shelf_core::Failure;

/// Print the completions for a shell
#[derive(Debug, clap::Args)]
pub struct CompletionsArgs {
    /// The shell
    shell: clap_complete::Shell,
}

/// Print the manual page
#[derive(Debug, clap::Args)]
pub struct ManArgs {}

pub fn completions(args: CompletionsArgs, mut command: Command) -> Result<Code, Failure> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut command, "upper-shelf", &mut text);
    print(&text)
}

pub fn man(_: ManArgs, command: Command) -> Result<Code, Failure> {
    let mut text = Vec::new();
    let rendered = clap_mangen::Man::new(command.clone()).render(&mut text);
    rendered.map_err(|e| Failure::io("can't render", Path::new("the manual page"), &e))?;
    for sub in command.get_subcommands().filter(|s| s.get_name() != "help") {
        let name = format!("upper-shelf {}", sub.get_name());
        let page = clap_mangen::Man::new(sub.clone().display_name(name));
        let parts = page.render_name_section(&mut text).and_then(|()| page.render_synopsis_section(&mut text));
        let parts = parts.and_then(|()| page.render_options_section(&mut text));
        parts.map_err(|e| Failure::io("can't render", Path::new("the manual page"), &e))?;
    }
    print(&text)
}

fn print(text: &[u8]) -> Result<Code, Failure> {
    let mut out = std::io::stdout();
    match out.write_all(text).and_then(|()| out.flush()) {
        // A reader that stops early (`| head`) is no trouble.
        Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Failure::io("can't write", Path::new("standard output"), &e))
        }
        _ => Ok(Code::Done),
    }
}
