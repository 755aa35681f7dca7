//! What can be wrong with keys, certificates and signatures.

/// What kind of fault it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Bytes that are not what they should be.
    Malformed,
    /// A form that is sound, but not one that is made or checked here.
    Unsupported,
    /// The secret of a key is missing or wrong.
    Secret,
    /// A key that does not fit what is to be done with it.
    Key,
    /// A signature or a token that does not fit.
    Signature,
}

/// What is wrong, in a sentence without a full stop.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct Error {
    /// What kind.
    pub kind: Kind,
    /// The sentence. No secret is in it.
    pub what: String,
}

impl Error {
    /// Of a kind.
    pub fn new(kind: Kind, what: impl Into<String>) -> Self {
        Self { kind, what: what.into() }
    }

    /// Bytes that are not what they should be.
    pub fn malformed(what: impl Into<String>) -> Self {
        Self::new(Kind::Malformed, what)
    }

    /// A form that is not made or checked here.
    pub fn unsupported(what: impl Into<String>) -> Self {
        Self::new(Kind::Unsupported, what)
    }

    /// A signature that does not fit.
    pub fn signature(what: impl Into<String>) -> Self {
        Self::new(Kind::Signature, what)
    }
}

/// A result with such an error.
pub type Result<T, E = Error> = std::result::Result<T, E>;
