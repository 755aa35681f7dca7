//! What readers of XML share.

use quick_xml::events::BytesRef;

/// What a reference such as `&amp;` or `&#38;` stands for; nothing for an entity that a document declares itself.
pub(crate) fn referred(reference: &BytesRef) -> String {
    if let Ok(Some(letter)) = reference.resolve_char_ref() {
        return letter.into();
    }
    let name = String::from_utf8_lossy(reference);
    quick_xml::escape::resolve_predefined_entity(&name).unwrap_or_default().to_owned()
}
