//! `verify`

use crate::exit::Exit;
use crate::output::Output;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::signing::{self, SignatureFacts, Verdict};

/// Check who signed a file, and whether it is still what they signed
///
/// Nobody is asked over the network: whom to trust is what you name with --roots.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The files
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// Trust the authorities in this file (may be given several times)
    #[arg(long, value_name = "FILE")]
    roots: Vec<PathBuf>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let roots = super::roots(&args.roots)?;
    let now = signing::now();
    let verdicts: Result<Vec<Verdict>, Failure> =
        args.files.iter().map(|file| signing::verify(file, &roots, now)).collect();
    let verdicts = verdicts?;
    for (n, verdict) in verdicts.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        show(verdict, out);
    }
    if args.roots.is_empty() {
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
        (true, Some(first)) => out.good(&format!("{file}: signed by “{}”", by(first))),
        (_, Some(first)) => out.bad(&format!("{file}: signed by “{}”, but something is wrong", by(first))),
        (_, None) => out.bad(&format!("{file}: {}", verdict.problems.join("; "))),
    }
    for (n, signature) in verdict.signatures.iter().enumerate() {
        if n > 0 {
            out.line(format!("  beside it, by “{}”", by(signature)));
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
        out.line(format!("  digest     {}", signature.digest));
        match &signature.timestamp {
            Some(stamp) => out.line(format!("  time       {}, by “{}”", stamp.time, stamp.authority.name)),
            None => {
                out.line("  time       not known: there is no timestamp, so it holds only while its certificate does")
            }
        }
        signature.untrusted.iter().chain(&signature.problems).for_each(|problem| out.difference('-', problem));
    }
    if !verdict.signatures.is_empty() {
        verdict.problems.iter().for_each(|problem| out.difference('-', problem));
        verdict.unchecked.iter().for_each(|what| out.aside(&format!("  not checked: {what}")));
    }
}

fn by(signature: &SignatureFacts) -> &str {
    signature.chain.first().map_or("somebody", |certificate| &certificate.name)
}
