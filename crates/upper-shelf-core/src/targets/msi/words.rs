//! Text in the form that Windows Installer wants, and back.

pub use crate::command_line::{arguments, command_line};

/// The token that stands for the product's own folder.
const INSTALL: &str = "{install}";

/// A text for a Formatted column: brackets and braces, which have a meaning there, are escaped; `{install}` becomes the
/// folder's property, which ends with a backslash.
pub fn formatted(text: &str) -> String {
    let mut out = String::new();
    for (n, part) in text.split(INSTALL).enumerate() {
        let mut part = part;
        if n > 0 {
            out.push_str("[INSTALLDIR]");
            part = part.strip_prefix(['/', '\\']).unwrap_or(part);
        }
        for c in part.chars() {
            match c {
                '[' | ']' | '{' | '}' => out.extend(['[', '\\', c, ']']),
                c => out.push(c),
            }
        }
    }
    out
}

/// The text that [`formatted`] was made from; other properties stay as they stand there.
pub fn unformatted(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(after) = rest.strip_prefix("[INSTALLDIR]") {
            out.push_str(INSTALL);
            if !after.is_empty() && !after.starts_with([';', '"', ' ']) {
                out.push('/');
            }
            rest = after;
        } else if let Some(after) = rest.strip_prefix("[\\")
            && let Some(escaped) = after.chars().next()
            && after[escaped.len_utf8()..].starts_with(']')
        {
            out.push(escaped);
            rest = &after[escaped.len_utf8() + 1..];
        } else {
            out.push(c);
            rest = &rest[c.len_utf8()..];
        }
    }
    out
}

/// A text as it comes back: a slash behind `{install}` is there exactly if something follows.
pub fn carried(text: &str) -> String {
    unformatted(&formatted(text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn brackets_and_the_install_folder_are_told_apart() {
        assert_eq!(formatted("a[b]{c}"), r"a[\[]b[\]][\{]c[\}]");
        assert_eq!(formatted("{install}/bin"), "[INSTALLDIR]bin");
        assert_eq!(unformatted("[INSTALLDIR]bin"), "{install}/bin");
        assert_eq!(carried("{install};x"), "{install};x");
        assert_eq!(unformatted("[OTHER]x"), "[OTHER]x");
    }

    proptest! {
        #[test]
        fn text_survives_formatting(text in "[a-c\\[\\]{}\\\\/;]{0,12}") {
            prop_assert_eq!(carried(&text), text);
        }

        #[test]
        fn carrying_twice_changes_nothing_more(text in "([a-c\\[\\]{}/\\\\; \"]|\\{install\\}){0,6}") {
            let once = carried(&text);
            prop_assert_eq!(carried(&once), once);
        }
    }
}
