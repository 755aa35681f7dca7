//! A strict check of everything that a volume says twice: no other tool looks at all of it. An empty answer means that
//! any driver will find what is there.

mod blocks;
mod catalog;
mod trees;

use crate::Result;
use crate::read::Volume;
use crate::structs::*;
use read_at::ReadAt;
use zerocopy::IntoBytes;

/// After so many findings nobody reads on.
const MOST: usize = 100;

/// What was found, each in a sentence.
#[derive(Default)]
pub(crate) struct Findings(Vec<String>);

impl Findings {
    pub(crate) fn add(&mut self, fault: impl Into<String>) {
        if self.0.len() < MOST {
            self.0.push(fault.into());
        }
    }

    /// Notes where two numbers that have to be equal are not.
    pub(crate) fn same<N: PartialEq + std::fmt::Display>(&mut self, what: &str, said: N, found: N) {
        if said != found {
            self.add(format!("{what}: {said} is declared, {found} was found"));
        }
    }
}

/// Looks at header, trees, catalog, attributes and the bitmap of blocks; gives what is wrong, at most a hundred.
///
/// # Errors
/// As reading: [`crate::Error::Format`] where there is no going on.
pub fn check<R: ReadAt>(volume: &Volume<R>) -> Result<Vec<String>> {
    let mut findings = Findings::default();
    header(volume, &mut findings)?;
    let mut all = vec![&volume.extents, &volume.catalog];
    all.extend(&volume.attributes);
    for tree in all {
        trees::check(volume, tree, &mut findings)?;
    }
    let found = catalog::check(volume, &mut findings)?;
    blocks::check(volume, found, &mut findings)?;
    Ok(findings.0)
}

fn header<R: ReadAt>(volume: &Volume<R>, findings: &mut Findings) -> Result<()> {
    let header = &volume.header;
    let end = volume.base + volume.length();
    if volume.source.length()? < end {
        findings.add(format!("the volume declares {end} bytes, and there are {}", volume.source.length()?));
        return Ok(());
    }
    let mut copy = [0; size_of::<VolumeHeader>()];
    volume.source.read_exact_at(&mut copy, end - HEADER_AT)?;
    if copy != header.as_bytes() {
        findings.add("the header and its copy at the end differ");
    }
    if header.attributes.get() & UNMOUNTED == 0 {
        findings.add("the volume was not unmounted cleanly");
    }
    if header.free_blocks.get() >= header.blocks.get() {
        findings.add(format!("{} of {} blocks are declared free", header.free_blocks, header.blocks));
    }
    Ok(())
}
