//! `check`

use super::ProjectArgs;
use crate::exit::Code;
use crate::output::Output;
use serde::Serialize;
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::problem::Problem;
use upper_shelf_core::targets::{self, Depth};
use upper_shelf_core::{Failure, Kind};

/// Look for problems in a manifest and its files, or in a finished package; nothing is written
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
}

#[derive(Serialize)]
struct Checked {
    packages: Vec<String>,
    warnings: Vec<Problem>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let path = &args.project.manifest;
    if path.is_file() && path.extension().is_none_or(|e| e != "toml") {
        let (format, footprint) = targets::read(path, Depth::Contents)?;
        let faults = format.faults(path)?;
        if !faults.is_empty() {
            let problem = |fault: String| Problem::error(fault).on(path);
            return Err(Failure { kind: Kind::Package, problems: faults.into_iter().map(problem).collect() });
        }
        out.good(&format!("{}: {}, {} read", super::shown(path), format.name(), text_bytes(footprint.size())));
        if out.json {
            out.result(&Checked { packages: vec![super::shown(path)], warnings: Vec::new() });
        }
        return Ok(Code::Done);
    }
    let (_, plans) = super::load(&args.project, out)?;
    let checked = Checked {
        packages: plans.iter().flat_map(|p| &p.packages).map(|p| p.file_name.clone()).collect(),
        warnings: plans.iter().flat_map(|p| p.warnings.clone()).collect(),
    };
    if out.json {
        out.result(&checked);
        return Ok(Code::Done);
    }
    out.warnings(&checked.warnings);
    for plan in &plans {
        let files = plan.payload.files.len();
        let names: Vec<&str> = plan.packages.iter().map(|p| p.target.name()).collect();
        out.good(&format!(
            "{}: {files} files, {}, for {}",
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
    Ok(Code::Done)
}
