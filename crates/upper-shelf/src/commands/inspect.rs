//! `inspect`

use crate::exit::Code;
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
    /// Read every byte too, for the hashes
    #[arg(long)]
    contents: bool,
}

#[derive(Serialize)]
struct Inspected<'f> {
    target: &'static str,
    footprint: &'f Footprint,
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let depth = if args.contents { Depth::Contents } else { Depth::Listing };
    let (format, footprint) = targets::read(&args.package, depth)?;
    if out.json {
        out.result(&Inspected { target: format.name(), footprint: &footprint });
        return Ok(Code::Done);
    }
    out.aside(&format!("{} ({})", super::shown(&args.package), format.name()));
    out.text(&footprint.to_text());
    Ok(Code::Done)
}
