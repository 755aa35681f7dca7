//! `build`

use super::ProjectArgs;
use crate::exit::Code;
use crate::output::Output;
use crate::progress::Bar;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::build::{self, Built};
use upper_shelf_core::footprint::text_bytes;

/// Build the packages
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    /// Put the packages here; default: `packages` beside the manifest
    #[arg(short, long, value_name = "FOLDER")]
    output: Option<PathBuf>,
    /// Threads that pack; they change the speed, never the bytes
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    threads: Option<u16>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Code, Failure> {
    let built = build_packages(&args.project, args.output, args.threads, out)?;
    if out.json {
        out.result(&built);
        return Ok(Code::Done);
    }
    built.iter().for_each(|b| report(b, out));
    Ok(Code::Done)
}

/// Plans and builds; says the warnings.
pub fn build_packages(
    project: &ProjectArgs,
    output: Option<PathBuf>,
    threads: Option<u16>,
    out: &Output,
) -> Result<Vec<Built>, Failure> {
    let (project, plans) = super::load_for(project, output.as_deref(), out)?;
    plans.iter().for_each(|p| out.warnings(&p.warnings));
    let named = project.manifest.targets.output.clone().unwrap_or_else(|| "packages".into());
    let output = output.unwrap_or_else(|| project.folder.join(named));
    let threads = threads.map_or_else(|| std::thread::available_parallelism().map_or(1, |n| n.get()), usize::from);
    build::build(&project, plans, &output, threads, &Bar::new(out))
}

/// What a person wants to know of a finished package.
pub fn report(built: &Built, out: &Output) {
    out.good(&super::shown(&built.file));
    let share = built.bytes as f64 * 100.0 / built.plain_bytes.max(1) as f64;
    out.line(format!(
        "    {} from {} ({share:.0} %), packed in {:.1} s, read back in {:.1} s",
        text_bytes(built.bytes),
        text_bytes(built.plain_bytes),
        built.seconds,
        built.verify_seconds
    ));
    out.line(format!("    blake3 {}", built.content));
    for file in &built.beside {
        out.line(format!("    belongs beside it: {}", super::shown(file)));
    }
    if let Some(page) = &built.page {
        out.line(format!("    beside it, for administrators: {}", super::shown(page)));
    }
    let total: u64 = built.layers.iter().map(|l| l.1).sum();
    let names = built.layers.iter().map(|l| l.0.as_str()).chain(built.biggest.iter().map(|b| b.0.as_str()));
    let width = names.map(|n| n.chars().count()).max().unwrap_or(0).min(60);
    for (layer, bytes, files) in &built.layers {
        let share = *bytes as f64 * 100.0 / total.max(1) as f64;
        let files = if *files == 1 { "1 file".to_owned() } else { format!("{files} files") };
        out.line(format!("    layer    {layer:<width$}  {:>9}  {share:>3.0} %  {files}", text_bytes(*bytes)));
    }
    for (n, (path, bytes)) in built.biggest.iter().enumerate() {
        let label = if n == 0 { "biggest" } else { "" };
        out.line(format!("    {label:<8} {path:<width$}  {:>9}", text_bytes(*bytes)));
    }
    for loss in &built.losses {
        out.aside(&format!("    {}: {}", loss.what, loss.why));
    }
}
