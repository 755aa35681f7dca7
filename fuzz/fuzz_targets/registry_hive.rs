//! Any bytes as a registry hive: keys or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run registry_hive -- -max_len=65536`
#![no_main]

use registry_hive::{Limits, Options, check, read_within, write};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = check(bytes);
    if let Ok(root) = read_within(bytes, Limits { items: 10_000, bytes: 8 << 20 }) {
        if let Ok(again) = write(&root, &Options::default()) {
            assert!(check(&again).is_ok_and(|found| found.is_empty()));
        }
    }
});
