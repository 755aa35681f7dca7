//! A database in memory: tables of values, and the strings that they share.

use crate::rows::{self, Cells, Row};
use crate::schema::{self, Column, Kind};
use crate::summary::Summary;
use crate::{Error, Result};
use indexmap::IndexSet;
use std::collections::BTreeMap;

/// A value in a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Value {
    /// Nothing.
    Null,
    /// A number.
    Int(i32),
    /// A string of the database.
    Text(TextId),
    /// A stream, named after the table and the row's key.
    Stream,
}

/// A string of a database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TextId(pub(crate) u32);

/// A table.
#[derive(Debug, Clone)]
pub struct Table {
    pub(crate) columns: Vec<Column>,
    /// Row after row.
    pub(crate) values: Vec<Value>,
}

impl Table {
    /// Its columns.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// Its rows.
    pub fn rows(&self) -> impl ExactSizeIterator<Item = &[Value]> {
        self.values.chunks_exact(self.columns.len())
    }

    /// How many columns at the front are the key.
    pub fn keys(&self) -> usize {
        self.columns.iter().take_while(|c| c.key).count()
    }
}

/// A database.
#[derive(Debug, Clone)]
pub struct Database {
    /// The code page of its strings: 65001 for UTF-8.
    pub code_page: u32,
    /// The summary information.
    pub summary: Summary,
    pub(crate) strings: IndexSet<Box<str>>,
    pub(crate) tables: BTreeMap<String, Table>,
}

impl Default for Database {
    fn default() -> Self {
        Self::new()
    }
}

impl Database {
    /// An empty one.
    pub fn new() -> Self {
        // String 0 stands for nothing.
        let strings = IndexSet::from_iter([Box::from("")]);
        Self { code_page: 65001, summary: Summary::default(), strings, tables: BTreeMap::new() }
    }

    /// A string as a value; an empty one is nothing.
    pub fn text(&mut self, text: &str) -> Value {
        match self.strings.get_index_of(text) {
            Some(0) => Value::Null,
            Some(n) => Value::Text(TextId(n as u32)),
            None => Value::Text(TextId(self.strings.insert_full(text.into()).0 as u32)),
        }
    }

    /// The string of a value; empty for all that is none.
    pub fn str(&self, value: Value) -> &str {
        match value {
            Value::Text(id) => self.strings.get_index(id.0 as usize).map_or("", |s| s),
            Value::Null | Value::Int(_) | Value::Stream => "",
        }
    }

    /// The database's own copy of a text; `None` if it has none such.
    pub fn known(&self, text: &str) -> Option<&str> {
        self.strings.get(text).map(|s| &**s)
    }

    /// The number of a value.
    pub fn int(&self, value: Value) -> Option<i32> {
        if let Value::Int(n) = value { Some(n) } else { None }
    }

    /// Adds a table with columns of its own, if it is not there yet.
    pub fn create(&mut self, table: &str, columns: Vec<Column>) {
        self.tables.entry(table.into()).or_insert(Table { columns, values: Vec::new() });
    }

    /// Adds a standard table without rows, if it is not there yet.
    ///
    /// # Errors
    /// No standard table has this name.
    pub fn create_standard(&mut self, table: &str) -> Result<()> {
        let standard = schema::TABLES.get(table);
        let standard = standard.ok_or_else(|| Error::Usage(format!("there is no table {table}")))?;
        self.create(table, standard.iter().map(|(column, _)| column.clone()).collect());
        Ok(())
    }

    /// Adds a row to a table; a standard one is made at its first row.
    ///
    /// # Errors
    /// A table that is not known; a value that its column can't hold.
    pub fn insert(&mut self, table: &str, row: &[Value]) -> Result<()> {
        if !self.tables.contains_key(table) {
            self.create_standard(table)?;
        }
        let columns = &self.tables[table].columns;
        if columns.len() != row.len() {
            return Err(Error::Usage(format!("{table} has {} columns, not {}", columns.len(), row.len())));
        }
        for (column, value) in columns.iter().zip(row) {
            let fits = match (value, column.kind) {
                (Value::Null, _) => column.nullable,
                (Value::Int(n), Kind::Short) => (-32767..=32767).contains(n),
                (Value::Int(n), Kind::Long) => *n != i32::MIN,
                (Value::Text(_), Kind::Text(_)) | (Value::Stream, Kind::Stream) => true,
                (Value::Int(_) | Value::Text(_) | Value::Stream, _) => false,
            };
            if !fits {
                let text = self.str(*value);
                return Err(Error::Usage(format!("{table}.{} can't hold {value:?} {text:?}", column.name)));
            }
        }
        if let Some(table) = self.tables.get_mut(table) {
            table.values.extend_from_slice(row);
        }
        Ok(())
    }

    /// The tables, by name.
    pub fn tables(&self) -> impl Iterator<Item = (&str, &Table)> {
        self.tables.iter().map(|(name, table)| (name.as_str(), table))
    }

    /// A table.
    pub fn table(&self, name: &str) -> Option<&Table> {
        self.tables.get(name)
    }

    /// A table's rows; none if there is no such table.
    pub fn rows(&self, table: &str) -> impl Iterator<Item = &[Value]> {
        self.tables.get(table).into_iter().flat_map(Table::rows)
    }

    /// The rows of a standard table, with columns by their names.
    pub fn each<'d, R: Row<'d>>(&'d self) -> impl Iterator<Item = R> {
        self.each_in(R::TABLE)
    }

    /// The same of a table that has another one's columns.
    pub fn each_in<'d, R: Row<'d>>(&'d self, table: &str) -> impl Iterator<Item = R> {
        let table = self.tables.get(table);
        let place = |name: &&str| table.and_then(|t| t.columns.iter().position(|c| c.name == **name));
        let places: Vec<Option<usize>> = R::COLUMNS.iter().map(place).collect();
        table.into_iter().flat_map(Table::rows).map(move |row| R::read(&Cells { db: self, places: &places, row }))
    }

    /// Adds a row; a standard table is made at its first one.
    ///
    /// # Errors
    /// A value that its column can't hold.
    pub fn add<'d, R: Row<'d>>(&mut self, row: &R) -> Result<()> {
        self.add_in(R::TABLE, row)
    }

    /// The same to a table that has another one's columns.
    ///
    /// # Errors
    /// As [`Self::add`]; a table with other columns.
    pub fn add_in<'d, R: Row<'d>>(&mut self, table: &str, row: &R) -> Result<()> {
        let values = row.values(self);
        self.insert(table, &values)
    }

    /// All strings, with the empty one first.
    pub fn strings(&self) -> impl ExactSizeIterator<Item = &str> {
        self.strings.iter().map(|s| &**s)
    }

    /// A value of the Property table.
    pub fn property(&self, name: &str) -> Option<&str> {
        self.each::<rows::Property>().find(|row| row.property == name).map(|row| row.value)
    }

    /// The name of the stream that a row of a table with a stream column has.
    pub fn stream_name(&self, table: &str, row: &[Value]) -> String {
        let keys = self.tables.get(table).map_or(0, Table::keys);
        let mut name = table.to_owned();
        for key in &row[..keys.min(row.len())] {
            name.push('.');
            match key {
                Value::Int(n) => name.push_str(&n.to_string()),
                other => name.push_str(self.str(*other)),
            }
        }
        name
    }
}
