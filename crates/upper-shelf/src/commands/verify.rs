//! `verify`

use crate::exit::Exit;
use crate::output::Output;
use std::collections::BTreeSet;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::signing::{self, Inside, OpenPgpFacts, SignatureFacts, Trust, Verdict};

/// Check who signed a file or an application bundle, and whether it is still what they signed
///
/// Of disk images and bundles the programs inside are checked, too.
/// Nobody is asked over the network: whom to trust is what you name with --roots.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The files
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// Trust the authorities in this file (may be given several times)
    #[arg(long, value_name = "FILE")]
    roots: Vec<PathBuf>,
    /// Trust the OpenPGP keys in this file (may be given several times)
    #[arg(long, value_name = "FILE")]
    openpgp_keys: Vec<PathBuf>,
    #[command(flatten)]
    limit: super::LimitArgs,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let trust = Trust { roots: super::roots(&args.roots)?, openpgp: signing::openpgp_keys(&args.openpgp_keys)? };
    let now = signing::now();
    let verdicts: Result<Vec<Verdict>, Failure> =
        args.files.iter().map(|file| signing::verify(file, &trust, now, args.limit.limit)).collect();
    let verdicts = verdicts?;
    for (n, verdict) in verdicts.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        show(verdict, out);
    }
    let asks_for_roots = |verdict: &Verdict| verdict.signatures.iter().any(|s| s.openpgp.is_none());
    let by_key_only = trust.openpgp.is_some() && !verdicts.iter().any(asks_for_roots);
    if args.roots.is_empty() && !by_key_only {
        out.line("");
        out.line("No authorities are trusted: name the file that holds their certificates with --roots.");
    }
    if out.json {
        out.result(&verdicts);
    }
    Ok(if verdicts.iter().all(|verdict| verdict.good) { Exit::Done } else { Exit::Signature })
}

fn show(verdict: &Verdict, out: &Output) {
    let file = super::shown(&verdict.file);
    match (verdict.good, verdict.signatures.first()) {
        (true, Some(first)) => out.good(&format!("{file}: signed {}", by(first))),
        (_, Some(first)) => out.bad(&format!("{file}: signed {}, but something is wrong", by(first))),
        (_, None) => out.bad(&format!("{file}: {}", verdict.problems.join("; "))),
    }
    for (n, signature) in verdict.signatures.iter().enumerate() {
        if n > 0 {
            out.line(format!("  beside it, {}", by(signature)));
        }
        if let Some(product) = &signature.product {
            out.line(format!("  product    {product}"));
        }
        for (n, certificate) in signature.chain.iter().enumerate() {
            let label = if n == 0 { "signer   " } else { "authority" };
            out.line(format!("  {label}  {}, {}, until {}", certificate.name, certificate.key, certificate.until));
            if out.verbose {
                out.line(format!("             {}, SHA-256 {}", certificate.subject, certificate.sha256));
            }
        }
        if let Some(code) = &signature.code {
            let team = code.team.as_ref().map_or(String::new(), |team| format!(", team {team}"));
            out.line(format!("  code       {}{team}", code.identifier));
            if code.hardened_runtime {
                out.line("  runtime    hardened");
            }
            code.entitlements.iter().for_each(|name| out.line(format!("  allowed    {name}")));
        }
        if let Some(OpenPgpFacts { user, fingerprint, key, time, until }) = &signature.openpgp {
            let until = until.as_ref().map_or(String::new(), |until| format!(", until {until}"));
            out.line(format!("  signer     {user}, {key} by OpenPGP{until}"));
            out.line(format!("  key        {fingerprint}"));
            out.line(format!("  time       {time}, by the signer's own word"));
        }
        out.line(format!("  digest     {}", signature.digest));
        match &signature.timestamp {
            None if signature.chain.is_empty() => {}
            Some(stamp) => out.line(format!("  time       {}, by “{}”", stamp.time, stamp.authority.name)),
            None => {
                out.line("  time       not known: there is no timestamp, so it holds only while its certificate does")
            }
        }
        signature.untrusted.iter().chain(&signature.problems).for_each(|problem| out.difference('-', problem));
    }
    if !verdict.signatures.is_empty() {
        verdict.problems.iter().for_each(|problem| out.difference('-', problem));
    }
    inside(verdict, out);
    if !verdict.signatures.is_empty() {
        verdict.unchecked.iter().for_each(|what| out.aside(&format!("  not checked: {what}")));
    }
}

/// What was found inside of it.
fn inside(verdict: &Verdict, out: &Output) {
    let bad = verdict.inside.iter().filter(|inside| !inside.problems.is_empty());
    for Inside { path, by, problems, .. } in bad.clone() {
        let by = by.as_ref().map_or(String::new(), |by| format!(", signed by “{by}”"));
        out.line(format!("  inside     {path}{by}"));
        problems.iter().for_each(|problem| out.difference('-', problem));
    }
    let good = verdict.inside.len() - bad.count();
    if good > 0 {
        let names: BTreeSet<&str> = verdict.inside.iter().filter_map(|inside| inside.by.as_deref()).collect();
        let names: Vec<String> = names.iter().map(|name| format!("“{name}”")).collect();
        let counted = if good == 1 { "1 program".to_owned() } else { format!("{good} programs") };
        out.line(format!("  inside     {counted} signed by {}", names.join(", ")));
    }
}

fn by(signature: &SignatureFacts) -> String {
    match (signature.signer(), &signature.code) {
        (Some(name), _) => format!("by “{name}”"),
        (None, Some(code)) if signature.untrusted.iter().any(|why| why.contains("ad hoc")) => {
            format!("ad hoc as {}", code.identifier)
        }
        (None, _) => "by somebody".into(),
    }
}
