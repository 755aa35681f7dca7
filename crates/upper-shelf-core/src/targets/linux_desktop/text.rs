//! Values of desktop entries: each way of writing one, and the way back.

/// An argument in an `Exec` value: quoted, with percent signs doubled.
pub(super) fn exec_argument(argument: &str) -> String {
    let mut quoted = String::from("\"");
    for c in argument.chars() {
        match c {
            '"' | '`' | '$' | '\\' => {
                quoted.push('\\');
                quoted.push(c);
            }
            '%' => quoted.push_str("%%"),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// The arguments of an `Exec` value, without field codes.
pub(super) fn exec_words(exec: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut chars = exec.chars().peekable();
    while let Some(&c) = chars.peek() {
        if c == ' ' {
            chars.next();
            continue;
        }
        let mut word = String::new();
        let quoted = c == '"';
        if quoted {
            chars.next();
        }
        while let Some(c) = chars.next() {
            match c {
                '"' if quoted => break,
                ' ' if !quoted => break,
                '\\' if quoted => word.extend(chars.next()),
                '%' if chars.peek() == Some(&'%') => {
                    chars.next();
                    word.push('%');
                }
                '%' if !quoted => {
                    chars.next();
                    word.push('\0');
                }
                c => word.push(c),
            }
        }
        if !word.contains('\0') {
            words.push(word);
        }
    }
    words
}

/// A value of the desktop entry's string type.
pub(super) fn escaped(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('\n', "\\n").replace('\t', "\\t").replace('\r', "\\r");
    match text.strip_prefix(' ') {
        Some(rest) => format!("\\s{rest}"),
        None => text,
    }
}

pub(super) fn unescaped(text: &str) -> String {
    let mut out = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (c, c == '\\') {
            (_, true) => match chars.next() {
                Some('s') => out.push(' '),
                Some('n') => out.push('\n'),
                Some('t') => out.push('\t'),
                Some('r') => out.push('\r'),
                Some(other) => out.push(other),
                None => {}
            },
            (c, false) => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn field_codes_are_no_arguments_and_doubled_percent_signs_are_one() {
        assert_eq!(exec_words(r#"hives %U --at "50%% of it" %f"#), ["hives", "--at", "50% of it"]);
        assert_eq!(exec_words(r#"  sh -c "echo \"\$HOME\" \\\\ \`ls\`"  "#), ["sh", "-c", r#"echo "$HOME" \\ `ls`"#]);
        assert_eq!(exec_words("hives \"not closed"), ["hives", "not closed"]);
        assert_eq!(unescaped(r"\sa\tb\nc\\d\q\"), " a\tb\nc\\dq");
    }

    proptest! {
        /// Through both layers of a desktop entry, as `Exec` is written and read. No argument holds a zero.
        #[test]
        fn any_arguments_come_back(words in proptest::collection::vec("[^\0]{0,20}", 0..6)) {
            let exec: Vec<String> = words.iter().map(|w| exec_argument(w)).collect();
            let line = escaped(&exec.join(" "));
            prop_assert!(!line.contains(['\n', '\r', '\t']), "one line: {line:?}");
            prop_assert_eq!(exec_words(&unescaped(&line)), words);
        }
    }
}
