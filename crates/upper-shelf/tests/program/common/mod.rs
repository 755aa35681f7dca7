//! A prepared folder in which the built program is run.

#[cfg(unix)]
pub mod hives;
#[cfg(unix)]
pub mod machine;
#[cfg(unix)]
pub mod macho;
#[cfg(unix)]
pub mod setups;

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;
use std::sync::mpsc::RecvTimeoutError;
use std::time::Duration;

pub const PROGRAM: &str = env!("CARGO_BIN_EXE_upper-shelf");

/// A folder that is gone after the test.
pub struct Folder {
    dir: tempfile::TempDir,
    /// What the program keeps for the next time; no test finds what another one left.
    cache: tempfile::TempDir,
}

/// A manifest of the least that builds.
pub const LEAST: &str = r#"
[product]
id = "works.fernhollow.least"
name = "Least"
version = "1.0.0"
publisher = "Fernhollow Apiary Works"

[[layer]]
from = "built"

[[program]]
key = "app"
file = "bin/least"

[targets]
platforms = ["linux-x64"]
build = ["appimage"]
"#;

impl Folder {
    pub fn new() -> Self {
        // Others must be able to start what is made in it.
        let dir = tempfile::Builder::new().prefix("shelf").tempdir().expect("a folder");
        #[cfg(unix)]
        std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("mode");
        Self { dir, cache: tempfile::tempdir().expect("a folder") }
    }

    /// With the least manifest and a program that is a script.
    pub fn least() -> Self {
        let folder = Self::new();
        folder.write("shelf.toml", LEAST);
        folder.script("built/bin/least", "echo least \"$@\"");
        folder
    }

    pub fn path(&self) -> &Path {
        self.dir.path()
    }

    pub fn cache(&self) -> &Path {
        self.cache.path()
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.dir.path().join(path)
    }

    pub fn write(&self, path: &str, bytes: impl AsRef<[u8]>) -> &Self {
        let path = self.at(path);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("folders");
        std::fs::write(path, bytes).expect("written");
        self
    }

    pub fn script(&self, path: &str, body: &str) -> &Self {
        self.write(path, format!("#!/bin/sh\n{body}\n"));
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(self.at(path), mode).expect("mode");
        self
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(PROGRAM);
        command.args(args).current_dir(self.path()).env("NO_COLOR", "1").env_remove("SOURCE_DATE_EPOCH");
        command.env("XDG_CACHE_HOME", self.cache());
        command
    }

    /// Runs the program: exit code, and everything it printed (errors behind the rest), with the folder's name left out.
    pub fn run(&self, args: &[&str]) -> (i32, String) {
        let out = within_minutes(self.command(args));
        (code(&out), self.tidy(&text(&out)))
    }

    /// Runs the program, which has to succeed.
    pub fn ok(&self, args: &[&str]) -> String {
        let (code, text) = self.run(args);
        assert_eq!(code, 0, "{args:?}:\n{text}");
        text
    }

    pub fn tidy(&self, text: &str) -> String {
        text.replace(&*self.path().to_string_lossy(), "HERE")
    }

    /// Names in a folder, sorted.
    pub fn names(&self, path: &str) -> Vec<String> {
        let entries = std::fs::read_dir(self.at(path)).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }
}

/// Runs a command that may take ten minutes: what waits for ever fails by its own name.
fn within_minutes(mut command: Command) -> Output {
    let child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("started");
    let (id, (done, wait)) = (child.id(), std::sync::mpsc::channel::<()>());
    let watch = std::thread::spawn(move || {
        if wait.recv_timeout(Duration::from_secs(600)) == Err(RecvTimeoutError::Timeout) {
            let _ = Command::new("kill").arg("-9").arg(id.to_string()).status();
            return false;
        }
        true
    });
    let out = child.wait_with_output().expect("ended");
    drop(done);
    assert!(watch.join().expect("no panic"), "{command:?} was still running after ten minutes: {}", text(&out));
    out
}

pub fn code(out: &Output) -> i32 {
    out.status.code().unwrap_or(-1)
}

pub fn text(out: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr))
}

/// The demo with all its packages, made once for all tests of a file.
pub fn demo() -> &'static Path {
    static DEMO: OnceLock<Folder> = OnceLock::new();
    let folder = DEMO.get_or_init(|| {
        let folder = Folder::new();
        folder.ok(&["demo", "demo"]);
        folder
    });
    folder.path()
}

pub fn demo_package(name: &str) -> PathBuf {
    demo().join("demo/packages").join(name)
}

/// Writes a program that a test starts at once. Another process does it: what a test has open for writing, a child of another
/// test's thread has open too until it becomes its own program, and the system starts nothing that somebody could write to.
#[cfg(unix)]
pub fn put_program(path: &Path, bytes: &[u8]) {
    use std::io::Write;
    let mut install = Command::new("install");
    let install = install.args(["-m", "755", "/dev/stdin"]).arg(path).stdin(std::process::Stdio::piped());
    let mut child = install.spawn().expect("coreutils");
    child.stdin.take().expect("piped").write_all(bytes).expect("written");
    assert!(child.wait().expect("ended").success(), "{} can't be written", path.display());
}

/// Starts a finished AppImage with a clean environment.
pub fn start(package: &Path) -> Command {
    let mut command = Command::new(package);
    command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", "/nonexistent").current_dir("/");
    command
}

/// A manifest of a product on a runtime of some kind, which has the kind's name as its key: `runtime` is what else its table says, `programs`
/// are the tables of programs, `layer` is the folder that its own files go into.
pub fn on_runtime(
    name: &str,
    kind: &str,
    layer: &str,
    runtime: &str,
    programs: &str,
    platform: &str,
    targets: &str,
) -> String {
    let id = name.rsplit(' ').next().unwrap_or(name).to_lowercase();
    format!(
        r#"
[product]
id = "works.fernhollow.{id}"
name = {name:?}
version = "1.0.0"
publisher = "Fernhollow Apiary Works"

[[layer]]
from = "built"
into = {layer:?}

[[runtime]]
key = {kind:?}
kind = {kind:?}
{runtime}
{programs}
[targets]
platforms = [{platform:?}]
build = {targets}
"#
    )
}

/// The table of a program on such a runtime, for a terminal.
pub fn program_on(kind: &str, key: &str, start: &str) -> String {
    format!("\n[[program]]\nkey = {key:?}\nruntime = {kind:?}\nconsole = true\nstart = {start}\n")
}
