//! Writes images.

use crate::names::Name;
use crate::read::{Entry, Image};
use crate::{MAGIC, VERSION, hash};
use format_error::{Error, Result};
use read_at::ReadAt;
use std::collections::{BTreeMap, HashMap};
use std::io::Write;

/// Contents are copied by so many bytes at a time.
const PIECE: usize = 1 << 18;

/// Where the content of a file comes from.
#[derive(Debug, Clone)]
pub enum Content<'i> {
    /// From memory.
    Memory(Vec<u8>),
    /// From an entry of the image that is copied from.
    Copied(Entry<'i>),
}

/// An image that is put together; its contents are not held.
#[derive(Default)]
pub struct Writer<'i> {
    files: BTreeMap<String, Content<'i>>,
}

/// Texts of the index, each once.
struct Strings {
    places: HashMap<String, u32>,
    bytes: Vec<u8>,
}

impl Strings {
    fn new() -> Self {
        Self { places: HashMap::from([(String::new(), 0)]), bytes: vec![0] }
    }

    fn add(&mut self, text: &str) -> u32 {
        if let Some(place) = self.places.get(text) {
            return *place;
        }
        let place = self.bytes.len() as u32;
        self.places.insert(text.to_owned(), place);
        self.bytes.extend(text.as_bytes());
        self.bytes.push(0);
        place
    }
}

/// What the index says of an entry.
struct Row {
    name: String,
    parts: [u32; 4],
    offset: u64,
    size: u64,
}

/// One of the tree's contents, which name other rows.
enum Branch {
    /// The rows of these names.
    Rows(Vec<String>),
    /// Bytes.
    Bytes(Vec<u8>),
}

/// The value of a kind, as the index has it: without the zeros before it.
fn attribute(kind: u8, value: u64, out: &mut Vec<u8>) {
    let bytes = value.to_be_bytes();
    let zeros = (value.leading_zeros() / 8) as usize;
    if let Some(more) = 7usize.checked_sub(zeros) {
        out.push(kind << 3 | more as u8);
        out.extend(&bytes[zeros..]);
    }
}

fn numbers(all: impl IntoIterator<Item = u32>) -> Vec<u8> {
    all.into_iter().flat_map(u32::to_le_bytes).collect()
}

impl<'i> Writer<'i> {
    /// An image without anything.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds a file of a module, `/module/folder/name.extension`; in place of one of that name, if there is one.
    ///
    /// # Errors
    /// It is no such name.
    pub fn add(&mut self, name: &str, content: Content<'i>) -> Result<()> {
        if Name::of(name).is_none_or(|name| name.is_of_a_tree()) {
            return Err(Error::Usage(format!("{name:?} is no name of a module's file")));
        }
        self.files.insert(name.to_owned(), content);
        Ok(())
    }

    /// The folders of the tree, with the names of their entries.
    fn folders(&self) -> BTreeMap<String, Vec<String>> {
        let mut folders: BTreeMap<String, Vec<String>> = BTreeMap::new();
        let mut add = |folder: String, inside: String| {
            let all = folders.entry(folder).or_default();
            // Files come in the order of their names: one folder's follow each other.
            if all.last() != Some(&inside) {
                all.push(inside);
            }
        };
        for name in self.files.keys() {
            let ends: Vec<usize> = name.match_indices('/').map(|(at, _)| at).skip(1).chain([name.len()]).collect();
            add("/modules".into(), format!("/modules{}", &name[..ends[0]]));
            for (n, pair) in ends.windows(2).enumerate() {
                let is_file = n + 2 == ends.len();
                let inside = &name[..pair[1]];
                add(
                    format!("/modules{}", &name[..pair[0]]),
                    if is_file { inside.into() } else { format!("/modules{inside}") },
                );
            }
        }
        folders
    }

    /// The packages, with the modules that have them, and whether these have only packages below.
    fn packages(&self) -> BTreeMap<String, BTreeMap<&str, bool>> {
        let mut packages: BTreeMap<String, BTreeMap<&str, bool>> = BTreeMap::new();
        for name in self.files.keys().filter_map(|name| Name::of(name)) {
            if name.folder.is_empty() || name.folder.starts_with("META-INF") {
                continue;
            }
            let dotted = name.folder.replace('/', ".");
            for (at, _) in dotted.match_indices('.') {
                packages.entry(dotted[..at].to_owned()).or_default().entry(name.module).or_insert(true);
            }
            packages.entry(dotted).or_default().insert(name.module, false);
        }
        packages
    }

    /// Writes it; what is copied comes from `source`.
    ///
    /// # Errors
    /// A content can't be read, it is longer than the format can say, or the medium fails.
    pub fn write<R: ReadAt>(&self, source: &Image<R>, out: &mut impl Write) -> Result<()> {
        let mut strings = Strings::new();
        let (mut rows, mut branches, mut offset) = (Vec::new(), Vec::new(), 0u64);
        for (name, content) in &self.files {
            let parts = Name::of(name).ok_or_else(|| Error::Usage(format!("{name:?} is no name")))?;
            let size = match content {
                Content::Memory(bytes) => bytes.len() as u64,
                Content::Copied(entry) => entry.size,
            };
            let parts = [parts.module, parts.folder, parts.base, parts.extension].map(|part| strings.add(part));
            rows.push(Row { name: name.clone(), parts, offset, size });
            offset += size;
        }
        let mut branch = |name: String, parts: [u32; 4], branch: Branch, size: u64| {
            rows.push(Row { name, parts, offset, size });
            branches.push(branch);
            offset += size;
        };
        for (folder, inside) in self.folders().into_iter().rev() {
            let parts = match folder.strip_prefix("/modules/") {
                Some(path) => [strings.add("modules"), 0, strings.add(path), 0],
                None => [0, 0, strings.add(&folder), 0],
            };
            let size = 4 * inside.len() as u64;
            branch(folder, parts, Branch::Rows(inside), size);
        }
        let packages = self.packages();
        for (package, modules) in &packages {
            let mut modules: Vec<(bool, &str)> = modules.iter().map(|(module, empty)| (*empty, *module)).collect();
            modules.sort_unstable();
            let bytes = numbers(modules.iter().flat_map(|(empty, module)| [u32::from(*empty), strings.add(module)]));
            let parts = [strings.add("packages"), 0, strings.add(package), 0];
            let size = bytes.len() as u64;
            branch(format!("/packages/{package}"), parts, Branch::Bytes(bytes), size);
        }
        let all: Vec<String> = packages.keys().map(|package| format!("/packages/{package}")).collect();
        let size = 4 * all.len() as u64;
        branch("/packages".into(), [0, 0, strings.add("/packages"), 0], Branch::Rows(all), size);

        // The first byte of the index ends an entry that has nothing.
        let mut locations = vec![0];
        let mut place_of: HashMap<&str, u32> = HashMap::new();
        let mut starts = Vec::with_capacity(rows.len());
        for row in &rows {
            let start = locations.len() as u32;
            place_of.insert(&row.name, start);
            starts.push(start);
            let values = row.parts.map(u64::from).into_iter().chain([row.offset, 0, row.size]);
            for (kind, value) in (1..).zip(values) {
                if value > 0 {
                    attribute(kind, value, &mut locations);
                }
            }
            locations.push(0);
        }
        if u32::try_from(locations.len()).is_err() || u32::try_from(strings.bytes.len()).is_err() {
            return Err(Error::Limit("the index of the image is too long".into()));
        }
        let names: Vec<Vec<u8>> = rows.iter().map(|row| row.name.as_bytes().to_vec()).collect();
        let (table, places) = hash::perfect(&names)?;
        let header = [
            MAGIC,
            VERSION,
            0,
            rows.len() as u32,
            table.len() as u32,
            locations.len() as u32,
            strings.bytes.len() as u32,
        ];
        out.write_all(&numbers(header))?;
        out.write_all(&numbers(table.iter().map(|n| *n as u32)))?;
        out.write_all(&numbers(places.iter().map(|n| n.map_or(0, |n| starts[n]))))?;
        out.write_all(&locations)?;
        out.write_all(&strings.bytes)?;
        let mut piece = vec![0; PIECE];
        for content in self.files.values() {
            match content {
                Content::Memory(bytes) => out.write_all(bytes)?,
                // Packages pack it better than it is packed there.
                Content::Copied(entry) if entry.is_packed() => out.write_all(&source.content(entry)?)?,
                Content::Copied(entry) => {
                    let (mut at, mut left) = source.range(entry);
                    while left > 0 {
                        let now = left.min(PIECE as u64);
                        source.source().read_exact_at(&mut piece[..now as usize], at)?;
                        out.write_all(&piece[..now as usize])?;
                        (at, left) = (at + now, left - now);
                    }
                }
            }
        }
        for branch in &branches {
            match branch {
                Branch::Bytes(bytes) => out.write_all(bytes)?,
                Branch::Rows(rows) => {
                    // Every row that is named was written above.
                    out.write_all(&numbers(rows.iter().filter_map(|name| place_of.get(name.as_str()).copied())))?;
                }
            }
        }
        Ok(())
    }
}
