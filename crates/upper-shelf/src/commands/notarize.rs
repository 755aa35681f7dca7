//! `notarize`

use crate::exit::Exit;
use crate::output::Output;
use std::path::PathBuf;
use std::time::Duration;
use upper_shelf_core::Failure;
use upper_shelf_core::signing::macos::notary::{Notarized, Notary};

/// Have Apple's notary look at signed disk images, bundles or ZIP archives, and put its tickets into them
///
/// A disk image or a bundle gets its ticket in place; what is signed in it stays as it is. An archive has no room for one: notarize
/// the bundle, then pack it.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The disk images (.dmg), bundles (.app) or archives (.zip)
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// The private key of whoever asks, in the PEM form (.p8)
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// The identifier of the key at the notary (`kid`, RFC 7515)
    #[arg(long, value_name = "ID")]
    key_id: String,
    /// The identifier of whoever asks (`iss`, RFC 7519)
    #[arg(long, value_name = "ID")]
    issuer: String,
    /// The notary's address
    #[arg(long, value_name = "ADDRESS")]
    service: String,
    /// The address of the storage that packages are uploaded to
    #[arg(long, value_name = "ADDRESS")]
    storage: String,
    /// The address where tickets are looked up
    #[arg(long, value_name = "ADDRESS")]
    tickets: String,
    /// How many minutes a package may be looked at
    #[arg(long, default_value_t = 60, value_name = "MINUTES", value_parser = clap::value_parser!(u64).range(1..=1440))]
    patience: u64,
    /// Put no tickets into files
    #[arg(long)]
    no_ticket: bool,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let patience = Duration::from_secs(args.patience * 60);
    let addresses = [args.service, args.storage, args.tickets];
    let notary = Notary::new(addresses, args.issuer, args.key_id, &args.key, patience)?;
    let mut all: Vec<Notarized> = Vec::new();
    for file in &args.files {
        let done = notary.notarize(file, !args.no_ticket, &|line| out.line(format!("  {line}")))?;
        let ticket = if done.ticket { ", and has its ticket" } else { "" };
        out.good(&format!("{}: accepted{ticket}", super::shown(file)));
        for issue in &done.issues {
            out.aside(&format!("  {}: {}", issue.path, issue.message));
        }
        all.push(done);
    }
    if out.json {
        out.result(&all);
    }
    Ok(Exit::Done)
}
