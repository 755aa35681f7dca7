//! The core's payload on its own: one reading for several writers, in order, whole or not at all.

use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use upper_shelf_core::content::ContentHash;
use upper_shelf_core::footprint::RelPath;
use upper_shelf_core::payload::Modes;
use upper_shelf_core::payload::{Layer, PayloadFile, Source, Stamp, feed, gather};
use upper_shelf_core::platform::{Platform, Selector};
use upper_shelf_core::problem::{Span, nearest};

fn layer(from: &std::path::Path) -> Layer {
    Layer {
        from: from.to_owned(),
        source: None,
        into: None,
        keep: vec![],
        drop: vec![],
        modes: Modes::Usual,
        executable: Vec::new(),
        label: "files".into(),
        setting: "layer.0".into(),
        span: None,
    }
}

#[test]
fn every_writer_gets_every_file_in_order_and_the_hash_is_of_its_bytes() {
    let dir = tempfile::tempdir().expect("a folder");
    for n in 0..50u64 {
        fs::write(dir.path().join(format!("{n:02}")), test_support::noise(n, (n * 20_011) as usize)).expect("written");
    }
    let (payload, problems) = gather(&[layer(dir.path())], Platform::LinuxX64, &[]);
    assert!(problems.is_empty(), "{problems:?}");
    assert_eq!(payload.files.len(), 50);
    let (senders, streams) = feed::streams([false; 3]);
    let seen = AtomicU64::new(0);
    std::thread::scope(|scope| {
        let readers: Vec<_> = streams
            .into_iter()
            .map(|mut stream| {
                let files = &payload.files;
                scope.spawn(move || {
                    let mut order = Vec::new();
                    while let Some(index) = stream.next_file() {
                        let mut bytes = Vec::new();
                        std::io::Read::read_to_end(&mut stream.reader(), &mut bytes).expect("read");
                        assert_eq!(bytes, fs::read(dir_path(&files[index])).expect("the file"));
                        order.push(index);
                    }
                    order
                })
            })
            .collect();
        let progress = |n| {
            seen.fetch_add(n, Ordering::Relaxed);
        };
        let hashes = feed::feed(&payload.files, senders, &AtomicBool::new(false), &progress).expect("fed");
        for (file, hash) in payload.files.iter().zip(&hashes) {
            assert_eq!(*hash, ContentHash::of(&fs::read(dir_path(file)).expect("the file")));
        }
        for reader in readers {
            assert_eq!(reader.join().expect("no panic"), (0..50).collect::<Vec<_>>());
        }
    });
    assert_eq!(seen.into_inner(), payload.files.iter().map(|f| f.size).sum::<u64>());
}

fn dir_path(file: &PayloadFile) -> &std::path::Path {
    match &file.source {
        Source::Disk(path, _) => path,
        _ => unreachable!("gathered from disk"),
    }
}

#[test]
fn a_file_that_is_not_what_it_was_breaks_the_feed_off() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("file");
    fs::write(&path, "before").expect("written");
    let stamp = Stamp::of(&path.metadata().expect("metadata"));
    let file = |path: &str, source| PayloadFile {
        path: RelPath::new(path).expect("a path"),
        mode: 0o644,
        size: 6,
        source,
        layer: 0,
        further_name: false,
    };
    let files = [file("a", Source::Memory(Arc::from(*b"memory"))), file("b", Source::Disk(path.clone(), stamp))];
    for change in ["", "longer than before"] {
        if !change.is_empty() {
            fs::write(&path, change).expect("written");
        }
        let (senders, mut streams) = feed::streams([false]);
        let mut stream = streams.pop().expect("a stream");
        let reader = std::thread::spawn(move || {
            let mut ended = 0;
            while let Some(part) = stream.next_part() {
                ended += usize::from(matches!(part, feed::Part::End(_)));
            }
            ended
        });
        let result = feed::feed(&files, senders, &AtomicBool::new(false), &|_| ());
        let ended = reader.join().expect("no panic");
        if change.is_empty() {
            assert_eq!((result.map(|h| h.len()).ok(), ended), (Some(2), 2));
        } else {
            let failure = result.expect_err("refused");
            assert_eq!(failure.kind, upper_shelf_core::Kind::Machine);
            assert!(failure.to_string().contains("changed while the package was being built"), "{failure}");
            assert_eq!(ended, 1, "nobody takes a broken file for a whole one");
        }
    }
}

#[test]
fn modes_are_the_same_for_every_umask_unless_asked_for_exactly() {
    use std::os::unix::fs::PermissionsExt;
    let dir = tempfile::tempdir().expect("a folder");
    for (name, mode) in [("a", 0o600), ("b", 0o700), ("c", 0o664), ("d", 0o4755)] {
        fs::write(dir.path().join(name), "x").expect("written");
        fs::set_permissions(dir.path().join(name), fs::Permissions::from_mode(mode)).expect("mode");
    }
    let modes = |modes| -> Vec<u32> {
        let layer = Layer { modes, ..layer(dir.path()) };
        gather(&[layer], Platform::LinuxX64, &[]).0.files.iter().map(|f| f.mode).collect()
    };
    assert_eq!(modes(Modes::Usual), [0o644, 0o755, 0o644, 0o755]);
    assert_eq!(modes(Modes::Exact), [0o600, 0o700, 0o664, 0o4755]);
    // Where files have no modes their content tells, and what the manifest names.
    fs::write(dir.path().join("a"), "#!/bin/sh\n").expect("written");
    assert_eq!(modes(Modes::Content), [0o755, 0o644, 0o644, 0o644]);
    let layer = Layer { modes: Modes::Content, executable: vec!["c".into()], ..layer(dir.path()) };
    let named: Vec<u32> = gather(&[layer], Platform::LinuxX64, &[]).0.files.iter().map(|f| f.mode).collect();
    assert_eq!(named, [0o755, 0o644, 0o755, 0o644]);
}

#[test]
fn paths_that_could_lead_elsewhere_can_not_be_made() {
    for bad in ["", "/a", "a//b", "a/", "../a", "a/./b", "a/..", "a\0b"] {
        assert!(RelPath::new(bad).is_err(), "{bad:?}");
    }
    let path = RelPath::new("a/b/c").expect("a path");
    assert_eq!((path.name(), path.parent().map(|p| p.to_string())), ("c", Some("a/b".into())));
}

#[test]
fn a_place_in_a_text_counts_characters_and_lines_from_one() {
    let text = "eins\nzwei = \"Größe\"\n";
    let at = text.find("\"Gr").expect("there");
    let span = Span::of(std::path::Path::new("f"), text, at..text.len());
    assert_eq!((span.line, span.column, span.width, span.text.as_str()), (2, 8, 7, "zwei = \"Größe\""));
    // Beyond the end is the end.
    assert_eq!(Span::of(std::path::Path::new("f"), text, 999..1000).line, 3);
}

#[test]
fn the_nearest_name_is_near() {
    let known = ["publisher", "version", "icon", "name"];
    assert_eq!(nearest("publsher", known), Some("publisher"));
    assert_eq!(nearest("Icons", known), Some("icon"));
    assert_eq!(nearest("zzz", known), None);
}

#[test]
fn selectors_stand_for_platforms() {
    let fits = |name: &str, platform| name.parse::<Selector>().expect("a selector").fits(platform);
    assert!(fits("linux", Platform::LinuxArm64) && fits("linux-arm64", Platform::LinuxArm64));
    assert!(!fits("linux-x64", Platform::LinuxArm64) && !fits("windows", Platform::MacosX64));
    assert!("solaris".parse::<Selector>().is_err());
}
