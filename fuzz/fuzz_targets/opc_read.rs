//! Any bytes as a package: parts or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run opc_read -- -max_len=65536`
#![no_main]

use opc::read::{Limits, Package};
use std::io::Read;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(package) = Package::open(bytes.to_vec(), Limits { parts: 1_000, metadata: 1 << 20 }) else { return };
    let _ = (opc::check::check(&package), opc::signature::digests(&package), opc::signature::message(&package));
    for part in package.parts() {
        let _ = package.reader(part).map(|reader| std::io::copy(&mut reader.take(1 << 20), &mut std::io::sink()));
    }
});
