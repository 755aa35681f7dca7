//! Passwords and keys: taken from the environment, handed to what needs them, and overwritten when they are not needed
//! any more. They never come out of a manifest's texts, which are public.

use crate::problem::{Code, Problem};

pub use signatures::Secret;

/// Where a secret is kept. None of this is secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// In an environment variable.
    Variable(String),
    /// In the system's keyring, as `SERVICE/ACCOUNT`.
    Keyring(String),
}

impl Place {
    /// The one that a manifest or a command line names; both at once are refused before.
    pub fn of(variable: Option<String>, keyring: Option<String>) -> Option<Self> {
        variable.map(Self::Variable).or(keyring.map(Self::Keyring))
    }

    /// The secret.
    ///
    /// # Errors
    /// It is not there, or can't be had. The sentence names the place, never what is in it.
    pub fn read(&self) -> Result<Secret, Box<Problem>> {
        match self {
            Self::Variable(name) => from_environment(name),
            Self::Keyring(entry) => from_keyring(entry),
        }
    }

    /// What helps when it is not there.
    pub fn remedy(&self) -> String {
        match self {
            Self::Variable(name) => format!("set {name} for the build"),
            Self::Keyring(entry) => format!("put the secret into the keyring, as {entry}"),
        }
    }
}

/// The secret of an entry of the system's keyring: the Secret Service on Linux, the Keychain on macOS, the Credential Manager
/// on Windows.
///
/// # Errors
/// It is not there, or the keyring can't be reached or is locked.
pub fn from_keyring(entry: &str) -> Result<Secret, Box<Problem>> {
    let bad = |why: String| {
        let what = format!("the secret {entry} can't be had from the system's keyring");
        Box::new(Problem::error(Code::Secret, what).why(why))
    };
    let Some((service, account)) = entry.rsplit_once('/').filter(|(a, b)| !a.is_empty() && !b.is_empty()) else {
        return Err(Box::new(bad("it has no account".into()).instead("SERVICE/ACCOUNT")));
    };
    keyring_entry(service, account).map(Secret::new).map_err(bad)
}

#[cfg(feature = "keyring")]
fn keyring_entry(service: &str, account: &str) -> Result<String, String> {
    let entry = keyring::Entry::new(service, account).and_then(|entry| entry.get_password());
    entry.map_err(|e| match e {
        keyring::Error::NoEntry => "there is no such entry".to_owned(),
        other => other.to_string(),
    })
}

#[cfg(not(feature = "keyring"))]
fn keyring_entry(_: &str, _: &str) -> Result<String, String> {
    Err("this upper-shelf was built without it (the feature `keyring`)".into())
}

/// The value of an environment variable.
///
/// # Errors
/// It is not set, or is not Unicode. The sentence names the variable, never what is in it.
pub fn from_environment(name: &str) -> Result<Secret, Box<Problem>> {
    std::env::var(name).map(Secret::new).map_err(|e| {
        let why = match e {
            std::env::VarError::NotPresent => "it is not set",
            std::env::VarError::NotUnicode(_) => "its value is not Unicode text",
        };
        let problem = Problem::error(
            Code::UnsetVariable,
            format!("the environment variable {name}, which holds a secret, can't be used"),
        );
        let instead = format!("set {name} for this command only, from your build server's secret store");
        Box::new(problem.why(why).instead(instead))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_of_the_keyring_has_a_service_and_an_account() {
        for entry in ["", "upper-shelf", "/account", "service/"] {
            let problem = Place::of(None, Some(entry.into())).expect("a place").read().err().expect("none");
            assert_eq!(problem.instead.as_deref(), Some("SERVICE/ACCOUNT"), "{entry:?}");
        }
        let both = Place::of(Some("NAME".into()), Some("a/b".into())).expect("a place");
        assert_eq!(both.remedy(), "set NAME for the build");
        assert_eq!(Place::Keyring("a/b".into()).remedy(), "put the secret into the keyring, as a/b");
    }

    #[test]
    fn a_missing_secret_is_named_by_its_variable() {
        let problem = from_environment("UPPER_SHELF_NO_SUCH_SECRET").err().expect("not set");
        assert!(problem.what.contains("UPPER_SHELF_NO_SUCH_SECRET"));
        assert_eq!(Secret::new("hive".into()).expose(), "hive");
    }
}
