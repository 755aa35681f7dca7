//! Any bytes as a Java class file: a class or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run java_class -- -max_len=65536`
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = java_class::read(bytes);
});
