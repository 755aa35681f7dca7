//! Products from their manifests to their packages: what is said of mistakes, what is planned, what is generated, what is
//! proposed for a folder. One program, so that it is linked once.

mod common;
mod generated;
mod layers;
mod mistakes;
mod plans;
mod recognise;
mod rows;
mod scan;
mod targets;
mod wizard;
