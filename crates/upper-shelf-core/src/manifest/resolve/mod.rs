//! From the written manifest to what holds for one platform: nothing optional left, every default taken and explained,
//! every reference checked. And from that and the payload to the footprint.

mod common;
mod libraries;
mod macos;
mod runtimes;
mod settings;
mod shell;
mod sources;
mod windows;

use self::sources::Placed;
use super::Project;
use super::formats::Wish;
use super::read::Source;
use super::written;
use crate::dates::seconds_of;
use crate::footprint::{Footprint, Identity, Item, List, Permission, Text, Trace, TraceKey, file_name_of};
use crate::languages::language_numbers;
use crate::libraries::Libraries;
use crate::payload::Layer;
use crate::platform::{Platform, Selector, System};
use crate::problem::{About, Code, Problem, Span};
use crate::runtimes::Runtime;
use crate::settings::{CodeSigning, DiskImage, OpenPgpSigning, Settings, Signing, TargetName};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

/// A default that was taken, and why.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
pub struct Default {
    /// The key, as in the manifest.
    pub key: String,
    /// The value.
    pub value: String,
    /// Why this one.
    pub why: String,
    /// Whether it is only shown to whoever wants to see each decision.
    #[serde(skip)]
    pub is_detail: bool,
}

/// The icon's file, and where it is written.
pub type IconFile = (PathBuf, Option<Span>);

/// Where the items of a footprint are written: each item's keys in the manifest, with dots between them.
#[derive(Debug, Clone, Default)]
pub struct Origins(BTreeMap<TraceKey<'static>, String>);

impl Origins {
    /// Where an item is written; nothing for one that no manifest names, such as a file of a layer.
    pub fn of(&self, key: &TraceKey<'static>) -> Option<&str> {
        self.0.get(key).map(String::as_str)
    }

    fn note(&mut self, key: TraceKey, at: &str) {
        self.0.insert(key.into_owned(), at.to_owned());
    }
}

/// What holds for one platform.
#[derive(Debug, Clone)]
pub struct Product {
    /// The platform.
    pub platform: Platform,
    /// What the manifest says of the footprint: all but the tree and the icons.
    pub footprint: Footprint,
    /// Where each item of it is written.
    pub origins: Origins,
    /// Layers that apply.
    pub layers: Vec<Layer>,
    /// Runtimes that apply; each has a layer of its own.
    pub runtimes: Vec<Runtime>,
    /// Folders that libraries come from.
    pub libraries: Vec<Libraries>,
    /// The icon's file.
    pub icon: Option<IconFile>,
    /// The patterns of each choice's files.
    pub choices: Vec<(String, Vec<String>)>,
    /// Patterns of files that stay once somebody changed them.
    pub keep_changed: Vec<String>,
    /// The wizard.
    pub wizard: crate::wizard::Wizard,
    /// What only one format has.
    pub settings: Settings,
    /// The window of disk images.
    pub disk_image: DiskImage,
    /// The key that signs.
    pub signing: Option<Signing>,
    /// How code is signed, for macOS.
    pub code_signing: CodeSigning,
    /// With which key of OpenPGP is signed.
    pub openpgp: Option<OpenPgpSigning>,
    /// The packages' formats.
    pub targets: Vec<TargetName>,
    /// Seconds since 1970 that all files inside packages bear.
    pub time: u32,
    /// Packages' names without their ending.
    pub file_name: String,
    /// Defaults that were taken.
    pub defaults: Vec<Default>,
}

/// 2026-01-01, for packages whose manifest and environment name no time.
const FIXED_TIME: u32 = 1_767_225_600;

impl Project {
    /// The platforms to build for.
    pub fn platforms(&self, host: Platform) -> (Vec<Platform>, Option<Default>) {
        if let Some(platforms) = &self.manifest.targets.platforms {
            return (platforms.iter().copied().collect::<BTreeSet<_>>().into_iter().collect(), None);
        }
        let default = |platforms: &[Platform], why: &str| Default {
            key: "targets.platforms".into(),
            value: platforms.iter().map(|p| p.name()).collect::<Vec<_>>().join(", "),
            why: why.into(),
            is_detail: false,
        };
        let own = || self.manifest.layer.iter().filter(|layer| layer.source.is_none()).filter_map(|l| l.from.as_ref());
        let names_one = own().any(|from| match from {
            written::PerPlatform::Same(from) => from.contains("{platform}"),
            written::PerPlatform::Each(_) => true,
        });
        if names_one {
            let there = Platform::ALL.into_iter().filter(|p| {
                let froms = own().filter_map(|from| from.on(*p)).map(|(from, _)| from);
                let mut own = froms.filter(|from| from.contains("{platform}") || self.differs(from)).peekable();
                own.peek().is_some() && own.all(|from| self.folder.join(from.replace("{platform}", p.name())).exists())
            });
            let there: Vec<Platform> = there.collect();
            if !there.is_empty() {
                let default = default(&there, "the layers' folders exist for these");
                return (there, Some(default));
            }
        }
        let default = default(&[host], "the platform of this machine; list others to build for them too");
        (vec![host], Some(default))
    }

    fn differs(&self, from: &str) -> bool {
        self.manifest
            .layer
            .iter()
            .any(|l| matches!(&l.from, Some(written::PerPlatform::Each(each)) if each.values().any(|v| v == from)))
    }

    /// Resolves for a platform; `epoch` is SOURCE_DATE_EPOCH.
    pub fn resolve(&self, platform: Platform, epoch: Option<&str>) -> (Product, Vec<Problem>) {
        let mut r = Resolver {
            project: self,
            platform,
            problems: Vec::new(),
            defaults: Vec::new(),
            origins: Origins::default(),
            programs_are_wrong: false,
        };
        let m = &self.manifest;
        // Each table is read by one of the functions below; a new one makes the compiler ask here.
        let written::Manifest {
            product: _,
            source: _,
            layer: _,
            runtime: _,
            libraries: _,
            program: _,
            shortcut: _,
            file_type: _,
            link_scheme: _,
            environment: _,
            registry: _,
            service: _,
            manual: _,
            completion: _,
            font: _,
            choice: _,
            install: _,
            wizard: _,
            disk_image: _,
            signing: _,
            permissions: _,
            bundle: _,
            targets: _,
            target: _,
        } = m;
        let identity = r.identity();
        let mut layers = r.layers();
        if layers.is_empty() {
            let problem = Problem::error(Code::NoFiles, format!("no [[layer]] has files for {platform}"));
            let problem = problem.at(self.source.span("product")).why("a package needs the program's files");
            r.problems.push(problem.instead("[[layer]]\nfrom = \"the folder with the built files\""));
        }
        let icon = match &m.product.icon {
            Some(icon) => r.select(icon).map(|path| (self.folder.join(path), self.source.span("product.icon"))),
            None => {
                r.default(
                    "product.icon",
                    "a plain drawing in a colour made from the id",
                    "the manifest names no picture",
                );
                None
            }
        };
        let runtimes = r.runtimes(&mut layers);
        let libraries = r.libraries();
        let mut footprint = Footprint { product: identity, platform: Some(platform), ..Footprint::default() };
        r.common(&mut footprint);
        footprint.permissions = r.permissions();
        let targets = r.targets();
        r.shell(&mut footprint, &targets);
        match platform.system() {
            System::Windows => r.windows(&mut footprint),
            System::Macos => r.macos(&mut footprint),
            System::Linux => {}
        }
        let windows = platform.system() == System::Windows;
        let keep_changed = if windows { m.install.keep_changed.clone() } else { Vec::new() };
        let choices = m.choice.iter().map(|c| (c.key.clone(), c.files.clone())).collect();
        let wizard = if platform.system() == System::Windows { r.wizard() } else { crate::wizard::Wizard::default() };
        let settings = r.settings(&targets);
        let disk_image = if platform.system() == System::Macos { r.disk_image(&targets) } else { DiskImage::default() };
        let signing = r.signing();
        let time = r.time(epoch);
        let pattern = m.targets.file_name.clone().unwrap_or_else(|| {
            r.default(
                "targets.file-name",
                "{name}-{version}-{platform}",
                "such names sort well and say what is inside",
            );
            "{name}-{version}-{platform}".into()
        });
        let name = file_name_of(&m.product.name);
        let file_name = pattern
            .replace("{name}", &name)
            .replace("{version}", &m.product.version)
            .replace("{platform}", platform.name());
        if file_name.contains(['/', '\\']) || file_name.starts_with('.') {
            let problem = Problem::error(Code::InvalidValue, format!("{file_name:?} can't be a file's name"));
            r.problems.push(problem.at(self.source.span("targets.file-name")).instead("a name without slashes"));
        }
        let Resolver { problems, mut defaults, origins, .. } = r;
        defaults.sort();
        defaults.dedup();
        (
            Product {
                platform,
                footprint,
                origins,
                layers,
                runtimes,
                libraries,
                icon,
                choices,
                keep_changed,
                wizard,
                settings,
                disk_image,
                signing,
                code_signing: self.code_signing(),
                openpgp: self.openpgp(),
                targets,
                time,
                file_name,
                defaults,
            },
            problems,
        )
    }
}

struct Resolver<'p> {
    project: &'p Project,
    platform: Platform,
    problems: Vec<Problem>,
    defaults: Vec<Default>,
    origins: Origins,
    /// Whether something was said of programs: what names them is then not looked at.
    programs_are_wrong: bool,
}

impl Resolver<'_> {
    fn default(&mut self, key: &str, value: &str, why: &str) {
        self.defaults.push(Default { key: key.into(), value: value.into(), why: why.into(), is_detail: false });
    }

    /// A default that is only shown with `-v`.
    fn detail(&mut self, key: &str, value: &str, why: &str) {
        self.defaults.push(Default { key: key.into(), value: value.into(), why: why.into(), is_detail: true });
    }

    fn select(&self, value: &written::PerPlatform<String>) -> Option<String> {
        value.on(self.platform).map(|(v, _)| v.replace("{platform}", self.platform.name()))
    }

    fn applies(&self, platforms: &Option<Vec<Selector>>) -> bool {
        platforms.as_ref().is_none_or(|list| list.iter().any(|s| s.fits(self.platform)))
    }

    /// A value that isn't allowed there.
    fn problem(&mut self, at: &str, what: String, why: &str, instead: impl Into<String>) {
        self.problem_of(Code::InvalidValue, at, what, why, instead);
    }

    fn problem_of(&mut self, code: Code, at: &str, what: String, why: &str, instead: impl Into<String>) {
        let problem = Problem::error(code, what).at(self.project.source.span(at)).instead(instead);
        self.problems.push(if why.is_empty() { problem } else { problem.why(why) });
    }

    /// What the product wants to get at. Where the system ends a program that gave no reason, one has to be there.
    fn permissions(&mut self) -> List<Permission> {
        let project = self.project;
        let wanted = project.manifest.permissions.given().into_iter();
        let kept = wanted.filter_map(|(access, wish)| {
            let key = access.name();
            let at = format!("permissions.{key}");
            let remedy = format!("{key} = \"To photograph frames\"");
            match wish {
                Wish::Plain(false) => None,
                Wish::Plain(true) => {
                    if self.platform.system() == System::Macos && access.is_asked_about() {
                        let why = "macOS shows it when it asks for permission, and ends a program that gives none";
                        self.problem(&at, format!("{key} needs a reason"), why, remedy);
                    }
                    Some(Permission { access, reason: None })
                }
                Wish::Because(reason) => {
                    self.one_line(&at, reason);
                    if reason.trim().is_empty() {
                        let why = "the system shows it when it asks for permission";
                        self.problem(&at, format!("the reason for {key} is empty"), why, remedy);
                    }
                    Some(Permission { access, reason: Some(reason.clone()) })
                }
            }
        });
        kept.collect()
    }

    /// A text in the languages that it is written in: the one for everybody is that in the first language of the wizard, else
    /// the English one, else the first.
    fn text(&mut self, at: &str, written: &written::Text) -> Text {
        let each = match written {
            written::Text::Same(text) => {
                self.one_line(at, text);
                return text.clone().into();
            }
            written::Text::Each(each) => each,
        };
        let spoken = &self.project.manifest.wizard.languages;
        let first = spoken.as_ref().and_then(|all| all.first()).map_or("en", String::as_str);
        let plain = each.get(first).or_else(|| each.get("en")).or_else(|| each.values().next());
        let Some(plain) = plain.cloned() else {
            self.problem_of(
                Code::MissingKey,
                at,
                "the text is given in no language".into(),
                "",
                "{ en = \"…\", de = \"…\" }",
            );
            return Text::default();
        };
        let mut others = BTreeMap::new();
        for (language, text) in each {
            let at = format!("{at}.{language}");
            self.one_line(&at, text);
            if text.trim().is_empty() {
                self.problem(&at, "the text is empty".into(), "", "leave the language out");
            }
            if language_numbers(language).is_empty() {
                let what = format!("{language:?} isn't a known language");
                self.problem(&format!("{at}.#key"), what, "", "a two-letter code, such as \"de\"");
                continue;
            }
            // On Windows the wizard says them.
            let speaks = spoken.as_ref().map_or(language == "en" || language == "de", |all| all.contains(language));
            if self.platform.system() == System::Windows && !speaks {
                self.detail(&at, "left out", "the wizard doesn't speak this language");
                continue;
            }
            others.insert(language.clone(), text.clone());
        }
        Text::several(plain, others)
    }

    /// Items with the places where they are written, as a list; of two with one name it says so.
    fn list<T: Item + Clone + Into<Trace>>(&mut self, items: Vec<(T, String)>) -> List<T> {
        let mut seen = BTreeSet::new();
        for (item, at) in &items {
            let key = item.key().into_owned();
            self.origins.note(item.key(), at);
            if !seen.insert(key) {
                let trace: Trace = item.clone().into();
                let what = format!("this {} appears twice: {trace}", trace.kind());
                self.problem_of(
                    Code::Duplicate,
                    at,
                    what,
                    "one would replace the other",
                    "a different name for one of them",
                );
            }
        }
        items.into_iter().map(|(item, _)| item).collect()
    }

    fn identity(&mut self) -> Identity {
        let p = &self.project.manifest.product;
        let label = |l: &str| {
            !l.is_empty()
                && l.len() <= 63
                && l.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
                && !l.starts_with('-')
        };
        if p.id.split('.').count() < 3 || !p.id.split('.').all(label) || p.id.len() > 255 {
            let why = "systems expect a reverse DNS name: three or more parts of letters, digits and hyphens";
            self.problem("product.id", format!("{:?} can't be an id", p.id), why, "id = \"com.example.my-program\"");
        }
        for (key, value) in [("name", &p.name), ("publisher", &p.publisher)] {
            if value.trim().is_empty() || value.chars().any(char::is_control) {
                let what = format!("{value:?} can't be a {key}");
                self.problem(&format!("product.{key}"), what, "users read it", "one line of text");
            }
        }
        let version_char = |c: char| c.is_ascii_alphanumeric() || ".+-~_".contains(c);
        if !p.version.starts_with(|c: char| c.is_ascii_digit()) || !p.version.chars().all(version_char) {
            let why = "versions begin with a digit, and consist of letters, digits and .+-~_";
            self.problem("product.version", format!("{:?} can't be a version", p.version), why, "version = \"1.0.0\"");
        }
        let summary = p.summary.as_ref().map(|summary| self.text("product.summary", summary));
        if let Some(page) = &p.homepage
            && !page.starts_with("https://")
            && !page.starts_with("http://")
        {
            self.problem("product.homepage", format!("{page:?} isn't a web address"), "", format!("https://{page}"));
        }
        let mut categories = p.categories.clone();
        if categories.is_empty() {
            categories.push("Utility".into());
            self.default("product.categories", "Utility", "menus group programs by category");
        }
        for (n, category) in p.categories.iter().enumerate() {
            if category.is_empty() || !category.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
                let at = format!("product.categories.{n}");
                self.problem(
                    &at,
                    format!("{category:?} can't be a category"),
                    "",
                    "a registered name such as Office or Graphics",
                );
            }
        }
        Identity {
            id: Some(p.id.clone()),
            name: Some(p.name.clone()),
            version: Some(p.version.clone()),
            publisher: Some(p.publisher.clone()),
            summary,
            description: p.description.as_ref().map(|d| paragraphs(d)),
            homepage: p.homepage.clone(),
            support: p.support.clone(),
            license: p.license.clone(),
            categories,
        }
    }

    fn layers(&mut self) -> Vec<Layer> {
        let mut layers = Vec::new();
        for (n, layer) in self.project.manifest.layer.iter().enumerate() {
            if !self.applies(&layer.platforms) {
                continue;
            }
            let setting = format!("layer.{n}");
            let written = (layer.source.as_deref(), layer.from.as_ref(), layer.into.as_ref());
            let Some(Placed { source, from, into, label }) = self.placed(&setting, "layer", written) else { continue };
            layers.push(Layer {
                from,
                source,
                into,
                keep: layer.keep.clone(),
                drop: layer.drop.clone(),
                modes: layer.modes,
                executable: layer.executable.clone(),
                label,
                span: self.project.source.span(&format!("{setting}.from")),
                setting,
            });
        }
        layers
    }

    fn targets(&mut self) -> Vec<TargetName> {
        let system = self.platform.system();
        match &self.project.manifest.targets.build {
            Some(list) => {
                let fitting = list.iter().copied().filter(|t| t.systems().contains(&system));
                fitting.collect::<BTreeSet<_>>().into_iter().collect()
            }
            None => {
                let target = TargetName::usual(system);
                let key = format!("targets.build ({})", system.name());
                self.default(&key, target.name(), "the usual form for this system");
                vec![target]
            }
        }
    }

    fn time(&mut self, epoch: Option<&str>) -> u32 {
        if let Some(date) = &self.project.manifest.product.released {
            match seconds_of(date) {
                Some(seconds) => return seconds,
                None => {
                    let what = format!("{date:?} isn't a date");
                    self.problem("product.released", what, "", "released = \"2026-11-20\"");
                }
            }
        } else if let Some(epoch) = epoch {
            match epoch.trim().parse() {
                Ok(seconds) => return seconds,
                Err(_) => {
                    let problem = Problem::error(Code::InvalidValue, format!("SOURCE_DATE_EPOCH is {epoch:?}"));
                    self.problems.push(
                        problem
                            .why("it has to be a number of seconds since 1970")
                            .instead("SOURCE_DATE_EPOCH=1767225600"),
                    );
                }
            }
        } else {
            self.default("product.released", "2026-01-01", "a fixed date: the same input gives the same bytes");
        }
        FIXED_TIME
    }
}

/// Lines inside a paragraph are one line; paragraphs stay apart.
fn paragraphs(text: &str) -> String {
    let paragraphs = text.split("\n\n").map(|p| p.split_whitespace().collect::<Vec<_>>().join(" "));
    paragraphs.filter(|p| !p.is_empty()).collect::<Vec<_>>().join("\n\n")
}

impl Product {
    /// The problem with the place where what it is about is written.
    pub fn located(&self, mut problem: Problem, source: &Source) -> Problem {
        let found = match &problem.about {
            Some(About::Item(item, key)) => {
                self.origins.of(item).and_then(|at| source.span(&format!("{at}.{}", key.unwrap_or_default())))
            }
            Some(About::Setting(key)) => source.span(key),
            None => None,
        };
        problem.span = problem.span.or(found);
        problem.about = None;
        problem
    }
}
