//! Signatures of macOS, as they stand in programs, disk images and bundles: what of a file is signed ([`Directory`]), how
//! it will be known again ([`Requirement`]), what it may do ([`Entitlements`]), and which files a bundle has ([`Seal`]). The
//! signed message itself is bytes here.
//!
//! Sources: Apple's open headers `cs_blobs.h` (the kernel's) and `requirement.h`, `codedirectory.h` (those of its Security
//! framework), whose numbers these are; Apple's "TN3126: Inside Code Signing"; for what stands in seals, bundles that were
//! signed by others.
//!
//! ```
//! use code_signature::{Blobs, slot};
//! let blobs = Blobs::new(vec![(slot::REQUIREMENTS, code_signature::Requirement::none())]);
//! assert_eq!(Blobs::read(&blobs.to_bytes())?, blobs);
//! # Ok::<(), code_signature::Error>(())
//! ```

mod blobs;
mod directory;
mod entitlements;
mod requirement;
mod seal;

pub use blobs::{Blobs, blob, content_of, slot};
pub use directory::{Directory, HashKind, flag, page_hashes};
pub use entitlements::Entitlements;
pub use format_error::{Error, Result};
pub use requirement::Requirement;
pub use seal::{Found, Place, Rules, Seal, Sealed};

/// By what code is told from all other code: the first twenty bytes of its directory's digest.
pub type CdHash = [u8; 20];

/// The list of a signature's directories, as the signed message holds it: a property list.
pub fn list_of_directories(all: &[CdHash]) -> Vec<u8> {
    let hashes = all.iter().map(|hash| plist::Value::Data(hash.to_vec())).collect();
    let mut list = plist::Dictionary::new();
    list.insert("cdhashes".into(), plist::Value::Array(hashes));
    let mut bytes = Vec::new();
    // Writing into memory can't fail.
    let _ = plist::Value::Dictionary(list).to_writer_xml(&mut bytes);
    bytes.push(b'\n');
    bytes
}

/// SHA-1 of some bytes.
pub fn sha1(bytes: &[u8]) -> [u8; 20] {
    use sha1::Digest;
    sha1::Sha1::digest(bytes).into()
}
