//! `check`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use upper_shelf_core::budget::Package;
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::targets::{self, Depth};
use upper_shelf_core::{Failure, Kind};

/// Check a manifest and its files, or a finished package; nothing is written
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    #[command(flatten)]
    limit: super::LimitArgs,
}

/// What `check` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Checked {
    /// The packages that would be built, or the package that was checked.
    packages: Vec<String>,
    /// Warnings.
    warnings: Vec<Problem>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let path = &args.project.manifest;
    if path.is_file() && path.extension().is_none_or(|e| e != "toml") {
        let (format, footprint) = targets::read(path, Depth::Contents, args.limit.limit)?;
        let findings = format.findings(&Package::new(path, args.limit.limit))?;
        if !findings.is_empty() {
            let problem = |fault: String| Problem::error(Code::FormatRules, fault).on(path);
            return Err(Failure::all(Kind::Package, findings.into_iter().map(problem).collect()));
        }
        out.good(&format!("{}: {}, {} read", super::shown(path), format.name(), text_bytes(footprint.size())));
        if out.json {
            out.result(&Checked { packages: vec![super::shown(path)], warnings: Vec::new() });
        }
        return Ok(Exit::Done);
    }
    let (_, plans) = super::load(&args.project, out)?;
    let checked = Checked {
        packages: plans.iter().flat_map(|p| &p.packages).map(|p| p.file_name.clone()).collect(),
        warnings: plans.iter().flat_map(|p| p.warnings.clone()).collect(),
    };
    if out.json {
        out.result(&checked);
        return Ok(Exit::Done);
    }
    out.warnings(&checked.warnings);
    for plan in &plans {
        let files = match plan.payload.files.len() {
            1 => "1 file".to_owned(),
            n => format!("{n} files"),
        };
        let names: Vec<&str> = plan.packages.iter().map(|p| p.target.name()).collect();
        out.good(&format!(
            "{}: {files}, {}, for {}",
            plan.product.platform,
            text_bytes(plan.footprint.size()),
            names.join(", ")
        ));
    }
    match checked.warnings.len() {
        0 => out.line("No problems."),
        1 => out.line("1 warning."),
        n => out.line(format!("{n} warnings.")),
    }
    Ok(Exit::Done)
}
