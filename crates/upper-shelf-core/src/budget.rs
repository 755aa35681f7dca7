//! How much a package may take while it is read: names, bytes about files, bytes of files, folders inside folders. A small
//! file can ask for terabytes; whoever wants to read such a one says so (`--limit`).

use std::cell::Cell;
use std::fmt;
use std::io;
use std::ops::Deref;
use std::path::{Path, PathBuf};

/// Names in a package: files, folders, links.
const NAMES: u64 = 300_000;
/// Bytes about files: names, texts, headers, lists, small files that say who the product is.
const METADATA: u64 = 48 << 20;
/// Plain bytes of files that are read, however small the package is.
const PLAIN: u64 = 5 << 30;
/// Plain bytes for each byte of the package.
const RATIO: u64 = 200;
/// Folders inside folders, lists inside lists.
const DEPTH: usize = 128;

/// What is left of a package's limits; each use takes from it.
#[derive(Debug)]
pub struct Budget {
    factor: u64,
    names: Cell<u64>,
    metadata: Cell<u64>,
    plain: Cell<u64>,
    most_plain: u64,
}

/// A limit that a package goes beyond.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exceeded {
    what: &'static str,
    most: u64,
}

impl fmt::Display for Exceeded {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "it has more than {} {}; `--limit` raises the limit", self.most, self.what)
    }
}

impl std::error::Error for Exceeded {}

impl From<Exceeded> for io::Error {
    fn from(e: Exceeded) -> Self {
        Self::other(e)
    }
}

impl Budget {
    /// For a package of so many bytes; every limit is as many times the usual one.
    pub fn new(bytes: u64, factor: u64) -> Self {
        let times = |n: u64| Cell::new(n.saturating_mul(factor));
        let plain = times(PLAIN.max(bytes.saturating_mul(RATIO)));
        let most_plain = plain.get();
        Self { factor, names: times(NAMES), metadata: times(METADATA), plain, most_plain }
    }

    fn spend(left: &Cell<u64>, amount: u64, what: &'static str, most: u64) -> Result<(), Exceeded> {
        let rest = left.get().checked_sub(amount).ok_or(Exceeded { what, most })?;
        left.set(rest);
        Ok(())
    }

    /// One more name.
    ///
    /// # Errors
    /// There are too many, or they are too long together.
    pub fn name(&self, name: &str) -> Result<(), Exceeded> {
        Self::spend(&self.names, 1, "names", self.most_names())?;
        self.metadata(name.len() as u64)
    }

    /// So many more bytes about files.
    ///
    /// # Errors
    /// There are too many.
    pub fn metadata(&self, bytes: u64) -> Result<(), Exceeded> {
        let most = METADATA.saturating_mul(self.factor);
        Self::spend(&self.metadata, bytes, "bytes of names and texts", most)
    }

    /// So many more plain bytes of files.
    ///
    /// # Errors
    /// There are too many.
    pub fn plain(&self, bytes: u64) -> Result<(), Exceeded> {
        Self::spend(&self.plain, bytes, "uncompressed bytes for its size", self.most_plain)
    }

    /// Whether so many plain bytes are left: what would end in the middle need not begin.
    ///
    /// # Errors
    /// They are not.
    pub fn room_for_plain(&self, bytes: u64) -> Result<(), Exceeded> {
        Self::spend(&Cell::new(self.plain.get()), bytes, "uncompressed bytes for its size", self.most_plain)
    }

    /// A file's bytes, each of which counts.
    pub fn meter<R: io::Read>(&self, inner: R) -> Metered<'_, R> {
        Metered { inner, budget: self }
    }

    /// How many names it may have, for readers that count by themselves.
    pub fn most_names(&self) -> u64 {
        NAMES.saturating_mul(self.factor)
    }

    /// How many bytes about files are left.
    pub fn metadata_left(&self) -> u64 {
        self.metadata.get()
    }

    /// How many folders may be inside folders.
    pub fn most_depth(&self) -> usize {
        DEPTH.saturating_mul(usize::try_from(self.factor).unwrap_or(usize::MAX))
    }
}

/// Bytes of a file: each one that passes is taken from what is left.
#[derive(Debug)]
pub struct Metered<'b, R> {
    inner: R,
    budget: &'b Budget,
}

impl<R: io::Read> io::Read for Metered<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(into)?;
        self.budget.plain(n as u64)?;
        Ok(n)
    }
}

/// A package that is read: its file, and what it may take.
#[derive(Debug)]
pub struct Package {
    path: PathBuf,
    /// What is left of its limits.
    pub budget: Budget,
}

impl Package {
    /// A package with so many times the usual limits.
    pub fn new(path: &Path, factor: u64) -> Self {
        let bytes = path.metadata().map_or(0, |m| m.len());
        Self { path: path.to_owned(), budget: Budget::new(bytes, factor) }
    }

    /// One that was made here, from what is known: nothing is held back.
    pub fn of_ours(path: &Path) -> Self {
        Self::new(path, u64::MAX)
    }
}

impl Deref for Package {
    type Target = Path;
    fn deref(&self) -> &Path {
        &self.path
    }
}

impl AsRef<Path> for Package {
    fn as_ref(&self) -> &Path {
        &self.path
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_spent_is_gone_and_the_sentence_says_the_limit() {
        let budget = Budget::new(0, 1);
        assert!((0..NAMES).all(|_| budget.name("hive").is_ok()));
        let said = budget.name("hive").expect_err("too many").to_string();
        assert_eq!(said, "it has more than 300000 names; `--limit` raises the limit");
        assert!(budget.metadata(budget.metadata_left()).is_ok() && budget.metadata(1).is_err());
        assert!(budget.plain(PLAIN).is_ok() && budget.plain(1).is_err());
    }

    #[test]
    fn limits_grow_with_the_package_and_with_the_wish() {
        assert!(Budget::new(1 << 30, 1).plain(200 << 30).is_ok());
        assert!(Budget::new(0, 2).plain(2 * PLAIN).is_ok());
        assert_eq!(Budget::new(0, 3).most_names(), 3 * NAMES);
        let all = Budget::new(u64::MAX, u64::MAX);
        assert!(all.plain(u64::MAX).is_ok() && all.most_depth() == usize::MAX);
    }
}
