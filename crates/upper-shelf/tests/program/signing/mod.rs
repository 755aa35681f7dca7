//! Programs are signed and checked: by us, by readers that others wrote, and by a second reading of the formats'
//! descriptions. Whatever is changed, somebody refuses it, and we always do.

mod builds;
mod elsewhere;
mod files;
mod keys;
mod macos;
mod notary;
mod openpgp;
mod refusals;

use crate::common::{Folder, PROGRAM, code, text};
use std::fmt::Write as _;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::LazyLock;
use test_support::python;

pub(crate) const COMBWRIGHT: &[u8] = include_bytes!("../../../../../demo/files/built/windows-x64/combwright.exe");

pub(super) const JUDGES: [&str; 4] = ["ours", "second reading", "lief", "signify"];

/// Keys of each kind, made once: those with RSA take their time.
pub(crate) static KEYS: LazyLock<Folder> = LazyLock::new(|| {
    let folder = Folder::new();
    for kind in ["rsa-3072", "p256", "p384"] {
        folder.ok(&["keys", "make", kind, "--publisher", "Fernhollow", "--kind", kind]);
    }
    folder.ok(&["keys", "make", "strangers", "--publisher", "Stranger", "--kind", "p256"]);
    folder
});

/// A stand-in for an outside service and its address, until it is dropped.
pub(super) struct StandIn(Child, pub String);

impl StandIn {
    pub fn of(name: &str, keys: &str, more: &[&str]) -> Self {
        let mut command = Command::new(PROGRAM);
        command.args(["simulate", name, "--json"]).arg(KEYS.at(keys)).args(more).stdout(Stdio::piped());
        let mut child = command.spawn().expect("started");
        let mut out = BufReader::new(child.stdout.take().expect("piped"));
        let mut said = String::new();
        while !said.contains('}') {
            assert!(out.read_line(&mut said).expect("read") > 0, "{said}");
        }
        let ready: serde_json::Value = serde_json::from_str(&said).expect("JSON");
        let address = ready["address"].as_str().expect("an address").to_owned();
        Self(child, address)
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// An authority for timestamps.
pub(super) struct Authority;

impl Authority {
    pub fn of(keys: &str) -> StandIn {
        StandIn::of("timestamps", keys, &[])
    }
}

/// The words of the command line for a kind of key.
pub(crate) fn keys(kind: &str) -> Vec<String> {
    let at = |name: &str| KEYS.at(&format!("{kind}/{name}")).to_string_lossy().into_owned();
    vec!["--key".into(), at("code-signing.key.pem"), "--certificate".into(), at("code-signing.pem")]
}

pub(crate) fn roots(kind: &str) -> String {
    KEYS.at(&format!("{kind}/test-authority.pem")).to_string_lossy().into_owned()
}

pub(super) fn sign(folder: &Folder, file: &str, kind: &str, more: &[&str]) -> (i32, String) {
    let keys = keys(kind);
    let mut args = vec!["sign", file];
    args.extend(keys.iter().map(String::as_str));
    args.extend(more);
    folder.run(&args)
}

pub(super) fn signed(kind: &str, more: &[&str]) -> Folder {
    let folder = Folder::new();
    folder.write("app.exe", COMBWRIGHT);
    let (code, said) = sign(&folder, "app.exe", kind, more);
    assert_eq!(code, 0, "{said}");
    folder
}

/// Whether a judge accepts a file.
pub(super) fn accepts(judge: &str, file: &Path, roots: &str) -> bool {
    let judges = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judges");
    let output = match judge {
        "ours" => Command::new(PROGRAM).arg("verify").arg(file).args(["--roots", roots]).output(),
        "second reading" => {
            Command::new(python()).arg(format!("{judges}/authenticode.py")).arg(roots).arg(file).output()
        }
        other => Command::new(python()).arg(format!("{judges}/programs.py")).args([other, roots]).arg(file).output(),
    };
    let output = output.expect("the judges are installed by `./test`");
    let said = text(&output);
    // A judge that can't be started is no judge.
    assert!(!said.contains("Traceback") && !said.contains("No such file"), "{judge}: {said}");
    match code(&output) {
        0 => true,
        1 | 8 => false,
        other => panic!("{judge} ends with {other}: {said}"),
    }
}

/// What each judge says of a file: a cross for those that accept it.
pub(super) fn row(out: &mut String, what: &str, file: &Path, roots: &str) {
    let said = JUDGES.map(|judge| if accepts(judge, file, roots) { "yes" } else { "no" });
    let _ = writeln!(out, "{what:34} {:5} {:15} {:5} {}", said[0], said[1], said[2], said[3]);
}

pub(super) fn table() -> String {
    format!("{:34} {:5} {:15} {:5} {}\n", "accepted by", JUDGES[0], JUDGES[1], JUDGES[2], JUDGES[3])
}
