//! Names of parts: in the archive they are those of ECMA-376 (percent-encoded UTF-8), in the block map those of files.

/// Bytes that stand for themselves (RFC 3986, unreserved, and the slash).
fn is_plain(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte)
}

/// The name of a part as the archive has it.
pub fn encoded(name: &str) -> String {
    if name == crate::CONTENT_TYPES {
        return name.to_owned();
    }
    name.bytes()
        .map(|byte| if is_plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

/// The name of a file; none for what is no name of a part.
pub fn decoded(name: &[u8]) -> Option<String> {
    let mut out = Vec::new();
    let mut rest = name;
    while let Some((first, others)) = rest.split_first() {
        rest = others;
        if *first != b'%' {
            out.push(*first);
            continue;
        }
        let (digits, others) = rest.split_first_chunk::<2>()?;
        if !digits.iter().all(u8::is_ascii_hexdigit) {
            return None;
        }
        out.push(u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?);
        rest = others;
    }
    String::from_utf8(out).ok()
}

/// Whether the names of a part's path can be those of files that a package installs: no part of it is empty, `.` or `..`, or has
/// letters that Windows has no room for.
pub fn is_allowed(name: &str) -> bool {
    let fits = |part: &str| {
        !part.is_empty()
            && part != "."
            && part != ".."
            && !part.ends_with(['.', ' '])
            && !part.chars().any(|c| c < ' ' || "<>:\"\\|?*".contains(c))
    };
    name.split('/').all(fits)
}

/// The ending of a file's name, in small letters and without the dot.
pub(crate) fn ending(name: &str) -> Option<String> {
    let file = name.rsplit('/').next()?;
    let (_, ending) = file.rsplit_once('.')?;
    (!ending.is_empty()).then(|| ending.to_lowercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_go_into_the_archive_and_come_back() {
        for (name, inside) in [
            ("a/b.txt", "a/b.txt"),
            ("odd [x] 50%+ü.txt", "odd%20%5Bx%5D%2050%25%2B%C3%BC.txt"),
            ("[Content_Types].xml", "[Content_Types].xml"),
        ] {
            assert_eq!(encoded(name), inside);
            assert_eq!(decoded(inside.as_bytes()).as_deref(), Some(name));
        }
        for bad in [&b"a%2"[..], b"%zz", b"%+1", b"\xff", b"%ff"] {
            assert_eq!(decoded(bad), None);
        }
        for name in ["", "/a", "a//b", "../a", "a/.", "a.", "a ", "a:b", "a\\b", "a\u{1}"] {
            assert!(!is_allowed(name), "{name:?}");
        }
        assert!(is_allowed("VFS/ProgramFilesX64/a b.txt"));
        assert_eq!((ending("a/b.TXT").as_deref(), ending("a.b/c"), ending("a.")), (Some("txt"), None, None));
    }
}
