//! `preview`

use super::ProjectArgs;
use crate::exit::Code;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::platform::Platform;
use upper_shelf_core::preview::{self, Drawing, Drawn, Wanted};
use upper_shelf_core::problem::{Failure, Problem};
use upper_shelf_core::settings::TargetName;

/// Draw what people will see: each page of the wizards, the window of the disk image; one page with all of it for review
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    /// Put the pictures and the page `index.html` here
    #[arg(short, long, value_name = "FOLDER", default_value = "preview")]
    output: PathBuf,
    /// Only in this language (may be given several times)
    #[arg(long, value_name = "CODE")]
    language: Vec<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Preview {
    page: PathBuf,
    pictures: Vec<Made>,
    warnings: Vec<Problem>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Made {
    file: PathBuf,
    file_twice: PathBuf,
    package: String,
    target: TargetName,
    platform: Platform,
    language: Option<String>,
    page: String,
    /// Width and height with the window's frame, pixels.
    size: (u32, u32),
    /// Where the contents begin in the picture, and their size.
    contents: (i32, i32, i32, i32),
    drawn: Vec<Drawn>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let (_, plans) = super::load(&args.project, out)?;
    let wanted = Wanted {
        languages: &args.language,
        every_platform: !args.project.platform.is_empty(),
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let Drawing { page, made, warnings } = preview::folder(plans, wanted, &args.output)?;
    out.warnings(&warnings);
    if out.json {
        let pictures = made.into_iter().map(of).collect();
        out.result(&Preview { page, pictures, warnings });
        return Ok(Code::Done);
    }
    for one in made.chunk_by(|a, b| a.picture.package == b.picture.package) {
        let (pages, s) = (one.len(), if one.len() == 1 { "" } else { "s" });
        let package = &one[0].picture.package;
        out.good(&format!("{package:<50} {pages:>3} picture{s}, each for one and for two pixels a point"));
    }
    out.line("");
    out.line(format!("look at {}", super::shown(&page)));
    Ok(Code::Done)
}

fn of(made: preview::Made) -> Made {
    let preview::Made { picture, file, file_twice } = made;
    let ((left, top), (width, height)) = (picture.contents, picture.inner);
    Made {
        file,
        file_twice,
        package: picture.package,
        target: picture.target,
        platform: picture.platform,
        language: picture.language,
        page: picture.page,
        size: picture.size,
        contents: (left, top, width, height),
        drawn: picture.drawn,
    }
}
