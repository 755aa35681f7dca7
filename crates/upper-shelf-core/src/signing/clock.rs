//! Authorities for timestamps, over HTTP (RFC 3161, 3.4).

use crate::problem::{Code, Failure, Kind, Problem};
use signatures::timestamp::{self, LONGEST_ANSWER, Request};
use signatures::{Certificate, Error, Hash};
use std::time::Duration;

/// How long one authority may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// What addresses look like.
pub(super) const ADDRESSES: &str = "authorities are asked over http:// or https://";

/// Whether an authority can have an address. What it answers is signed: a plain connection will do.
pub(super) fn is_address(text: &str) -> bool {
    ["http://", "https://"].iter().any(|scheme| text.strip_prefix(scheme).is_some_and(|rest| !rest.is_empty()))
}

/// Authorities, asked in their order until one answers.
#[derive(Debug, Clone, Default)]
pub struct Clock {
    /// Their addresses.
    pub addresses: Vec<String>,
    /// Whom to trust; with none, whatever is signed as it should be is taken.
    pub roots: Vec<Certificate>,
}

impl Clock {
    /// A timestamp of a signature.
    ///
    /// # Errors
    /// None of them gave one; all of their reasons are told.
    pub fn stamp(&self, signature: &[u8]) -> Result<Vec<u8>, Failure> {
        let mut reasons = Vec::new();
        for address in &self.addresses {
            match self.ask(address, signature) {
                Ok(token) => return Ok(token),
                Err(why) => reasons.push(format!("{address}: {why}")),
            }
        }
        let problem = Problem::error(Code::NoTimestamp, "there is no timestamp").why(reasons.join("; "));
        let instead = "try again later, or name further authorities; nothing was signed";
        Err(Failure::new(Kind::Machine, problem.instead(instead)))
    }

    fn ask(&self, address: &str, signature: &[u8]) -> Result<Vec<u8>, Error> {
        if !is_address(address) {
            return Err(Error::unsupported(ADDRESSES));
        }
        let request = Request::of(Hash::Sha256, signature)?;
        let agent = ureq::Agent::config_builder().timeout_global(Some(PATIENCE)).max_redirects(3).build().new_agent();
        let unreachable = |e: ureq::Error| match e {
            ureq::Error::Io(e) => Error::malformed(e.to_string()),
            other => Error::malformed(other.to_string()),
        };
        let mut response = agent
            .post(address)
            .content_type("application/timestamp-query")
            .send(&request.der()[..])
            .map_err(unreachable)?;
        let answer = response.body_mut().with_config().limit(LONGEST_ANSWER).read_to_vec().map_err(unreachable)?;
        let token = timestamp::token(&answer).map_err(|e| match e.kind {
            signatures::Kind::Malformed => Error::malformed("what it answers is no timestamp"),
            _ => e,
        })?;
        timestamp::check_answer(token, signature, &request, &self.roots)?;
        Ok(token.to_vec())
    }
}
