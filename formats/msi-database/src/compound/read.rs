//! The reader. Chains are followed with a count, so that a loop ends; nothing is allocated for what the file can't hold.

use super::structs::*;
use crate::{Error, Result};
use std::io::{Read, Seek, SeekFrom};
use zerocopy::FromBytes;
use zerocopy::little_endian::U32;

/// What a reader may be led to do.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Entries of the directory.
    pub max_entries: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { max_entries: 100_000 }
    }
}

/// A stream of the root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StreamInfo {
    /// Its name as stored.
    pub name: String,
    /// Bytes.
    pub size: u64,
    start: u32,
    /// What applications noted of it, as it is stored.
    pub state: [u8; 4],
    /// When it was made and changed, as that is stored.
    pub dates: [u8; 16],
}

impl StreamInfo {
    /// Where it begins: those in the mini stream first, in their order.
    pub fn place(&self) -> u64 {
        u64::from(self.start) | if self.size >= MINI_CUTOFF { 1 << 32 } else { 0 }
    }
}

/// An open compound file.
pub struct Compound<R> {
    source: R,
    length: u64,
    shift: u32,
    fat: Vec<u32>,
    mini_fat: Vec<u32>,
    /// Where the mini stream lies: offset in the file and length of each run.
    mini: Vec<(u64, u64)>,
    /// The root's class identifier, in its stored byte order.
    pub clsid: [u8; 16],
    /// What applications noted of the root, as it is stored.
    pub state: [u8; 4],
    /// Whether there are storages, whose streams are not read.
    pub has_storages: bool,
    streams: Vec<StreamInfo>,
    /// Trouble that other readers overlook: siblings out of order, and the like.
    pub remarks: Vec<String>,
}

impl<R: Read + Seek> Compound<R> {
    /// Reads header, allocation tables and directory.
    ///
    /// # Errors
    /// [`Error::Format`] for what is no compound file, or damaged; [`Error::Limit`] beyond the limits.
    pub fn open(mut source: R, limits: Limits) -> Result<Self> {
        let length = source.seek(SeekFrom::End(0))?;
        source.seek(SeekFrom::Start(0))?;
        let mut bytes = [0; size_of::<Header>()];
        source.read_exact(&mut bytes).map_err(|_| Error::format(0, "not a compound file"))?;
        let header = Header::read_from_bytes(&bytes).map_err(|_| Error::format(0, "not a compound file"))?;
        if header.signature != SIGNATURE {
            return Err(Error::format(0, "not a compound file"));
        }
        let shift = match (header.major_version.get(), header.sector_shift.get()) {
            (3, 9) => 9,
            (4, 12) => 12,
            (version, shift) => {
                return Err(Error::format(26, format!("version {version} with sectors of 2^{shift} bytes")));
            }
        };
        if header.mini_sector_shift.get() != 6 || u64::from(header.mini_stream_cutoff.get()) != MINI_CUTOFF {
            return Err(Error::format(32, "short streams aren't stored in the usual way"));
        }
        let mut it = Self {
            source,
            length,
            shift,
            fat: Vec::new(),
            mini_fat: Vec::new(),
            mini: Vec::new(),
            clsid: [0; 16],
            state: [0; 4],
            has_storages: false,
            streams: Vec::new(),
            remarks: Vec::new(),
        };
        it.read_fat(&header)?;
        let directory = it.directory(&header, limits)?;
        if header.mini_fat_sectors.get() > 0 {
            let runs = it.chain(header.first_mini_fat_sector.get(), None)?;
            it.mini_fat = it.numbers(&runs)?;
        }
        it.tree(&directory, limits)?;
        Ok(it)
    }

    fn sectors(&self) -> u64 {
        (self.length >> self.shift).saturating_sub(1) + u64::from(!self.length.is_multiple_of(1 << self.shift))
    }

    fn offset(&self, sector: u32) -> u64 {
        (u64::from(sector) + 1) << self.shift
    }

    fn read_at(&mut self, offset: u64, bytes: &mut [u8]) -> Result<()> {
        self.source.seek(SeekFrom::Start(offset))?;
        self.source.read_exact(bytes).map_err(|_| Error::format(offset, "the file is cut off"))
    }

    fn sector_numbers(&mut self, sector: u32) -> Result<Vec<u32>> {
        let mut bytes = vec![0; 1 << self.shift];
        self.read_at(self.offset(sector), &mut bytes)?;
        Ok(bytes.as_chunks::<4>().0.iter().map(|b| u32::from_le_bytes(*b)).collect())
    }

    fn read_fat(&mut self, header: &Header) -> Result<()> {
        let count = u64::from(header.fat_sectors.get());
        if count > self.sectors() {
            return Err(Error::format(44, format!("{count} sectors of the allocation table, in a shorter file")));
        }
        let mut list: Vec<u32> = header.difat.iter().map(|n: &U32| n.get()).take(count as usize).collect();
        let mut next = header.first_difat_sector.get();
        let mut seen = 0;
        while (list.len() as u64) < count {
            if next >= MAXREGSECT || seen > self.sectors() {
                return Err(Error::format(68, "the list of the allocation table's sectors ends too early"));
            }
            let mut numbers = self.sector_numbers(next)?;
            next = numbers.pop().unwrap_or(ENDOFCHAIN);
            let missing = count as usize - list.len();
            list.extend(numbers.into_iter().take(missing));
            seen += 1;
        }
        for sector in list {
            if u64::from(sector) >= self.sectors() {
                return Err(Error::format(76, format!("sector {sector} of the allocation table is not in the file")));
            }
            let numbers = self.sector_numbers(sector)?;
            self.fat.extend(numbers);
        }
        Ok(())
    }

    /// The runs of a chain: offset and length of each. `size` is what the chain has to hold, where that is known.
    fn chain(&self, first: u32, size: Option<u64>) -> Result<Vec<(u64, u64)>> {
        let sector = 1u64 << self.shift;
        let mut runs: Vec<(u64, u64)> = Vec::new();
        let (mut at, mut held, mut steps) = (first, 0u64, 0u64);
        while at != ENDOFCHAIN && size.is_none_or(|s| held < s) {
            let offset = self.offset(at);
            if at >= MAXREGSECT || offset >= self.length || steps > self.sectors() {
                return Err(Error::format(offset.min(self.length), format!("the chain from sector {first} is broken")));
            }
            match runs.last_mut() {
                Some((begin, len)) if *begin + *len == offset => *len += sector,
                _ => runs.push((offset, sector)),
            }
            held += sector;
            steps += 1;
            at = *self.fat.get(at as usize).ok_or_else(|| Error::format(offset, "a sector without an entry"))?;
        }
        if let Some(size) = size {
            if held < size {
                return Err(Error::format(self.offset(first).min(self.length), "a chain is shorter than its stream"));
            }
            if let Some(last) = runs.last_mut() {
                last.1 -= held - size;
            }
        }
        if let Some((begin, len)) = runs.last()
            && size.is_some()
            && begin + len > self.length
        {
            return Err(Error::format(self.length, "the file is cut off"));
        }
        Ok(runs)
    }

    fn numbers(&mut self, runs: &[(u64, u64)]) -> Result<Vec<u32>> {
        let mut all = Vec::new();
        for (offset, len) in runs {
            let mut bytes = vec![0; *len as usize];
            self.read_at(*offset, &mut bytes)?;
            all.extend(bytes.as_chunks::<4>().0.iter().map(|b| u32::from_le_bytes(*b)));
        }
        Ok(all)
    }

    fn directory(&mut self, header: &Header, limits: Limits) -> Result<Vec<DirectoryEntry>> {
        let runs = self.chain(header.first_directory_sector.get(), None)?;
        let mut entries = Vec::new();
        for (offset, len) in runs {
            if entries.len() + (len / 128) as usize > limits.max_entries {
                return Err(Error::Limit(format!("the directory has more than {} entries", limits.max_entries)));
            }
            let mut bytes = vec![0; len as usize];
            self.read_at(offset, &mut bytes)?;
            let chunks = bytes.as_chunks::<128>().0;
            entries.extend(chunks.iter().filter_map(|c| DirectoryEntry::read_from_bytes(c).ok()));
        }
        Ok(entries)
    }

    fn tree(&mut self, entries: &[DirectoryEntry], limits: Limits) -> Result<()> {
        let Some(root) = entries.first().filter(|e| e.object_type == TYPE_ROOT) else {
            return Err(Error::format(48, "the directory has no root"));
        };
        self.clsid = root.clsid;
        self.state = root.state.get().to_le_bytes();
        let size = self.size(root);
        self.mini = if size == 0 { Vec::new() } else { self.chain(root.start.get(), Some(size))? };
        let mut seen = vec![false; entries.len()];
        // In order: left, itself, right.
        let mut stack = Vec::new();
        let mut at = root.child.get();
        let mut last: Option<(usize, Vec<u16>)> = None;
        loop {
            while at != NOSTREAM {
                let index = at as usize;
                if index >= entries.len()
                    || std::mem::replace(&mut seen[index], true)
                    || stack.len() > limits.max_entries
                {
                    return Err(Error::format(48, format!("the directory's tree is broken at entry {at}")));
                }
                stack.push(index);
                at = entries[index].left.get();
            }
            let Some(index) = stack.pop() else { break };
            let entry = &entries[index];
            let units = usize::from(entry.name_length.get() / 2).saturating_sub(1).min(31);
            let name: Vec<u16> = entry.name[..units].iter().map(|u| u.get()).collect();
            let name = String::from_utf16_lossy(&name);
            let key = sibling_key(&name);
            if last.as_ref().is_some_and(|l| *l >= key) {
                self.remarks.push(format!("the directory's entries are out of order at {name:?}"));
            }
            last = Some(key);
            match entry.object_type {
                TYPE_STREAM => {
                    let mut dates = [0; 16];
                    dates[..8].copy_from_slice(&entry.created.get().to_le_bytes());
                    dates[8..].copy_from_slice(&entry.modified.get().to_le_bytes());
                    let state = entry.state.get().to_le_bytes();
                    let start = entry.start.get();
                    self.streams.push(StreamInfo { name, size: self.size(entry), start, state, dates });
                }
                TYPE_STORAGE => {
                    self.has_storages = true;
                    self.remarks.push(format!("a nested storage: {name:?}"));
                }
                other => return Err(Error::format(48, format!("entry {index} of the directory is of type {other}"))),
            }
            at = entry.right.get();
        }
        Ok(())
    }

    /// In version 3 the upper half of a size means nothing.
    fn size(&self, entry: &DirectoryEntry) -> u64 {
        if self.shift == 9 { entry.size.get() & 0xFFFF_FFFF } else { entry.size.get() }
    }

    /// The streams, in the directory's order.
    pub fn streams(&self) -> &[StreamInfo] {
        &self.streams
    }

    /// Opens a stream by its stored name; `None` if there is no such.
    ///
    /// # Errors
    /// [`Error::Format`] when its chain is damaged.
    pub fn stream(&mut self, name: &str) -> Result<Option<StreamReader<'_, R>>> {
        let Some(info) = self.streams.iter().find(|s| s.name == name).cloned() else { return Ok(None) };
        let runs = if info.size == 0 {
            Vec::new()
        } else if info.size >= MINI_CUTOFF {
            self.chain(info.start, Some(info.size))?
        } else {
            self.mini_chain(info.start, info.size)?
        };
        let mut begins = Vec::with_capacity(runs.len());
        let mut begin = 0;
        for (_, len) in &runs {
            begins.push(begin);
            begin += len;
        }
        Ok(Some(StreamReader { source: &mut self.source, runs, begins, size: info.size, position: 0 }))
    }

    /// Whether its sectors are those that are written here.
    pub(super) fn has_large_sectors(&self) -> bool {
        self.shift == 12
    }

    /// Where a stream with sectors of its own lies, if that is one piece: its offset in the file.
    pub(super) fn piece(&self, stream: &StreamInfo) -> Result<Option<u64>> {
        let runs = self.chain(stream.start, Some(stream.size))?;
        Ok(if let [(offset, _)] = runs[..] { Some(offset) } else { None })
    }

    /// A stream's bytes, if it has at most `most`.
    ///
    /// # Errors
    /// As [`stream`](Self::stream); [`Error::Limit`] beyond `most`.
    pub fn bytes(&mut self, name: &str, most: u64) -> Result<Option<Vec<u8>>> {
        let Some(mut stream) = self.stream(name)? else { return Ok(None) };
        if stream.size > most {
            return Err(Error::Limit(format!("a stream of {} bytes is more than the limit of {most}", stream.size)));
        }
        let mut bytes = Vec::new();
        stream.read_to_end(&mut bytes)?;
        Ok(Some(bytes))
    }

    fn mini_chain(&self, first: u32, size: u64) -> Result<Vec<(u64, u64)>> {
        let (mut runs, mut at, mut held) = (Vec::new(), first, 0);
        while held < size {
            let begin = u64::from(at) * MINI_SECTOR as u64;
            let astray = || Error::format(60, format!("the chain from mini sector {first} is broken"));
            // Mini sectors never cross runs: those are whole sectors.
            let mut before = 0;
            let run = self.mini.iter().find_map(|(offset, len)| {
                let inside = begin.checked_sub(before).filter(|inside| inside < len);
                before += len;
                inside.map(|inside| offset + inside)
            });
            let take = (size - held).min(MINI_SECTOR as u64);
            runs.push((run.ok_or_else(astray)?, take));
            held += take;
            if held < size {
                at = *self.mini_fat.get(at as usize).ok_or_else(astray)?;
            }
        }
        Ok(runs)
    }
}

/// The bytes of a stream.
pub struct StreamReader<'c, R> {
    source: &'c mut R,
    runs: Vec<(u64, u64)>,
    begins: Vec<u64>,
    size: u64,
    position: u64,
}

impl<R> StreamReader<'_, R> {
    /// Its length, bytes.
    pub fn size(&self) -> u64 {
        self.size
    }
}

impl<R: Read + Seek> Read for StreamReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.position >= self.size || buffer.is_empty() {
            return Ok(0);
        }
        let run = self.begins.partition_point(|b| *b <= self.position) - 1;
        let (offset, len) = self.runs[run];
        let inside = self.position - self.begins[run];
        let n = (buffer.len() as u64).min(len - inside) as usize;
        self.source.seek(SeekFrom::Start(offset + inside))?;
        let n = self.source.read(&mut buffer[..n])?;
        if n == 0 {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        self.position += n as u64;
        Ok(n)
    }
}

impl<R: Read + Seek> Seek for StreamReader<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let target = match to {
            SeekFrom::Start(n) => Some(n),
            SeekFrom::End(n) => self.size.checked_add_signed(n),
            SeekFrom::Current(n) => self.position.checked_add_signed(n),
        };
        self.position = target.ok_or(std::io::ErrorKind::InvalidInput)?;
        Ok(self.position)
    }
}
