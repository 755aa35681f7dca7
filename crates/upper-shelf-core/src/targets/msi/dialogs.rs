//! The wizard's pages as rows of Windows Installer's tables. All words are properties: those of the system's language
//! are put in before the first page comes.

use super::layout::{Layout, Result};
use super::words::formatted;
use super::{rules, sequences};
use crate::footprint::Text;
use crate::icons::Icon;
use crate::languages::language_numbers;
use crate::wizard::{
    Action, Control, FILES_IN_USE_CLOSABLE, Kind, Page, RADIO_HEIGHT, RADIO_PITCH, WORDS, Wizard, pages,
};
use msi_database::check::ice::ERROR_BUTTONS;
use msi_database::rows;

/// Bitmaps, by the key of their row.
pub const TINT: &str = "WizardTint";
pub const ACCENT: &str = "WizardAccent";
pub const PICTURE: &str = "WizardPicture";

/// Whether the product is being taken away.
const REMOVED: &str = "REMOVE = \"ALL\"";

const VISIBLE: i32 = 1;
const ENABLED: i32 = 2;
const SUNKEN: i32 = 4;
const TRANSPARENT: i32 = 0x10000;
const SMOOTH_PROGRESS: i32 = 0x10000;

/// The condition that the system speaks a language, in whatever country: the low ten bits of its number are the
/// language's. `><` asks whether numbers have a bit in common.
fn is_language(number: u32) -> String {
    let primary = number & 0x3FF;
    let bits = (0..10).map(|n| 1 << n).filter(|bit| primary & bit != 0);
    let mut all: Vec<String> = bits.map(|bit| format!("UserLanguageID >< {bit}")).collect();
    all.push(format!("NOT UserLanguageID >< {}", 0x3FF & !primary));
    all.join(" AND ")
}

/// The key of the code of the language that pages speak.
const LANGUAGE_WORD: &str = "language";

fn property(word: &str) -> String {
    format!("w_{}", word.replace('-', "_"))
}

pub fn write(it: &mut Layout) -> Result<()> {
    let (footprint, wizard) = (it.job.footprint, it.job.wizard);
    for (name, size, bits) in [("Plain", 9, None), ("Title", 13, Some(1))] {
        it.db.add(&rows::TextStyle {
            text_style: name,
            face_name: "Segoe UI",
            size,
            style_bits: bits,
            ..Default::default()
        })?;
    }
    it.db.add(&rows::Property { property: "DefaultUIFont", value: "Plain" })?;
    for name in [TINT, ACCENT, PICTURE] {
        it.db.add(&rows::Binary { name })?;
    }
    say(it, wizard)?;
    // After a removal the last page says so.
    for (n, part) in ["title", "below", "text"].into_iter().enumerate() {
        let action = format!("SayRemoved_{part}");
        it.db.add(&rows::CustomAction {
            action: &action,
            kind: 51,
            source: &property(&format!("done-{part}")),
            target: &format!("[{}]", property(&format!("removed-{part}"))),
            ..Default::default()
        })?;
        sequences::action(it, "InstallUISequence", &action, REMOVED, sequences::FIRST_PAGE + 11 + n as i32)?;
    }
    let pages = pages(footprint, wizard);
    let first = pages.first().map_or("", |p| p.name);
    error_dialog(it)?;
    if pages.iter().flat_map(|p| &p.controls).any(|c| c.kind == Kind::Parts) {
        let german = wizard.languages.first().is_some_and(|l| l.code == "de");
        for (key, english, in_german) in TREE {
            it.db.add(&rows::UIText { key, text: if german { in_german } else { english } })?;
        }
    }
    // Windows fills it while it runs; without the table it fails.
    it.db.create_standard("ListBox")?;
    for page in &pages {
        dialog(it, page)?;
        for (n, control) in page.controls.iter().enumerate() {
            let next = page.controls.iter().cycle().skip(n + 1).take(page.controls.len()).find(|c| tabbed(c.kind));
            let next = next.filter(|_| tabbed(control.kind)).map_or("", |c| c.name);
            match &wizard.license {
                Some(text) if control.kind == Kind::License => license(it, page, control, text, next)?,
                _ => control_row(it, page, control, "", next)?,
            }
        }
    }
    for (page, condition, at) in [
        (first, "NOT Installed", sequences::FIRST_PAGE),
        ("Maintain", "Installed AND NOT REMOVE AND NOT REINSTALL", sequences::FIRST_PAGE + 10),
        ("Progress", "", sequences::FIRST_PAGE + 20),
        ("Done", "", -1),
        ("Cancelled", "", -2),
        ("Failed", "", -3),
    ] {
        sequences::action(it, "InstallUISequence", page, condition, at)?;
        if at < 0 {
            sequences::action(it, "AdminUISequence", page, condition, at)?;
        }
    }
    Ok(())
}

/// What the tree of parts says: key, English, German. The table has no place for the system's language, so these are in
/// the product's first one.
const TREE: [(&str, &str, &str); 17] = [
    ("AbsentPath", "", ""),
    ("GB", "GB", "GB"),
    ("KB", "KB", "KB"),
    ("MB", "MB", "MB"),
    ("MenuAbsent", "Do not install", "Nicht installieren"),
    ("MenuAllLocal", "Install with everything below it", "Mit allem darunter installieren"),
    ("MenuLocal", "Install", "Installieren"),
    ("NewFolder", "Folder|New Folder", "Ordner|Neuer Ordner"),
    ("SelAbsentAbsent", "This part will not be installed.", "Dieser Teil wird nicht installiert."),
    ("SelAbsentLocal", "This part will be installed.", "Dieser Teil wird installiert."),
    (
        "SelChildCostNeg",
        "This feature frees up [1] on your hard drive.",
        "Dieser Teil gibt [1] auf der Festplatte frei.",
    ),
    (
        "SelChildCostPos",
        "This feature requires [1] on your hard drive.",
        "Dieser Teil benötigt [1] auf der Festplatte.",
    ),
    ("SelCostPending", "Calculating the space this part needs...", "Der Platzbedarf dieses Teils wird berechnet..."),
    ("SelLocalAbsent", "This part will be removed.", "Dieser Teil wird entfernt."),
    ("SelLocalLocal", "This part stays installed.", "Dieser Teil bleibt installiert."),
    (
        "SelParentCostPosPos",
        "This part needs [1], with [2] of [3] parts below it that need [4].",
        "Dieser Teil benötigt [1], mit [2] von [3] Teilen darunter, die [4] benötigen.",
    ),
    ("bytes", "bytes", "Bytes"),
];

/// The dialog that Windows Installer shows errors in: it puts its own sentence into the text, and shows those of the
/// buttons that fit it.
fn error_dialog(it: &mut Layout) -> Result<()> {
    const NAME: &str = "ErrorShown";
    const SIZE: (i32, i32) = (270, 105);
    it.db.add(&rows::Property { property: "ErrorDialog", value: NAME })?;
    it.db.add(&rows::Dialog {
        dialog: NAME,
        h_centering: 50,
        v_centering: 50,
        width: SIZE.0,
        height: SIZE.1,
        // Visible, modal, for errors.
        attributes: Some(1 | 2 | 0x10000),
        title: "[ProductName]",
        control_first: "ErrorText",
        ..Default::default()
    })?;
    let control = |it: &mut Layout, name: &str, kind: &str, at: (i32, i32, i32, i32), text: &str| {
        it.db.add(&rows::Control {
            dialog: NAME,
            control: name,
            kind,
            x: at.0,
            y: at.1,
            width: at.2,
            height: at.3,
            attributes: Some(VISIBLE | ENABLED),
            text,
            ..Default::default()
        })
    };
    control(it, "ErrorText", "Text", (12, 10, 246, 60), "")?;
    for (button, answer) in ERROR_BUTTONS {
        let word = match button {
            "I" => "in-use-go-on",
            "N" => "no",
            "O" => "close",
            "R" => "in-use-retry",
            "Y" => "yes",
            _ => "cancel",
        };
        control(it, button, "PushButton", (107, 80, 56, 17), &format!("[{}]", property(word)))?;
        it.db.add(&rows::ControlEvent {
            dialog: NAME,
            control: button,
            event: "EndDialog",
            argument: answer,
            condition: "1",
            ordering: Some(1),
        })?;
    }
    Ok(())
}

/// The words of the first language, and how those of the others come in their place.
fn say(it: &mut Layout, wizard: &Wizard) -> Result<()> {
    let footprint = it.job.footprint;
    let mut at = sequences::WORDS;
    for (n, language) in wizard.languages.iter().enumerate() {
        let numbers = language_numbers(&language.code);
        let spoken = numbers.first().map_or("0 = 1".to_owned(), |n| is_language(*n));
        let condition = format!("WIZARDLANGUAGE = \"{}\" OR (NOT WIZARDLANGUAGE AND {spoken})", language.code);
        let keys = WORDS.iter().map(|w| w.0).filter(|key| !key.starts_with("setup-"));
        let several = wizard.license.as_ref().is_some_and(|text| !text.others().is_empty());
        for key in keys.chain(several.then_some(LANGUAGE_WORD)) {
            let word = if key == LANGUAGE_WORD { language.code.clone() } else { language.word(key, footprint) };
            if n == 0 {
                it.db.add(&rows::Property { property: &property(key), value: &word })?;
                continue;
            }
            let action = format!("Say_{}_{}", language.code, key.replace('-', "_"));
            it.db.add(&rows::CustomAction {
                action: &action,
                kind: 51,
                source: &property(key),
                target: &formatted(&word),
                ..Default::default()
            })?;
            at += 1;
            sequences::action(it, "InstallUISequence", &action, &condition, at)?;
        }
    }
    Ok(())
}

fn tabbed(kind: Kind) -> bool {
    match kind {
        Kind::Button | Kind::Check | Kind::Folder | Kind::Parts | Kind::License | Kind::Scope | Kind::Programs => true,
        Kind::Strip
        | Kind::Picture
        | Kind::Accent
        | Kind::Title
        | Kind::Below
        | Kind::Text
        | Kind::Line
        | Kind::Progress
        | Kind::Doing => false,
    }
}

fn dialog(it: &mut Layout, page: &Page) -> Result<()> {
    let first = page.controls.iter().find(|c| tabbed(c.kind)).map_or("", |c| c.name);
    // Visible, may be made small; the page with the progress does not stop what goes on behind it.
    let attributes = 1 | 4 | if page.name == "Progress" { 0 } else { 2 };
    it.db.add(&rows::Dialog {
        dialog: page.name,
        h_centering: 50,
        v_centering: 50,
        width: page.size.0,
        height: page.size.1,
        attributes: Some(attributes),
        title: "[ProductName]",
        control_first: first,
        control_default: page.default,
        control_cancel: page.cancel,
    })
}

/// The licence's text: a text that is shown with its styles can't come from a property, so each language has a control
/// of its own in the same place, and one of them is shown.
fn license(it: &mut Layout, page: &Page, control: &Control, license: &Text, next: &str) -> Result<()> {
    let languages: Vec<&str> = it.job.wizard.languages.iter().map(|l| l.code.as_str()).collect();
    let own: Vec<&str> = languages.into_iter().filter(|code| license.others().contains_key(*code)).collect();
    let name =
        |n: usize| own.get(n).map_or(next.to_owned(), |code| format!("{}_{}", control.name, code.replace('-', "_")));
    control_row(it, page, control, &rtf(license), &name(0))?;
    for (n, code) in own.iter().enumerate() {
        let (name, next) = (name(n), name(n + 1));
        let (x, y, w, h) = control.at;
        it.db.add(&rows::Control {
            dialog: page.name,
            control: &name,
            kind: "ScrollableText",
            x,
            y,
            width: w,
            height: h,
            attributes: Some(ENABLED | SUNKEN),
            text: &rtf(license.of(code)),
            control_next: &next,
            ..Default::default()
        })?;
        for (control, action) in [(name.as_str(), "Show"), (control.name, "Hide")] {
            it.db.add(&rows::ControlCondition {
                dialog: page.name,
                control,
                action,
                condition: &format!("{} = \"{code}\"", property(LANGUAGE_WORD)),
            })?;
        }
    }
    Ok(())
}

/// A row of a control, with a text that is none of the wizard's words.
fn control_row(it: &mut Layout, page: &Page, control: &Control, shown: &str, next: &str) -> Result<()> {
    let words = if control.words.is_empty() { String::new() } else { format!("[{}]", property(control.words)) };
    let usual = VISIBLE | ENABLED;
    let (kind, attributes, text) = match control.kind {
        Kind::Strip => ("Bitmap", VISIBLE, TINT.to_owned()),
        Kind::Picture => ("Bitmap", VISIBLE, PICTURE.to_owned()),
        Kind::Accent => ("Bitmap", VISIBLE, ACCENT.to_owned()),
        Kind::Title => ("Text", usual | TRANSPARENT, format!("{{\\Title}}{words}")),
        Kind::Below => ("Text", usual | TRANSPARENT, words),
        Kind::Text | Kind::Doing => ("Text", usual, words),
        Kind::Line => ("Line", VISIBLE, String::new()),
        Kind::Button => ("PushButton", usual, words),
        Kind::Check => ("CheckBox", usual, words),
        Kind::Folder => ("PathEdit", usual, String::new()),
        Kind::Parts => ("SelectionTree", usual | SUNKEN, String::new()),
        Kind::License => ("ScrollableText", usual | SUNKEN, shown.to_owned()),
        Kind::Scope => ("RadioButtonGroup", usual, String::new()),
        Kind::Programs => ("ListBox", usual | SUNKEN, String::new()),
        Kind::Progress => ("ProgressBar", VISIBLE | SMOOTH_PROGRESS, String::new()),
    };
    let property = if control.kind == Kind::Parts { "PartsFolder" } else { control.property };
    let (x, y, w, h) = control.at;
    it.db.add(&rows::Control {
        dialog: page.name,
        control: control.name,
        kind,
        x,
        y,
        width: w,
        height: h,
        attributes: Some(attributes),
        property,
        text: &text,
        control_next: next,
        ..Default::default()
    })?;
    match control.kind {
        Kind::Check if it.db.each::<rows::CheckBox>().all(|r| r.property != property) => {
            it.db.add(&rows::CheckBox { property, value: "1" })?;
        }
        Kind::Progress => it.db.add(&rows::EventMapping {
            dialog: page.name,
            control: control.name,
            event: "SetProgress",
            attribute: "Progress",
        })?,
        Kind::Doing => it.db.add(&rows::EventMapping {
            dialog: page.name,
            control: control.name,
            event: "ActionText",
            attribute: "Text",
        })?,
        Kind::Scope => scope(it, w)?,
        _ => {}
    }
    if control.name == "StartNow" {
        it.db.add(&rows::Property { property: "StartNow", value: "1" })?;
        it.db.add(&rows::ControlCondition {
            dialog: page.name,
            control: control.name,
            action: "Hide",
            condition: &format!("Installed OR {REMOVED}"),
        })?;
    }
    if !control.only_if.is_empty() {
        it.db.add(&rows::ControlCondition {
            dialog: page.name,
            control: control.name,
            action: "Enable",
            condition: control.only_if,
        })?;
        it.db.add(&rows::ControlCondition {
            dialog: page.name,
            control: control.name,
            action: "Disable",
            condition: &format!("NOT ({})", control.only_if),
        })?;
    }
    events(it, page, control)
}

fn scope(it: &mut Layout, width: i32) -> Result<()> {
    it.db.add(&rows::Property { property: "Scope", value: "user" })?;
    for (n, (value, word)) in [("user", "scope-user"), ("machine", "scope-machine")].iter().enumerate() {
        it.db.add(&rows::RadioButton {
            property: "Scope",
            order: n as i32 + 1,
            value,
            x: 0,
            y: n as i32 * RADIO_PITCH,
            width,
            height: RADIO_HEIGHT,
            text: &format!("[{}]", property(word)),
            ..Default::default()
        })?;
    }
    Ok(())
}

fn events(it: &mut Layout, page: &Page, control: &Control) -> Result<()> {
    let starts = it.job.footprint.install.start_at_end.is_some();
    let folders = rules::folders_by_scope(it.job.footprint);
    let mut order = 0;
    let mut event = |name: &str, argument: &str, condition: &str| {
        order += 1;
        it.db.add(&rows::ControlEvent {
            dialog: page.name,
            control: control.name,
            event: name,
            argument,
            condition,
            ordering: Some(order),
        })
    };
    if control.name == "Next" {
        match page.name {
            "Folder" => event("SetTargetPath", "INSTALLDIR", "1")?,
            // The system moves its folder of programs by itself when it is for one user, but it can't move it back
            // while pages are shown: both folders are named as they are.
            "Scope" => {
                let (user, machine) = ("Scope = \"user\"", "Scope = \"machine\"");
                for (property, value, condition) in [
                    ("[ALLUSERS]", "2", user),
                    ("[MSIINSTALLPERUSER]", "1", user),
                    ("[ALLUSERS]", "1", machine),
                    ("[MSIINSTALLPERUSER]", "{}", machine),
                ] {
                    event(property, value, condition)?;
                }
                for (folder, condition) in &folders {
                    event("[INSTALLDIR]", folder, &format!("NOT REMEMBEREDFOLDER AND {condition}"))?;
                }
                event("SetTargetPath", "INSTALLDIR", "1")?;
                // What was found before was looked for in the other scope.
                event("DoAction", "FindRelatedProducts", "1")?;
            }
            _ => {}
        }
    }
    match control.action {
        Action::None => Ok(()),
        Action::Go(to) => event("NewDialog", to, "1"),
        Action::Install => event("EndDialog", "Return", "1"),
        // What a command line would say: nothing is costed before an installation is repaired or removed.
        Action::Repair => {
            event("[REINSTALLMODE]", "omus", "1")?;
            event("[REINSTALL]", "ALL", "1")?;
            event("EndDialog", "Return", "1")
        }
        Action::Remove => {
            event("[REMOVE]", "ALL", "1")?;
            event("EndDialog", "Return", "1")
        }
        Action::AskCancel => event("SpawnDialog", "AskCancel", "1"),
        Action::Stop | Action::Close => event("EndDialog", "Exit", "1"),
        Action::Stay => event("EndDialog", "Return", "1"),
        Action::LookAgain => event("EndDialog", "Retry", "1"),
        Action::GoOn if page.name == FILES_IN_USE_CLOSABLE => event("EndDialog", "Return", "1"),
        Action::GoOn => event("EndDialog", "Ignore", "1"),
        Action::ClosePrograms => {
            event("RMShutdownAndRestart", "0", "1")?;
            event("EndDialog", "Return", "1")
        }
        Action::Finish => {
            if starts {
                event("DoAction", "StartProgram", "StartNow = 1 AND NOT Installed")?;
            }
            event("EndDialog", "Return", "1")
        }
    }
}

/// Plain text as rich text.
fn rtf(text: &str) -> String {
    let mut out = String::from("{\\rtf1\\ansi\\deff0{\\fonttbl{\\f0 Segoe UI;}}\\fs18 ");
    for c in text.replace("\r\n", "\n").chars() {
        match c {
            '\n' => out.push_str("\\par\n"),
            '{' | '}' | '\\' => out.extend(['\\', c]),
            c if c.is_ascii() => out.push(c),
            c => {
                let mut units = [0; 2];
                c.encode_utf16(&mut units).iter().for_each(|u| out.push_str(&format!("\\u{}?", *u as i16)));
            }
        }
    }
    out.push('}');
    out
}

/// The pictures, as bitmaps of 24 bits.
pub fn pictures(wizard: &Wizard, icon: &Icon) -> [(&'static str, Vec<u8>); 3] {
    let plain = |color: [u8; 3]| bitmap(4, |_, _| color);
    let tint = wizard.tint();
    let picture = icon.pixels(80);
    let over = |x: u32, y: u32| {
        let [r, g, b, a] = picture.get_pixel(x, y).0;
        let mix =
            |c: u8, ground: u8| ((u32::from(c) * u32::from(a) + u32::from(ground) * (255 - u32::from(a))) / 255) as u8;
        [mix(r, tint[0]), mix(g, tint[1]), mix(b, tint[2])]
    };
    [(TINT, plain(tint)), (ACCENT, plain(wizard.accent)), (PICTURE, bitmap(80, over))]
}

/// A square bitmap, a multiple of four pixels wide: rows from below, blue first.
fn bitmap(size: u32, pixel: impl Fn(u32, u32) -> [u8; 3]) -> Vec<u8> {
    let bytes = size * size * 3;
    let mut out = Vec::with_capacity(54 + bytes as usize);
    out.extend_from_slice(b"BM");
    for number in [54 + bytes, 0, 54, 40, size, size] {
        out.extend_from_slice(&number.to_le_bytes());
    }
    // One plane, 24 bits.
    out.extend_from_slice(&[1, 0, 24, 0]);
    for number in [0, bytes, 2835, 2835, 0, 0] {
        out.extend_from_slice(&number.to_le_bytes());
    }
    for y in (0..size).rev() {
        for x in 0..size {
            let [r, g, b] = pixel(x, y);
            out.extend_from_slice(&[b, g, r]);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_becomes_rich_text() {
        assert!(rtf("a{b}\nä").ends_with("\\fs18 a\\{b\\}\\par\n\\u228?}"));
    }
}
