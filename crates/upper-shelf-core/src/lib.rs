//! The core: turns a manifest and built files into packages, by way of the [footprint], and packages back
//! into footprints. It prints nothing, knows no arguments, and ends no process.
//!
//! ```text
//! manifest ─resolve─▶ product ─gather─▶ payload ─lay out─▶ FOOTPRINT ─write─▶ package
//!                                                             ▲  ◀────read──────┘
//! ```
//!
//! | room | what is there |
//! |---|---|
//! | [`platform`], [`content`], [`recognise`] | neutral ground: platforms, hashes, what a file is by its first bytes |
//! | [`footprint`] | what a product leaves on a machine; differences; the text and JSON forms |
//! | [`problem`] | what is wrong, where, why, and what to write instead |
//! | [`settings`] | what only one format has, with every default taken |
//! | [`icons`], [`wizard`] | one picture into every size and form; words and pages of wizards |
//! | [`payload`] | layers laid over each other, and the one reading of every file |
//! | [`manifest`] | the project file as written, its checks, and its resolved form |
//! | [`targets`] | footprint ⇄ package format, one file or folder a target |
//! | [`packaging`] | all of it in order: nothing appears under its name before it is whole |
//! | [`extract`], [`preview`], [`scan`] | a package's files into a folder; pictures of what people will see; a manifest proposed for a folder |
//! | [`litter`], [`secret`] | what is under way on the disk; passwords and keys |
//!
//! Another program makes a package, and reads it back, like this:
//!
//! ```
//! use upper_shelf_core::{manifest, packaging, platform::Platform, targets};
//!
//! # fn main() -> Result<(), upper_shelf_core::Failure> {
//! # let folder = tempfile::tempdir().unwrap();
//! # std::fs::create_dir(folder.path().join("built")).unwrap();
//! # std::fs::write(folder.path().join("built/hives.txt"), "hive A").unwrap();
//! # std::fs::write(folder.path().join("shelf.toml"), r#"
//! # [product]
//! # id = "works.fernhollow.hives"
//! # name = "Hives"
//! # version = "1.0.0"
//! # publisher = "Fernhollow Apiary Works"
//! # [[layer]]
//! # from = "built"
//! # [targets]
//! # build = ["zip"]
//! # "#).unwrap();
//! let project = manifest::load(folder.path(), &|_| None)?;
//! let (host, keys_elsewhere) = (Platform::LinuxX64, false);
//! let options = packaging::Options { platforms: None, targets: None, host, epoch: None, output: None, keys_elsewhere };
//! let plans = packaging::plan(&project, &options)?;
//! let packages = folder.path().join("packages");
//! let built = packaging::build(&project, plans, &packages, 1, None, &Quiet)?;
//!
//! let (format, footprint) = targets::read(&built[0].file, targets::Depth::Contents, 1)?;
//! assert_eq!(format.name(), "zip");
//! assert_eq!(footprint.tree[0].path().as_str(), "hives.txt");
//! # Ok(())
//! # }
//!
//! struct Quiet;
//! impl packaging::Progress for Quiet {
//!     fn begin(&self, _packages: &[&str], _bytes: u64) {}
//!     fn advance(&self, _bytes: u64) {}
//!     fn verifying(&self) {}
//!     fn end(&self) {}
//! }
//! ```

mod app_manifest;
pub mod as_installed;
pub mod budget;
mod command_line;
pub mod content;
mod dates;
pub mod extract;
mod font;
pub mod footprint;
mod guid;
pub mod icons;
mod input;
mod languages;
mod layout;
pub mod libraries;
pub mod litter;
pub mod manifest;
pub mod packaging;
pub mod payload;
pub mod platform;
pub mod preview;
pub mod problem;
pub mod recognise;
pub mod runtimes;
pub mod scan;
mod schema;
pub mod secret;
pub mod settings;
pub mod signing;
pub mod sources;
mod svg;
pub mod targets;
pub mod wizard;
mod xml;

pub use problem::{Failure, Kind, Problem};
