//! What a Linux desktop reads: desktop entries, icon theme files, software-centre metadata, MIME packages. Written from
//! a footprint as small files below one folder, and read back from them.
//!
//! Sources: the freedesktop.org specifications Desktop Entry 1.5, Icon Theme, Shared MIME-info, and AppStream.

use super::Loss;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Identity, Place, Trace};
use crate::icons::{Icon, form_of_theme_path};
use crate::manifest::dates::date_of;
use quick_xml::escape::escape;
use std::collections::BTreeMap;
use std::fmt::Write;

/// Small files by their path below `share/`.
pub type Files = BTreeMap<String, Vec<u8>>;

/// Fills in what software-centre metadata must have.
pub fn complete(identity: &Identity) -> (Identity, Vec<Loss>) {
    let mut whole = identity.clone();
    let mut made = Vec::new();
    let name = whole.name.clone().unwrap_or_else(|| "Unnamed".into());
    let mut fill = |slot: &mut Option<String>, key: &str, value: String, what: &str| {
        if slot.is_none() {
            made.push(Loss {
                what: format!("no {key}"),
                why: format!("software centres need one: {what} stands in for it"),
            });
            *slot = Some(value);
        }
    };
    fill(&mut whole.summary, "summary", name, "the name");
    let summary = whole.summary.clone().unwrap_or_default();
    fill(&mut whole.description, "description", format!("{summary}."), "the summary");
    fill(&mut whole.license, "license", "LicenseRef-proprietary".into(), "LicenseRef-proprietary");
    (whole, made)
}

fn id_of(footprint: &Footprint) -> &str {
    footprint.product.id.as_deref().unwrap_or("unknown")
}

/// A desktop entry to be: one for each shortcut, and one for each program that opens something but has none.
struct Entry<'f> {
    file: String,
    program: &'f str,
    /// `None`: not shown, but known for what it opens.
    shortcut: Option<&'f Trace>,
    opens: bool,
}

fn entries<'f>(footprint: &'f Footprint, place: Place) -> Vec<Entry<'f>> {
    let id = id_of(footprint);
    let main = footprint.main_program().unwrap_or_default();
    let mut entries: Vec<Entry<'f>> = Vec::new();
    let shortcuts = footprint.traces().iter().filter_map(|t| match t {
        Trace::Shortcut { place: p, name, program, .. } if *p == place => Some((t, name, program)),
        _ => None,
    });
    // The product's own entry is the main program's first one, or the one with the product's name.
    let mut shortcuts: Vec<_> = shortcuts.collect();
    shortcuts.sort_by_key(|(_, name, program)| (*program != main, Some(*name) != footprint.product.name.as_ref()));
    for (n, (trace, name, program)) in shortcuts.into_iter().enumerate() {
        let own = n == 0 && program == main;
        let hash = &ContentHash::of(name.as_bytes()).to_string()[..8];
        let file = if own { format!("{id}.desktop") } else { format!("{id}.{program}-{hash}.desktop") };
        let opens = place == Place::Menu && !entries.iter().any(|e| e.program == program);
        entries.push(Entry { file, program, shortcut: Some(trace), opens });
    }
    if place == Place::Menu {
        for trace in footprint.traces() {
            let program = match trace {
                Trace::FileType { program, .. } | Trace::LinkScheme { program, .. } => program.as_str(),
                Trace::Program { key, .. } if key == main => key,
                _ => continue,
            };
            if !entries.iter().any(|e| e.program == program) {
                let own = program == main;
                let file = if own { format!("{id}.desktop") } else { format!("{id}.{program}.desktop") };
                entries.push(Entry { file, program, shortcut: None, opens: true });
            }
        }
    }
    entries
}

/// All files for the desktop. `command` is what entries start, in front of `--start=KEY`.
pub fn write(footprint: &Footprint, icon: &Icon, time: u32, command: &str) -> Files {
    let id = id_of(footprint);
    let mut files = Files::new();
    for (place, folder) in FOLDERS {
        for entry in entries(footprint, place) {
            files.insert(
                format!("{folder}/{}", entry.file),
                desktop_entry(footprint, &entry, place, command).into_bytes(),
            );
        }
    }
    let icons = footprint.traces().iter().any(|t| matches!(t, Trace::Icon { .. }));
    if icons {
        for (_, path, bytes) in icon.theme_files(id) {
            files.insert(format!("icons/hicolor/{path}"), bytes);
        }
    }
    if let Some(package) = mime_package(footprint) {
        files.insert(format!("mime/packages/{id}.xml"), package.into_bytes());
    }
    files.insert(format!("metainfo/{id}.metainfo.xml"), metainfo(footprint, time).into_bytes());
    files
}

/// Where the entries of each place stand below `share/`.
const FOLDERS: [(Place, &str); 3] =
    [(Place::Menu, "applications"), (Place::Desktop, "desktop"), (Place::Startup, "autostart")];

fn desktop_entry(footprint: &Footprint, entry: &Entry, place: Place, command: &str) -> String {
    let p = &footprint.product;
    let id = id_of(footprint);
    let product_name = p.name.clone().unwrap_or_default();
    let (name, arguments, description) = match entry.shortcut {
        Some(Trace::Shortcut { name, arguments, description, .. }) => (name, arguments.as_slice(), description.clone()),
        _ => (&product_name, [].as_slice(), None),
    };
    let console = matches!(footprint.program(entry.program), Some(Trace::Program { console: true, .. }));
    let mut types = Vec::new();
    let mut links = false;
    if entry.opens {
        for trace in footprint.traces() {
            match trace {
                Trace::FileType { mime, program, .. } if program == entry.program => types.push(mime.clone()),
                Trace::LinkScheme { scheme, program } if program == entry.program => {
                    links = true;
                    types.push(format!("x-scheme-handler/{scheme}"));
                }
                _ => {}
            }
        }
    }
    let mut exec = format!("{command} --start={}", entry.program);
    for argument in arguments {
        let _ = write!(exec, " {}", exec_argument(argument));
    }
    // Before the last word: `%U` takes links and files, `%F` files.
    exec.push_str(if links {
        " %U"
    } else if !types.is_empty() {
        " %F"
    } else {
        ""
    });
    let mut out = String::from("[Desktop Entry]\nType=Application\nVersion=1.0\n");
    let _ = writeln!(out, "Name={}", escaped(name));
    if let Some(description) = &description {
        let _ = writeln!(out, "Comment={}", escaped(description));
    }
    let _ = writeln!(out, "Exec={}\nIcon={id}\nTerminal={console}", escaped(&exec));
    if place == Place::Menu {
        let categories: String = p.categories.iter().map(|c| format!("{};", category(c))).collect();
        let _ = writeln!(out, "Categories={categories}");
    }
    if !types.is_empty() {
        let _ = writeln!(out, "MimeType={}", types.iter().map(|t| format!("{t};")).collect::<String>());
    }
    if entry.shortcut.is_none() {
        out.push_str("NoDisplay=true\n");
    }
    let _ = writeln!(out, "X-UpperShelf-Program={}", entry.program);
    if let Some(version) = p.version.as_ref().filter(|_| place == Place::Menu) {
        let _ = writeln!(out, "X-AppImage-Version={}", escaped(version));
    }
    actions(&mut out, footprint, entry, place, command);
    out
}

/// In the product's own entry, the other programs in the menu are actions: many desktops show this entry only.
fn actions(out: &mut String, footprint: &Footprint, entry: &Entry, place: Place, command: &str) {
    if place != Place::Menu || entry.file != format!("{}.desktop", id_of(footprint)) {
        return;
    }
    let others: Vec<_> = footprint
        .traces()
        .iter()
        .filter_map(|t| match t {
            Trace::Shortcut { place: Place::Menu, name, program, arguments, .. } if entry.shortcut != Some(t) => {
                Some((name, program, arguments))
            }
            _ => None,
        })
        .collect();
    if others.is_empty() {
        return;
    }
    let key = |n: usize, program: &str| format!("{program}-{n}");
    let keys: String = others.iter().enumerate().map(|(n, (_, program, _))| format!("{};", key(n, program))).collect();
    let head = out.find("X-UpperShelf-Program").unwrap_or(out.len());
    out.insert_str(head, &format!("Actions={keys}\n"));
    for (n, (name, program, arguments)) in others.into_iter().enumerate() {
        let mut exec = format!("{command} --start={program}");
        arguments.iter().for_each(|a| {
            let _ = write!(exec, " {}", exec_argument(a));
        });
        let _ =
            writeln!(out, "\n[Desktop Action {}]\nName={}\nExec={}", key(n, program), escaped(name), escaped(&exec));
    }
}

/// Registered names stand as they are; others must begin with `X-`.
fn category(name: &str) -> String {
    const MAIN: [&str; 13] = [
        "AudioVideo",
        "Audio",
        "Video",
        "Development",
        "Education",
        "Game",
        "Graphics",
        "Network",
        "Office",
        "Science",
        "Settings",
        "System",
        "Utility",
    ];
    const MORE: [&str; 24] = [
        "Building",
        "Debugger",
        "IDE",
        "Calendar",
        "ContactManagement",
        "Database",
        "Dictionary",
        "Chart",
        "Email",
        "Finance",
        "ProjectManagement",
        "Presentation",
        "Spreadsheet",
        "WordProcessor",
        "2DGraphics",
        "VectorGraphics",
        "RasterGraphics",
        "3DGraphics",
        "Viewer",
        "TextEditor",
        "Biology",
        "Geography",
        "Math",
        "WebBrowser",
    ];
    if MAIN.contains(&name) || MORE.contains(&name) || name.starts_with("X-") {
        name.into()
    } else {
        format!("X-{name}")
    }
}

/// An argument in an `Exec` value: quoted, with percent signs doubled.
fn exec_argument(argument: &str) -> String {
    let mut quoted = String::from("\"");
    for c in argument.chars() {
        match c {
            '"' | '`' | '$' | '\\' => {
                quoted.push('\\');
                quoted.push(c);
            }
            '%' => quoted.push_str("%%"),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// The arguments of an `Exec` value, without field codes.
fn exec_words(exec: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut chars = exec.chars().peekable();
    while let Some(&c) = chars.peek() {
        if c == ' ' {
            chars.next();
            continue;
        }
        let mut word = String::new();
        let quoted = c == '"';
        if quoted {
            chars.next();
        }
        while let Some(c) = chars.next() {
            match c {
                '"' if quoted => break,
                ' ' if !quoted => break,
                '\\' if quoted => word.extend(chars.next()),
                '%' if chars.peek() == Some(&'%') => {
                    chars.next();
                    word.push('%');
                }
                '%' if !quoted => {
                    chars.next();
                    word.push('\0');
                }
                c => word.push(c),
            }
        }
        if !word.contains('\0') {
            words.push(word);
        }
    }
    words
}

/// A value of the desktop entry's string type.
fn escaped(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('\n', "\\n").replace('\t', "\\t").replace('\r', "\\r");
    match text.strip_prefix(' ') {
        Some(rest) => format!("\\s{rest}"),
        None => text,
    }
}

fn unescaped(text: &str) -> String {
    let mut out = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (c, c == '\\') {
            (_, true) => match chars.next() {
                Some('s') => out.push(' '),
                Some('n') => out.push('\n'),
                Some('t') => out.push('\t'),
                Some('r') => out.push('\r'),
                Some(other) => out.push(other),
                None => {}
            },
            (c, false) => out.push(c),
        }
    }
    out
}

fn mime_package(footprint: &Footprint) -> Option<String> {
    let mut out = String::new();
    for trace in footprint.traces() {
        let Trace::FileType { mime, extensions, name, .. } = trace else { continue };
        let _ = writeln!(
            out,
            "  <mime-type type=\"{}\">\n    <comment>{}</comment>",
            escape(mime.as_str()),
            escape(name.as_str())
        );
        for extension in extensions {
            let _ = writeln!(out, "    <glob pattern=\"*.{}\"/>", escape(extension.as_str()));
        }
        out.push_str("  </mime-type>\n");
    }
    let head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<mime-info xmlns=\"http://www.freedesktop.org/standards/shared-mime-info\">\n";
    (!out.is_empty()).then(|| format!("{head}{out}</mime-info>\n"))
}

fn metainfo(footprint: &Footprint, time: u32) -> String {
    let p = &footprint.product;
    let id = id_of(footprint);
    let mut out =
        String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<component type=\"desktop-application\">\n");
    let mut put = |element: &str, text: &Option<String>| {
        if let Some(text) = text {
            let name = element.split(' ').next().unwrap_or(element);
            let _ = writeln!(out, "  <{element}>{}</{name}>", escape(text.as_str()));
        }
    };
    put("id", &p.id);
    put("metadata_license", &Some("FSFAP".into()));
    put("project_license", &p.license);
    put("name", &p.name);
    put("summary", &p.summary);
    if let Some(publisher) = &p.publisher {
        // The publisher's own reverse DNS name is the product's without its last part.
        let developer = id.rsplit_once('.').map_or(id, |(d, _)| d).to_lowercase();
        let _ = writeln!(
            out,
            "  <developer id=\"{}\">\n    <name>{}</name>\n  </developer>",
            escape(&developer),
            escape(publisher.as_str())
        );
    }
    out.push_str("  <description>\n");
    for paragraph in p.description.iter().flat_map(|d| d.split("\n\n")) {
        let _ = writeln!(out, "    <p>{}</p>", escape(paragraph));
    }
    out.push_str("  </description>\n");
    let _ = writeln!(out, "  <launchable type=\"desktop-id\">{}.desktop</launchable>", escape(id));
    let _ = writeln!(out, "  <icon type=\"stock\">{}</icon>", escape(id));
    if let Some(page) = &p.homepage {
        let _ = writeln!(out, "  <url type=\"homepage\">{}</url>", escape(page.as_str()));
    }
    if let Some(support) = &p.support {
        let _ = if support.contains("://") {
            writeln!(out, "  <url type=\"help\">{}</url>", escape(support.as_str()))
        } else {
            writeln!(out, "  <update_contact>{}</update_contact>", escape(support.as_str()))
        };
    }
    out.push_str("  <categories>\n");
    for c in &p.categories {
        let _ = writeln!(out, "    <category>{}</category>", escape(category(c)));
    }
    out.push_str("  </categories>\n  <content_rating type=\"oars-1.1\"/>\n");
    let types: Vec<&String> = footprint
        .traces()
        .iter()
        .filter_map(|t| if let Trace::FileType { mime, .. } = t { Some(mime) } else { None })
        .collect();
    if !types.is_empty() {
        out.push_str("  <provides>\n");
        types.iter().for_each(|t| {
            let _ = writeln!(out, "    <mediatype>{}</mediatype>", escape(t.as_str()));
        });
        out.push_str("  </provides>\n");
    }
    if let Some(version) = &p.version {
        let _ = writeln!(
            out,
            "  <releases>\n    <release version=\"{}\" date=\"{}\"/>\n  </releases>",
            escape(version.as_str()),
            date_of(time)
        );
    }
    out.push_str("</component>\n");
    out
}

/// What desktop files say: the identity and the traces. Files of other makers are read as far as they go.
pub fn read(files: &Files) -> (Identity, Vec<Trace>) {
    let mut identity = Identity::default();
    let mut traces = Vec::new();
    let mut opens: BTreeMap<String, String> = BTreeMap::new();
    for (path, bytes) in files {
        let text = String::from_utf8_lossy(bytes);
        let entry_of = FOLDERS.iter().find(|(_, f)| path.strip_prefix(f).is_some_and(|p| p.starts_with('/')));
        if let Some((place, _)) = entry_of.filter(|_| path.ends_with(".desktop")) {
            read_entry(&text, *place, &mut traces, &mut opens);
        } else if path.starts_with("metainfo/") && path.ends_with(".xml") {
            identity = read_metainfo(&text);
        } else if let Some(form) = path.strip_prefix("icons/hicolor/").and_then(form_of_theme_path) {
            traces.push(Trace::Icon { form, content: Some(ContentHash::of(bytes)) });
        }
    }
    for (path, bytes) in files {
        if path.starts_with("mime/packages/") {
            read_mime_package(&String::from_utf8_lossy(bytes), &opens, &mut traces);
        }
    }
    for (mime, program) in &opens {
        if let Some(scheme) = mime.strip_prefix("x-scheme-handler/") {
            traces.push(Trace::LinkScheme { scheme: scheme.into(), program: program.clone() });
        }
    }
    (identity, traces)
}

fn read_entry(text: &str, place: Place, traces: &mut Vec<Trace>, opens: &mut BTreeMap<String, String>) {
    // Actions repeat what further entries say.
    let own = text.split("\n[").next().unwrap_or(text);
    let values: BTreeMap<&str, &str> = own.lines().filter_map(|l| l.split_once('=')).collect();
    let value = |key: &str| values.get(key).map(|v| unescaped(v));
    let mut words = exec_words(&value("Exec").unwrap_or_default()).into_iter();
    let command = words.next().unwrap_or_default();
    let command = command.rsplit('/').next().unwrap_or_default().to_owned();
    let program = value("X-UpperShelf-Program").unwrap_or(command);
    let mut arguments: Vec<String> = words.collect();
    if arguments.first() == Some(&format!("--start={program}")) {
        arguments.remove(0);
    }
    for mime in values.get("MimeType").into_iter().flat_map(|m| m.split(';')).filter(|m| !m.is_empty()) {
        opens.insert(mime.to_owned(), program.clone());
    }
    if values.get("NoDisplay") == Some(&"true") {
        return;
    }
    let name = value("Name").unwrap_or_default();
    traces.push(Trace::Shortcut { place, name, program, arguments, description: value("Comment") });
}

/// The text of the elements of an XML file, with the path of names that leads to each and its attributes.
fn elements(text: &str, mut visit: impl FnMut(&[String], &BTreeMap<String, String>, &str)) {
    use quick_xml::events::Event;
    let mut reader = quick_xml::Reader::from_str(text);
    let mut path: Vec<(String, BTreeMap<String, String>, String)> = Vec::new();
    let attributes = |e: &quick_xml::events::BytesStart| {
        let all = e.attributes().flatten();
        all.filter_map(|a| {
            let key = String::from_utf8_lossy(a.key.as_ref()).into_owned();
            Some((key, a.unescape_value().ok()?.into_owned()))
        })
        .collect::<BTreeMap<_, _>>()
    };
    let mut names: Vec<String> = Vec::new();
    while let Ok(event) = reader.read_event() {
        match event {
            Event::Start(e) if path.len() < 64 => {
                let name = String::from_utf8_lossy(e.name().as_ref()).into_owned();
                names.push(name.clone());
                path.push((name, attributes(&e), String::new()));
            }
            Event::Empty(e) => {
                names.push(String::from_utf8_lossy(e.name().as_ref()).into_owned());
                visit(&names, &attributes(&e), "");
                names.pop();
            }
            Event::Text(t) => {
                if let (Some((_, _, text)), Ok(part)) = (path.last_mut(), t.decode()) {
                    text.push_str(&part);
                }
            }
            Event::GeneralRef(r) => {
                if let Some((_, _, text)) = path.last_mut() {
                    let name = String::from_utf8_lossy(&r).into_owned();
                    match (r.resolve_char_ref(), quick_xml::escape::resolve_predefined_entity(&name)) {
                        (Ok(Some(c)), _) => text.push(c),
                        (_, Some(known)) => text.push_str(known),
                        _ => {}
                    }
                }
            }
            Event::End(_) => {
                if let Some((_, attributes, text)) = path.pop() {
                    visit(&names, &attributes, &text);
                    names.pop();
                }
            }
            Event::Eof | Event::Start(_) => break,
            _ => {}
        }
    }
}

fn read_metainfo(text: &str) -> Identity {
    let mut identity = Identity::default();
    let mut paragraphs: Vec<String> = Vec::new();
    elements(text, |path, attributes, text| {
        let names: Vec<&str> = path.iter().map(String::as_str).collect();
        let text = text.to_owned();
        match names.as_slice() {
            // Translations of the same come with a language.
            _ if attributes.contains_key("xml:lang") => {}
            [_, "id"] => identity.id = Some(text),
            [_, "name"] => identity.name = Some(text),
            [_, "summary"] => identity.summary = Some(text),
            [_, "project_license"] => identity.license = Some(text),
            [_, "developer", "name"] | [_, "developer_name"] => identity.publisher = Some(text),
            [_, "description", "p"] => paragraphs.push(text),
            [_, "url"] => match attributes.get("type").map(String::as_str) {
                Some("homepage") => identity.homepage = Some(text),
                Some("help" | "contact") => identity.support = Some(text),
                _ => {}
            },
            [_, "update_contact"] => identity.support = Some(text),
            [_, "categories", "category"] => identity.categories.push(text),
            [_, "releases", "release"] if identity.version.is_none() => {
                identity.version = attributes.get("version").cloned()
            }
            _ => {}
        }
    });
    identity.description = (!paragraphs.is_empty()).then(|| paragraphs.join("\n\n"));
    identity
}

fn read_mime_package(text: &str, opens: &BTreeMap<String, String>, traces: &mut Vec<Trace>) {
    let (mut name, mut extensions) = (String::new(), Vec::new());
    elements(text, |path, attributes, text| {
        let names: Vec<&str> = path.iter().map(String::as_str).collect();
        match names.as_slice() {
            [_, _, "comment"] if !attributes.contains_key("xml:lang") => name = text.to_owned(),
            [_, _, "glob"] => {
                extensions.extend(attributes.get("pattern").and_then(|p| p.strip_prefix("*.")).map(str::to_owned))
            }
            [_, "mime-type"] => {
                let mime = attributes.get("type").cloned().unwrap_or_default();
                let program = opens.get(&mime).cloned().unwrap_or_default();
                let (name, extensions) = (std::mem::take(&mut name), std::mem::take(&mut extensions));
                traces.push(Trace::FileType { mime, extensions, name, program });
            }
            _ => {}
        }
    });
}

/// The identity's categories as entries can hold them: carried names are the registered or marked ones.
pub fn carried_categories(identity: &Identity) -> Vec<String> {
    identity.categories.iter().map(|c| category(c)).collect()
}
