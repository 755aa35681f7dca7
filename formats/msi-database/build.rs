//! Makes a type of each standard table's rows, out of the one list that the schema is read from.

use std::fmt::Write as _;
use std::{env, fs, path::Path};

/// How a value is stored, as far as a row's type is concerned.
enum Form {
    Text,
    Number,
    NumberOrNone,
    Stream,
}

fn main() {
    println!("cargo::rerun-if-changed=src/schema.txt");
    let schema = fs::read_to_string("src/schema.txt").expect("the schema is part of the crate");
    let mut tables: Vec<(&str, Vec<(&str, Form)>)> = Vec::new();
    for line in schema.lines().filter(|l| !l.starts_with('#')) {
        let Some(column) = line.strip_prefix(' ') else {
            tables.push((line, Vec::new()));
            continue;
        };
        let (name, kind) = column.split_once(' ').expect("a column has a type");
        let form = match kind.as_bytes()[0] {
            b'i' => Form::Number,
            b'I' => Form::NumberOrNone,
            b'v' | b'V' => Form::Stream,
            _ => Form::Text,
        };
        tables.last_mut().expect("a table comes first").1.push((name, form));
    }
    let mut code = String::new();
    for (table, columns) in tables {
        write_row(&mut code, table, &columns);
    }
    let folder = env::var("OUT_DIR").expect("Cargo says where");
    fs::write(Path::new(&folder).join("rows.rs"), code).expect("written");
}

fn write_row(code: &mut String, table: &str, columns: &[(&str, Form)]) {
    let (mut fields, mut read, mut values) = (String::new(), String::new(), String::new());
    for (n, (column, form)) in columns.iter().enumerate() {
        let field = field(column);
        let (kind, cell, value) = match form {
            Form::Text => ("&'d str", "text", format!("db.text(self.{field})")),
            Form::Number => ("i32", "number", format!("Value::Int(self.{field})")),
            Form::NumberOrNone => {
                ("Option<i32>", "number_or_none", format!("self.{field}.map_or(Value::Null, Value::Int)"))
            }
            Form::Stream => {
                values.push_str("Value::Stream, ");
                continue;
            }
        };
        let _ = writeln!(fields, "    /// The column `{column}`.\n    pub {field}: {kind},");
        let _ = write!(read, "{field}: cells.{cell}({n}), ");
        let _ = write!(values, "{value}, ");
    }
    let name = table.trim_start_matches('_');
    let names: Vec<&str> = columns.iter().map(|(name, _)| *name).collect();
    let _ = writeln!(
        code,
        "/// A row of the table `{table}`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct {name}<'d> {{
{fields}}}
impl<'d> Row<'d> for {name}<'d> {{
    const TABLE: &'static str = {table:?};
    const COLUMNS: &'static [&'static str] = &{names:?};
    fn read(cells: &Cells<'d, '_>) -> Self {{
        Self {{ {read}}}
    }}
    fn values(&self, db: &mut Database) -> Vec<Value> {{
        vec![{values}]
    }}
}}"
    );
}

/// The field of a column: `DefaultDir` is `default_dir`, `Component_` (which refers to another table) `component`, and
/// `Type`, a word of the language, `kind`.
fn field(column: &str) -> String {
    if column == "Type" {
        return "kind".into();
    }
    let letters: Vec<char> = column.trim_end_matches('_').chars().collect();
    let mut field = String::new();
    for (n, letter) in letters.iter().enumerate() {
        let before = n.checked_sub(1).map(|n| letters[n]);
        let begins = letter.is_uppercase()
            && before.is_some_and(|b| {
                b.is_lowercase() || (b.is_uppercase() && letters.get(n + 1).is_some_and(|c| c.is_lowercase()))
            });
        if begins {
            field.push('_');
        }
        field.extend(letter.to_lowercase());
    }
    field
}
