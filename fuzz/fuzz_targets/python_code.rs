//! Any bytes as a compiled module and as a source: imports or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run python_code -- -max_len=65536`
#![no_main]

use python_code::{Compiled, in_source, unchecked};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let read = Compiled::read(bytes);
    if let Some(made) = unchecked(bytes) {
        assert_eq!(Compiled::read(&made).is_ok(), read.is_ok());
    }
    let _ = in_source(&String::from_utf8_lossy(bytes));
});
