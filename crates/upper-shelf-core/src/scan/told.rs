//! What the files of a folder say of the product themselves: desktop entries, metadata for software centres, property lists
//! of bundles, `package.json`, version resources of programs. What lies higher up in the folder counts more.

use super::Found;
use quick_xml::events::Event;
use quick_xml::reader::Reader;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::Path;

/// No such file is larger.
const MOST: u64 = 1 << 20;
/// Programs larger than this are not looked into for their version.
const PROGRAM: u64 = 256 << 20;

/// What a file can say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fact {
    /// Reverse DNS.
    Id,
    /// The name that people read.
    Name,
    /// The version.
    Version,
    /// Who publishes it.
    Publisher,
    /// One line.
    Summary,
    /// Web page.
    Homepage,
    /// SPDX expression.
    License,
    /// Categories, with semicolons between.
    Categories,
}

/// Facts with the file that says them.
#[derive(Debug, Clone, Default, Serialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct Told(BTreeMap<Fact, Found>);

impl Told {
    /// What is said, and where.
    pub fn get(&self, fact: Fact) -> Option<(&str, &str)> {
        self.0.get(&fact).map(|found| (found.value.as_str(), found.place.as_str()))
    }

    fn say(&mut self, fact: Fact, text: Option<&str>, place: &str) {
        let Some(text) = text.map(str::trim).filter(|t| !t.is_empty() && t.len() < 500) else { return };
        let fits = match fact {
            Fact::Version => is_version(text),
            Fact::Id => text.contains('.') && text.chars().all(|c| c.is_ascii_alphanumeric() || ".-_".contains(c)),
            _ => !text.contains(['\n', '\0']),
        };
        if fits {
            self.0.entry(fact).or_insert_with(|| Found { value: text.to_owned(), place: place.to_owned() });
        }
    }
}

/// Whether a text is a version and not a word.
pub(super) fn is_version(text: &str) -> bool {
    let good = |c: char| c.is_ascii_alphanumeric() || ".-+".contains(c);
    text.starts_with(|c: char| c.is_ascii_digit()) && text.len() < 30 && text.chars().all(good)
}

/// Reads all files (name and place, the highest first) that say something; `program` is the likely program for Windows.
pub(super) fn read(files: &[(&str, &Path)], program: Option<(&str, &Path)>) -> Told {
    let mut told = Told::default();
    let mut sorted: Vec<_> = files.to_vec();
    // What describes a whole product counts more than what one part says; then what lies higher.
    sorted.sort_by_key(|(name, _)| (rank(name), name.matches('/').count()));
    for (name, path) in sorted {
        match rank(name) {
            0 => metainfo(&mut told, name, path),
            1 => property_list(&mut told, name, path),
            2 => desktop_entry(&mut told, name, path),
            // Libraries that a program brings have their own.
            3 if !name.contains("node_modules/") => package_json(&mut told, name, path),
            4 if name.matches('/').count() < 2 => {
                told.say(Fact::Version, text(path).as_deref().and_then(|t| t.lines().next()), name);
            }
            _ => {}
        }
    }
    if let Some((name, path)) = program {
        version_resource(&mut told, name, path);
    }
    told
}

/// Which kind of such a file it is; 9 for none.
fn rank(name: &str) -> u8 {
    let last = name.rsplit('/').next().unwrap_or(name).to_lowercase();
    match last.as_str() {
        n if n.ends_with(".metainfo.xml") || n.ends_with(".appdata.xml") => 0,
        "info.plist" if name.ends_with("Contents/Info.plist") && name.matches(".app/").count() < 2 => 1,
        n if n.ends_with(".desktop") => 2,
        "package.json" => 3,
        "version" | "version.txt" => 4,
        _ => 9,
    }
}

fn text(path: &Path) -> Option<String> {
    let mut text = String::new();
    File::open(path).ok()?.take(MOST).read_to_string(&mut text).ok()?;
    Some(text)
}

/// The Desktop Entry Specification's main group.
fn desktop_entry(told: &mut Told, name: &str, path: &Path) {
    let Some(text) = text(path) else { return };
    let lines = text.lines().skip_while(|l| l.trim() != "[Desktop Entry]").skip(1);
    let entry: BTreeMap<&str, &str> = lines
        .take_while(|l| !l.starts_with('['))
        .filter_map(|l| l.split_once('='))
        .map(|(k, v)| (k.trim(), v.trim()))
        .collect();
    if entry.get("Type") != Some(&"Application") || entry.get("NoDisplay") == Some(&"true") {
        return;
    }
    told.say(Fact::Name, entry.get("Name").copied(), name);
    told.say(Fact::Summary, entry.get("Comment").copied(), name);
    told.say(Fact::Categories, entry.get("Categories").copied(), name);
    let stem = name.rsplit('/').next().and_then(|n| n.strip_suffix(".desktop")).filter(|s| s.matches('.').count() >= 2);
    told.say(Fact::Id, stem, name);
}

/// AppStream metadata: elements directly below the component, and the newest release.
fn metainfo(told: &mut Told, name: &str, path: &Path) {
    let Some(text) = text(path) else { return };
    let mut reader = Reader::from_str(&text);
    let (mut open, mut inside): (Vec<String>, String) = (Vec::new(), String::new());
    while let Ok(event) = reader.read_event() {
        match event {
            Event::Start(start) | Event::Empty(start) if start.name().as_ref() == b"release" => {
                let version = start.try_get_attribute("version").ok().flatten();
                told.say(Fact::Version, version.and_then(|v| v.unescape_value().ok()).as_deref(), name);
                // Only the newest one counts, and its inside doesn't.
                let end = start.to_end().into_owned();
                let _ = reader.read_to_end(end.name());
            }
            Event::Start(start) => {
                let translated = start.try_get_attribute("xml:lang").ok().flatten().is_some();
                let tag = String::from_utf8_lossy(start.name().as_ref()).into_owned();
                let is_page = tag == "url"
                    && start.try_get_attribute("type").ok().flatten().is_some_and(|t| t.value.as_ref() == b"homepage");
                open.push(if translated {
                    "translated".into()
                } else if is_page {
                    "homepage".into()
                } else {
                    tag
                });
                inside.clear();
            }
            Event::Text(more) => inside.push_str(&more.decode().unwrap_or_default()),
            Event::GeneralRef(reference) => inside.push_str(&crate::xml::referred(&reference)),
            Event::End(_) => {
                let path: Vec<&str> = open.iter().map(String::as_str).collect();
                let fact = match path[..] {
                    ["component", "id"] => Some(Fact::Id),
                    ["component", "name"] => Some(Fact::Name),
                    ["component", "summary"] => Some(Fact::Summary),
                    ["component", "project_license"] => Some(Fact::License),
                    ["component", "developer_name"] | ["component", "developer", "name"] => Some(Fact::Publisher),
                    ["component", "homepage"] => Some(Fact::Homepage),
                    _ => None,
                };
                if let Some(fact) = fact {
                    told.say(fact, Some(inside.trim_end_matches(".desktop")), name);
                }
                inside.clear();
                open.pop();
            }
            Event::Eof => break,
            _ => {}
        }
    }
}

/// The property list of an application bundle.
fn property_list(told: &mut Told, name: &str, path: &Path) {
    let Ok(plist::Value::Dictionary(list)) = plist::Value::from_file(path) else { return };
    let text = |key: &str| list.get(key).and_then(plist::Value::as_string);
    told.say(Fact::Id, text("CFBundleIdentifier"), name);
    told.say(Fact::Name, text("CFBundleDisplayName").or_else(|| text("CFBundleName")), name);
    told.say(Fact::Version, text("CFBundleShortVersionString").or_else(|| text("CFBundleVersion")), name);
}

fn package_json(told: &mut Told, name: &str, path: &Path) {
    let json: Option<serde_json::Value> = text(path).and_then(|t| serde_json::from_str(&t).ok());
    let Some(json) = json else { return };
    let of = |key: &str| json.get(key).and_then(serde_json::Value::as_str);
    told.say(Fact::Name, of("productName"), name);
    told.say(Fact::Version, of("version"), name);
    told.say(Fact::Summary, of("description").map(|d| d.trim_end_matches('.')), name);
    told.say(Fact::Homepage, of("homepage"), name);
    told.say(Fact::License, of("license"), name);
    let author = json.get("author");
    let author = author.and_then(|a| a.as_str().or_else(|| a.get("name")?.as_str()));
    told.say(Fact::Publisher, author.map(|a| a.split(['<', '(']).next().unwrap_or(a)), name);
    told.say(Fact::Name, of("name").filter(|n| !n.starts_with('@')), name);
}

/// The version resource of a program for Windows.
fn version_resource(told: &mut Told, name: &str, path: &Path) {
    if path.metadata().map_or(true, |m| m.len() > PROGRAM) {
        return;
    }
    let Ok(bytes) = std::fs::read(path) else { return };
    let resources = pe_image::Image::parse(&bytes).ok().and_then(|i| i.resources().ok());
    let Some(version) = resources.and_then(|r| pe_image::Version::read(&r).ok().flatten()) else { return };
    let text = |key: &str| version.texts.get(key).map(String::as_str);
    told.say(Fact::Name, text("ProductName"), name);
    told.say(Fact::Version, text("ProductVersion").or_else(|| text("FileVersion")), name);
    told.say(Fact::Publisher, text("CompanyName"), name);
    told.say(Fact::Summary, text("FileDescription"), name);
}
