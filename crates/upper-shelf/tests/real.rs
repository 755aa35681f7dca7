//! Programs that nobody here wrote, packed with what they run on, and really started.

mod common;
use common::{Folder, start, text};
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
    assert_eq!(common::code(&out), 7);
}
