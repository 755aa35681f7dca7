//! Any bytes as an installation database: rows and findings, or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run msi_read -- -max_len=131072`
#![no_main]

use msi_database::compound::{Compound, Limits};
use msi_database::{read, strict};
use std::io::Cursor;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(mut compound) = Compound::open(Cursor::new(bytes), Limits { max_entries: 2_000 }) else { return };
    let Ok(package) = read::read(&mut compound, read::Limits { max_table: 1 << 20 }) else { return };
    strict::check(&compound, &package.database, &package.remarks);
});
