//! `sign`

use crate::exit::Exit;
use crate::output::Output;
use std::io::{IsTerminal, Read};
use std::path::PathBuf;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::secret;
use upper_shelf_core::signing::{self, Clock, Existing, Hash, Keys, Named, OfCode, Secret, Signed};
use upper_shelf_core::{Failure, Kind as FailureKind};

/// Sign finished files and application bundles, each in the form of its system
///
/// Programs, setup programs and installer packages for Windows, programs, bundles and disk images for macOS hold their
/// signatures themselves.
/// A file without a place for its signature gets it beside itself, as FILE.p7s (CMS, RFC 5652).
/// Each file is written anew beside itself and checked; when all are well, they take their places.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The files
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// The key: a PKCS #12 file, a private key in the PEM form, a key in a token as a URI (pkcs11:…, RFC 7512), or
    /// program:PATH, a program that talks to whoever keeps the key
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// The certificate of the key, and those above it, if the file of the key doesn't hold them
    #[arg(long, value_name = "FILE")]
    certificate: Option<PathBuf>,
    /// The environment variable that holds the key's secret; without one it is asked for
    #[arg(long, value_name = "NAME", conflicts_with = "secret_descriptor")]
    secret_variable: Option<String>,
    /// The file descriptor that the key's secret can be read from
    #[arg(long, value_name = "NUMBER")]
    secret_descriptor: Option<u32>,
    /// The address of an authority for timestamps (may be given several times; the first that answers is taken)
    #[arg(long, value_name = "ADDRESS")]
    timestamps: Vec<String>,
    /// Accept only timestamps of the authorities in this file (may be given several times)
    #[arg(long, value_name = "FILE")]
    timestamp_roots: Vec<PathBuf>,
    /// The digest; default: the one that goes with the key
    #[arg(long, value_enum)]
    digest: Option<Digest>,
    /// What happens to a signature that is there already
    #[arg(long, value_enum, default_value_t, value_name = "WHAT")]
    existing: There,
    /// The product's name, which the system shows when it asks
    #[arg(long, value_name = "TEXT")]
    name: Option<String>,
    /// What code for macOS calls itself; default: its bundle's identifier, or the file's name
    #[arg(long, value_name = "NAME")]
    identifier: Option<String>,
    /// A property list of entitlements for programs of macOS: what they may do
    #[arg(long, value_name = "FILE")]
    entitlements: Option<PathBuf>,
    /// Sign programs of macOS without the hardened runtime, which the notary demands
    #[arg(long)]
    without_hardened_runtime: bool,
    /// The product's web page
    #[arg(long, value_name = "ADDRESS")]
    page: Option<String>,
}

#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum Digest {
    /// SHA-256
    Sha256,
    /// SHA-384
    Sha384,
    /// SHA-512
    Sha512,
}

#[derive(Debug, Clone, Copy, Default, clap::ValueEnum)]
enum There {
    /// The file is left as it is, and that is an error
    #[default]
    Refuse,
    /// It is removed
    Replace,
    /// It stays, and another one is added beside it
    Beside,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let keys = Keys { key: args.key.clone(), certificates: args.certificate.clone() };
    let who = signing::identity(&keys, &|| secret_of(&args))?;
    let clock = (!args.timestamps.is_empty())
        .then(|| Ok(Clock { addresses: args.timestamps.clone(), roots: super::roots(&args.timestamp_roots)? }));
    let how = Signed {
        hash: args.digest.map(|digest| match digest {
            Digest::Sha256 => Hash::Sha256,
            Digest::Sha384 => Hash::Sha384,
            Digest::Sha512 => Hash::Sha512,
        }),
        existing: match args.existing {
            There::Refuse => Existing::Refuse,
            There::Replace => Existing::Replace,
            There::Beside => Existing::Beside,
        },
        named: Named { name: args.name.clone(), page: args.page.clone() },
        clock: clock.transpose()?,
        code: OfCode {
            identifier: args.identifier.clone(),
            entitlements: args.entitlements.clone(),
            unguarded: args.without_hardened_runtime,
        },
    };
    out.warnings(&signing::warnings(&keys, &who, signing::now()));
    let mut prepared = Vec::new();
    let mut failures: Option<Failure> = None;
    for file in &args.files {
        match signing::sign(file, &who, &how) {
            Ok(file) => prepared.push(file),
            // All or none: what is wrong is said at the end, all at once.
            Err(failure) => match &mut failures {
                Some(all) => all.problems.extend(failure.problems),
                None => failures = Some(failure),
            },
        }
    }
    if let Some(failure) = failures {
        return Err(failure);
    }
    let mut signed = Vec::new();
    for file in prepared {
        out.warnings(&file.warnings);
        let verdict = file.finish()?;
        let when = verdict.signatures.last().and_then(|s| s.timestamp.as_ref());
        let when = when.map_or(", without a timestamp".to_owned(), |stamp| format!(", {}", stamp.time));
        out.good(&format!("{}: signed by “{}”{when}", super::shown(&verdict.file), who.certificate().name()));
        signed.push(verdict);
    }
    if out.json {
        out.result(&signed);
    }
    Ok(Exit::Done)
}

/// The secret of the key, from where the command line says, or from the person at the terminal.
fn secret_of(args: &Args) -> Result<Option<Secret>, Failure> {
    if let Some(name) = &args.secret_variable {
        return secret::from_environment(name)
            .map(Some)
            .map_err(|problem| Failure::new(FailureKind::Problems, *problem));
    }
    if let Some(number) = args.secret_descriptor {
        return descriptor(number).map(Some);
    }
    if !std::io::stdin().is_terminal() {
        return Ok(None);
    }
    let asked = rpassword::prompt_password(format!("Secret of {}: ", super::shown(&args.key)));
    let unheard = |e| Failure::io("can't read", std::path::Path::new("the terminal"), e);
    asked.map(|secret| Some(Secret::new(secret))).map_err(unheard)
}

/// The first line that a descriptor gives, without its end.
fn descriptor(number: u32) -> Result<Secret, Failure> {
    let path = PathBuf::from(format!("/dev/fd/{number}"));
    let wrong = |why: String| {
        let problem = Problem::error(Code::Secret, format!("no secret can be read from the file descriptor {number}"));
        Failure::new(
            FailureKind::Problems,
            problem.why(why).instead(format!("upper-shelf sign … --secret-descriptor {number} {number}<FILE")),
        )
    };
    let mut text = String::new();
    let file = std::fs::File::open(&path).map_err(|e| match e.kind() {
        std::io::ErrorKind::NotFound => wrong("it isn't open".into()),
        _ => wrong(e.to_string()),
    })?;
    file.take(64 << 10).read_to_string(&mut text).map_err(|e| wrong(e.to_string()))?;
    let line = text.lines().next().unwrap_or_default().to_owned();
    if line.is_empty() { Err(wrong("it is empty".into())) } else { Ok(Secret::new(line)) }
}
