//! `extract`

use crate::exit::Exit;
use crate::output::Output;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::extract;
use upper_shelf_core::footprint::text_bytes;

/// Extract the files of a finished package, ours or anyone's, into a new folder
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The package
    package: PathBuf,
    /// The folder; it must not exist, or be empty
    folder: PathBuf,
    /// Only files that match this pattern, as in a layer's `keep` (may be given several times)
    #[arg(long, value_name = "PATTERN")]
    only: Vec<String>,
    #[command(flatten)]
    limit: super::LimitArgs,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let extracted = extract::extract(&args.package, &args.folder, &args.only, args.limit.limit)?;
    if out.json {
        out.result(&extracted);
        return Ok(Exit::Done);
    }
    for loss in &extracted.left_out {
        out.line(format!("{}: {}", loss.what, loss.why));
    }
    let s = if extracted.files == 1 { "" } else { "s" };
    let folder = super::shown(&extracted.folder);
    out.good(&format!("{folder}: {} file{s}, {}", extracted.files, text_bytes(extracted.bytes)));
    Ok(Exit::Done)
}
