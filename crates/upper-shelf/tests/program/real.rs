//! Programs that nobody here wrote, packed with what they run on, and really started.

use crate::common::{Folder, start, text};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use test_support::{judge, judge_says_yes};

/// Libraries that a program loads, without those that every system has in its own version.
fn libraries(program: &str) -> Vec<String> {
    let own = ["libc.so", "libm.so", "libdl.so", "libpthread.so", "librt.so", "ld-linux", "linux-vdso"];
    let list = judge_says_yes("ldd", &[program]);
    let paths = list.lines().filter_map(|l| l.split("=> ").nth(1)?.split(' ').next().map(str::to_owned));
    paths.filter(|p| p.starts_with('/') && !own.iter().any(|o| p.contains(o))).collect()
}

#[test]
fn a_graphical_program_with_its_libraries_shows_its_window() {
    let folder = Folder::new();
    std::fs::create_dir_all(folder.at("files/bin")).expect("folder");
    std::fs::create_dir_all(folder.at("files/lib")).expect("folder");
    std::fs::copy("/usr/bin/xclock", folder.at("files/bin/xclock")).expect("x11-apps is installed");
    let libraries = libraries("/usr/bin/xclock");
    assert!(libraries.len() > 5, "{libraries:?}");
    for library in &libraries {
        let name = Path::new(library).file_name().expect("a name");
        std::fs::copy(library, folder.at("files/lib").join(name)).expect("copied");
    }
    folder.write(
        "shelf.toml",
        "[product]\nid = \"works.fernhollow.clock\"\nname = \"Clock\"\nversion = \"1.0\"\npublisher = \"p\"\n[[layer]]\nfrom = \"files\"\n[[program]]\nkey = \"app\"\nfile = \"bin/xclock\"\narguments = [\"-digital\"]\n[[environment]]\nname = \"LD_LIBRARY_PATH\"\nvalue = \"{install}/lib\"\naction = \"prepend\"\n[targets]\nplatforms = [\"linux-x64\"]\nbuild = [\"appimage\"]\n",
    );
    folder.ok(&["build"]);
    let display = format!(":{}", 600 + std::process::id() % 300);
    let mut server = Command::new("Xvfb")
        .args([&display, "-screen", "0", "640x480x24", "-nolisten", "tcp"])
        .stderr(Stdio::null())
        .spawn()
        .expect("Xvfb is installed");
    let wait_for = |what: &str, done: &dyn Fn() -> bool| {
        let began = Instant::now();
        while !done() {
            assert!(began.elapsed() < Duration::from_secs(20), "{what} did not happen");
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    wait_for("the X server", &|| Path::new(&format!("/tmp/.X11-unix/X{}", &display[1..])).exists());
    let mut clock =
        start(&folder.at("packages/Clock-1.0-linux-x64.AppImage")).env("DISPLAY", &display).spawn().expect("started");
    wait_for("the window", &|| {
        String::from_utf8_lossy(&judge("xwininfo", &["-root", "-tree", "-display", &display]).stdout)
            .contains("\"xclock\"")
    });
    let maps = std::fs::read_to_string(format!("/proc/{}/maps", clock.id())).expect("its memory map");
    assert!(maps.contains("works.fernhollow.clock/lib/libX"), "its own libraries are used: {maps}");
    judge_says_yes("kill", &[&clock.id().to_string(), &server.id().to_string()]);
    clock.wait().expect("ended");
    server.wait().expect("ended");
}

#[test]
fn a_java_archive_runs_on_a_bundled_runtime() {
    let folder = Folder::new();
    folder.write(
        "src/Hive.java",
        "public class Hive { public static void main(String[] a) { System.out.println(System.getProperty(\"java.home\") + \" \" + String.join(\"|\", a)); System.exit(7); } }",
    );
    let at = |path: &str| folder.at(path).to_str().expect("utf-8").to_owned();
    judge_says_yes("javac", &["-d", &at("classes"), &at("src/Hive.java")]);
    std::fs::create_dir_all(folder.at("app")).expect("folder");
    judge_says_yes(
        "jar",
        &["--create", "--file", &at("app/hive.jar"), "--main-class", "Hive", "-C", &at("classes"), "."],
    );
    // The distribution keeps a runtime's settings elsewhere, behind absolute links: a bundled one needs the files.
    let java = std::fs::canonicalize("/usr/bin/java").expect("java");
    let home = java.parent().and_then(Path::parent).expect("its home");
    std::fs::create_dir_all(folder.at("runtime")).expect("folder");
    for part in ["bin", "conf", "lib"] {
        // Some of its links lead to packages that are not installed: those are not needed for running.
        judge("cp", &["-rL", home.join(part).to_str().expect("utf-8"), &at("runtime")]);
    }
    assert!(folder.at("runtime/bin/java").exists() && folder.at("runtime/lib/modules").exists());
    folder.write(
        "shelf.toml",
        "[product]\nid = \"works.fernhollow.hive\"\nname = \"Hive\"\nversion = \"1.0\"\npublisher = \"p\"\n[[layer]]\nfrom = \"app\"\n[[layer]]\nfrom = \"runtime\"\ninto = \"runtime\"\ndrop = [\"src.zip\", \"*.diz\", \"jmods\", \"ct.sym\"]\n[[program]]\nkey = \"app\"\nfile = \"runtime/bin/java\"\narguments = [\"-jar\", \"{install}/hive.jar\"]\n[targets]\nplatforms = [\"linux-x64\"]\nbuild = [\"appimage\"]\n[target.appimage]\nlevel = 1\n",
    );
    folder.ok(&["build"]);
    let out = start(&folder.at("packages/Hive-1.0-linux-x64.AppImage")).args(["a b", "c"]).output().expect("started");
    let said = text(&out);
    assert!(said.contains("/usr/lib/works.fernhollow.hive/runtime a b|c"), "{said}");
    assert_eq!(crate::common::code(&out), 7);
}

/// Over a hundred programs of Windows and the library of a language, two thousand files, into a Windows Installer package
/// and onto a machine of Wine: every byte arrives, the programs' own versions stand in the tables, and nothing stays.
#[test]
fn many_programs_of_windows_and_a_library_are_installed_byte_for_byte() {
    let folder = Folder::new();
    let manifest = r#"
[product]
id = "works.fernhollow.library"
name = "Library"
version = "5.36"
publisher = "Fernhollow Apiary Works"
[[layer]]
from = "/usr/lib/x86_64-linux-gnu/wine/x86_64-windows"
into = "programs"
keep = ["*.exe"]
[[layer]]
from = "/usr/share/perl"
into = "library"
drop = ["5.36.0/pod"]
[[program]]
key = "app"
file = "programs/hostname.exe"
[targets]
platforms = ["windows-x64"]
build = ["msi"]
[target.msi]
compression = "mszip"
"#;
    let clashing = manifest.replace("drop = [\"5.36.0/pod\"]", "");
    folder.write("shelf.toml", &clashing);
    let (code, said) = folder.run(&["build"]);
    assert_eq!(code, 1);
    assert!(said.contains("\"library/5.36.0/Pod\" and \"library/5.36.0/pod\" differ only in case"), "{said}");
    folder.write("shelf.toml", manifest);
    folder.ok(&["build"]);
    let package = "packages/Library-5.36-windows-x64.msi";
    folder.ok(&["check", package]);
    folder.ok(&["extract", package, "out"]);
    let same = |installed: &Path| {
        let programs = installed.join("programs");
        let count = std::fs::read_dir(&programs).expect("programs").count();
        assert!(count > 50, "{count} programs");
        for entry in std::fs::read_dir(&programs).expect("programs").flatten() {
            let original = Path::new("/usr/lib/x86_64-linux-gnu/wine/x86_64-windows").join(entry.file_name());
            assert!(std::fs::read(entry.path()).ok() == std::fs::read(&original).ok(), "{}", original.display());
        }
        // Left out: the link from one name of the version to the other, as Windows has none; and the folder `pod`, which
        // would be one with `Pod` there.
        let library = installed.join("library").display().to_string();
        let out = judge("diff", &["-r", "--no-dereference", "/usr/share/perl", &library]);
        let text = String::from_utf8_lossy(&out.stdout).into_owned();
        assert!(text.lines().all(|l| l.starts_with("Only in /usr/share/perl")), "{text}");
        judge_says_yes("sh", &["-c", &format!("test $(find '{library}' -type f | wc -l) -gt 500")]);
    };
    same(&folder.at("out"));
    let machine = test_support::wine::Wine::new();
    let name = machine.bring(&folder.at(package), "library.msi");
    assert_eq!(machine.msiexec(&["/i", &name]), 0);
    let installed = machine.c().join("Program Files/Library");
    same(&installed);
    assert_eq!(machine.msiexec(&["/x", &name]), 0);
    assert!(!installed.exists());
}
