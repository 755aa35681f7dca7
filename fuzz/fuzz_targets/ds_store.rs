//! Any bytes as a folder's window, and as an alias: data or an error.
//! `cargo +nightly fuzz run ds_store -- -max_len=20000`
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(records) = ds_store::read(bytes) {
        let _ = ds_store::Window::of(&records);
    }
    let _ = ds_store::Alias::read(bytes);
});
