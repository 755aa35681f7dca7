//! Any bytes as a cabinet: data or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run cabinet_read -- -max_len=65536`
#![no_main]

use cabinet::read::{Cabinet, Limits};
use std::io::{Cursor, Read};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let limits = Limits { max_files: 2_000, max_folder: 8 << 20 };
    let Ok(mut cabinet) = Cabinet::open(Cursor::new(bytes), limits) else { return };
    let mut left = 8u64 << 20;
    let _ = cabinet.walk(|_, plain| {
        left = left.saturating_sub(std::io::copy(&mut plain.take(left), &mut std::io::sink())?);
        if left == 0 { Err(cabinet::Error::Usage("enough".into())) } else { Ok(()) }
    });
});
