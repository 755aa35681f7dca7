//! All pictures of a project as files of a folder, with the page that shows them.

use super::{Picture, Pictures, pictures, review};
use crate::packaging::Plan;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::TargetName;
use ordered_pool::OrderedPool;
use std::path::{Path, PathBuf};

/// What is drawn.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'w> {
    /// Only these languages; none for all.
    pub languages: &'w [String],
    /// Each platform's packages. A format looks the same on all of them, so that otherwise the first one is enough.
    pub every_platform: bool,
    /// Threads that draw.
    pub threads: usize,
}

/// A picture and its files.
#[derive(Debug)]
pub struct Made {
    /// What was drawn.
    pub picture: Picture,
    /// With one pixel a point.
    pub file: PathBuf,
    /// With two.
    pub file_twice: PathBuf,
}

/// A folder of pictures.
#[derive(Debug)]
pub struct Drawing {
    /// The page that shows them all.
    pub page: PathBuf,
    /// In the order of packages, languages and pages.
    pub made: Vec<Made>,
    /// Warnings.
    pub warnings: Vec<Problem>,
}

/// Draws what people will see of all that is planned, into a folder that is made when it is missing.
///
/// # Errors
/// A language that no wizard speaks, nothing that could be drawn, a package that can't be laid out, the medium.
pub fn folder(plans: Vec<Plan>, wanted: Wanted, folder: &Path) -> Result<Drawing, Failure> {
    languages_are_there(wanted.languages, &plans)?;
    let (shown, Pictures { pictures, warnings }) = chosen(plans, wanted)?;
    if pictures.is_empty() {
        let problem = Problem::error(Code::NothingToBuild, "there is nothing to draw");
        let problem = problem.why("only msi and nsis have wizards, and only dmg has a window");
        return Err(Failure::new(Kind::Problems, problem.instead("[targets] build = [\"msi\", \"nsis\", \"dmg\"]")));
    }
    let made = draw(pictures, folder, wanted.threads)?;
    let page = folder.join("index.html");
    let review = review(&shown, &made, &warnings);
    std::fs::write(&page, review).map_err(|e| Failure::io("can't write", &page, e))?;
    Ok(Drawing { page, made, warnings })
}

/// The plans that have something to show, their pictures, and each warning once.
fn chosen(plans: Vec<Plan>, wanted: Wanted) -> Result<(Vec<Plan>, Pictures), Failure> {
    let mut all = Pictures::default();
    let mut seen: Vec<TargetName> = Vec::new();
    let mut shown: Vec<Plan> = Vec::new();
    for plan in plans {
        let mut is_shown = false;
        for package in &plan.packages {
            if !wanted.every_platform && seen.contains(&package.target) {
                continue;
            }
            let drawn = pictures(&plan, package, wanted.languages)?;
            if drawn.pictures.is_empty() {
                continue;
            }
            seen.push(package.target);
            is_shown = true;
            all.add(drawn);
        }
        if is_shown {
            shown.push(plan);
        }
    }
    Ok((shown, all))
}

fn draw(all: Vec<Picture>, folder: &Path, threads: usize) -> Result<Vec<Made>, Failure> {
    std::fs::create_dir_all(folder).map_err(|e| Failure::io("can't create the folder", folder, e))?;
    let folder = folder.to_owned();
    let one = move |_: &mut (), picture: Picture| -> Result<Made, Failure> {
        let write = |density: u32, end: &str| {
            let path = folder.join(format!("{}{end}.png", picture.stem()));
            std::fs::write(&path, picture.png(density)?).map_err(|e| Failure::io("can't write", &path, e))?;
            Ok::<PathBuf, Failure>(path)
        };
        let (file, file_twice) = (write(1, "")?, write(2, "@2x")?);
        Ok(Made { picture, file, file_twice })
    };
    let mut pool = OrderedPool::new(threads, all.len(), || (), one);
    for picture in all {
        pool.submit(picture);
    }
    pool.collect()
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
            let problem = Problem::error(Code::InvalidValue, format!("the wizard has no language {code:?}"));
            problem.why(format!("it has {}", all.join(", "))).instead(format!("[wizard] languages = [\"{code}\"]"))
        })
        .collect();
    if strange.is_empty() { Ok(()) } else { Err(Failure::all(Kind::Problems, strange)) }
}
