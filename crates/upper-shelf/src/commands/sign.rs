//! `sign`

use crate::exit::Exit;
use crate::output::Output;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::secret;
use upper_shelf_core::signing::{self, Clock, Existing, Hash, Keys, Named, OfCode, OpenPgp, Secret, Signed};
use upper_shelf_core::{Failure, Kind as FailureKind};

/// Sign finished files and application bundles, each in the form of its system
///
/// Programs, setup programs and installer packages for Windows, programs, bundles and disk images for macOS hold their
/// signatures themselves.
/// A file without a place for its signature gets it beside itself, as FILE.p7s (CMS, RFC 5652). With a key of OpenPGP
/// an AppImage gets its signature inside, any other file as FILE.asc.
/// Each file is written anew beside itself and checked; when all are well, they take their places.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The files
    #[arg(required_unless_present = "digests")]
    files: Vec<PathBuf>,
    /// Sign the digests that `build --digests` has listed in this file, in place of files
    #[arg(long, value_name = "FILE", conflicts_with_all = ["files", "timestamps", "digest", "existing", "name", "page",
        "identifier", "page_hashes", "entitlements", "without_hardened_runtime"])]
    digests: Option<PathBuf>,
    /// The key: a PKCS #12 file, a private key in the PEM form, a key in a token as a URI (pkcs11:…, RFC 7512), or
    /// program:PATH, a program that talks to whoever keeps the key; or a private key of OpenPGP
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// The certificate of the key, and those above it, if the file of the key doesn't hold them
    #[arg(long, value_name = "FILE")]
    certificate: Option<PathBuf>,
    /// The environment variable that holds the key's secret; without one it is asked for
    #[arg(long, value_name = "NAME", conflicts_with = "secret_descriptor")]
    secret_variable: Option<String>,
    /// The entry of the system's keyring that holds the key's secret
    #[arg(long, value_name = "SERVICE/ACCOUNT", conflicts_with_all = ["secret_variable", "secret_descriptor"])]
    secret_keyring: Option<String>,
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
    /// Sign the digest of each page of a program for Windows, too
    #[arg(long)]
    page_hashes: bool,
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

/// What became of a list of digests.
#[derive(Debug, serde::Serialize, schemars::JsonSchema)]
pub struct Digests {
    /// The list.
    file: PathBuf,
    /// How many digests were signed.
    signed: usize,
    /// How many wait for other keys.
    left: usize,
}

/// What the command prints.
#[derive(schemars::JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
pub enum Answer {
    /// Of files.
    Files(Vec<signing::Verdict>),
    /// With --digests.
    Digests(Digests),
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    if signing::is_openpgp_key(&args.key) {
        return by_openpgp(&args, out);
    }
    let keys = Keys { key: args.key.clone(), certificates: args.certificate.clone() };
    let who = signing::identity(&keys, &|| secret_of(&args))?;
    if let Some(list) = &args.digests {
        out.warnings(&signing::warnings(&keys, &who, signing::now()));
        let (signed, left) = signing::sign_digests(list, &who)?;
        return Ok(digests(list, signed, left, who.certificate().name(), out));
    }
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
        page_hashes: args.page_hashes,
        elsewhere: None,
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

/// Signs with a key of OpenPGP: AppImages in themselves, other files beside them.
fn by_openpgp(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let others = args.digests.is_some()
        || args.certificate.is_some()
        || args.digest.is_some()
        || !args.timestamps.is_empty()
        || matches!(args.existing, There::Beside);
    if others {
        let problem =
            Problem::error(Code::WrongUse, "a key of OpenPGP has no certificates, timestamps or lists of digests");
        let instead = "leave out --certificate, --timestamps, --digest, --digests and `--existing beside`";
        return Err(Failure::new(FailureKind::Problems, problem.on(&args.key).instead(instead)));
    }
    let (key, now) = (OpenPgp::open(&args.key, &|| secret_of(args))?, signing::now());
    out.warnings(&key.warnings(&args.key, now));
    let existing = if matches!(args.existing, There::Replace) { Existing::Replace } else { Existing::Refuse };
    let (mut prepared, mut failed) = (Vec::new(), Vec::new());
    for file in &args.files {
        match signing::sign_openpgp(file, &key, existing, now) {
            Ok(one) => prepared.push(one),
            Err(failure) => failed.push(failure),
        }
    }
    if let Some(mut failure) = (!failed.is_empty()).then(|| failed.remove(0)) {
        failure.problems.extend(failed.into_iter().flat_map(|failure| failure.problems));
        return Err(failure);
    }
    let mut signed = Vec::new();
    for one in prepared {
        let verdict = one.finish()?;
        out.good(&format!("{}: signed by “{}”", super::shown(&verdict.file), key.user()));
        signed.push(verdict);
    }
    if out.json {
        out.result(&signed);
    }
    Ok(Exit::Done)
}

/// What became of a list of digests.
fn digests(list: &Path, signed: usize, left: usize, by: String, out: &Output) -> Exit {
    let s = if signed == 1 { "" } else { "s" };
    out.good(&format!("{}: {signed} digest{s} signed by “{by}”", super::shown(list)));
    if left > 0 {
        out.line(format!("  {left} for the key of another certificate"));
    }
    if out.json {
        out.result(&Digests { file: list.to_owned(), signed, left });
    }
    Exit::Done
}

/// The secret of the key, from where the command line says, or from the person at the terminal.
fn secret_of(args: &Args) -> Result<Option<Secret>, Failure> {
    if let Some(place) = secret::Place::of(args.secret_variable.clone(), args.secret_keyring.clone()) {
        return place.read().map(Some).map_err(|problem| Failure::new(FailureKind::Problems, *problem));
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
