//! Who signs, and how a signature is made and checked: keys, certificates and their chains, signed messages (CMS,
//! RFC 5652), timestamps (RFC 3161), and what the signatures of Windows and macOS hold.
//!
//! Bytes that others signed are never written anew: a certificate, a message or a token is kept as it came, and what
//! was signed is taken from those very bytes.

pub mod authenticode;
pub mod authority;
pub mod certificate;
pub mod chain;
pub mod code;
pub mod detached;
pub mod digests;
mod error;
pub mod hash;
pub mod jwt;
pub mod key;
pub mod message;
pub mod oid;
pub mod public;
pub mod raw;
pub mod service;
pub mod timestamp;
pub mod token;

pub use certificate::Certificate;
pub use error::{Error, Kind, Result};
pub use hash::Hash;
pub use key::Secret;
