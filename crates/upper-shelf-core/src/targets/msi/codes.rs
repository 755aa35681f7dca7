//! Identifiers that stay the same release after release, because they are made from what they stand for.

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

/// A key of a table: letters, digits, `_` and `.`, beginning with a letter; readable, and different for different parts.
pub fn key(letter: char, part: &str, readable: &str) -> String {
    let hash = blake3::hash(part.as_bytes());
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' || c == '_' { c } else { '_' };
    let readable: String = readable.chars().map(plain).take(40).collect();
    format!("{letter}{}_{readable}", &hash.to_hex()[..14])
}

/// The version as Windows Installer compares it: three numbers, of which the first two are below 256.
///
/// # Errors
/// Why it can't be one, as the end of a sentence.
pub fn version(version: &str) -> Result<String, String> {
    let parts: Vec<&str> = version.split('.').collect();
    let numbers: Vec<u32> = parts.iter().filter_map(|p| p.parse().ok()).collect();
    if numbers.len() != parts.len() || parts.is_empty() || parts.iter().any(|p| p.len() > 1 && p.starts_with('0')) {
        return Err("it must be two or three whole numbers with dots between".into());
    }
    if numbers.len() > 3 {
        return Err(
            "a fourth number is not compared: an upgrade that differs only there would not replace anything".into()
        );
    }
    let limits = [255, 255, 65535];
    if let Some((n, limit)) = numbers.iter().zip(limits).find(|(n, limit)| *n > limit) {
        return Err(format!("{n} is more than the {limit} that fit there"));
    }
    let at = |n: usize| numbers.get(n).copied().unwrap_or(0);
    Ok(format!("{}.{}.{}", at(0), at(1), at(2)))
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

    #[test]
    fn versions_that_windows_would_not_compare_are_refused() {
        assert_eq!(version("2.4").as_deref(), Ok("2.4.0"));
        assert_eq!(version("255.255.65535").as_deref(), Ok("255.255.65535"));
        for bad in ["256.1", "1.2.65536", "1.2.3.4", "1.2-beta", "2026.1", "1..2", "01.2"] {
            assert!(version(bad).is_err(), "{bad}");
        }
    }
}
