//! Any bytes as an HFS+ volume: data or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run hfs_read -- -max_len=300000`
#![no_main]

use hfs_plus::read::{Limits, Volume};
use std::io::Read;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let limits = Limits { max_entries: 5000, max_depth: 40, max_attributes: 1 << 20 };
    let Ok(volume) = Volume::open(bytes.to_vec(), limits) else { return };
    let _ = (volume.name(), volume.attributes(), hfs_plus::check::check(&volume));
    for entry in volume.entries().unwrap_or_default() {
        if let Ok(reader) = volume.read(&entry) {
            let _ = std::io::copy(&mut reader.take(1 << 20), &mut std::io::sink());
        }
    }
});
