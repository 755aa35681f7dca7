//! Our own table: what the standard ones can't say of programs.

use msi_database::database::{Database, Value};
use msi_database::rows::{Cells, Row};
use msi_database::schema::{Column, Kind};

/// A row of `UpperShelfProgram`: a program of the product.
pub struct ProgramRow<'d> {
    /// The program's key.
    pub program: &'d str,
    /// Its file's path in the payload.
    pub file: &'d str,
    /// The arguments it is always started with, as a command line.
    pub arguments: &'d str,
    /// `home`, `install`, a folder below `install/`, or nothing.
    pub working_folder: &'d str,
    /// 1 for a program of the console, else 0.
    pub console: i32,
}

impl<'d> Row<'d> for ProgramRow<'d> {
    const TABLE: &'static str = "UpperShelfProgram";
    const COLUMNS: &'static [&'static str] = &["Program", "File", "Arguments", "WorkingFolder", "Console"];

    fn read(cells: &Cells<'d, '_>) -> Self {
        let [program, file, arguments, working_folder] = std::array::from_fn(|n| cells.text(n));
        Self { program, file, arguments, working_folder, console: cells.number(4) }
    }

    fn values(&self, db: &mut Database) -> Vec<Value> {
        let texts = [self.program, self.file, self.arguments, self.working_folder].map(|text| db.text(text));
        texts.into_iter().chain([Value::Int(self.console)]).collect()
    }
}

/// The table's columns.
pub fn columns() -> Vec<Column> {
    let kinds = [Kind::Text(72), Kind::Text(0), Kind::Text(0), Kind::Text(0), Kind::Short];
    let column = |(n, (name, kind)): (usize, (&&str, Kind))| Column {
        name: (*name).into(),
        kind,
        key: n == 0,
        nullable: matches!(*name, "Arguments" | "WorkingFolder"),
        localizable: false,
    };
    ProgramRow::COLUMNS.iter().zip(kinds).enumerate().map(column).collect()
}
