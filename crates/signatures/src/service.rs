//! Keys that only an outside service uses: a program of its own stands between, and gets digests and gives signatures, one
//! line of JSON each.
//!
//! The fields are those of the Cloud Signature Consortium's API (version 2): `credentials/info` asks for the certificate and
//! `signatures/signHash` for signatures. What comes back is checked like what comes from anybody.

use crate::key::{Identity, Signer};
use crate::public::PublicKey;
use crate::{Certificate, Error, Hash, Kind, Result};
use base64ct::{Base64, Encoding};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// How such a key is named: the program's path follows.
pub const SCHEME: &str = "program:";
/// How long one answer may take: a person may have to agree.
pub const PATIENCE: Duration = Duration::from_secs(300);
/// The longest line that is read, bytes.
const LONGEST: u64 = 1 << 20;

/// What is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "method")]
pub enum Request {
    /// Which certificate the key has.
    #[serde(rename = "credentials/info")]
    Info {
        /// All of them up to the authority: `chain`.
        certificates: String,
    },
    /// A signature of a digest.
    #[serde(rename = "signatures/signHash")]
    SignHash {
        /// The digest, in Base64; always one.
        hashes: Vec<String>,
        /// Its kind, as a number with dots.
        #[serde(rename = "hashAlgorithmOID")]
        hash_algorithm: String,
        /// How the signature is made, as a number with dots.
        #[serde(rename = "signAlgo")]
        sign_algorithm: String,
    },
}

/// What is answered.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Answer {
    /// The certificate of the key, and those above it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cert: Option<Certificates>,
    /// The signature, in Base64: as RSA gives it; for ECDSA two numbers in DER.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub signatures: Vec<String>,
    /// What went wrong, in a word.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// What went wrong, in a sentence.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_description: Option<String>,
}

/// Certificates.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Certificates {
    /// Each in DER, in Base64.
    pub certificates: Vec<String>,
}

impl Answer {
    /// With certificates.
    pub fn certificates(all: &[Certificate]) -> Self {
        let certificates = all.iter().map(|one| Base64::encode_string(one.der())).collect();
        Self { cert: Some(Certificates { certificates }), ..Self::default() }
    }

    /// With a signature.
    pub fn signature(bytes: &[u8]) -> Self {
        Self { signatures: vec![Base64::encode_string(bytes)], ..Self::default() }
    }

    /// With what went wrong.
    pub fn failed(error: &str, why: &str) -> Self {
        Self { error: Some(error.into()), error_description: Some(why.into()), ..Self::default() }
    }
}

/// A digest out of a request.
///
/// # Errors
/// It is none.
pub fn digest(text: &str) -> Result<Vec<u8>> {
    Base64::decode_vec(text).map_err(|_| Error::malformed("it is not in Base64"))
}

/// A program that runs.
struct Talk {
    child: Child,
    input: ChildStdin,
    lines: Receiver<std::io::Result<String>>,
}

impl Drop for Talk {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Talk {
    fn begin(program: &Path) -> std::io::Result<Self> {
        let mut child = Command::new(program).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let (Some(input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(std::io::Error::other("it has no input or output"));
        };
        let (sender, lines) = channel();
        std::thread::spawn(move || {
            let mut output = BufReader::new(output);
            loop {
                let mut line = String::new();
                let read = (&mut output).take(LONGEST).read_line(&mut line);
                let is_over = !matches!(read, Ok(n) if n > 0);
                if sender.send(read.map(|_| line)).is_err() || is_over {
                    break;
                }
            }
        });
        Ok(Self { child, input, lines })
    }
}

/// A key that a program uses for us.
struct Service {
    program: PathBuf,
    patience: Duration,
    talk: Mutex<Option<Talk>>,
    public: Option<PublicKey>,
}

/// What others wrote, without anything that could change a terminal, and not too much of it.
fn plain(text: &str) -> String {
    text.chars().take(300).map(|c| if c.is_control() { ' ' } else { c }).collect::<String>().trim().to_owned()
}

impl Service {
    fn ask(&self, request: &Request) -> Result<Answer> {
        let bad = |what: String| Error::new(Kind::Key, what);
        let mut talk = self.talk.lock().unwrap_or_else(PoisonError::into_inner);
        let mut own = match talk.take() {
            Some(own) => own,
            None => Talk::begin(&self.program).map_err(|e| bad(format!("the program can't be started: {e}")))?,
        };
        let mut line = serde_json::to_vec(request).map_err(|e| bad(e.to_string()))?;
        line.push(b'\n');
        let sent = own.input.write_all(&line).and_then(|()| own.input.flush());
        // One that has ended already is told like one that ends now.
        if let Err(e) = sent
            && e.kind() != std::io::ErrorKind::BrokenPipe
        {
            return Err(bad(format!("the program doesn't listen: {e}")));
        }
        let line = match own.lines.recv_timeout(self.patience) {
            Ok(line) => line.map_err(|e| bad(format!("the program's answer can't be read: {e}")))?,
            Err(RecvTimeoutError::Timeout) => {
                return Err(bad(format!("the program doesn't answer within {} seconds", self.patience.as_secs())));
            }
            Err(RecvTimeoutError::Disconnected) => return Err(bad("the program ended without an answer".into())),
        };
        if line.is_empty() {
            return Err(bad("the program ended without an answer".into()));
        }
        let answer: Answer = serde_json::from_str(&line)
            .map_err(|_| bad(format!("what the program answers is no line of JSON: {}", plain(&line))))?;
        if let Some(error) = &answer.error {
            let why = answer.error_description.as_deref().unwrap_or(error);
            return Err(bad(format!("the service says: {}", plain(why))));
        }
        // One that has failed is started anew the next time.
        *talk = Some(own);
        Ok(answer)
    }
}

impl Signer for Service {
    fn public_key(&self) -> &PublicKey {
        // It is known before anybody gets hold of the key.
        self.public.as_ref().unwrap_or_else(|| unreachable!("a service without a certificate"))
    }

    fn sign_digest(&self, hash: Hash, digest: &[u8]) -> Result<Vec<u8>> {
        let request = Request::SignHash {
            hashes: vec![Base64::encode_string(digest)],
            hash_algorithm: hash.oid().to_string(),
            sign_algorithm: self.public_key().scheme_number(hash),
        };
        let answer = self.ask(&request)?;
        let [signature] = &answer.signatures[..] else {
            let what = format!("the service gives {} signatures for one digest", answer.signatures.len());
            return Err(Error::new(Kind::Key, what));
        };
        Base64::decode_vec(signature).map_err(|_| Error::new(Kind::Key, "the service's signature is not in Base64"))
    }
}

/// The key that a program uses for us; its certificate is asked for if it isn't given.
///
/// # Errors
/// The program can't be started, or doesn't answer as it should within `patience`.
pub fn identity(program: &Path, given: Option<Vec<Certificate>>, patience: Duration) -> Result<Identity> {
    let mut service = Service { program: program.to_owned(), patience, talk: Mutex::new(None), public: None };
    let chain = match given {
        Some(chain) => chain,
        None => {
            let answer = service.ask(&Request::Info { certificates: "chain".into() })?;
            let all = answer.cert.map(|cert| cert.certificates).unwrap_or_default();
            let read = |text: &String| {
                let der = Base64::decode_vec(text);
                der.map_err(|_| Error::malformed("a certificate of the service is not in Base64"))
                    .and_then(|der| Certificate::from_der(&der))
            };
            all.iter().map(read).collect::<Result<Vec<_>>>()?
        }
    };
    let own = chain.first().ok_or_else(|| Error::new(Kind::Key, "the service has no certificate for its key"))?;
    service.public = Some(own.public_key()?);
    Identity::new(Box::new(service), chain)
}
