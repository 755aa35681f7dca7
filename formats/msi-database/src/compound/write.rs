//! The streaming writer.

use super::read::{Compound, StreamInfo};
use super::structs::*;
use crate::names::MAX_UNITS;
use crate::{Error, Result};
use std::io::{Read, Seek, SeekFrom, Write};
use zerocopy::IntoBytes;
use zerocopy::little_endian::U32;

const SECTOR: usize = 4096;
const PER_SECTOR: usize = SECTOR / 4;

struct Stream {
    name: String,
    start: u32,
    size: u64,
}

/// Writes a compound file from the output's start.
pub struct CompoundWriter<O: Read + Write + Seek> {
    out: O,
    clsid: [u8; 16],
    streams: Vec<Stream>,
    /// Runs of sectors: first and count, in the order of the file.
    runs: Vec<(u32, u32)>,
    next: u32,
    mini: Vec<u8>,
    /// Runs of mini sectors.
    mini_runs: Vec<(u32, u32)>,
}

fn pad(out: &mut impl Write, len: u64) -> Result<()> {
    let rest = (len % SECTOR as u64) as usize;
    if rest > 0 {
        out.write_all(&vec![0; SECTOR - rest])?;
    }
    Ok(())
}

impl<O: Read + Write + Seek> CompoundWriter<O> {
    /// Begins a file whose root has this class identifier (in its stored byte order).
    ///
    /// # Errors
    /// Trouble with the output.
    pub fn new(mut out: O, clsid: [u8; 16]) -> Result<Self> {
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&[0; SECTOR])?;
        Ok(Self { out, clsid, streams: Vec::new(), runs: Vec::new(), next: 0, mini: Vec::new(), mini_runs: Vec::new() })
    }

    /// Takes up a file that a writer like this one has finished, to add streams to it: those with sectors of their own stay where
    /// they are, and what lies behind them is written anew by [`CompoundWriter::finish`]. `out` is the file that `package` is read
    /// from; the streams `gone` are left out. None for a file that is laid out in another way, which stays as it is.
    ///
    /// # Errors
    /// The file can't be read.
    pub fn take_up<R: Read + Seek>(out: O, package: &mut Compound<R>, gone: &[&str]) -> Result<Option<Self>> {
        if !package.has_large_sectors() || package.has_storages {
            return Ok(None);
        }
        let mut infos: Vec<StreamInfo> = package.streams().to_vec();
        infos.retain(|info| !gone.contains(&info.name.as_str()));
        infos.sort_by_key(StreamInfo::place);
        let (large, mini): (Vec<_>, Vec<_>) = infos.into_iter().partition(|info| info.size >= MINI_CUTOFF);
        let mut writer = Self {
            out,
            clsid: package.clsid,
            streams: Vec::new(),
            runs: Vec::new(),
            next: 0,
            mini: Vec::new(),
            mini_runs: Vec::new(),
        };
        for info in large {
            if package.piece(&info)? != Some(writer.offset(writer.next)) {
                return Ok(None);
            }
            let start = writer.place(info.size)?;
            writer.streams.push(Stream { name: info.name, start, size: info.size });
        }
        for info in mini {
            let bytes = package.bytes(&info.name, MINI_CUTOFF)?.unwrap_or_default();
            writer.stream(&info.name, &bytes)?;
        }
        let end = writer.offset(writer.next);
        writer.out.seek(SeekFrom::Start(end))?;
        Ok(Some(writer))
    }

    fn named(&self, name: &str) -> Result<()> {
        let units = name.encode_utf16().count();
        if units == 0 || units > MAX_UNITS || name.contains(['/', '\\', ':', '!']) {
            return Err(Error::Usage(format!(
                "{name:?} can't be a stream's name: 1 to {MAX_UNITS} units, no / \\ : !"
            )));
        }
        Ok(())
    }

    fn offset(&self, sector: u32) -> u64 {
        (u64::from(sector) + 1) * SECTOR as u64
    }

    fn place(&mut self, bytes: u64) -> Result<u32> {
        let count = bytes.div_ceil(SECTOR as u64);
        let start = self.next;
        let end = u64::from(start) + count;
        if end >= MAXREGSECT.into() {
            return Err(Error::Limit("more than a compound file holds".into()));
        }
        self.runs.push((start, count as u32));
        self.next = end as u32;
        Ok(start)
    }

    /// Adds a stream of bytes in memory.
    ///
    /// # Errors
    /// A name that can't be one; trouble with the output.
    pub fn stream(&mut self, name: &str, bytes: &[u8]) -> Result<()> {
        self.named(name)?;
        let size = bytes.len() as u64;
        if size < MINI_CUTOFF {
            let first = (self.mini.len() / MINI_SECTOR) as u32;
            self.mini.extend_from_slice(bytes);
            self.mini.resize(self.mini.len().next_multiple_of(MINI_SECTOR), 0);
            let count = (self.mini.len() / MINI_SECTOR) as u32 - first;
            let start = if count == 0 { ENDOFCHAIN } else { first };
            self.mini_runs.extend((count > 0).then_some((first, count)));
            self.streams.push(Stream { name: name.into(), start, size });
            return Ok(());
        }
        let start = self.place(size)?;
        self.out.write_all(bytes)?;
        pad(&mut self.out, size)?;
        self.streams.push(Stream { name: name.into(), start, size });
        Ok(())
    }

    /// Adds a stream whose bytes `fill` writes at the output's position: it may write and seek from there on, and leaves
    /// the output at the stream's end.
    ///
    /// # Errors
    /// Those of `fill`; a name that can't be one; trouble with the output.
    pub fn large<T, E: From<Error>>(
        &mut self,
        name: &str,
        fill: impl FnOnce(&mut O) -> std::result::Result<T, E>,
    ) -> std::result::Result<T, E> {
        self.named(name)?;
        let begin = self.offset(self.next);
        let result = fill(&mut self.out)?;
        let io = |e: std::io::Error| Error::from(e);
        let end = self.out.stream_position().map_err(io)?;
        let size = end.saturating_sub(begin);
        if size < MINI_CUTOFF {
            let mut bytes = vec![0; size as usize];
            self.out.seek(SeekFrom::Start(begin)).map_err(io)?;
            self.out.read_exact(&mut bytes).map_err(io)?;
            self.out.seek(SeekFrom::Start(begin)).map_err(io)?;
            self.stream(name, &bytes)?;
        } else {
            let start = self.place(size)?;
            pad(&mut self.out, size)?;
            self.streams.push(Stream { name: name.into(), start, size });
        }
        Ok(result)
    }

    /// Writes the mini stream, the directory, the allocation tables and the header; gives the output and the length.
    ///
    /// # Errors
    /// Two streams of one name; trouble with the output.
    pub fn finish(mut self) -> Result<(O, u64)> {
        let mini = std::mem::take(&mut self.mini);
        let mini_start = if mini.is_empty() { ENDOFCHAIN } else { self.place(mini.len() as u64)? };
        self.out.write_all(&mini)?;
        pad(&mut self.out, mini.len() as u64)?;
        let mut mini_fat = Vec::new();
        for (first, count) in &self.mini_runs {
            chain(*first, *count, |entry| mini_fat.extend_from_slice(&entry.to_le_bytes()));
        }
        let mini_fat_sectors = mini_fat.len().div_ceil(SECTOR) as u32;
        mini_fat.resize(mini_fat_sectors as usize * SECTOR, 0xFF);
        let mini_fat_start = if mini_fat.is_empty() { ENDOFCHAIN } else { self.place(mini_fat.len() as u64)? };
        self.out.write_all(&mini_fat)?;
        let mut directory = self.directory(mini_start, mini.len() as u64)?;
        let empty = unused();
        while !directory.len().is_multiple_of(SECTOR) {
            directory.extend_from_slice(empty.as_bytes());
        }
        let directory_start = self.place(directory.len() as u64)?;
        self.out.write_all(&directory)?;
        let (fat_start, mut fat_sectors, mut difat_sectors) = (self.next, 0u32, 0u32);
        // The allocation table covers itself too.
        loop {
            let all = u64::from(self.next) + u64::from(fat_sectors) + u64::from(difat_sectors);
            let fat = all.div_ceil(PER_SECTOR as u64) as u32;
            let difat = fat.saturating_sub(HEADER_DIFAT as u32).div_ceil(PER_SECTOR as u32 - 1);
            if (fat, difat) == (fat_sectors, difat_sectors) {
                break;
            }
            (fat_sectors, difat_sectors) = (fat, difat);
        }
        let difat_start = fat_start + fat_sectors;
        let mut table = Vec::with_capacity(1 << 20);
        for (first, count) in &self.runs {
            chain(*first, *count, |entry| table.extend_from_slice(&entry.to_le_bytes()));
            if table.len() >= 1 << 20 {
                self.out.write_all(&table)?;
                table.clear();
            }
        }
        for (kind, count) in [(FATSECT, fat_sectors), (DIFSECT, difat_sectors)] {
            (0..count).for_each(|_| table.extend_from_slice(&kind.to_le_bytes()));
        }
        let entries = u64::from(difat_start) + u64::from(difat_sectors);
        let missing = u64::from(fat_sectors) * PER_SECTOR as u64 - entries;
        table.resize(table.len() + missing as usize * 4, 0xFF);
        self.out.write_all(&table)?;
        let mut fats = fat_start..fat_start + fat_sectors;
        let mut header_difat = [U32::new(FREESECT); HEADER_DIFAT];
        header_difat.iter_mut().zip(fats.by_ref()).for_each(|(entry, sector)| *entry = sector.into());
        for n in 0..difat_sectors {
            let mut sector = [FREESECT; PER_SECTOR];
            sector.iter_mut().take(PER_SECTOR - 1).zip(fats.by_ref()).for_each(|(entry, fat)| *entry = fat);
            sector[PER_SECTOR - 1] = if n + 1 < difat_sectors { difat_start + n + 1 } else { ENDOFCHAIN };
            self.out.write_all(sector.map(U32::new).as_bytes())?;
        }
        let header = Header {
            signature: SIGNATURE,
            clsid: [0; 16],
            minor_version: 0x3E.into(),
            major_version: 4.into(),
            byte_order: 0xFFFE.into(),
            sector_shift: 12.into(),
            mini_sector_shift: 6.into(),
            reserved: [0; 6],
            directory_sectors: ((directory.len() / SECTOR) as u32).into(),
            fat_sectors: fat_sectors.into(),
            first_directory_sector: directory_start.into(),
            transaction_signature: 0.into(),
            mini_stream_cutoff: (MINI_CUTOFF as u32).into(),
            first_mini_fat_sector: mini_fat_start.into(),
            mini_fat_sectors: mini_fat_sectors.into(),
            first_difat_sector: if difat_sectors == 0 { ENDOFCHAIN } else { difat_start }.into(),
            difat_sectors: difat_sectors.into(),
            difat: header_difat,
        };
        let end = self.out.stream_position()?;
        self.out.seek(SeekFrom::Start(0))?;
        self.out.write_all(header.as_bytes())?;
        self.out.seek(SeekFrom::Start(end))?;
        self.out.flush()?;
        Ok((self.out, end))
    }

    /// The root, and its streams as a balanced red-black tree.
    fn directory(&mut self, mini_start: u32, mini_size: u64) -> Result<Vec<u8>> {
        self.streams.sort_by_cached_key(|s| sibling_key(&s.name));
        if let Some(twins) = self.streams.windows(2).find(|w| sibling_key(&w[0].name) == sibling_key(&w[1].name)) {
            return Err(Error::Usage(format!("two streams are named {:?}", twins[0].name)));
        }
        let count = self.streams.len();
        let mut entries: Vec<DirectoryEntry> = Vec::with_capacity(count + 1);
        let mut root = entry("Root Entry", TYPE_ROOT, mini_start, mini_size);
        root.clsid = self.clsid;
        root.child = if count == 0 { NOSTREAM } else { middle(0, count) as u32 + 1 }.into();
        entries.push(root);
        entries.extend(self.streams.iter().map(|s| entry(&s.name, TYPE_STREAM, s.start, s.size)));
        // A balanced tree is full but for its last level: that one is red, all others are black.
        let last = count.checked_ilog2().unwrap_or(0);
        let full = (count + 1).is_power_of_two();
        let mut stack = vec![(0, count, 0)];
        while let Some((from, to, level)) = stack.pop() {
            if from == to {
                continue;
            }
            let node = middle(from, to);
            let child = |from: usize, to: usize| if from == to { NOSTREAM } else { middle(from, to) as u32 + 1 };
            let e = &mut entries[node + 1];
            e.left = child(from, node).into();
            e.right = child(node + 1, to).into();
            e.color = if level == last && !full && level > 0 { RED } else { BLACK };
            stack.push((from, node, level + 1));
            stack.push((node + 1, to, level + 1));
        }
        Ok(entries.iter().flat_map(|e| e.as_bytes()).copied().collect())
    }
}

/// The root of a balanced tree over a sorted range.
fn middle(from: usize, to: usize) -> usize {
    from + (to - from) / 2
}

fn chain(first: u32, count: u32, mut entry: impl FnMut(u32)) {
    for n in 1..=count {
        entry(if n == count { ENDOFCHAIN } else { first + n });
    }
}

fn unused() -> DirectoryEntry {
    let mut e = entry("", 0, 0, 0);
    e.name_length = 0.into();
    e.color = RED;
    e
}

fn entry(name: &str, object_type: u8, start: u32, size: u64) -> DirectoryEntry {
    let mut units = [zerocopy::little_endian::U16::ZERO; 32];
    let mut length = 0;
    for (to, unit) in units.iter_mut().zip(name.encode_utf16()) {
        *to = unit.into();
        length += 2;
    }
    DirectoryEntry {
        name: units,
        name_length: (length + 2u16).into(),
        object_type,
        color: BLACK,
        left: NOSTREAM.into(),
        right: NOSTREAM.into(),
        child: NOSTREAM.into(),
        clsid: [0; 16],
        state: 0.into(),
        created: 0.into(),
        modified: 0.into(),
        start: start.into(),
        size: size.into(),
    }
}
