//! Volumes that several tests need.

#![allow(dead_code)] // each test file uses its own part

use hfs_plus::read::{Kind, Limits, Volume};
use hfs_plus::write::{Builder, Meta, Options};
use std::io::Read;

pub const TIME: u32 = 1_790_000_000;

pub fn options() -> Options {
    Options { time: TIME, id: 0x1122_3344_5566_7788, ..Options::default() }
}

pub fn file(mode: u16) -> Meta {
    Meta { mode, time: TIME, ..Meta::default() }
}

/// A volume of these files, with the folders that their names need.
pub fn volume_of(files: &[(String, Vec<u8>)], options: Options) -> Vec<u8> {
    let mut builder = Builder::new("Hives", options).expect("a name");
    let mut made = std::collections::HashSet::new();
    for (path, bytes) in files {
        for (at, _) in path.match_indices('/') {
            if made.insert(&path[..at]) {
                builder.folder(&path[..at], file(0o755)).expect("added");
            }
        }
        builder.file(path, bytes.len() as u64, file(0o644)).expect("added");
    }
    let mut writer = builder.lay_out().expect("a layout").write(Vec::new()).expect("begun");
    for (_, bytes) in files {
        writer.data(bytes).expect("written");
    }
    writer.finish().expect("finished")
}

pub fn open(bytes: Vec<u8>) -> Volume<Vec<u8>> {
    Volume::open(bytes, Limits::default()).expect("a volume")
}

/// Everything in a volume, a line each, with a hash of its bytes.
pub fn told(volume: &Volume<Vec<u8>>) -> Vec<(String, Vec<u8>)> {
    let mut all = Vec::new();
    for entry in volume.entries().expect("entries") {
        if let Kind::File(..) = entry.kind {
            let mut bytes = Vec::new();
            volume.read(&entry).expect("a file").read_to_end(&mut bytes).expect("read");
            all.push((entry.path, bytes));
        }
    }
    all
}

pub fn findings(volume: &Volume<Vec<u8>>) -> Vec<String> {
    hfs_plus::check::check(volume).expect("checked")
}
