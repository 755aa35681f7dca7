//! The reader. It takes any bytes: every count and length is checked before it is used, memory is bounded by the
//! caller's limits, and an error names the offset.

use crate::structs::*;
use crate::{Error, Result};
use flate2::{Decompress, FlushDecompress, Status};
use std::io::{BufRead, Read, Seek, SeekFrom};
use zerocopy::{FromBytes, IntoBytes};

/// What a reader may be led to do.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Files listed.
    pub max_files: usize,
    /// Plain bytes unpacked from one folder.
    pub max_folder: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { max_files: MAX_FILES, max_folder: MAX_BLOCKS * BLOCK as u64 }
    }
}

/// A file in a cabinet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its name as it stands there; not yet a path that can be trusted.
    pub name: String,
    /// Bytes.
    pub size: u32,
    /// Where it begins among the folder's plain bytes.
    pub offset: u32,
    /// The folder that it is in.
    pub folder: u16,
    /// Date field.
    pub date: u16,
    /// Time field.
    pub time: u16,
    /// Attributes field.
    pub attributes: u16,
}

/// A folder: files that are packed together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderInfo {
    /// Where its blocks begin.
    pub offset: u32,
    /// How many there are.
    pub blocks: u16,
    /// The compression, if it is known here.
    pub method: Option<Method>,
    /// The compression's field.
    pub field: u16,
}

/// An open cabinet.
pub struct Cabinet<R> {
    source: R,
    base: u64,
    length: u64,
    reserve_data: usize,
    files: Vec<Entry>,
    folders: Vec<FolderInfo>,
}

impl<R: Read + Seek> Cabinet<R> {
    /// Reads the tables of a cabinet at the start of a source.
    ///
    /// # Errors
    /// [`Error::Format`] for what is no cabinet, or damaged; [`Error::Limit`] beyond the limits.
    pub fn open(mut source: R, limits: Limits) -> Result<Self> {
        let base = 0;
        source.seek(SeekFrom::Start(base))?;
        let mut tables = std::io::BufReader::with_capacity(1 << 16, &mut source);
        let mut header = Header::read_from_bytes(&[0; size_of::<Header>()]).map_err(|_| Error::Usage(String::new()))?;
        let mut at = 0;
        exact(&mut tables, header.as_mut_bytes(), &mut at)?;
        if header.signature != SIGNATURE {
            return Err(Error::format(0, "not a cabinet"));
        }
        if header.version_major != 1 {
            return Err(Error::format(25, format!("cabinet version {} isn't supported", header.version_major)));
        }
        let (mut reserve_folder, mut reserve_data) = (0, 0);
        let flags = header.flags.get();
        if flags & FLAG_RESERVE_PRESENT != 0 {
            let mut sizes = [0; 4];
            exact(&mut tables, &mut sizes, &mut at)?;
            (reserve_folder, reserve_data) = (sizes[2], sizes[3]);
            skip(&mut tables, u16::from_le_bytes([sizes[0], sizes[1]]).into(), &mut at)?;
        }
        for flag in [FLAG_PREV_CABINET, FLAG_NEXT_CABINET] {
            if flags & flag != 0 {
                name(&mut tables, &mut at)?;
                name(&mut tables, &mut at)?;
            }
        }
        let mut folders = Vec::new();
        for _ in 0..header.folders.get() {
            let mut folder = [0; size_of::<Folder>()];
            exact(&mut tables, &mut folder, &mut at)?;
            let folder = Folder::read_from_bytes(&folder).map_err(|_| Error::Usage(String::new()))?;
            skip(&mut tables, reserve_folder.into(), &mut at)?;
            let field = folder.compression.get();
            let (offset, blocks) = (folder.data_offset.get(), folder.blocks.get());
            folders.push(FolderInfo { offset, blocks, method: Method::from_field(field), field });
        }
        let count = header.files.get() as usize;
        if count > limits.max_files {
            return Err(Error::Limit(format!("{count} files are more than the limit of {}", limits.max_files)));
        }
        drop(tables);
        at = header.files_offset.get().into();
        source.seek(SeekFrom::Start(base + at))?;
        let mut tables = std::io::BufReader::with_capacity(1 << 16, &mut source);
        let mut files = Vec::new();
        for _ in 0..count {
            let begin = at;
            let mut record = [0; size_of::<File>()];
            exact(&mut tables, &mut record, &mut at)?;
            let record = File::read_from_bytes(&record).map_err(|_| Error::Usage(String::new()))?;
            let raw = name(&mut tables, &mut at)?;
            let (size, offset, folder) = (record.size.get(), record.folder_offset.get(), record.folder.get());
            if folder < FOLDER_CONTINUED && folder as usize >= folders.len() {
                return Err(Error::format(
                    begin,
                    format!("a file of folder {folder}, but there are {}", folders.len()),
                ));
            }
            if u64::from(size) + u64::from(offset) > limits.max_folder {
                return Err(Error::Limit(format!(
                    "the file at offset {begin:#x} ends past {} bytes",
                    limits.max_folder
                )));
            }
            files.push(Entry {
                name: text(&raw, record.attributes.get() & ATTRIBUTE_NAME_IS_UTF != 0),
                size,
                offset,
                folder,
                date: record.date.get(),
                time: record.time.get(),
                attributes: record.attributes.get(),
            });
        }
        drop(tables);
        let length = header.cabinet_size.get().into();
        Ok(Self { source, base, length, reserve_data: reserve_data.into(), files, folders })
    }

    /// Its files, in the cabinet's order.
    pub fn files(&self) -> &[Entry] {
        &self.files
    }

    /// Its folders.
    pub fn folders(&self) -> &[FolderInfo] {
        &self.folders
    }

    /// The length that the header states, bytes.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// Hands each file's bytes to `visit`, folder by folder, in the order in which they are packed.
    ///
    /// # Errors
    /// Damage; a compression that is not known; a file that goes on in another cabinet; the visitor's own.
    pub fn walk<E: From<Error>>(
        &mut self,
        mut visit: impl FnMut(&Entry, &mut dyn Read) -> std::result::Result<(), E>,
    ) -> std::result::Result<(), E> {
        if let Some(split) = self.files.iter().find(|f| f.folder >= FOLDER_CONTINUED) {
            return Err(Error::Usage(format!("{} continues in another cabinet", split.name)).into());
        }
        // Sorted once: a hostile file may list very many folders.
        let mut order: Vec<&Entry> = self.files.iter().collect();
        order.sort_by_key(|f| (f.folder, f.offset));
        for files in order.chunk_by(|a, b| a.folder == b.folder) {
            let folder = usize::from(files[0].folder);
            let mut plain = FolderReader::new(&mut self.source, self.base, &self.folders[folder], self.reserve_data)?;
            for file in files {
                if u64::from(file.offset) < plain.position {
                    let what = format!("{} overlaps the file before it", file.name);
                    return Err(Error::format(self.folders[folder].offset.into(), what).into());
                }
                plain.skip_to(file.offset.into())?;
                let end = plain.position + u64::from(file.size);
                visit(file, &mut (&mut plain).take(file.size.into()))?;
                plain.skip_to(end)?;
            }
        }
        Ok(())
    }
}

/// The plain bytes of a folder.
struct FolderReader<'r, R> {
    source: std::io::BufReader<&'r mut R>,
    at: u64,
    blocks_left: u16,
    reserve: usize,
    decoder: Decoder,
    /// For MSZIP the last 32 KiB stand in front.
    plain: Vec<u8>,
    taken: usize,
    packed: Vec<u8>,
    position: u64,
}

enum Decoder {
    Stored,
    Mszip(Box<Decompress>),
    Lzx(Box<lzxd::Lzxd>),
}

impl<'r, R: Read + Seek> FolderReader<'r, R> {
    fn new(source: &'r mut R, base: u64, folder: &FolderInfo, reserve: usize) -> Result<Self> {
        let at = u64::from(folder.offset);
        let decoder = match folder.method {
            Some(Method::Stored) => Decoder::Stored,
            Some(Method::Mszip) => Decoder::Mszip(Box::new(Decompress::new(false))),
            Some(Method::Lzx(bits)) => {
                use lzxd::WindowSize::*;
                let window = [KB32, KB64, KB128, KB256, KB512, MB1, MB2][usize::from(bits - 15)];
                Decoder::Lzx(Box::new(lzxd::Lzxd::new(window)))
            }
            None => return Err(Error::format(at, format!("compression {:#x} isn't supported", folder.field))),
        };
        source.seek(SeekFrom::Start(base + at))?;
        let source = std::io::BufReader::with_capacity(1 << 17, source);
        let blocks_left = folder.blocks;
        let (plain, packed) = (Vec::new(), Vec::new());
        Ok(Self { source, at, blocks_left, reserve, decoder, plain, taken: 0, packed, position: 0 })
    }

    /// Unpacks the next block; `false` when there is none.
    fn next_block(&mut self) -> Result<bool> {
        if self.blocks_left == 0 {
            return Ok(false);
        }
        self.blocks_left -= 1;
        let begin = self.at;
        let mut head = [0; size_of::<Data>()];
        exact(&mut self.source, &mut head, &mut self.at)?;
        let head = Data::read_from_bytes(&head).map_err(|_| Error::Usage(String::new()))?;
        let (packed, plain) = (head.packed.get() as usize, head.plain.get() as usize);
        if packed > MAX_PACKED || plain > BLOCK || plain == 0 {
            return Err(Error::format(begin, format!("a block of {packed} packed and {plain} plain bytes")));
        }
        skip(&mut self.source, self.reserve as u64, &mut self.at)?;
        self.packed.resize(packed, 0);
        exact(&mut self.source, &mut self.packed, &mut self.at)?;
        let stated = head.checksum.get();
        if stated != 0 && stated != checksum(&self.packed, plain as u16) {
            return Err(Error::format(begin, "a block's checksum is wrong"));
        }
        let bad = |what: String| Error::format(begin, what);
        match &mut self.decoder {
            Decoder::Stored => {
                if packed != plain {
                    return Err(bad(format!("a stored block of {packed} bytes that claims {plain}")));
                }
                self.plain.clear();
                self.plain.extend_from_slice(&self.packed);
                self.taken = 0;
            }
            Decoder::Mszip(inflate) => {
                if !self.packed.starts_with(b"CK") {
                    return Err(bad("an MSZIP block without its signature".into()));
                }
                inflate.reset(false);
                let keep = self.plain.len().min(BLOCK);
                self.plain.drain(..self.plain.len() - keep);
                if keep > 0 {
                    inflate.set_dictionary(&self.plain).map_err(|e| bad(format!("deflate: {e}")))?;
                }
                self.plain.resize(keep + plain, 0);
                let done = inflate.decompress(&self.packed[2..], &mut self.plain[keep..], FlushDecompress::Finish);
                match done {
                    Ok(Status::StreamEnd) if inflate.total_out() == plain as u64 => {}
                    Ok(_) => return Err(bad("a deflate stream that doesn't end where it should".into())),
                    Err(e) => return Err(bad(format!("deflate: {e}"))),
                }
                self.taken = keep;
            }
            Decoder::Lzx(lzx) => {
                let out = lzx.decompress_next(&self.packed, plain).map_err(|e| bad(format!("LZX: {e}")))?;
                if out.len() != plain {
                    return Err(bad(format!("an LZX block of {} bytes that claims {plain}", out.len())));
                }
                self.plain.clear();
                self.plain.extend_from_slice(out);
                self.taken = 0;
            }
        }
        Ok(true)
    }

    fn skip_to(&mut self, to: u64) -> Result<()> {
        while self.position < to {
            if self.taken == self.plain.len() && !self.next_block()? {
                return Err(Error::format(self.at, "the folder ends before its last file"));
            }
            let n = ((self.plain.len() - self.taken) as u64).min(to - self.position);
            self.taken += n as usize;
            self.position += n;
        }
        Ok(())
    }
}

impl<R: Read + Seek> Read for FolderReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.taken == self.plain.len() {
            let more = self.next_block().map_err(|e| std::io::Error::new(std::io::ErrorKind::InvalidData, e));
            if !more? {
                return Ok(0);
            }
        }
        let n = buffer.len().min(self.plain.len() - self.taken);
        buffer[..n].copy_from_slice(&self.plain[self.taken..self.taken + n]);
        self.taken += n;
        self.position += n as u64;
        Ok(n)
    }
}

fn exact(source: &mut impl Read, bytes: &mut [u8], at: &mut u64) -> Result<()> {
    source.read_exact(bytes).map_err(|e| match e.kind() {
        std::io::ErrorKind::UnexpectedEof => Error::format(*at, "the cabinet is cut off"),
        _ => e.into(),
    })?;
    *at += bytes.len() as u64;
    Ok(())
}

fn skip(source: &mut impl Read, count: u64, at: &mut u64) -> Result<()> {
    std::io::copy(&mut source.take(count), &mut std::io::sink())?;
    *at += count;
    Ok(())
}

/// A name ended by a zero byte; at most 255 bytes and the zero.
fn name(source: &mut impl BufRead, at: &mut u64) -> Result<Vec<u8>> {
    let mut raw = Vec::new();
    source.take(256).read_until(0, &mut raw)?;
    if raw.pop() != Some(0) {
        return Err(Error::format(*at, "an unterminated name"));
    }
    *at += raw.len() as u64 + 1;
    Ok(raw)
}

/// Names are UTF-8 where marked, else in a code page that the file does not name: read as Latin-1.
fn text(raw: &[u8], utf: bool) -> String {
    match std::str::from_utf8(raw) {
        Ok(text) if utf || raw.is_ascii() => text.to_owned(),
        _ => raw.iter().map(|b| char::from(*b)).collect(),
    }
}
