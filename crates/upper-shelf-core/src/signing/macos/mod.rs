//! Signatures of macOS: every program gets one, with a key or without, for a Mac with Apple's own processors starts none
//! that has none. Bundles are sealed from the inside out.

mod code;
mod image;
pub(in crate::signing) mod inside;
mod interpreters;
pub mod notary;
mod product;
mod seal;
pub mod ticket;
mod tree;
mod verify;

pub(in crate::signing) use code::parts_of;
pub use code::{Again, CodeSigner};
pub use image::sign_image;
pub(super) use image::{DiskImage, verify_image};
pub use product::{check, entitlement, entitlements, list, planned};
pub(in crate::signing) use seal::signer_of;
pub use seal::{AD_HOC, Outcome};
pub use tree::{Item, Tree, bundle_of, may_be_code};
pub(super) use verify::{verify_bundle, verify_code};
