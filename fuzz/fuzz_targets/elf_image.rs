//! Any bytes as an ELF file: what it needs, a run path for it, or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run elf_image -- -max_len=65536`
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let bytes = bytes.to_vec();
    let _ = elf_image::read(&bytes);
    let _ = elf_image::with_run_path(&bytes, "$ORIGIN/../lib");
});
