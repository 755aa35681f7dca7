//! The pages: what stands where, and what happens when somebody presses something. Calm: one strip with the product's
//! picture, a thin line in its colour, room around everything, buttons at the lower right.

use super::Wizard;
use crate::footprint::{Footprint, Place, Scope};

/// A page's width.
pub const WIDTH: i32 = 400;
/// A page's height.
pub const HEIGHT: i32 = 272;
/// The page that comes when running programs use files, on systems that can't close them.
pub const FILES_IN_USE: &str = "FilesInUse";
/// The same on systems that can.
pub const FILES_IN_USE_CLOSABLE: &str = "MsiRMFilesInUse";
/// From one row of a group of radio buttons to the next, in Windows Installer's packages.
pub const RADIO_PITCH: i32 = 16;
/// Such a row's height.
pub const RADIO_HEIGHT: i32 = 14;
const STRIP: i32 = 56;
const MARGIN: i32 = 24;
const FOOT: i32 = HEIGHT - 38;

/// What a control is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// The strip's ground.
    Strip,
    /// The product's picture, on the strip.
    Picture,
    /// The line under the strip, in the product's colour.
    Accent,
    /// A page's title.
    Title,
    /// A sentence below it.
    Below,
    /// Text.
    Text,
    /// A line above the buttons.
    Line,
    /// A button.
    Button,
    /// A box to tick; `property` holds whether it is.
    Check,
    /// Where the folder is typed.
    Folder,
    /// The parts to choose from.
    Parts,
    /// The licence's text.
    License,
    /// For one user or for everyone.
    Scope,
    /// How far it is.
    Progress,
    /// What is being done.
    Doing,
    /// Programs that use files of the product.
    Programs,
}

impl Kind {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Strip => "strip",
            Self::Picture => "picture",
            Self::Accent => "accent",
            Self::Title => "title",
            Self::Below => "below",
            Self::Text => "text",
            Self::Line => "line",
            Self::Button => "button",
            Self::Check => "check",
            Self::Folder => "folder",
            Self::Parts => "parts",
            Self::License => "license",
            Self::Scope => "scope",
            Self::Progress => "progress",
            Self::Doing => "doing",
            Self::Programs => "programs",
        }
    }
}

/// What a button does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Nothing.
    None,
    /// Shows another page.
    Go(&'static str),
    /// Begins to install.
    Install,
    /// Begins to repair.
    Repair,
    /// Begins to remove.
    Remove,
    /// Asks whether to stop.
    AskCancel,
    /// Stops.
    Stop,
    /// Goes on as before.
    Stay,
    /// Looks again whether files are in use.
    LookAgain,
    /// Goes on although files are in use.
    GoOn,
    /// Closes the programs that use files, and starts them again at the end.
    ClosePrograms,
    /// Ends, with the program started if that is ticked.
    Finish,
    /// Ends.
    Close,
}

/// Something on a page.
#[derive(Debug, Clone)]
pub struct Control {
    /// Its name on the page.
    pub name: &'static str,
    /// What it is.
    pub kind: Kind,
    /// Left, top, width, height.
    pub at: (i32, i32, i32, i32),
    /// The key of its words; empty for none.
    pub words: &'static str,
    /// What it does.
    pub action: Action,
    /// The property that it changes.
    pub property: &'static str,
    /// It can only be pressed while this holds.
    pub only_if: &'static str,
}

/// A page.
#[derive(Debug, Clone)]
pub struct Page {
    /// Its name.
    pub name: &'static str,
    /// Its size.
    pub size: (i32, i32),
    /// Its controls, in the order of the tab key.
    pub controls: Vec<Control>,
    /// The control that the return key presses.
    pub default: &'static str,
    /// The control that the escape key presses.
    pub cancel: &'static str,
}

fn control(name: &'static str, kind: Kind, at: (i32, i32, i32, i32), words: &'static str) -> Control {
    Control { name, kind, at, words, action: Action::None, property: "", only_if: "" }
}

fn button(name: &'static str, slot: i32, words: &'static str, action: Action) -> Control {
    // Slots count from the right.
    let left = WIDTH - MARGIN - 68 - slot * 76;
    Control { action, ..control(name, Kind::Button, (left, FOOT + 10, 68, 19), words) }
}

fn text(name: &'static str, top: i32, lines: i32, words: &'static str) -> Control {
    control(name, Kind::Text, (MARGIN, top, WIDTH - 2 * MARGIN, lines * 12), words)
}

fn check(name: &'static str, top: i32, words: &'static str, property: &'static str) -> Control {
    Control { property, ..control(name, Kind::Check, (MARGIN, top, WIDTH - 2 * MARGIN, 14), words) }
}

fn page(
    name: &'static str,
    title: &'static str,
    below: &'static str,
    middle: Vec<Control>,
    buttons: Vec<Control>,
) -> Page {
    let right = buttons.first().map_or("", |b| b.name);
    // The button at the right closes or cancels; the one beside it goes on.
    let default = buttons.get(1).map_or(right, |b| b.name);
    let mut controls = middle;
    controls.extend(buttons.into_iter().rev());
    controls.extend([
        control("Strip", Kind::Strip, (0, 0, WIDTH, STRIP), ""),
        control("Picture", Kind::Picture, (MARGIN - 4, 8, 40, 40), ""),
        control("Accent", Kind::Accent, (0, STRIP, WIDTH, 2), ""),
        control("Title", Kind::Title, (MARGIN + 50, 12, WIDTH - 2 * MARGIN - 50, 20), title),
        control("Below", Kind::Below, (MARGIN + 50, 33, WIDTH - 2 * MARGIN - 50, 14), below),
        control("Line", Kind::Line, (0, FOOT, WIDTH, 0), ""),
    ]);
    Page { name, size: (WIDTH, HEIGHT), controls, default, cancel: right }
}

/// All pages of a product, in their order.
pub fn pages(footprint: &Footprint, wizard: &Wizard) -> Vec<Page> {
    let has = |place: Place| footprint.has_shortcut_in(place);
    let (has_choices, has_types) = (!footprint.choices.is_empty(), !footprint.file_types.is_empty());
    let cancel = || button("Cancel", 0, "cancel", Action::AskCancel);
    let mut order: Vec<&str> = vec!["Start"];
    order.extend(wizard.license.as_ref().map(|_| "License"));
    order.extend((footprint.install.scope() == Scope::Asked).then_some("Scope"));
    order.push("Folder");
    order.extend(has_choices.then_some("Choices"));
    order.retain(|name| !wizard.left_out.contains(name));
    let after = |name: &str| order.iter().position(|n| *n == name).and_then(|at| order.get(at + 1)).copied();
    let before =
        |name: &str| order.iter().position(|n| *n == name).and_then(|at| order.get(at.checked_sub(1)?)).copied();
    let buttons = |name: &'static str, only_if: &'static str| {
        let mut all = vec![cancel()];
        let mut next = match after(name) {
            Some(page) => button("Next", 1, "next", Action::Go(page)),
            None => button("Next", 1, "install", Action::Install),
        };
        next.only_if = only_if;
        all.push(next);
        all.extend(before(name).map(|page| button("Back", 2, "back", Action::Go(page))));
        all
    };
    let mut pages = Vec::new();
    let mut start = vec![text("Files", 74, 2, "start-files"), text("Older", 103, 2, "start-older")];
    if order.contains(&"Folder") {
        start.push(text("Later", 132, 2, "start-folder"));
    }
    if has_types {
        start.push(text("Types", 161, 2, "start-types"));
    }
    let mut top = 192;
    if has(Place::Desktop) {
        start.push(check("Desktop", top, "desktop", "DESKTOPSHORTCUT"));
        top += 18;
    }
    if has(Place::Startup) {
        start.push(check("Startup", top, "startup", "STARTWITHSYSTEM"));
    }
    if order.contains(&"Start") {
        pages.push(page("Start", "start-title", "start-below", start, buttons("Start", "")));
    }
    if order.contains(&"License") {
        let middle = vec![
            control("License", Kind::License, (MARGIN, 72, WIDTH - 2 * MARGIN, 132), ""),
            check("Accept", 212, "license-accept", "LicenseAccepted"),
        ];
        pages.push(page(
            "License",
            "license-title",
            "license-below",
            middle,
            buttons("License", "LicenseAccepted = \"1\""),
        ));
    }
    if order.contains(&"Scope") {
        let middle = vec![Control {
            property: "Scope",
            ..control("Scope", Kind::Scope, (MARGIN, 92, WIDTH - 2 * MARGIN, 34), "")
        }];
        pages.push(page("Scope", "scope-text", "scope-below", middle, buttons("Scope", "")));
    }
    let folder = vec![
        text("Label", 80, 1, "folder-text"),
        Control { property: "INSTALLDIR", ..control("Folder", Kind::Folder, (MARGIN, 95, WIDTH - 2 * MARGIN, 17), "") },
        text("Hint", 122, 2, "folder-hint"),
    ];
    if order.contains(&"Folder") {
        pages.push(page("Folder", "folder-title", "folder-below", folder, buttons("Folder", "")));
    }
    if order.contains(&"Choices") {
        let parts = control("Parts", Kind::Parts, (MARGIN, 72, WIDTH - 2 * MARGIN, 148), "");
        pages.push(page("Choices", "choices-title", "choices-below", vec![parts], buttons("Choices", "")));
    }
    let middle = vec![
        text("Now", 104, 1, "progress-text"),
        control("Doing", Kind::Doing, (MARGIN, 118, WIDTH - 2 * MARGIN, 24), ""),
        control("Progress", Kind::Progress, (MARGIN, 150, WIDTH - 2 * MARGIN, 12), ""),
    ];
    pages.push(page("Progress", "progress-title", "progress-below", middle, vec![cancel()]));
    let mut done = vec![text("Menu", 84, 2, "done-text")];
    if footprint.install.start_at_end.is_some() {
        done.push(check("StartNow", 118, "done-start", "StartNow"));
    }
    pages.push(page("Done", "done-title", "done-below", done, vec![button("Finish", 0, "finish", Action::Finish)]));
    let wide =
        |name, top, words, action| Control { action, ..control(name, Kind::Button, (MARGIN, top, 96, 21), words) };
    let beside = |name, top, words| control(name, Kind::Text, (MARGIN + 110, top, WIDTH - 2 * MARGIN - 110, 28), words);
    let maintain = vec![
        wide("Repair", 88, "repair", Action::Repair),
        beside("RepairText", 90, "repair-text"),
        wide("Remove", 132, "remove", Action::Remove),
        beside("RemoveText", 134, "remove-text"),
    ];
    pages.push(page("Maintain", "maintain-title", "maintain-below", maintain, vec![cancel()]));
    for (name, title, below, words) in [
        ("Cancelled", "cancelled-title", "cancelled-below", "cancelled-text"),
        ("Failed", "failed-title", "failed-below", "failed-text"),
    ] {
        let middle = vec![text("Text", 84, 3, words)];
        pages.push(page(name, title, below, middle, vec![button("Close", 0, "close", Action::Close)]));
    }
    // Windows looks for these two by their names: the second one when it can close programs by itself.
    for (name, words, action) in [
        (FILES_IN_USE, "in-use-retry", Action::LookAgain),
        (FILES_IN_USE_CLOSABLE, "in-use-close", Action::ClosePrograms),
    ] {
        let middle = vec![
            Control {
                property: "FileInUseProcess",
                ..control("Programs", Kind::Programs, (MARGIN, 72, WIDTH - 2 * MARGIN, 118), "")
            },
            text("Text", 198, 2, "in-use-text"),
        ];
        let buttons = vec![
            button("Cancel", 0, "cancel", Action::Stop),
            button("Close", 1, words, action),
            button("GoOn", 2, "in-use-go-on", Action::GoOn),
        ];
        pages.push(page(name, "in-use-title", "in-use-below", middle, buttons));
    }
    pages.push(ask_cancel());
    pages
}

/// The page of a program that only removes the product.
pub fn removal() -> Page {
    let middle = vec![text("Text", 84, 3, "setup-remove-text")];
    let go = button("Remove", 1, "remove", Action::Remove);
    page(
        "Remove",
        "setup-remove-title",
        "setup-remove-below",
        middle,
        vec![button("Cancel", 0, "cancel", Action::AskCancel), go],
    )
}

/// The small page that asks whether to stop.
fn ask_cancel() -> Page {
    let ask = |name, left, words, action| Control { action, ..control(name, Kind::Button, (left, 54, 60, 19), words) };
    Page {
        name: "AskCancel",
        size: (260, 84),
        controls: vec![
            ask("No", 136, "no", Action::Stay),
            ask("Yes", 66, "yes", Action::Stop),
            control("Text", Kind::Text, (20, 18, 220, 28), "ask-cancel"),
        ],
        default: "No",
        cancel: "No",
    }
}
