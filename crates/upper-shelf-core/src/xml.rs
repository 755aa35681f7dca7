//! XML: what readers of it share, and small documents as trees.

use quick_xml::events::{BytesRef, BytesStart, BytesText, Event};
use quick_xml::name::ResolveResult;
use quick_xml::{NsReader, Writer};

/// What a reference such as `&amp;` or `&#38;` stands for; nothing for an entity that a document declares itself.
pub(crate) fn referred(reference: &BytesRef) -> String {
    if let Ok(Some(letter)) = reference.resolve_char_ref() {
        return letter.into();
    }
    let name = String::from_utf8_lossy(reference);
    quick_xml::escape::resolve_predefined_entity(&name).unwrap_or_default().to_owned()
}

/// Namespaces with the prefixes that names have here; the first one's names have none.
pub(crate) type Namespaces = [(&'static str, &'static str)];

/// What names of unknown namespaces begin with.
const UNKNOWN: &str = "?:";

/// The deepest that elements lie in each other.
const DEEPEST: usize = 64;
/// The most elements and attributes of a document: more than people write, and few enough to be held.
const MOST: usize = 200_000;
/// The most attributes of one element.
const MOST_ATTRIBUTES: usize = 256;

/// An element, with all that is in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Element {
    /// Its name, with a prefix.
    pub name: String,
    /// Its attributes.
    pub attributes: Vec<(String, String)>,
    /// The elements in it.
    pub children: Vec<Element>,
    /// The text in it, without blanks around it.
    pub text: String,
}

impl Element {
    /// One without anything.
    pub fn new(name: &str) -> Self {
        Self { name: name.into(), ..Self::default() }
    }

    /// One with a text.
    pub fn text(name: &str, text: &str) -> Self {
        Self { name: name.into(), text: text.into(), ..Self::default() }
    }

    /// The same with one more attribute.
    pub fn with(mut self, name: &str, value: impl Into<String>) -> Self {
        self.attributes.push((name.into(), value.into()));
        self
    }

    /// The same with one more element in it.
    pub fn holding(mut self, child: Self) -> Self {
        self.children.push(child);
        self
    }

    /// The value of an attribute.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
    }

    /// The elements in it with a name, whatever its prefix.
    pub fn all<'e>(&'e self, local: &'e str) -> impl Iterator<Item = &'e Self> {
        self.children.iter().filter(move |child| child.local() == local)
    }

    /// The first element in it with a name, whatever its prefix.
    pub fn first(&self, local: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.local() == local)
    }

    /// Its name without a prefix.
    pub fn local(&self) -> &str {
        self.name.rsplit(':').next().unwrap_or_default()
    }

    /// Reads a document.
    ///
    /// # Errors
    /// It is none, or lies too deep.
    pub fn read(bytes: &[u8], namespaces: &Namespaces) -> Result<Self, String> {
        let mut reader = NsReader::from_reader(bytes);
        let mut open: Vec<Self> = Vec::new();
        let (mut root, mut count) = (None, 0);
        loop {
            let event = reader.read_event().map_err(|e| e.to_string())?;
            if let Event::Start(start) | Event::Empty(start) = &event {
                // Whether two are alike is looked for pair by pair, so there may be few.
                let own = start.attributes().with_checks(false).count();
                count += 1 + own;
                if count > MOST || own > MOST_ATTRIBUTES {
                    return Err(format!("it has more than {MOST} elements, or {MOST_ATTRIBUTES} attributes in one"));
                }
            }
            let closed = match &event {
                Event::Start(start) => {
                    if open.len() >= DEEPEST || root.is_some() {
                        return Err("its elements are not in each other as those of a document are".into());
                    }
                    open.push(begun(&reader, start, namespaces)?);
                    None
                }
                Event::Empty(start) => Some(begun(&reader, start, namespaces)?),
                Event::End(_) => open.pop(),
                Event::Text(part) => {
                    if let Some(last) = open.last_mut() {
                        last.text += &part.decode().map_err(|e| e.to_string())?;
                    }
                    None
                }
                Event::GeneralRef(reference) => {
                    if let Some(last) = open.last_mut() {
                        last.text += &referred(reference);
                    }
                    None
                }
                Event::DocType(_) => return Err("it declares a type of document".into()),
                Event::Eof => break,
                _ => None,
            };
            if let Some(mut element) = closed {
                element.text = element.text.trim().to_owned();
                match open.last_mut() {
                    Some(above) => above.children.push(element),
                    None if root.is_none() => root = Some(element),
                    None => return Err("it has more than one root".into()),
                }
            }
        }
        root.filter(|_| open.is_empty()).ok_or_else(|| "it ends too early".into())
    }

    /// The document, with the namespaces that its names are of.
    pub fn write(&self, namespaces: &Namespaces) -> Vec<u8> {
        let mut used = Vec::new();
        self.prefixes(&mut used);
        let mut root = self.clone();
        let mut own = Vec::new();
        for (prefix, uri) in namespaces {
            match *prefix {
                "" => own.push(("xmlns".to_owned(), (*uri).to_owned())),
                prefix if used.iter().any(|one| one == prefix) => {
                    own.push((format!("xmlns:{prefix}"), (*uri).to_owned()));
                }
                _ => {}
            }
        }
        root.attributes.splice(0..0, own);
        let mut writer = Writer::new_with_indent(b"<?xml version=\"1.0\" encoding=\"utf-8\"?>\n".to_vec(), b' ', 2);
        root.put(&mut writer);
        let mut out = writer.into_inner();
        out.push(b'\n');
        out
    }

    /// The prefixes of its names.
    pub fn prefixes(&self, used: &mut Vec<String>) {
        let names = std::iter::once(&self.name).chain(self.attributes.iter().map(|(name, _)| name));
        for (prefix, _) in names.filter_map(|name| name.split_once(':')) {
            if !used.iter().any(|one| one == prefix) {
                used.push(prefix.to_owned());
            }
        }
        self.children.iter().for_each(|child| child.prefixes(used));
    }

    fn put(&self, writer: &mut Writer<Vec<u8>>) {
        let attributes = self.attributes.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        let element = writer.create_element(self.name.as_str()).with_attributes(attributes);
        // Writing into memory can't fail.
        let _ = if !self.children.is_empty() {
            element.write_inner_content(|writer| {
                self.children.iter().for_each(|child| child.put(writer));
                Ok(())
            })
        } else if self.text.is_empty() {
            element.write_empty()
        } else {
            element.write_text_content(BytesText::new(&self.text))
        };
    }
}

/// An element as it begins.
fn begun(reader: &NsReader<&[u8]>, start: &BytesStart, namespaces: &Namespaces) -> Result<Element, String> {
    let named = |result: ResolveResult, local: &[u8]| {
        let local = String::from_utf8_lossy(local);
        match result {
            ResolveResult::Bound(uri) => match namespaces.iter().find(|(_, own)| own.as_bytes() == uri.as_ref()) {
                Some(("", _)) => local.into_owned(),
                Some((prefix, _)) => format!("{prefix}:{local}"),
                None => format!("{UNKNOWN}{local}"),
            },
            _ => local.into_owned(),
        }
    };
    let (result, local) = reader.resolve_element(start.name());
    let mut element = Element { name: named(result, local.as_ref()), ..Element::default() };
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|e| e.to_string())?;
        let (result, local) = reader.resolve_attribute(attribute.key);
        if attribute.key.as_namespace_binding().is_some() {
            continue;
        }
        let value = attribute.unescape_value().map_err(|e| e.to_string())?;
        element.attributes.push((named(result, local.as_ref()), value.into_owned()));
    }
    Ok(element)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SPACES: &Namespaces = &[("", "urn:hive"), ("bee", "urn:bee")];

    #[test]
    fn a_document_is_read_as_it_was_written() {
        let tree = Element::new("Hive").with("Name", "a \"b\" <c> & d").holding(
            Element::new("bee:Queen")
                .with("bee:Age", "2")
                .holding(Element::text("Line", "honey & wax <pure>"))
                .holding(Element::new("Empty")),
        );
        let bytes = tree.write(SPACES);
        assert_eq!(Element::read(&bytes, SPACES).expect("a document"), tree);
        // Whatever prefixes others choose.
        let other = b"<x:Hive xmlns:x='urn:hive' xmlns:y='urn:bee' xmlns:z='urn:else' Name='n'><y:Queen z:Odd='1'/><z:Wasp/></x:Hive>";
        let read = Element::read(other, SPACES).expect("a document");
        let names: Vec<&str> = read.children.iter().map(|child| child.name.as_str()).collect();
        assert_eq!((read.name.as_str(), names), ("Hive", vec!["bee:Queen", "?:Wasp"]));
        assert_eq!(read.children[0].get("?:Odd"), Some("1"));
        assert_eq!(read.first("Queen").map(Element::local), Some("Queen"));
    }

    #[test]
    fn what_is_no_document_is_refused() {
        let deep = "<a>".repeat(100_000);
        let broad = format!("<a {}/>", (0..150_000).map(|n| format!("b{n}='' ")).collect::<String>());
        for bad in ["", "text", "<a>", "<a/><b/>", "<a></b>", "<!DOCTYPE a [<!ENTITY b 'c'>]><a/>", &deep, &broad] {
            assert!(Element::read(bad.as_bytes(), SPACES).is_err(), "{}", &bad[..bad.len().min(20)]);
        }
    }
}
