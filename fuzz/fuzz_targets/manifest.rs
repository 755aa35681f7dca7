//! Any text as a manifest: problems or a model, and the model resolves for every platform without a panic.
//! `cargo +nightly fuzz run manifest`
#![no_main]

use std::path::Path;
use upper_shelf_core::manifest::{read, Project};
use upper_shelf_core::platform::Platform;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let Ok((manifest, source)) = read::read(Path::new("shelf.toml"), text, &|_| None) else { return };
    let project = Project { file: "shelf.toml".into(), folder: "/nonexistent".into(), manifest, source };
    for platform in Platform::ALL {
        let _ = project.resolve(platform, None);
    }
});
