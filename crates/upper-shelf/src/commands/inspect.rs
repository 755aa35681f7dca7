//! `inspect`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::targets::{self, Depth};

/// Show the footprint of a finished package, ours or anyone's
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The package
    package: PathBuf,
    /// Read every byte and show hashes
    #[arg(long)]
    contents: bool,
    #[command(flatten)]
    limit: super::LimitArgs,
}

/// What `inspect` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Inspected<'f> {
    /// The format.
    target: &'static str,
    /// What the package leaves on a machine.
    footprint: &'f Footprint,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let depth = if args.contents { Depth::Contents } else { Depth::Listing };
    let (format, footprint) = targets::read(&args.package, depth, args.limit.limit)?;
    if out.json {
        out.result(&Inspected { target: format.name(), footprint: &footprint });
        return Ok(Exit::Done);
    }
    out.aside(&format!("{} ({})", super::shown(&args.package), format.name()));
    out.text(&footprint.to_text());
    Ok(Exit::Done)
}
