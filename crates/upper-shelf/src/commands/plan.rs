//! `plan`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use upper_shelf_core::Failure;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::manifest::resolve::Default;
use upper_shelf_core::packaging::Plan;
use upper_shelf_core::problem::Problem;
use upper_shelf_core::targets::Loss;

/// Show everything that the product will leave on a machine, and every default used; nothing is written
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
}

/// What `plan` prints of each platform.
#[derive(Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Planned<'p> {
    /// The platform.
    platform: String,
    /// What is left on a machine.
    footprint: &'p Footprint,
    /// The packages that would be built.
    packages: Vec<PlannedPackage<'p>>,
    /// Defaults that were taken.
    defaults: &'p [Default],
    /// Warnings.
    warnings: &'p [Problem],
}

/// A package that would be built.
#[derive(Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PlannedPackage<'p> {
    /// The format.
    target: &'static str,
    /// Its file.
    file_name: &'p str,
    /// What the format can't carry.
    losses: &'p [Loss],
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let (_, plans) = super::load(&args.project, out)?;
    if out.json {
        out.result(&plans.iter().map(for_machines).collect::<Vec<_>>());
        return Ok(Exit::Done);
    }
    for (n, plan) in plans.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        show(plan, out);
    }
    Ok(Exit::Done)
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
        out.heading("defaults");
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
