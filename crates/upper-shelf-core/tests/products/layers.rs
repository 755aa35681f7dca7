//! Layers over each other: any stack of them against the description of what `keep`, `drop` and `into` mean, followed
//! word by word.

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use upper_shelf_core::footprint::{Node, RelPath};
use upper_shelf_core::payload::{Layer, Modes, Payload, Source, gather};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::problem::{Code, Problem};

fn layer(from: &Path) -> Layer {
    Layer {
        from: from.to_owned(),
        source: None,
        into: None,
        keep: Vec::new(),
        drop: Vec::new(),
        modes: Modes::Usual,
        executable: Vec::new(),
        label: from.file_name().unwrap().to_string_lossy().into_owned(),
        setting: "layer.0".into(),
        span: None,
    }
}

/// A layer as it is made up: its files, empty folders, patterns and place.
#[derive(Debug, Clone)]
struct MadeUp {
    files: BTreeSet<String>,
    folders: BTreeSet<String>,
    keep: Vec<String>,
    drop: Vec<String>,
    into: Option<String>,
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec("(a|b|ab|a\\.x|b\\.x)", 1..4).prop_map(|names| names.join("/"))
}

fn pattern() -> impl Strategy<Value = String> {
    prop_oneof!["(a|b|ab|\\*\\.x|a\\?|a\\*|\\?|b/)", "(a|b|\\*|/a|\\*\\*)/(a|\\*|\\*\\*|b\\.x|\\?b)(/(\\*|a|\\*\\*))?"]
}

fn made_up() -> impl Strategy<Value = MadeUp> {
    (
        prop::collection::btree_set(path(), 1..8),
        prop::collection::btree_set(path(), 0..3),
        prop::collection::vec(pattern(), 0..3),
        prop::collection::vec(pattern(), 0..2),
        prop::option::of(path()),
    )
        .prop_map(|(files, folders, keep, drop, into)| {
            // Where one is the folder of another it can't be a file.
            let is_above = |path: &String, all: &BTreeSet<String>| {
                all.iter().any(|other| other == path || other.starts_with(&format!("{path}/")))
            };
            let all = files.clone();
            let lies_below = |path: &str| path.match_indices('/').any(|(at, _)| all.contains(&path[..at]));
            let folders: BTreeSet<String> =
                folders.into_iter().filter(|f| !lies_below(f) && !all.contains(f)).collect();
            let files = files.into_iter().filter(|f| !lies_below(f) && !is_above(f, &folders)).collect();
            MadeUp { files, folders, keep, drop, into }
        })
}

impl MadeUp {
    /// Puts it onto the disk.
    fn put(&self, at: &Path) -> Layer {
        std::fs::create_dir(at).unwrap();
        for folder in &self.folders {
            std::fs::create_dir_all(at.join(folder)).unwrap();
        }
        for file in &self.files {
            std::fs::create_dir_all(at.join(file).parent().unwrap()).unwrap();
            std::fs::write(at.join(file), file).unwrap();
        }
        let into = self.into.as_ref().map(|into| RelPath::new(into.as_str()).unwrap());
        Layer { keep: self.keep.clone(), drop: self.drop.clone(), into, ..layer(at) }
    }

    /// What of it gets into packages, by the paths there; folders are none of the files.
    fn meant(&self) -> BTreeMap<String, Option<String>> {
        let mut folders = self.folders.clone();
        for path in self.files.iter().chain(&self.folders) {
            folders.extend(path.match_indices('/').map(|(at, _)| path[..at].to_owned()));
        }
        let within = |path: &str, patterns: &[String]| {
            let mut above: Vec<&str> = path.match_indices('/').map(|(at, _)| &path[..at]).collect();
            above.push(path);
            above.iter().any(|path| patterns.iter().any(|pattern| fits(pattern, path)))
        };
        let comes = |path: &str| !within(path, &self.drop) && (self.keep.is_empty() || within(path, &self.keep));
        let mut all = BTreeMap::new();
        let place = |path: &str| self.into.as_ref().map_or(path.to_owned(), |into| format!("{into}/{path}"));
        for folder in folders.iter().filter(|folder| comes(folder)) {
            all.insert(place(folder), None);
        }
        all.extend(self.files.iter().filter(|file| comes(file)).map(|file| (place(file), Some(file.clone()))));
        all.extend(self.into.iter().map(|into| (into.clone(), None)));
        for path in all.keys().cloned().collect::<Vec<_>>() {
            for (at, _) in path.match_indices('/') {
                all.entry(path[..at].to_owned()).or_default();
            }
        }
        all
    }
}

/// Whether a path fits a pattern: without a slash the pattern is for the name, wherever it is; `*` stands for any
/// characters in a name, `?` for one, `**` for any folders, and at the end for anything in the folder.
fn fits(pattern: &str, path: &str) -> bool {
    fn parts(pattern: &[&str], path: &[&str]) -> bool {
        match (pattern, path) {
            ([], rest) => rest.is_empty(),
            (["**"], rest) => !rest.is_empty(),
            (["**", more @ ..], rest) => (0..=rest.len()).any(|n| parts(more, &rest[n..])),
            ([first, more @ ..], [name, rest @ ..]) => letters(first.as_bytes(), name.as_bytes()) && parts(more, rest),
            (_, []) => false,
        }
    }
    fn letters(pattern: &[u8], name: &[u8]) -> bool {
        match (pattern, name) {
            ([], rest) => rest.is_empty(),
            ([b'*', more @ ..], rest) => (0..=rest.len()).any(|n| letters(more, &rest[n..])),
            ([b'?', more @ ..], [_, rest @ ..]) => letters(more, rest),
            ([first, more @ ..], [letter, rest @ ..]) => first == letter && letters(more, rest),
            (_, []) => false,
        }
    }
    let anywhere = if pattern.contains('/') { pattern.to_owned() } else { format!("**/{pattern}") };
    let pattern: Vec<&str> = anywhere.trim_start_matches('/').trim_end_matches('/').split('/').collect();
    parts(&pattern, &path.split('/').collect::<Vec<_>>())
}

/// What a payload consists of, by paths, with the source of each file.
fn contents(payload: &Payload) -> BTreeMap<String, Option<PathBuf>> {
    let folder = |node: &Node| match node {
        Node::Folder { path, mode: 0o755 } => (path.to_string(), None),
        other => panic!("{other:?}"),
    };
    let files = payload.files.iter().map(|file| match &file.source {
        Source::Disk(source, _) => (file.path.to_string(), Some(source.clone())),
        _ => panic!("{file:?}"),
    });
    files.chain(payload.others.iter().map(folder)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn the_upper_layer_wins_and_patterns_mean_what_is_written(stack in prop::collection::vec(made_up(), 1..4)) {
        let disk = tempfile::tempdir().unwrap();
        let at = |n: usize| disk.path().join(format!("layer{n}"));
        let layers: Vec<Layer> = stack.iter().enumerate().map(|(n, made_up)| made_up.put(&at(n))).collect();
        let mut meant: BTreeMap<String, Option<PathBuf>> = BTreeMap::new();
        let mut clash = false;
        for (n, made_up) in stack.iter().enumerate() {
            for (path, file) in made_up.meant() {
                let source = file.map(|file| at(n).join(file));
                let there = meant.get(&path).map(Option::is_some);
                clash |= there.is_some_and(|is_file| is_file != source.is_some());
                meant.insert(path, source);
            }
        }
        let (payload, problems) = gather(&layers, Platform::LinuxX64, &[]);
        let clashes = problems.iter().filter(|p| p.code == Code::NameClash).count();
        prop_assert_eq!(clashes > 0, clash, "{:?}", problems);
        if !clash {
            let (found, sizes) = (contents(&payload), payload.files.iter().map(|f| f.size).sum::<u64>());
            prop_assert_eq!(&found, &meant);
            prop_assert_eq!(payload.shares.iter().map(|s| s.bytes).sum::<u64>(), sizes);
            // Each file is counted where it came from.
            for (n, share) in payload.shares.iter().enumerate() {
                let own = meant.values().flatten().filter(|source| source.starts_with(at(n))).count();
                prop_assert_eq!(share.files as usize, own);
            }
            for (n, made_up) in stack.iter().enumerate() {
                let empty = !made_up.meant().values().any(Option::is_some);
                let said = problems.iter().any(|p| p.code == Code::NoFiles && p.what.contains(&format!("layer{n}")));
                prop_assert_eq!(said, empty, "{:?}", problems);
            }
        }
    }
}

/// What is said of a payload, with the folder of its layers left out.
fn said(problems: &[Problem], disk: &Path) -> String {
    let disk = disk.to_string_lossy();
    let one = |p: &Problem| {
        let mut out = format!("{}: {}", p.code.name(), p.what);
        out += &p.why.as_ref().map_or(String::new(), |why| format!("\n  why      {why}"));
        out += &p.instead.as_ref().map_or(String::new(), |instead| format!("\n  instead  {instead}"));
        out.replace(&*disk, "DISK")
    };
    problems.iter().map(one).collect::<Vec<_>>().join("\n")
}

#[test]
fn links_stay_inside_and_lead_somewhere() {
    let disk = tempfile::tempdir().unwrap();
    let built = disk.path().join("built");
    std::fs::create_dir_all(built.join("lib/deep")).unwrap();
    std::fs::write(built.join("lib/real.so"), "library").unwrap();
    for (name, target) in [
        ("lib/good.so", "real.so"),
        ("lib/deep/up.so", "../real.so"),
        ("lib/dots.so", ".//./real.so"),
        ("folder", "lib"),
        ("through", "folder/real.so"),
        ("itself", "."),
        ("absolute", "/usr/lib/real.so"),
        ("windows", "C:\\Windows\\real.dll"),
        ("outside", "../other/real.so"),
        ("lib/deep/outside", "../../../real.so"),
        ("nowhere", "lib/missing.so"),
        ("below-a-file", "lib/real.so/more"),
    ] {
        symlink(target, built.join(name)).unwrap();
    }
    let (payload, problems) = gather(&[layer(&built)], Platform::LinuxX64, &[]);
    insta::assert_snapshot!(said(&problems, disk.path()), @r#"
    link-outside: the link absolute points to the absolute path /usr/lib/real.so
      why      on another machine it leads to something else, or nowhere
      instead  make it a relative link to something inside, or exclude it with `drop`
    broken-link: the link below-a-file → lib/real.so/more leads nowhere
      why      lib/real.so/more isn't in the payload
    link-outside: the link lib/deep/outside → ../../../real.so leaves the payload
      why      on another machine it leads to something else, or nowhere
      instead  make it a relative link to something inside, or exclude it with `drop`
    broken-link: the link nowhere → lib/missing.so leads nowhere
      why      lib/missing.so isn't in the payload
    link-outside: the link outside → ../other/real.so leaves the payload
      why      on another machine it leads to something else, or nowhere
      instead  make it a relative link to something inside, or exclude it with `drop`
    link-outside: the link windows points to the absolute path C:\Windows\real.dll
      why      on another machine it leads to something else, or nowhere
      instead  make it a relative link to something inside, or exclude it with `drop`
    "#);
    let links = payload.others.iter().filter(|node| matches!(node, Node::Link { .. }));
    assert_eq!(links.count(), 12, "what is wrong is said, and nothing is taken away in silence");
}

#[test]
fn names_that_a_system_can_not_hold_are_said_before_anything_is_built() {
    let disk = tempfile::tempdir().unwrap();
    let built = disk.path().join("built");
    std::fs::create_dir(&built).unwrap();
    for name in [
        "plain",
        "Straße",
        "STRASSE",
        "straße",
        "con",
        "aux.txt",
        "console",
        "ends.",
        "ends ",
        "a:b",
        "what?",
        "tab\there",
        "a\\b",
    ] {
        std::fs::write(built.join(name), name).unwrap();
    }
    let on = |platform| said(&gather(&[layer(&built)], platform, &[]).1, disk.path());
    insta::assert_snapshot!(on(Platform::LinuxX64), @"");
    insta::assert_snapshot!(on(Platform::MacosArm64), @r#"
    name-clash: "Straße" and "straße" differ only in case
      why      one would overwrite the other
      instead  rename one of them, or limit its layer with `platforms`
    "#);
    insta::assert_snapshot!(on(Platform::WindowsX64), @r#"
    name-not-allowed: Windows can't hold the name "a:b"
      why      ':' is not allowed in a name
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "a\\b"
      why      '\\' is not allowed in a name
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "aux.txt"
      why      AUX is a device's name
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "con"
      why      CON is a device's name
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "ends "
      why      a name can't end with a dot or a space
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "ends."
      why      a name can't end with a dot or a space
      instead  rename it, or exclude it with `drop`
    name-clash: "Straße" and "straße" differ only in case
      why      one would overwrite the other
      instead  rename one of them, or limit its layer with `platforms`
    name-not-allowed: Windows can't hold the name "tab\there"
      why      '\t' is not allowed in a name
      instead  rename it, or exclude it with `drop`
    name-not-allowed: Windows can't hold the name "what?"
      why      '?' is not allowed in a name
      instead  rename it, or exclude it with `drop`
    "#);
}

#[test]
fn what_can_not_be_packed_is_named_and_everything_else_still_looked_through() {
    let disk = tempfile::tempdir().unwrap();
    let (built, own) = (disk.path().join("built"), disk.path().join("built/packages"));
    std::fs::create_dir_all(&own).unwrap();
    std::fs::write(own.join("old.zip"), "a package from before").unwrap();
    std::fs::write(built.join("hives"), "a program").unwrap();
    std::os::unix::net::UnixListener::bind(built.join("socket")).unwrap();
    let odd = <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"caf\xe9");
    std::fs::write(built.join(odd), "Latin-1").unwrap();
    let missing = layer(&disk.path().join("missing"));
    let broken = Layer { keep: vec!["{a,b".into()], drop: vec!["[z-a]".into()], ..layer(&built) };
    let (payload, mut problems) = gather(&[missing, layer(&built)], Platform::LinuxX64, std::slice::from_ref(&own));
    problems.sort_by(|a, b| a.what.cmp(&b.what));
    insta::assert_snapshot!(said(&problems, disk.path()), @r#"
    special-file: DISK/built/socket is a device, pipe or socket
      instead  exclude it with `drop`
    unreadable: the layer DISK/missing can't be read
      why      there is no such folder or file
      instead  build the files first, or correct `from`
    name-not-allowed: the name "caf\xE9" in DISK/built is not valid text
      why      packages store names as Unicode text, and this one isn't UTF-8
      instead  rename the file, or exclude it with `drop`
    "#);
    let paths: Vec<&str> = payload.files.iter().map(|file| file.path.as_str()).collect();
    assert_eq!(paths, ["hives"], "packages of before are none of the product's files");
    let problems = gather(&[broken], Platform::LinuxX64, &[]).1;
    insta::assert_snapshot!(said(&problems[..2], disk.path()), @r#"
    invalid-value: the pattern "{a,b" is malformed
      why      unclosed alternate group; missing '}' (maybe escape '{' with '[{]'?)
      instead  `*` stands for any characters in a name, `**` for any folders, `{a,b}` for either
    invalid-value: the pattern "[z-a]" is malformed
      why      invalid range; 'z' > 'a'
      instead  `*` stands for any characters in a name, `**` for any folders, `{a,b}` for either
    "#);
}

#[test]
fn names_of_one_file_stay_one_file_in_the_order_of_their_paths() {
    let disk = tempfile::tempdir().unwrap();
    let (under, over) = (disk.path().join("under"), disk.path().join("over"));
    for folder in [&under, &over] {
        std::fs::create_dir(folder).unwrap();
    }
    std::fs::write(under.join("z"), "one file").unwrap();
    for name in ["a", "m"] {
        std::fs::hard_link(under.join("z"), under.join(name)).unwrap();
    }
    // The first name is laid over by another file, so that the next one becomes the file.
    std::fs::write(over.join("a"), "another").unwrap();
    let (payload, _) = gather(&[layer(&under), layer(&over)], Platform::LinuxX64, &[]);
    let files: Vec<(&str, u64)> = payload.files.iter().map(|file| (file.path.as_str(), file.size)).collect();
    assert_eq!(files, [("a", 7), ("m", 8)]);
    let [Node::HardLink { path, to }] = &payload.others[..] else { panic!("{:?}", payload.others) };
    assert_eq!((path.as_str(), to.as_str()), ("z", "m"));
    assert_eq!(payload.shares.iter().map(|share| (share.files, share.bytes)).collect::<Vec<_>>(), [(1, 8), (1, 7)]);
}
