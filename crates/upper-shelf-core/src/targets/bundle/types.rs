//! Kinds of documents: the product's own are declared and owned, those of others are only opened.

use super::list::{dictionary, texts};
use plist::Value;

/// Media types that the system has a type of its own for.
/// Source: Apple, "System-declared uniform type identifiers".
const PUBLIC: [(&str, &str); 24] = [
    ("text/plain", "public.plain-text"),
    ("text/html", "public.html"),
    ("text/css", "public.css"),
    ("text/csv", "public.comma-separated-values-text"),
    ("text/markdown", "net.daringfireball.markdown"),
    ("text/rtf", "public.rtf"),
    ("text/xml", "public.xml"),
    ("application/xml", "public.xml"),
    ("application/json", "public.json"),
    ("application/pdf", "com.adobe.pdf"),
    ("application/rtf", "public.rtf"),
    ("application/zip", "public.zip-archive"),
    ("application/gzip", "org.gnu.gnu-zip-archive"),
    ("application/x-tar", "public.tar-archive"),
    ("image/png", "public.png"),
    ("image/jpeg", "public.jpeg"),
    ("image/gif", "com.compuserve.gif"),
    ("image/tiff", "public.tiff"),
    ("image/svg+xml", "public.svg-image"),
    ("image/webp", "org.webmproject.webp"),
    ("audio/mpeg", "public.mp3"),
    ("audio/x-wav", "com.microsoft.waveform-audio"),
    ("video/mp4", "public.mpeg-4"),
    ("video/quicktime", "com.apple.quicktime-movie"),
];

/// Words of an identifier that say nothing of whose it is.
const COMMON: [&str; 9] = ["example", "desktop", "github", "gitlab", "works", "office", "studio", "editor", "text"];

/// Whether a media type is the product's own: it bears a name out of the product's identifier.
fn is_own(id: &str, mime: &str) -> bool {
    let kind = mime.split_once('/').map_or("", |(_, kind)| kind).to_lowercase();
    let words = id.split('.').skip(1).map(str::to_lowercase).filter(|w| w.len() >= 4 && !COMMON.contains(&w.as_str()));
    words.into_iter().any(|word| kind.split(['.', '-', '+', '_']).any(|part| part == word))
}

/// What a property list says of documents.
#[derive(Default)]
pub(super) struct Types {
    opened: Vec<Value>,
    own: Vec<Value>,
    others: Vec<Value>,
}

impl Types {
    /// A kind that the product's program opens.
    pub fn add(&mut self, id: &str, mime: &str, extensions: &[String], name: &str) {
        let public = PUBLIC.iter().find(|(known, _)| mime.eq_ignore_ascii_case(known)).map(|(_, public)| *public);
        let kind = public.map_or_else(|| format!("{id}.type{}", self.opened.len() + 1), str::to_owned);
        let own = public.is_none() && is_own(id, mime);
        let mime = texts(&[mime.to_owned()]);
        let mut opened = vec![
            ("CFBundleTypeName", name.into()),
            ("CFBundleTypeRole", "Editor".into()),
            ("LSHandlerRank", if own { "Owner" } else { "Alternate" }.into()),
            ("LSItemContentTypes", texts(std::slice::from_ref(&kind))),
        ];
        if own {
            opened.push(("CFBundleTypeIconFile", super::ICON.into()));
        }
        if public.is_some() {
            opened.push(("CFBundleTypeExtensions", texts(extensions)));
            opened.push(("CFBundleTypeMIMETypes", mime.clone()));
        }
        self.opened.push(Value::Dictionary(opened.into_iter().map(|(k, v)| (k.to_owned(), v)).collect()));
        if public.is_none() {
            let tags = [("public.filename-extension", texts(extensions)), ("public.mime-type", mime)];
            let declared = dictionary([
                ("UTTypeIdentifier", kind.into()),
                ("UTTypeDescription", name.into()),
                ("UTTypeConformsTo", texts(&["public.data".to_owned()])),
                ("UTTypeTagSpecification", dictionary(tags)),
            ]);
            if own { self.own.push(declared) } else { self.others.push(declared) }
        }
    }

    /// The lists, under their keys.
    pub fn lists(self) -> [(&'static str, Vec<Value>); 3] {
        [
            ("CFBundleDocumentTypes", self.opened),
            ("UTExportedTypeDeclarations", self.own),
            ("UTImportedTypeDeclarations", self.others),
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_is_owned_by_whom_it_is_named_after() {
        let id = "works.fernhollow.combwright";
        assert!(is_own(id, "application/vnd.fernhollow.comb") && is_own(id, "application/x-combwright-journal"));
        for of_others in ["text/plain", "image/png", "application/vnd.ms-excel", "application/x-works", "text/x-python"]
        {
            assert!(!is_own(id, of_others), "{of_others}");
        }
        assert!(!is_own("com.example.text", "text/x-example-text"));
    }
}
