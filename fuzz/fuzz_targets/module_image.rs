//! Any bytes as a module image: entries or an error, and all of them written anew; no panic, hang or huge allocation.
//! `cargo +nightly fuzz run module_image -- -max_len=65536`
#![no_main]

use module_image::{Content, Image, Writer};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(image) = Image::open(bytes.to_vec()) else { return };
    let mut writer = Writer::new();
    for entry in image.entries().take(10_000).flatten() {
        if image.content(&entry).is_ok() {
            let _ = writer.add(&entry.name.to_string(), Content::Copied(entry));
        }
    }
    let mut again = Vec::new();
    if writer.write(&image, &mut again).is_ok() {
        assert!(Image::open(again).is_ok());
    }
});
