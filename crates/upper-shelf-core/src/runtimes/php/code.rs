//! What PHP code names: functions that it calls, classes that it uses, texts.

use std::collections::BTreeSet;

/// Names, in lower case, and texts.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Named {
    pub names: BTreeSet<String>,
    pub texts: BTreeSet<String>,
}

/// Words of the language that a bracket may follow.
const KEYWORDS: [&str; 30] = [
    "and",
    "array",
    "as",
    "catch",
    "clone",
    "declare",
    "die",
    "echo",
    "else",
    "elseif",
    "empty",
    "eval",
    "exit",
    "fn",
    "for",
    "foreach",
    "function",
    "if",
    "include",
    "include_once",
    "isset",
    "list",
    "match",
    "or",
    "print",
    "require",
    "require_once",
    "return",
    "switch",
    "while",
];

fn is_of_a_word(b: u8) -> bool {
    b.is_ascii_alphanumeric() || matches!(b, b'_' | b'\\') || b >= 0x80
}

/// Where the first of some bytes stands, from a place on; else the end.
fn find(bytes: &[u8], from: usize, what: &[u8]) -> usize {
    let rest = bytes.get(from..).unwrap_or_default();
    rest.windows(what.len()).position(|some| some == what).map_or(bytes.len(), |at| from + at)
}

/// Reads a source. Whether it is right is not looked at.
pub fn named(source: &[u8]) -> Named {
    let mut named = Named::default();
    let mut at = 0;
    // What stood before, as far as it says what a word means: a word, or the last sign.
    let mut before = String::new();
    // Outside of these marks everything is text for the page.
    'page: while at < source.len() {
        at = find(source, at, b"<?");
        at += if source.get(at..).is_some_and(|rest| rest.starts_with(b"<?php")) { 5 } else { 2 };
        while at < source.len() {
            let rest = &source[at..];
            let b = source[at];
            if rest.starts_with(b"?>") {
                at += 2;
                continue 'page;
            }
            if rest.starts_with(b"//") || b == b'#' && !rest.starts_with(b"#[") {
                // A remark ends with its line, or with the code.
                at = find(source, at, b"\n").min(find(source, at, b"?>"));
            } else if rest.starts_with(b"/*") {
                at = (find(source, at + 2, b"*/") + 2).min(source.len());
            } else if matches!(b, b'\'' | b'"') {
                let end = end_of_text(source, at);
                let text = source.get(at + 1..end.saturating_sub(1)).unwrap_or_default();
                named.texts.insert(String::from_utf8_lossy(&text[..text.len().min(100)]).into_owned());
                (at, before) = (end, String::new());
            } else if rest.starts_with(b"<<<") {
                at = end_of_long_text(source, at);
                before.clear();
            } else if is_of_a_word(b) {
                let length = rest.iter().take_while(|b| is_of_a_word(**b)).count();
                let word = String::from_utf8_lossy(&rest[..length]).to_lowercase();
                at += length;
                let behind = source[at..].trim_ascii_start();
                let is_class = matches!(&*before, "new" | "extends" | "implements" | "instanceof" | "use" | "catch(")
                    || behind.starts_with(b"::");
                let is_called = behind.starts_with(b"(") && !matches!(&*before, "->" | "::" | "function" | "new");
                let bare = word.trim_start_matches('\\');
                if (is_class || is_called)
                    && before != "$"
                    && !bare.contains('\\')
                    && !bare.is_empty()
                    && !KEYWORDS.contains(&bare)
                {
                    named.names.insert(bare.to_owned());
                }
                before = word;
            } else {
                if !b.is_ascii_whitespace() {
                    before = match b {
                        b'>' if before == "-" => "->".into(),
                        b':' if before == ":" => "::".into(),
                        b'(' if before == "catch" => "catch(".into(),
                        // Several classes after each other.
                        b'|' if before == "catch(" => "catch(".into(),
                        _ => char::from(b).to_string(),
                    };
                }
                at += 1;
            }
        }
    }
    named
}

fn end_of_text(source: &[u8], start: usize) -> usize {
    let mut at = start + 1;
    while at < source.len() && source[at] != source[start] {
        at += if source[at] == b'\\' { 2 } else { 1 };
    }
    (at + 1).min(source.len())
}

/// A text with a word of its own for its end: `<<<HONEY`.
fn end_of_long_text(source: &[u8], start: usize) -> usize {
    let line_end = find(source, start, b"\n");
    let word = source[start + 3..line_end].trim_ascii();
    let word = word.strip_prefix(b"'").or(word.strip_prefix(b"\"")).unwrap_or(word);
    let word = word.strip_suffix(b"'").or(word.strip_suffix(b"\"")).unwrap_or(word);
    let mut at = line_end;
    while at < source.len() && !word.is_empty() {
        at += 1;
        let next = find(source, at, b"\n");
        let line = source.get(at..next).unwrap_or_default();
        let trimmed = line.trim_ascii_start();
        if trimmed.strip_prefix(word).is_some_and(|rest| rest.first().is_none_or(|b| !is_of_a_word(*b))) {
            return at + (line.len() - trimmed.len()) + word.len();
        }
        at = next;
    }
    source.len().min(line_end.max(start + 3))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn calls_and_classes_are_names_and_the_rest_is_not() {
        let source = br#"<p>mb_not(1)</p>
<?php
namespace Works\Hives;
use PDO;
use Works\Own\Thing;
// mb_neither(1)
# nor_this(1)
/* nor_that(1) */
#[Attribute]
function own_function(int $a) { return \mb_strlen('mb_text(1)') . $x->method_call(1) . Thing::static_call(2); }
class Comb extends DOMDocument implements JsonSerializable {}
try { $pdo = new PDO("sqlite:hives.db"); } catch (CurlException $e) {}
$s = <<<HONEY
  not_called(1)
  HONEY;
$t = ctype_alpha($s); $call(1); new \XMLReader();
?>
mb_after(1)
<?= iconv_strlen("x") ?>"#;
        let named = named(source);
        let names: Vec<&str> = named.names.iter().map(String::as_str).collect();
        assert_eq!(
            names,
            [
                "ctype_alpha",
                "curlexception",
                "domdocument",
                "iconv_strlen",
                "jsonserializable",
                "mb_strlen",
                "pdo",
                "thing",
                "xmlreader",
            ]
        );
        assert!(named.texts.contains("sqlite:hives.db"));
    }

    #[test]
    fn sources_that_end_anywhere_are_read_to_their_end() {
        let source = b"<?php $a = <<<'X'\n b(1)\nX; c('d\\'";
        for end in 0..=source.len() {
            let _ = named(&source[..end]);
        }
    }
}
