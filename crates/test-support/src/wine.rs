//! A Windows machine to install on: a prefix of Wine, a fresh one for each test.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;

/// Keys of the registry with their values, as Wine's own files have them.
pub type Registry = BTreeMap<String, BTreeMap<String, String>>;

/// A machine.
pub struct Wine {
    folder: tempfile::TempDir,
}

fn wine(prefix: &Path, home: &Path) -> Command {
    let mut command = Command::new("wine");
    command
        .env("WINEPREFIX", prefix)
        .env("WINEARCH", "win64")
        .env("WINEDEBUG", "-all")
        .env("WINEDLLOVERRIDES", "mscoree,mshtml=;winemenubuilder.exe=d")
        .env("HOME", home)
        .env_remove("DISPLAY");
    command
}

fn settle(prefix: &Path) {
    let run = Command::new("wineserver").arg("-w").env("WINEPREFIX", prefix).status();
    assert!(run.is_ok_and(|s| s.success()), "the judge `wineserver` failed; `./test` installs it");
}

/// A prefix that all others are copied from; made once for a run of tests.
fn template() -> &'static Path {
    static TEMPLATE: OnceLock<tempfile::TempDir> = OnceLock::new();
    TEMPLATE
        .get_or_init(|| {
            let folder = tempfile::tempdir().expect("a folder");
            let (prefix, home) = (folder.path().join("prefix"), folder.path().join("home"));
            std::fs::create_dir_all(&home).expect("made");
            let out = wine(&prefix, &home).args(["wineboot", "-i"]).output();
            let out = out.unwrap_or_else(|e| panic!("the judge `wine` can't be started ({e}); `./test` installs it"));
            assert!(out.status.success(), "wineboot: {}", String::from_utf8_lossy(&out.stderr));
            settle(&prefix);
            folder
        })
        .path()
}

impl Default for Wine {
    fn default() -> Self {
        Self::new()
    }
}

impl Wine {
    /// A fresh machine, with nothing installed and no way out to the machine that the tests run on.
    ///
    /// # Panics
    /// If Wine is not installed.
    pub fn new() -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        for name in ["home", "work"] {
            std::fs::create_dir(folder.path().join(name)).expect("made");
        }
        let copied =
            Command::new("cp").arg("-a").arg(template().join("prefix")).arg(folder.path().join("prefix")).status();
        assert!(copied.is_ok_and(|s| s.success()), "the prefix can't be copied");
        let machine = Self { folder };
        std::fs::remove_file(machine.prefix().join("dosdevices/z:")).expect("removed");
        // Desktop and documents are links into the home folder of the template: folders of their own instead.
        let person = std::fs::read_dir(machine.c().join("users"))
            .expect("users")
            .flatten()
            .flat_map(|user| std::fs::read_dir(user.path()));
        for entry in person.flat_map(|entries| entries.flatten().collect::<Vec<_>>()) {
            if entry.path().is_symlink() {
                std::fs::remove_file(entry.path()).expect("removed");
                std::fs::create_dir(entry.path()).expect("made");
            }
        }
        machine
    }

    fn prefix(&self) -> PathBuf {
        self.folder.path().join("prefix")
    }

    /// Drive C.
    pub fn c(&self) -> PathBuf {
        self.prefix().join("drive_c")
    }

    /// The home folder, which the desktop is in.
    pub fn home(&self) -> PathBuf {
        self.folder.path().join("home")
    }

    /// Runs a program and waits until the whole machine is quiet.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn run(&self, args: &[&str]) -> Output {
        let mut command = wine(&self.prefix(), &self.home());
        let out = command.args(args).current_dir(self.folder.path().join("work")).output().expect("wine is installed");
        settle(&self.prefix());
        out
    }

    /// Runs the system's installer; gives the low byte of its exit code.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn msiexec(&self, args: &[&str]) -> i32 {
        let all: Vec<&str> = ["msiexec"].iter().chain(args).chain(&["/qn"]).copied().collect();
        self.run(&all).status.code().unwrap_or(-1)
    }

    /// Puts a file onto drive C; gives its name there.
    ///
    /// # Panics
    /// If it can't be copied.
    pub fn bring(&self, file: &Path, name: &str) -> String {
        std::fs::copy(file, self.c().join(name)).expect("copied");
        format!("C:\\{name}")
    }

    /// The whole registry: the machine's and the person's keys.
    ///
    /// # Panics
    /// If it can't be read.
    pub fn registry(&self) -> Registry {
        let mut all = Registry::new();
        for (file, root) in [("system.reg", "machine"), ("user.reg", "person")] {
            let text = std::fs::read(self.prefix().join(file)).expect("a registry");
            let mut key = String::new();
            let mut joined = String::new();
            for line in String::from_utf8_lossy(&text).lines() {
                if let Some(rest) = line.strip_prefix('[') {
                    let name = rest.split(']').next().unwrap_or_default().replace("\\\\", "\\");
                    key = format!("{root}\\{name}");
                    all.entry(key.clone()).or_default();
                    continue;
                }
                joined.push_str(line.trim_start());
                if joined.ends_with('\\') && !joined.ends_with("\\\"") {
                    joined.pop();
                    continue;
                }
                let line = std::mem::take(&mut joined);
                if let Some((name, value)) = line.split_once('=').filter(|_| line.starts_with(['"', '@'])) {
                    all.entry(key.clone()).or_default().insert(plain(name.trim_matches('"')), plain(value));
                }
            }
        }
        all
    }
}

/// Without the backslashes that the registry's files put in front of backslashes and quotes.
fn plain(text: &str) -> String {
    let mut out = String::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        let escaped = if c == '\\' { chars.next_if(|n| matches!(n, '\\' | '"')) } else { None };
        out.push(escaped.unwrap_or(c));
    }
    out
}
