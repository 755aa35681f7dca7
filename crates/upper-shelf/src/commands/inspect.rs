//! `inspect`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::signing::{self, SignatureFacts};
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
    /// Who signed it. Whom to trust is not asked.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    signatures: Vec<SignatureFacts>,
    /// What the package leaves on a machine.
    footprint: &'f Footprint,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let depth = if args.contents { Depth::Contents } else { Depth::Listing };
    let (format, footprint) = targets::read(&args.package, depth, args.limit.limit)?;
    let signatures = signing::signers(&args.package)?;
    if out.json {
        out.result(&Inspected { target: format.name(), signatures, footprint: &footprint });
        return Ok(Exit::Done);
    }
    out.aside(&format!("{} ({})", super::shown(&args.package), format.name()));
    for signature in &signatures {
        let by = signature.chain.first().map_or("somebody", |certificate| certificate.name.as_str());
        let when = signature.timestamp.as_ref().map_or(String::new(), |stamp| format!(", {}", stamp.time));
        out.aside(&format!("signed by “{by}”{when}; `upper-shelf verify` checks whether to trust that"));
        signature.problems.iter().for_each(|problem| out.difference('-', problem));
    }
    out.text(&footprint.to_text());
    Ok(Exit::Done)
}
