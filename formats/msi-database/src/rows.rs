//! Rows of the standard tables as types, made from `schema.txt`: a column is named, never counted.

use crate::database::{Database, Value};

/// A row of a table, with a field for each column: text is empty and a number missing where the column has nothing.
pub trait Row<'d>: Sized {
    /// The table's name.
    const TABLE: &'static str;
    /// The columns' names, in the order of the schema.
    const COLUMNS: &'static [&'static str];
    /// A row out of its cells.
    fn read(cells: &Cells<'d, '_>) -> Self;
    /// The cells, in the order of the schema; strings that the database lacks are added.
    fn values(&self, db: &mut Database) -> Vec<Value>;
}

/// The cells of a row, found by their columns' names: a database of somebody else's may have other columns, or the same
/// ones in another order.
pub struct Cells<'d, 'p> {
    pub(crate) db: &'d Database,
    /// Where each column of the schema is.
    pub(crate) places: &'p [Option<usize>],
    pub(crate) row: &'d [Value],
}

impl<'d> Cells<'d, '_> {
    fn cell(&self, column: usize) -> Option<Value> {
        self.row.get((*self.places.get(column)?)?).copied()
    }

    /// The text in a column, by its number in the schema.
    pub fn text(&self, column: usize) -> &'d str {
        self.cell(column).map_or("", |value| self.db.str(value))
    }

    /// A number that is always there; 0 where a damaged row lacks it.
    pub fn number(&self, column: usize) -> i32 {
        self.number_or_none(column).unwrap_or(0)
    }

    /// A number.
    pub fn number_or_none(&self, column: usize) -> Option<i32> {
        self.cell(column).and_then(|value| self.db.int(value))
    }
}

include!(concat!(env!("OUT_DIR"), "/rows.rs"));

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::{Column, Kind, TABLES};

    #[test]
    fn a_row_is_read_as_it_was_added() {
        let mut db = Database::new();
        let written = File {
            file: "F1",
            component: "C1",
            file_name: "A~1.TXT|a b.txt",
            file_size: 70_000,
            version: "",
            language: "",
            attributes: None,
            sequence: 3,
        };
        db.add(&written).expect("added");
        let text: String = written.file_name.to_owned();
        db.add(&Shortcut {
            shortcut: "S",
            directory: "D",
            name: &text,
            component: "C1",
            target: "T",
            ..Default::default()
        })
        .expect("added");
        assert_eq!(db.each::<File>().collect::<Vec<_>>(), [written]);
        let shortcut = db.each::<Shortcut>().next().expect("a row");
        assert_eq!((shortcut.name, shortcut.hotkey, shortcut.arguments), (written.file_name, None, ""));
    }

    #[test]
    fn every_row_has_the_columns_of_its_table() {
        fn same<'d, R: Row<'d>>() {
            let names: Vec<&str> = TABLES[R::TABLE].iter().map(|(column, _)| column.name.as_str()).collect();
            assert_eq!(names, R::COLUMNS);
        }
        same::<File>();
        same::<ControlEvent>();
        same::<Validation>();
        same::<Binary>();
    }

    #[test]
    fn columns_are_found_by_name_whatever_their_order() {
        let column =
            |name: &str, kind| Column { name: name.into(), kind, key: false, nullable: true, localizable: false };
        let mut db = Database::new();
        db.create(
            "Property",
            vec![column("Value", Kind::Text(0)), column("Own", Kind::Short), column("Property", Kind::Text(72))],
        );
        let row = [db.text("2.4.0"), Value::Int(7), db.text("ProductVersion")];
        db.insert("Property", &row).expect("inserted");
        let read: Vec<Property> = db.each().collect();
        assert_eq!(read, [Property { property: "ProductVersion", value: "2.4.0" }]);
        db.create("Media", vec![column("Cabinet", Kind::Text(255))]);
        let row = [db.text("#a.cab")];
        db.insert("Media", &row).expect("inserted");
        let media: Vec<Media> = db.each().collect();
        assert_eq!((media[0].disk_id, media[0].cabinet, media[0].source), (0, "#a.cab", ""));
    }
}
