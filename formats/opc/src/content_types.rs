//! What kind of data each part is (ECMA-376 part 2, 10.1.2.2), by its ending or by its name.

use crate::{BLOCK_MAP, BUNDLE_MANIFEST, Error, MANIFEST, Result, SIGNATURE, names};
use quick_xml::Reader;
use quick_xml::escape::escape;
use quick_xml::events::Event;
use std::collections::BTreeMap;

/// The types of a package's parts.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ContentTypes {
    /// By the ending.
    pub endings: BTreeMap<String, String>,
    /// By the name, with a slash in front.
    pub names: BTreeMap<String, String>,
}

/// What the parts have a type of their own for that packages are made of.
fn of_part(name: &str) -> Option<&'static str> {
    Some(match name {
        MANIFEST => "application/vnd.ms-appx.manifest+xml",
        BUNDLE_MANIFEST => "application/vnd.ms-appx.bundlemanifest+xml",
        BLOCK_MAP => "application/vnd.ms-appx.blockmap+xml",
        SIGNATURE => "application/vnd.ms-appx.signature",
        _ => return None,
    })
}

/// What an ending stands for.
fn of_ending(ending: &str) -> &'static str {
    match ending {
        "png" => "image/png",
        "jpg" | "jpeg" => "image/jpeg",
        "gif" => "image/gif",
        "svg" => "image/svg+xml",
        "ico" => "image/vnd.microsoft.icon",
        "exe" | "dll" => "application/x-msdownload",
        "xml" => "application/xml",
        "txt" => "text/plain",
        "html" | "htm" => "text/html",
        "css" => "text/css",
        "js" => "application/javascript",
        "json" => "application/json",
        "ttf" => "font/ttf",
        "otf" => "font/otf",
        "zip" => "application/zip",
        _ => "application/octet-stream",
    }
}

impl ContentTypes {
    /// Adds a part.
    pub fn add(&mut self, name: &str) {
        if let Some(kind) = of_part(name) {
            self.names.insert(format!("/{}", names::encoded(name)), kind.into());
            return;
        }
        match names::ending(name).filter(|ending| ending.bytes().all(|b| b.is_ascii_alphanumeric())) {
            Some(ending) => {
                let kind = of_ending(&ending).into();
                self.endings.insert(ending, kind);
            }
            None => drop(self.names.insert(format!("/{}", names::encoded(name)), of_ending("").into())),
        }
    }

    /// Whether a part has a type.
    pub fn has(&self, name: &str) -> bool {
        let own = format!("/{}", names::encoded(name));
        self.names.keys().any(|other| other.eq_ignore_ascii_case(&own))
            || names::ending(name).is_some_and(|ending| self.endings.contains_key(&ending))
    }

    /// The part's bytes.
    pub fn write(&self) -> Vec<u8> {
        let mut out = String::from(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\">",
        );
        for (ending, kind) in &self.endings {
            out += &format!("<Default Extension=\"{}\" ContentType=\"{}\"/>", escape(ending), escape(kind));
        }
        for (name, kind) in &self.names {
            out += &format!("<Override PartName=\"{}\" ContentType=\"{}\"/>", escape(name), escape(kind));
        }
        (out + "</Types>").into_bytes()
    }

    /// Reads the part.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let bad = |e: &dyn std::fmt::Display| Error::at(0, format!("the list of types can't be read: {e}"));
        let mut reader = Reader::from_reader(bytes);
        let mut types = Self::default();
        loop {
            match reader.read_event().map_err(|e| bad(&e))? {
                Event::Start(element) | Event::Empty(element) => {
                    let get = |name: &str| attribute(&element, name).map_err(|e| bad(&e));
                    match element.local_name().as_ref() {
                        b"Default" => {
                            let (ending, kind) = (get("Extension")?, get("ContentType")?);
                            types.endings.insert(ending.unwrap_or_default().to_lowercase(), kind.unwrap_or_default());
                        }
                        b"Override" => {
                            let (name, kind) = (get("PartName")?, get("ContentType")?);
                            types.names.insert(name.unwrap_or_default(), kind.unwrap_or_default());
                        }
                        _ => {}
                    }
                }
                Event::Eof => return Ok(types),
                _ => {}
            }
        }
    }
}

/// The text of an attribute.
pub(crate) fn attribute(
    element: &quick_xml::events::BytesStart,
    name: &str,
) -> std::result::Result<Option<String>, quick_xml::Error> {
    let found = element.try_get_attribute(name)?;
    found.map(|attribute| attribute.unescape_value().map(|text| text.into_owned())).transpose()
}
