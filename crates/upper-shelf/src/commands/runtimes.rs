//! `runtimes`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::collections::BTreeMap;
use upper_shelf_core::Failure;
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::libraries::Collected;
use upper_shelf_core::runtimes::{Amount, Doubt, Module, RuntimeKind, Trimmed};

/// Show what comes along of the runtimes and libraries that programs need: sizes before and after, parts, what is not certain
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    project: ProjectArgs,
    /// Show each module and library with the reason for which it comes along, and those that don't
    #[arg(long)]
    why: bool,
}

/// What `runtimes` prints of each platform.
#[derive(Serialize, schemars::JsonSchema)]
pub struct OfPlatform<'p> {
    /// The platform.
    platform: String,
    /// Its runtimes.
    runtimes: &'p [Trimmed],
    /// Libraries that come along, if any are looked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    libraries: Option<&'p Collected>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let (_, plans) = super::load(&args.project, out)?;
    if out.json {
        let all = plans.iter();
        let all = all.map(|plan| OfPlatform {
            platform: plan.product.platform.to_string(),
            runtimes: &plan.runtimes,
            libraries: plan.libraries.as_ref(),
        });
        out.result(&all.collect::<Vec<_>>());
        return Ok(Exit::Done);
    }
    if plans.iter().all(|plan| plan.runtimes.is_empty() && plan.libraries.is_none()) {
        out.line("The manifest has no runtimes and no libraries.");
    }
    let mut is_first = true;
    for plan in &plans {
        for runtime in &plan.runtimes {
            if !std::mem::take(&mut is_first) {
                out.line("");
            }
            show(&plan.product.platform.to_string(), runtime, args.why, out);
        }
        if let Some(collected) = &plan.libraries {
            if !std::mem::take(&mut is_first) {
                out.line("");
            }
            show_libraries(&plan.product.platform.to_string(), collected, args.why, out);
        }
    }
    Ok(Exit::Done)
}

fn amount(amount: Amount) -> String {
    let files = if amount.files == 1 { "1 file".to_owned() } else { format!("{} files", amount.files) };
    format!("{} in {files}", text_bytes(amount.bytes))
}

/// A module and what speaks for it stand on one line if they are no longer than this.
const SHORT: usize = 90;
/// More modules than these are only counted, unless they are asked for.
const MOST_NAMES: usize = 30;

fn show(platform: &str, runtime: &Trimmed, why: bool, out: &Output) {
    let version = runtime.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    out.heading(&format!("{}: {}{version} for {platform}", runtime.key, runtime.kind.title()));
    out.line(format!("  folder     {}", runtime.into));
    out.line(format!("  before     {}", amount(runtime.before)));
    let share = (runtime.after.bytes * 100).div_ceil(runtime.before.bytes.max(1));
    out.line(format!("  after      {}, {share} %", amount(runtime.after)));
    let (kept, left): (Vec<_>, Vec<_>) = runtime.modules.iter().partition(|module| module.why.is_some());
    let parts = match runtime.kind {
        RuntimeKind::Node => "packages",
        RuntimeKind::Php => "extensions",
        RuntimeKind::Java | RuntimeKind::Python | RuntimeKind::Plain => "modules",
    };
    let names = |some: &[&Module]| lines(&some.iter().map(|module| module.name.as_str()).collect::<Vec<_>>(), 66);
    if !why && kept.len() > MOST_NAMES {
        out.line(format!("  {parts:<10} {}; `--why` names them", kept.len()));
    } else if !why && !kept.is_empty() {
        for (n, line) in names(&kept).iter().enumerate() {
            out.line(format!("  {:<10} {line}", if n == 0 { parts } else { "" }));
        }
    }
    if !left.is_empty() {
        let bytes = left.iter().map(|module| module.bytes).sum();
        out.line(format!("  left out   {} of {} {parts}, {}", left.len(), runtime.modules.len(), text_bytes(bytes)));
    }
    if !runtime.licences.is_empty() {
        out.line(licences(runtime.licences.len()));
    }
    if why && !kept.is_empty() {
        out.line("");
        out.heading("comes along");
        let width = kept.iter().map(|module| module.name.len()).max().unwrap_or(0);
        for module in &kept {
            let why = module.why.as_deref().unwrap_or_default();
            out.line(format!("  {:<width$}  {:>9}  {why}", module.name, text_bytes(module.bytes)));
        }
    }
    if runtime.doubts.len() > MOST_NAMES && !why {
        out.line(format!(
            "  uncertain  {} modules that are only imported within functions; `--why` names them",
            runtime.doubts.len()
        ));
    } else if !runtime.doubts.is_empty() {
        out.line("");
        out.heading("not certain: left out, and may be looked for by name");
        let width = runtime.doubts.iter().map(|doubt| doubt.module.len()).max().unwrap_or(0);
        let is_short = runtime.doubts.iter().all(|doubt| width + doubt.why.len() <= SHORT);
        for Doubt { module, why } in &runtime.doubts {
            if is_short {
                out.line(format!("  {module:<width$}  {why}"));
            } else {
                out.line(format!("  {module}"));
                out.aside(&format!("    {why}"));
            }
        }
        out.aside("  `also` in the [[runtime]] takes a module along; `drop` says that it isn't needed.");
    }
    if why && !left.is_empty() {
        out.line("");
        out.heading("left out");
        // What is in a package that is left out needs no name of its own.
        let is_inside = |name: &str| {
            let package = name.rsplit_once('.').filter(|_| runtime.kind == RuntimeKind::Python);
            package.is_some_and(|(package, _)| left.iter().any(|module| module.name == package))
        };
        let left: Vec<&Module> = left.iter().copied().filter(|module| !is_inside(&module.name)).collect();
        names(&left).iter().for_each(|line| out.aside(&format!("  {line}")));
    }
    if why && !runtime.licences.is_empty() {
        out.line("");
        out.heading("licences");
        runtime.licences.iter().for_each(|path| out.aside(&format!("  {}/{path}", runtime.into)));
    }
}

fn licences(count: usize) -> String {
    match count {
        1 => "  licences   1 text comes along".to_owned(),
        _ => format!("  licences   {count} texts come along"),
    }
}

/// Libraries and what they load: how much, what is left to the machine, what is not certain.
fn show_libraries(platform: &str, collected: &Collected, why: bool, out: &Output) {
    let is_library = |path: &str| {
        let name = path.rsplit('/').next().unwrap_or(path).to_lowercase();
        name.ends_with(".dll") || name.ends_with(".so") || name.contains(".so.")
    };
    let (libraries, others): (Vec<_>, Vec<_>) = collected.files.iter().partition(|file| is_library(&file.path));
    let sum = |some: &[&upper_shelf_core::libraries::Library]| Amount {
        bytes: some.iter().map(|file| file.bytes).sum(),
        files: some.len() as u64,
    };
    out.heading(&format!("libraries for {platform}"));
    out.line(format!("  libraries  {}", amount(sum(&libraries))));
    if !others.is_empty() {
        out.line(format!("  others     {}, which belong to them", amount(sum(&others))));
    }
    // Windows has dozens of names for parts of a few libraries.
    let is_part = |name: &&str| name.to_lowercase().starts_with("api-ms-win-");
    let (parts, mut base): (Vec<&str>, Vec<&str>) = collected.base.iter().map(String::as_str).partition(is_part);
    base.extend(parts.first().map(|_| "api-ms-win-*.dll"));
    for (n, line) in lines(&base, 66).iter().enumerate() {
        out.line(format!("  {:<10} {line}", if n == 0 { "left out" } else { "" }));
    }
    if !base.is_empty() {
        out.aside("             every machine has these");
    }
    if !collected.licences.is_empty() {
        out.line(licences(collected.licences.len()));
    }
    for (n, (name, value)) in collected.variables.iter().enumerate() {
        out.line(format!("  {:<10} {name}={value}", if n == 0 { "variables" } else { "" }));
    }
    if why {
        out.line("");
        out.heading("comes along");
        // Of pictures and texts, which can be thousands, their folders say enough.
        let mut listed: BTreeMap<(String, &str), (u64, u64)> = BTreeMap::new();
        for file in collected.files.iter().filter(|file| !collected.licences.contains(&file.path)) {
            let folder = file.path.split('/').take(3).collect::<Vec<_>>().join("/");
            let is_deep = file.path.matches('/').count() > 2 && !is_library(&file.path);
            let name = if is_deep { folder + "/…" } else { file.path.clone() };
            let sum = listed.entry((name, &file.why)).or_default();
            (sum.0, sum.1) = (sum.0 + file.bytes, sum.1 + 1);
        }
        let width = listed.keys().map(|(name, _)| name.len()).max().unwrap_or(0).min(SHORT / 2);
        for ((name, why), (bytes, count)) in listed {
            let count = if count > 1 { format!(" ({count} files)") } else { String::new() };
            out.line(format!("  {name:<width$}  {:>9}  {why}{count}", text_bytes(bytes)));
        }
    }
    if !collected.doubts.is_empty() {
        out.line("");
        out.heading("not certain: left out, and may be looked for by name");
        for Doubt { module, why } in &collected.doubts {
            out.line(format!("  {module}"));
            out.aside(&format!("    {why}"));
        }
        out.aside("  `from` with the folder of what is missing takes them along; `drop` says that they aren't needed.");
    }
}

/// Words in lines of so many letters.
fn lines(words: &[&str], width: usize) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for word in words {
        match all.last_mut().filter(|line| line.len() + 1 + word.len() <= width) {
            Some(line) => *line += &format!(" {word}"),
            None => all.push((*word).to_owned()),
        }
    }
    all
}
