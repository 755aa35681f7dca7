//! What the machine should look like: the product's traces as values, services and shortcuts, for the folder and the
//! scope that were chosen.

use crate::places;
use crate::product::{below, Instruction, Product, Program, INSTALL};
use crate::record::{Item, PROGRAM};
use crate::registry::{self, At, Data};
use crate::services::{Config, Settings};
use crate::settings::{command_line, quoted_path};
use crate::shortcut::Link;
use crate::text::{cat, path, t, unhex, Text, EMPTY};
use alloc::boxed::Box;
use alloc::vec::Vec;
use nsis_archive::custom::kind;
use windows_sys::Win32::System::Registry as reg;

/// What is chosen.
#[derive(Clone)]
pub struct Chosen {
    pub folder: Text,
    pub machine: bool,
    /// One for each of the product's choices.
    pub choices: Vec<bool>,
    pub desktop: bool,
    pub startup: bool,
}

#[derive(Default)]
pub struct Desired {
    /// The last is for the record.
    pub values: Vec<(At, Data, Option<Data>)>,
    pub items: Vec<Item>,
    pub services: Vec<Config>,
    pub fonts: Vec<Text>,
    pub links: Vec<Link>,
}

impl Chosen {
    /// Whether what belongs to a choice is wanted; -1 belongs to none.
    pub fn has(&self, choice: i32) -> bool {
        usize::try_from(choice).map_or(true, |c| self.choices.get(c) == Some(&true))
    }

    /// A path below the product's folder.
    pub fn path(&self, inside: Text) -> Text {
        if inside.is_empty() {
            self.folder
        } else {
            path(self.folder, inside)
        }
    }

    /// A text with the product's folder put in.
    pub fn text(&self, text: Text) -> Text {
        if !text.has(b"\x01") {
            return text;
        }
        text.replace(t!("\u{1}/"), cat(&[self.folder, t!("\\")])).replace(INSTALL, self.folder)
    }

    pub fn arguments(&self, own: &[Text], more: &[Text]) -> Text {
        let mut all = Vec::new();
        for argument in own.iter().chain(more) {
            all.push(self.text(*argument));
        }
        command_line(&all)
    }

    pub fn working_folder(&self, program: &Program) -> Text {
        match program.working {
            1 => places::home(),
            2 => self.folder,
            3 => self.path(program.working_path),
            // Where the user stands; the shell stands in the program's own folder.
            _ => EMPTY,
        }
    }

    /// A program's whole command line.
    fn line(&self, program: &Program, more: &[Text]) -> Text {
        let own = self.arguments(&program.arguments, more);
        let space = if own.is_empty() { EMPTY } else { t!(" ") };
        cat(&[quoted_path(self.path(program.file)), space, own])
    }
}

/// Desired being worked out.
struct Work<'w> {
    it: Desired,
    product: &'w Product,
    chosen: &'w Chosen,
}

impl Desired {
    pub fn new(product: &Product, chosen: &Chosen) -> Self {
        let mut work = Work { it: Self::default(), product, chosen };
        for (kind, item) in &product.instructions {
            work.add(*kind, *item);
        }
        work.entry();
        work.it
    }
}

impl Work<'_> {
    /// Whether a file is chosen.
    fn is_there(&self, file: Text) -> bool {
        self.product.files.iter().any(|f| f.path.is(file) && self.chosen.has(f.choice))
    }

    /// A program, if its file is there.
    fn program(&self, key: Text) -> Option<Program> {
        self.product.program(key).filter(|p| self.is_there(p.file))
    }

    #[inline(never)]
    fn set(&mut self, key: Text, name: Text, data: Data) {
        let at = At::new(self.chosen.machine, key, name);
        if !self.it.values.iter().any(|(a, ..)| a.same(at)) {
            self.it.values.push((at, data, None));
        }
    }

    #[inline(never)]
    fn text(&mut self, key: Text, name: Text, text: Text) {
        self.set(key, name, Data::text(text));
    }

    /// How something is opened.
    fn open(&mut self, key: Text, program: &Program) {
        let line = cat(&[self.chosen.line(program, &[]), t!(" \"%1\"")]);
        self.text(path(key, t!("shell\\open\\command")), EMPTY, line);
    }

    /// The name by which the task bar knows a program's windows: the product's, for its first one.
    fn model(&self, key: Text) -> Text {
        let first = self.product.programs.first().map_or(EMPTY, |p| p.text(0));
        if key.is(first) {
            self.product.id
        } else {
            cat(&[self.product.id, t!("."), key])
        }
    }

    /// What the product can open, for the system's own page of standard programs.
    fn offer(&mut self, kind: Text, what: Text, class: Text) {
        let own = path(own_key(self.product), t!("Capabilities"));
        let summary = self.product.identity.text(4);
        self.text(own, t!("ApplicationName"), self.product.name);
        self.text(own, t!("ApplicationDescription"), if summary.is_empty() { self.product.name } else { summary });
        self.text(path(own, kind), what, class);
        self.text(t!("Software\\RegisteredApplications"), self.product.id, own);
    }

    fn add(&mut self, kind: u16, item: Instruction) {
        let chosen = self.chosen;
        match kind {
            kind::SHORTCUT => {
                let place = item.number(0);
                let wanted = match place {
                    1 => chosen.desktop,
                    2 => chosen.startup,
                    _ => true,
                };
                let Some(p) = self.program(item.text(2)).filter(|_| wanted) else { return };
                // A link for everyone names the folder by the variable, which is everybody's own.
                let folder = if p.working == 1 { t!("%USERPROFILE%") } else { chosen.working_folder(&p) };
                self.it.links.push(Link {
                    path: cat(&[places::shortcuts(place, chosen.machine), t!("\\"), item.text(1), t!(".lnk")]),
                    target: chosen.path(p.file),
                    arguments: chosen.arguments(&p.arguments, &item.list(4)),
                    folder,
                    description: item.text(3),
                    model: self.model(item.text(2)),
                });
            }
            kind::FILE_TYPE => {
                let Some(p) = self.program(item.text(2)) else { return };
                let extensions = item.list(3);
                let first = extensions.first().copied().unwrap_or(EMPTY);
                let class = cat(&[self.product.id, t!("."), first]);
                let key = cat(&[t!("Software\\Classes\\"), class]);
                self.text(key, EMPTY, item.text(1));
                self.text(path(key, t!("DefaultIcon")), EMPTY, cat(&[chosen.path(p.file), t!(",0")]));
                self.open(key, &p);
                for extension in extensions {
                    let key = cat(&[t!("Software\\Classes\\."), extension]);
                    // What another program has is its own: this one offers itself beside it.
                    if is_free(key, class) {
                        self.text(key, EMPTY, class);
                        self.text(key, t!("Content Type"), item.text(0));
                    }
                    self.text(path(key, t!("OpenWithProgids")), class, EMPTY);
                    self.offer(t!("FileAssociations"), cat(&[t!("."), extension]), class);
                }
            }
            kind::LINK_SCHEME => {
                let Some(p) = self.program(item.text(1)) else { return };
                let class = cat(&[self.product.id, t!(".link."), item.text(0)]);
                let free = is_free_link(path(t!("Software\\Classes"), item.text(0)), p.file.name());
                for name in [class, item.text(0)] {
                    if name.is(class) || free {
                        let key = path(t!("Software\\Classes"), name);
                        self.text(key, EMPTY, cat(&[t!("URL:"), item.text(0)]));
                        self.text(key, t!("URL Protocol"), EMPTY);
                        self.open(key, &p);
                    }
                }
                self.offer(t!("URLAssociations"), item.text(0), class);
            }
            kind::REGISTRY => {
                let mut texts = item.list(5);
                for text in &mut texts {
                    *text = chosen.text(*text);
                }
                let first = texts.first().copied().unwrap_or(EMPTY);
                let data = match item.number(4) {
                    1 => Data::of_text(reg::REG_EXPAND_SZ, first),
                    2 => Data::number(item.number(5) as u32),
                    3 => Data::new(reg::REG_BINARY, unhex(first)),
                    4 => Data::list(&texts),
                    _ => Data::text(first),
                };
                let machine = match item.number(0) {
                    1 => true,
                    2 => false,
                    _ => chosen.machine,
                };
                let at = At::of(machine, item.number(1) == 1, chosen.text(item.text(2)), chosen.text(item.text(3)));
                self.it.values.push((at, data, None));
            }
            kind::FONT => {
                let file = below(item.text(0));
                if self.is_there(file) {
                    let key = t!("Software\\Microsoft\\Windows NT\\CurrentVersion\\Fonts");
                    let file = chosen.path(file);
                    self.text(key, cat(&[item.text(1), t!(" (TrueType)")]), file);
                    self.it.fonts.push(file);
                }
            }
            kind::ENVIRONMENT => {
                let key = if chosen.machine {
                    t!("SYSTEM\\CurrentControlSet\\Control\\Session Manager\\Environment")
                } else {
                    t!("Environment")
                };
                let (name, text) = (item.text(0), chosen.text(item.text(2)));
                match item.number(1) {
                    // A value with variables of the system's in it.
                    0 if text.has(b"%") => self.set(key, name, Data::of_text(reg::REG_EXPAND_SZ, text)),
                    0 => self.text(key, name, text),
                    n => self.it.items.push(Item { at: At::new(chosen.machine, key, name), text, front: n == 1 }),
                }
            }
            kind::SERVICE => {
                let Some(p) = self.program(item.text(3)) else { return };
                let config = Box::new(Settings {
                    name: item.text(0),
                    title: item.text(1),
                    description: item.text(2),
                    command: chosen.line(&p, &item.list(6)),
                    start: item.number(4),
                    account: item.text(5),
                });
                self.it.services.push(Box::leak(config));
            }
            _ => {}
        }
    }

    /// The entry in the list of applications, and where the next version finds this one.
    fn entry(&mut self) {
        let (product, chosen, who) = (self.product, self.chosen, self.product.identity);
        let key = cat(&[t!("Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\"), product.id]);
        let remove = quoted_path(chosen.path(PROGRAM));
        let icon = product.programs.first().map_or(PROGRAM, |p| below(p.text(1)));
        let support = who.text(6);
        let texts = [
            (t!("DisplayName"), product.name),
            (t!("DisplayVersion"), product.version),
            (t!("Publisher"), who.text(3)),
            (t!("DisplayIcon"), cat(&[chosen.path(icon), t!(",0")])),
            (t!("InstallLocation"), chosen.folder),
            (t!("UninstallString"), remove),
            (t!("QuietUninstallString"), cat(&[remove, t!(" /S")])),
            (t!("Comments"), who.text(4)),
            (t!("URLInfoAbout"), who.text(5)),
            (if support.find(t!("://")).is_some() { t!("HelpLink") } else { t!("Contact") }, support),
        ];
        for (name, text) in texts {
            if !text.is_empty() {
                self.text(key, name, text);
            }
        }
        let size = u32::try_from(product.bytes.div_ceil(1024)).unwrap_or(u32::MAX);
        for (name, n) in [(t!("EstimatedSize"), size), (t!("NoModify"), 1), (t!("NoRepair"), 1)] {
            self.set(key, name, Data::number(n));
        }
        // What was chosen, for whichever package comes next.
        let own = own_key(product);
        self.text(own, t!("InstallFolder"), chosen.folder);
        for (n, choice) in product.choices.iter().enumerate() {
            let name = cat(&[t!("Choice."), choice.text(0)]);
            self.text(own, name, if chosen.has(n as i32) { t!("1") } else { t!("0") });
        }
        for (name, wanted) in [(t!("Desktop"), chosen.desktop), (t!("Startup"), chosen.startup)] {
            self.text(own, name, if wanted { t!("x1") } else { t!("x") });
        }
    }
}

/// Whether nobody else has a kind of file: neither for everyone nor for this user.
fn is_free(key: Text, class: Text) -> bool {
    let others = |machine: bool| {
        let now = registry::text(machine, key, EMPTY);
        !now.is_empty() && !now.same(class)
    };
    !others(true) && !others(false)
}

/// Whether nobody else opens a kind of link.
fn is_free_link(key: Text, own: Text) -> bool {
    let others = |machine: bool| {
        let now = registry::text(machine, path(key, t!("shell\\open\\command")), EMPTY);
        !now.is_empty() && now.upper().find(cat(&[t!("\\"), own]).upper()).is_none()
    };
    !others(true) && !others(false)
}

pub fn own_key(product: &Product) -> Text {
    path(t!("Software"), product.id)
}
