//! Command lines of Windows: arguments as one line and back, by the rules by which programs take it apart
//! (`CommandLineToArgvW`).

/// Arguments as one command line.
pub fn command_line(arguments: &[String]) -> String {
    let words: Vec<String> = arguments.iter().map(|a| quoted(a)).collect();
    words.join(" ")
}

fn quoted(argument: &str) -> String {
    if !argument.is_empty() && !argument.contains([' ', '\t', '"', '\n', '\u{b}']) {
        return argument.to_owned();
    }
    in_quotes(argument)
}

/// An argument in quotes, whether it needs them or not.
pub fn in_quotes(argument: &str) -> String {
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

    proptest! {
        #[test]
        fn arguments_survive_the_command_line(all in proptest::collection::vec("[ a-c\"\\\\\t]{0,8}", 0..5)) {
            prop_assert_eq!(arguments(&command_line(&all)), all);
        }
    }
}
