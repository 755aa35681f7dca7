//! Programs on Node: a real interpreter with the product's packages as the lock file has them, and what may be wrong with these.

use crate::common::{Folder, on_runtime, program_on, text};
use std::collections::BTreeMap;
use std::process::Command;
use test_support::judge_says_yes;

const LOCK: &str = r#"{
  "name": "hive-server", "lockfileVersion": 3,
  "packages": {
    "": {"dependencies": {"hives": "1"}, "devDependencies": {"bees": "1"}},
    "node_modules/hives": {"version": "1.2.0", "dependencies": {"wax": "2"}, "optionalDependencies": {"@mill/comb-win32": "1"}},
    "node_modules/hives/node_modules/wax": {"version": "2.0.0"},
    "node_modules/wax": {"version": "1.0.0", "dev": true},
    "node_modules/bees": {"version": "1.0.0", "dev": true, "dependencies": {"wax": "1"}},
    "node_modules/@mill/comb-win32": {"version": "1.0.0", "optional": true, "os": ["win32"]}
  }
}"#;

/// A library of Linux, as far as its head: 64 bits, this processor, shared.
fn add_on(machine: u8) -> Vec<u8> {
    let mut bytes = vec![0u8; 64];
    bytes[..7].copy_from_slice(b"\x7fELF\x02\x01\x01");
    (bytes[16], bytes[18], bytes[20], bytes[52], bytes[54], bytes[58]) = (3, machine, 1, 64, 56, 64);
    bytes
}

fn manifest(folder: &Folder, more: &str) {
    let (runtime, program) =
        (format!("from = \"node\"\n{more}"), program_on("node", "server", "{ script = \"app/server.js\" }"));
    folder.write("shelf.toml", on_runtime("Hive Server", "node", "app", &runtime, &program, "linux-x64", "[\"tar\"]"));
}

fn product() -> Folder {
    let folder = Folder::new();
    for (name, text) in [
        (
            "server.js",
            "const said = [require('hives'), process.env.NODE_OPTIONS, ...process.argv.slice(2)];\nconsole.log(JSON.stringify(said)); process.exit(7);\n",
        ),
        ("package.json", "{\"name\": \"hive-server\"}"),
        ("package-lock.json", LOCK),
        ("node_modules/hives/index.js", "module.exports = 'hives with ' + require('wax');\n"),
        ("node_modules/hives/index.js.map", "{}"),
        ("node_modules/hives/index.d.ts", ""),
        ("node_modules/hives/LICENSE", "licence"),
        ("node_modules/hives/test/index.js", ""),
        ("node_modules/hives/lib/test/kept.js", ""),
        ("node_modules/hives/node_modules/wax/index.js", "module.exports = 'wax 2';\n"),
        ("node_modules/wax/index.js", "module.exports = 'wax 1';\n"),
        ("node_modules/bees/index.js", ""),
        ("node_modules/bees/cli.js", ""),
        ("node_modules/@mill/comb-win32/comb.node", "MZ"),
    ] {
        folder.write(&format!("built/{name}"), text);
    }
    folder.write("built/node_modules/hives/prebuilds/linux-x64/comb.node", add_on(62));
    folder.write("built/node_modules/hives/prebuilds/linux-arm64/comb.node", add_on(183));
    std::fs::create_dir_all(folder.at("built/node_modules/.bin")).expect("made");
    std::fs::create_dir_all(folder.at("built/data")).expect("made");
    std::os::unix::fs::symlink("../bees/cli.js", folder.at("built/node_modules/.bin/bees")).expect("a link");
    for name in ["include/node/node.h", "lib/node_modules/npm/package.json", "LICENSE", "README.md"] {
        folder.write(&format!("node/{name}"), name);
    }
    // The machine's own, which takes much from its system.
    folder.script("node/bin/node", "exec /usr/bin/node \"$@\"");
    std::os::unix::fs::symlink("../lib/node_modules/npm/package.json", folder.at("node/bin/npm")).expect("a link");
    manifest(&folder, "");
    folder
}

fn reasons(folder: &Folder) -> BTreeMap<String, Option<String>> {
    let said: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    let modules = said[0]["runtimes"][0]["modules"].as_array().expect("packages").iter();
    let text = |value: &serde_json::Value| value.as_str().map(str::to_owned);
    modules.map(|one| (text(&one["name"]).expect("text"), text(&one["why"]))).collect()
}

#[test]
fn a_program_on_node_brings_the_packages_that_its_lock_file_needs() {
    let folder = product();
    let told: Vec<String> =
        reasons(&folder).into_iter().map(|(name, why)| format!("{name}: {}", why.unwrap_or_default())).collect();
    assert_eq!(
        told,
        [
            "@mill/comb-win32 1.0.0: ",
            "bees 1.0.0: ",
            "hives 1.2.0: the product needs it",
            "hives › wax 2.0.0: hives needs it",
            "wax 1.0.0: ",
        ]
    );
    folder.ok(&["build"]);
    let tar = folder.at("packages/Hive-Server-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", folder.path().to_str().expect("text")]);
    let unpacked = "Hive-Server-1.0.0-linux-x64";
    let out = Command::new(folder.at(unpacked).join("launch"))
        .args(["two words", ""])
        .env("NODE_OPTIONS", "--no-such-option")
        .output()
        .expect("started");
    assert_eq!(
        (out.status.code(), text(&out)),
        (Some(7), "[\"hives with wax 2\",null,\"two words\",\"\"]\n".to_owned())
    );
    let names = |path: &str| folder.names(&format!("{unpacked}/app/{path}"));
    assert_eq!(names("app/node_modules"), ["hives"]);
    assert!(folder.at(unpacked).join("app/app/data").is_dir(), "what is no package stays as it is");
    assert_eq!(names("app/node_modules/hives"), ["LICENSE", "index.js", "lib", "node_modules", "prebuilds"]);
    assert_eq!(names("app/node_modules/hives/prebuilds"), ["linux-x64"]);
    assert_eq!(
        (names("node"), names("node/bin")),
        (vec!["LICENSE".to_owned(), "bin".to_owned()], vec!["node".to_owned()])
    );

    manifest(&folder, "also = [\"bees\"]\ndrop = [\"hives\", \"**/cli.js\"]");
    let kept: Vec<String> = reasons(&folder).into_iter().filter_map(|(name, why)| why.map(|_| name)).collect();
    assert_eq!(kept, ["bees 1.0.0", "hives › wax 2.0.0"]);
    manifest(&folder, "keep = \"all\"");
    assert!(reasons(&folder).values().all(Option::is_some));
}

#[test]
fn what_is_wrong_with_packages_is_said_before_anything_is_built() {
    let folder = product();
    let mut all = String::new();
    let mut say = |what: &str, more: &str| {
        manifest(&folder, more);
        let (code, said) = folder.run(&["check"]);
        all += &format!("== {what}: {code}\n{}\n", said.split("\n\n1 error").next().unwrap_or_default());
    };
    say("no such package", "also = [\"beees\"]");
    say("no such package to leave out", "drop = [\"@mill/wax\"]");
    say("no pattern", "keep = [\"bin/[\"]");
    std::fs::remove_file(folder.at("built/node_modules/hives/prebuilds/linux-x64/comb.node")).expect("removed");
    say("an add-on of another processor only", "");
    std::fs::remove_dir_all(folder.at("built/node_modules/hives")).expect("removed");
    say("a package that isn't there", "");
    folder.write("built/package-lock.json", "{\"packages\": []}");
    say("a lock file that is none", "");
    std::fs::remove_file(folder.at("built/package-lock.json")).expect("removed");
    say("no lock file", "");
    // The interpreter is made smaller all the same.
    let shown: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    let files = |key: &str| shown[0]["runtimes"][0][key]["files"].as_u64().expect("a number");
    assert_eq!((files("before"), files("after")), (5, 2));
    insta::assert_snapshot!(all, @r#"
    == no such package: 1
    error: no lock file has a package beees
      --> ./shelf.toml:16:9
       |
    16 | also = ["beees"]
       |         ^^^^^^^
       = instead: "bees"
    == no such package to leave out: 1
    error: no lock file has a package @mill/wax
      --> ./shelf.toml:16:9
       |
    16 | drop = ["@mill/wax"]
       |         ^^^^^^^^^^^
       = instead: `upper-shelf runtimes --why` shows those that are there
    == no pattern: 1
    error: the pattern "bin/[" is malformed: unclosed character class; missing ']'
      --> ./shelf.toml:16:8
       |
    16 | keep = ["bin/["]
       |        ^^^^^^^^^
    == an add-on of another processor only: 1
    error: app/node_modules/hives/prebuilds/linux-arm64/comb.node is for linux-arm64, and the runtime "node" for linux-x64
      --> ./shelf.toml:13:7
       |
    13 | key = "node"
       |       ^^^^^^
       = why: the package hives was installed on another system
       = instead: the packages as installed for this platform: a layer with `platforms`
    == a package that isn't there: 0
    ✓ linux-x64: 5 files, 783 bytes, for tar
    1 warning.
    warning: the payload has no node_modules/hives, node_modules/hives/node_modules/wax
      --> ./shelf.toml:13:7
       |
    13 | key = "node"
       |       ^^^^^^
       = why: app/package-lock.json needs it
       = instead: the packages, installed beside the lock file


    == a lock file that is none: 1
    error: app/package-lock.json is no lock file
      --> ./shelf.toml:13:7
       |
    13 | key = "node"
       |       ^^^^^^
       = why: invalid type: sequence, expected a map at line 1 column 13
       = instead: the file that the package manager wrote
    == no lock file: 0
    ✓ linux-x64: 8 files, 229 bytes, for tar
    1 warning.
    warning: which packages in app/node_modules the product needs is not known
      --> ./shelf.toml:13:7
       |
    13 | key = "node"
       |       ^^^^^^
       = why: no package-lock.json lies beside it
       = instead: the lock file in the same layer; or keep = "all"
    "#);
}
