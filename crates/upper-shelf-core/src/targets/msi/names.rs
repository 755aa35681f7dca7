//! Names of files in the form `SHORT~1.TXT|The long name.txt`, with short names that no two files of a folder share.

use std::collections::{HashMap, HashSet};

/// Gives out short names, folder by folder.
#[derive(Default)]
pub struct ShortNames {
    /// Hashes of folder and name: where two meet, one more name is passed over, and nothing else happens.
    taken: HashSet<u64>,
    next: HashMap<(String, String), u32>,
}

fn hash(folder: &str, name: &str) -> u64 {
    let mut hasher = blake3::Hasher::new();
    hasher.update(folder.as_bytes()).update(&[0]).update(name.as_bytes());
    hasher.finalize().as_bytes().first_chunk().map_or(0, |b| u64::from_le_bytes(*b))
}

fn plain(c: char) -> bool {
    c.is_ascii_alphanumeric() || "_-".contains(c)
}

/// Whether a name is short as it is.
fn is_short(name: &str) -> bool {
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    let dot_without_ending = name.ends_with('.');
    (1..=8).contains(&stem.len())
        && ending.len() <= 3
        && !dot_without_ending
        && stem.chars().chain(ending.chars()).all(plain)
}

impl ShortNames {
    /// Keeps names that are short as they are from being given to others.
    pub fn reserve(&mut self, folder: &str, name: &str) {
        if is_short(name) {
            self.taken.insert(hash(folder, &name.to_ascii_uppercase()));
        }
    }

    /// The column's text for a file or folder of this name.
    pub fn text(&mut self, folder: &str, name: &str) -> String {
        if is_short(name) {
            return name.to_owned();
        }
        let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
        let letters = |text: &str, most: usize| -> String {
            text.chars().filter(|c| plain(*c)).take(most).collect::<String>().to_ascii_uppercase()
        };
        let (stem, ending) = (letters(stem, 6), letters(ending, 3));
        let stem = if stem.is_empty() { "F".to_owned() } else { stem };
        let next = self.next.entry((folder.to_owned(), format!("{stem}.{ending}"))).or_default();
        loop {
            *next += 1;
            let number = next.to_string();
            let kept: String = stem.chars().take(7usize.saturating_sub(number.len())).collect();
            let dot = if ending.is_empty() { "" } else { "." };
            let short = format!("{kept}~{number}{dot}{ending}");
            // Cut stems may meet: `ABCDEF~10` and `ABCDEG~10` are both `ABCDE~10`.
            if self.taken.insert(hash(folder, &short)) {
                return format!("{short}|{name}");
            }
        }
    }
}

/// The long name of a column's text; of `target:source` the part before the colon.
pub fn long(text: &str) -> &str {
    let target = text.split(':').next().unwrap_or(text);
    target.split_once('|').map_or(target, |(_, long)| long)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_are_short_and_differ() {
        let mut names = ShortNames::default();
        names.reserve("d", "QUEEN_~1");
        assert_eq!(names.text("d", "hive.txt"), "hive.txt");
        assert_eq!(names.text("d", "Bienen-Stöcke.comb"), "BIENEN~1.COM|Bienen-Stöcke.comb");
        assert_eq!(names.text("d", "蜂"), "F~1|蜂");
        let mut seen = HashSet::new();
        for n in 0..3000 {
            let text = names.text("d", &format!("frame number {n}.json"));
            let short = text.split('|').next().unwrap_or_default();
            let (stem, ending) = short.split_once('.').unwrap_or((short, ""));
            assert!(stem.len() <= 8 && ending.len() <= 3 && seen.insert(short.to_owned()), "{text}");
        }
        assert_eq!(long("A~1:B|c"), "A~1");
        assert_eq!(long("A~1|b c"), "b c");
    }
}
