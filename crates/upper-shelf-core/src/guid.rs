//! GUIDs that stay the same release after release, because they are made from what they stand for.

use std::fmt::Write as _;

/// A GUID made from parts: a name-based UUID (version 8: the hash is BLAKE3), upper case, in braces.
pub fn guid(parts: &[&[u8]]) -> String {
    let mut hasher = blake3::Hasher::new_derive_key("Upper Shelf GUID 1");
    for part in parts {
        hasher.update(&(part.len() as u64).to_le_bytes());
        hasher.update(part);
    }
    let mut bytes: [u8; 16] = *hasher.finalize().as_bytes().first_chunk().unwrap_or(&[0; 16]);
    bytes[6] = bytes[6] & 0x0F | 0x80;
    bytes[8] = bytes[8] & 0x3F | 0x80;
    let mut out = String::from("{");
    for (n, byte) in bytes.iter().enumerate() {
        if matches!(n, 4 | 6 | 8 | 10) {
            out.push('-');
        }
        let _ = write!(out, "{byte:02X}");
    }
    out.push('}');
    out
}

/// Whether it is a GUID in the only form that Windows Installer takes.
pub fn is_guid(text: &str) -> bool {
    let Some(inner) = text.strip_prefix('{').and_then(|t| t.strip_suffix('}')) else { return false };
    let good = |c: char| c.is_ascii_digit() || ('A'..='F').contains(&c);
    inner.split('-').map(str::len).eq([8, 4, 4, 4, 12]) && inner.chars().all(|c| c == '-' || good(c))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guids_have_the_one_form_and_differ() {
        let a = guid(&[b"works.fernhollow.combwright", b"bin/a"]);
        assert!(is_guid(&a), "{a}");
        assert_ne!(a, guid(&[b"works.fernhollow.combwrightb", b"in/a"]));
        assert!(!is_guid(&a.to_lowercase()) && !is_guid(&a[1..]));
    }
}
