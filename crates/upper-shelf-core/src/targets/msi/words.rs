//! Text in the form that Windows Installer and Windows' command lines want, and back.

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

/// Arguments as one command line, by the rules by which programs on Windows take it apart (`CommandLineToArgvW`).
pub fn command_line(arguments: &[String]) -> String {
    let words: Vec<String> = arguments.iter().map(|a| quoted(a)).collect();
    words.join(" ")
}

fn quoted(argument: &str) -> String {
    if !argument.is_empty() && !argument.contains([' ', '\t', '"', '\n', '\u{b}']) {
        return argument.to_owned();
    }
    let mut out = String::from("\"");
    let mut slashes = 0;
    for c in argument.chars() {
        match c {
            '\\' => slashes += 1,
            '"' => {
                out.extend(std::iter::repeat_n('\\', slashes * 2 + 1));
                out.push('"');
                slashes = 0;
            }
            c => {
                out.extend(std::iter::repeat_n('\\', slashes));
                out.push(c);
                slashes = 0;
            }
        }
    }
    out.extend(std::iter::repeat_n('\\', slashes * 2));
    out.push('"');
    out
}

/// A command line as arguments.
pub fn arguments(line: &str) -> Vec<String> {
    let (mut all, mut now, mut quotes, mut begun) = (Vec::new(), String::new(), false, false);
    let mut chars = line.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\\' => {
                let mut slashes = 1;
                while chars.next_if_eq(&'\\').is_some() {
                    slashes += 1;
                }
                begun = true;
                if chars.peek() == Some(&'"') {
                    now.extend(std::iter::repeat_n('\\', slashes / 2));
                    if slashes % 2 == 1 {
                        now.push('"');
                        chars.next();
                    }
                } else {
                    now.extend(std::iter::repeat_n('\\', slashes));
                }
            }
            '"' => {
                begun = true;
                if quotes && chars.next_if_eq(&'"').is_some() {
                    now.push('"');
                } else {
                    quotes = !quotes;
                }
            }
            ' ' | '\t' if !quotes => {
                if begun {
                    all.push(std::mem::take(&mut now));
                }
                begun = false;
            }
            c => {
                begun = true;
                now.push(c);
            }
        }
    }
    if begun {
        all.push(now);
    }
    all
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
        fn arguments_survive_the_command_line(all in proptest::collection::vec("[ a-c\"\\\\\t]{0,8}", 0..5)) {
            prop_assert_eq!(arguments(&command_line(&all)), all);
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
