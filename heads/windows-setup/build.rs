//! Gathers the texts that the sources name with `t!("…")` into one list of bytes, each with a zero behind it. A text that
//! is the end of another one stands there.

use std::path::{Path, PathBuf};
use std::{env, fs};

fn main() {
    println!("cargo::rerun-if-changed=src");
    let mut texts = Vec::new();
    read_folder(Path::new("src"), &mut texts);
    texts.sort();
    texts.dedup();
    let is_end = |text: &[u8]| texts.iter().any(|other| other.len() > text.len() && other.ends_with(text));
    // The empty text is the zero in front.
    let mut list = vec![0];
    for text in texts.iter().filter(|text| !is_end(text)) {
        list.extend(text);
        list.push(0);
    }
    let out = PathBuf::from(env::var_os("OUT_DIR").expect("Cargo names the folder")).join("texts");
    fs::write(out, list).expect("the list of texts can be written");
}

fn read_folder(folder: &Path, texts: &mut Vec<Vec<u8>>) {
    for entry in fs::read_dir(folder).expect("a folder of sources") {
        let path = entry.expect("a file of sources").path();
        if path.is_dir() {
            read_folder(&path, texts);
        } else {
            read_source(&fs::read_to_string(&path).expect("a source is text"), texts);
        }
    }
}

fn read_source(source: &str, texts: &mut Vec<Vec<u8>>) {
    const BEGIN: &str = "t!(\"";
    for (at, _) in source.match_indices(BEGIN) {
        // `assert!("…")` and its like end with the same letters.
        if source[..at].ends_with(|c: char| c.is_ascii_alphanumeric() || c == '_') {
            continue;
        }
        texts.push(plain(&source[at + BEGIN.len()..]));
    }
}

/// The bytes of a literal up to its closing quote.
fn plain(literal: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut rest = literal.chars();
    while let Some(letter) = rest.next() {
        let letter = match letter {
            '"' => return bytes,
            '\\' => match rest.next() {
                Some('n') => '\n',
                Some('r') => '\r',
                Some('t') => '\t',
                Some('u') => {
                    let digits: String = rest.by_ref().skip(1).take_while(|c| *c != '}').collect();
                    let number = u32::from_str_radix(&digits, 16).ok().and_then(char::from_u32);
                    number.expect("a letter's number in `\\u{…}`")
                }
                Some(other @ ('\\' | '"')) => other,
                other => panic!("an escape that this list does not know: {other:?}"),
            },
            letter => letter,
        };
        assert!(letter.is_ascii() && letter != '\0', "a text of the program itself is ASCII without zeros: {letter:?}");
        bytes.push(letter as u8);
    }
    panic!("a literal without an end")
}
