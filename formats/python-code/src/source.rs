//! Sources: the statements that import. Whether the rest of a source is right is not looked at.

use crate::{Import, When};

/// A word, a sign, or the end of a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    Word(String),
    /// The only text that matters is the one that a function for imports is given.
    Text(String),
    Sign(char),
}

/// A statement, with the depth at which its line begins.
struct Statement {
    indent: usize,
    /// Whether it begins its line.
    is_first: bool,
    tokens: Vec<Token>,
}

fn is_of_a_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

/// Takes a source apart. A text that never ends on its line ends there.
fn statements(source: &str) -> Vec<Statement> {
    let letters: Vec<char> = source.chars().collect();
    let (mut all, mut tokens) = (Vec::new(), Vec::new());
    let (mut at, mut depth, mut indent, mut is_first, mut begins) = (0, 0usize, 0, true, true);
    let mut end = |tokens: &mut Vec<Token>, indent, is_first: &mut bool| {
        if !tokens.is_empty() {
            all.push(Statement { indent, is_first: *is_first, tokens: std::mem::take(tokens) });
            *is_first = false;
        }
    };
    while let Some(&c) = letters.get(at) {
        if begins && depth == 0 {
            let blank = letters[at..].iter().take_while(|c| matches!(c, ' ' | '\t' | '\x0c')).count();
            // A tab goes to the next eighth column.
            indent = letters[at..at + blank].iter().fold(0, |n, c| if *c == '\t' { n / 8 * 8 + 8 } else { n + 1 });
            (at, begins, is_first) = (at + blank, false, true);
            continue;
        }
        match c {
            '#' => at += letters[at..].iter().position(|c| *c == '\n').unwrap_or(letters.len() - at),
            '\\' if letters.get(at + 1) == Some(&'\n') => at += 2,
            '\\' if letters.get(at + 1) == Some(&'\r') => at += 3,
            '\n' => {
                if depth == 0 {
                    end(&mut tokens, indent, &mut is_first);
                }
                (at, begins) = (at + 1, depth == 0);
            }
            '"' | '\'' => {
                let (text, behind) = literal(&letters, at);
                // What stands before it says how it is meant: r"…".
                if matches!(tokens.last(), Some(Token::Word(word)) if word.len() <= 2 && at > 0 && is_of_a_word(letters[at - 1]))
                {
                    tokens.pop();
                }
                tokens.push(Token::Text(text));
                at = behind;
            }
            c if is_of_a_word(c) => {
                let length = letters[at..].iter().take_while(|c| is_of_a_word(**c)).count();
                tokens.push(Token::Word(letters[at..at + length].iter().collect()));
                at += length;
            }
            ';' | ':' if depth == 0 => {
                tokens.push(Token::Sign(c));
                end(&mut tokens, indent, &mut is_first);
                at += 1;
            }
            c => {
                match c {
                    '(' | '[' | '{' => depth += 1,
                    ')' | ']' | '}' => depth = depth.saturating_sub(1),
                    _ => {}
                }
                if !c.is_whitespace() {
                    tokens.push(Token::Sign(c));
                }
                at += 1;
            }
        }
    }
    end(&mut tokens, indent, &mut is_first);
    all
}

/// A text between quotation marks, and where it ends.
fn literal(letters: &[char], start: usize) -> (String, usize) {
    let mark = letters[start];
    let is_long = letters.get(start..start + 3).is_some_and(|three| three.iter().all(|c| *c == mark));
    let marks = if is_long { 3 } else { 1 };
    let mut at = start + marks;
    let begin = at;
    while at < letters.len() {
        let closes = letters.get(at..at + marks).is_some_and(|some| some.iter().all(|c| *c == mark));
        if closes {
            return (letters[begin..at].iter().collect(), at + marks);
        }
        match letters[at] {
            '\\' => at += 2,
            '\n' if !is_long => break,
            _ => at += 1,
        }
    }
    let at = at.min(letters.len());
    (letters[begin.min(at)..at].iter().collect(), at)
}

fn word(token: Option<&Token>) -> Option<&str> {
    if let Some(Token::Word(word)) = token { Some(word) } else { None }
}

/// A name with dots, from a place on; and where it ends.
fn dotted(tokens: &[Token], mut at: usize) -> (String, usize) {
    let mut name = String::new();
    while let Some(next) = word(tokens.get(at)) {
        name.push_str(next);
        at += 1;
        if tokens.get(at) != Some(&Token::Sign('.')) {
            break;
        }
        name.push('.');
        at += 1;
    }
    (name.trim_end_matches('.').to_owned(), at)
}

/// What a source imports: by statements, and by functions for that which are given a module's name.
pub fn in_source(source: &str) -> Vec<Import> {
    let mut all = Vec::new();
    // The depths of the functions that a line stands in.
    let mut functions: Vec<usize> = Vec::new();
    for Statement { indent, is_first, tokens } in statements(source) {
        if is_first {
            functions.retain(|depth| *depth < indent);
        }
        let when = match (functions.is_empty(), indent == 0 && is_first) {
            (true, true) => When::Always,
            (true, false) => When::AtOnce,
            (false, _) => When::Called,
        };
        let first = match (word(tokens.first()), word(tokens.get(1))) {
            (Some("async"), Some(second)) => second,
            (first, _) => first.unwrap_or_default(),
        };
        match first {
            // What follows on its own line is in it, too.
            "def" => functions.push(indent),
            "import" => {
                let mut at = 1;
                loop {
                    let (module, behind) = dotted(&tokens, at);
                    if module.is_empty() {
                        break;
                    }
                    all.push(Import { module, level: 0, names: Vec::new(), when });
                    // `as` and another name.
                    let comma = tokens[behind..].iter().position(|token| *token == Token::Sign(','));
                    let Some(comma) = comma else { break };
                    at = behind + comma + 1;
                }
            }
            "from" => {
                let dots = tokens[1..].iter().take_while(|token| **token == Token::Sign('.')).count();
                let is_word = word(tokens.get(1 + dots)).is_some_and(|word| word != "import");
                let (module, at) = if is_word { dotted(&tokens, 1 + dots) } else { (String::new(), 1 + dots) };
                if word(tokens.get(at)) != Some("import") {
                    continue;
                }
                let mut names = Vec::new();
                let mut rest = tokens[at + 1..].iter().peekable();
                while let Some(token) = rest.next() {
                    match token {
                        Token::Word(name) if name == "as" => drop(rest.next()),
                        Token::Word(name) => names.push(name.clone()),
                        Token::Sign('*') => names.push("*".into()),
                        Token::Sign(_) | Token::Text(_) => {}
                    }
                }
                all.push(Import { module, level: dots as u32, names, when });
            }
            _ => {}
        }
        // import_module("bees"), __import__("bees")
        for three in tokens.windows(3) {
            if let [Token::Word(function), Token::Sign('('), Token::Text(module)] = three
                && matches!(function.as_str(), "import_module" | "__import__")
                && !module.is_empty()
                && module.chars().all(|c| is_of_a_word(c) || c == '.')
                && !module.starts_with('.')
            {
                all.push(Import { module: module.clone(), level: 0, names: Vec::new(), when });
            }
        }
    }
    all
}
