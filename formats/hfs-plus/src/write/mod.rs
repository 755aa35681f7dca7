//! The writer. Sizes are known before bytes are: so everything has its place first ([`Builder`]), and then the volume
//! streams from its first byte to its last, without ever going back ([`Writer`]).
//!
//! Every file is in one piece. There is no journal, and nothing depends on the clock or the machine.

mod layout;
mod tree;

pub use layout::{Layout, Writer};

use crate::structs::{cnid, finder};
use crate::{Error, Result, name};
use std::collections::HashMap;

/// Bytes of a block.
pub const BLOCK: u64 = 4096;

/// The largest value of an attribute, bytes: as much as stands in the tree itself.
pub const LARGEST_ATTRIBUTE: usize = 3802;

/// What a volume is told besides its contents.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Seconds since 1970 that the volume itself bears.
    pub time: u32,
    /// Whether its window opens when it appears.
    pub opens: bool,
    /// Tells it apart from others of the same name.
    pub id: u64,
    /// Blocks that stay free.
    pub free_blocks: u32,
}

/// What stands beside a name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Meta {
    /// Permission bits, without the kind.
    pub mode: u16,
    /// The owner's number.
    pub owner: u32,
    /// The group's number.
    pub group: u32,
    /// Seconds since 1970.
    pub time: u32,
    /// Four letters that say what it is, and four that say whose; zeros for nothing.
    pub kind: [u8; 8],
    /// See [`finder`].
    pub finder: u16,
}

impl Meta {
    /// A file with these permissions.
    pub fn file(mode: u16) -> Self {
        Self { mode, ..Self::default() }
    }

    /// A folder with these permissions.
    pub fn folder(mode: u16) -> Self {
        Self { mode, ..Self::default() }
    }
}

enum What {
    Folder { valence: u32 },
    File { size: u64 },
    Link { target: Vec<u8> },
}

struct Item {
    parent: u32,
    name: Vec<u16>,
    meta: Meta,
    what: What,
    has_attributes: bool,
}

struct Attribute {
    cnid: u32,
    name: Vec<u16>,
    value: Vec<u8>,
}

/// Collects what a volume will hold, in the order in which its bytes will come.
pub struct Builder {
    options: Options,
    /// The root first; number `n` is [`cnid::FIRST`]` + n - 1`.
    items: Vec<Item>,
    folders: HashMap<String, u32>,
    attributes: Vec<Attribute>,
}

fn index(cnid: u32) -> usize {
    if cnid == cnid::ROOT { 0 } else { (cnid - cnid::FIRST) as usize + 1 }
}

fn number(index: usize) -> u32 {
    if index == 0 { cnid::ROOT } else { cnid::FIRST + index as u32 - 1 }
}

impl Builder {
    /// An empty volume.
    ///
    /// # Errors
    /// [`Error::Usage`] for a name that no volume can have (see [`name::stored`]).
    pub fn new(volume: &str, options: Options) -> Result<Self> {
        let meta = Meta { mode: 0o755, time: options.time, ..Meta::default() };
        let what = What::Folder { valence: 0 };
        let root = Item { parent: cnid::ROOT_PARENT, name: name::stored(volume)?, meta, what, has_attributes: false };
        let folders = HashMap::from([(String::new(), cnid::ROOT)]);
        Ok(Self { options, items: vec![root], folders, attributes: Vec::new() })
    }

    fn add(&mut self, path: &str, meta: Meta, what: What) -> Result<u32> {
        let (parent, last) = path.rsplit_once('/').unwrap_or(("", path));
        let parent =
            *self.folders.get(parent).ok_or_else(|| Error::Usage(format!("{path}: its folder has not been added")))?;
        let name = name::stored(last)?;
        if self.items.len() >= (u32::MAX - cnid::FIRST) as usize {
            return Err(Error::Limit("more names than a volume can count".into()));
        }
        if let What::Folder { valence } = &mut self.items[index(parent)].what {
            *valence += 1;
        }
        self.items.push(Item { parent, name, meta, what, has_attributes: false });
        Ok(number(self.items.len() - 1))
    }

    /// Adds a folder, whose own folder must be there already; gives its number.
    ///
    /// # Errors
    /// [`Error::Usage`] for a name that can't be stored.
    pub fn folder(&mut self, path: &str, meta: Meta) -> Result<u32> {
        let cnid = self.add(path, meta, What::Folder { valence: 0 })?;
        self.folders.insert(path.to_owned(), cnid);
        Ok(cnid)
    }

    /// Adds a file of so many bytes, which [`Writer::data`] will bring in the order of these calls.
    ///
    /// # Errors
    /// As [`Self::folder`].
    pub fn file(&mut self, path: &str, size: u64, meta: Meta) -> Result<u32> {
        self.add(path, meta, What::File { size })
    }

    /// Adds a symbolic link.
    ///
    /// # Errors
    /// As [`Self::folder`].
    pub fn link(&mut self, path: &str, target: &str, meta: Meta) -> Result<u32> {
        let meta = Meta { kind: *b"slnkrhap", ..meta };
        self.add(path, meta, What::Link { target: target.as_bytes().to_vec() })
    }

    /// Gives something an extended attribute.
    ///
    /// # Errors
    /// [`Error::Usage`] for a value above [`LARGEST_ATTRIBUTE`] or a name above 127 units.
    pub fn attribute(&mut self, cnid: u32, name: &str, value: &[u8]) -> Result<()> {
        let units: Vec<u16> = name.encode_utf16().collect();
        if units.is_empty() || units.len() > 127 {
            return Err(Error::Usage(format!("{name:?} can't be an attribute's name: it needs 1 to 127 units")));
        }
        if value.len() > LARGEST_ATTRIBUTE {
            let why = format!("the attribute {name} has {} of at most {LARGEST_ATTRIBUTE} bytes", value.len());
            return Err(Error::Usage(why));
        }
        let item = self.items.get_mut(index(cnid));
        item.ok_or_else(|| Error::Usage(format!("{cnid} has not been added")))?.has_attributes = true;
        self.attributes.push(Attribute { cnid, name: units, value: value.to_vec() });
        Ok(())
    }

    /// Gives the volume the picture of its file `.VolumeIcon.icns`.
    pub fn has_icon(&mut self) {
        self.items[0].meta.finder |= finder::CUSTOM_ICON;
    }

    /// Gives everything its place.
    ///
    /// # Errors
    /// [`Error::Usage`] for two names in one folder that the order takes for the same; [`Error::Limit`] for more than a
    /// volume can hold (16 TiB).
    pub fn lay_out(self) -> Result<Layout> {
        Layout::new(self)
    }
}
