//! Writes a database's tables, strings and summary as streams of a compound file.

use crate::compound::CompoundWriter;
use crate::database::{Database, Table, Value};
use crate::names::pack;
use crate::rows;
use crate::schema::{self, Column, Kind};
use crate::{Error, Result, summary};
use std::io::{Read, Seek, Write};

/// {000C1084-0000-0000-C000-000000000046}, the class of an installation package, in its stored byte order.
pub const PACKAGE_CLASS: [u8; 16] = [0x84, 0x10, 0x0C, 0, 0, 0, 0, 0, 0xC0, 0, 0, 0, 0, 0, 0, 0x46];

/// Text in a code page; `None` where it holds characters that the code page does not have, or the page is not known.
pub fn encode(text: &str, code_page: u32) -> Option<Vec<u8>> {
    if code_page == 65001 || text.is_ascii() {
        return Some(text.as_bytes().to_vec());
    }
    let (bytes, _, lost) = encoding(code_page)?.encode(text);
    (!lost).then(|| bytes.into_owned())
}

pub(crate) fn encoding(code_page: u32) -> Option<&'static encoding_rs::Encoding> {
    Some(match code_page {
        1250 => encoding_rs::WINDOWS_1250,
        1251 => encoding_rs::WINDOWS_1251,
        1252 => encoding_rs::WINDOWS_1252,
        1253 => encoding_rs::WINDOWS_1253,
        1254 => encoding_rs::WINDOWS_1254,
        1255 => encoding_rs::WINDOWS_1255,
        1256 => encoding_rs::WINDOWS_1256,
        1257 => encoding_rs::WINDOWS_1257,
        1258 => encoding_rs::WINDOWS_1258,
        874 => encoding_rs::WINDOWS_874,
        932 => encoding_rs::SHIFT_JIS,
        936 => encoding_rs::GBK,
        949 => encoding_rs::EUC_KR,
        950 => encoding_rs::BIG5,
        65001 => encoding_rs::UTF_8,
        _ => return None,
    })
}

/// The columns of the tables that describe tables.
pub(crate) fn meta_columns(table: &str) -> Vec<Column> {
    let column = |name: &str, kind, key| Column { name: name.into(), kind, key, nullable: false, localizable: false };
    match table {
        "_Tables" => vec![column("Name", Kind::Text(64), true)],
        _ => vec![
            column("Table", Kind::Text(64), true),
            column("Number", Kind::Short, true),
            column("Name", Kind::Text(64), false),
            column("Type", Kind::Short, false),
        ],
    }
}

impl Database {
    /// Adds `_Validation` for every table that is there, out of the standard rules; for other tables what their types
    /// say.
    ///
    /// # Errors
    /// As [`insert`](Self::insert).
    pub fn validate_all(&mut self) -> Result<()> {
        let mut names: Vec<String> = self.tables.keys().filter(|n| *n != "_Validation").cloned().collect();
        names.push("_Validation".into());
        for name in names {
            let columns = match self.tables.get(&name) {
                Some(table) => table.columns.clone(),
                None => schema::TABLES["_Validation"].iter().map(|(c, _)| c.clone()).collect(),
            };
            for (n, column) in columns.iter().enumerate() {
                let rule = schema::TABLES.get(&name).and_then(|t| t.get(n)).map(|(_, rule)| rule.clone());
                let rule = rule.unwrap_or_else(|| schema::Rule {
                    category: match column.kind {
                        Kind::Text(_) => Some("Text".into()),
                        Kind::Stream => Some("Binary".into()),
                        Kind::Short | Kind::Long => None,
                    },
                    ..schema::Rule::default()
                });
                let (key_table, key_column) = rule.refers.unwrap_or_default();
                self.add(&rows::Validation {
                    table: &name,
                    column: &column.name,
                    nullable: if column.nullable { "Y" } else { "N" },
                    min_value: rule.min,
                    max_value: rule.max,
                    key_table: &key_table,
                    key_column: Some(key_column.into()).filter(|n| *n != 0),
                    category: rule.category.as_deref().unwrap_or_default(),
                    set: &rule.set.join(";"),
                    description: "",
                })?;
            }
        }
        Ok(())
    }

    /// Sorts each table's rows by their keys as they are stored, as Windows expects them.
    pub fn sort(&mut self) {
        for table in self.tables.values_mut() {
            table.sort();
        }
    }

    /// Writes tables, strings and summary as streams.
    ///
    /// # Errors
    /// A string that the code page can't hold; trouble with the output.
    pub fn write<O: Read + Write + Seek>(&mut self, out: &mut CompoundWriter<O>) -> Result<()> {
        let names: Vec<String> = self.tables.keys().cloned().collect();
        let mut tables = Table { columns: meta_columns("_Tables"), values: Vec::new() };
        let mut columns = Table { columns: meta_columns("_Columns"), values: Vec::new() };
        for name in &names {
            let table_name = self.text(name);
            tables.values.push(table_name);
            for (n, column) in self.tables[name].columns.clone().iter().enumerate() {
                let column_name = self.text(&column.name);
                let number = Value::Int(n as i32 + 1);
                columns.values.extend([table_name, number, column_name, Value::Int(column.bits().into())]);
            }
        }
        self.sort();
        tables.sort();
        columns.sort();
        let mut counts = vec![0u32; self.strings.len()];
        for table in self.tables.values().chain([&tables, &columns]) {
            for value in &table.values {
                if let Value::Text(id) = value {
                    counts[id.0 as usize] += 1;
                }
            }
        }
        let wide = self.strings.len() > 0xFFFF;
        for (name, table) in
            self.tables.iter().map(|(n, t)| (n.as_str(), t)).chain([("_Tables", &tables), ("_Columns", &columns)])
        {
            out.stream(&pack(name, true), &table.bytes(wide))?;
        }
        self.write_strings(&counts, wide, out)?;
        let page = self.code_page;
        let lost = self.summary.properties.values().find_map(|p| match p {
            summary::Property::Text(text) if encode(text, page).is_none() => Some(text.clone()),
            _ => None,
        });
        if let Some(text) = lost {
            return Err(Error::Usage(format!("code page {page} can't hold {text:?}")));
        }
        let summary = self.summary.write(|text| encode(text, page).unwrap_or_default());
        out.stream(summary::STREAM, &summary)
    }

    fn write_strings<O: Read + Write + Seek>(
        &self,
        counts: &[u32],
        wide: bool,
        out: &mut CompoundWriter<O>,
    ) -> Result<()> {
        let mut pool = (self.code_page | if wide { 0x8000_0000 } else { 0 }).to_le_bytes().to_vec();
        let mut data = Vec::new();
        for (text, count) in self.strings.iter().zip(counts).skip(1) {
            let bytes = encode(text, self.code_page)
                .ok_or_else(|| Error::Usage(format!("code page {} can't hold {text:?}", self.code_page)))?;
            if *count > 0xFFFF {
                return Err(Error::Limit(format!("the string {text:?} is used more than 65535 times")));
            }
            // An unused string keeps its number: an empty entry.
            let (length, count) = if *count == 0 { (0, 0) } else { (bytes.len(), *count) };
            let short = |n: usize| (n as u16).to_le_bytes();
            if length > 0xFFFF {
                pool.extend([short(0), short(count as usize)].concat());
                pool.extend([short(length & 0xFFFF), short(length >> 16)].concat());
            } else {
                pool.extend([short(length), short(count as usize)].concat());
            }
            if count > 0 {
                data.extend(bytes);
            }
        }
        out.stream(&pack("_StringPool", true), &pool)?;
        out.stream(&pack("_StringData", true), &data)
    }
}

/// A value as it is stored, for comparing.
pub(crate) fn stored(value: Value, kind: Kind) -> u32 {
    match (value, kind) {
        (Value::Null, _) => 0,
        (Value::Int(n), Kind::Short) => (n + 0x8000) as u32 & 0xFFFF,
        (Value::Int(n), _) => n as u32 ^ 0x8000_0000,
        (Value::Text(id), _) => id.0,
        (Value::Stream, _) => 1,
    }
}

impl Table {
    pub(crate) fn sort(&mut self) {
        let keys = self.keys();
        let kinds: Vec<Kind> = self.columns.iter().map(|c| c.kind).collect();
        let mut rows: Vec<&[Value]> = self.values.chunks_exact(kinds.len()).collect();
        rows.sort_by_cached_key(|row| -> Vec<u32> {
            row[..keys].iter().zip(&kinds).map(|(v, k)| stored(*v, *k)).collect()
        });
        self.values = rows.concat();
    }

    /// Column after column.
    fn bytes(&self, wide: bool) -> Vec<u8> {
        let mut out = Vec::new();
        for (n, column) in self.columns.iter().enumerate() {
            for row in self.rows() {
                let bytes = stored(row[n], column.kind).to_le_bytes();
                out.extend_from_slice(&bytes[..width(column.kind, wide)]);
            }
        }
        out
    }
}

/// Bytes that a value takes.
pub(crate) fn width(kind: Kind, wide: bool) -> usize {
    match kind {
        Kind::Short | Kind::Stream => 2,
        Kind::Long => 4,
        Kind::Text(_) => 2 + usize::from(wide),
    }
}
