//! Programs in PHP: a real one with the extensions that the product's code uses, started away from the machine's own settings.

use crate::common::{Folder, on_runtime, program_on, text};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;
use test_support::judge_says_yes;

const REPORT: &str = r#"<?php
namespace Works\Hives;

use PDO;

$store = new PDO("sqlite::memory:");
$store->exec("create table hives (name text)");
$store->exec("insert into hives values ('Bienenstöcke')");
$name = $store->query("select name from hives")->fetchColumn();
$child = shell_exec(escapeshellarg(PHP_BINARY) . ' -r "echo mb_strlen(\"ö\");"');
echo json_encode([
    mb_strtoupper($name), (new \DOMDocument())->saveHTML(), array_slice($argv, 1), php_ini_loaded_file(), ini_get('memory_limit'),
    get_loaded_extensions(true), $child, php_ini_scanned_files(),
]);
exit(7);
"#;

/// The machine's own PHP as a folder that stands for itself.
fn product(more: &str) -> Folder {
    let folder = Folder::new();
    let all = std::fs::read_dir("/usr/lib/php").expect("php-cli").flatten().map(|entry| entry.path());
    let extensions: PathBuf = all.into_iter().find(|path| path.join("mbstring.so").exists()).expect("php-mbstring");
    std::fs::create_dir_all(folder.at("php/bin")).expect("made");
    std::fs::create_dir_all(folder.at("php/lib/php")).expect("made");
    judge_says_yes("cp", &["-L", "/usr/bin/php", folder.at("php/bin/php").to_str().expect("text")]);
    let to = folder.at("php/lib/php/extensions");
    judge_says_yes("cp", &["-r", extensions.to_str().expect("text"), to.to_str().expect("text")]);
    folder.write("php/php.ini", "[PHP]\nmemory_limit = 100M\nextension = curl\n").write("php/php.ini-production", "");
    folder.script("php/bin/phar", "exit 1").write("built/report.php", REPORT);
    manifest(&folder, more);
    folder
}

fn manifest(folder: &Folder, more: &str) {
    let (runtime, program) =
        (format!("from = \"php\"\n{more}"), program_on("php", "report", "{ script = \"lib/report.php\" }"));
    folder.write("shelf.toml", on_runtime("Hive Report", "php", "lib", &runtime, &program, "linux-x64", "[\"tar\"]"));
}

fn kept(folder: &Folder) -> BTreeMap<String, String> {
    let said: serde_json::Value = serde_json::from_str(&folder.ok(&["runtimes", "--json"])).expect("JSON");
    let all = said[0]["runtimes"][0]["modules"].as_array().expect("extensions").iter();
    let kept = all.filter_map(|one| Some((one["name"].as_str()?.to_owned(), one["why"].as_str()?.to_owned())));
    kept.collect()
}

#[test]
fn a_program_in_php_brings_the_extensions_that_its_code_uses() {
    let folder = product("");
    let extensions = kept(&folder);
    assert_eq!(
        extensions.into_iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>(),
        [
            "dom: lib/report.php uses DOMDocument",
            "mbstring: lib/report.php uses mb_strtoupper",
            "pdo: lib/report.php uses PDO",
            "pdo_sqlite: lib/report.php has the text sqlite::memory:",
        ]
    );
    folder.ok(&["build"]);
    let tar = folder.at("packages/Hive-Report-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", folder.path().to_str().expect("text")]);
    let unpacked = folder.at("Hive-Report-1.0.0-linux-x64");
    folder.write("bent/php.ini", "memory_limit = 1M\n");
    let out = Command::new(unpacked.join("launch"))
        .args(["two words", ""])
        .env("PHPRC", folder.at("bent"))
        .env("PHP_INI_SCAN_DIR", folder.at("bent"))
        .current_dir(folder.at("bent"))
        .output()
        .expect("started");
    assert_eq!(out.status.code(), Some(7), "{}", text(&out));
    let said: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{e}: {}", text(&out)));
    let ini = unpacked.join("app/php/php.ini");
    assert_eq!(said[0], "BIENENSTÖCKE");
    assert_eq!(said[2], serde_json::json!(["two words", ""]));
    assert_eq!((&said[3], &said[4]), (&ini.to_str().expect("text").into(), &"100M".into()));
    // A program of its own that it starts has the same settings.
    assert_eq!((&said[6], &said[7]), (&"1".into(), &false.into()), "{said}");
    let names = |path: &str| folder.names(&format!("Hive-Report-1.0.0-linux-x64/app/php/{path}"));
    assert_eq!(names(""), ["bin", "lib", "php.ini"]);
    assert_eq!(names("bin"), ["php"]);
    assert_eq!(names("lib/php/extensions"), ["dom.so", "mbstring.so", "pdo.so", "pdo_sqlite.so"]);
    let settings = std::fs::read_to_string(ini).expect("read");
    insta::assert_snapshot!(settings, @r#"
    [PHP]
    memory_limit = 100M
    extension_dir = "${PHP_RUNTIME}/lib/php/extensions"
    extension = dom
    extension = mbstring
    extension = pdo
    extension = pdo_sqlite
    "#);
}

#[test]
fn extensions_are_wanted_left_out_and_unknown_as_the_manifest_says() {
    let folder = product("also = [\"curl\"]\ndrop = [\"mbstring\", \"**/dom.so\"]");
    assert_eq!(kept(&folder).into_keys().collect::<Vec<_>>().join(" "), "curl dom pdo pdo_sqlite");
    manifest(&folder, "keep = [\"pdo_sqlite\"]");
    assert_eq!(kept(&folder)["pdo"], "pdo_sqlite needs it");
    folder.write(
        "built/composer.lock",
        r#"{"packages": [{"name": "mill/comb", "require": {"ext-xmlreader": "*", "ext-json": "*"}}]}"#,
    );
    let warned = folder.ok(&["check"]);
    assert!(warned.contains("comes without the extension xmlreader"), "{warned}");
    assert!(warned.contains("mill/comb requires it, by lib/composer.lock") && !warned.contains("json"), "{warned}");
    manifest(&folder, "");
    assert_eq!(kept(&folder)["xmlreader"], "mill/comb requires it, by lib/composer.lock");
    manifest(&folder, "also = [\"xmlreadr\"]\ndrop = [\"honey\"]");
    let (code, said) = folder.run(&["check"]);
    assert_eq!(code, 1);
    insta::assert_snapshot!(said, @r#"
    error: the runtime "php" has no extension xmlreadr
      --> ./shelf.toml:16:9
       |
    16 | also = ["xmlreadr"]
       |         ^^^^^^^^^^
       = instead: "xmlreader"

    error: the runtime "php" has no extension honey
      --> ./shelf.toml:17:9
       |
    17 | drop = ["honey"]
       |         ^^^^^^^
       = instead: `upper-shelf runtimes --why` shows those that are there

    2 errors; nothing was written
    "#);
}
