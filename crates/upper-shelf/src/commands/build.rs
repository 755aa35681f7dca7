//! `build`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use crate::progress::Bar;
use std::path::{Path, PathBuf};
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::packaging::{self, Built};
use upper_shelf_core::platform::System;
use upper_shelf_core::signing::{self, ForeignSignature};
use upper_shelf_core::{Failure, Problem};

/// Build the packages
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    /// Put the packages here; default: `packages`, next to the manifest
    #[arg(short, long, value_name = "FOLDER")]
    output: Option<PathBuf>,
    /// Number of threads for packing; it changes the speed, never the bytes
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    threads: Option<u16>,
    /// Build without keys: stop with a list of digests in this file, and go on when `sign --digests` has signed them
    #[arg(long, value_name = "FILE")]
    digests: Option<PathBuf>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let built = build_packages(&args.project, args.output, args.threads, args.digests.as_deref(), out)?;
    if out.json {
        out.result(&built);
        return Ok(Exit::Done);
    }
    report(&built, out);
    Ok(Exit::Done)
}

/// Plans and builds; says the warnings.
pub fn build_packages(
    project: &ProjectArgs,
    output: Option<PathBuf>,
    threads: Option<u16>,
    digests: Option<&Path>,
    out: &Output,
) -> Result<Vec<Built>, Failure> {
    let (project, plans) = super::load_for(project, output.as_deref(), digests.is_some(), out)?;
    let mut said: Vec<&Problem> = Vec::new();
    for warning in plans.iter().flat_map(|plan| &plan.warnings) {
        // What is true of several platforms is said once.
        if !said.contains(&warning) {
            said.push(warning);
        }
    }
    out.warnings(said);
    let named = project.manifest.targets.output.clone().unwrap_or_else(|| "packages".into());
    let output = output.unwrap_or_else(|| project.folder.join(named));
    let threads = threads.map_or_else(|| std::thread::available_parallelism().map_or(1, |n| n.get()), usize::from);
    packaging::build(&project, plans, &output, threads, digests, &Bar::new(out))
}

/// What a user wants to know of finished packages: one table of them, then once for each platform what they share.
pub fn report(built: &[Built], out: &Output) {
    let names: Vec<String> = built.iter().map(|b| super::shown(&b.file)).collect();
    let width = names.iter().map(|n| n.chars().count()).max().unwrap_or(0);
    for (package, name) in built.iter().zip(&names) {
        let share = package.bytes as f64 * 100.0 / package.plain_bytes.max(1) as f64;
        let (size, plain) = (text_bytes(package.bytes), text_bytes(package.plain_bytes));
        let seconds = package.seconds + package.verify_seconds;
        let lost = match package.losses.len() {
            0 => String::new(),
            count => format!("   leaves out {count}"),
        };
        out.good(&format!("{name:<width$}  {size:>9}  {share:>4.0} % of {plain:>9}  {seconds:>5.1} s{lost}"));
        for file in &package.sidecars {
            let is_cabinet = file.extension().is_some_and(|ending| ending == "cab");
            let what = if is_cabinet { "needs" } else { "for updates" };
            out.line(format!("    {what}: {}", super::shown(file)));
        }
        if let Some(page) = &package.page {
            out.line(format!("    deployment guide: {}", super::shown(page)));
        }
        if out.verbose {
            detail(package, out);
        }
    }
    if !out.verbose && built.iter().any(|b| !b.losses.is_empty()) {
        out.aside("  what a format can't hold is left out; `-v` or `upper-shelf plan` lists it, with the reason");
    }
    // What a bundle is made of was said with its packages.
    let is_bundle = |package: &Built| !package.packages.is_empty();
    for of_platform in built.chunk_by(|a, b| a.platform == b.platform && is_bundle(a) == is_bundle(b)) {
        if let Some(first) = of_platform.first().filter(|first| !is_bundle(first)) {
            shared(first, out);
            signed(of_platform, out);
        }
    }
}

fn detail(package: &Built, out: &Output) {
    let (packing, reading) = (package.seconds, package.verify_seconds);
    out.line(format!("    packed in {packing:.1} s, read back in {reading:.1} s"));
    out.line(format!("    sha256 {}", package.sha256));
    out.line(format!("    blake3 {}", package.blake3));
    for loss in &package.losses {
        out.aside(&format!("    {}: {}", loss.what, loss.why));
    }
}

/// Who signed the packages of a platform, and what in them.
fn signed(packages: &[Built], out: &Output) {
    let Some(package) = packages.iter().find(|package| package.signature.is_some() || package.signed_programs > 0)
    else {
        return;
    };
    let first = packages.iter().find_map(|package| package.signature.as_ref());
    let by = match first.and_then(|signature| signature.signer()) {
        Some(name) => format!(" by “{name}”"),
        None if package.platform.system() == System::Macos => " ad hoc".into(),
        None => String::new(),
    };
    let when = match first.map(|signature| &signature.timestamp) {
        Some(Some(stamp)) => format!(", {}", stamp.time),
        // Who signs with OpenPGP says so without one.
        Some(None) if first.is_some_and(|signature| signature.openpgp.is_some()) => String::new(),
        Some(None) => ", without a timestamp".into(),
        None => String::new(),
    };
    let count = packages.iter().filter(|package| package.signature.is_some()).count();
    let counted = |n: usize, one: &str| if n == 1 { format!("1 {one}") } else { format!("{n} {one}s") };
    let parts = [(package.signed_programs as usize, "program"), (count, "package")];
    let parts = parts.iter().filter(|(n, _)| *n > 0).map(|(n, one)| counted(*n, one)).collect::<Vec<_>>();
    out.line(format!("  signed   {}{by}{when}", parts.join(" and ")));
    for ForeignSignature { path, by } in &package.foreign_signatures {
        match by.as_str() {
            signing::macos::AD_HOC => out.line(format!("           {path} keeps its seal, which nobody signed")),
            by => out.line(format!("           {path} keeps the signature of “{by}”")),
        }
    }
}

/// What all packages of a platform are made of.
fn shared(package: &Built, out: &Output) {
    let total: u64 = package.layers.iter().map(|l| l.bytes).sum();
    let files: u64 = package.layers.iter().map(|l| l.files).sum();
    let counted = |files: u64| if files == 1 { "1 file".to_owned() } else { format!("{files} files") };
    out.line("");
    out.heading(&format!("{}: {}, {}", package.platform, counted(files), text_bytes(total)));
    let names = package.layers.iter().map(|l| l.layer.as_str()).chain(package.biggest.iter().map(|b| b.path.as_str()));
    let width = names.map(|n| n.chars().count()).max().unwrap_or(0).min(60);
    for share in &package.layers {
        let (layer, bytes) = (&share.layer, text_bytes(share.bytes));
        let part = share.bytes as f64 * 100.0 / total.max(1) as f64;
        let part = if share.bytes > 0 && part < 0.5 { "<1".to_owned() } else { format!("{part:.0}") };
        out.line(format!("  layer    {layer:<width$}  {bytes:>9}  {part:>3} %  {}", counted(share.files)));
    }
    for (n, file) in package.biggest.iter().enumerate() {
        let label = if n == 0 { "largest" } else { "" };
        out.line(format!("  {label:<8} {:<width$}  {:>9}", file.path.as_str(), text_bytes(file.bytes)));
    }
}
