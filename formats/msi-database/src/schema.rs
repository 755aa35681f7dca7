//! The standard tables: their columns and rules, out of one list (`schema.txt`) that the writer, `_Validation` and the
//! strict checker all use.

use std::collections::BTreeMap;
use std::sync::LazyLock;

/// How a column's values are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// A number of two bytes.
    Short,
    /// A number of four bytes.
    Long,
    /// A string of so many characters at most; 0 for any number.
    Text(u8),
    /// A stream.
    Stream,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// How its values are stored.
    pub kind: Kind,
    /// Whether it belongs to the primary key.
    pub key: bool,
    /// Whether it may be empty.
    pub nullable: bool,
    /// Whether it is translated.
    pub localizable: bool,
}

impl Column {
    /// The type as `_Columns` has it.
    pub fn bits(&self) -> u16 {
        let kind = match self.kind {
            Kind::Short => 0x502,
            Kind::Long => 0x104,
            Kind::Text(n) if self.localizable => 0xF00 | u16::from(n),
            Kind::Text(n) => 0xD00 | u16::from(n),
            Kind::Stream => 0x900,
        };
        kind | if self.nullable { 0x1000 } else { 0 } | if self.key { 0x2000 } else { 0 }
    }

    /// From the type in `_Columns`; `None` if there is no such type.
    pub fn from_bits(name: String, bits: u16) -> Option<Self> {
        let (key, nullable) = (bits & 0x2000 != 0, bits & 0x1000 != 0);
        let kind = match (bits & 0x800 != 0, bits & 0x400 != 0, bits & 0xFF) {
            (true, true, n) => Kind::Text(n as u8),
            (true, false, _) => Kind::Stream,
            (false, _, 4) => Kind::Long,
            (false, _, 1 | 2) => Kind::Short,
            (false, ..) => return None,
        };
        Some(Self { name, kind, key, nullable, localizable: bits & 0x200 != 0 && bits & 0x800 != 0 })
    }
}

/// What a column's values have to obey.
#[derive(Debug, Clone, Default)]
pub struct Rule {
    /// The category of text, such as `Identifier`.
    pub category: Option<String>,
    /// The smallest number.
    pub min: Option<i32>,
    /// The greatest number.
    pub max: Option<i32>,
    /// The table and the number of the column that it refers to.
    pub refers: Option<(String, i16)>,
    /// The values allowed.
    pub set: Vec<String>,
}

/// A table's columns with their rules.
pub type Table = Vec<(Column, Rule)>;

/// All standard tables that are known here, by name.
pub static TABLES: LazyLock<BTreeMap<String, Table>> = LazyLock::new(|| parse(include_str!("schema.txt")));

fn parse(text: &str) -> BTreeMap<String, Table> {
    let mut tables = BTreeMap::new();
    let mut table = String::new();
    for line in text.lines().filter(|l| !l.starts_with('#')) {
        let Some(column) = line.strip_prefix(' ') else {
            table = line.to_owned();
            tables.insert(table.clone(), Vec::new());
            continue;
        };
        let mut words = column.split(' ');
        let (name, kind) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
        let category = words.next().filter(|c| *c != "-").map(str::to_owned);
        let (letter, rest) = kind.split_at(1);
        let width = rest.trim_end_matches('*').parse::<u16>().unwrap_or(0);
        let small = letter.to_ascii_lowercase();
        let kind = match (small.as_str(), width) {
            ("i", 2) => Kind::Short,
            ("i", _) => Kind::Long,
            ("v", _) => Kind::Stream,
            (_, n) => Kind::Text(n as u8),
        };
        let column = Column {
            name: name.into(),
            kind,
            key: rest.ends_with('*'),
            nullable: small != letter,
            localizable: small == "l",
        };
        let mut rule = Rule { category, ..Rule::default() };
        for word in words {
            if let Some(n) = word.strip_prefix("min=") {
                rule.min = n.parse().ok();
            } else if let Some(n) = word.strip_prefix("max=") {
                rule.max = n.parse().ok();
            } else if let Some((table, n)) = word.strip_prefix('>').and_then(|w| w.split_once(':')) {
                rule.refers = n.parse().ok().map(|n| (table.to_owned(), n));
            } else if let Some(set) = word.strip_prefix("set=") {
                rule.set = set.split(';').map(str::to_owned).collect();
            }
        }
        tables.entry(table.clone()).or_insert_with(Vec::new).push((column, rule));
    }
    tables
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_those_of_the_format() {
        let bits = |table: &str, n: usize| TABLES[table][n].0.bits();
        assert_eq!(bits("Property", 0), 0x2D48);
        assert_eq!(bits("Property", 1), 0x0F00);
        assert_eq!(bits("File", 3), 0x0104);
        assert_eq!(bits("File", 6), 0x1502);
        assert_eq!(bits("Binary", 1), 0x0900);
        assert_eq!(bits("ControlEvent", 4), 0x3DFF);
    }

    #[test]
    fn every_type_is_read_as_it_is_written() {
        for (table, columns) in TABLES.iter() {
            assert!(columns.iter().any(|c| c.0.key), "{table} has no key");
            for (column, rule) in columns {
                assert_eq!(Column::from_bits(column.name.clone(), column.bits()).as_ref(), Some(column), "{table}");
                assert!(rule.refers.as_ref().is_none_or(|(t, n)| TABLES[t].len() >= *n as usize));
            }
        }
    }
}
