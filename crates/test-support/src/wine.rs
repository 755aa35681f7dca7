//! A Windows machine to install on: a prefix of Wine, a fresh one for each test.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;

/// Keys of the registry with their values, as Wine's own files have them.
pub type Registry = BTreeMap<String, BTreeMap<String, String>>;

const READER: &[u8] = include_bytes!("../../../heads/window-reader/prebuilt/window-reader.exe");

/// A program that holds a file open; it ends with this.
pub struct Holder {
    child: std::process::Child,
}

impl Drop for Holder {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

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
        .env("WINEDLLOVERRIDES", "mscoree,mshtml=;winemenubuilder.exe,winedbg.exe=d")
        .env("HOME", home)
        .env_remove("DISPLAY");
    command
}

/// Runs a program whose standard streams are pipes, whatever the tests' own are: some programs can't do with others. What it
/// says is to be read when the test fails.
fn piped(command: &mut Command) -> Output {
    let out = command.env("WINEDEBUG", "fixme-all").stdin(Stdio::piped()).output().expect("wine is installed");
    for (stream, text) in [("output", &out.stdout), ("errors", &out.stderr)] {
        let text = String::from_utf8_lossy(text);
        if !text.trim().is_empty() {
            println!("{stream} of {:?}, which ended with {:?}:\n{text}", command.get_args(), out.status.code());
        }
    }
    out
}

/// Waits until no program runs on the machine any more; one that stays for two minutes is ended, and the test fails.
fn settle(prefix: &Path) {
    let server = |what: &str| Command::new("wineserver").arg(what).env("WINEPREFIX", prefix).spawn();
    let mut quiet = server("-w").expect("the judge `wineserver`; `./test` installs it");
    for _ in 0..1200 {
        if let Some(status) = quiet.try_wait().expect("a child") {
            assert!(status.success(), "the judge `wineserver` failed");
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    let _ = server("-k").and_then(|mut k| k.wait());
    panic!("a program on the Windows machine did not end");
}

/// The folder of all machines, beside what Cargo builds: one file system, so that the system's own files can be links.
fn machines() -> PathBuf {
    let program = std::env::current_exe().expect("a test program");
    let target = program.ancestors().find(|f| f.file_name().is_some_and(|n| n == "deps")).and_then(Path::parent);
    let folder = target.expect("test programs lie in `deps`").join("machines");
    std::fs::create_dir_all(&folder).expect("made");
    folder
}

/// A prefix that all others are copied from; made once for each version of Wine, by whoever comes first.
fn template() -> &'static Path {
    static TEMPLATE: OnceLock<PathBuf> = OnceLock::new();
    TEMPLATE.get_or_init(|| {
        let version = Command::new("wine").arg("--version").output();
        let version =
            version.unwrap_or_else(|e| panic!("the judge `wine` can't be started ({e}); `./test` installs it"));
        let version: String =
            String::from_utf8_lossy(&version.stdout).chars().filter(|c| c.is_ascii_alphanumeric()).collect();
        let folder = machines();
        let whole = folder.join(format!("template-{version}"));
        let lock = std::fs::File::create(folder.join("lock")).expect("made");
        lock.lock().expect("locked");
        if !whole.exists() {
            let made = tempfile::tempdir_in(&folder).expect("a folder");
            fill(&made.path().join("prefix"), &made.path().join("home"));
            std::fs::rename(made.keep(), &whole).expect("renamed");
        }
        whole
    })
}

fn fill(prefix: &Path, home: &Path) {
    std::fs::create_dir_all(home).expect("made");
    let out = wine(prefix, home).args(["wineboot", "-i"]).output().expect("wine is installed");
    assert!(out.status.success(), "wineboot: {}", String::from_utf8_lossy(&out.stderr));
    settle(prefix);
    // Windows are drawn nowhere: no monitor is needed to walk through them.
    let drivers = r"HKCU\Software\Wine\Drivers";
    let out = wine(prefix, home).args(["reg", "add", drivers, "/v", "Graphics", "/d", "null", "/f"]).output();
    assert!(out.is_ok_and(|o| o.status.success()), "the registry can't be written");
    settle(prefix);
}

/// Copies the template. The system's libraries and programs, 700 MB that nothing changes, are linked.
fn copy(to: &Path) {
    let from = template().join("prefix");
    let windows = Path::new("drive_c/windows");
    let copy = |how: &str, what: &Path, to: &Path| {
        let copied = Command::new("cp").args([how, "--"]).arg(what).arg(to).status();
        assert!(copied.is_ok_and(|s| s.success()), "{} can't be copied", what.display());
    };
    std::fs::create_dir_all(to.join("drive_c")).expect("made");
    copy("-al", &from.join(windows), &to.join("drive_c"));
    for folder in [&from, &from.join("drive_c")] {
        for entry in std::fs::read_dir(folder).expect("a prefix").flatten() {
            let inside = entry.path();
            let inside = inside.strip_prefix(&from).expect("inside");
            if inside != windows && inside != windows.parent().expect("above") {
                copy("-a", &entry.path(), to.join(inside).parent().expect("above"));
            }
        }
    }
}

impl Drop for Wine {
    /// Ends what still runs: the system knows a machine by the number of its folder, which the next machine may get.
    fn drop(&mut self) {
        for what in ["-k", "-w"] {
            let _ =
                Command::new("wineserver").arg(what).env("WINEPREFIX", self.prefix()).stderr(Stdio::null()).status();
        }
    }
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
        let folder = tempfile::tempdir_in(machines()).expect("a folder");
        for name in ["home", "work"] {
            std::fs::create_dir(folder.path().join(name)).expect("made");
        }
        copy(&folder.path().join("prefix"));
        let machine = Self { folder };
        std::fs::remove_file(machine.prefix().join("dosdevices/z:")).expect("removed");
        // Desktop and documents are links into the home folder of the template: folders of their own instead.
        let user = std::fs::read_dir(machine.c().join("users"))
            .expect("users")
            .flatten()
            .flat_map(|user| std::fs::read_dir(user.path()));
        for entry in user.flat_map(|entries| entries.flatten().collect::<Vec<_>>()) {
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
        let out = piped(command.args(args).current_dir(self.folder.path().join("work")));
        settle(&self.prefix());
        out
    }

    /// Runs a program with further variables; gives the low byte of its exit code.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn code_of(&self, args: &[&str], variables: &[(&str, &str)]) -> i32 {
        let mut command = wine(&self.prefix(), &self.home());
        command.envs(variables.iter().copied()).args(args).current_dir(self.folder.path().join("work"));
        let out = piped(&mut command);
        settle(&self.prefix());
        out.status.code().unwrap_or(-1)
    }

    /// The same while other programs go on running.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn code_beside(&self, args: &[&str]) -> i32 {
        let mut command = wine(&self.prefix(), &self.home());
        command.args(args).current_dir(self.folder.path().join("work"));
        command.status().expect("wine is installed").code().unwrap_or(-1)
    }

    /// The same, and the program is killed, as if the power failed, when it is about to write the line of this number (the
    /// first is 1) into a log on drive C.
    ///
    /// # Panics
    /// If the judge `strace` can't be started.
    pub fn code_until_line(&self, args: &[&str], log: &str, line: u32) -> i32 {
        let prefix = self.prefix().canonicalize().expect("a prefix");
        let plain = wine(&self.prefix(), &self.home());
        let mut command = Command::new("strace");
        command.args(["-f", "-qq", "-o", "/dev/null", "-e", "trace=write"]);
        command.arg("-P").arg(prefix.join("drive_c").join(log));
        command.arg("-e").arg(format!("inject=write:signal=SIGKILL:when={line}")).arg("wine");
        for (name, value) in plain.get_envs() {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        command.args(args).current_dir(self.folder.path().join("work"));
        let status = command.status().unwrap_or_else(|e| panic!("the judge `strace` can't be started ({e})"));
        status.code().unwrap_or(-1)
    }

    /// The same for a program that may never end: after some seconds it is ended, and there is no code.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn code_within(&self, args: &[&str], seconds: u64) -> Option<i32> {
        let mut command = wine(&self.prefix(), &self.home());
        command.args(args).current_dir(self.folder.path().join("work"));
        let mut child = command.spawn().expect("wine is installed");
        for _ in 0..seconds * 20 {
            if let Some(status) = child.try_wait().expect("a child") {
                return Some(status.code().unwrap_or(-1));
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        let _ = child.kill();
        let _ = child.wait();
        None
    }

    /// What a program writes, while others go on running.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn said(&self, args: &[&str]) -> String {
        let mut command = wine(&self.prefix(), &self.home());
        let out = piped(command.args(args).current_dir(self.folder.path().join("work")));
        String::from_utf8_lossy(&out.stdout).replace("\r", "")
    }

    /// Has a program hold a file open, as long as the result lives.
    ///
    /// # Panics
    /// If it does not begin to.
    pub fn hold(&self, file: &str) -> Holder {
        std::fs::write(self.c().join("window-reader.exe"), READER).expect("written");
        let mut command = wine(&self.prefix(), &self.home());
        command.args([r"C:\window-reader.exe", file, "hold"]).current_dir(self.folder.path().join("work"));
        let child = command.spawn().expect("wine is installed");
        let inside = file.trim_start_matches(r"C:\").replace('\\', "/");
        let path = self.c().canonicalize().expect("a disk").join(inside);
        // A busy machine takes its time.
        let began = std::time::Instant::now();
        while !is_open(&path) {
            assert!(began.elapsed().as_secs() < 120, "{} is not held open", path.display());
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        Holder { child }
    }

    /// Runs a program without an administrator's rights; gives the low byte of its exit code.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn as_user(&self, args: &[&str]) -> i32 {
        self.code_of(&[&self.user(), args].concat(), &[])
    }

    /// What stands in front of a command line so that it runs without an administrator's rights.
    ///
    /// # Panics
    /// If the helper can't be written.
    pub fn user(&self) -> [&'static str; 2] {
        std::fs::write(self.c().join("window-reader.exe"), READER).expect("written");
        [r"C:\window-reader.exe", "as-user"]
    }

    /// Whether the system itself finds a file's signature to fit (`WinVerifyTrust`), whoever is trusted. Of ECDSA it says no to
    /// everything.
    ///
    /// # Panics
    /// If the helper can't be written or started.
    pub fn trusts(&self, file: &str) -> bool {
        std::fs::write(self.c().join("window-reader.exe"), READER).expect("written");
        match self.code_of(&[r"C:\window-reader.exe", "trust", file], &[]) {
            0 => true,
            1 => false,
            other => panic!("the system's answer can't be had: {other}"),
        }
    }

    /// A program that is a service when it is started with `service`.
    pub fn service() -> &'static [u8] {
        READER
    }

    /// Has the machine say that it is Windows 10.
    ///
    /// # Panics
    /// If the registry can't be written.
    pub fn is_windows_10(&self) {
        assert!(self.run(&["winecfg", "/v", "win10"]).status.success(), "the version can't be set");
    }

    /// Runs the system's installer; gives the low byte of its exit code.
    ///
    /// # Panics
    /// If it can't be started.
    pub fn msiexec(&self, args: &[&str]) -> i32 {
        let all: Vec<&str> = ["msiexec"].iter().chain(args).chain(&["/qn"]).copied().collect();
        self.run(&all).status.code().unwrap_or(-1)
    }

    /// Starts the system's installer with its windows, and presses buttons by their texts (see `heads/window-reader`);
    /// gives what was to be seen before each, and the installer's exit code.
    ///
    /// # Panics
    /// If a button does not come.
    pub fn walk(&self, args: &[&str], steps: &[&str]) -> (Vec<Seen>, i32) {
        self.walk_program(&[&["msiexec"], args].concat(), steps)
    }

    /// The same for any program.
    ///
    /// # Panics
    /// If a button does not come.
    pub fn walk_program(&self, program: &[&str], steps: &[&str]) -> (Vec<Seen>, i32) {
        let walked = self.walk_beside(program, steps);
        settle(&self.prefix());
        walked
    }

    /// The same while other programs go on running.
    ///
    /// # Panics
    /// If a button does not come.
    pub fn walk_beside(&self, program: &[&str], steps: &[&str]) -> (Vec<Seen>, i32) {
        let reader = self.c().join("window-reader.exe");
        std::fs::write(reader, READER).expect("written");
        let command = |args: &[&str]| {
            let mut command = wine(&self.prefix(), &self.home());
            command.args(args).current_dir(self.folder.path().join("work"));
            command
        };
        let mut installer = command(program).spawn().expect("wine is installed");
        let out = piped(&mut command(&[&[r"C:\window-reader.exe", r"C:\seen.txt"], steps].concat()));
        let ended = out.status.success();
        let text = std::fs::read_to_string(self.c().join("seen.txt")).unwrap_or_default();
        if !ended {
            let _ = installer.kill();
        }
        assert!(ended, "a button of {steps:?} did not come; seen:\n{text}");
        let code = installer.wait().expect("ended").code().unwrap_or(-1);
        (Seen::all(&text), code)
    }

    /// Puts a file onto drive C; gives its name there.
    ///
    /// # Panics
    /// If it can't be copied.
    pub fn bring(&self, file: &Path, name: &str) -> String {
        std::fs::copy(file, self.c().join(name)).expect("copied");
        format!("C:\\{name}")
    }

    /// The whole registry: the machine's and the user's keys.
    ///
    /// # Panics
    /// If it can't be read.
    pub fn registry(&self) -> Registry {
        let mut all = Registry::new();
        for (file, root) in [("system.reg", "machine"), ("user.reg", "user")] {
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

/// What is to be seen in the uppermost window.
#[derive(Debug, Default)]
pub struct Seen {
    /// The window's title.
    pub title: String,
    /// Width and height, pixels.
    pub size: Vec<i32>,
    /// What stands in it.
    pub controls: Vec<Control>,
}

/// A control.
#[derive(Debug)]
pub struct Control {
    /// Its class, such as `Button`.
    pub class: String,
    /// Left, top, width, height inside the window, pixels.
    pub place: Vec<i32>,
    /// Whether it can be used.
    pub enabled: bool,
    /// Whether it is ticked.
    pub ticked: bool,
    /// What it says, without the sign of its key.
    pub text: String,
}

impl Seen {
    fn all(text: &str) -> Vec<Self> {
        let numbers = |t: &str| t.split(',').filter_map(|n| n.parse().ok()).collect::<Vec<i32>>();
        let mut all = Vec::new();
        let mut windows: Vec<Self> = Vec::new();
        for line in text.lines() {
            let fields: Vec<&str> = line.split('\t').collect();
            match fields[..] {
                // The uppermost window comes first.
                [step] if step.starts_with("step ") => {
                    all.push(windows.drain(..).next().unwrap_or_default());
                    windows.clear();
                }
                [window, size, title] if window.starts_with("window ") => {
                    windows.push(Self { title: title.to_owned(), size: numbers(size), controls: Vec::new() });
                }
                [class, place, state, text] => {
                    let has_keys = ["Button", "Static"].contains(&class);
                    let text = if has_keys { without_keys(text) } else { text.to_owned() };
                    let class = class.to_owned();
                    let (enabled, ticked) = (state.starts_with("on"), state.ends_with("ticked"));
                    let control = Control { class, place: numbers(place), enabled, ticked, text };
                    windows.last_mut().expect("a window").controls.push(control);
                }
                _ => panic!("the line {line:?} is not known"),
            }
        }
        all
    }

    /// All that can be read on several pages, a block for each.
    pub fn told(pages: &[Self]) -> String {
        let page = |p: &Self| format!("{}\n  {}", p.title, p.texts().join("\n  "));
        pages.iter().map(page).collect::<Vec<_>>().join("\n")
    }

    /// All texts that can be read.
    pub fn texts(&self) -> Vec<&str> {
        self.controls.iter().map(|c| c.text.as_str()).filter(|t| !t.is_empty() && !t.starts_with("Wizard")).collect()
    }

    /// The control with a text.
    ///
    /// # Panics
    /// If there is none.
    pub fn control(&self, text: &str) -> &Control {
        let found = self.controls.iter().find(|c| c.text == text);
        found.unwrap_or_else(|| panic!("no control says {text:?}; there are {:?}", self.texts()))
    }
}

/// Without the signs of keys: `&`, where `&&` stands for the letter itself.
fn without_keys(text: &str) -> String {
    text.replace("&&", "\0").replace('&', "").replace('\0', "&")
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

/// Whether any process has a file open.
fn is_open(path: &Path) -> bool {
    let of_process = |process: std::fs::DirEntry| std::fs::read_dir(process.path().join("fd")).ok();
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let mut open = processes.filter_map(of_process).flatten().flatten();
    open.any(|entry| std::fs::read_link(entry.path()).is_ok_and(|target| target == path))
}
