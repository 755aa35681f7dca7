//! `plan`

use super::ProjectArgs;
use crate::exit::Code;
use crate::output::Output;
use serde::Serialize;
use upper_shelf_core::Failure;
use upper_shelf_core::build::Plan;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::manifest::resolve::Default;
use upper_shelf_core::problem::Problem;
use upper_shelf_core::targets::Loss;

/// Show everything that the product will leave on a machine, and every default taken; nothing is written
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Planned<'p> {
    platform: String,
    footprint: &'p Footprint,
    packages: Vec<PlannedPackage<'p>>,
    defaults: &'p [Default],
    warnings: &'p [Problem],
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct PlannedPackage<'p> {
    target: &'static str,
    file_name: &'p str,
    losses: &'p [Loss],
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let (_, plans) = super::load(&args.project, out)?;
    if out.json {
        out.result(&plans.iter().map(for_machines).collect::<Vec<_>>());
        return Ok(Code::Done);
    }
    for (n, plan) in plans.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        show(plan, out);
    }
    Ok(Code::Done)
}

fn for_machines(plan: &Plan) -> Planned<'_> {
    let packages = plan.packages.iter();
    Planned {
        platform: plan.product.platform.to_string(),
        footprint: &plan.footprint,
        packages: packages
            .map(|p| PlannedPackage { target: p.target.name(), file_name: &p.file_name, losses: &p.losses })
            .collect(),
        defaults: &plan.defaults,
        warnings: &plan.warnings,
    }
}

fn show(plan: &Plan, out: &Output) {
    out.text(&plan.footprint.to_text());
    out.line("");
    out.heading("packages");
    for package in &plan.packages {
        out.line(format!("  {}", package.file_name));
        for loss in &package.losses {
            out.aside(&format!("    {}: {}", loss.what, loss.why));
        }
    }
    let defaults = plan.defaults.iter().filter(|d| out.verbose || !d.is_detail);
    if defaults.clone().next().is_some() {
        out.line("");
        out.heading("defaults taken");
        for default in defaults {
            out.line(format!("  {} = {}", default.key, default.value));
            out.aside(&format!("    {}", default.why));
        }
    }
    if !plan.warnings.is_empty() {
        out.line("");
        out.warnings(&plan.warnings);
    }
}
