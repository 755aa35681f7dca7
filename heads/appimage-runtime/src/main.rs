//! The head of an AppImage: it stands in front of a squashfs image, mounts that image (or unpacks it where nothing can
//! be mounted), and **becomes** the program inside, so that arguments, signals and the exit code pass by themselves.
//!
//! | file | what it does |
//! |---|---|
//! | `image.rs` | finds the image behind this program, and the reserved sections in it |
//! | `switches.rs` | the specification's `--appimage-…` switches |
//! | `mount.rs` | the ladder: root, the system's mount helper, a namespace of our own |
//! | `fuse.rs`, `tree.rs` | the kernel's file system protocol, answered from the image |
//! | `unpack.rs`, `cache.rs` | the last rung: unpacking into a cache that is keyed by content |
//! | `start.rs` | the environment, and becoming the program |
//!
//! It must not: allocate by what an image claims, wait for ever, or follow anything in a folder that others can write.

mod cache;
mod fuse;
mod image;
mod mount;
mod start;
mod switches;
mod tree;
mod unpack;

use std::process::exit;

/// Exit codes of our own, chosen as shells choose theirs: the program's codes pass unchanged.
pub mod code {
    /// The image is damaged, or could be neither mounted nor unpacked.
    pub const CANT_START: i32 = 125;
    /// `AppRun` is there but can't be run.
    pub const CANT_RUN: i32 = 126;
    /// There is no `AppRun`.
    pub const NOT_FOUND: i32 = 127;
}

/// Why the program inside could not be started: one sentence.
pub struct Failure {
    pub code: i32,
    pub sentence: String,
}

impl Failure {
    pub fn new(sentence: impl Into<String>) -> Self {
        Self { code: code::CANT_START, sentence: sentence.into() }
    }
}

fn main() {
    let failure = match run() {
        Ok(never) => match never {},
        Err(failure) => failure,
    };
    eprintln!("{}", failure.sentence);
    exit(failure.code);
}

fn run() -> Result<std::convert::Infallible, Failure> {
    let image = image::Bundle::open_own()?;
    let request = switches::Request::from_arguments()?;
    switches::answer(&request, &image)?;
    if request.unpack_and_run {
        return start::unpacked(&image, &request);
    }
    match start::mounted(&image, &request)? {
        mount::Outcome::NotPossible(reasons) => {
            if std::env::var_os("APPIMAGE_VERBOSE").is_some() {
                eprintln!("Not mounted, so unpacked instead: {reasons}");
            }
            start::unpacked(&image, &request)
        }
    }
}
