//! A product for Windows with a trace of each kind.

use super::Folder;
use serde_json::Value;
use std::path::{Path, PathBuf};

pub const PROGRAM: &[u8] = include_bytes!("../../../../../demo/files/built/windows-x64/combwright.exe");

pub const MANIFEST: &str = r##"
[product]
id = "works.fernhollow.hives"
name = "Hives & Frames"
version = "VERSION"
publisher = "Fernhollow Apiary Works"
summary = "Counts frames [and] (hives)"
homepage = "https://fernhollow.example/hives"
support = "bees@fernhollow.example"

[[layer]]
from = "built"

[[program]]
key = "app"
file = "hives.exe"
working-folder = "install"

[[program]]
key = "scale"
file = "tools/scale.exe"
arguments = ["--station", "Mill Lane"]

[[shortcut]]
program = "app"
places = ["menu", "desktop"]
arguments = ["--where", 'C:\where.txt', "with space", 'quo"te', "[x](y)"]
description = "All hives"

[[file-type]]
program = "app"
extensions = ["comb", "brood"]
name = "Hive journal"
mime = "application/vnd.fernhollow.comb"

[[link-scheme]]
scheme = "hives"
program = "app"

[[environment]]
name = "HIVES_HOME"
value = "{install}/data"

[[environment]]
name = "PATH"
value = "{install}/tools"
action = "append"

[[registry]]
key = 'Software\Fernhollow\Hives'
name = "Text"
value = { text = "#[a] (b)" }
[[registry]]
key = 'Software\Fernhollow\Hives'
name = "Where"
value = { expandable = '%TEMP%\{install}' }
[[registry]]
key = 'Software\Fernhollow\Hives'
name = "Number"
value = { number = 4026531840 }
[[registry]]
key = 'Software\Fernhollow\Hives'
name = "Bytes"
value = { bytes = "00ff10" }
[[registry]]
key = 'Software\Fernhollow\Hives'
name = "List"
value = { list = ["one", "two three"] }
[[registry]]
key = 'Software\Fernhollow\Hives'
view = "32-bit"
value = { text = "its own, 32-bit" }
[[registry]]
root = "user"
key = 'Software\Fernhollow\Hives'
name = "Mine"
value = { text = "yes" }

[[font]]
file = "fonts/hive.ttf"
title = "Hive Sans"

[[choice]]
key = "samples"
title = { en = "Samples", de = "Beispiele" }
description = { en = "Some hives", de = "Ein paar Stöcke" }
files = ["samples/**"]

MORE

[targets]
platforms = ["windows-x64"]
build = ["TARGET"]
"##;

/// A product with a trace of each kind.
pub fn product(version: &str, more: &str) -> Folder {
    product_for("msi", version, more)
}

/// The same as a package of any kind.
pub fn product_for(target: &str, version: &str, more: &str) -> Folder {
    let folder = Folder::new();
    let manifest = MANIFEST.replace("VERSION", version).replace("MORE", more).replace("TARGET", target);
    folder.write("shelf.toml", manifest);
    folder.write("built/hives.exe", PROGRAM).write("built/tools/scale.exe", PROGRAM);
    folder.write("built/data/frames.txt", format!("frames of {version}\n"));
    folder.write("built/data/Bienen-Stöcke und Völker.txt", test_support::prose(4, 300_000));
    folder.write("built/fonts/hive.ttf", test_support::noise(5, 5000));
    folder.write("built/samples/a.comb", "[hive A]\n").write("built/samples/empty.comb", "");
    std::fs::create_dir_all(folder.at("built/logs/old/older")).expect("made");
    folder.write("built/deep/deeper/deepest.txt", "deep");
    folder
}

pub fn build(folder: &Folder) -> PathBuf {
    let out = folder.command(&["build", "--json"]).output().expect("run");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stdout));
    let built: Value = serde_json::from_slice(&out.stdout).expect("a report");
    folder.at(built[0]["file"].as_str().expect("a file"))
}

/// Every item of a package's footprint, with its kind as `trace`.
pub fn traces(folder: &Folder, package: &Path) -> Vec<Value> {
    let out = folder.command(&["inspect", "--json", package.to_str().expect("text")]).output().expect("run");
    let seen: Value = serde_json::from_slice(&out.stdout).expect("a footprint");
    let footprint = &seen["footprint"];
    let lists = [
        ("programs", "program"),
        ("shortcuts", "shortcut"),
        ("file-types", "file-type"),
        ("link-schemes", "link-scheme"),
        ("environment", "environment"),
        ("registry", "registry"),
        ("services", "service"),
        ("fonts", "font"),
        ("choices", "choice"),
        ("icons", "icon"),
    ];
    let items = |list: &str| footprint[list].as_array().unwrap_or_else(|| panic!("a list of {list}")).clone();
    let mut all: Vec<Value> = Vec::new();
    for mut node in items("tree") {
        node["trace"] = node["kind"].take();
        all.push(node);
    }
    for (list, kind) in lists {
        for mut item in items(list) {
            item["trace"] = kind.into();
            all.push(item);
        }
    }
    for (key, value) in footprint["install"].as_object().expect("rules") {
        all.push(serde_json::json!({ "trace": "rule", "key": key, "value": value }));
    }
    all
}

/// A copy of a package with a flipped byte in its cabinet, whose checksum is wrong then.
pub fn damaged(folder: &Folder, package: &Path) -> PathBuf {
    let mut bytes = std::fs::read(package).expect("read");
    let cabinet = bytes.windows(4).position(|w| w == b"MSCF").expect("a cabinet");
    bytes[cabinet + 3000] ^= 0x55;
    folder.write("damaged.msi", bytes);
    folder.at("damaged.msi")
}
