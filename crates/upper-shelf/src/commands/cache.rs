//! `cache`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use crate::progress::Bar;
use clap::Subcommand;
use serde::Serialize;
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::manifest;
use upper_shelf_core::packaging;
use upper_shelf_core::settings::Source;
use upper_shelf_core::signing::time;
use upper_shelf_core::sources::{self, Cleaned, Kept, Patience};
use upper_shelf_core::{Failure, Kind};

/// What was fetched for packages: list it, fetch ahead, make room
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// List what is kept, the last used first
    List,
    /// Fetch everything that a manifest's packages are made of, so that builds need no network
    Fetch(ProjectArgs),
    /// Remove what was not used for the longest time
    Clean {
        /// Keep as much as this, such as `5GB` or `500MB`; 0 keeps nothing
        #[arg(long, value_name = "SIZE", default_value = "5GB", value_parser = size)]
        keep: u64,
    },
}

/// What `cache` prints.
#[derive(Serialize, schemars::JsonSchema)]
#[serde(untagged)]
pub enum Answer {
    /// Of `list`.
    List(Vec<Kept>),
    /// Of `fetch`.
    Fetched {
        /// The keys of the sources that were fetched.
        fetched: Vec<String>,
        /// The keys of those that were there.
        there: Vec<String>,
    },
    /// Of `clean`.
    Cleaned(Cleaned),
}

/// Bytes, as people write them.
fn size(text: &str) -> Result<u64, String> {
    let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let (number, unit) = text.split_at(end);
    let factor: u64 = match unit.trim().to_lowercase().as_str() {
        "" | "b" => 1,
        "kb" => 1_000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        "tb" => 1_000_000_000_000,
        _ => return Err("a number with kB, MB, GB or TB".into()),
    };
    let bytes = number.parse::<u64>().ok().and_then(|number| number.checked_mul(factor));
    bytes.ok_or_else(|| "a number with kB, MB, GB or TB".into())
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    match args.what {
        What::List => list(out),
        What::Fetch(args) => fetch(&args, out),
        What::Clean { keep } => clean(keep, out),
    }
}

fn list(out: &mut Output) -> Result<Exit, Failure> {
    let kept = sources::kept()?;
    if out.json {
        out.result(&Answer::List(kept));
        return Ok(Exit::Done);
    }
    for one in &kept {
        let state = if one.whole { "" } else { ", not whole" };
        let when = &time(one.used)[..16];
        let from = one.address.as_deref().unwrap_or("a file on this machine");
        out.line(format!("{:.12}  {:>9}  {when}  {from}{state}", one.sha256, text_bytes(one.bytes)));
    }
    let bytes = kept.iter().map(|one| one.bytes).sum();
    out.aside(&format!("{}, {}", counted(kept.len()), text_bytes(bytes)));
    Ok(Exit::Done)
}

fn counted(n: usize) -> String {
    if n == 1 { "1 source".into() } else { format!("{n} sources") }
}

fn fetch(args: &ProjectArgs, out: &mut Output) -> Result<Exit, Failure> {
    let project = manifest::load(&args.manifest, &|name| std::env::var(name).ok())?;
    let platforms = (!args.platform.is_empty()).then_some(&args.platform[..]);
    let all = packaging::sources_of(&project, platforms, super::host());
    let keys = |all: &[&Source]| {
        let mut keys: Vec<String> = all.iter().map(|source| source.key.clone()).collect();
        keys.dedup();
        keys
    };
    if args.offline {
        let lacking = all.iter().filter_map(|source| sources::folder_of(source).err()).flatten();
        let lacking: Vec<_> = lacking.map(|problem| project.located(problem)).collect();
        if !lacking.is_empty() {
            return Err(Failure::all(Kind::Problems, lacking));
        }
    }
    let fetched = if args.offline { Vec::new() } else { ready(&project, &all, out)? };
    let there: Vec<_> = all.iter().filter(|source| !fetched.contains(source)).collect();
    if out.json {
        out.result(&Answer::Fetched { fetched: keys(&fetched), there: keys(&there) });
        return Ok(Exit::Done);
    }
    fetched.iter().for_each(|source| out.good(&format!("{}: fetched", source.key)));
    there.iter().for_each(|source| out.line(format!("  {}: there already", source.key)));
    if all.is_empty() {
        out.line("The manifest has no sources.");
    }
    Ok(Exit::Done)
}

/// Fetches what is missing; what can't be had is told with its place in the manifest.
pub fn ready<'s>(project: &manifest::Project, all: &'s [Source], out: &Output) -> Result<Vec<&'s Source>, Failure> {
    sources::ready(all, Patience::default(), &Bar::new(out)).map_err(|mut failure| {
        failure.problems = failure.problems.into_iter().map(|problem| project.located(problem)).collect();
        failure
    })
}

fn clean(keep: u64, out: &mut Output) -> Result<Exit, Failure> {
    let cleaned = sources::clean(keep)?;
    if out.json {
        out.result(&Answer::Cleaned(cleaned));
        return Ok(Exit::Done);
    }
    let kept = cleaned.kept.iter().map(|one| one.bytes).sum();
    out.good(&format!(
        "{} removed, {}; kept {}, {}",
        counted(cleaned.removed),
        text_bytes(cleaned.bytes),
        counted(cleaned.kept.len()),
        text_bytes(kept)
    ));
    Ok(Exit::Done)
}

#[cfg(test)]
mod tests {
    #[test]
    fn sizes_are_as_people_write_them() {
        for (text, bytes) in [("0", 0), ("5GB", 5_000_000_000), ("500 mb", 500_000_000), ("12kB", 12_000), ("7b", 7)] {
            assert_eq!(super::size(text), Ok(bytes), "{text}");
        }
        for text in ["", "GB", "-1GB", "5GiB", "99999999999TB", "1.5GB"] {
            assert!(super::size(text).is_err(), "{text}");
        }
    }
}
