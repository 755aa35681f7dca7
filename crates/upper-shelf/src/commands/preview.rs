//! `preview`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::platform::Platform;
use upper_shelf_core::preview::{self, Area, Drawing, Drawn, Wanted};
use upper_shelf_core::problem::{Failure, Problem};
use upper_shelf_core::settings::TargetName;

/// Draw what users will see: each page of the wizards and the window of the disk image, with a review page
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    /// Put the pictures and the review page, `index.html`, here
    #[arg(short, long, value_name = "FOLDER", default_value = "preview")]
    output: PathBuf,
    /// Only in this language (may be given several times)
    #[arg(long, value_name = "CODE")]
    language: Vec<String>,
}

/// What `preview` prints.
#[derive(Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Preview {
    /// The review page.
    page: PathBuf,
    /// The pictures that were drawn.
    pictures: Vec<Made>,
    /// Texts that don't fit.
    warnings: Vec<Problem>,
}

#[derive(Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Made {
    /// The picture.
    file: PathBuf,
    /// The same for screens with two pixels a point.
    file_twice: PathBuf,
    /// The package that shows it.
    package: String,
    /// Its format.
    target: TargetName,
    /// Its platform.
    platform: Platform,
    /// The language of its words.
    language: Option<String>,
    /// The page.
    page: String,
    /// The width of the window with its frame, pixels.
    width: u32,
    /// Its height.
    height: u32,
    /// Where the window's contents are in the picture.
    contents: Area,
    /// What is drawn there.
    drawn: Vec<Drawn>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
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
        return Ok(Exit::Done);
    }
    for one in made.chunk_by(|a, b| a.picture.package == b.picture.package) {
        let (pages, s) = (one.len(), if one.len() == 1 { "" } else { "s" });
        let package = &one[0].picture.package;
        out.good(&format!("{package:<50} {pages:>3} picture{s}, each at 1x and 2x"));
    }
    out.line("");
    out.line(format!("open {}", super::shown(&page)));
    Ok(Exit::Done)
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
        width: picture.size.0,
        height: picture.size.1,
        contents: (left, top, width, height).into(),
        drawn: picture.drawn,
    }
}
