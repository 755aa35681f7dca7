//! What commands print with `--json` is as docs/results.schema.json says. `jsonschema` judges.

use crate::common::{Folder, code, demo, demo_package};
use serde_json::Value;
use std::path::PathBuf;
use std::process::Output;
use test_support::judge;

/// Names a definition for each file, and says which files are not as it says.
const JUDGE: &str = "
import json, sys, warnings
warnings.simplefilter('ignore')
import jsonschema
schema = json.load(open(sys.argv[1]))
for name, file in zip(sys.argv[2::2], sys.argv[3::2]):
    validator = jsonschema.Draft202012Validator({'$ref': '#/$defs/' + name, '$defs': schema['$defs']})
    validator.check_schema(schema)
    for error in validator.iter_errors(json.load(open(file))):
        sys.exit(f'{name}: {error.json_path}: {error.message[:300]}')
";

fn schema() -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/results.schema.json");
    path.to_str().expect("text").to_owned()
}

fn run(folder: &Folder, args: &[&str]) -> Output {
    folder.command(&[args, &["--json"]].concat()).output().expect("started")
}

#[test]
fn every_commands_result_is_as_its_schema_says() {
    let folder = Folder::least();
    folder.write("app.exe", crate::common::hives::PROGRAM);
    let sourced = "[[source]]\nkey = \"honey\"\nfile = \"app.exe\"\n[[layer]]\nsource = \"honey\"\n[[program]]";
    folder.write("sourced.toml", crate::common::LEAST.replace("[[program]]", sourced));
    let runs = "[[runtime]]\nkey = \"bee\"\nkind = \"plain\"\nfrom = \"built\"\nprogram = \"bin/least\"\n[[program]]";
    folder.write("runs.toml", crate::common::LEAST.replace("[[program]]", runs));
    let of_demo = demo().join("demo/combwright");
    let of_demo = of_demo.to_str().expect("text");
    let package = |name: &str| demo_package(name).to_str().expect("text").to_owned();
    let (old, new) = (package("Combwright-2.3.0-linux-x64.AppImage"), package("Combwright-2.4.0-linux-x64.AppImage"));
    let (setup, msi) = (package("Combwright-2.4.0-windows-x64.exe"), package("Combwright-2.4.0-windows-x64.msi"));
    let dmg = package("Combwright-2.4.0-macos-arm64.dmg");
    let icon = format!("{of_demo}/art/combwright.svg");
    let built = format!("{of_demo}/built");
    let cases: [(&str, &[&str], i32); 24] = [
        ("init", &["init", &built, "--output", "found.toml"], 0),
        ("check", &["check"], 0),
        ("check", &["check", &msi], 0),
        ("plan", &["plan", of_demo], 0),
        ("preview", &["preview", of_demo, "--target", "nsis", "--platform", "windows-x64", "--output", "drawn"], 0),
        ("build", &["build"], 0),
        ("inspect", &["inspect", "--contents", &new], 0),
        ("inspect", &["inspect", &setup], 0),
        ("inspect", &["inspect", &msi], 0),
        ("inspect", &["inspect", &dmg], 0),
        ("extract", &["extract", &new, "out", "--only", "*.png"], 0),
        ("compare", &["compare", &old, &new], 5),
        ("icons", &["icons", &icon], 0),
        ("runtimes", &["runtimes", "runs.toml"], 0),
        ("cache", &["cache", "fetch", "sourced.toml"], 0),
        ("cache", &["cache", "list"], 0),
        ("cache", &["cache", "clean", "--keep", "0"], 0),
        ("demo", &["demo", "example"], 0),
        ("keys", &["keys", "make", "keys", "--publisher", "Fernhollow", "--kind", "p256"], 0),
        ("keys", &["keys", "explain", "keys/code-signing.pem"], 0),
        (
            "sign",
            &["sign", "app.exe", "--key", "keys/code-signing.key.pem", "--certificate", "keys/code-signing.pem"],
            0,
        ),
        ("verify", &["verify", "app.exe", "--roots", "keys/test-authority.pem"], 0),
        ("failure", &["check", "nowhere.toml"], 1),
        ("failure", &["inspect", "shelf.toml"], 4),
    ];
    let mut judged = vec!["-c".to_owned(), JUDGE.to_owned(), schema()];
    for (n, (name, args, expected)) in cases.into_iter().enumerate() {
        let out = run(&folder, args);
        assert_eq!(code(&out), expected, "{args:?}: {}", crate::common::text(&out));
        let file = format!("{n}.json");
        folder.write(&file, &out.stdout);
        judged.extend([name.to_owned(), folder.at(&file).to_str().expect("text").to_owned()]);
    }
    let arguments = |all: &[String]| judge("/usr/bin/python3", &all.iter().map(String::as_str).collect::<Vec<_>>());
    let said = arguments(&judged);
    assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
    // What is of another form is refused.
    let wrong: Vec<String> = judged[..3].iter().chain([&"compare".to_owned(), &judged[4]]).cloned().collect();
    assert!(!arguments(&wrong).status.success());
}

#[test]
fn progress_is_a_line_of_json_on_standard_error() {
    let folder = Folder::least();
    let out = run(&folder, &["build"]);
    assert_eq!(code(&out), 0);
    let text = String::from_utf8_lossy(&out.stderr).into_owned();
    let lines: Vec<Value> = text.lines().map(|l| serde_json::from_str(l).expect("JSON")).collect();
    let kinds: Vec<&str> = lines.iter().filter_map(|l| l["progress"].as_str()).collect();
    assert_eq!(kinds, ["packing", "reading-back", "finished"]);
    assert_eq!(lines[0]["packages"][0], "Least-1.0.0-linux-x64.AppImage");
    let mut judged = vec!["-c".to_owned(), JUDGE.to_owned(), schema()];
    for (n, line) in lines.iter().enumerate() {
        folder.write(&format!("{n}.json"), line.to_string());
        judged.extend(["progress".to_owned(), folder.at(&format!("{n}.json")).to_str().expect("text").to_owned()]);
    }
    let said = judge("/usr/bin/python3", &judged.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
}
