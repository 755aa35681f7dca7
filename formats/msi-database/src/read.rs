//! Reads a database out of a compound file.

use crate::compound::Compound;
use crate::database::{Database, Table, TextId, Value};
use crate::names::{pack, unpack};
use crate::schema::{Column, Kind};
use crate::summary::{self, Summary};
use crate::write::{encoding, meta_columns, width};
use crate::{Error, Result};
use std::io::{Read, Seek};

/// What a reader may be led to do.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of one table, or of all strings.
    pub max_table: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { max_table: 256 << 20 }
    }
}

/// A database that was read.
pub struct Package {
    /// It.
    pub database: Database,
    /// Trouble that other readers overlook.
    pub remarks: Vec<String>,
    /// Streams that are no tables: their plain names.
    pub streams: Vec<String>,
}

fn decode(bytes: &[u8], code_page: u32) -> String {
    match (std::str::from_utf8(bytes), encoding(code_page)) {
        (Ok(text), _) if code_page == 65001 || bytes.is_ascii() => text.to_owned(),
        (_, Some(encoding)) => encoding.decode_without_bom_handling(bytes).0.into_owned(),
        (_, None) => encoding_rs::WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned(),
    }
}

/// Reads the database of a package.
///
/// # Errors
/// [`Error::Format`] for damage, with the stream and the offset in it; [`Error::Limit`] beyond the limits.
pub fn read<R: Read + Seek>(compound: &mut Compound<R>, limits: Limits) -> Result<Package> {
    let mut need = |name: &str| {
        let bytes = compound.bytes(&pack(name, true), limits.max_table)?;
        bytes.ok_or_else(|| {
            Error::format(0, format!("there is no stream {name}: so this isn't an installation package"))
        })
    };
    let (pool, data) = (need("_StringPool")?, need("_StringData")?);
    let tables_bytes = need("_Tables")?;
    let columns_bytes = need("_Columns")?;
    let mut remarks = compound.remarks.clone();
    let mut database = Database::new();
    let (counts, wide) = read_strings(&pool, &data, &mut database)?;
    let mut used = vec![0u32; counts.len()];
    let tables = read_table("_Tables", meta_columns("_Tables"), &tables_bytes, wide, &mut used)?;
    let columns = read_table("_Columns", meta_columns("_Columns"), &columns_bytes, wide, &mut used)?;
    for table in [&tables, &columns] {
        remarks.extend(unsorted(table).then(|| "a table that describes tables is not sorted".to_owned()));
    }
    let mut by_table = std::collections::HashMap::<Value, Vec<&[Value]>>::new();
    for row in columns.rows() {
        by_table.entry(row[0]).or_default().push(row);
    }
    for row in tables.rows() {
        let name = database.str(row[0]).to_owned();
        let Some(mut described) = by_table.remove(&row[0]) else {
            return Err(Error::format(0, format!("_Columns has no entry for the table {name:?}")));
        };
        described.sort_by_key(|r| r[1]);
        let columns: Option<Vec<Column>> = described
            .iter()
            .map(|r| Column::from_bits(database.str(r[2]).to_owned(), database.int(r[3])? as u16))
            .collect();
        let columns = columns.filter(|c| !c.is_empty() && c.len() <= 32);
        let columns =
            columns.ok_or_else(|| Error::format(0, format!("_Columns: the table {name:?} has impossible columns")))?;
        let bytes = compound.bytes(&pack(&name, true), limits.max_table)?.unwrap_or_default();
        let table = read_table(&name, columns, &bytes, wide, &mut used)?;
        if unsorted(&table) {
            remarks.push(format!("the rows of {name} aren't sorted by key, or two have the same key"));
        }
        if database.tables.insert(name.clone(), table).is_some() {
            remarks.push(format!("_Tables names {name} twice"));
        }
    }
    for (n, (stated, used)) in counts.iter().zip(&used).enumerate().skip(1) {
        if stated != used {
            let text = database.strings.get_index(n).map_or("", |s| s);
            remarks.push(format!("the string {text:?} is used {used} times, but its count says {stated}"));
        }
    }
    if let Some(bytes) = compound.bytes(summary::STREAM, 1 << 20)? {
        database.summary = Summary::read(&bytes, decode)?;
    }
    let streams = compound.streams().iter().map(|s| unpack(&s.name)).filter(|(_, table)| !table).map(|(name, _)| name);
    let streams = streams.filter(|name| !name.starts_with('\u{5}')).collect();
    Ok(Package { database, remarks, streams })
}

fn read_strings(pool: &[u8], data: &[u8], database: &mut Database) -> Result<(Vec<u32>, bool)> {
    let bad = |at: usize, what: &str| Error::format(at as u64, format!("_StringPool: {what}"));
    let (entries, rest) = pool.as_chunks::<4>();
    let Some((head, entries)) = entries.split_first() else { return Err(bad(0, "cut off")) };
    if !rest.is_empty() {
        return Err(bad(pool.len(), "cut off"));
    }
    let head = u32::from_le_bytes(*head);
    database.code_page = head & 0x7FFF_FFFF;
    let mut counts = vec![0];
    let mut at = 0usize;
    let mut entries = entries.iter().enumerate();
    while let Some((n, entry)) = entries.next() {
        let half =
            |e: &[u8; 4]| (usize::from(u16::from_le_bytes([e[0], e[1]])), u32::from(u16::from_le_bytes([e[2], e[3]])));
        let (mut length, count) = half(entry);
        if length == 0 && count > 0 {
            let Some((_, long)) = entries.next() else { return Err(bad(n * 4 + 4, "a long string has no length")) };
            let (low, high) = half(long);
            length = low | (high as usize) << 16;
        }
        let end = at.checked_add(length).filter(|end| *end <= data.len());
        let end = end.ok_or_else(|| bad(n * 4 + 4, "a string ends past _StringData"))?;
        let mut text = decode(&data[at..end], database.code_page);
        // Numbers must stay what they are: unused and repeated strings get a name that no string has.
        if text.is_empty() || database.strings.contains(text.as_str()) {
            text = format!("{text}\0{n}");
        }
        database.strings.insert(text.into());
        counts.push(count);
        at = end;
    }
    if at != data.len() {
        return Err(Error::format(at as u64, "_StringData: more bytes than the strings have"));
    }
    Ok((counts, head & 0x8000_0000 != 0))
}

fn read_table(name: &str, columns: Vec<Column>, bytes: &[u8], wide: bool, used: &mut [u32]) -> Result<Table> {
    let row: usize = columns.iter().map(|c| width(c.kind, wide)).sum();
    if row == 0 || !bytes.len().is_multiple_of(row) {
        let what = format!("{name}: {} bytes aren't a whole number of rows of {row}", bytes.len());
        return Err(Error::format(bytes.len() as u64, what));
    }
    let rows = bytes.len() / row;
    let mut values = vec![Value::Null; rows * columns.len()];
    let mut begin = 0;
    for (n, column) in columns.iter().enumerate() {
        let width = width(column.kind, wide);
        for (r, raw) in bytes[begin..begin + rows * width].chunks_exact(width).enumerate() {
            let raw = raw.iter().rev().fold(0u32, |n, b| n << 8 | u32::from(*b));
            let value = match (raw, column.kind) {
                (0, _) => Value::Null,
                (raw, Kind::Short) => Value::Int(raw as i32 - 0x8000),
                (raw, Kind::Long) => Value::Int((raw ^ 0x8000_0000) as i32),
                (_, Kind::Stream) => Value::Stream,
                (raw, Kind::Text(_)) => {
                    let at = (begin + r * width) as u64;
                    let count = used.get_mut(raw as usize);
                    *count.ok_or_else(|| Error::format(at, format!("{name}: there is no string {raw}")))? += 1;
                    Value::Text(TextId(raw))
                }
            };
            values[r * columns.len() + n] = value;
        }
        begin += rows * width;
    }
    Ok(Table { columns, values })
}

fn unsorted(table: &Table) -> bool {
    let keys = table.keys();
    let stored = |row: &[Value]| -> Vec<u32> {
        row[..keys].iter().zip(&table.columns).map(|(v, c)| crate::write::stored(*v, c.kind)).collect()
    };
    let mut last: Option<Vec<u32>> = None;
    table.rows().any(|row| {
        let now = stored(row);
        let wrong = last.as_ref().is_some_and(|l| *l >= now);
        last = Some(now);
        wrong
    })
}
