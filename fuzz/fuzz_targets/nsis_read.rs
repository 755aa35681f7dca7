//! Any bytes as a setup program: data or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run nsis_read -- -max_len=65536`
#![no_main]

use nsis_archive::read::Archive;
use std::io::{Cursor, Read};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(Some(mut archive)) = Archive::open(Cursor::new(bytes)) else { return };
    let _ = (archive.steps(), archive.faults());
    let Ok(items) = archive.items() else { return };
    let mut left = 8u64 << 20;
    let _ = archive.walk(&items, |_, _, plain| {
        left = left.saturating_sub(std::io::copy(&mut plain.take(left), &mut std::io::sink())?);
        if left == 0 { Err(std::io::Error::other("enough")) } else { Ok(()) }
    });
});
