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
//! | [`manifest`] | the project file as written, its checks, and its resolved form |
//! | [`payload`] | layers laid over each other, and the one reading of every file |
//! | [`footprint`] | what a product leaves on a machine; differences; the text and JSON forms |
//! | [`targets`] | footprint ⇄ package format, one file or folder a target |
//! | [`icons`] | one picture into every size and form |
//! | [`build`] | all of it in order: nothing appears under its name before it is whole |
//! | [`extract`] | a package's files into a folder |
//! | [`litter`] | what is under way on the disk, and goes when the program is stopped |
//! | [`preview`] | pictures of what people will see: wizards and windows |
//! | [`secret`] | passwords and keys |
//! | [`scan`] | looks through a folder and proposes a manifest |

pub mod build;
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
pub mod litter;
pub mod manifest;
pub mod payload;
pub mod platform;
pub mod preview;
pub mod problem;
pub mod recognise;
pub mod scan;
pub mod secret;
pub mod settings;
mod svg;
pub mod targets;
pub mod wizard;

pub use problem::{Failure, Kind, Problem};
