//! Text in the form that Windows Installer wants, and back.

use crate::command_line::{self, in_quotes};

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

/// Stands for the folder's property while a line is put together or taken apart: no text has it.
const MARK: char = '\u{FFFF}';

/// Arguments as one line for a Formatted column. The folder has blanks on nearly every machine, so what names it stands in
/// quotes; and its property ends with a backslash, which must not take the closing quote along.
pub fn line(arguments: &[String]) -> String {
    let folder = format!("{MARK}\\");
    let words = arguments.iter().map(|argument| {
        if !argument.contains(INSTALL) {
            return command_line::command_line(std::slice::from_ref(argument));
        }
        let mut marked = String::new();
        for (n, part) in argument.split(INSTALL).enumerate() {
            marked.push_str(if n > 0 { &folder } else { "" });
            marked.push_str(if n > 0 { part.strip_prefix(['/', '\\']).unwrap_or(part) } else { part });
        }
        in_quotes(&marked)
    });
    let line: Vec<String> = words.collect();
    formatted(&line.join(" ")).replace(&folder, "[INSTALLDIR]")
}

/// The arguments of such a line, or of one that others wrote.
pub fn arguments(line: &str) -> Vec<String> {
    let folder = format!("{MARK}\\");
    let marked = line.replace("[INSTALLDIR]", &folder);
    let all = command_line::arguments(&unformatted(&marked)).into_iter();
    let meant = |argument: String| {
        let mut out = String::new();
        for (n, part) in argument.split(&folder).enumerate() {
            if n > 0 {
                out.push_str(INSTALL);
                out.push_str(if part.is_empty() || part.starts_with([';', '"', ' ']) { "" } else { "/" });
            }
            out.push_str(part);
        }
        out
    };
    all.map(meant).collect()
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

    #[test]
    fn the_folder_stands_in_quotes_and_leaves_them_closed() {
        let all = |a: &[&str]| a.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>();
        let told = line(&all(&["--data", "{install}/my data", "{install}", "plain", "a [b]"]));
        assert_eq!(told, "--data \"[INSTALLDIR]my data\" \"[INSTALLDIR]\\\" plain \"a [\\[]b[\\]]\"");
        // What the program gets when the folder has blanks.
        let installed =
            told.replace("[INSTALLDIR]", "C:\\Program Files\\Hives\\").replace("[\\[]", "[").replace("[\\]]", "]");
        let given = command_line::arguments(&installed);
        assert_eq!(
            given,
            ["--data", "C:\\Program Files\\Hives\\my data", "C:\\Program Files\\Hives\\", "plain", "a [b]"]
        );
        assert_eq!(arguments(&told), ["--data", "{install}/my data", "{install}", "plain", "a [b]"]);
        // Others leave the quotes out, and their property's own backslash in.
        assert_eq!(arguments("[INSTALLDIR]x /y"), ["{install}/x", "/y"]);
    }

    proptest! {
        #[test]
        fn arguments_survive_the_line(all in proptest::collection::vec("([a-c\\[\\]{} \"\\\\;]|\\{install\\}/){0,5}", 0..4)) {
            let once = arguments(&line(&all));
            prop_assert_eq!(arguments(&line(&once)), once);
        }

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
