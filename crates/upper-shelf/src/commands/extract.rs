//! `extract`

use crate::exit::Code;
use crate::output::Output;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::extract;
use upper_shelf_core::footprint::text_bytes;

/// Put the files of a finished package, ours or anyone's, into a new folder
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The package
    package: PathBuf,
    /// The folder; it must not be there yet, or be empty
    folder: PathBuf,
    /// Only files that fit this pattern, as `keep` of a layer has them (may be given several times)
    #[arg(long, value_name = "PATTERN")]
    only: Vec<String>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let extracted = extract::extract(&args.package, &args.folder, &args.only)?;
    if out.json {
        out.result(&extracted);
        return Ok(Code::Done);
    }
    for loss in &extracted.left_out {
        out.line(format!("{}: {}", loss.what, loss.why));
    }
    let s = if extracted.files == 1 { "" } else { "s" };
    let folder = super::shown(&extracted.folder);
    out.good(&format!("{folder}: {} file{s}, {}", extracted.files, text_bytes(extracted.bytes)));
    Ok(Code::Done)
}
