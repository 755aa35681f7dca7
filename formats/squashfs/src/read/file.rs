//! File content: block by block, or as a stream.

use super::inode::{FilePlace, Inode, Kind};
use super::{Image, ReadAt};
use crate::structs::{DATA_STORED, FragmentEntry, NONE_64};
use crate::{Error, Result};
use std::cell::RefCell;
use std::io::{self, Read};
use std::sync::Arc;

/// Where one block of a file stands in the image; equal places have equal bytes, so it can key a cache.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum BlockPlace {
    /// All zero, and stored nowhere.
    Hole {
        /// Plain length.
        len: u32,
    },
    /// At a position, packed or stored as it is.
    At {
        /// From the image's first byte.
        position: u64,
        /// Size word as in the image.
        word: u32,
        /// Plain length that is expected at least.
        len: u32,
        /// Offset in the plain block (not zero in fragment blocks only).
        offset: u32,
    },
}

impl<R: ReadAt> Image<R> {
    /// The place of a file's last part, which it shares a block with others for.
    fn fragment_place(&self, file: &FilePlace) -> Result<BlockPlace> {
        let Some((index, offset)) = file.fragment else {
            return Err(Error::Usage("the file has no fragment".into()));
        };
        let (position, word) = self.fragment_entry(index)?;
        let len = (file.size % u64::from(self.block_size())) as u32;
        Ok(BlockPlace::At { position, word, len, offset })
    }

    fn fragment_entry(&self, index: u32) -> Result<(u64, u32)> {
        let table = self.superblock.fragment_table.get();
        if table == NONE_64 || index >= self.superblock.fragment_count.get() {
            return Err(Error::format(table.min(1 << 62), "a fragment outside the fragment table"));
        }
        let mut position = [0; 8];
        self.read_at(&mut position, table + u64::from(index / 512) * 8)?;
        let offset = (index % 512) as usize * size_of::<FragmentEntry>();
        let entry: FragmentEntry = self.metadata(u64::from_le_bytes(position), offset as u16, table)?.record()?;
        let word = entry.size.get();
        if word & !DATA_STORED > self.block_size() || word & !DATA_STORED == 0 {
            return Err(Error::format(table, format!("a fragment block of {} bytes", word & !DATA_STORED)));
        }
        Ok((entry.start_block.get(), word))
    }

    /// The places of all blocks of a file.
    ///
    /// # Errors
    /// [`Error::Usage`] if it is no file; [`Error::Format`] for a fragment outside the fragment table.
    pub fn blocks_of(&self, inode: &Inode) -> Result<Vec<BlockPlace>> {
        let Kind::File(file) = &inode.kind else {
            return Err(Error::Usage("it is not a file".into()));
        };
        let block = u64::from(self.block_size());
        let mut places = Vec::with_capacity(file.words.len() + 1);
        let mut position = file.start;
        for (n, &word) in file.words.iter().enumerate() {
            let len = (file.size - n as u64 * block).min(block) as u32;
            let size = word & !DATA_STORED;
            places.push(if size == 0 {
                BlockPlace::Hole { len }
            } else {
                BlockPlace::At { position, word, len, offset: 0 }
            });
            position = position
                .checked_add(size.into())
                .ok_or_else(|| Error::format(file.start, "a file's blocks lie beyond the largest offset"))?;
        }
        if file.fragment.is_some() {
            places.push(self.fragment_place(file)?);
        }
        Ok(places)
    }

    /// Unpacks the whole block at a place into `out` (cleared first); a hole gives zeros.
    ///
    /// # Errors
    /// [`Error::Format`] for a position outside the image, bytes that can't be unpacked, or a block that is too short.
    pub fn read_block(&self, place: BlockPlace, out: &mut Vec<u8>) -> Result<()> {
        out.clear();
        match place {
            BlockPlace::Hole { len } => out.resize(len as usize, 0),
            BlockPlace::At { position, word, len, offset } => {
                let size = (word & !DATA_STORED) as usize;
                let inside = position.checked_add(size as u64).is_some_and(|n| n <= self.superblock.bytes_used.get());
                if !inside {
                    return Err(Error::format(position, "a data block lies outside the image"));
                }
                if word & DATA_STORED != 0 {
                    out.resize(size, 0);
                    self.read_at(out, position)?;
                } else {
                    // One buffer a thread: a fresh one for each block costs its pages anew.
                    thread_local!(static PACKED: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) });
                    PACKED.with_borrow_mut(|packed| {
                        packed.resize(size, 0);
                        self.read_at(packed, position)?;
                        out.resize(self.block_size() as usize, 0);
                        let n = self.algorithm.unpack(packed, out).map_err(|e| Error::format(position, e))?;
                        out.truncate(n);
                        Ok::<_, Error>(())
                    })?;
                }
                if (out.len() as u64) < u64::from(offset) + u64::from(len) {
                    return Err(Error::format(position, "a data block has fewer bytes than its file needs"));
                }
            }
        }
        Ok(())
    }

    /// A fragment block, which many small files share: the last few are kept.
    fn fragment_block(&self, place: BlockPlace) -> Result<Arc<Vec<u8>>> {
        let BlockPlace::At { position, len, offset, .. } = place else {
            return Err(Error::Usage("a hole can't be a fragment".into()));
        };
        let mut kept = self.fragments.lock().unwrap_or_else(|e| e.into_inner());
        let found =
            kept.iter().find(|(at, block)| *at == position && block.len() as u64 >= u64::from(offset) + u64::from(len));
        if let Some((_, block)) = found {
            return Ok(block.clone());
        }
        drop(kept);
        let mut plain = Vec::new();
        self.read_block(place, &mut plain)?;
        let plain = Arc::new(plain);
        kept = self.fragments.lock().unwrap_or_else(|e| e.into_inner());
        if kept.len() >= 4 {
            kept.pop_front();
        }
        kept.push_back((position, plain.clone()));
        Ok(plain)
    }

    /// A stream over a file's bytes.
    ///
    /// # Errors
    /// As [`blocks_of`](Self::blocks_of).
    pub fn reader(&self, inode: &Inode) -> Result<FileReader<'_, R>> {
        let places = self.blocks_of(inode)?;
        let in_fragment = matches!(&inode.kind, Kind::File(file) if file.fragment.is_some());
        Ok(FileReader { image: self, places: places.into_iter(), in_fragment, plain: Arc::default(), range: 0..0 })
    }

    /// All bytes of a file; for small ones.
    ///
    /// # Errors
    /// As [`reader`](Self::reader); [`Error::Limit`] above 256 MiB.
    pub fn read_to_vec(&self, inode: &Inode) -> Result<Vec<u8>> {
        match &inode.kind {
            Kind::File(file) if file.size > 256 << 20 => {
                return Err(Error::Limit(format!("a file of {} bytes read as a whole", file.size)));
            }
            _ => {}
        }
        let mut bytes = Vec::new();
        self.reader(inode)?.read_to_end(&mut bytes).map_err(|e| match e.downcast::<Error>() {
            Ok(ours) => ours,
            Err(other) => Error::Io(other),
        })?;
        Ok(bytes)
    }
}

/// Streams one file; one block in memory. Trouble with the image comes out as [`io::ErrorKind::InvalidData`] around an
/// [`Error`].
pub struct FileReader<'i, R: ReadAt> {
    image: &'i Image<R>,
    places: std::vec::IntoIter<BlockPlace>,
    in_fragment: bool,
    plain: Arc<Vec<u8>>,
    range: std::ops::Range<usize>,
}

impl<R: ReadAt> FileReader<'_, R> {
    fn load(&mut self, place: BlockPlace) -> Result<()> {
        if self.in_fragment && self.places.as_slice().is_empty() {
            self.plain = self.image.fragment_block(place)?;
            return Ok(());
        }
        match Arc::get_mut(&mut self.plain) {
            Some(plain) => self.image.read_block(place, plain),
            None => {
                let mut plain = Vec::new();
                self.image.read_block(place, &mut plain)?;
                self.plain = Arc::new(plain);
                Ok(())
            }
        }
    }

    /// The next block as a whole; `None` at the end. A hole comes as its length without bytes.
    ///
    /// # Errors
    /// As [`Image::read_block`].
    pub fn next_block(&mut self) -> Result<Option<BlockOrHole<'_>>> {
        let Some(place) = self.places.next() else { return Ok(None) };
        match place {
            BlockPlace::Hole { len } => Ok(Some(BlockOrHole::Hole(len))),
            BlockPlace::At { len, offset, .. } => {
                self.load(place)?;
                Ok(Some(BlockOrHole::Bytes(&self.plain[offset as usize..(offset + len) as usize])))
            }
        }
    }
}

/// A block of a file.
#[derive(Debug)]
pub enum BlockOrHole<'b> {
    /// Its bytes.
    Bytes(&'b [u8]),
    /// So many zeros.
    Hole(u32),
}

impl<R: ReadAt> Read for FileReader<'_, R> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        while self.range.is_empty() {
            let Some(place) = self.places.next() else { return Ok(0) };
            self.load(place).map_err(|e| match e {
                Error::Io(e) => e,
                other => io::Error::new(io::ErrorKind::InvalidData, other),
            })?;
            self.range = match place {
                BlockPlace::Hole { len } => 0..len as usize,
                BlockPlace::At { len, offset, .. } => offset as usize..(offset + len) as usize,
            };
        }
        let n = out.len().min(self.range.len());
        out[..n].copy_from_slice(&self.plain[self.range.start..self.range.start + n]);
        self.range.start += n;
        Ok(n)
    }
}
