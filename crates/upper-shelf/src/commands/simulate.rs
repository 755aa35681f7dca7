//! `simulate`

use crate::exit::Exit;
use crate::output::Output;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::PathBuf;
use upper_shelf_core::signing::{self, Keys, test_keys};
use upper_shelf_core::{Failure, Kind};

/// Serve a stand-in for an outside service on this machine only, for tests and demonstrations
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(subcommand)]
    service: StandIn,
}

#[derive(Debug, clap::Subcommand)]
enum StandIn {
    Timestamps(TimestampsArgs),
    SigningService(SigningServiceArgs),
    Notary(super::simulate_notary::Args),
}

/// A service that keeps a key, as `--key program:…` talks to it: a line of JSON in, a line of JSON out
#[derive(Debug, clap::Args)]
struct SigningServiceArgs {
    /// The folder of the keys, which `keys make` made
    keys: PathBuf,
    /// How long it takes for each answer
    #[arg(long, default_value_t = 0, value_name = "MILLISECONDS")]
    delay: u64,
    /// After so many signatures it refuses
    #[arg(long, value_name = "NUMBER")]
    fail_after: Option<u64>,
    /// It signs something other than what it is asked to
    #[arg(long)]
    lie: bool,
}

/// An authority for timestamps (RFC 3161), with keys that `keys make` made; it runs until it is stopped
#[derive(Debug, clap::Args)]
struct TimestampsArgs {
    /// The folder of the keys
    keys: PathBuf,
    /// The port; 0 for any that is free
    #[arg(long, default_value_t = 0, value_name = "NUMBER")]
    port: u16,
}

/// What `simulate` prints when it is ready.
#[derive(serde::Serialize, schemars::JsonSchema)]
pub struct Ready {
    /// Where it listens.
    pub address: String,
}

/// Answers until nobody asks any more.
fn signing_service(args: &SigningServiceArgs) -> Result<Exit, Failure> {
    let answer = test_keys::signing_service(&args.keys)?;
    let trouble = |e: std::io::Error| Failure::io("can't write", std::path::Path::new("standard output"), e);
    let mut signed = 0;
    for line in std::io::stdin().lines() {
        let Ok(mut line) = line else { break };
        std::thread::sleep(std::time::Duration::from_millis(args.delay));
        let is_wish = line.contains("signHash");
        signed += u64::from(is_wish);
        if is_wish && args.lie {
            // Another digest of the same length.
            if let Some((before, after)) = line.split_once("\"hashes\":[\"") {
                let first = if after.starts_with('A') { 'B' } else { 'A' };
                line = format!("{before}\"hashes\":[\"{first}{}", after.get(1..).unwrap_or_default());
            }
        }
        let refuses = is_wish && args.fail_after.is_some_and(|most| signed > most);
        let said = match refuses {
            true => r#"{"error":"access_denied","error_description":"no more signatures today"}"#.to_owned(),
            false => answer(&line),
        };
        let mut out = std::io::stdout().lock();
        writeln!(out, "{said}").and_then(|()| out.flush()).map_err(trouble)?;
    }
    Ok(Exit::Done)
}

/// The longest request that is read, bytes.
const LONGEST_REQUEST: u64 = 64 << 10;

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let args = match args.service {
        StandIn::Timestamps(args) => args,
        StandIn::SigningService(args) => return signing_service(&args),
        StandIn::Notary(args) => return super::simulate_notary::run(&args, out),
    };
    let (key, certificate) = test_keys::timestamps_of(&args.keys);
    let who = signing::identity(&Keys { key, certificates: Some(certificate) }, &|| Ok(None))?;
    let unusable = |e: std::io::Error| Failure::io("can't listen on", std::path::Path::new("127.0.0.1"), e);
    let listener = TcpListener::bind(("127.0.0.1", args.port)).map_err(unusable)?;
    let address = format!("http://{}/", listener.local_addr().map_err(unusable)?);
    let server = tiny_http::Server::from_listener(listener, None);
    let server = server.map_err(|e| Failure::io("can't listen on", "127.0.0.1".as_ref(), std::io::Error::other(e)))?;
    if out.json {
        out.result(&Ready { address });
    } else {
        out.good(&format!("timestamps at {address}"));
    }
    let mut number = 0;
    for mut request in server.incoming_requests() {
        let mut asked = Vec::new();
        if request.as_reader().take(LONGEST_REQUEST).read_to_end(&mut asked).is_err() {
            continue;
        }
        number += 1;
        let answer = test_keys::stamp(&asked, &who, signing::now(), number).map_err(|e| {
            let problem =
                upper_shelf_core::problem::Problem::error(upper_shelf_core::problem::Code::Key, e.to_string());
            Failure::new(Kind::Machine, problem)
        })?;
        out.detail(format!("answer {number}: {} bytes", answer.len()));
        let header = tiny_http::Header::from_bytes("Content-Type", "application/timestamp-reply");
        let mut response = tiny_http::Response::from_data(answer);
        if let Ok(header) = header {
            response.add_header(header);
        }
        // Whoever no longer listens has lost nothing but an answer.
        let _ = request.respond(response);
    }
    Ok(Exit::Done)
}
