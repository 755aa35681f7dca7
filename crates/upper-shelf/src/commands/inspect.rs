//! `inspect`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::as_installed::AsInstalled;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::signing::{self, SignatureFacts};
use upper_shelf_core::targets::{self, Depth};
use upper_shelf_core::{Failure, Kind};

/// Show the footprint of a finished package, ours or anyone's
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The package
    package: PathBuf,
    /// Read every byte and show hashes
    #[arg(long)]
    contents: bool,
    /// Show where each file and registry value of an MSIX package is seen once it is installed, virtual folders merged
    #[arg(long, conflicts_with = "contents")]
    as_installed: bool,
    #[command(flatten)]
    limit: super::LimitArgs,
}

/// What `inspect` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Inspected<'f> {
    /// The format.
    target: &'static str,
    /// Who signed it. Whom to trust is not asked.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    signatures: Vec<SignatureFacts>,
    /// What the package leaves on a machine.
    footprint: &'f Footprint,
}

/// What the command prints.
#[derive(schemars::JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
pub enum Answer<'f> {
    /// The footprint.
    Footprint(Inspected<'f>),
    /// With --as-installed.
    AsInstalled(AsInstalled),
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    if args.as_installed {
        return as_installed(&args, out);
    }
    let depth = if args.contents { Depth::Contents } else { Depth::Listing };
    let (format, footprint) = targets::read(&args.package, depth, args.limit.limit)?;
    let signatures = signing::signers(&args.package)?;
    if out.json {
        out.result(&Inspected { target: format.name(), signatures, footprint: &footprint });
        return Ok(Exit::Done);
    }
    out.aside(&format!("{} ({})", super::shown(&args.package), format.name()));
    for signature in &signatures {
        let by = signature.signer().unwrap_or("somebody");
        let when = signature.timestamp.as_ref().map_or(String::new(), |stamp| format!(", {}", stamp.time));
        out.aside(&format!("signed by “{by}”{when}; `upper-shelf verify` checks whether to trust that"));
        signature.problems.iter().for_each(|problem| out.difference('-', problem));
    }
    out.text(&footprint.to_text());
    Ok(Exit::Done)
}

/// A virtual look at an installed package.
fn as_installed(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let Some(view) = targets::as_installed(&args.package, args.limit.limit)? else {
        let what = format!("{} has no virtual folders", super::shown(&args.package));
        let problem = Problem::error(Code::WrongUse, what).on(&args.package);
        let why = "only MSIX packages show files elsewhere than they are; a bundle has its packages inside";
        return Err(Failure::new(
            Kind::Problems,
            problem.why(why).instead("`upper-shelf inspect` without --as-installed"),
        ));
    };
    if out.json {
        out.result(&view);
        return Ok(Exit::Done);
    }
    out.heading(&view.full_name);
    out.line(format!("  family  {}", view.family_name));
    out.line(format!("  folder  {}", view.folder));
    let (merged, own): (Vec<_>, Vec<_>) = view.files.iter().partition(|file| file.merged);
    if !merged.is_empty() {
        out.line("");
        out.heading("its programs see, as if they were there");
        let width = merged.iter().map(|file| file.seen.chars().count()).max().unwrap_or(0).min(70);
        for file in merged {
            out.line(format!("  {:<width$}  {}", file.seen, file.path));
        }
    }
    out.line("");
    out.heading("in its own folder, where nobody may write");
    for file in own {
        out.line(format!("  {}", file.path.replace('/', "\\")));
    }
    if !view.registry.is_empty() {
        out.line("");
        out.heading("registry values that only its programs see");
        for value in &view.registry {
            let name = value.value.name.as_deref().unwrap_or("(default)");
            out.line(format!("  {} · {name} = {}", value.key, value.value.value));
        }
    }
    Ok(Exit::Done)
}
