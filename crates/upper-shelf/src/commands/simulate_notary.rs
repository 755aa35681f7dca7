//! `simulate notary`

use crate::exit::Exit;
use crate::output::Output;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::io::Read;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tiny_http::{Header, Method, Request, Response, Server};
use upper_shelf_core::Failure;
use upper_shelf_core::signing::macos::notary::{self, Issue};
use upper_shelf_core::signing::{self, Certificate, test_keys};

/// A notary for macOS, with the storage that packages are uploaded to and the place where tickets are looked up
///
/// Requests have to be signed with the folder's key for code. It accepts what is signed under the folder's own authority with the
/// hardened runtime and a timestamp.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder of the keys, which `keys make` made
    keys: PathBuf,
    /// The port; 0 for any that is free
    #[arg(long, default_value_t = 0, value_name = "NUMBER")]
    port: u16,
    /// How long a package is looked at
    #[arg(long, default_value_t = 0, value_name = "MILLISECONDS")]
    delay: u64,
    /// It rejects whatever comes
    #[arg(long)]
    reject: bool,
}

/// What was sent.
struct Submission {
    name: String,
    sha256: String,
    file: PathBuf,
    issues: Option<Vec<Issue>>,
    since: Instant,
}

/// The notary's memory.
struct Notary {
    address: String,
    roots: Vec<Certificate>,
    customer: Certificate,
    folder: PathBuf,
    all: HashMap<String, Submission>,
    delay: Duration,
    rejects: bool,
}

/// The longest question that is read, bytes.
const LONGEST: u64 = 64 << 10;
const BUCKET: &str = "packages";
const SESSION: &str = "for-one-hour";

pub fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let roots = signing::certificates(&args.keys.join("test-authority.pem"))?;
    let customer = test_keys::code_certificate(&args.keys)?;
    let unusable = |e: std::io::Error| Failure::io("can't listen on", Path::new("127.0.0.1"), e);
    let listener = TcpListener::bind(("127.0.0.1", args.port)).map_err(unusable)?;
    let address = format!("http://{}/", listener.local_addr().map_err(unusable)?);
    let server = Server::from_listener(listener, None).map_err(|e| unusable(std::io::Error::other(e)))?;
    if out.json {
        out.result(&super::simulate::Ready { address: address.clone() });
    } else {
        out.good(&format!("notary at {address}, storage at {address}storage, tickets at {address}tickets"));
    }
    let folder = std::env::temp_dir().join(format!("upper-shelf-notary-{}", std::process::id()));
    std::fs::create_dir_all(&folder).map_err(|e| Failure::io("can't create", &folder, e))?;
    let delay = Duration::from_millis(args.delay);
    let mut notary = Notary { address, roots, customer, folder, all: HashMap::new(), delay, rejects: args.reject };
    for mut request in server.incoming_requests() {
        let (status, answer) = notary.answer(&mut request);
        let header = Header::from_bytes("Content-Type", "application/json");
        let mut response = Response::from_string(answer.to_string()).with_status_code(status);
        if let Ok(header) = header {
            response.add_header(header);
        }
        // Whoever no longer listens has lost nothing but an answer.
        let _ = request.respond(response);
    }
    Ok(Exit::Done)
}

fn failed(status: u16, why: &str) -> (u16, Value) {
    (status, json!({ "errors": [{ "status": status.to_string(), "detail": why }] }))
}

impl Drop for Notary {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

impl Notary {
    fn answer(&mut self, request: &mut Request) -> (u16, Value) {
        let url = request.url().to_owned();
        let path = url.split('?').next().unwrap_or_default().to_owned();
        let parts: Vec<&str> = path.trim_matches('/').split('/').collect();
        let method = request.method().clone();
        match (&method, &parts[..]) {
            (Method::Put, ["storage", BUCKET, id]) => self.take(&url, id, request),
            (Method::Post, ["tickets"]) => self.ticket(request),
            (Method::Get, ["logs", id]) => match self.all.get(*id) {
                Some(one) => (200, json!({ "jobId": id, "issues": one.issues })),
                None => failed(404, "no such log"),
            },
            (_, ["notary", "v2", "submissions", ..]) if !self.knows(request) => failed(401, "who asks is not known"),
            (Method::Post, ["notary", "v2", "submissions"]) => self.submit(request),
            (Method::Get, ["notary", "v2", "submissions", id]) => self.status(id),
            (Method::Get, ["notary", "v2", "submissions", id, "logs"]) => {
                let log = format!("{}logs/{id}", self.address);
                (200, json!({ "data": { "id": id, "attributes": { "developerLogUrl": log } } }))
            }
            _ => failed(404, "there is nothing here"),
        }
    }

    fn knows(&self, request: &Request) -> bool {
        let header = request.headers().iter().find(|header| header.field.equiv("Authorization"));
        let token = header.and_then(|header| header.value.as_str().strip_prefix("Bearer "));
        token.is_some_and(|token| test_keys::is_customer(&self.customer, token, notary::AUDIENCE, signing::now()))
    }

    fn body(request: &mut Request) -> Value {
        let mut text = String::new();
        let read = request.as_reader().take(LONGEST).read_to_string(&mut text);
        read.ok().and_then(|_| serde_json::from_str(&text).ok()).unwrap_or_default()
    }

    fn submit(&mut self, request: &mut Request) -> (u16, Value) {
        let body = Self::body(request);
        let text = |key: &str| body[key].as_str().unwrap_or_default().to_owned();
        let (name, sha256) = (text("submissionName"), text("sha256"));
        if name.is_empty() || sha256.len() != 64 {
            return failed(400, "a name and a digest are needed");
        }
        let id = format!("submission-{}", self.all.len() + 1);
        let file = self.folder.join(&id).with_extension(name.rsplit('.').next().unwrap_or("dmg"));
        self.all.insert(id.clone(), Submission { name, sha256, file, issues: None, since: Instant::now() });
        let attributes = json!({
            "awsAccessKeyId": "TESTKEY", "awsSecretAccessKey": "test-secret", "awsSessionToken": SESSION,
            "bucket": BUCKET, "object": id,
        });
        (200, json!({ "data": { "id": id, "type": "newSubmissions", "attributes": attributes } }))
    }

    fn take(&mut self, url: &str, id: &str, request: &mut Request) -> (u16, Value) {
        let is_signed = url.contains("X-Amz-Signature=") && url.contains(&format!("X-Amz-Security-Token={SESSION}"));
        let Some(one) = self.all.get_mut(id).filter(|_| is_signed) else { return failed(403, "no upload is expected") };
        let stored =
            std::fs::File::create(&one.file).and_then(|mut file| std::io::copy(request.as_reader(), &mut file));
        if stored.is_err() {
            return failed(500, "it can't be stored");
        }
        let issue = |message: &str| Issue {
            severity: "error".into(),
            path: one.name.clone(),
            message: message.to_owned(),
            architecture: None,
        };
        let issues = if self.rejects {
            vec![issue("nothing is accepted here")]
        } else if signing::sha256_of(&one.file).ok().as_ref() != Some(&one.sha256) {
            vec![issue("it is not what was announced")]
        } else {
            let found = notary::objections(&one.file, &one.name, &self.roots);
            found.unwrap_or_else(|failure| failure.problems.iter().map(|problem| issue(&problem.what)).collect())
        };
        (one.issues, one.since) = (Some(issues), Instant::now());
        (200, json!({}))
    }

    fn status(&self, id: &str) -> (u16, Value) {
        let Some(one) = self.all.get(id) else { return failed(404, "no such submission") };
        let status = match &one.issues {
            Some(_) if one.since.elapsed() < self.delay => "In Progress",
            None => "In Progress",
            Some(issues) if issues.is_empty() => "Accepted",
            Some(_) => "Invalid",
        };
        (200, json!({ "data": { "id": id, "attributes": { "status": status, "name": one.name } } }))
    }

    fn ticket(&self, request: &mut Request) -> (u16, Value) {
        let body = Self::body(request);
        let name = body["records"][0]["recordName"].as_str().unwrap_or_default().to_owned();
        let ticket = format!("TEST TICKET, which no Mac trusts, for {name}");
        let value = test_keys::base64(ticket.as_bytes());
        (
            200,
            json!({ "records": [{ "recordName": name, "fields": { "signedTicket": { "type": "BYTES", "value": value } } }] }),
        )
    }
}
