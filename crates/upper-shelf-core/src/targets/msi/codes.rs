//! Identifiers that stay the same release after release, because they are made from what they stand for.

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
        return Err("it must be two or three whole numbers separated by dots".into());
    }
    if numbers.len() > 3 {
        return Err("a fourth number isn't compared: an upgrade that differs only there would replace nothing".into());
    }
    let limits = [255, 255, 65535];
    if let Some((n, limit)) = numbers.iter().zip(limits).find(|(n, limit)| *n > limit) {
        return Err(format!("{n} is more than {limit}, the largest number that fits there"));
    }
    let at = |n: usize| numbers.get(n).copied().unwrap_or(0);
    Ok(format!("{}.{}.{}", at(0), at(1), at(2)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_that_windows_would_not_compare_are_refused() {
        assert_eq!(version("2.4").as_deref(), Ok("2.4.0"));
        assert_eq!(version("255.255.65535").as_deref(), Ok("255.255.65535"));
        for bad in ["256.1", "1.2.65536", "1.2.3.4", "1.2-beta", "2026.1", "1..2", "01.2"] {
            assert!(version(bad).is_err(), "{bad}");
        }
    }
}
