//! The files of a desktop out of a footprint.

use super::text::{escaped, exec_argument};
use super::{FOLDERS, Files};
use crate::content::ContentHash;
use crate::dates::date_of;
use crate::footprint::{FileType, Footprint, LinkScheme, Place, Shortcut, Text};
use crate::icons::Icon;
use quick_xml::escape::escape;
use std::fmt::Write;

fn id_of(footprint: &Footprint) -> &str {
    footprint.product.id.as_deref().unwrap_or("unknown")
}

/// A desktop entry to be: one for each shortcut, and one for each program that opens something but has none.
struct Entry<'f> {
    file: String,
    program: &'f str,
    /// `None`: not shown, but known for what it opens.
    shortcut: Option<&'f Shortcut>,
    opens: bool,
}

fn entries<'f>(footprint: &'f Footprint, place: Place) -> Vec<Entry<'f>> {
    let id = id_of(footprint);
    let main = footprint.main_program().unwrap_or_default();
    let mut entries: Vec<Entry<'f>> = Vec::new();
    // The product's own entry is the main program's first one, or the one with the product's name.
    let mut shortcuts: Vec<&Shortcut> = footprint.shortcuts.iter().filter(|s| s.place == place).collect();
    shortcuts.sort_by_key(|s| (s.program != main, footprint.product.name.as_deref() != Some(s.name.as_str())));
    for (n, shortcut) in shortcuts.into_iter().enumerate() {
        let Shortcut { name, program, .. } = shortcut;
        let own = n == 0 && program == main;
        let hash = &ContentHash::of(name.as_bytes()).to_string()[..8];
        let file = if own { format!("{id}.desktop") } else { format!("{id}.{program}-{hash}.desktop") };
        let opens = place == Place::Menu && !entries.iter().any(|e| e.program == program);
        entries.push(Entry { file, program, shortcut: Some(shortcut), opens });
    }
    if place == Place::Menu {
        let opening = footprint.file_types.iter().map(|t| &t.program);
        let opening = opening.chain(footprint.link_schemes.iter().map(|l| &l.program)).map(String::as_str);
        let itself = footprint.programs.iter().map(|p| p.key.as_str()).filter(|key| *key == main);
        for program in itself.chain(opening) {
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
    // What a desktop reads of a footprint; a new list makes the compiler ask here.
    let Footprint {
        product: _,
        platform: _,
        tree: _,
        programs: _,
        shortcuts: _,
        file_types: _,
        link_schemes: _,
        environment: _,
        registry: _,
        services: _,
        fonts: _,
        commands: _,
        shell_files: _,
        permissions: _,
        choices: _,
        icons,
        install: _,
        bundle: _,
        foreign: _,
    } = footprint;
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
    if !icons.is_empty() {
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
fn desktop_entry(footprint: &Footprint, entry: &Entry, place: Place, command: &str) -> String {
    let p = &footprint.product;
    let id = id_of(footprint);
    let product_name: Text = p.name.clone().unwrap_or_default().into();
    let (name, arguments, description) = match entry.shortcut {
        Some(shortcut) => (&shortcut.name, shortcut.arguments.as_slice(), shortcut.description.clone()),
        None => (&product_name, [].as_slice(), None),
    };
    let console = footprint.program(entry.program).is_some_and(|p| p.console);
    let mut types = Vec::new();
    let mut links = false;
    if entry.opens {
        types.extend(footprint.file_types.iter().filter(|t| t.program == entry.program).map(|t| t.mime.clone()));
        for LinkScheme { scheme, .. } in footprint.link_schemes.iter().filter(|l| l.program == entry.program) {
            links = true;
            types.push(format!("x-scheme-handler/{scheme}"));
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
    put_text(&mut out, "Name", name);
    if let Some(description) = &description {
        put_text(&mut out, "Comment", description);
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

/// A line for each language that a text is there in ("Localized values for keys", Desktop Entry 1.5).
fn put_text(out: &mut String, key: &str, text: &Text) {
    let _ = writeln!(out, "{key}={}", escaped(text));
    for (language, text) in text.others() {
        let _ = writeln!(out, "{key}[{}]={}", language.replace('-', "_"), escaped(text));
    }
}

/// In the product's own entry, the other programs in the menu are actions: many desktops show this entry only.
fn actions(out: &mut String, footprint: &Footprint, entry: &Entry, place: Place, command: &str) {
    if place != Place::Menu || entry.file != format!("{}.desktop", id_of(footprint)) {
        return;
    }
    let others: Vec<&Shortcut> =
        footprint.shortcuts.iter().filter(|s| s.place == Place::Menu && entry.shortcut != Some(s)).collect();
    if others.is_empty() {
        return;
    }
    let key = |n: usize, program: &str| format!("{program}-{n}");
    let keys: String = others.iter().enumerate().map(|(n, s)| format!("{};", key(n, &s.program))).collect();
    let head = out.find("X-UpperShelf-Program").unwrap_or(out.len());
    out.insert_str(head, &format!("Actions={keys}\n"));
    for (n, Shortcut { name, program, arguments, .. }) in others.into_iter().enumerate() {
        let mut exec = format!("{command} --start={program}");
        arguments.iter().for_each(|a| {
            let _ = write!(exec, " {}", exec_argument(a));
        });
        let _ = writeln!(out, "\n[Desktop Action {}]", key(n, program));
        put_text(out, "Name", name);
        let _ = writeln!(out, "Exec={}", escaped(&exec));
    }
}

/// Registered names stand as they are; others must begin with `X-`.
pub(super) fn category(name: &str) -> String {
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

fn mime_package(footprint: &Footprint) -> Option<String> {
    let mut out = String::new();
    for FileType { mime, extensions, name, .. } in &footprint.file_types {
        let _ = writeln!(out, "  <mime-type type=\"{}\">", escape(mime.as_str()));
        put_element(&mut out, "    ", "comment", name);
        for extension in extensions {
            let _ = writeln!(out, "    <glob pattern=\"*.{}\"/>", escape(extension.as_str()));
        }
        out.push_str("  </mime-type>\n");
    }
    let head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<mime-info xmlns=\"http://www.freedesktop.org/standards/shared-mime-info\">\n";
    (!out.is_empty()).then(|| format!("{head}{out}</mime-info>\n"))
}

/// An element for each language that a text is there in.
fn put_element(out: &mut String, indent: &str, element: &str, text: &Text) {
    let _ = writeln!(out, "{indent}<{element}>{}</{element}>", escape(text.as_str()));
    for (language, text) in text.others() {
        let text = escape(text.as_str());
        let _ = writeln!(out, "{indent}<{element} xml:lang=\"{}\">{text}</{element}>", escape(language.as_str()));
    }
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
    if let Some(summary) = &p.summary {
        put_element(&mut out, "  ", "summary", summary);
    }
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
    let types: Vec<&String> = footprint.file_types.iter().map(|t| &t.mime).collect();
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
