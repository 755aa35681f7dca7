//! Any bytes: the reader answers with data or an error; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run squashfs_read -- -max_len=65536`
#![no_main]

use squashfs::read::{Image, Kind, Limits};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let limits = Limits { max_entries: 5_000, max_blocks_in_file: 10_000, ..Limits::default() };
    let Ok(image) = Image::open(bytes.to_vec(), 0, limits) else { return };
    let mut left = 8 << 20;
    let _ = image.walk(|v| {
        image.xattrs(&v.inode)?;
        if let Kind::File(_) = v.inode.kind {
            let mut reader = image.reader(&v.inode)?;
            while let Some(block) = reader.next_block()? {
                let n = match block {
                    squashfs::read::BlockOrHole::Bytes(b) => b.len() as u64,
                    squashfs::read::BlockOrHole::Hole(n) => n.into(),
                };
                left = u64::saturating_sub(left, n);
                if left == 0 {
                    return Err(squashfs::Error::Usage("enough".into()));
                }
            }
        }
        Ok::<_, squashfs::Error>(())
    });
});
