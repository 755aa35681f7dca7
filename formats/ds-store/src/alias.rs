//! Alias records, version 2: how a file is named so that it is found again on a volume of the same name and age.

use crate::{Error, Result};

/// A file, by everything that may lead to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alias {
    /// The volume's name.
    pub volume: String,
    /// When the volume was made, seconds since 1904.
    pub volume_created: u32,
    /// The path on the volume, names joined with `/`.
    pub path: String,
    /// The number of the file's folder.
    pub folder: u32,
    /// The file's number.
    pub file: u32,
    /// When the file was made, seconds since 1904.
    pub created: u32,
}

const FIXED: usize = 150;
const END: u16 = 0xFFFF;

/// A text in a field of fixed size, its length in front; characters that old systems lack become `?`.
fn pascal(text: &str, room: usize) -> Vec<u8> {
    let mut bytes: Vec<u8> = text.chars().map(|c| if c.is_ascii() { c as u8 } else { b'?' }).take(room - 1).collect();
    bytes.insert(0, bytes.len() as u8);
    bytes.resize(room, 0);
    bytes
}

fn wide(text: &str) -> Vec<u8> {
    let units: Vec<u16> = text.encode_utf16().collect();
    (units.len() as u16).to_be_bytes().into_iter().chain(units.into_iter().flat_map(u16::to_be_bytes)).collect()
}

impl Alias {
    fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or_default()
    }

    /// The record.
    pub fn bytes(&self) -> Vec<u8> {
        let mut all = vec![0; 4];
        // The length, which is known at the end; version 2; a file.
        all.extend([0, 0, 0, 2, 0, 0]);
        all.extend(pascal(&self.volume, 28));
        all.extend(self.volume_created.to_be_bytes());
        all.extend(b"H+");
        // A volume that can be taken out.
        all.extend(5u16.to_be_bytes());
        all.extend(self.folder.to_be_bytes());
        all.extend(pascal(self.name(), 64));
        all.extend(self.file.to_be_bytes());
        all.extend(self.created.to_be_bytes());
        all.extend([0; 8]);
        // Nothing is said about ways from one to the other.
        all.extend([0xFF; 4]);
        all.extend([0; 16]);
        let mut tag = |number: u16, data: &[u8]| {
            all.extend(number.to_be_bytes());
            all.extend((data.len() as u16).to_be_bytes());
            all.extend(data);
            all.resize(all.len().next_multiple_of(2), 0);
        };
        if let Some((folder, _)) = self.path.rsplit_once('/') {
            tag(0, folder.rsplit('/').next().unwrap_or_default().as_bytes());
        }
        tag(1, &self.folder.to_be_bytes());
        tag(2, format!("{}:{}", self.volume, self.path.replace('/', ":")).as_bytes());
        tag(14, &wide(self.name()));
        tag(15, &wide(&self.volume));
        tag(18, format!("/{}", self.path).as_bytes());
        tag(19, format!("/Volumes/{}", self.volume).as_bytes());
        tag(END, &[]);
        let length = (all.len() as u16).to_be_bytes();
        all[4..6].copy_from_slice(&length);
        all
    }

    /// Reads a record.
    ///
    /// # Errors
    /// [`Error::Format`] for anything but version 2 with the path in it.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let bad = |at: usize, what: &str| Error::at(at, what);
        if bytes.len() < FIXED || bytes[6..8] != [0, 2] {
            return Err(bad(0, "not an alias record of version 2"));
        }
        let u32_at = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().expect("four bytes"));
        let mut at = FIXED;
        let (mut path, mut volume) = (None, None);
        while let Some(head) = bytes.get(at..at + 4) {
            let (number, length) = (u16::from_be_bytes([head[0], head[1]]), u16::from_be_bytes([head[2], head[3]]));
            if number == END {
                break;
            }
            let data = bytes.get(at + 4..at + 4 + usize::from(length)).ok_or_else(|| bad(at, "a part is cut off"))?;
            match number {
                15 => {
                    let units = data.get(2..).unwrap_or_default().chunks_exact(2);
                    let units: Vec<u16> = units.map(|u| u16::from_be_bytes([u[0], u[1]])).collect();
                    volume = Some(String::from_utf16_lossy(&units));
                }
                18 => path = Some(String::from_utf8_lossy(data).trim_start_matches('/').to_owned()),
                _ => {}
            }
            at += 4 + usize::from(length).next_multiple_of(2);
        }
        let (path, volume) = path.zip(volume).ok_or_else(|| bad(FIXED, "the record has no path"))?;
        Ok(Self {
            volume,
            volume_created: u32_at(38),
            path,
            folder: u32_at(46),
            file: u32_at(114),
            created: u32_at(118),
        })
    }
}
