//! What others read in our Windows Installer packages: the database through Wine's own `msi.dll`, the container through
//! olefile; and what they say to damage.

use crate::common::hives::{build, product};
use msi_database::compound::{Compound, Limits};
use msi_database::database::{Database, Value};
use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::process::Command;
use test_support::wine::Wine;

/// Prints every table through the system's own interface for scripts.
const DUMP: &str = r#"
var installer = new ActiveXObject("WindowsInstaller.Installer");
var db = installer.OpenDatabase(WScript.Arguments(0), 0);
var out = new ActiveXObject("Scripting.FileSystemObject").CreateTextFile(WScript.Arguments(1), true, true);
function rows(query, visit) {
  var view = db.OpenView(query);
  view.Execute(null);
  for (var r = view.Fetch(); r; r = view.Fetch()) visit(r);
  view.Close();
}
var names = [];
rows("SELECT `Name` FROM `_Tables`", function (r) { names.push(r.StringData(1)); });
for (var i = 0; i < names.length; i++) {
  var streams = names[i] == "Binary" || names[i] == "Icon";
  rows("SELECT * FROM `" + names[i] + "`", function (r) {
    var line = [names[i]];
    for (var f = 1; f <= r.FieldCount; f++) line.push(streams && f == 2 ? "a stream" : r.StringData(f));
    out.WriteLine(line.join("\t").replace(/[\r\n]/g, " "));
  });
}
out.Close();
"#;

/// The same lines from our own reader.
fn ours(db: &Database) -> Vec<String> {
    let mut lines = Vec::new();
    for (name, table) in db.tables() {
        for row in table.rows() {
            let mut line = name.to_owned();
            for value in row {
                line.push('\t');
                match value {
                    Value::Stream => line.push_str("a stream"),
                    Value::Int(n) => line.push_str(&n.to_string()),
                    other => line.push_str(db.str(*other)),
                }
            }
            lines.push(line.replace(['\r', '\n'], " "));
        }
    }
    lines.sort();
    lines
}

fn open(package: &Path) -> (Compound<File>, Database) {
    let mut compound = Compound::open(File::open(package).expect("open"), Limits::default()).expect("a container");
    let read = msi_database::read::read(&mut compound, Default::default()).expect("a database");
    (compound, read.database)
}

#[test]
fn the_system_reads_the_same_rows_as_we_do() {
    let more = "[wizard]\nlicense = \"LICENSE.txt\"\n[[service]]\nname = \"HiveScale\"\nprogram = \"scale\"";
    for code_page in ["", "[target.msi]\ncode-page = 65001"] {
        let folder = product("1.0.0", &format!("{more}\n{code_page}"));
        folder.write("LICENSE.txt", "You may count frames: “all” of them.\n");
        let package = build(&folder);
        let machine = Wine::new();
        let name = machine.bring(&package, "hives.msi");
        std::fs::write(machine.c().join("dump.js"), DUMP).expect("written");
        let out = machine.run(&["cscript", "//nologo", "C:\\dump.js", &name, "C:\\dump.txt"]);
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stdout));
        let bytes = std::fs::read(machine.c().join("dump.txt")).expect("a dump");
        let units: Vec<u16> = bytes.as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b)).collect();
        let text = String::from_utf16(&units).expect("text");
        let mut theirs: Vec<String> = text.trim_start_matches('\u{feff}').lines().map(str::to_owned).collect();
        theirs.sort();
        let ours = ours(&open(&package).1);
        assert!(ours.len() > 500);
        let only =
            |a: &[String], b: &[String]| a.iter().filter(|l| b.binary_search(l).is_err()).cloned().collect::<Vec<_>>();
        assert_eq!((only(&ours, &theirs), only(&theirs, &ours)), (Vec::new(), Vec::new()));
        assert_eq!(ours.len(), theirs.len());
    }
}

/// Wine has no page for programs that use files: only its rows can be looked at.
#[test]
fn programs_that_use_files_are_asked_to_be_closed_on_the_pages_that_windows_looks_for() {
    let folder = product("1.0.0", "");
    let (_, db) = open(&build(&folder));
    assert_eq!(db.table("ListBox").map(|t| t.rows().len()), Some(0), "Windows fills it");
    let texts = |table: &str| -> Vec<Vec<String>> {
        let text = |v: &Value| db.int(*v).map_or_else(|| db.str(*v).to_owned(), |n| n.to_string());
        db.rows(table).map(|r| r.iter().map(text).collect()).collect()
    };
    for (dialog, event) in [("FilesInUse", "EndDialog Retry"), ("MsiRMFilesInUse", "RMShutdownAndRestart 0")] {
        assert!(texts("Dialog").iter().any(|r| r[0] == dialog), "{dialog}");
        let list = texts("Control").into_iter().find(|r| r[0] == dialog && r[2] == "ListBox").expect("a list");
        assert_eq!(list[8], "FileInUseProcess");
        let events: Vec<String> = texts("ControlEvent")
            .into_iter()
            .filter(|r| r[0] == dialog)
            .map(|r| format!("{} {}", r[2], r[3]))
            .collect();
        assert!(events.contains(&event.to_owned()), "{events:?}");
        assert!(events.contains(&"EndDialog Exit".to_owned()), "{events:?}");
    }
}

const OLEFILE: &str = r#"
import hashlib, olefile, sys
with olefile.OleFileIO(sys.argv[1], raise_defects=olefile.DEFECT_INCORRECT) as ole:
    assert not ole.parsing_issues, ole.parsing_issues
    for path in sorted(ole.listdir()):
        assert len(path) == 1
        data = ole.openstream(path).read()
        print(path[0].encode("utf-16-le", "surrogatepass").hex(), len(data), hashlib.md5(data).hexdigest())
"#;

fn olefile(package: &Path) -> std::process::Output {
    let python = Command::new("/usr/bin/python3").args(["-c", OLEFILE]).arg(package).output();
    python.expect("the judge python3 with olefile; `./test` installs it")
}

#[test]
fn olefile_finds_the_same_streams_and_refuses_a_damaged_container() {
    use md5::{Digest, Md5};
    let folder = product("1.0.0", "");
    let package = build(&folder);
    let out = olefile(&package);
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let theirs: Vec<String> = String::from_utf8_lossy(&out.stdout).lines().map(str::to_owned).collect();
    let (mut compound, _) = open(&package);
    let names: Vec<String> = compound.streams().iter().map(|s| s.name.clone()).collect();
    let mut ours = Vec::new();
    for name in names {
        let mut bytes = Vec::new();
        compound.stream(&name).expect("read").expect("there").read_to_end(&mut bytes).expect("read");
        let hex = |bytes: &mut dyn Iterator<Item = u8>| bytes.map(|b| format!("{b:02x}")).collect::<String>();
        let name = hex(&mut name.encode_utf16().flat_map(u16::to_le_bytes));
        ours.push(format!("{name} {} {}", bytes.len(), hex(&mut Md5::digest(&bytes).into_iter())));
    }
    let sorted = |mut v: Vec<String>| {
        v.sort();
        v
    };
    assert_eq!(sorted(ours), sorted(theirs));
    let mut bytes = std::fs::read(&package).expect("read");
    // The directory's first sector points behind the file.
    bytes[48..52].copy_from_slice(&0x00FF_FFFFu32.to_le_bytes());
    let damaged = folder.at("damaged.msi");
    std::fs::write(&damaged, bytes).expect("written");
    assert!(!olefile(&damaged).status.success());
    assert_eq!(folder.run(&["inspect", "damaged.msi"]).0, 4);
}
