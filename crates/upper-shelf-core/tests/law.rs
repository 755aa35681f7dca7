//! The law of every package format: what is written from a footprint is read back as that footprint, for all that the
//! format can carry; and the same input gives the same bytes.

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use upper_shelf_core::budget::Package;
use upper_shelf_core::content::ContentHash;
use upper_shelf_core::footprint::*;
use upper_shelf_core::icons::Icon;
use upper_shelf_core::payload::{Payload, PayloadFile, Source, feed};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::settings::{
    CabinetCompression, Compression, DmgCompression, Settings, SetupCompression, TargetName,
};
use upper_shelf_core::targets::{self, Depth, Job};
use upper_shelf_core::wizard::{Language, Wizard};

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

/// A text, perhaps with another one in German.
fn words() -> impl Strategy<Value = Text> {
    (text(), prop::option::of(text())).prop_map(|(plain, german)| {
        Text::several(plain, german.into_iter().map(|text| ("de".to_owned(), text)).collect())
    })
}

prop_compose! {
    fn identity()(
        name in text(), publisher in text(), summary in prop::option::of(words()),
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

/// A program without its key and its file.
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
        .prop_map(|(arguments, environment, working_folder, console)| Program {
            arguments,
            environment,
            working_folder,
            console,
            ..Program::plain("", RelPath::new("none").expect("a path"))
        })
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
        shortcuts in prop::collection::vec((0..3usize, words(), any::<prop::sample::Index>(), prop::collection::vec(text(), 0..3), prop::option::of(words())), 0..4),
        types in prop::collection::vec(("[a-z]{2,8}/[a-z0-9.+-]{2,12}", prop::collection::vec("[a-z0-9]{1,5}", 1..3), words(), any::<prop::sample::Index>()), 0..3),
        schemes in prop::collection::vec(("[a-z][a-z0-9+.-]{1,7}", any::<prop::sample::Index>()), 0..3),
        wanted in prop::collection::btree_map(prop::sample::select(Access::ALL.to_vec()), prop::option::of(text()), 0..3),
        variables in prop::collection::btree_map("[A-Z_]{1,8}", (0..3usize, text(), any::<bool>()), 0..3),
    ) -> Made {
        let mut taken: BTreeSet<String> = BTreeSet::new();
        let mut tree_of = Vec::new();
        let mut files = Vec::new();
        let mut links = Vec::new();
        // A name is free when it is not taken, is no parent of a taken one, and has no taken parent that is a file.
        let free = |taken: &BTreeSet<String>, folders: &BTreeSet<String>, path: &RelPath| {
            let p = path.as_str();
            !taken.contains(p) && !taken.range(format!("{p}/")..).next().is_some_and(|n| n.starts_with(&format!("{p}/")))
                && p.match_indices('/').all(|(at, _)| !taken.contains(&p[..at]) || folders.contains(&p[..at]))
        };
        let mut dirs: BTreeSet<String> = BTreeSet::new();
        let mut take = |path: &RelPath, is_folder: bool, tree: &mut Vec<Node>| -> bool {
            if !free(&taken, &dirs, path) {
                return false;
            }
            let mut above = path.parent();
            while let Some(folder) = above {
                if dirs.insert(folder.to_string()) {
                    taken.insert(folder.to_string());
                    tree.push(Node::Folder { path: folder.clone(), mode: 0o755 });
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
            if !take(&path, false, &mut tree_of) {
                continue;
            }
            let mode = if runs { 0o755 } else { 0o644 };
            tree_of.push(Node::File { path: path.clone(), mode, size: content.len() as u64, content: Some(ContentHash::of(&content)) });
            files.push(PayloadFile { path, mode, size: content.len() as u64, source: Source::Memory(Arc::from(content)), layer: 0, further_name: false });
        }
        for path in folders {
            if take(&path, true, &mut tree_of) {
                tree_of.push(Node::Folder { path, mode: 0o755 });
            }
        }
        for (path, target) in symlinks {
            if take(&path, false, &mut tree_of) {
                tree_of.push(Node::Link { path, target });
            }
        }
        files.sort_by(|a, b| a.path.cmp(&b.path));
        for path in hard {
            // The first name in order is the file: further names come behind it.
            let Some(to) = files.first().map(|f| f.path.clone()).filter(|to| *to < path) else { continue };
            if take(&path, false, &mut tree_of) {
                links.push((path.clone(), to.clone()));
                tree_of.push(Node::HardLink { path, to });
            }
        }
        let keys: Vec<String> = programs.keys().cloned().collect();
        let programs = programs.into_iter().enumerate().map(|(n, (key, program))| {
            let file = files.get(n % files.len().max(1)).map_or(program.file.clone(), |f| f.path.clone());
            Program { key, file, ..program }
        });
        let pick = |index: &prop::sample::Index| keys[index.index(keys.len())].clone();
        let shortcuts = shortcuts.into_iter().map(|(place, name, program, arguments, description)| {
            let place = [Place::Menu, Place::Desktop, Place::Startup][place];
            Shortcut { place, name, program: pick(&program), arguments, description }
        });
        let types = types.into_iter();
        let types = types.map(|(mime, extensions, name, program)| FileType { mime, extensions, name, program: pick(&program) });
        let schemes = schemes.into_iter().map(|(scheme, program)| LinkScheme { scheme, program: pick(&program) });
        let variables = variables.into_iter().map(|(name, (action, value, inside))| {
            let action = [EnvironmentAction::Set, EnvironmentAction::Prepend, EnvironmentAction::Append][action];
            let value = if inside { format!("{{install}}/{value}") } else { value };
            Variable { name, action, value }
        });
        let commands = keys.iter().enumerate();
        let commands = commands.map(|(n, key)| Command { name: format!("bee-{n}"), program: key.clone() });
        let kinds = [ShellFileKind::Manual, ShellFileKind::Bash, ShellFileKind::Zsh, ShellFileKind::Fish];
        let found = files.iter().filter(|f| !f.path.as_str().contains('\n')).zip(kinds.into_iter().cycle()).enumerate();
        let shell_files = found.take(6).map(|(n, (file, kind))| {
            let name = if kind == ShellFileKind::Manual { format!("bee-{n}.{}", n + 1) } else { format!("bee-{n}") };
            ShellFile { kind, name, file: file.path.clone() }
        });
        let footprint = Footprint {
            product,
            platform: Some(platform),
            commands: commands.collect(),
            shell_files: shell_files.collect(),
            tree: tree_of.into(),
            programs: programs.collect(),
            shortcuts: shortcuts.collect(),
            file_types: types.collect(),
            link_schemes: schemes.collect(),
            environment: variables.collect(),
            permissions: wanted.into_iter().map(|(access, reason)| Permission { access, reason }).collect(),
            icons: ICON.with(Icon::images).into(),
            ..Footprint::default()
        };
        Made { footprint, files, links }
    }
}

thread_local!(static ICON: Icon = Icon::plain("works.fernhollow.law"));

fn write(made: &Made, target: TargetName, settings: &Settings, threads: usize, to: &std::path::Path) -> Footprint {
    let target = targets::target(target);
    let (carried, _) = target.carry(&made.footprint);
    let icon = ICON.with(Icon::clone);
    let german = Language::new("de", &Default::default()).expect("built in");
    let mut wizard = Wizard::default();
    wizard.languages.push(german);
    let out = File::options().read(true).write(true).create(true).truncate(true).open(to).expect("a file");
    let keeps = carried.hard_links().next().is_some();
    let links = made.links.iter().map(|(path, to)| Node::HardLink { path: path.clone(), to: to.clone() }).collect();
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
        signer: None,
        sealed: None,
        threads,
        sidecar: &|_| unreachable!("cabinets are inside"),
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

fn law(made: &Made, target: TargetName, settings: &Settings) -> Result<(), TestCaseError> {
    let dir = tempfile::tempdir().expect("a folder");
    let package = dir.path().join("package");
    let carried = write(made, target, settings, 2, &package);
    let read =
        targets::target(target).read(&Package::of_ours(&package), Depth::Contents).expect("read").expect("recognised");
    prop_assert_eq!(carried.to_text(), read.to_text());
    prop_assert_eq!(&carried, &read);
    let listed =
        targets::target(target).read(&Package::of_ours(&package), Depth::Listing).expect("read").expect("recognised");
    prop_assert_eq!(carried.without_hashes(), listed.without_hashes());
    let again = dir.path().join("again");
    write(made, target, settings, 1, &again);
    let same = std::fs::read(&package).expect("read") == std::fs::read(&again).expect("read");
    prop_assert!(same, "another number of threads gave other bytes");
    Ok(())
}

/// Small blocks, packed quickly.
fn settings(compression: Compression) -> Settings {
    let mut settings = Settings::default();
    (settings.appimage.compression, settings.appimage.level, settings.appimage.block_size) = (compression, 1, 4096);
    (settings.tar.compression, settings.tar.level) = (compression, 1);
    settings.dmg.level = 1;
    settings
}

fn compression() -> impl Strategy<Value = Compression> {
    prop_oneof![Just(Compression::Zstd), Just(Compression::Gzip), Just(Compression::Xz)]
}

/// The same tree with other paths.
fn renamed(tree: &List<Node>, to: impl Fn(&RelPath) -> RelPath) -> List<Node> {
    tree.filter_map(|node| {
        let mut node = node.clone();
        *node.path_mut() = to(node.path());
        if let Node::HardLink { to: file, .. } = &mut node {
            *file = to(file);
        }
        Some(node)
    })
}

/// What only Windows has; files and programs are chosen later.
#[derive(Debug, Clone)]
struct OfWindows {
    registry: Vec<RegistryEntry>,
    services: Vec<Service>,
    fonts: Vec<String>,
    choices: Vec<Choice>,
    install: InstallRules,
    start_at_end: bool,
    kept: usize,
}

/// The same names without what Windows forbids; `None` if two are one then.
fn for_windows(made: Made, platform: Platform, more: OfWindows) -> Option<Made> {
    let plain = |path: &RelPath| {
        let name = |name: &str| {
            let good = |c: char| if "<>:\"\\|?*".contains(c) || c.is_control() { '_' } else { c };
            let name: String = name.chars().map(good).collect();
            format!("{}_", name.trim_end_matches(['.', ' ']))
        };
        let names: Vec<String> = path.as_str().split('/').map(name).collect();
        RelPath::new(names.join("/")).expect("a path")
    };
    let mut footprint = made.footprint;
    let mut seen = BTreeSet::new();
    if !footprint.tree.iter().all(|node| seen.insert(plain(node.path()).as_str().to_lowercase())) {
        return None;
    }
    footprint.platform = Some(platform);
    footprint.tree = renamed(&footprint.tree, plain);
    // A working folder that is not there could not be one.
    let working_folder = WorkingFolder::Install;
    footprint.programs = footprint
        .programs
        .filter_map(|p| Some(Program { file: plain(&p.file), working_folder: working_folder.clone(), ..p.clone() }));
    let mut files = made.files;
    files.iter_mut().for_each(|f| f.path = plain(&f.path));
    let links = made.links.iter().map(|(path, to)| (plain(path), plain(to))).collect();
    let paths: Vec<RelPath> = files.iter().map(|f| f.path.clone()).collect();
    let keys: Vec<String> = footprint.programs.iter().map(|p| p.key.clone()).collect();
    let of_program = |(n, service): (usize, Service)| Service { program: keys[n % keys.len()].clone(), ..service };
    let of_file = |(n, title): (usize, String)| Font { file: paths[n % paths.len()].clone(), title };
    let of_files =
        |(n, choice): (usize, Choice)| Choice { files: paths.iter().step_by(n + 2).cloned().collect(), ..choice };
    footprint.registry = more.registry.into();
    footprint.services = more.services.into_iter().enumerate().map(of_program).collect();
    footprint.fonts = more.fonts.into_iter().enumerate().map(of_file).collect();
    footprint.choices = more.choices.into_iter().enumerate().map(of_files).collect();
    footprint.install = more.install;
    footprint.install.start_at_end = keys.first().filter(|_| more.start_at_end).cloned();
    footprint.install.keep_changed = paths.iter().take(more.kept).cloned().collect();
    Some(Made { footprint, files, links })
}

/// The same for macOS; `None` if two names are one there.
fn for_macos(made: Made, platform: usize, minimum: Option<String>, bundle: BundleRules) -> Option<Made> {
    let mut seen = BTreeSet::new();
    for path in made.footprint.tree.iter().map(Node::path) {
        let name = |n: &str| -> Vec<u16> {
            let units = hfs_plus::name::stored(n).expect("a name");
            units.into_iter().filter_map(hfs_plus::name::folded).collect()
        };
        if !seen.insert(path.as_str().split('/').map(name).collect::<Vec<_>>()) {
            return None;
        }
    }
    let platform = Some([Platform::MacosArm64, Platform::MacosX64, Platform::MacosUniversal][platform]);
    let minimum_macos = minimum.map(|v| v.parse().expect("a version"));
    let install = InstallRules { minimum_macos, ..InstallRules::default() };
    Some(Made { footprint: Footprint { platform, install, bundle, ..made.footprint }, ..made })
}

/// The same inside a bundle that was finished before.
fn finished(made: Made) -> Made {
    let inside = |path: &RelPath| RelPath::new(format!("Hive.app/Contents/MacOS/{path}")).expect("a path");
    let list: &[u8] = b"<plist version=\"1.0\"><dict/></plist>";
    let path = RelPath::new("Hive.app/Contents/Info.plist").expect("a path");
    let (size, content) = (list.len() as u64, Some(ContentHash::of(list)));
    let mut footprint = made.footprint;
    footprint.tree = renamed(&footprint.tree, inside);
    footprint.tree.extend([Node::File { path: path.clone(), mode: 0o644, size, content }]);
    let folders = ["Hive.app", "Hive.app/Contents", "Hive.app/Contents/MacOS"];
    let folder = |path| Node::Folder { path: RelPath::new(path).expect("a path"), mode: 0o755 };
    footprint.tree.extend(folders.map(folder));
    footprint.programs = footprint.programs.filter_map(|p| Some(Program { file: inside(&p.file), ..p.clone() }));
    let source = Source::Memory(Arc::from(list));
    let mut files = vec![PayloadFile { path, mode: 0o644, size, source, layer: 0, further_name: false }];
    files.extend(made.files.into_iter().map(|f| PayloadFile { path: inside(&f.path), ..f }));
    let links = made.links.iter().map(|(path, to)| (inside(path), inside(to))).collect();
    Made { footprint, files, links }
}

/// What a bundle says besides.
fn of_bundles() -> impl Strategy<Value = BundleRules> {
    let json = prop_oneof![
        any::<i64>().prop_map(|n| n.to_string()),
        "[a-zé<&]{0,9}".prop_map(|t| format!("{{\"a\":[true,\"{t}\",0.5]}}")),
    ];
    (
        any::<bool>(),
        prop::option::of(text()),
        prop::collection::btree_map("(de|fr|pt-BR)", text(), 0..3),
        prop::collection::btree_map("Hive[A-Z][a-z]{1,4}", json.prop_map(JsonText), 0..3),
    )
        .prop_map(|(agent, copyright, names, keys)| BundleRules { agent, copyright, names, keys })
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

fn registry_entry() -> impl Strategy<Value = RegistryEntry> {
    let root = prop_oneof![Just(RegistryRoot::Installed), Just(RegistryRoot::Machine), Just(RegistryRoot::User)];
    let view = prop_oneof![Just(RegistryView::Own), Just(RegistryView::Bits32)];
    (root, view, "Software(\\.[A-Za-z]{1,6}){1,3}", prop::option::of(text()), registry_value()).prop_map(
        |(root, view, key, name, value)| RegistryEntry { root, view, key: key.replace('.', "\\"), name, value },
    )
}

fn service() -> impl Strategy<Value = Service> {
    let start = prop_oneof![Just(ServiceStart::Automatic), Just(ServiceStart::OnDemand), Just(ServiceStart::Disabled)];
    (
        "[A-Za-z]{2,9}",
        text(),
        prop::option::of(text()),
        prop::collection::vec(text(), 0..3),
        start,
        prop::option::of("[A-Z][a-z]{2,5}"),
    )
        .prop_map(|(name, title, description, arguments, start, account)| Service {
            name,
            title,
            description,
            program: String::new(),
            arguments,
            start,
            account,
        })
}

fn choice() -> impl Strategy<Value = Choice> {
    ("[a-z][a-z-]{1,6}[a-z]", words(), prop::option::of(words()), any::<bool>())
        .prop_map(|(key, title, description, chosen)| Choice { key, title, description, chosen, files: Vec::new() })
}

fn install_rules() -> impl Strategy<Value = InstallRules> {
    let scope = prop_oneof![Just(Scope::Machine), Just(Scope::User), Just(Scope::Asked)];
    let downgrade = prop_oneof![Just(Downgrade::Blocked), Just(Downgrade::Allowed)];
    let upgrade = prop_oneof![Just(Upgrade::Early), Just(Upgrade::Late)];
    (
        prop::option::of(scope),
        prop::option::of("[A-Z][a-z]{2,5}( [A-Z][a-z]{2,5})?(/[A-Z][a-z]{2,5})?"),
        prop::option::of("10\\.0\\.[1-9][0-9]{3,4}|6\\.[123]"),
        prop::option::of(downgrade),
        prop::option::of(upgrade),
    )
        .prop_map(|(scope, folder, minimum, downgrade, upgrade)| InstallRules {
            scope,
            folder,
            minimum_windows: minimum.map(|v| v.parse().expect("a version")),
            downgrade,
            upgrade,
            ..InstallRules::default()
        })
}

fn of_windows() -> impl Strategy<Value = OfWindows> {
    (
        prop::collection::vec(registry_entry(), 0..5),
        prop::collection::vec(service(), 0..3),
        prop::collection::vec(text(), 0..2),
        prop::collection::vec(choice(), 0..3),
        install_rules(),
        any::<bool>(),
        0..3usize,
    )
        .prop_map(|(registry, services, fonts, choices, install, start_at_end, kept)| OfWindows {
            registry,
            services,
            fonts,
            choices,
            install,
            start_at_end,
            kept,
        })
}

fn made_for_windows() -> impl Strategy<Value = Made> {
    let platform = prop_oneof![Just(Platform::WindowsX64), Just(Platform::WindowsX86), Just(Platform::WindowsArm64)];
    (made(), platform, of_windows())
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
        prop_assume!(made.footprint.tree.iter().map(Node::path).all(|p| !p.as_str().contains('\\')));
        law(&made, TargetName::Zip, &Settings::default())?;
    }

    #[test]
    fn an_msi_is_read_as_it_was_written(made in made_for_windows(), compression in 0..3usize) {
        let mut settings = settings(Compression::Gzip);
        let ways = [CabinetCompression::Lzx, CabinetCompression::Mszip, CabinetCompression::Stored];
        settings.msi.compression = ways[compression];
        law(&made, TargetName::Msi, &settings)?;
    }

    #[test]
    fn a_setup_program_is_read_as_it_was_written(made in made_for_windows(), deflate in any::<bool>()) {
        let mut settings = settings(Compression::Gzip);
        settings.nsis.compression = if deflate { SetupCompression::Deflate } else { SetupCompression::Lzma };
        law(&made, TargetName::Nsis, &settings)?;
    }

    #[test]
    fn an_msix_package_is_read_as_it_was_written(made in made_for_windows()) {
        let mut settings = settings(Compression::Gzip);
        settings.msix.level = 1;
        law(&made, TargetName::Msix, &settings)?;
    }

    #[test]
    fn a_portable_program_is_read_as_it_was_written(made in made_for_windows()) {
        law(&made, TargetName::Portable, &Settings::default())?;
    }

    #[test]
    fn a_difference_names_exactly_what_differs(a in made(), b in made()) {
        prop_assert!(a.footprint.difference(&a.footprint).is_empty());
        let difference = a.footprint.difference(&b.footprint);
        let mut traces: BTreeMap<TraceKey, Trace> = a.footprint.traces().map(|t| (t.key().into_owned(), t)).collect();
        for change in difference.changes {
            match change {
                Change::Added { new } | Change::Changed { new, .. } => drop(traces.insert(new.key().into_owned(), new)),
                Change::Removed { old } => drop(traces.remove(&old.key().into_owned())),
            }
        }
        let applied: Vec<Trace> = traces.into_values().collect();
        prop_assert_eq!(applied, b.footprint.traces().collect::<Vec<_>>());
    }
}

// Each of these draws the product's pictures, in every size, four times.
proptest! {
    #![proptest_config(ProptestConfig { cases: 20, ..ProptestConfig::default() })]

    #[test]
    fn a_disk_image_is_read_as_it_was_written(
        made in made(), platform in 0..3usize, compression in 0..3usize, smallest in prop::option::of("1[0-5]\\.[0-9]"), said in of_bundles()
    ) {
        let made = for_macos(made, platform, smallest, said);
        prop_assume!(made.is_some());
        let mut settings = settings(Compression::Gzip);
        settings.dmg.compression = [DmgCompression::Zlib, DmgCompression::Lzfse, DmgCompression::None][compression];
        law(&made.expect("assumed"), TargetName::Dmg, &settings)?;
    }

    #[test]
    fn a_finished_bundle_is_read_as_it_was_packed(made in made(), platform in 0..3usize, said in of_bundles(), zip in any::<bool>()) {
        let made = for_macos(made, platform, None, said);
        prop_assume!(made.is_some());
        let made = finished(made.expect("assumed"));
        prop_assume!(!zip || made.footprint.tree.iter().map(Node::path).all(|p| !p.as_str().contains('\\')));
        let settings = settings(Compression::Gzip);
        law(&made, if zip { TargetName::Zip } else { TargetName::Dmg }, &settings)?;
    }

    #[test]
    fn a_zip_with_a_bundle_is_read_as_it_was_written(made in made(), platform in 0..3usize, said in of_bundles()) {
        let made = for_macos(made, platform, None, said);
        prop_assume!(made.is_some());
        let made = made.expect("assumed");
        prop_assume!(made.footprint.tree.iter().map(Node::path).all(|p| !p.as_str().contains('\\')));
        prop_assume!(!made.footprint.product.name.as_deref().unwrap_or_default().contains('\\'));
        law(&made, TargetName::Zip, &Settings::default())?;
    }
}
