//! Setup programs, really run on a machine of Wine: silently, over older versions, into files in use, and with the power
//! failing at every step; afterwards the machine is compared with the footprint, and with the machine from before.

use crate::common::hives::{build, product_for};
use crate::common::machine::{Look, changed, files, is_the_footprint, quiet, value};
use crate::common::setups::{LOG, log, run, setup};
use std::path::Path;
use test_support::wine::Wine;

/// Exit codes, of which a shell sees the low byte.
const DAMAGED: i32 = 13;
const IN_USE: i32 = 32;
const USAGE: i32 = 87;
const OLD_WINDOWS: i32 = 1150 & 0xFF;
const NOT_INSTALLED: i32 = 1605 & 0xFF;
const NEWER: i32 = 1638 & 0xFF;

const HERE: &str = "Program Files/Hives & Frames";
const UNINSTALL_PROGRAM: &str = r"C:\Program Files\Hives & Frames\uninstall.exe";

/// The program that removes waits for its own end to be cleared away: that is left to the system's next start.
fn without_pending(registry: test_support::wine::Registry) -> test_support::wine::Registry {
    let mut registry = quiet(registry);
    registry.retain(|key, _| !key.ends_with("\\Session Manager"));
    registry
}

#[test]
fn an_installation_leaves_exactly_the_footprint_and_removal_leaves_nothing() {
    let (folder, package) = setup("2.4.0", "");
    let machine = Wine::new();
    let (files_before, registry_before) = (files(&machine), without_pending(machine.registry()));
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    let menu = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Hives & Frames.lnk";
    let registry = is_the_footprint(&machine, &folder, &package, &Look { menu, picture: "hives.exe", bare: "" });
    let entry = r"machine\Software\Microsoft\Windows\CurrentVersion\Uninstall\works.fernhollow.hives";
    for (name, expected) in [
        ("DisplayName", "\"Hives & Frames\""),
        ("DisplayVersion", "\"2.4.0\""),
        ("Publisher", "\"Fernhollow Apiary Works\""),
        ("QuietUninstallString", "\"\"C:\\Program Files\\Hives & Frames\\uninstall.exe\" /S\""),
        ("InstallLocation", "\"C:\\Program Files\\Hives & Frames\""),
    ] {
        assert_eq!(value(&registry, entry, name), Some(expected), "{name}");
    }
    let kib = format!("dword:{:08x}", size_of(&folder.at("built")).div_ceil(1024));
    assert_eq!(value(&registry, entry, "EstimatedSize"), Some(kib.as_str()));

    std::fs::remove_file(machine.c().join("where.txt")).expect("removed");
    assert_eq!(machine.code_of(&[UNINSTALL_PROGRAM, "/S", LOG], &[]), 0, "{}", log(&machine));
    let left: Vec<String> = files(&machine).difference(&files_before).cloned().collect();
    assert_eq!(left, Vec::<String>::new(), "left behind");
    assert_eq!(changed(&registry_before, &without_pending(machine.registry())), Vec::<String>::new());
    assert_eq!(run(&machine, &package, &["/REMOVE"]), NOT_INSTALLED);
}

#[test]
fn what_is_packed_for_speed_installs_and_leaves_nothing_too() {
    let (_folder, package) = setup("2.4.0", "[target.nsis]\ncompression = \"deflate\"");
    let machine = Wine::new();
    let before = files(&machine);
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    let installed = std::fs::read(machine.c().join(HERE).join("hives.exe")).expect("installed");
    assert!(installed == crate::common::hives::PROGRAM);
    // Once more over itself: it is still known what is whose.
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    assert_eq!(machine.code_of(&[UNINSTALL_PROGRAM, "/S", LOG], &[]), 0, "{}", log(&machine));
    let left: Vec<String> = files(&machine).difference(&before).cloned().collect();
    assert_eq!(left, Vec::<String>::new(), "left behind");
}

#[test]
fn no_head_is_larger_than_112_kilobytes() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../upper-shelf-core/heads");
    let is_setup = |name: &str| name.starts_with("setup-") || name.starts_with("portable-");
    let heads = std::fs::read_dir(folder).expect("stored heads").flatten();
    let heads: Vec<_> = heads.filter(|head| is_setup(&head.file_name().to_string_lossy())).collect();
    assert_eq!(heads.len(), 12, "two tasks, two ways of packing, three processors");
    for head in heads {
        let size = head.metadata().expect("there").len();
        assert!(size <= 112 << 10, "{:?} has {size} bytes", head.file_name());
    }
}

fn size_of(folder: &Path) -> u64 {
    let entries = std::fs::read_dir(folder).expect("a folder").flatten();
    let size = |e: std::fs::DirEntry| {
        let meta = e.metadata().expect("there");
        if meta.is_dir() { size_of(&e.path()) } else { meta.len() }
    };
    entries.map(size).sum()
}

#[test]
fn an_upgrade_takes_the_old_files_away_and_leaves_what_people_made() {
    let more = "[install]\nkeep-changed = [\"data/frames.txt\", \"data/own.txt\"]";
    let (old, new) = (product_for("nsis", "1.0.0", more), product_for("nsis", "2.0.0", more));
    old.write("built/data/gone.txt", "only in the old version").write("built/data/own.txt", "as delivered");
    new.write("built/data/come.txt", "only in the new version").write("built/data/own.txt", "as delivered now");
    let (old, new) = (build(&old), build(&new));
    let machine = Wine::new();
    // The folder that was chosen for the old version is the new one's too.
    let name = machine.bring(&old, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S", LOG, r"/FOLDER=C:\Apiary of Mill Lane"], &[]), 0, "{}", log(&machine));
    let at = |path: &str| machine.c().join("Apiary of Mill Lane").join(path);
    let text = |path: &str| std::fs::read_to_string(at(path)).unwrap_or_default();
    assert!(at("data/gone.txt").exists());
    std::fs::write(at("data/own.txt"), "mine").expect("changed");
    std::fs::write(at("data/notes.txt"), "nobody installed this").expect("made");
    assert_eq!(run(&machine, &new, &[]), 0, "{}", log(&machine));
    assert!(!at("data/gone.txt").exists() && at("data/come.txt").exists());
    assert_eq!(text("data/frames.txt"), "frames of 2.0.0\n", "nobody had changed this one");
    assert_eq!(text("data/own.txt"), "mine");
    let before = files(&machine);
    assert_eq!(run(&machine, &old, &[]), NEWER);
    assert_eq!(files(&machine), before, "a refused downgrade changes nothing");
    // A repair puts back what is missing.
    std::fs::remove_file(at("hives.exe")).expect("removed");
    assert_eq!(run(&machine, &new, &[]), 0);
    assert!(at("hives.exe").exists());
    assert_eq!(run(&machine, &new, &["/REMOVE"]), 0, "{}", log(&machine));
    let left = test_support::listing(&machine.c().join("Apiary of Mill Lane"));
    let left: Vec<&str> = left.iter().map(|l| l.split(' ').next().unwrap_or_default()).collect();
    assert_eq!(left, ["data/", "data/notes.txt", "data/own.txt"], "only what people made or changed");
}

#[test]
fn what_was_chosen_stays_over_upgrades_until_somebody_says_otherwise() {
    let more = "[[shortcut]]\nprogram = \"scale\"\nname = \"Scale\"\nplaces = [\"startup\"]";
    let [(_one, first), (_two, second), (_three, third)] = ["1.0.0", "2.0.0", "3.0.0"].map(|v| setup(v, more));
    let machine = Wine::new();
    let before = (files(&machine), without_pending(machine.registry()));
    let there = || {
        let all = files(&machine);
        let has = |end: &str| all.iter().any(|f| f.contains(end));
        (has("/samples/a.comb"), has("Desktop/Hives & Frames.lnk"), has("StartUp/Scale.lnk"))
    };
    let steps: [(&Path, &[&str], _); 6] = [
        (&first, &["/CHOICES=", "/DESKTOP=0", "/STARTUP=0"], (false, false, false)),
        (&second, &[], (false, false, false)),
        (&second, &["/CHOICES=samples", "/DESKTOP=1", "/STARTUP=1"], (true, true, true)),
        (&third, &[], (true, true, true)),
        (&third, &["/STARTUP=0"], (true, true, false)),
        (&third, &["/CHOICES="], (false, true, false)),
    ];
    for (n, (package, switches, wanted)) in steps.into_iter().enumerate() {
        assert_eq!(run(&machine, package, switches), 0, "step {n}: {}", log(&machine));
        assert_eq!(there(), wanted, "step {n}: {switches:?}");
    }
    assert_eq!(run(&machine, &third, &["/REMOVE"]), 0, "{}", log(&machine));
    assert_eq!((files(&machine), without_pending(machine.registry())), before);
}

#[test]
fn a_product_moves_to_the_folder_that_is_named() {
    let [(_one, first), (_two, second)] = ["1.0.0", "2.0.0"].map(|v| setup(v, ""));
    let machine = Wine::new();
    let before = (files(&machine), without_pending(machine.registry()));
    let (old, new) = (machine.c().join("Old Place"), machine.c().join("New Place/Hives"));
    assert_eq!(run(&machine, &first, &[r"/FOLDER=C:\Old Place"]), 0, "{}", log(&machine));
    assert!(old.join("hives.exe").exists());
    assert_eq!(run(&machine, &second, &[]), 0, "{}", log(&machine));
    assert!(old.join("hives.exe").exists(), "where the version before was");
    std::fs::write(old.join("notes.txt"), "nobody installed this").expect("made");
    assert_eq!(run(&machine, &second, &[r"/FOLDER=C:\New Place\Hives"]), 0, "{}", log(&machine));
    assert!(new.join("hives.exe").exists() && new.join("deep/deeper/deepest.txt").exists());
    assert_eq!(test_support::listing(&old).len(), 1, "only what a user made: {:?}", test_support::listing(&old));
    std::fs::remove_dir_all(&old).expect("the user's");
    assert_eq!(machine.code_of(&[r"C:\New Place\Hives\uninstall.exe", "/S"], &[]), 0, "{}", log(&machine));
    assert_eq!((files(&machine), without_pending(machine.registry())), before);
}

#[test]
fn one_person_gets_it_without_the_machine_hearing_of_it() {
    let (_folder, package) = setup("1.0.0", "[install]\nscope = \"asked\"");
    let machine = Wine::new();
    let before = without_pending(machine.registry());
    assert_eq!(run(&machine, &package, &["/SCOPE=user", "/CHOICES=", "/DESKTOP=0"]), 0, "{}", log(&machine));
    let own = machine.c().join("users/root/AppData/Local/Programs/Hives & Frames");
    assert!(own.join("hives.exe").exists() && !own.join("samples").exists(), "{:?}", test_support::listing(&own));
    assert!(!files(&machine).iter().any(|f| f.contains("Desktop/Hives")));
    let machines = |changes: Vec<String>| {
        let noise = |c: &&String| c.starts_with("machine\\") && !c.contains("\\Wow6432Node\\");
        changes.iter().filter(noise).cloned().collect::<Vec<_>>()
    };
    let after = without_pending(machine.registry());
    assert_eq!(machines(changed(&before, &after)), Vec::<String>::new());
    assert_eq!(machine.code_of(&[r"C:\users\root\AppData\Local\Programs\Hives & Frames\uninstall.exe", "/S"], &[]), 0);
    assert!(!own.exists());
    // For everyone, with the same file.
    assert_eq!(run(&machine, &package, &["/SCOPE=machine"]), 0, "{}", log(&machine));
    assert!(machine.c().join(HERE).join("samples/a.comb").exists());
}

#[test]
fn it_says_no_before_it_touches_anything() {
    let (folder, package) = setup("1.0.0", "[install]\nminimum-windows = \"10.0.17763\"");
    let machine = Wine::new();
    let before = files(&machine);
    assert_eq!(run(&machine, &package, &[]), OLD_WINDOWS);
    assert!(log(&machine).contains("setup-windows 10.0.17763"), "{}", log(&machine));
    machine.is_windows_10();
    for switch in ["/QUIET", "/SCOPE=all", "/IN-USE=kill"] {
        assert_eq!(run(&machine, &package, &[switch]), USAGE, "{switch}");
    }
    for place in [
        r"/FOLDER=C:\Windows",
        r"/FOLDER=Apiary",
        r"/FOLDER=C:\a\..\Windows",
        r"/FOLDER=C:\Program Files",
        r"/FOLDER=C:\a*b",
    ] {
        assert_eq!(run(&machine, &package, &[place]), USAGE, "{place}: {}", log(&machine));
    }
    let mut bytes = std::fs::read(&package).expect("read");
    let at = bytes.len() - 5000;
    bytes[at] ^= 1;
    folder.write("damaged.exe", &bytes);
    assert_eq!(run(&machine, &folder.at("damaged.exe"), &[]), DAMAGED);
    folder.write("cut.exe", &bytes[..bytes.len() - 3000]);
    assert_eq!(run(&machine, &folder.at("cut.exe"), &[]), DAMAGED);
    assert_eq!(files(&machine), before);
}

#[test]
fn files_in_use_are_noticed_and_nothing_is_changed() {
    let (_old, old) = setup("1.0.0", "");
    let (_new, new) = setup("2.0.0", "");
    let machine = Wine::new();
    assert_eq!(run(&machine, &old, &[]), 0);
    let frames = machine.c().join(HERE).join("data/frames.txt");
    // The window-reader holds the file that it writes open while it waits for a button that never comes.
    let holder = machine.hold(r"C:\Program Files\Hives & Frames\data\frames.txt");
    let before = files(&machine);
    let code = run_without_settling(&machine, &new, &[]);
    drop(holder);
    assert_eq!(code, IN_USE, "{}", log(&machine));
    assert!(log(&machine).contains("in use: C:\\Program Files\\Hives & Frames\\data\\frames.txt"), "{}", log(&machine));
    assert_eq!(files(&machine), before);
    assert_eq!(run(&machine, &new, &["/IN-USE=wait"]), 0, "{}", log(&machine));
    assert_eq!(std::fs::read_to_string(frames).expect("there"), "frames of 2.0.0\n");
}

#[test]
fn a_service_is_installed_changed_and_taken_away() {
    let service = |start: &str| {
        format!(
            "[[service]]\nname = \"HiveScale\"\ntitle = \"Hive Scale\"\nprogram = \"scale\"\nstart = \"{start}\"\n\
                 arguments = [\"--quiet\"]"
        )
    };
    let (_old, old) = setup("1.0.0", &service("on-demand"));
    let (_new, new) = setup("2.0.0", &service("disabled"));
    let (_without, without) = setup("3.0.0", "");
    let machine = Wine::new();
    let registry_before = without_pending(machine.registry());
    let key = "machine\\System\\CurrentControlSet\\Services\\HiveScale";
    for (package, start) in [(&old, "dword:00000003"), (&new, "dword:00000004")] {
        assert_eq!(run(&machine, package, &[]), 0, "{}", log(&machine));
        let registry = machine.registry();
        assert_eq!(value(&registry, key, "DisplayName"), Some("\"Hive Scale\""));
        assert_eq!(value(&registry, key, "Start"), Some(start));
        let image = value(&registry, key, "ImagePath").expect("a path");
        assert!(image.contains("tools\\scale.exe") && image.ends_with("--station \"Mill Lane\" --quiet\""), "{image}");
    }
    assert_eq!(run(&machine, &without, &[]), 0, "{}", log(&machine));
    assert_eq!(value(&machine.registry(), key, "DisplayName"), None, "the new version has none");
    assert_eq!(run(&machine, &new, &[]), NEWER);
    assert_eq!(run(&machine, &without, &["/REMOVE"]), 0, "{}", log(&machine));
    assert_eq!(changed(&registry_before, &without_pending(machine.registry())), Vec::<String>::new());
}

#[test]
fn another_reader_of_programs_sees_icons_versions_and_the_right_checksum() {
    let (_folder, package) = setup("1.0.0", "");
    let script = "import lief, sys\nb = lief.parse(sys.argv[1]); m = b.resources_manager; v = m.version\n\
                      print(b.optional_header.checksum == b.compute_checksum(), len(list(m.icons)), 'comctl32' in m.manifest.lower() or 'Common-Controls' in m.manifest)\n\
                      print(v[0] if isinstance(v, list) else v)";
    let ask = |path: &Path| {
        test_support::judge_says_yes(&test_support::python(), &["-c", script, path.to_str().expect("text")])
    };
    let said = ask(&package);
    assert!(said.starts_with("True 9 True\n"), "{said}");
    assert!(said.contains("ProductName: Hives & Frames") && said.contains("ProductVersion: 1.0.0"), "{said}");
    // And it says no to a changed one.
    let mut bad = std::fs::read(&package).expect("read");
    let at = bad.len() - 100;
    bad[at] ^= 1;
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("bad.exe"), bad).expect("written");
    assert!(ask(&folder.path().join("bad.exe")).starts_with("False"));
}

#[test]
fn keys_that_belong_to_a_file_type_are_refused() {
    let more = "[[registry]]\nkey = 'software\\classes\\.COMB\\ShellNew'\nvalue = { text = \"\" }";
    let folder = product_for("nsis", "1.0.0", more);
    let out = folder.command(&["build"]).output().expect("run");
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert_eq!(out.status.code(), Some(1), "{said}");
    assert!(said.contains("belongs to a [[file-type]]"), "{said}");
}

fn run_without_settling(machine: &Wine, package: &Path, args: &[&str]) -> i32 {
    let name = machine.bring(package, "setup.exe");
    machine.code_beside(&[&[name.as_str(), "/S", LOG], args].concat())
}

/// A setup program with instructions of one's own choice.
fn made_by_hand(entries: impl Fn(&mut nsis_archive::header::TextBuilder) -> Vec<[i32; 7]>) -> Vec<u8> {
    use nsis_archive::custom::{Custom, kind};
    use nsis_archive::header::{Header, TextBuilder};
    use nsis_archive::write::{Options, Writer};
    const HEAD: &[u8] = include_bytes!("../../../upper-shelf-core/heads/setup-lzma-x64.exe");
    let mut texts = TextBuilder::new("{install}");
    let mut all = Vec::new();
    let product = ["works.fernhollow.evil", "Evil", "1.0.0", "", "", "", ""].map(|t| texts.add(t));
    Custom { kind: kind::PRODUCT, numbers: product.to_vec() }.put(&mut all);
    let numbers = vec![texts.add("en"), 1, 1033, 0];
    Custom { kind: kind::LANGUAGE, numbers }.put(&mut all);
    let numbers = vec![texts.add("folder"), texts.add("Evil")];
    Custom { kind: kind::RULE, numbers }.put(&mut all);
    all.extend(entries(&mut texts));
    let header = Header { flags: 0, entries: all, texts: texts.finish() }.write().expect("a header");
    let options = Options { dictionary: 1 << 16, ..Options::default() };
    let mut writer = Writer::new(std::io::Cursor::new(Vec::new()), HEAD, &header, &options).expect("begun");
    writer.file(5).and_then(|()| writer.data(b"evil\n")).expect("written");
    writer.finish().expect("finished").0.into_inner()
}

#[test]
fn paths_that_lead_out_of_the_folder_are_refused() {
    use nsis_archive::structs::op;
    let machine = Wine::new();
    let before = files(&machine);
    for path in [
        r"..\evil.txt",
        r"{install}\..\evil.txt",
        r"C:\evil.txt",
        r"a\..\..\evil.txt",
        "a/../evil.txt",
        r"a\.\b",
        "evil.txt:x",
        "nul\u{1}",
    ] {
        let bytes = made_by_hand(|texts| {
            vec![[op::FOLDER, texts.add("{install}"), 1, 0, 0, 0, 0], [op::FILE, 0, texts.add(path), 0, 0, 0, 0]]
        });
        std::fs::write(machine.c().join("evil.exe"), bytes).expect("written");
        assert_eq!(machine.code_beside(&[r"C:\evil.exe", "/S", LOG]), DAMAGED, "{path:?}: {}", log(&machine));
    }
    machine.run(&["wineboot", "-s"]);
    assert_eq!(files(&machine), before);
    assert!(!machine.c().join("evil.txt").exists());
}

#[test]
fn a_flipped_byte_anywhere_is_noticed_and_nothing_is_changed() {
    let (_folder, package) = setup("1.0.0", "");
    let good = std::fs::read(&package).expect("read");
    let machine = Wine::new();
    let before = files(&machine);
    let mut refused_by_the_head = 0;
    // Spread over the whole file, and close together where lengths and hashes stand.
    let data = good.windows(16).position(|w| w == b"Upper Shelf seal").expect("the seal");
    let spread = (0..50).map(|n| 700 + n * (good.len() - 700) / 50);
    let places: Vec<usize> = spread.chain((data..data + 48).step_by(5)).chain(data + 512..data + 545).collect();
    for at in &places {
        let mut bad = good.clone();
        bad[*at] ^= 0x40;
        std::fs::write(machine.c().join("bad.exe"), &bad).expect("written");
        // A wrong instruction of the head may also go round for ever.
        let code = machine.code_within(&[r"C:\bad.exe", "/S", LOG], 10);
        assert_ne!(code, Some(0), "the byte at {at}");
        assert!(!machine.c().join(HERE).exists(), "the byte at {at}");
        refused_by_the_head += usize::from(code == Some(DAMAGED));
    }
    machine.run(&["wineboot", "-s"]);
    assert_eq!(files(&machine), before);
    // The others are in the head's own instructions: the system or the processor stops them.
    assert!(refused_by_the_head * 4 > places.len() * 3, "{refused_by_the_head} of {}", places.len());
}
