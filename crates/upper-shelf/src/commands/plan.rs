//! `plan`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use upper_shelf_core::Failure;
use upper_shelf_core::footprint::Footprint;
use upper_shelf_core::manifest::resolve::Default;
use upper_shelf_core::packaging::{Permitted, Plan};
use upper_shelf_core::platform::System;
use upper_shelf_core::problem::Problem;
use upper_shelf_core::settings::TargetName;
use upper_shelf_core::signing::{self, ForeignSignature, PlannedEntitlement, PlannedSigning};
use upper_shelf_core::targets::{Fact, Loss};

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
    /// What the system makes of the permissions that the product declares.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    permissions: Vec<Permitted>,
    /// What will be signed.
    #[serde(skip_serializing_if = "Option::is_none")]
    signing: Option<PlannedSigning>,
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
    /// What it is known by once it is installed.
    #[serde(skip_serializing_if = "<[Fact]>::is_empty")]
    facts: &'p [Fact],
    /// What the format can't carry.
    losses: &'p [Loss],
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let (_, plans) = super::load(&args.project, out)?;
    if out.json {
        let all: Result<Vec<Planned>, Failure> = plans.iter().map(for_machines).collect();
        out.result(&all?);
        return Ok(Exit::Done);
    }
    for (n, plan) in plans.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        show(plan, out)?;
    }
    Ok(Exit::Done)
}

/// What will be signed, if the manifest names a key.
fn signing(plan: &Plan) -> Result<Option<PlannedSigning>, Failure> {
    if plan.product.platform.system() == System::Macos {
        return signing::macos::planned(&plan.product.code_signing, plan.all_files()).map(Some);
    }
    let settings = plan.product.signing.as_ref().filter(|settings| settings.system == System::Windows);
    settings.map(|settings| signing::planned(settings, &plan.payload.files)).transpose()
}

fn for_machines(plan: &Plan) -> Result<Planned<'_>, Failure> {
    let packages = plan.packages.iter();
    Ok(Planned {
        platform: plan.product.platform.to_string(),
        footprint: &plan.footprint,
        packages: packages
            .map(|p| PlannedPackage {
                target: p.target.name(),
                file_name: &p.file_name,
                facts: &p.facts,
                losses: &p.losses,
            })
            .collect(),
        permissions: plan.permitted(),
        signing: signing(plan)?,
        defaults: &plan.defaults,
        warnings: &plan.warnings,
    })
}

fn show(plan: &Plan, out: &Output) -> Result<(), Failure> {
    out.text(&plan.footprint.to_text());
    out.line("");
    out.heading("packages");
    for package in &plan.packages {
        out.line(format!("  {}", package.file_name));
        for Fact { what, text } in &package.facts {
            out.line(format!("    {what:<12}  {text}"));
        }
        for loss in &package.losses {
            out.aside(&format!("    {}: {}", loss.what, loss.why));
        }
    }
    let permitted = plan.permitted();
    if !permitted.is_empty() {
        out.line("");
        out.heading(&format!("permissions on {}", plan.product.platform.system().title()));
        for Permitted { permission, means } in &permitted {
            for (n, sentence) in means.iter().enumerate() {
                let name = if n == 0 { permission.access.name() } else { "" };
                out.line(format!("  {name:<16}  {sentence}"));
            }
        }
    }
    if let Some(PlannedSigning { key, timestamps, programs, foreign_signatures, entitlements }) = signing(plan)? {
        out.line("");
        out.heading("signatures");
        match &key {
            Some(key) => out.line(format!("  key         {}", super::shown(key))),
            None => out.line("  key         none: programs are signed ad hoc, so that they start"),
        }
        timestamps.iter().for_each(|address| out.line(format!("  timestamps  {address}")));
        programs.iter().for_each(|path| out.line(format!("  signs       {path}")));
        let packages = plan.packages.iter().filter(|p| signing::is_signed(p.target) && key.is_some());
        for package in packages {
            out.line(format!("  signs       {}", package.file_name));
        }
        for ForeignSignature { path, by } in &foreign_signatures {
            out.line(format!("  leaves      {path}, which “{by}” has signed"));
        }
        for PlannedEntitlement { name, reason } in &entitlements {
            out.line(format!("  allows      {name}"));
            reason.iter().for_each(|why| out.aside(&format!("              {why}")));
        }
    }
    if let Some(settings) = plan.product.signing.as_ref().filter(|settings| settings.system == System::Linux) {
        out.line("");
        out.heading("signatures");
        out.line(format!("  key         {}", super::shown(&settings.key)));
        out.line(format!("  signs       {}, the list of all packages", signing::SUMS));
    }
    if let Some(settings) = &plan.product.openpgp {
        out.line("");
        out.heading("signatures with OpenPGP");
        out.line(format!("  key         {}", super::shown(&settings.key)));
        for package in plan.packages.iter().filter(|p| p.target == TargetName::Appimage) {
            out.line(format!("  signs       {}", package.file_name));
        }
        out.line(format!("  signs       {}, the list of all packages", signing::SUMS));
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
    Ok(())
}
