//! Apple's notary, as its published interface ("Notary API") and any server that speaks it: a package is sent, looked at
//! there, and, if all is well, there is a ticket for it.

use super::ticket;
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use rusty_s3::{Bucket, Credentials, S3Action, UrlStyle};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use signatures::jwt;
use signatures::key::{PrivateKey, private_key_from_pem};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Whom tokens are for.
pub const AUDIENCE: &str = "appstoreconnect-v1";
/// The longest answer that is read, bytes.
const LONGEST: u64 = 16 << 20;
/// How long one request may take; an upload may take longer.
const PATIENCE: Duration = Duration::from_secs(60);
const UPLOAD: Duration = Duration::from_secs(4 * 3600);
/// So many answers in a row may fail to come while a package is looked at.
const MOST_FAILURES: u32 = 5;

/// Where the notary is, and who asks.
pub struct Notary {
    /// Its address.
    pub service: String,
    /// Where packages are uploaded to.
    pub storage: String,
    /// Where tickets are looked up.
    pub tickets: String,
    /// Who asks.
    pub issuer: String,
    /// The name of the key.
    pub key_id: String,
    key: PrivateKey,
    /// How long a package may be looked at.
    pub patience: Duration,
}

/// Something that the notary objects to.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Issue {
    /// `error` or `warning`.
    pub severity: String,
    /// Where.
    pub path: String,
    /// What.
    pub message: String,
    /// For which processor.
    pub architecture: Option<String>,
}

/// What became of a package.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Notarized {
    /// The package.
    pub file: PathBuf,
    /// The number under which the notary knows it.
    pub id: String,
    /// What it says besides.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub issues: Vec<Issue>,
    /// Whether it has its ticket now.
    pub ticket: bool,
}

/// Whether an address is one that secrets may be sent to: encrypted, or on this machine.
fn is_safe(address: &str) -> bool {
    let local = ["http://127.0.0.1:", "http://127.0.0.1/", "http://[::1]:", "http://localhost:"];
    address.starts_with("https://") || local.iter().any(|start| address.starts_with(start))
}

fn trouble(what: &str, why: impl std::fmt::Display) -> Failure {
    let problem = Problem::error(Code::Notary, what).why(why.to_string());
    Failure::new(Kind::Machine, problem.instead("try again later; what was sent already is found by its number"))
}

/// Words of others, without anything that could change a terminal.
fn plain(text: &str) -> String {
    crate::signing::shown(&text.chars().take(500).collect::<String>())
}

impl Notary {
    /// With the addresses and the key of whoever asks.
    ///
    /// # Errors
    /// An address is not safe, or the key can't be read.
    pub fn new(
        [service, storage, tickets]: [String; 3],
        issuer: String,
        key_id: String,
        key: &Path,
        patience: Duration,
    ) -> Result<Self, Failure> {
        let unsafe_ones = [&service, &storage, &tickets].into_iter().filter(|address| !is_safe(address));
        let problems: Vec<Problem> = unsafe_ones
            .map(|address| {
                let problem = Problem::error(Code::InvalidValue, format!("{address:?} is no address of a notary"));
                problem.why("what is sent there proves who you are").instead("an address that begins with https://")
            })
            .collect();
        if !problems.is_empty() {
            return Err(Failure::all(Kind::Problems, problems));
        }
        let bytes = zeroize::Zeroizing::new(crate::input::read(key).map_err(|e| Failure::io("can't read", key, e))?);
        let private = std::str::from_utf8(&bytes).ok().map(|text| private_key_from_pem(text, None));
        let private = private.unwrap_or_else(|| Err(signatures::Error::malformed("it is no text")));
        let private = private.map_err(|e| {
            let what = format!("the key {} can't be used", key.display());
            crate::signing::failure(Code::Key, Kind::Problems, what, key, &e)
        })?;
        Ok(Self { service, storage, tickets, issuer, key_id, key: private, patience })
    }

    fn agent(limit: Duration) -> ureq::Agent {
        let config = ureq::Agent::config_builder().timeout_global(Some(limit)).max_redirects(0);
        config.http_status_as_error(false).build().new_agent()
    }

    /// Asks, and reads the answer.
    fn ask(&self, what: &str, address: &str, body: Option<&Value>, is_known: bool) -> Result<Value, Failure> {
        let agent = Self::agent(PATIENCE);
        let token = || {
            jwt::token(&self.key, &self.key_id, &self.issuer, AUDIENCE, crate::signing::now())
                .map(|token| format!("Bearer {token}"))
                .map_err(|e| trouble("the notary can't be asked", e))
        };
        let answer = match body {
            Some(body) => {
                let mut request = agent.post(address).content_type("application/json");
                if is_known {
                    request = request.header("Authorization", token()?);
                }
                request.send(body.to_string())
            }
            None => {
                let mut request = agent.get(address);
                if is_known {
                    request = request.header("Authorization", token()?);
                }
                request.call()
            }
        };
        let mut answer = answer.map_err(|e| trouble(what, e))?;
        let status = answer.status().as_u16();
        let text = answer.body_mut().with_config().limit(LONGEST).read_to_string().map_err(|e| trouble(what, e))?;
        match status {
            200..300 => serde_json::from_str(&text).map_err(|_| trouble(what, "the answer is of another form")),
            401 | 403 => Err(trouble(what, format!("it doesn't know the key {} of {}", self.key_id, self.issuer))),
            _ => Err(trouble(what, format!("it answers {status}: {}", plain(text.trim())))),
        }
    }

    /// Sends a package, waits, and puts the ticket into it if it has room for one.
    ///
    /// # Errors
    /// The notary can't be reached, or rejects it: then all that it objects to is told.
    pub fn notarize(&self, path: &Path, wants_ticket: bool, said: &dyn Fn(&str)) -> Result<Notarized, Failure> {
        let is_zip = path.extension().is_some_and(|end| end.eq_ignore_ascii_case("zip"));
        let hash = (!is_zip).then(|| ticket::wanted(path)).transpose()?;
        let (id, issues) = if path.is_dir() {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let beside = path.with_file_name(format!(".{name}.zip{PARTIAL}"));
            let _litter = Litter::file(&beside);
            pack(path, &beside).map_err(|e| Failure::io("can't pack", path, e))?;
            self.submit(&beside, &format!("{name}.zip"), said)?
        } else {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            self.submit(path, &name, said)?
        };
        let mut done = Notarized { file: path.to_owned(), id, issues, ticket: false };
        if let Some(hash) = hash.filter(|_| wants_ticket) {
            ticket::put(path, &self.ticket(&hash)?)?;
            done.ticket = true;
        }
        Ok(done)
    }

    fn submit(&self, path: &Path, name: &str, said: &dyn Fn(&str)) -> Result<(String, Vec<Issue>), Failure> {
        let reading = |e: std::io::Error| Failure::io("can't read", path, e);
        let digits = crate::signing::sha256_of(path).map_err(reading)?;
        let all = format!("{}/notary/v2/submissions", self.service.trim_end_matches('/'));
        let body = json!({ "submissionName": name, "sha256": digits });
        let what = format!("{name} can't be sent to the notary");
        let answer = self.ask(&what, &all, Some(&body), true)?;
        let data = &answer["data"];
        let id = data["id"].as_str().unwrap_or_default().to_owned();
        let is_number = !id.is_empty() && id.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
        let attribute = |key: &str| data["attributes"][key].as_str().map(str::to_owned);
        let credentials = (|| {
            let (key, secret, session) =
                (attribute("awsAccessKeyId")?, attribute("awsSecretAccessKey")?, attribute("awsSessionToken")?);
            Some((Credentials::new_with_token(key, secret, session), attribute("bucket")?, attribute("object")?))
        })();
        let (Some((credentials, bucket, object)), true) = (credentials, is_number) else {
            return Err(trouble(&what, "the answer is of another form"));
        };
        said(&format!("{name} is sent to the notary as {id}"));
        let endpoint = self.storage.parse().map_err(|e| trouble(&what, e))?;
        let bucket = Bucket::new(endpoint, UrlStyle::Path, bucket, "us-west-2").map_err(|e| trouble(&what, e))?;
        let address = bucket.put_object(Some(&credentials), &object).sign(Duration::from_secs(3600));
        let file = File::open(path).map_err(reading)?;
        let answer = Self::agent(UPLOAD).put(address.as_str()).send(file).map_err(|e| trouble(&what, e))?;
        if !answer.status().is_success() {
            return Err(trouble(&what, format!("the storage answers {}", answer.status().as_u16())));
        }
        said(&format!("{name} is being looked at"));
        let own = format!("{all}/{id}");
        let status = self.wait(&own, name)?;
        let issues = self.issues(&own).unwrap_or_default();
        if status == "Accepted" {
            return Ok((id, issues));
        }
        let mut problems: Vec<Problem> = issues
            .iter()
            .map(|issue| {
                let of = issue.architecture.as_ref().map_or(String::new(), |of| format!(" ({})", plain(of)));
                let what = format!("{}{of}: {}", plain(&issue.path), plain(&issue.message));
                if issue.severity == "warning" {
                    Problem::warning(Code::Notary, what)
                } else {
                    Problem::error(Code::Notary, what)
                }
            })
            .collect();
        let problem = Problem::error(Code::Notary, format!("the notary has rejected {name} ({})", plain(&status)));
        problems.push(problem.on(path).why(format!("its number there is {id}")));
        Err(Failure::all(Kind::Problems, problems))
    }

    /// Waits until a package has been looked at.
    fn wait(&self, own: &str, name: &str) -> Result<String, Failure> {
        let began = Instant::now();
        let what = format!("what the notary thinks of {name} is not known");
        let (mut pause, mut failures) = (Duration::from_millis(200), 0);
        loop {
            match self.ask(&what, own, None, true) {
                Ok(answer) => {
                    failures = 0;
                    match answer["data"]["attributes"]["status"].as_str() {
                        Some("In Progress") => {}
                        Some(status) => return Ok(status.to_owned()),
                        None => return Err(trouble(&what, "the answer is of another form")),
                    }
                }
                Err(failure) if failures >= MOST_FAILURES => return Err(failure),
                Err(_) => failures += 1,
            }
            if began.elapsed() > self.patience {
                return Err(trouble(&what, format!("it takes longer than {} minutes", self.patience.as_secs() / 60)));
            }
            std::thread::sleep(pause);
            pause = (pause * 3 / 2).min(Duration::from_secs(30));
        }
    }

    /// What the notary objects to.
    fn issues(&self, own: &str) -> Option<Vec<Issue>> {
        let what = "the notary's reasons can't be had";
        let answer = self.ask(what, &format!("{own}/logs"), None, true).ok()?;
        let address = answer["data"]["attributes"]["developerLogUrl"].as_str().filter(|address| is_safe(address))?;
        // It is signed by itself; whoever asks need not say who that is.
        let log = self.ask(what, address, None, false).ok()?;
        serde_json::from_value(log["issues"].clone()).ok()
    }

    /// The ticket for code.
    fn ticket(&self, hash: &code_signature::CdHash) -> Result<Vec<u8>, Failure> {
        use base64ct::{Base64, Encoding};
        let what = "the notary has no ticket for it";
        let digits = crate::signing::hexadecimal(hash);
        // Of digests by SHA-256, whose number is 2.
        let body = json!({ "records": [{ "recordName": format!("2/2/{digits}") }] });
        let answer = self.ask(what, &self.tickets, Some(&body), false)?;
        let value = answer["records"][0]["fields"]["signedTicket"]["value"].as_str();
        let bytes = value.and_then(|text| Base64::decode_vec(text).ok());
        let bytes = bytes.filter(|bytes| !bytes.is_empty() && bytes.len() as u64 <= ticket::LONGEST);
        bytes.ok_or_else(|| trouble(what, "the answer holds none"))
    }
}

/// An archive of a bundle, as the notary takes it.
fn pack(bundle: &Path, to: &Path) -> std::io::Result<()> {
    use super::tree::Item;
    use zip::write::SimpleFileOptions;
    let (_, tree) = super::inside::folder(bundle)?;
    let mut archive = zip::ZipWriter::new(File::create(to)?);
    let options = SimpleFileOptions::default().large_file(true);
    for (path, item) in &tree.0 {
        match item {
            Item::Folder => archive.add_directory(path, options.unix_permissions(0o755))?,
            Item::Link(target) => archive.add_symlink(path, target, options.unix_permissions(0o777))?,
            Item::File(source) => {
                // Whether it may be started is not what the notary looks at.
                archive.start_file(path, options.unix_permissions(0o755))?;
                std::io::copy(&mut read_at::Cursor::new(source.open()?), &mut archive)?;
            }
        }
    }
    archive.finish()?.flush()
}

/// What a notary objects to in a package, as far as that is published: code that is not signed with a certificate, not as it
/// was signed, without a timestamp, or without the hardened runtime.
///
/// # Errors
/// It can't be read.
pub fn objections(path: &Path, name: &str, roots: &[signatures::Certificate]) -> Result<Vec<Issue>, Failure> {
    let now = crate::signing::now();
    if !name.ends_with(".zip") {
        return Ok(of_verdict(
            &super::super::file::verify(path, roots, now, super::super::file::Depth::Inside(1))?,
            name,
            true,
        ));
    }
    let trouble = |e: std::io::Error| Failure::io("can't unpack", path, e);
    let mut beside = path.as_os_str().to_owned();
    beside.push(".unpacked");
    let folder = PathBuf::from(beside);
    std::fs::create_dir_all(&folder).map_err(trouble)?;
    let _litter = Litter::folder(&folder);
    let unpacked = File::open(path).and_then(|file| Ok(zip::ZipArchive::new(file)?.extract(&folder)?));
    unpacked.map_err(trouble)?;
    let mut all = Vec::new();
    for entry in std::fs::read_dir(&folder).map_err(trouble)? {
        let entry = entry.map_err(trouble)?;
        let verdict = super::super::file::verify(&entry.path(), roots, now, super::super::file::Depth::Inside(1))?;
        all.extend(of_verdict(&verdict, &format!("{name}/{}", entry.file_name().to_string_lossy()), false));
    }
    Ok(all)
}

fn of_verdict(verdict: &crate::signing::Verdict, name: &str, is_image: bool) -> Vec<Issue> {
    let mut all = Vec::new();
    let mut add = |path: &str, what: &str| {
        all.push(Issue { severity: "error".into(), path: path.into(), message: what.into(), architecture: None });
    };
    let mut look = |path: &str, problems: &[String], facts: Option<&crate::signing::SignatureFacts>, is_code: bool| {
        problems.iter().for_each(|problem| add(path, problem));
        let Some(facts) = facts else { return };
        facts.untrusted.iter().for_each(|problem| add(path, problem));
        if facts.timestamp.is_none() {
            add(path, "its signature has no timestamp");
        }
        if is_code && facts.code.as_ref().is_some_and(|code| !code.hardened_runtime) {
            add(path, "the hardened runtime does not guard it");
        }
    };
    look(name, &verdict.problems, verdict.signatures.first(), !is_image);
    for inside in &verdict.inside {
        // What is untrusted stands among its problems already.
        let facts =
            inside.signature.clone().map(|facts| crate::signing::SignatureFacts { untrusted: Vec::new(), ..facts });
        look(&format!("{name}/{}", inside.path), &inside.problems, facts.as_ref(), true);
    }
    all
}
