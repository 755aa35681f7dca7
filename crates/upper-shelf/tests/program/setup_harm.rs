//! Setup programs for the least lucky: libraries planted beside them, journals and records that somebody else wrote, a
//! user without an administrator's rights, running services, names that look like templates.

use crate::common::hives::{build, product_for};
use crate::common::machine::{files, quiet, value};
use crate::common::setups::{LOG, log, run, setup};
use std::path::Path;
use test_support::wine::Wine;

const ELEVATION: i32 = 740 & 0xFF;
const NEWER: i32 = 1638 & 0xFF;
const USAGE: i32 = 87;
const HERE: &str = "Program Files/Hives & Frames";

#[test]
fn heads_take_libraries_from_the_systems_folder_only() {
    // Those that Windows itself never looks for beside a program ("KnownDLLs").
    const KNOWN: [&str; 9] =
        ["kernel32", "user32", "gdi32", "advapi32", "shell32", "ole32", "comctl32", "ntdll", "shcore"];
    let script = "import lief, sys\nb = lief.parse(sys.argv[1])\n\
                      print(b.load_configuration.dependent_load_flags, ' '.join(i.name.lower() for i in b.imports))";
    let heads = Path::new(env!("CARGO_MANIFEST_DIR")).join("../upper-shelf-core/heads");
    let heads = std::fs::read_dir(heads).expect("stored heads").flatten().map(|head| head.path());
    let mut seen = 0;
    for path in heads.filter(|path| path.extension().is_some_and(|e| e == "exe")) {
        let said = test_support::judge_says_yes(&test_support::python(), &["-c", script, path.to_str().expect("text")]);
        let (flags, libraries) = said.trim().split_once(' ').expect("flags and names");
        assert_eq!(flags, "2048", "{path:?}: LOAD_LIBRARY_SEARCH_SYSTEM32");
        for library in libraries.split(' ') {
            let plain = library.trim_end_matches(".dll");
            assert!(KNOWN.contains(&plain), "{path:?} names {library}");
        }
        seen += 1;
    }
    assert_eq!(seen, 15);
}

#[test]
fn libraries_planted_beside_it_are_not_loaded() {
    let (_folder, package) = setup("1.0.0", "");
    let machine = Wine::new();
    // Those that it loads itself; what Windows' own libraries load among themselves Wine looks for in other places.
    for name in ["rstrtmgr", "msi"] {
        std::fs::write(machine.c().join(format!("{name}.dll")), "planted").expect("written");
    }
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    assert_eq!(run(&machine, &package, &["/REMOVE"]), 0, "{}", log(&machine));
}

/// Makes a journal of one change, as an interrupted run would have left it.
fn planted(machine: &Wine, folder: &str) -> String {
    let stage = machine.c().join(folder).join("~setup");
    std::fs::create_dir_all(&stage).expect("made");
    std::fs::write(stage.join("journal"), "folder\tC:\\\\Program Files\\\\planted\nend\n").expect("written");
    format!(r"C:\{}\~setup", folder.replace('/', "\\"))
}

#[test]
fn an_elevated_run_does_not_follow_what_a_person_could_have_written() {
    let (_folder, package) = setup("1.0.0", "[install]\nscope = \"asked\"");
    let made = |machine: &Wine| machine.c().join("Program Files/planted").exists();
    for (root, elevated, followed) in [("HKCU", true, false), ("HKCU", false, true), ("HKLM", true, false)] {
        let machine = Wine::new();
        let stage = planted(&machine, "users/root/evil");
        let key = format!(r"{root}\Software\works.fernhollow.hives");
        machine.run(&["reg", "add", &key, "/v", "Unfinished", "/t", "REG_MULTI_SZ", "/d", &stage, "/f"]);
        let name = machine.bring(&package, "setup.exe");
        let line = [name.as_str(), "/S", LOG, "/SCOPE=user"];
        let code = if elevated { machine.code_of(&line, &[]) } else { machine.as_user(&line) };
        assert_eq!(code, 0, "{}", log(&machine));
        assert_eq!(made(&machine), followed, "{root}, elevated: {elevated}: {}", log(&machine));
    }
}

#[test]
fn a_journal_that_was_changed_is_not_followed_and_one_that_was_not_is() {
    let (_folder, package) = setup("1.0.0", "");
    for changed in [true, false] {
        let machine = Wine::new();
        let name = machine.bring(&package, "setup.exe");
        // Behind the moment at which the journal holds.
        let mut stop = 40;
        let stage = machine.c().join("Tools/~setup");
        loop {
            machine.code_until_line(&[&name, "/S", LOG, r"/FOLDER=C:\Tools"], "log.txt", stop);
            if stage.join("journal").exists() {
                break;
            }
            stop += 3;
            assert!(stop < 200, "it never begins: {}", log(&machine));
        }
        let mut journal = std::fs::read_to_string(stage.join("journal")).expect("read");
        if changed {
            journal = journal.replace("\nend\n", "\nfolder\tC:\\\\Program Files\\\\planted\nend\n");
            std::fs::write(stage.join("journal"), journal).expect("written");
        }
        assert_eq!(run(&machine, &package, &[r"/FOLDER=C:\Tools"]), 0, "{}", log(&machine));
        assert!(!machine.c().join("Program Files/planted").exists());
        // Wine itself runs what the next login would: its own log tells.
        let own = machine.c().join("users/root/Temp/works.fernhollow.hives-setup.log");
        let told = log(&machine) + &std::fs::read_to_string(own).unwrap_or_default();
        assert_eq!(told.contains("is ignored"), changed, "{told}");
        assert_eq!(told.contains("it was finished"), !changed, "{told}");
        assert!(machine.c().join("Tools/hives.exe").exists() && !stage.exists());
    }
}

#[test]
fn a_record_that_somebody_else_wrote_takes_nothing_away_outside_the_folder() {
    let (_folder, package) = setup("1.0.0", "");
    let machine = Wine::new();
    assert_eq!(run(&machine, &package, &[r"/FOLDER=C:\Tools"]), 0, "{}", log(&machine));
    std::fs::write(machine.c().join("victim.txt"), "the machine's").expect("written");
    machine.run(&["reg", "add", r"HKLM\Software\Victim", "/v", "Value", "/d", "mine", "/f"]);
    let record = machine.c().join("Tools/uninstall.dat");
    let text = std::fs::read_to_string(&record).expect("a record");
    let mine: String = "mine\0".encode_utf16().flat_map(u16::to_le_bytes).map(|b| format!("{b:02x}")).collect();
    let more = format!(
        "file\tC:\\\\victim.txt\nfolder\tC:\\\\Tools\\\\..\nvalue\t1\tSoftware\\\\Victim\tValue\t1\t{mine}\tnone\t\n"
    );
    std::fs::write(&record, format!("{more}{text}")).expect("written");
    assert_eq!(run(&machine, &package, &["/REMOVE"]), 0, "{}", log(&machine));
    assert!(machine.c().join("victim.txt").exists());
    assert!(!machine.c().join("Tools/hives.exe").exists(), "its own files go");
    assert_eq!(value(&machine.registry(), r"machine\Software\Victim", "Value"), Some("\"mine\""));
}

#[test]
fn a_person_gets_it_for_everyone_and_takes_it_away_again_by_asking_an_administrator() {
    let (_folder, package) = setup("1.0.0", "[install]\nscope = \"asked\"");
    let machine = Wine::new();
    let name = machine.bring(&package, "setup.exe");
    let user = machine.user();
    let line = [user[0], user[1], &name, "/LANGUAGE=en"];
    let everyone = "Everyone who uses this computer";
    // Wine runs what an administrator is asked for with the same rights: so the second program is there, behind the
    // page that asked for whom, nobody is in its way, and it says what it lacks.
    let steps = ["Next", everyone, "Next", "Next", "Install", "Close"];
    let (pages, code) = machine.walk_program(&line, &steps);
    assert_eq!(code, ELEVATION);
    assert!(pages[3].texts().iter().any(|t| t.starts_with("Choose where to install ")), "{:?}", pages[3].texts());
    assert!(pages[5].texts().contains(&"Administrator rights are required."), "{:?}", pages[5].texts());
    let own_log = || {
        std::fs::read_to_string(machine.c().join("users/root/Temp/works.fernhollow.hives-setup.log"))
            .unwrap_or_default()
    };
    assert!(own_log().contains("| /ELEVATED /SCOPE=machine"), "{}", own_log());
    // An administrator gets it for everyone that way.
    let line = [name.as_str(), "/ELEVATED", "/SCOPE=machine", "/LANGUAGE=en"];
    let (_, code) = machine.walk_program(&line, &["Next", "Install", "Finish"]);
    assert_eq!(code, 0);
    assert!(machine.c().join(HERE).join("hives.exe").exists());
    // Without windows nobody can be asked: it says so, and changes nothing.
    let before = files(&machine);
    let remover = format!(r"C:\{}\uninstall.exe", HERE.replace('/', "\\"));
    assert_eq!(machine.as_user(&[&remover, "/S"]), ELEVATION);
    assert_eq!(machine.as_user(&[&name, "/S"]), ELEVATION);
    assert_eq!(files(&machine), before);
    // With windows both programs ask for one first.
    for (program, press) in [(&remover, "Uninstall"), (&name, "Repair")] {
        let line = [user[0], user[1], program, "/LANGUAGE=en"];
        let (_, code) = machine.walk_program(&line, &[press, "Close"]);
        assert_eq!(code, ELEVATION, "{program}");
        assert!(own_log().contains("| /ELEVATED") || own_log().contains("/FROM="), "{program}: {}", own_log());
    }
    assert_eq!(machine.code_of(&[&remover, "/S"], &[]), 0);
    assert!(!machine.c().join(HERE).exists());
}

#[test]
fn a_running_service_of_the_product_is_in_nobodys_way() {
    let service = "[[program]]\nkey = \"keeper\"\nfile = \"keeper.exe\"\narguments = [\"service\"]\n\
                       [[service]]\nname = \"HiveKeeper\"\nprogram = \"keeper\"\n";
    let packages = ["1.0.0", "2.0.0"].map(|version| {
        let folder = product_for("nsis", version, service);
        folder.write("built/keeper.exe", Wine::service());
        (build(&folder), folder)
    });
    let machine = Wine::new();
    // Services end with the last program that runs.
    let awake = machine.hold(r"C:\awake.txt");
    let name = machine.bring(&packages[0].0, "first.exe");
    assert_eq!(machine.code_beside(&[&name, "/S", LOG]), 0, "{}", log(&machine));
    assert!(log(&machine).contains("the service HiveKeeper is started"), "{}", log(&machine));
    let name = machine.bring(&packages[1].0, "second.exe");
    let now = machine.said(&["sc", "query", "HiveKeeper"]);
    assert!(now.contains("RUNNING"), "{now}");
    for (what, switch) in [("upgraded", "/S"), ("repaired", "/S")] {
        assert_eq!(machine.code_beside(&[&name, switch, LOG]), 0, "{what}: {}", log(&machine));
        assert!(log(&machine).contains("the service HiveKeeper is stopped"), "{what}: {}", log(&machine));
        assert!(log(&machine).contains("the service HiveKeeper is started"), "{what}: {}", log(&machine));
    }
    // A file that somebody else holds: nothing is changed, and the service runs again.
    let holder = machine.hold(r"C:\Program Files\Hives & Frames\data\frames.txt");
    assert_eq!(machine.code_beside(&[&name, "/S", LOG]), 32, "{}", log(&machine));
    drop(holder);
    assert!(machine.said(&["net", "start"]).contains("HiveKeeper"));
    drop(awake);
    assert_eq!(machine.code_of(&[&name, "/S", LOG, "/REMOVE"], &[]), 0, "{}", log(&machine));
    assert!(!machine.c().join(HERE).exists());
}

#[test]
fn a_final_version_replaces_its_own_beta_and_not_the_other_way_round() {
    let [(_a, beta), (_b, last)] = ["2.0.0-beta.2", "2.0.0"].map(|v| setup(v, ""));
    let machine = Wine::new();
    assert_eq!(run(&machine, &beta, &[]), 0, "{}", log(&machine));
    assert_eq!(run(&machine, &last, &[]), 0, "{}", log(&machine));
    assert_eq!(run(&machine, &beta, &[]), NEWER, "{}", log(&machine));
}

#[test]
fn names_are_never_templates() {
    let folder = product_for("nsis", "1.0.0", "");
    folder.write("built/brace{install}.txt", "a name").write("built/{install}/x$OUTDIR.txt", "another one");
    folder.write("built/a{install}b/{version}", "and one more");
    let package = build(&folder);
    folder.ok(&["check", package.to_str().expect("text")]);
    let machine = Wine::new();
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    for name in ["brace{install}.txt", "{install}/x$OUTDIR.txt", "a{install}b/{version}"] {
        assert!(machine.c().join(HERE).join(name).exists(), "{name}");
    }
    assert_eq!(run(&machine, &package, &["/REMOVE"]), 0, "{}", log(&machine));
    assert!(!machine.c().join(HERE).exists());
}

#[test]
fn a_misspelt_part_or_scope_is_said_and_changes_nothing() {
    let (_folder, package) = setup("1.0.0", "");
    let machine = Wine::new();
    assert_eq!(run(&machine, &package, &[]), 0, "{}", log(&machine));
    let before = files(&machine);
    let wrong = ["/CHOICES=smaples", "/CHOICES=samples,x", "/SCOPE=user", r"/D=C:\x", "/NCRC", "/FOLDER"];
    for switch in wrong {
        assert_eq!(run(&machine, &package, &[switch]), USAGE, "{switch}");
    }
    assert_eq!(files(&machine), before);
    assert_eq!(run(&machine, &package, &["/SCOPE=machine", "/CHOICES=SAMPLES"]), 0, "{}", log(&machine));
    // The folder's switch may stand anywhere, quoted as usual.
    let place = [r"/FOLDER=C:\Other Place\Hives\", "/DESKTOP=0"];
    assert_eq!(run(&machine, &package, &place), 0, "{}", log(&machine));
    assert!(machine.c().join("Other Place/Hives/hives.exe").exists());
}

#[test]
fn what_other_programs_have_stays_theirs() {
    let (_folder, package) = setup(
        "1.0.0",
        "[install]\nscope = \"asked\"\n[[environment]]\nname = \"HIVEEXT\"\nvalue = \".comb\"\naction = \"prepend\"\n[[environment]]\nname = \"HIVETEMP\"\nvalue = \"%TEMP%\"\n",
    );
    let machine = Wine::new();
    for (key, name, data) in [
        (r"HKLM\Software\Classes\.comb", "", "Other.Comb"),
        (r"HKLM\Software\Classes\.comb", "Content Type", "text/x-other"),
        (r"HKLM\Software\Classes\hives\shell\open\command", "", r#""C:\other.exe" "%1""#),
        (r"HKLM\System\CurrentControlSet\Control\Session Manager\Environment", "HIVEEXT", ".other"),
    ] {
        let name: &[&str] = if name.is_empty() { &["/ve"] } else { &["/v", name] };
        machine.run(&[&["reg", "add", key, "/d", data, "/f"], name].concat());
    }
    let seen = |machine: &Wine| {
        let registry = machine.registry();
        let of = |key: &str, name: &str| value(&registry, key, name).map(str::to_owned);
        [
            of(r"machine\Software\Classes\.comb", "@"),
            of(r"machine\Software\Classes\.comb", "Content Type"),
            of(r"machine\Software\Classes\hives\shell\open\command", "@"),
        ]
    };
    let before = (seen(&machine), quiet(machine.registry()));
    let package = machine.bring(&package, "setup.exe");
    for scope in ["/SCOPE=machine", "/SCOPE=user"] {
        assert_eq!(machine.code_of(&[&package, "/S", LOG, scope], &[]), 0, "{}", log(&machine));
        assert_eq!(seen(&machine), before.0, "{scope}");
        let registry = machine.registry();
        let root = if scope.ends_with("machine") { "machine" } else { "user" };
        let of = |key: &str, name: &str| value(&registry, &format!("{root}\\{key}"), name).map(str::to_owned);
        // It offers itself beside them.
        assert!(of(r"Software\Classes\.comb\OpenWithProgids", "works.fernhollow.hives.comb").is_some());
        let own = r"Software\works.fernhollow.hives\Capabilities";
        assert_eq!(
            of(r"Software\RegisteredApplications", "works.fernhollow.hives").as_deref(),
            Some(format!("\"{own}\"").as_str())
        );
        assert!(of(&format!(r"{own}\FileAssociations"), ".comb").is_some());
        let class = of(&format!(r"{own}\URLAssociations"), "hives").expect("a class");
        assert!(of(&format!(r"Software\Classes\{}\shell\open\command", class.trim_matches('"')), "@").is_some());
        // What nobody has is taken.
        assert!(of(r"Software\Classes\.brood", "@").is_some());
        if root == "user" {
            let environment = r"Environment";
            let now = of(environment, "HIVEEXT").expect("a value");
            assert!(now.contains(".comb;%HIVEEXT%"), "the machine's is not hidden: {now}");
            assert!(of(environment, "HIVETEMP").expect("a value").starts_with("str(2):"), "variables in it are put in");
        }
        assert_eq!(machine.code_of(&[&package, "/S", LOG, "/REMOVE"], &[]), 0, "{}", log(&machine));
        assert_eq!(seen(&machine), before.0, "{scope}, removed");
    }
}

#[test]
fn shortcuts_of_programs_differ_and_name_everybodys_own_home() {
    let more = "[[shortcut]]\nprogram = \"scale\"\nname = \"Scale\"\nplaces = [\"menu\"]";
    let folder = product_for("nsis", "1.0.0", more);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    folder.write("shelf.toml", manifest.replace("working-folder = \"install\"", "working-folder = \"home\""));
    let machine = Wine::new();
    assert_eq!(run(&machine, &build(&folder), &[]), 0, "{}", log(&machine));
    let menu = machine.c().join("ProgramData/Microsoft/Windows/Start Menu/Programs");
    let has = |link: &str, text: &str| {
        let bytes = std::fs::read(menu.join(link)).expect("a shortcut");
        let wide: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        bytes.windows(wide.len()).any(|w| w == wide)
    };
    assert!(has("Hives & Frames.lnk", "%USERPROFILE%") && !has("Hives & Frames.lnk", r"C:\users\root"));
    assert!(has("Scale.lnk", "tools\\scale.exe"));
}

#[test]
fn a_removal_leaves_no_litter_among_temporary_files() {
    let (_folder, package) = setup("1.0.0", "");
    let machine = Wine::new();
    let litter = |machine: &Wine| {
        let folders = ["users/root/Temp", "windows/Temp"];
        let names = |folder: &str| std::fs::read_dir(machine.c().join(folder)).into_iter().flatten().flatten();
        let all = folders.iter().flat_map(|f| names(f)).map(|e| e.file_name().to_string_lossy().into_owned());
        all.filter(|n| n.contains('~') || n.contains("hives")).collect::<Vec<_>>()
    };
    let name = machine.bring(&package, "setup.exe");
    assert_eq!(machine.code_of(&[&name, "/S"], &[]), 0);
    assert_eq!(litter(&machine), ["works.fernhollow.hives-setup.log"], "what it did can be read");
    let remover = format!(r"C:\{}\uninstall.exe", HERE.replace('/', "\\"));
    assert_eq!(machine.code_of(&[&remover, "/S"], &[]), 0);
    // The program that removes itself goes when the system starts again.
    machine.run(&["wineboot", "-r"]);
    assert_eq!(litter(&machine), Vec::<String>::new());
}
