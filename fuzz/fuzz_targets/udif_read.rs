//! Any bytes as a disk image: data or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run udif_read -- -max_len=300000`
#![no_main]

use read_at::ReadAt;
use udif::read::{Image, Limits};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(image) = Image::open(bytes.to_vec(), Limits { max_list: 1 << 20, max_chunk: 1 << 20 }) else { return };
    let _ = (udif::check::check(&image), udif::partitions::partitions(&image));
    let mut some = vec![0; 100_000];
    for at in [0, 20_480, 1 << 30, u64::MAX - 7] {
        let _ = image.read_exact_at(&mut some, at);
    }
});
