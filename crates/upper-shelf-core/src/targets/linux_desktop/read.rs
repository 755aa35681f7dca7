//! A footprint out of the files of a desktop; those of other makers are read as far as they go.

use super::text::{exec_words, unescaped};
use super::{FOLDERS, Files};
use crate::content::ContentHash;
use crate::footprint::{FileType, IconImage, Identity, LinkScheme, Place, Shortcut, Text};
use crate::icons::form_of_theme_path;
use std::collections::BTreeMap;

/// What desktop files say.
#[derive(Default)]
pub struct Desktop {
    /// Who the product is.
    pub product: Identity,
    /// What stands in menus and elsewhere.
    pub shortcuts: Vec<Shortcut>,
    /// What programs open.
    pub file_types: Vec<FileType>,
    /// The same for links.
    pub link_schemes: Vec<LinkScheme>,
    /// The pictures.
    pub icons: Vec<IconImage>,
}

/// Reads desktop files; those of other makers as far as they go.
pub fn read(files: &Files) -> Desktop {
    let mut found = Desktop::default();
    let mut opens: BTreeMap<String, String> = BTreeMap::new();
    for (path, bytes) in files {
        let text = String::from_utf8_lossy(bytes);
        let entry_of = FOLDERS.iter().find(|(_, f)| path.strip_prefix(f).is_some_and(|p| p.starts_with('/')));
        if let Some((place, _)) = entry_of.filter(|_| path.ends_with(".desktop")) {
            read_entry(&text, *place, &mut found.shortcuts, &mut opens);
        } else if path.starts_with("metainfo/") && path.ends_with(".xml") {
            found.product = read_metainfo(&text);
        } else if let Some(form) = path.strip_prefix("icons/hicolor/").and_then(form_of_theme_path) {
            found.icons.push(IconImage { form, content: Some(ContentHash::of(bytes)) });
        }
    }
    for (path, bytes) in files {
        if path.starts_with("mime/packages/") {
            read_mime_package(&String::from_utf8_lossy(bytes), &opens, &mut found.file_types);
        }
    }
    for (mime, program) in &opens {
        if let Some(scheme) = mime.strip_prefix("x-scheme-handler/") {
            found.link_schemes.push(LinkScheme { scheme: scheme.into(), program: program.clone() });
        }
    }
    found
}

fn read_entry(text: &str, place: Place, shortcuts: &mut Vec<Shortcut>, opens: &mut BTreeMap<String, String>) {
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
    let text = |key: &str| {
        let of = |(k, v): (&&str, &&str)| {
            let language = k.strip_prefix(key)?.strip_prefix('[')?.strip_suffix(']')?;
            Some((language.replace('_', "-"), unescaped(v)))
        };
        value(key).map(|plain| Text::several(plain, values.iter().filter_map(of).collect()))
    };
    let name = text("Name").unwrap_or_default();
    shortcuts.push(Shortcut { place, name, program, arguments, description: text("Comment") });
}

/// The text of the elements of an XML file, with the path of names that leads to each and its attributes.
fn elements(text: &str, mut visit: impl FnMut(&[String], &BTreeMap<String, String>, &str)) {
    use quick_xml::events::Event;
    let mut reader = quick_xml::Reader::from_str(text);
    let mut path: Vec<(String, BTreeMap<String, String>, String)> = Vec::new();
    let attributes = |e: &quick_xml::events::BytesStart| {
        // Looking for twins takes the square of their number.
        let mut all = e.attributes();
        all.with_checks(false)
            .flatten()
            .filter_map(|a| {
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
                    text.push_str(&crate::xml::referred(&r));
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
    let mut summaries: Vec<(String, String)> = Vec::new();
    elements(text, |path, attributes, text| {
        let names: Vec<&str> = path.iter().map(String::as_str).collect();
        let text = text.to_owned();
        match names.as_slice() {
            // Translations of the same come with a language.
            [_, "summary"] if attributes.contains_key("xml:lang") => {
                summaries.push((attributes["xml:lang"].clone(), text));
            }
            _ if attributes.contains_key("xml:lang") => {}
            [_, "id"] => identity.id = Some(text),
            [_, "name"] => identity.name = Some(text),
            [_, "summary"] => identity.summary = Some(text.into()),
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
    if let Some(summary) = &mut identity.summary {
        summaries.into_iter().for_each(|(language, text)| summary.add(language, text));
    }
    identity.description = (!paragraphs.is_empty()).then(|| paragraphs.join("\n\n"));
    identity
}

fn read_mime_package(text: &str, opens: &BTreeMap<String, String>, file_types: &mut Vec<FileType>) {
    let (mut name, mut names_of, mut extensions) = (String::new(), BTreeMap::new(), Vec::new());
    elements(text, |path, attributes, text| {
        let names: Vec<&str> = path.iter().map(String::as_str).collect();
        match names.as_slice() {
            [_, _, "comment"] => match attributes.get("xml:lang") {
                None => name = text.to_owned(),
                Some(language) => drop(names_of.insert(language.clone(), text.to_owned())),
            },
            [_, _, "glob"] => {
                extensions.extend(attributes.get("pattern").and_then(|p| p.strip_prefix("*.")).map(str::to_owned))
            }
            [_, "mime-type"] => {
                let mime = attributes.get("type").cloned().unwrap_or_default();
                let program = opens.get(&mime).cloned().unwrap_or_default();
                let name = Text::several(std::mem::take(&mut name), std::mem::take(&mut names_of));
                let extensions = std::mem::take(&mut extensions);
                file_types.push(FileType { mime, extensions, name, program });
            }
            _ => {}
        }
    });
}
