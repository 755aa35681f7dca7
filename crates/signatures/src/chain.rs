//! From a certificate to an authority that is trusted (RFC 5280, 6), as far as that can be known without asking anybody.

use crate::Certificate;
use crate::certificate::Purpose;

/// More than any chain has.
const LONGEST: usize = 12;

/// The way up, and what is wrong with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chain {
    /// The certificate itself, then the issuer of each.
    pub certificates: Vec<Certificate>,
    /// Why it does not end at one of the trusted authorities, if it does not.
    pub untrusted: Option<String>,
    /// What else is wrong, in sentences without full stops.
    pub problems: Vec<String>,
}

/// What is wrong with a signature, and with its timestamp.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Doubts {
    /// Why whoever signed is not trusted.
    pub untrusted: Vec<String>,
    /// Everything else.
    pub faults: Vec<String>,
}

impl Doubts {
    /// Of a chain, and of the one of a timestamp.
    pub fn of(chain: &Chain, stamp: Option<&Chain>) -> Self {
        let mut all = Self { untrusted: chain.untrusted.iter().cloned().collect(), faults: chain.problems.clone() };
        let prefixed = |what: &String| format!("its timestamp: {what}");
        all.untrusted.extend(stamp.iter().flat_map(|chain| &chain.untrusted).map(prefixed));
        all.faults.extend(stamp.iter().flat_map(|chain| &chain.problems).map(prefixed));
        all
    }

    /// All of them.
    pub fn all(self) -> Vec<String> {
        [self.untrusted, self.faults].concat()
    }
}

/// Looks for the way from a certificate to a trusted authority, among others that came with it, at a time (seconds since
/// 1970). Nobody is asked whether a certificate was revoked.
pub fn chain(
    certificate: &Certificate,
    others: &[Certificate],
    roots: &[Certificate],
    at: u64,
    purpose: Purpose,
) -> Chain {
    let mut all = vec![certificate.clone()];
    let mut problems: Vec<String> = Vec::new();
    let mut is_trusted = roots.contains(certificate);
    while !is_trusted && all.len() < LONGEST {
        let last = &all[all.len() - 1];
        let issued = |other: &&Certificate| {
            other.subject_der() == last.issuer_der() && !all.contains(other) && last.is_signed_by(other).is_ok()
        };
        if let Some(root) = roots.iter().find(issued) {
            all.push(root.clone());
            is_trusted = true;
        } else if let Some(other) = others.iter().find(issued) {
            all.push(other.clone());
        } else {
            break;
        }
    }
    let untrusted = (!is_trusted).then(|| {
        let last = &all[all.len() - 1];
        if last.is_self_signed() {
            format!("the chain ends at “{}”, which is not among the trusted authorities", last.name())
        } else {
            format!("the certificate of “{}”, which issued “{}”, is missing", last.issuer_name(), last.name())
        }
    });
    if let Some(why) = certificate.unfit_for(purpose) {
        problems.push(format!("“{}”: {why}", certificate.name()));
    }
    for (n, one) in all.iter().enumerate() {
        let name = one.name();
        // An authority that is trusted is trusted by its key; its own dates count for nothing (RFC 5280, 6.1.1).
        let is_anchor = is_trusted && n + 1 == all.len() && n > 0;
        if !is_anchor && at < one.not_before() {
            problems.push(format!("the certificate “{name}” was not yet valid"));
        }
        if !is_anchor && at > one.not_after() {
            problems.push(format!("the certificate “{name}” had expired"));
        }
        if let Some(demand) = one.unknown_demand() {
            problems.push(format!("the certificate “{name}” demands something that is not known here ({demand})"));
        }
        match one.public_key() {
            Ok(key) if key.is_weak() => problems.push(format!("the key of “{name}” is weak: {}", key.title())),
            Ok(_) => {}
            Err(e) => problems.push(format!("“{name}”: {e}")),
        }
        if n > 0 {
            match one.authority() {
                None => problems.push(format!("“{name}” isn't a certificate authority")),
                Some(Some(most)) if usize::from(most) < n - 1 => {
                    problems.push(format!("“{name}” may not issue certificates of other authorities"));
                }
                Some(_) => {}
            }
        }
    }
    Chain { certificates: all, untrusted, problems }
}
