//! `compare`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::{Path, PathBuf};
use upper_shelf_core::footprint::{Change, Difference, FieldChange, Footprint, text_bytes};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::signing;
use upper_shelf_core::targets::{self, Depth};
use upper_shelf_core::{Failure, Kind};

/// Show the differences between two packages; a manifest stands for what it would build
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The older package or manifest
    old: PathBuf,
    /// The newer package or manifest
    new: PathBuf,
    /// The platform, if a manifest is for several
    #[arg(long, value_name = "NAME", value_parser = super::platform)]
    platform: Option<Platform>,
    #[command(flatten)]
    limit: super::LimitArgs,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let (old, new) = (side(&args.old, &args, out)?, side(&args.new, &args, out)?);
    let difference = old.difference(&new);
    let signers = [signers(&args.old)?, signers(&args.new)?];
    if out.json {
        out.result(&Compared { difference: &difference, signers });
    } else {
        show(&difference, (old.size(), new.size()), out);
        if signers[0] != signers[1] {
            let [old, new] = signers.map(|by| if by.is_empty() { "nobody".into() } else { by.join(", ") });
            out.line(format!("signed by {old} → by {new}"));
        }
    }
    Ok(if difference.is_empty() { Exit::Done } else { Exit::Different })
}

/// What `compare` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Compared<'d> {
    /// The footprints.
    #[serde(flatten)]
    difference: &'d Difference,
    /// Who signed the older package, and the newer one. That alone makes no difference.
    signers: [Vec<String>; 2],
}

/// Who signed a package.
fn signers(path: &Path) -> Result<Vec<String>, Failure> {
    if path.is_dir() {
        return Ok(Vec::new());
    }
    let signatures = signing::signers(path)?;
    Ok(signatures.iter().filter_map(|signature| Some(signature.signer()?.to_owned())).collect())
}

fn side(path: &Path, args: &Args, out: &Output) -> Result<Footprint, Failure> {
    let is_manifest = path.is_dir() || path.extension().is_some_and(|e| e == "toml");
    if !is_manifest {
        return Ok(targets::read(path, Depth::Contents, args.limit.limit)?.1);
    }
    let project = ProjectArgs {
        manifest: path.to_owned(),
        platform: args.platform.into_iter().collect(),
        target: Vec::new(),
        offline: false,
    };
    let (_, plans) = super::load(&project, out)?;
    match <[_; 1]>::try_from(plans) {
        Ok([plan]) => Ok(plan.footprint),
        Err(plans) => {
            let names: Vec<&str> = plans.iter().map(|p| p.product.platform.name()).collect();
            let problem =
                Problem::error(Code::WrongUse, format!("{} is for several platforms", path.display())).on(path);
            Err(Failure::new(Kind::Problems, problem.instead(format!("--platform with one of {}", names.join(", ")))))
        }
    }
}

fn show(difference: &Difference, sizes: (u64, u64), out: &Output) {
    if difference.is_empty() {
        return out.good(&format!("no difference: {} traces are the same", difference.same));
    }
    if !difference.identity.is_empty() {
        out.heading("product");
        for FieldChange { field, old, new } in &difference.identity {
            let or_none = |v: &str| if v.is_empty() { "(not said)".to_owned() } else { v.to_owned() };
            out.difference('~', &format!("{field}: {} → {}", or_none(old), or_none(new)));
        }
        out.line("");
    }
    let mut last = "";
    let (mut added, mut removed, mut changed) = (0, 0, 0);
    for change in &difference.changes {
        let (sign, trace) = match change {
            Change::Added { new } => ('+', new),
            Change::Removed { old } => ('-', old),
            Change::Changed { new, .. } => ('~', new),
        };
        match sign {
            '+' => added += 1,
            '-' => removed += 1,
            _ => changed += 1,
        }
        let heading = if trace.path().is_some() { "file" } else { trace.kind() };
        if heading != last {
            if !last.is_empty() {
                out.line("");
            }
            out.heading(&format!("{heading}s"));
            last = heading;
        }
        let name = trace.path().map_or_else(String::new, |p| format!("{p}  "));
        match change {
            Change::Changed { old, new } => {
                out.difference(sign, &format!("{name}{old}"));
                out.line(format!("    {}→ {new}", " ".repeat(name.chars().count().saturating_sub(2))));
            }
            Change::Added { .. } | Change::Removed { .. } => out.difference(sign, &format!("{name}{trace}")),
        }
    }
    out.line("");
    let same = difference.same;
    let (old, new) = (text_bytes(sizes.0), text_bytes(sizes.1));
    out.line(format!("{added} added, {removed} removed, {changed} changed, {same} the same; files {old} → {new}"));
}
