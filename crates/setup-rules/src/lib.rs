//! What setup programs decide, as functions that ask no system: the head on the customer's machine runs them, the tool
//! checks packages with them, and tests see them on any machine. No standard library, no memory of its own; texts are
//! UTF-16 code units, as Windows has them.
//!
//! | room | what it decides |
//! |---|---|
//! | [`version`] | which of two versions is the newer one |
//! | [`language`] | which of a product's languages a system's is |
//! | [`path`] | whether a path stays in the product's folder |
//! | [`trust`] | what an elevated run may take from a record that others could have written |
#![no_std]

pub mod language;
pub mod path;
pub mod trust;
pub mod version;
