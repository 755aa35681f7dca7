//! `preview`

use super::ProjectArgs;
use crate::exit::Code;
use crate::output::Output;
use serde::Serialize;
use std::path::{Path, PathBuf};
use upper_shelf_core::build::Plan;
use upper_shelf_core::manifest::written::TargetName;
use upper_shelf_core::platform::Platform;
use upper_shelf_core::preview::{self, Drawn, Picture};
use upper_shelf_core::problem::{Failure, Kind, Problem};

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
    let (project, plans) = super::load(&args.project, out)?;
    languages_are_there(&args.language, &plans)?;
    let mut pictures = Vec::new();
    let mut warnings: Vec<Problem> = Vec::new();
    let mut seen: Vec<TargetName> = Vec::new();
    let mut shown: Vec<Plan> = Vec::new();
    for plan in plans {
        let mut is_shown = false;
        for package in &plan.packages {
            // A format looks the same on every platform: one is enough, unless platforms are asked for.
            if args.project.platform.is_empty() && seen.contains(&package.target) {
                continue;
            }
            let drawn = preview::pictures(&plan, package, &project.manifest.target, &args.language)?;
            if drawn.pictures.is_empty() {
                continue;
            }
            seen.push(package.target);
            is_shown = true;
            pictures.extend(drawn.pictures);
            for warning in drawn.warnings {
                if !warnings.contains(&warning) {
                    warnings.push(warning);
                }
            }
        }
        if is_shown {
            shown.push(plan);
        }
    }
    if pictures.is_empty() {
        let problem = Problem::error("there is nothing to draw");
        let problem = problem.why("only msi and nsis have wizards, and only dmg has a window");
        return Err(Failure::new(Kind::Problems, problem.instead("[targets] build = [\"msi\", \"nsis\", \"dmg\"]")));
    }
    out.warnings(&warnings);
    let made = draw(pictures, &args.output)?;
    let files: Vec<(Picture, String, String)> = made
        .iter()
        .map(|(p, once, twice)| {
            let name = |file: &Path| file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            (p.clone(), name(once), name(twice))
        })
        .collect();
    let said: Vec<String> = warnings.iter().map(said).collect();
    let page = args.output.join("index.html");
    let review = preview::review(&shown, &files, &said);
    std::fs::write(&page, review).map_err(|e| Failure::io("can't write", &page, &e))?;
    if out.json {
        let pictures = made.into_iter().map(|(p, file, file_twice)| of(p, file, file_twice)).collect();
        out.result(&Preview { page, pictures, warnings });
        return Ok(Code::Done);
    }
    let mut last = String::new();
    for (picture, ..) in &made {
        if picture.package != last {
            last.clone_from(&picture.package);
            let pages = made.iter().filter(|m| m.0.package == last).count();
            let s = if pages == 1 { "" } else { "s" };
            out.good(&format!("{last:<50} {pages:>3} picture{s}, each for one and for two pixels a point"));
        }
    }
    out.line("");
    out.line(format!("look at {}", super::shown(&page)));
    Ok(Code::Done)
}

fn of(picture: Picture, file: PathBuf, file_twice: PathBuf) -> Made {
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

fn said(warning: &Problem) -> String {
    let rest = [&warning.why, &warning.instead];
    let rest: Vec<&str> = rest.into_iter().flatten().map(String::as_str).collect();
    format!("{}: {}", warning.what, rest.join("; "))
}

/// All pictures as files of a folder, on as many threads as the machine has.
fn draw(pictures: Vec<Picture>, folder: &Path) -> Result<Vec<(Picture, PathBuf, PathBuf)>, Failure> {
    std::fs::create_dir_all(folder).map_err(|e| Failure::io("can't make the folder", folder, &e))?;
    let one = |picture: &Picture| {
        let write = |density: u32, end: &str| {
            let path = folder.join(format!("{}{end}.png", picture.stem()));
            std::fs::write(&path, picture.png(density)?).map_err(|e| Failure::io("can't write", &path, &e))?;
            Ok::<PathBuf, Failure>(path)
        };
        Ok::<_, Failure>((write(1, "")?, write(2, "@2x")?))
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let share = pictures.len().div_ceil(threads).max(1);
    let files: Result<Vec<_>, Failure> = std::thread::scope(|scope| {
        let parts: Vec<_> = pictures
            .chunks(share)
            .map(|part| scope.spawn(move || part.iter().map(one).collect::<Result<Vec<_>, Failure>>()))
            .collect();
        parts
            .into_iter()
            .map(|p| p.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect::<Result<Vec<_>, Failure>>()
            .map(|all| all.into_iter().flatten().collect())
    });
    Ok(pictures.into_iter().zip(files?).map(|(p, (once, twice))| (p, once, twice)).collect())
}

fn languages_are_there(wanted: &[String], plans: &[Plan]) -> Result<(), Failure> {
    let there: Vec<&str> = plans.iter().flat_map(|p| &p.product.wizard.languages).map(|l| l.code.as_str()).collect();
    let strange: Vec<Problem> = wanted
        .iter()
        .filter(|code| !there.contains(&code.as_str()))
        .map(|code| {
            let mut all = there.clone();
            all.sort_unstable();
            all.dedup();
            let problem = Problem::error(format!("the wizard does not speak {code:?}"));
            problem.why(format!("it speaks {}", all.join(", "))).instead(format!("[wizard] languages = [\"{code}\"]"))
        })
        .collect();
    if strange.is_empty() { Ok(()) } else { Err(Failure { kind: Kind::Problems, problems: strange }) }
}
