//! Windows Installer databases (MSI): a compound file whose streams hold tables, a pool of strings, a summary, and
//! whatever else a package brings (cabinets, icons).
//!
//! - [`compound`]: the container ([MS-CFB]), reader and streaming writer.
//! - [`names`]: how stream names are packed.
//! - [`schema`]: the standard tables with their columns and rules.
//! - [`rows`]: a row of each standard table as a type.
//! - [`database`]: tables and strings in memory; [`read`] and [`mod@write`] move them from and to the container.
//! - [`summary`]: the summary information ([MS-OLEPS] property set).
//! - [`signature`]: what of a package is signed, and where the signature stands.
//! - [`check`]: finds what Windows refuses though other readers let it pass.
//!
//! ```
//! use msi_database::{database::Database, rows::Property};
//! # fn main() -> msi_database::Result<()> {
//! let mut db = Database::new();
//! db.add(&Property { property: "ProductName", value: "Combwright" })?;
//! let rows: Vec<Property> = db.each().collect();
//! assert_eq!(rows[0].value, "Combwright");
//! # Ok(())
//! # }
//! ```

pub mod check;
pub mod compound;
pub mod database;
pub mod names;
pub mod read;
pub mod rows;
pub mod schema;
pub mod signature;
pub mod summary;
pub mod write;

pub use format_error::{Error, Result};
