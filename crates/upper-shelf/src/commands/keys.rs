//! `keys`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::PathBuf;
use upper_shelf_core::Failure;
use upper_shelf_core::signing::test_keys::{self, KeyKind, TestKeys};
use upper_shelf_core::signing::{self, CertificateFacts, Purpose};

/// Create keys for tests, or explain a certificate
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(subcommand)]
    action: Action,
}

#[derive(Debug, clap::Subcommand)]
enum Action {
    Make(MakeArgs),
    Explain(ExplainArgs),
}

/// Create a test authority, and keys with certificates of it: one for code, one for timestamps
///
/// Nobody else trusts them, and their names say so. Private keys are readable by you alone, and not protected by a secret.
/// The authority's own key isn't kept.
#[derive(Debug, clap::Args)]
struct MakeArgs {
    /// The folder for them; created if it doesn't exist
    folder: PathBuf,
    /// Whose keys they are
    #[arg(long, value_name = "NAME")]
    publisher: String,
    /// What kind of keys
    #[arg(long, value_enum, default_value_t)]
    kind: Kind,
}

#[derive(Debug, Clone, Copy, Default, clap::ValueEnum)]
enum Kind {
    /// RSA with 3072 bits, which every reader knows
    #[default]
    #[value(name = "rsa-3072")]
    Rsa,
    /// ECDSA on the curve P-256
    P256,
    /// ECDSA on the curve P-384
    P384,
}

/// Explain the certificates in a file: whose they are, for what, until when, and what is missing
#[derive(Debug, clap::Args)]
struct ExplainArgs {
    /// The file, in the PEM form or as bytes
    file: PathBuf,
    /// Trust the authorities in this file (may be given several times)
    #[arg(long, value_name = "FILE")]
    roots: Vec<PathBuf>,
}

/// What `keys` prints.
#[derive(Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// Of `keys make`.
    Made(TestKeys),
    /// Of `keys explain`.
    Certificates(Vec<Explained>),
}

/// A certificate, explained.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Explained {
    /// What it says.
    certificate: CertificateFacts,
    /// What is wrong with signing programs and packages with it.
    code: Vec<String>,
    /// What is wrong with signing timestamps with it.
    timestamps: Vec<String>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    match args.action {
        Action::Make(args) => make(&args, out),
        Action::Explain(args) => explain(&args, out),
    }
}

fn make(args: &MakeArgs, out: &Output) -> Result<Exit, Failure> {
    let kind = match args.kind {
        Kind::Rsa => KeyKind::Rsa(3072),
        Kind::P256 => KeyKind::P256,
        Kind::P384 => KeyKind::P384,
    };
    let made = test_keys::make(&args.folder, &args.publisher, kind, signing::now())?;
    for (what, file) in [
        ("the authority, for whoever is to trust it", &made.authority),
        ("a key for code", &made.code.key),
        ("its certificate", &made.code.certificate),
        ("a key for timestamps", &made.timestamps.key),
        ("its certificate", &made.timestamps.certificate),
    ] {
        out.good(&format!("{}: {what}", super::shown(file)));
    }
    out.line("They are for tests: nobody else trusts them. The private keys aren't protected; keep them out of version control.");
    if out.json {
        out.result(&Answer::Made(made));
    }
    Ok(Exit::Done)
}

fn explain(args: &ExplainArgs, out: &Output) -> Result<Exit, Failure> {
    let roots = super::roots(&args.roots)?;
    let all = signing::certificates(&args.file)?;
    let explained: Vec<Explained> = all
        .iter()
        .map(|certificate| {
            let wrong = |purpose| signing::explain(certificate, &all, &roots, signing::now(), purpose);
            let (code, timestamps) = (wrong(Purpose::Code), wrong(Purpose::Timestamps));
            Explained { certificate: certificate.into(), code, timestamps }
        })
        .collect();
    for (n, Explained { certificate, code, timestamps }) in explained.iter().enumerate() {
        if n > 0 {
            out.line("");
        }
        out.heading(&certificate.name);
        out.line(format!("  subject  {}", certificate.subject));
        out.line(format!("  issuer   {}", certificate.issuer));
        out.line(format!("  key      {}", certificate.key));
        out.line(format!("  valid    {} to {}", certificate.from, certificate.until));
        out.line(format!("  SHA-256  {}", certificate.sha256));
        if certificate.is_authority {
            out.line("  A certificate authority: it issues certificates, and signs nothing else.");
            continue;
        }
        for (usage, wrong) in [("code signing", code), ("timestamping", timestamps)] {
            if !certificate.usages.iter().any(|own| own == usage) {
                out.aside(&format!("  not for {usage}"));
            } else if wrong.is_empty() {
                out.good(&format!("{usage} until {}", certificate.until));
            } else {
                out.bad(&format!("{usage}:"));
                wrong.iter().for_each(|why| out.line(format!("    {why}")));
            }
        }
    }
    if out.json {
        out.result(&Answer::Certificates(explained));
    }
    Ok(Exit::Done)
}
