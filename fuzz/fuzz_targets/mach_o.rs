//! Any bytes as a Mach-O file: data or an error.
//! `cargo +nightly fuzz run mach_o -- -max_len=100000`
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let bytes = bytes.to_vec();
    if let Ok(Some(_)) = mach_o::read(&bytes) {
        let _ = mach_o::join(&[bytes], std::io::sink());
    }
});
