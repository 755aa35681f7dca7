//! The law of every package format: what is written from a footprint is read back as that footprint, for all that the
//! format can carry; and the same input gives the same bytes.

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use upper_shelf_core::content::ContentHash;
use upper_shelf_core::footprint::*;
use upper_shelf_core::icons::Icon;
use upper_shelf_core::manifest::written::{
    CabinetCompression, Compression, DmgCompression, SetupCompression, TargetName, TargetSettings,
};
use upper_shelf_core::payload::{Payload, PayloadFile, Source, feed};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::targets::{self, Depth, Job};

/// Text that people write, with everything in it that formats give a meaning.
fn text() -> impl Strategy<Value = String> {
    prop_oneof!["[A-Za-z][a-z]{0,9}( [A-Z]?[a-z]{1,6}){0,2}", r#"[a-zäßд蜂"'`$\\%&<>;=,#|*?!~(){}\[\]@^+-]{1,12}"#,]
        .prop_map(|s| s.trim().to_owned())
        .prop_filter("some text", |s| !s.is_empty())
}

fn name() -> impl Strategy<Value = String> {
    prop_oneof![5 => "[a-zA-Z0-9._-]{1,12}", 2 => text()]
        .prop_filter("a file's name", |s| s != "." && s != ".." && !s.contains(['/', '\0']))
}

fn path() -> impl Strategy<Value = RelPath> {
    prop::collection::vec(name(), 1..4).prop_map(|names| RelPath::new(names.join("/")).expect("a path"))
}

#[derive(Debug, Clone)]
struct Made {
    footprint: Footprint,
    files: Vec<PayloadFile>,
    links: Vec<(RelPath, RelPath)>,
}

fn bytes() -> impl Strategy<Value = Vec<u8>> {
    prop_oneof![
        prop::collection::vec(any::<u8>(), 0..200),
        (0..5u64, 0..90_000usize).prop_map(|(seed, len)| test_support::prose(seed, len)),
        (0..60_000usize).prop_map(|len| vec![0; len]),
    ]
}

prop_compose! {
    fn identity()(
        name in text(), publisher in text(), summary in prop::option::of(text()),
        description in prop::option::of(prop::collection::vec(text(), 1..3)),
        homepage in prop::option::of("https://[a-z]{3,8}\\.example/[a-z&=?]{0,8}"),
        support in prop::option::of(prop_oneof!["https://[a-z]{3,8}\\.example", "[a-z]{3,8}@[a-z]{3,8}\\.example"]),
        license in prop::option::of(Just("MIT".to_owned())),
        version in "[0-9]{1,2}\\.[0-9]{1,3}(\\.[0-9]{1,3})?",
        categories in prop::collection::vec(prop_oneof!["Office", "Game", "Beekeeping", "X-Odd"], 1..3),
        id in "[a-z]{2,6}\\.[a-z]{2,8}\\.[a-z0-9]{1,9}",
    ) -> Identity {
        Identity {
            id: Some(id), name: Some(name), version: Some(version), publisher: Some(publisher), summary,
            description: description.map(|d| d.join("\n\n")), homepage, support, license, categories,
        }
    }
}

type Program = (Vec<String>, BTreeMap<String, String>, WorkingFolder, bool);

fn program() -> impl Strategy<Value = Program> {
    let value = prop_oneof![text(), text().prop_map(|t| format!("{{install}}/{t}"))];
    let folder = prop_oneof![
        Just(WorkingFolder::Unchanged),
        Just(WorkingFolder::Home),
        Just(WorkingFolder::Install),
        path().prop_map(WorkingFolder::Inside),
    ];
    (
        prop::collection::vec(value.clone(), 0..3),
        prop::collection::btree_map("[A-Z_]{1,6}", value, 0..3),
        folder,
        any::<bool>(),
    )
}

prop_compose! {
    fn made()(
        product in identity(),
        platform in prop_oneof![Just(Platform::LinuxX64), Just(Platform::LinuxArm64)],
        tree in prop::collection::btree_map(path(), (bytes(), any::<bool>()), 1..12),
        folders in prop::collection::vec(path(), 0..4),
        symlinks in prop::collection::vec((path(), text()), 0..3),
        hard in prop::collection::vec(path(), 0..3),
        programs in prop::collection::btree_map("[a-z][a-z0-9-]{0,6}", program(), 1..4),
        shortcuts in prop::collection::vec((0..3usize, text(), any::<prop::sample::Index>(), prop::collection::vec(text(), 0..3), prop::option::of(text())), 0..4),
        types in prop::collection::vec(("[a-z]{2,8}/[a-z0-9.+-]{2,12}", prop::collection::vec("[a-z0-9]{1,5}", 1..3), text(), any::<prop::sample::Index>()), 0..3),
        schemes in prop::collection::vec(("[a-z][a-z0-9+.-]{1,7}", any::<prop::sample::Index>()), 0..3),
        variables in prop::collection::btree_map("[A-Z_]{1,8}", (0..3usize, text(), any::<bool>()), 0..3),
    ) -> Made {
        let mut taken: BTreeSet<String> = BTreeSet::new();
        let mut traces = Vec::new();
        let mut files = Vec::new();
        let mut links = Vec::new();
        // A name is free when it is not taken, is no parent of a taken one, and has no taken parent that is a file.
        let free = |taken: &BTreeSet<String>, folders: &BTreeSet<String>, path: &RelPath| {
            let p = path.as_str();
            !taken.contains(p) && !taken.range(format!("{p}/")..).next().is_some_and(|n| n.starts_with(&format!("{p}/")))
                && p.match_indices('/').all(|(at, _)| !taken.contains(&p[..at]) || folders.contains(&p[..at]))
        };
        let mut dirs: BTreeSet<String> = BTreeSet::new();
        let mut take = |path: &RelPath, is_folder: bool, traces: &mut Vec<Trace>| -> bool {
            if !free(&taken, &dirs, path) {
                return false;
            }
            let mut above = path.parent();
            while let Some(folder) = above {
                if dirs.insert(folder.to_string()) {
                    taken.insert(folder.to_string());
                    traces.push(Trace::Folder { path: folder.clone(), mode: 0o755 });
                }
                above = folder.parent();
            }
            taken.insert(path.to_string());
            if is_folder {
                dirs.insert(path.to_string());
            }
            true
        };
        for (path, (content, runs)) in tree {
            if !take(&path, false, &mut traces) {
                continue;
            }
            let mode = if runs { 0o755 } else { 0o644 };
            traces.push(Trace::File { path: path.clone(), mode, size: content.len() as u64, content: Some(ContentHash::of(&content)) });
            files.push(PayloadFile { path, mode, size: content.len() as u64, source: Source::Memory(Arc::from(content)), layer: 0, further_name: false });
        }
        for path in folders {
            if take(&path, true, &mut traces) {
                traces.push(Trace::Folder { path, mode: 0o755 });
            }
        }
        for (path, target) in symlinks {
            if take(&path, false, &mut traces) {
                traces.push(Trace::Link { path, target });
            }
        }
        files.sort_by(|a, b| a.path.cmp(&b.path));
        for path in hard {
            // The first name in order is the file: further names come behind it.
            let Some(to) = files.first().map(|f| f.path.clone()).filter(|to| *to < path) else { continue };
            if take(&path, false, &mut traces) {
                links.push((path.clone(), to.clone()));
                traces.push(Trace::HardLink { path, to });
            }
        }
        let keys: Vec<String> = programs.keys().cloned().collect();
        for (n, (key, (arguments, environment, working_folder, console))) in programs.into_iter().enumerate() {
            let file = files.get(n % files.len().max(1)).map_or(RelPath::new("none").expect("a path"), |f| f.path.clone());
            traces.push(Trace::Program { key, file, arguments, environment, working_folder, console });
        }
        let pick = |index: &prop::sample::Index| keys[index.index(keys.len())].clone();
        for (place, name, program, arguments, description) in shortcuts {
            let place = [Place::Menu, Place::Desktop, Place::Startup][place];
            traces.push(Trace::Shortcut { place, name, program: pick(&program), arguments, description });
        }
        for (mime, extensions, name, program) in types {
            traces.push(Trace::FileType { mime, extensions, name, program: pick(&program) });
        }
        for (scheme, program) in schemes {
            traces.push(Trace::LinkScheme { scheme, program: pick(&program) });
        }
        for (name, (action, value, inside)) in variables {
            let action = [EnvironmentAction::Set, EnvironmentAction::Prepend, EnvironmentAction::Append][action];
            let value = if inside { format!("{{install}}/{value}") } else { value };
            traces.push(Trace::Environment { name, action, value });
        }
        traces.extend(ICON.with(Icon::traces));
        Made { footprint: Footprint::new(product, Some(platform), traces), files, links }
    }
}

thread_local!(static ICON: Icon = Icon::plain("works.fernhollow.law"));

fn write(
    made: &Made,
    target: TargetName,
    settings: &TargetSettings,
    threads: usize,
    to: &std::path::Path,
) -> Footprint {
    let target = targets::target(target);
    let (carried, _) = target.carry(&made.footprint);
    let icon = ICON.with(Icon::clone);
    let wizard = Default::default();
    let out = File::options().read(true).write(true).create(true).truncate(true).open(to).expect("a file");
    let keeps = carried.traces().iter().any(|t| matches!(t, Trace::HardLink { .. }));
    let links = made.links.iter().map(|(path, to)| Trace::HardLink { path: path.clone(), to: to.clone() }).collect();
    let payload = Payload { files: made.files.clone(), others: links, ..Payload::default() };
    let all = payload.with_further_names();
    let all = all.as_deref().unwrap_or(&payload.files);
    let files = if keeps { &made.files } else { all };
    let job = Job {
        footprint: &carried,
        files,
        icon: &icon,
        disk_image: &Default::default(),
        wizard: &wizard,
        time: 1_795_132_800,
        file_name: "Some-Thing-1.0",
        settings,
        threads,
        beside: &|_| unreachable!("cabinets are inside"),
    };
    let (senders, mut streams) = feed::streams([keeps]);
    let stream = streams.pop().expect("a stream");
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| target.write(&job, stream, out));
        feed::feed(all, senders, &AtomicBool::new(false), &|_| ()).expect("fed");
        writer.join().expect("no panic").expect("written");
    });
    carried
}

fn law(made: &Made, target: TargetName, settings: &TargetSettings) -> Result<(), TestCaseError> {
    let dir = tempfile::tempdir().expect("a folder");
    let package = dir.path().join("package");
    let carried = write(made, target, settings, 2, &package);
    let read = targets::target(target).read(&package, Depth::Contents).expect("read").expect("recognised");
    prop_assert_eq!(carried.to_text(), read.to_text());
    prop_assert_eq!(&carried, &read);
    let listed = targets::target(target).read(&package, Depth::Listing).expect("read").expect("recognised");
    prop_assert_eq!(carried.without_hashes(), listed.without_hashes());
    let again = dir.path().join("again");
    write(made, target, settings, 1, &again);
    let same = std::fs::read(&package).expect("read") == std::fs::read(&again).expect("read");
    prop_assert!(same, "another number of threads gave other bytes");
    Ok(())
}

fn settings(compression: Option<Compression>) -> TargetSettings {
    let mut settings = TargetSettings::default();
    settings.appimage.compression = compression;
    settings.appimage.level = compression.map(|_| 1);
    settings.appimage.block_size = Some(4096);
    settings.tar.compression = compression;
    settings.tar.level = compression.map(|_| 1);
    settings
}

fn compression() -> impl Strategy<Value = Option<Compression>> {
    prop_oneof![Just(Some(Compression::Zstd)), Just(Some(Compression::Gzip)), Just(Some(Compression::Xz))]
}

/// The same names without what Windows forbids; `None` if two are one then.
fn for_windows(made: Made, platform: Platform, more: Vec<Trace>) -> Option<Made> {
    let plain = |path: &RelPath| {
        let name = |name: &str| {
            let good = |c: char| if "<>:\"\\|?*".contains(c) || c.is_control() { '_' } else { c };
            let name: String = name.chars().map(good).collect();
            format!("{}_", name.trim_end_matches(['.', ' ']))
        };
        let names: Vec<String> = path.as_str().split('/').map(name).collect();
        RelPath::new(names.join("/")).expect("a path")
    };
    let mut seen = BTreeSet::new();
    let mut traces: Vec<Trace> = made.footprint.traces().to_vec();
    for trace in &mut traces {
        match trace {
            Trace::Folder { path, .. } | Trace::File { path, .. } | Trace::Link { path, .. } => *path = plain(path),
            Trace::HardLink { path, to } => (*path, *to) = (plain(path), plain(to)),
            Trace::Program { file, working_folder, .. } => {
                *file = plain(file);
                // A working folder that is not there could not be one.
                *working_folder = WorkingFolder::Install;
            }
            _ => {}
        }
        if let Some(path) = trace.path()
            && !seen.insert(path.as_str().to_lowercase())
        {
            return None;
        }
    }
    let mut files = made.files;
    files.iter_mut().for_each(|f| f.path = plain(&f.path));
    let links = made.links.iter().map(|(path, to)| (plain(path), plain(to))).collect();
    let paths: Vec<RelPath> = files.iter().map(|f| f.path.clone()).collect();
    let keys: Vec<String> = traces
        .iter()
        .filter_map(|t| if let Trace::Program { key, .. } = t { Some(key.clone()) } else { None })
        .collect();
    for (n, mut trace) in more.into_iter().enumerate() {
        match &mut trace {
            Trace::Service(service) => service.program = keys[n % keys.len()].clone(),
            Trace::Font { file, .. } => *file = paths[n % paths.len()].clone(),
            Trace::Choice { files, .. } => *files = paths.iter().step_by(n + 2).cloned().collect(),
            Trace::Rule { key, value } if key == "start-at-end" => *value = keys[n % keys.len()].clone(),
            Trace::Rule { key, .. } if key == "keep-changed" => {
                *key = format!("keep-changed {}", paths[n % paths.len()])
            }
            _ => {}
        }
        traces.push(trace);
    }
    Some(Made { footprint: Footprint::new(made.footprint.product, Some(platform), traces), files, links })
}

/// The same for macOS; `None` if two names are one there.
fn for_macos(made: Made, platform: usize, smallest: Option<String>, said: Vec<Trace>) -> Option<Made> {
    let mut seen = BTreeSet::new();
    for path in made.footprint.traces().iter().filter_map(Trace::path) {
        let name = |n: &str| -> Vec<u16> {
            let units = hfs_plus::name::stored(n).expect("a name");
            units.into_iter().filter_map(hfs_plus::name::folded).collect()
        };
        if !seen.insert(path.as_str().split('/').map(name).collect::<Vec<_>>()) {
            return None;
        }
    }
    let platform = [Platform::MacosArm64, Platform::MacosX64, Platform::MacosUniversal][platform];
    let rule = smallest.map(|value| Trace::Rule { key: "smallest-macos".into(), value });
    let mut keys = BTreeSet::new();
    let said = said.into_iter().filter(|t| matches!(t, Trace::Rule { key, .. } if keys.insert(key.clone())));
    let traces: Vec<Trace> = made.footprint.traces().iter().cloned().chain(rule).chain(said).collect();
    Some(Made { footprint: Footprint::new(made.footprint.product, Some(platform), traces), ..made })
}

/// The same inside a bundle that was finished before.
fn finished(made: Made) -> Made {
    let inside = |path: &RelPath| RelPath::new(format!("Hive.app/Contents/MacOS/{path}")).expect("a path");
    let list: &[u8] = b"<plist version=\"1.0\"><dict/></plist>";
    let path = RelPath::new("Hive.app/Contents/Info.plist").expect("a path");
    let (size, content) = (list.len() as u64, Some(ContentHash::of(list)));
    let mut traces = vec![Trace::File { path: path.clone(), mode: 0o644, size, content }];
    for folder in ["Hive.app", "Hive.app/Contents", "Hive.app/Contents/MacOS"] {
        traces.push(Trace::Folder { path: RelPath::new(folder).expect("a path"), mode: 0o755 });
    }
    traces.extend(made.footprint.traces().iter().cloned().map(|mut trace| {
        match &mut trace {
            Trace::Folder { path, .. } | Trace::File { path, .. } | Trace::Link { path, .. } => *path = inside(path),
            Trace::HardLink { path, to } => (*path, *to) = (inside(path), inside(to)),
            Trace::Program { file, .. } => *file = inside(file),
            _ => {}
        }
        trace
    }));
    let source = Source::Memory(Arc::from(list));
    let mut files = vec![PayloadFile { path, mode: 0o644, size, source, layer: 0, further_name: false }];
    files.extend(made.files.into_iter().map(|f| PayloadFile { path: inside(&f.path), ..f }));
    let links = made.links.iter().map(|(path, to)| (inside(path), inside(to))).collect();
    Made { footprint: Footprint::new(made.footprint.product, made.footprint.platform, traces), files, links }
}

/// What a bundle says besides.
fn of_bundles() -> impl Strategy<Value = Vec<Trace>> {
    let rule = prop_oneof![
        Just(("agent".to_owned(), "yes".to_owned())),
        text().prop_map(|t| ("copyright".to_owned(), t)),
        ("(camera|photos|speech|local-network)", text()).prop_map(|(key, t)| (format!("reason-{key}"), t)),
        ("(de|fr|pt-BR)", text()).prop_map(|(language, t)| (format!("name-{language}"), t)),
        ("Hive[A-Z][a-z]{1,4}", any::<i64>()).prop_map(|(key, n)| (format!("key-{key}"), n.to_string())),
        ("Hive[A-Z][a-z]{1,4}", "[a-zé<&]{0,9}")
            .prop_map(|(key, t)| (format!("key-{key}"), format!("{{\"a\":[true,\"{t}\",0.5]}}"))),
    ];
    prop::collection::vec(rule.prop_map(|(key, value)| Trace::Rule { key, value }), 0..5)
}

fn registry_value() -> impl Strategy<Value = RegistryValue> {
    let value =
        prop_oneof![text(), text().prop_map(|t| format!("{{install}}/{t}")), text().prop_map(|t| format!("#{t}"))];
    prop_oneof![
        value.clone().prop_map(RegistryValue::Text),
        value.clone().prop_map(RegistryValue::Expandable),
        any::<u32>().prop_map(RegistryValue::Number),
        "([0-9a-f]{2}){0,5}".prop_map(RegistryValue::Bytes),
        prop::collection::vec(value, 1..4).prop_map(RegistryValue::List),
    ]
}

/// Traces that only Windows has; their files and programs are chosen later.
fn windows_trace() -> impl Strategy<Value = Trace> {
    let root = prop_oneof![Just(RegistryRoot::Installed), Just(RegistryRoot::Machine), Just(RegistryRoot::Person)];
    let view = prop_oneof![Just(RegistryView::Own), Just(RegistryView::Bits32)];
    let start = prop_oneof![Just(ServiceStart::Automatic), Just(ServiceStart::OnDemand), Just(ServiceStart::Disabled)];
    let none = || RelPath::new("none").expect("a path");
    prop_oneof![
        4 => (root, view, "Software(\\.[A-Za-z]{1,6}){1,3}", prop::option::of(text()), registry_value())
            .prop_map(|(root, view, key, name, value)| Trace::Registry { root, view, key: key.replace(['.', '/'], "\\"), name, value }),
        2 => ("[A-Za-z]{2,9}", text(), prop::option::of(text()), prop::collection::vec(text(), 0..3), start, prop::option::of("[A-Z][a-z]{2,5}"))
            .prop_map(|(name, title, description, arguments, start, account)| Trace::Service(Box::new(Service { name, title, description, program: String::new(), arguments, start, account }))),
        1 => text().prop_map(move |title| Trace::Font { file: none(), title }),
        1 => ("[a-z][a-z-]{1,6}[a-z]", text(), prop::option::of(text()), any::<bool>())
            .prop_map(|(key, title, description, chosen)| Trace::Choice { key, title, description, chosen, files: Vec::new() }),
        2 => prop_oneof![
            ("scope", "machine|person|asked"), ("downgrade", "blocked|allowed"), ("upgrade", "early|late"),
            ("folder", "[A-Z][a-z]{2,5}( [A-Z][a-z]{2,5})?(/[A-Z][a-z]{2,5})?"),
            ("smallest-windows", "10\\.0\\.[1-9][0-9]{3,4}|6\\.[123]"), ("start-at-end", "x"), ("keep-changed", "yes"),
        ].prop_map(|(key, value): (String, String)| Trace::Rule { key, value }),
    ]
}

fn made_for_windows() -> impl Strategy<Value = Made> {
    let platform = prop_oneof![Just(Platform::WindowsX64), Just(Platform::WindowsX86), Just(Platform::WindowsArm64)];
    (made(), platform, prop::collection::vec(windows_trace(), 0..9))
        .prop_filter_map("names that clash on Windows", |(made, platform, more)| for_windows(made, platform, more))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn an_appimage_is_read_as_it_was_written(made in made(), compression in compression()) {
        law(&made, TargetName::Appimage, &settings(compression))?;
    }

    #[test]
    fn a_tar_for_linux_is_read_as_it_was_written(made in made(), compression in compression()) {
        law(&made, TargetName::Tar, &settings(compression))?;
    }

    #[test]
    fn a_zip_is_read_as_it_was_written(made in made()) {
        // Refused before anything is packed, see the target's check.
        prop_assume!(made.footprint.traces().iter().filter_map(Trace::path).all(|p| !p.as_str().contains('\\')));
        law(&made, TargetName::Zip, &settings(None))?;
    }

    #[test]
    fn an_msi_is_read_as_it_was_written(made in made_for_windows(), compression in 0..3usize) {
        let mut settings = settings(None);
        settings.msi.compression = [None, Some(CabinetCompression::Mszip), Some(CabinetCompression::Stored)][compression];
        law(&made, TargetName::Msi, &settings)?;
    }

    #[test]
    fn a_setup_program_is_read_as_it_was_written(made in made_for_windows(), deflate in any::<bool>()) {
        let mut settings = settings(None);
        settings.nsis.compression = deflate.then_some(SetupCompression::Deflate);
        law(&made, TargetName::Nsis, &settings)?;
    }

    #[test]
    fn a_portable_program_is_read_as_it_was_written(made in made_for_windows()) {
        law(&made, TargetName::Portable, &settings(None))?;
    }

    #[test]
    fn a_disk_image_is_read_as_it_was_written(
        made in made(), platform in 0..3usize, compression in 0..3usize, smallest in prop::option::of("1[0-5]\\.[0-9]"), said in of_bundles()
    ) {
        let made = for_macos(made, platform, smallest, said);
        prop_assume!(made.is_some());
        let mut settings = settings(None);
        settings.dmg.compression = [None, Some(DmgCompression::Lzfse), Some(DmgCompression::None)][compression];
        settings.dmg.level = Some(1);
        law(&made.expect("assumed"), TargetName::Dmg, &settings)?;
    }

    #[test]
    fn a_finished_bundle_is_read_as_it_was_packed(made in made(), platform in 0..3usize, said in of_bundles(), zip in any::<bool>()) {
        let made = for_macos(made, platform, None, said);
        prop_assume!(made.is_some());
        let made = finished(made.expect("assumed"));
        prop_assume!(!zip || made.footprint.traces().iter().filter_map(Trace::path).all(|p| !p.as_str().contains('\\')));
        let mut settings = settings(None);
        settings.dmg.level = Some(1);
        law(&made, if zip { TargetName::Zip } else { TargetName::Dmg }, &settings)?;
    }

    #[test]
    fn a_zip_with_a_bundle_is_read_as_it_was_written(made in made(), platform in 0..3usize, said in of_bundles()) {
        let made = for_macos(made, platform, None, said);
        prop_assume!(made.is_some());
        let made = made.expect("assumed");
        prop_assume!(made.footprint.traces().iter().filter_map(Trace::path).all(|p| !p.as_str().contains('\\')));
        prop_assume!(!made.footprint.product.name.as_deref().unwrap_or_default().contains('\\'));
        law(&made, TargetName::Zip, &settings(None))?;
    }

    #[test]
    fn a_difference_names_exactly_what_differs(a in made(), b in made()) {
        prop_assert!(a.footprint.difference(&a.footprint).is_empty());
        let difference = a.footprint.difference(&b.footprint);
        let mut traces: BTreeMap<TraceKey, Trace> = a.footprint.traces().iter().map(|t| (t.key().into_owned(), t.clone())).collect();
        for change in difference.changes {
            match change {
                Change::Added { new } | Change::Changed { new, .. } => drop(traces.insert(new.key().into_owned(), new)),
                Change::Removed { old } => drop(traces.remove(&old.key().into_owned())),
            }
        }
        let applied: Vec<Trace> = traces.into_values().collect();
        prop_assert_eq!(applied.as_slice(), b.footprint.traces());
    }
}
