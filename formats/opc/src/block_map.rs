//! The blocks of all parts: each one's hash, and how long it is packed.

use crate::content_types::attribute;
use crate::{Error, Result};
use base64ct::{Base64, Encoding};
use quick_xml::Reader;
use quick_xml::escape::escape;
use quick_xml::events::Event;

/// A part in the map.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct File {
    /// Its name, with slashes.
    pub name: String,
    /// Plain bytes.
    pub size: u64,
    /// How long the part's own record in the archive is.
    pub head: u64,
    /// Its blocks.
    pub blocks: Vec<Block>,
}

/// A block.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Block {
    /// SHA-256 of the plain bytes.
    pub hash: [u8; 32],
    /// How long it is packed; none if it is stored.
    pub packed: Option<u64>,
}

const START: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<BlockMap xmlns=\"http://schemas.microsoft.com/appx/2010/blockmap\" \
                     HashMethod=\"http://www.w3.org/2001/04/xmlenc#sha256\">";

/// The map, written part by part.
#[derive(Debug)]
pub struct Writer(String);

impl Writer {
    pub fn new() -> Self {
        Self(START.to_owned())
    }

    pub fn add(&mut self, file: &File) {
        let name = file.name.replace('/', "\\");
        self.0 += &format!("<File Name=\"{}\" Size=\"{}\" LfhSize=\"{}\">", escape(&name), file.size, file.head);
        for block in &file.blocks {
            self.0 += "<Block Hash=\"";
            self.0 += &Base64::encode_string(&block.hash);
            match block.packed {
                Some(packed) => self.0 += &format!("\" Size=\"{packed}\"/>"),
                None => self.0 += "\"/>",
            }
        }
        self.0 += "</File>";
    }

    pub fn finish(self) -> Vec<u8> {
        (self.0 + "</BlockMap>").into_bytes()
    }
}

/// Reads a map.
///
/// # Errors
/// It is none, or its hashes are of another kind.
pub fn read(bytes: &[u8]) -> Result<Vec<File>> {
    let bad = |e: &dyn std::fmt::Display| Error::at(0, format!("the block map can't be read: {e}"));
    let mut reader = Reader::from_reader(bytes);
    let mut files: Vec<File> = Vec::new();
    let mut is_map = false;
    loop {
        match reader.read_event().map_err(|e| bad(&e))? {
            Event::Start(element) | Event::Empty(element) => {
                let get = |name: &str| attribute(&element, name).map_err(|e| bad(&e));
                let number = |name: &str| -> Result<Option<u64>> {
                    get(name)?.map(|text| text.parse().map_err(|_| bad(&"a number is none"))).transpose()
                };
                match element.local_name().as_ref() {
                    b"BlockMap" => {
                        let method = get("HashMethod")?.unwrap_or_default();
                        if method != "http://www.w3.org/2001/04/xmlenc#sha256" {
                            return Err(Error::Unsupported(format!("the blocks are hashed by {method:?}")));
                        }
                        is_map = true;
                    }
                    b"File" => {
                        let name = get("Name")?.unwrap_or_default().replace('\\', "/");
                        let (size, head) = (number("Size")?.unwrap_or(0), number("LfhSize")?.unwrap_or(0));
                        files.push(File { name, size, head, blocks: Vec::new() });
                    }
                    b"Block" => {
                        let text = get("Hash")?.unwrap_or_default();
                        let hash = Base64::decode_vec(&text).ok().and_then(|hash| hash.try_into().ok());
                        let hash = hash.ok_or_else(|| bad(&"a hash is none"))?;
                        let block = Block { hash, packed: number("Size")? };
                        files.last_mut().ok_or_else(|| bad(&"a block belongs to no file"))?.blocks.push(block);
                    }
                    _ => {}
                }
            }
            Event::Eof if is_map => return Ok(files),
            Event::Eof => return Err(bad(&"it is none")),
            _ => {}
        }
    }
}
