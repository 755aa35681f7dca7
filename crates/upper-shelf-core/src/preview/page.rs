//! A page of a wizard: the controls where the description says, with the words of a language, as they are when the
//! page is first seen.

use super::{Drawn, FRAME, Inset, Picture, Rect, TITLE, box_, hex, line, rect};
use crate::font::{cut, width, wrap};
use crate::footprint::{Choice, Footprint, Scope};
use crate::packaging::{Plan, PlannedPackage};
use crate::platform::Platform;
use crate::problem::{Code, Problem};
use crate::settings::TargetName;
use crate::wizard::{Control, Kind, Language, Page, RADIO_HEIGHT, RADIO_PITCH, Wizard};

/// Letters of 9 points at the usual density.
const SIZE: f32 = 12.0;
/// Letters of a title: 13 points, bold.
const TITLE_SIZE: f32 = 17.0;
/// From one line to the next.
const PITCH: i32 = 16;
const INK: &str = "#1b1b1b";
const GREY: &str = "#9d9d9d";
const BORDER: &str = "stroke=\"#a9a9a9\" fill=\"#ffffff\"";
/// How far the picture of a page with a progress is.
const DONE: f32 = 0.4;

/// Units of the pages in pixels at the usual density, as the head of setup programs has it: 72 units are 96 pixels.
fn px(units: i32) -> i32 {
    (units * 96 + 36) / 72
}

fn pixels((x, y, w, h): Rect) -> Rect {
    let (left, top) = (px(x), px(y));
    (left, top, px(x + w) - left, px(y + h) - top)
}

/// A page's drawing under way.
struct Drawing<'p> {
    footprint: &'p Footprint,
    wizard: &'p Wizard,
    target: TargetName,
    language: &'p Language,
    page: &'p Page,
    below: String,
    above: String,
    drawn: Vec<Drawn>,
    warnings: Vec<Problem>,
}

/// A page in a language.
pub fn page(
    plan: &Plan,
    package: &PlannedPackage,
    language: &Language,
    page: &Page,
    number: usize,
) -> (Picture, Vec<Problem>) {
    let (width, height) = (px(page.size.0), px(page.size.1));
    let wizard = &plan.product.wizard;
    let mut it = Drawing {
        footprint: &package.carried,
        wizard,
        target: package.target,
        language,
        page,
        below: String::new(),
        above: String::new(),
        drawn: Vec::new(),
        warnings: Vec::new(),
    };
    it.frame(width, height);
    let mut insets = Vec::new();
    // Grounds lie under everything else, whatever their place in the order of the tab key.
    for control in page.controls.iter().filter(|c| matches!(c.kind, Kind::Strip | Kind::Accent)) {
        let colour = if control.kind == Kind::Strip { wizard.tint() } else { wizard.accent };
        it.below += &rect(inside(pixels(control.at)), &format!("fill=\"{}\"", hex(colour)));
        it.note(control, pixels(control.at), "");
    }
    for control in &page.controls {
        let at = pixels(control.at);
        match control.kind {
            Kind::Strip | Kind::Accent => {}
            Kind::Picture => {
                insets.push((inside(at), Inset::Icon(plan.icon.clone())));
                it.note(control, at, "");
            }
            _ => it.control(control, at),
        }
    }
    let picture = Picture {
        package: package.file_name.clone(),
        target: package.target,
        platform: plan.product.platform,
        language: Some(language.code.clone()),
        page: page.name.to_owned(),
        number,
        size: ((width + 2 * FRAME) as u32, (height + TITLE + 2 * FRAME) as u32),
        contents: (FRAME, TITLE + FRAME),
        inner: (width, height),
        drawn: it.drawn,
        below: it.below,
        insets,
        above: it.above,
    };
    (picture, it.warnings)
}

/// From the window's contents to the picture.
fn inside((x, y, w, h): Rect) -> Rect {
    (x + FRAME, y + TITLE + FRAME, w, h)
}

impl Drawing<'_> {
    fn frame(&mut self, width: i32, height: i32) {
        let (w, h) = (width + 2 * FRAME, height + TITLE + 2 * FRAME);
        self.below += &rect((0, 0, w, h), "fill=\"#8a8a8a\"");
        self.below += &rect((FRAME, FRAME, width, TITLE), "fill=\"#ffffff\"");
        self.below += &rect(inside((0, 0, width, height)), "fill=\"#f3f3f3\"");
        let name = self.footprint.product.name.clone().unwrap_or_default();
        let name = cut(&name, width as f32 - 130.0, SIZE);
        self.above += &line(&name, (12.0, 20.0), SIZE, &format!("fill=\"{INK}\""));
        let (x, y) = (w as f32 - 22.0, FRAME as f32 + TITLE as f32 / 2.0);
        self.above +=
            &format!("<path d=\"M{} {}l10 10m0 -10l-10 10\" stroke=\"{INK}\" fill=\"none\"/>", x - 5.0, y - 5.0);
    }

    fn note(&mut self, control: &Control, at: Rect, text: &str) {
        self.drawn.push(Drawn { kind: control.kind.name(), text: text.to_owned(), at });
    }

    /// A word as it is read: without the signs of keys.
    fn word(&self, key: &str) -> String {
        // A setup program knows more about a failure than the page's own words say.
        let key = if self.target == TargetName::Nsis && key == "failed-text" { "setup-failed" } else { key };
        let word = self.language.word(key, self.footprint);
        let log = format!("%TEMP%\\{}-setup.log", self.footprint.product.name.as_deref().unwrap_or_default());
        let word = word.replace("{detail}", &self.a_file()).replace("{log}", &log);
        word.replace("&&", "\0").replace('&', "").replace('\0', "&")
    }

    /// Text from the top of its place, with a warning if it has no room.
    fn text(&mut self, text: &str, (x, y, w, h): Rect, size: f32, bold: bool, key: &str) {
        let lines = wrap(text, w as f32, size, bold);
        let pitch = if bold { 23 } else { PITCH };
        if lines.len() as i32 * (pitch - 1) > h + 1 {
            let room = (h / pitch).max(1);
            self.warnings.push(
                Problem::warning(
                    Code::WindowRoom,
                    format!(
                        "the text of `{key}` in {:?} takes {} lines on the page {}",
                        self.language.code,
                        lines.len(),
                        self.page.name
                    ),
                )
                .why(format!("there is room for {room}: {text:?}"))
                .instead(format!("shorter words: [wizard.words.{}] {key} = \"…\"", self.language.code)),
            );
        }
        let (x, y, ..) = inside((x, y, w, h));
        let weight = if bold { " font-weight=\"bold\"" } else { "" };
        for (n, text) in lines.iter().enumerate() {
            let baseline = (y + n as i32 * pitch) as f32 + size * 1.05;
            self.above += &line(text, (x as f32, baseline), size, &format!("fill=\"{INK}\"{weight}"));
        }
    }

    /// One line in the middle of a height.
    fn middle(&mut self, text: &str, x: i32, (y, h): (i32, i32), colour: &str) {
        let baseline = (y + TITLE + FRAME) as f32 + h as f32 / 2.0 + SIZE * 0.36;
        self.above += &line(text, ((x + FRAME) as f32, baseline), SIZE, &format!("fill=\"{colour}\""));
    }

    fn is_ticked(&self, property: &str) -> bool {
        ["DESKTOPSHORTCUT", "STARTWITHSYSTEM", "StartNow"].contains(&property)
    }

    fn control(&mut self, control: &Control, at: Rect) {
        let (x, y, w, h) = at;
        let text = self.word(control.words);
        self.note(control, at, &text);
        match control.kind {
            Kind::Strip | Kind::Accent | Kind::Picture => {}
            Kind::Title => self.text(&text, at, TITLE_SIZE, true, control.words),
            Kind::Below | Kind::Text => self.text(&text, at, SIZE, false, control.words),
            Kind::Line => self.below += &rect(inside((x, y, w, 1)), "fill=\"#a0a0a0\""),
            Kind::Button => self.button(control, at, &text),
            Kind::Check => {
                self.tick(x, y + h / 2, self.is_ticked(control.property));
                self.room(&text, w - 20, control.words);
                self.middle(&text, x + 19, (y, h), INK);
            }
            Kind::Folder => {
                let folder = self.folder();
                self.field(at, "#ffffff");
                self.middle(&cut(&folder, w as f32 - 10.0, SIZE), x + 5, (y, h), INK);
                self.said(&folder);
            }
            Kind::License => {
                let text = self.wizard.license.as_ref().map_or("", |text| text.of(&self.language.code));
                self.field(at, "#ffffff");
                let all = wrap(&text.replace('\t', "    "), (w - 30) as f32, SIZE, false);
                for (n, text) in all.iter().enumerate().take(((h - 8) / PITCH) as usize) {
                    self.middle(text, x + 6, (y + 4 + n as i32 * PITCH, PITCH), INK);
                }
                if all.len() as i32 * PITCH > h - 8 {
                    let bar = (x + w - 17, y + 1, 16, h - 2);
                    self.above += &rect(inside(bar), "fill=\"#f0f0f0\"");
                    let part = (h - 2) * (h - 8) / (all.len() as i32 * PITCH);
                    self.above += &rect(inside((x + w - 13, y + 3, 8, part.max(16))), "rx=\"4\" fill=\"#b8b8b8\"");
                }
            }
            Kind::Scope => self.scope(control, at),
            Kind::Parts => self.parts(at),
            Kind::Programs => {
                self.field(at, "#ffffff");
                let name = self.footprint.product.name.clone().unwrap_or_default();
                self.middle(&cut(&name, w as f32 - 12.0, SIZE), x + 6, (y + 4, PITCH), INK);
                self.said(&name);
            }
            Kind::Doing => {
                let file = self.a_file();
                let text = match self.target {
                    TargetName::Nsis => format!("{:.0} %  {file}", DONE * 100.0),
                    _ => file,
                };
                self.middle(&cut(&text, w as f32, SIZE), x, (y, PITCH), INK);
                self.said(&text);
            }
            Kind::Progress => {
                self.field(at, "#e6e6e6");
                let done = ((w - 2) as f32 * DONE) as i32;
                let colour = format!("fill=\"{}\"", hex(self.wizard.accent));
                self.above += &rect(inside((x + 1, y + 1, done, h - 2)), &colour);
            }
        }
    }

    /// What the control that was noted last says.
    fn said(&mut self, text: &str) {
        if let Some(last) = self.drawn.last_mut() {
            last.text = text.to_owned();
        }
    }

    /// A warning if one line of words is wider than its room.
    fn room(&mut self, text: &str, room: i32, key: &str) {
        let needs = width(text, SIZE, false).ceil() as i32;
        if needs > room {
            self.warnings.push(
                Problem::warning(
                    Code::WindowRoom,
                    format!(
                        "the text of `{key}` in {:?} is cut off on the page {}",
                        self.language.code, self.page.name
                    ),
                )
                .why(format!("{text:?} is about {needs} pixels wide, and there is room for {room}"))
                .instead(format!("shorter words: [wizard.words.{}] {key} = \"…\"", self.language.code)),
            );
        }
    }

    fn button(&mut self, control: &Control, at: Rect, text: &str) {
        let (x, y, w, h) = at;
        let enabled = control.only_if.is_empty();
        let look = match (enabled, control.name == self.page.default) {
            (false, _) => "rx=\"3\" stroke=\"#c8c8c8\" fill=\"#f7f7f7\"",
            (true, true) => "rx=\"3\" stroke=\"#2a6fb0\" stroke-width=\"1.500\" fill=\"#ffffff\"",
            (true, false) => "rx=\"3\" stroke=\"#a9a9a9\" fill=\"#ffffff\"",
        };
        self.above += &box_(inside(at), look);
        self.room(text, w - 10, control.words);
        let left = x as f32 + (w as f32 - width(text, SIZE, false)) / 2.0;
        let baseline = (y + TITLE + FRAME) as f32 + h as f32 / 2.0 + SIZE * 0.36;
        let colour = if enabled { INK } else { GREY };
        self.above += &line(text, (left + FRAME as f32, baseline), SIZE, &format!("fill=\"{colour}\""));
    }

    /// Two rows, the first of them chosen. Windows Installer has heights for them; setup programs halve the place.
    fn scope(&mut self, control: &Control, at: Rect) {
        self.drawn.pop();
        let (x, y, w, h) = at;
        for (n, key) in ["scope-user", "scope-machine"].into_iter().enumerate() {
            let word = self.word(key);
            let row = match (self.target, n) {
                (TargetName::Msi, n) => (x, y + px(n as i32 * RADIO_PITCH), w, px(RADIO_HEIGHT)),
                (_, 0) => (x, y, w, h / 2),
                _ => (x, y + h / 2, w, h - h / 2),
            };
            self.note(control, row, &word);
            self.radio(x, row.1 + row.3 / 2, n == 0);
            self.room(&word, w - 20, key);
            self.middle(&word, x + 19, (row.1, row.3), INK);
        }
    }

    fn field(&mut self, at: Rect, ground: &str) {
        self.above += &box_(inside(at), &format!("stroke=\"#a9a9a9\" fill=\"{ground}\""));
    }

    fn tick(&mut self, x: i32, middle: i32, ticked: bool) {
        let (left, top, ..) = inside((x, middle - 7, 13, 13));
        self.above += &box_((left, top, 13, 13), BORDER);
        if ticked {
            self.above += &format!(
                "<path d=\"M{} {}l3 3l5 -6\" stroke=\"{INK}\" stroke-width=\"1.600\" fill=\"none\"/>",
                left as f32 + 2.5,
                top as f32 + 6.5
            );
        }
    }

    fn radio(&mut self, x: i32, middle: i32, chosen: bool) {
        let (left, top, ..) = inside((x, middle - 7, 13, 13));
        let (cx, cy) = (left as f32 + 6.5, top as f32 + 6.5);
        self.above += &format!("<circle cx=\"{cx}\" cy=\"{cy}\" r=\"6\" {BORDER}/>");
        if chosen {
            self.above += &format!("<circle cx=\"{cx}\" cy=\"{cy}\" r=\"3\" fill=\"{INK}\"/>");
        }
    }

    fn parts(&mut self, at: Rect) {
        let (x, y, w, _) = at;
        self.field(at, "#ffffff");
        let mut said = Vec::new();
        let product = self.footprint.product.name.clone().unwrap_or_default();
        // Windows Installer shows the product as the part that all others hang on.
        let all = (self.target == TargetName::Msi).then_some((product, true)).into_iter();
        // Windows Installer knows the parts in one language only.
        let language = if self.target == TargetName::Nsis { self.language.code.as_str() } else { "" };
        let choices = self.footprint.choices.iter().map(|Choice { title, description, chosen, .. }| {
            let title = title.of(language);
            match description {
                Some(d) if self.target == TargetName::Nsis => (format!("{title}: {}", d.of(language)), *chosen),
                _ => (title.to_owned(), *chosen),
            }
        });
        let rows: Vec<(String, bool)> = all.chain(choices).collect();
        for (n, (title, chosen)) in rows.iter().enumerate() {
            let deeper = if self.target == TargetName::Msi && n > 0 { 20 } else { 0 };
            let top = y + 5 + n as i32 * 19;
            self.tick(x + 7 + deeper, top + 8, *chosen);
            self.middle(&cut(title, (w - 40 - deeper) as f32, SIZE), x + 26 + deeper, (top, PITCH), INK);
            said.push(title.as_str());
        }
        let said = said.join(" | ");
        self.said(&said);
    }

    /// A file that is worked on just now.
    fn a_file(&self) -> String {
        let file = self.footprint.files().next().map(|(path, _)| path.to_string());
        file.unwrap_or_default().replace('/', "\\")
    }

    /// The folder that is proposed.
    fn folder(&self) -> String {
        let folder = self.footprint.install.windows_folder();
        let top = match self.footprint.install.scope() {
            Scope::Machine if self.footprint.platform == Some(Platform::WindowsX86) => "C:\\Program Files (x86)",
            Scope::Machine => "C:\\Program Files",
            Scope::User | Scope::Asked => "C:\\Users\\me\\AppData\\Local\\Programs",
        };
        let end = if self.target == TargetName::Msi { "\\" } else { "" };
        format!("{top}\\{folder}{end}")
    }
}
