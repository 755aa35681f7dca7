//! Windows Installer databases (MSI): a compound file whose streams hold tables, a pool of strings, a summary, and
//! whatever else a package brings (cabinets, icons).
//!
//! - [`compound`]: the container ([MS-CFB]), reader and streaming writer.
//! - [`names`]: how stream names are packed.
//! - [`schema`]: the standard tables with their columns and rules.
//! - [`database`]: tables and strings in memory; [`read`] and [`mod@write`] move them from and to the container.
//! - [`summary`]: the summary information ([MS-OLEPS] property set).
//! - [`strict`]: finds what Windows refuses though other readers let it pass.
//!
//! ```
//! use msi_database::database::{Database, Value};
//! # fn main() -> msi_database::Result<()> {
//! let mut db = Database::new();
//! let row = [db.text("ProductName"), db.text("Combwright")];
//! db.insert("Property", &row)?;
//! let rows: Vec<&[Value]> = db.rows("Property").collect();
//! assert_eq!(db.str(rows[0][1]), "Combwright");
//! # Ok(())
//! # }
//! ```

pub mod compound;
pub mod database;
mod error;
pub mod names;
pub mod read;
pub mod schema;
pub mod strict;
pub mod summary;
pub mod write;

pub use error::{Error, Result};
