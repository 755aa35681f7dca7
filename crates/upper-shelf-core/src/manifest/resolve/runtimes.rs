//! What programs run on, and how it starts them.

use super::sources::Placed;
use super::{Resolver, written};
use crate::footprint::RelPath;
use crate::payload::{Layer, Modes};
use crate::platform::System;
use crate::problem::{Code, nearest};
use crate::runtimes::{Keep, Runtime, RuntimeKind};
use std::collections::{BTreeMap, BTreeSet};

/// How a program is started.
pub(super) struct Started {
    pub file: RelPath,
    pub arguments: Vec<String>,
    pub unset: BTreeSet<String>,
    pub environment: BTreeMap<String, String>,
}

/// Starts a module in isolation from whatever else the machine has; the folders where modules lie are counted before they follow.
const PYTHON_MODULE: &str = "import runpy, sys; a = sys.argv[1:]; n = int(a[0]) + 1; sys.path[:0] = a[1:n]; sys.argv = a[n:]; \
                             runpy.run_module(a[n], run_name='__main__', alter_sys=True)";

fn in_install(path: &str) -> String {
    format!("{{install}}/{path}")
}

impl Resolver<'_> {
    /// The runtimes of this platform, with a layer for each.
    pub(super) fn runtimes(&mut self, layers: &mut Vec<Layer>) -> Vec<Runtime> {
        let project = self.project;
        let mut all: Vec<Runtime> = Vec::new();
        for (n, written) in project.manifest.runtime.iter().enumerate() {
            let setting = format!("runtime.{n}");
            let key_char = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
            if written.key.is_empty() || !written.key.chars().all(key_char) {
                let why = "keys consist of lower-case letters, digits and hyphens";
                let what = format!("{:?} can't be a key", written.key);
                self.problem(&format!("{setting}.key"), what, why, "key = \"java\"");
                continue;
            }
            if !self.applies(&written.platforms) {
                continue;
            }
            if all.iter().any(|other| other.key == written.key) {
                let what = format!("two runtimes have the key {:?}", written.key);
                self.problem_of(Code::Duplicate, &format!("{setting}.key"), what, "", "another key for one of them");
                continue;
            }
            let places = (written.source.as_deref(), written.from.as_ref(), written.into.as_ref());
            let Some(Placed { source, from, into, label }) = self.placed(&setting, "runtime", places) else { continue };
            let Some(into) = into.or_else(|| RelPath::new(&*written.key).ok()) else { continue };
            let keep = match (&written.keep, written.kind) {
                (Some(Keep::Used), RuntimeKind::Plain) => {
                    let why = "what is used can only be found out for runtimes of the kinds \"java\", \"python\", \"node\" and \"php\"";
                    let what = "nobody knows what is used of this runtime".to_owned();
                    self.problem(&format!("{setting}.keep"), what, why, "keep = \"all\", or patterns of files");
                    continue;
                }
                (Some(keep), _) => keep.clone(),
                (None, RuntimeKind::Java | RuntimeKind::Python | RuntimeKind::Node | RuntimeKind::Php) => Keep::Used,
                (None, RuntimeKind::Plain) => Keep::All,
            };
            if written.kind == RuntimeKind::Plain && !written.also.is_empty() {
                let what = "nothing is known of modules of such a runtime".to_owned();
                self.problem(&format!("{setting}.also"), what, "", "`keep` and `drop` with patterns of files");
            }
            for (n, option) in written.options.iter().enumerate() {
                self.one_line(&format!("{setting}.options.{n}"), option);
            }
            let programs = project.manifest.program.iter().filter_map(|program| self.select(program.file.as_ref()?));
            let programs = programs.filter_map(|file| RelPath::new(file.replace('\\', "/")).ok());
            let starters: Vec<RelPath> =
                self.program_of(written, false).into_iter().chain(self.program_of(written, true)).collect();
            let programs = programs.chain(starters.iter().cloned()).collect();
            let on_it =
                project.manifest.program.iter().filter(|program| program.runtime.as_ref() == Some(&written.key));
            let on_it = on_it.filter_map(|program| program.start.as_ref());
            let scripts = on_it.filter_map(|start| start.script.as_ref().or(start.zip_app.as_ref()));
            let scripts = scripts.filter_map(|path| RelPath::new(path.replace('\\', "/")).ok()).collect();
            layers.push(Layer {
                from,
                source,
                into: Some(into.clone()),
                keep: Vec::new(),
                drop: Vec::new(),
                modes: Modes::Usual,
                executable: Vec::new(),
                label,
                span: project.source.span(&format!("{setting}.key")),
                setting: setting.clone(),
            });
            let (key, kind) = (written.key.clone(), written.kind);
            let (also, drop) = (written.also.clone(), written.drop.clone());
            all.push(Runtime {
                key,
                kind,
                platform: self.platform,
                into,
                keep,
                also,
                drop,
                starters,
                programs,
                scripts,
                setting,
            });
        }
        all
    }

    /// The program of a runtime that starts others, as a path of the payload.
    fn program_of(&self, runtime: &written::Runtime, console: bool) -> Option<RelPath> {
        let into = runtime.into.as_ref().and_then(|into| self.select(into)).unwrap_or_else(|| runtime.key.clone());
        let own = runtime.program.as_ref().and_then(|program| self.select(program)).or_else(|| {
            let name = match (runtime.kind, self.platform.system()) {
                (RuntimeKind::Plain, _) => return None,
                (RuntimeKind::Java, System::Windows) if console => "bin/java.exe",
                (RuntimeKind::Java, System::Windows) => "bin/javaw.exe",
                (RuntimeKind::Java, System::Macos | System::Linux) => "bin/java",
                (RuntimeKind::Php, System::Windows) if console => "php.exe",
                (RuntimeKind::Php, System::Windows) => "php-win.exe",
                (RuntimeKind::Php, System::Macos | System::Linux) => "bin/php",
                (RuntimeKind::Node, System::Windows) => "node.exe",
                (RuntimeKind::Node, System::Macos | System::Linux) => "bin/node",
                (RuntimeKind::Python, System::Windows) if console => "python.exe",
                (RuntimeKind::Python, System::Windows) => "pythonw.exe",
                (RuntimeKind::Python, System::Macos | System::Linux) => "bin/python3",
            };
            Some(name.to_owned())
        })?;
        let own = RelPath::new(own.replace('\\', "/")).ok()?;
        Some(own.below(&RelPath::new(into.trim_end_matches('/')).ok()?))
    }

    /// How a program is started; nothing where it isn't there on this platform, or something is wrong.
    pub(super) fn started(&mut self, at: &str, program: &written::Program) -> Option<Started> {
        let Some(key) = &program.runtime else {
            if program.start.is_some() {
                let what = "`start` needs a runtime".to_owned();
                self.problem_of(
                    Code::MissingKey,
                    &format!("{at}.start"),
                    what,
                    "",
                    "runtime = \"the key of a [[runtime]]\"",
                );
                return None;
            }
            let Some(file) = &program.file else {
                let what = "a program needs `file`".to_owned();
                let instead = "file = \"its path in the payload\"; or `runtime` and `start`, if it runs on a runtime";
                self.problem_of(Code::MissingKey, at, what, "", instead);
                return None;
            };
            let file = self.select(file)?;
            return match RelPath::new(file.replace('\\', "/")) {
                Ok(file) => {
                    Some(Started { file, arguments: Vec::new(), unset: BTreeSet::new(), environment: BTreeMap::new() })
                }
                Err(why) => {
                    let what = format!("the program's file {file:?} {why}");
                    self.problem(&format!("{at}.file"), what, "it is a path inside the payload", "file = \"bin/name\"");
                    None
                }
            };
        };
        if program.file.is_some() {
            let what = "a program has either a file or a runtime".to_owned();
            self.problem(&format!("{at}.file"), what, "the runtime's program is what is started", "`start` alone");
            return None;
        }
        let project = self.project;
        let keys = || project.manifest.runtime.iter().filter(|runtime| self.applies(&runtime.platforms));
        let Some(runtime) = keys().find(|runtime| runtime.key == *key) else {
            let what = format!("there is no runtime {key:?} for {}", self.platform);
            let instead = match nearest(key, keys().map(|runtime| runtime.key.as_str())) {
                Some(near) => format!("runtime = {near:?}"),
                None => format!("[[runtime]]\nkey = {key:?}"),
            };
            self.problem_of(Code::UnknownRuntime, &format!("{at}.runtime"), what, "", instead);
            return None;
        };
        let Some(file) = self.program_of(runtime, program.console) else {
            let n = project.manifest.runtime.iter().position(|other| other.key == *key).unwrap_or_default();
            let what = format!("the runtime {key:?} names no program that starts others");
            self.problem_of(Code::MissingKey, &format!("runtime.{n}.key"), what, "", "program = \"bin/interpreter\"");
            return None;
        };
        let arguments = self.start_line(at, runtime, program.start.as_ref())?;
        let unset = runtime.kind.bending().iter().map(|name| (*name).to_owned()).collect();
        let home = runtime.into.as_ref().and_then(|into| self.select(into)).unwrap_or_else(|| runtime.key.clone());
        let home = in_install(home.replace('\\', "/").trim_end_matches('/'));
        let environment =
            runtime.kind.setting(&home).into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        Some(Started { file, arguments: [runtime.options.clone(), arguments].concat(), unset, environment })
    }

    /// What comes behind the runtime's program and its options.
    fn start_line(
        &mut self,
        at: &str,
        runtime: &written::Runtime,
        start: Option<&written::Start>,
    ) -> Option<Vec<String>> {
        let at = format!("{at}.start");
        let Some(start) = start else {
            let what = "a program on a runtime needs `start`".to_owned();
            let at = at.trim_end_matches(".start").to_owned() + ".runtime";
            let instead = match runtime.kind {
                RuntimeKind::Java => "start = { jar = \"lib/report.jar\" }",
                RuntimeKind::Python => "start = { script = \"lib/report.py\" }",
                RuntimeKind::Php => "start = { script = \"app/report.php\" }",
                RuntimeKind::Node => "start = { script = \"app/server.js\" }",
                RuntimeKind::Plain => "start = { script = \"report.script\" }",
            };
            self.problem_of(Code::MissingKey, &at, what, "", instead);
            return None;
        };
        let written::Start { jar, class, module, script, zip_app, class_path, module_path } = start;
        let given = [("jar", jar), ("class", class), ("module", module), ("script", script), ("zip-app", zip_app)];
        let given: Vec<(&str, &String)> =
            given.into_iter().filter_map(|(key, value)| Some((key, value.as_ref()?))).collect();
        let of_kind: &[&str] = match runtime.kind {
            RuntimeKind::Java => &["jar", "class", "module"],
            RuntimeKind::Python => &["script", "zip-app", "module"],
            RuntimeKind::Node | RuntimeKind::Php | RuntimeKind::Plain => &["script"],
        };
        let [(key, what)] = given[..] else {
            let said = if given.is_empty() { "`start` says nothing" } else { "`start` says several things" };
            self.problem(&at, said.to_owned(), "", format!("one of {}", of_kind.join(", ")));
            return None;
        };
        if !of_kind.contains(&key) {
            let said = format!("a runtime of the kind {:?} starts no {key}", runtime.kind.name());
            self.problem(&format!("{at}.{key}"), said, "", of_kind.join(", or "));
            return None;
        }
        self.one_line(&format!("{at}.{key}"), what);
        let is_java = runtime.kind == RuntimeKind::Java;
        for (path, all, is_of_it) in
            [("class-path", class_path, is_java), ("module-path", module_path, is_java || key == "module")]
        {
            if !all.is_empty() && !is_of_it {
                let said = format!("{path} means nothing for a {key} that runs on {}", runtime.kind.title());
                self.problem(&format!("{at}.{path}"), said, "", format!("`{key}` alone"));
                return None;
            }
        }
        let mut is_right = true;
        let mut path = |r: &mut Self, at: String, text: &str| {
            let bare = text.replace('\\', "/");
            // Java puts all archives of a folder in its place.
            let folder = bare.strip_suffix("/*").unwrap_or(&bare);
            if let Err(why) = RelPath::new(folder) {
                r.problem(&at, format!("{text:?} {why}"), "it is a path inside the payload", "\"lib/report.jar\"");
                is_right = false;
            }
            match r.platform.system() {
                System::Windows => in_install(&bare).replace('/', "\\"),
                System::Macos | System::Linux => in_install(&bare),
            }
        };
        let separator = if self.platform.system() == System::Windows { ";" } else { ":" };
        let mut each = |r: &mut Self, key: &str, all: &[String]| {
            let each = all.iter().enumerate().map(|(n, one)| path(r, format!("{at}.{key}.{n}"), one));
            each.collect::<Vec<_>>()
        };
        let mut arguments = Vec::new();
        if runtime.kind == RuntimeKind::Python {
            let folders = each(self, "module-path", module_path);
            match key {
                // Python itself puts the script's folder before others; in isolation it would not.
                "script" => arguments.extend(["-E", "-s", "-B"].map(str::to_owned)),
                "zip-app" => arguments.extend(["-I", "-B"].map(str::to_owned)),
                _ if folders.is_empty() => {
                    let said = "`module` needs `module-path`".to_owned();
                    self.problem_of(Code::MissingKey, &format!("{at}.module"), said, "", "module-path = [\"lib\"]");
                    return None;
                }
                _ => {
                    arguments.extend(["-I", "-B", "-c", PYTHON_MODULE].map(str::to_owned));
                    arguments.push(folders.len().to_string());
                    arguments.extend(folders);
                    arguments.push(what.clone());
                    return is_right.then_some(arguments);
                }
            }
            arguments.push(path(self, format!("{at}.{key}"), what));
            return is_right.then_some(arguments);
        }
        if !module_path.is_empty() {
            arguments.extend(["-p".to_owned(), each(self, "module-path", module_path).join(separator)]);
        }
        if !class_path.is_empty() {
            arguments.extend(["-cp".to_owned(), each(self, "class-path", class_path).join(separator)]);
        }
        match key {
            "jar" => {
                if !class_path.is_empty() {
                    let why = "with an archive, the manifest in it names the others (`Class-Path`)";
                    let instead = "`class` in place of `jar`, with the archive in `class-path`";
                    self.problem(&format!("{at}.class-path"), "Java ignores this class path".to_owned(), why, instead);
                    return None;
                }
                arguments.extend(["-jar".to_owned(), path(self, format!("{at}.jar"), what)]);
            }
            "class" => {
                if class_path.is_empty() {
                    let said = "`class` needs `class-path`".to_owned();
                    self.problem_of(Code::MissingKey, &format!("{at}.class"), said, "", "class-path = [\"lib/*\"]");
                    return None;
                }
                arguments.push(what.clone());
            }
            "module" => {
                if module_path.is_empty() {
                    let said = "`module` needs `module-path`".to_owned();
                    self.problem_of(Code::MissingKey, &format!("{at}.module"), said, "", "module-path = [\"lib\"]");
                    return None;
                }
                arguments.extend(["-m".to_owned(), what.clone()]);
            }
            _ => arguments.push(path(self, format!("{at}.{key}"), what)),
        }
        is_right.then_some(arguments)
    }
}
