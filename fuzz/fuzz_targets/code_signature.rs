//! Any bytes as a signature of macOS and its parts, or as a seal: data or an error.
//! `cargo +nightly fuzz run code_signature -- -max_len=100000`
#![no_main]

use code_signature::{Blobs, Directory, Entitlements, Requirement, Seal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(blobs) = Blobs::read(bytes) {
        for (_, part) in &blobs.parts {
            let _ = (Directory::read(part), Requirement::read(part), Entitlements::read(part));
        }
    }
    let _ = (Directory::read(bytes), Requirement::read(bytes), Entitlements::from_list(bytes));
    if let Ok(found) = Seal::read(bytes) {
        let _ = (found.rules.place("MacOS/hive"), found.seal.to_bytes());
    }
});
