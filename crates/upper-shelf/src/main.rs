//! The command line: arguments in, the core's answers out. It computes nothing.

mod commands;
mod exit;
mod output;
mod progress;
#[cfg(test)]
mod results;
mod stop;

use clap::{CommandFactory, Parser, Subcommand};
use output::Output;

/// Turns built application files and one manifest into native installers, for every system, from any one machine.
///
/// The usual way: `upper-shelf init FOLDER`, `upper-shelf plan`, `upper-shelf build`.
#[derive(Debug, Parser)]
#[command(name = "upper-shelf", version, max_term_width = 100, after_help = exit::TABLE)]
struct Cli {
    #[command(subcommand)]
    command: Command,
    /// Print the result as JSON
    #[arg(long, global = true)]
    json: bool,
    /// Explain each decision
    #[arg(short, long, global = true)]
    verbose: bool,
}

#[derive(Debug, Subcommand)]
enum Command {
    Init(commands::init::Args),
    Check(commands::check::Args),
    Plan(commands::plan::Args),
    Preview(commands::preview::Args),
    Build(commands::build::Args),
    Inspect(commands::inspect::Args),
    Compare(commands::compare::Args),
    Extract(commands::extract::Args),
    Icons(commands::icons::Args),
    Runtimes(commands::runtimes::Args),
    Cache(commands::cache::Args),
    Sign(commands::sign::Args),
    Verify(commands::verify::Args),
    Notarize(commands::notarize::Args),
    Keys(commands::keys::Args),
    Simulate(commands::simulate::Args),
    Demo(commands::demo::Args),
    Completions(commands::shell::CompletionsArgs),
    Man(commands::shell::ManArgs),
}

fn main() -> std::process::ExitCode {
    let cli = Cli::parse();
    stop::leave_nothing_behind();
    let mut out = Output::new(cli.json, cli.verbose);
    let result = match cli.command {
        Command::Init(args) => commands::init::run(args, &mut out),
        Command::Check(args) => commands::check::run(args, &mut out),
        Command::Plan(args) => commands::plan::run(args, &mut out),
        Command::Preview(args) => commands::preview::run(args, &mut out),
        Command::Build(args) => commands::build::run(args, &mut out),
        Command::Inspect(args) => commands::inspect::run(args, &mut out),
        Command::Compare(args) => commands::compare::run(args, &mut out),
        Command::Extract(args) => commands::extract::run(args, &mut out),
        Command::Runtimes(args) => commands::runtimes::run(args, &mut out),
        Command::Cache(args) => commands::cache::run(args, &mut out),
        Command::Icons(args) => commands::icons::run(args, &mut out),
        Command::Sign(args) => commands::sign::run(args, &mut out),
        Command::Verify(args) => commands::verify::run(args, &mut out),
        Command::Notarize(args) => commands::notarize::run(args, &mut out),
        Command::Keys(args) => commands::keys::run(args, &mut out),
        Command::Simulate(args) => commands::simulate::run(args, &mut out),
        Command::Demo(args) => commands::demo::run(args, &mut out),
        Command::Completions(args) => commands::shell::completions(args, Cli::command()),
        Command::Man(args) => commands::shell::man(args, Cli::command()),
    };
    match result {
        Ok(code) => match out.unwritten() {
            None => code.into(),
            Some(failure) => {
                out.in_words(&failure);
                exit::Exit::Machine.into()
            }
        },
        Err(failure) => {
            out.failure(&failure);
            exit::Exit::of(failure.kind).into()
        }
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_arguments_are_consistent() {
        <super::Cli as clap::CommandFactory>::command().debug_assert();
    }
}
