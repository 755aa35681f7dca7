//! The one reading of every file: read ahead by several threads, hashed on the way, and handed to all packages of the
//! platform at once, in the payload's order. Memory is bounded by what is under way, not by the payload.

use super::{PayloadFile, Source, Stamp};
use crate::content::ContentHash;
use crate::problem::{Code, Failure, Kind, Problem};
use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

const CHUNK: usize = 1 << 18;
/// Chunks of one file under way.
const CHUNKS_AHEAD: usize = 4;
/// Files and bytes that are read before their turn.
const FILES_AHEAD: usize = 64;
const BYTES_AHEAD: u64 = 6 << 20;

/// A part of the stream that a package's writer gets.
#[derive(Debug, Clone)]
pub enum Part {
    /// The file with this index begins.
    Begin(usize),
    /// Its next bytes.
    Bytes(Arc<Vec<u8>>),
    /// So many zeros, which are a hole on disk.
    Zeros(u64),
    /// It ends; this is its hash.
    End(ContentHash),
}

/// The zeros of a hole, in pieces of which each is no longer than this.
static ZEROS: [u8; 1 << 16] = [0; 1 << 16];

impl Part {
    /// Passes on the bytes of the file that are in it, those of a hole too.
    ///
    /// # Errors
    /// The first one that `to` gives.
    pub fn pass_on<E>(&self, mut to: impl FnMut(&[u8]) -> Result<(), E>) -> Result<(), E> {
        match self {
            Part::Begin(_) | Part::End(_) => Ok(()),
            Part::Bytes(bytes) => to(bytes),
            Part::Zeros(count) => {
                let mut left = *count;
                while left > 0 {
                    let n = left.min(ZEROS.len() as u64);
                    to(&ZEROS[..n as usize])?;
                    left -= n;
                }
                Ok(())
            }
        }
    }
}

/// One writer's end of the feed.
pub struct Stream {
    parts: Receiver<Part>,
}

impl Stream {
    /// The next part; `None` when the feed is over (or broke off: then the build fails anyway).
    pub fn next_part(&mut self) -> Option<Part> {
        self.parts.recv().ok()
    }

    /// Goes to the next file and gives its index.
    pub fn next_file(&mut self) -> Option<usize> {
        loop {
            match self.next_part()? {
                Part::Begin(index) => return Some(index),
                Part::Bytes(_) | Part::Zeros(_) | Part::End(_) => {}
            }
        }
    }

    /// The bytes of the current file as a stream, to its end.
    pub fn reader(&mut self) -> FileReader<'_> {
        FileReader { stream: self, part: None, ended: false }
    }
}

/// Reads one file of a [`Stream`].
pub struct FileReader<'s> {
    stream: &'s mut Stream,
    part: Option<(Part, usize)>,
    ended: bool,
}

impl Read for FileReader<'_> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        loop {
            if self.ended {
                return Ok(0);
            }
            match self.part.take() {
                Some((Part::Bytes(bytes), at)) if at < bytes.len() => {
                    let n = out.len().min(bytes.len() - at);
                    out[..n].copy_from_slice(&bytes[at..at + n]);
                    self.part = Some((Part::Bytes(bytes), at + n));
                    return Ok(n);
                }
                Some((Part::Zeros(left), _)) if left > 0 => {
                    let n = out.len().min(usize::try_from(left).unwrap_or(usize::MAX));
                    out[..n].fill(0);
                    self.part = Some((Part::Zeros(left - n as u64), 0));
                    return Ok(n);
                }
                _ => match self.stream.next_part() {
                    Some(Part::End(_)) => self.ended = true,
                    Some(Part::Begin(_)) => return Err(io::Error::other("the files came in the wrong order")),
                    Some(part) => self.part = Some((part, 0)),
                    None => return Err(io::Error::other("the files ended too early")),
                },
            }
        }
    }
}

enum Chunk {
    Bytes(Vec<u8>),
    Zeros(u64),
    End(ContentHash),
    Failed(Failure),
}

/// The feed's end of a [`Stream`].
pub struct Outlet {
    parts: Sender<Part>,
    /// Files that are further names of others are not for this one.
    once: bool,
    /// The index of the next file.
    next: usize,
}

impl Outlet {
    fn wants(&self, file: &PayloadFile) -> bool {
        !(self.once && file.further_name)
    }
}

/// Makes an [`Outlet`] and a [`Stream`] for each writer; one for which it is true gets no file that is a further name of
/// another, and indices that don't count them.
pub fn streams(once: impl IntoIterator<Item = bool>) -> (Vec<Outlet>, Vec<Stream>) {
    let pair = |once| {
        let (sender, parts) = bounded(8);
        (Outlet { parts: sender, once, next: 0 }, Stream { parts })
    };
    once.into_iter().map(pair).unzip()
}

/// Reads all files in order and sends them to all writers; gives each file's hash. `progress` hears of plain bytes.
///
/// # Errors
/// A file that can't be read, or is not any more what it was when it was gathered. `stop` set by others ends it.
pub fn feed(
    files: &[PayloadFile],
    mut writers: Vec<Outlet>,
    stop: &AtomicBool,
    progress: &(dyn Fn(u64) + Sync),
) -> Result<Vec<ContentHash>, Failure> {
    let (jobs, queue) = unbounded::<(&PayloadFile, Sender<Chunk>)>();
    std::thread::scope(|scope| {
        for _ in 0..2 {
            let queue = queue.clone();
            scope.spawn(move || {
                for (file, out) in queue {
                    let _ = read_file(file, &out);
                }
            });
        }
        let mut hashes = Vec::with_capacity(files.len());
        let mut ahead: VecDeque<(u64, Receiver<Chunk>)> = VecDeque::new();
        let (mut next, mut bytes_ahead) = (0, 0);
        let mut result = Ok(());
        'files: for index in 0..files.len() {
            while next < files.len() && (ahead.is_empty() || ahead.len() < FILES_AHEAD && bytes_ahead < BYTES_AHEAD) {
                let weight = files[next].size.min((CHUNK * CHUNKS_AHEAD) as u64);
                let (sender, chunks) = bounded(CHUNKS_AHEAD);
                let _ = jobs.send((&files[next], sender));
                ahead.push_back((weight, chunks));
                bytes_ahead += weight;
                next += 1;
            }
            let Some((weight, chunks)) = ahead.pop_front() else { break };
            bytes_ahead -= weight;
            let file = &files[index];
            for writer in writers.iter_mut().filter(|w| w.wants(file)) {
                let _ = writer.parts.send(Part::Begin(writer.next));
                writer.next += 1;
            }
            let send = |part: Part| {
                writers.iter().filter(|w| w.wants(file)).for_each(|w| drop(w.parts.send(part.clone())));
            };
            for chunk in chunks {
                if stop.load(Ordering::Relaxed) {
                    break 'files;
                }
                match chunk {
                    Chunk::Bytes(bytes) => {
                        progress(bytes.len() as u64);
                        send(Part::Bytes(Arc::new(bytes)));
                    }
                    Chunk::Zeros(n) => {
                        progress(n);
                        send(Part::Zeros(n));
                    }
                    Chunk::End(hash) => {
                        hashes.push(hash);
                        send(Part::End(hash));
                    }
                    Chunk::Failed(failure) => {
                        result = Err(failure);
                        break 'files;
                    }
                }
            }
        }
        // Readers that still send find nobody listening, and end.
        drop((jobs, ahead));
        result.map(|()| hashes)
    })
}

/// Sends a file's chunks; an error here only means that the reader has stopped.
fn read_file(file: &PayloadFile, out: &Sender<Chunk>) -> Result<(), crossbeam_channel::SendError<Chunk>> {
    match &file.source {
        Source::Memory(bytes) => {
            for part in bytes.chunks(CHUNK) {
                out.send(Chunk::Bytes(part.to_vec()))?;
            }
            out.send(Chunk::End(ContentHash::of(bytes)))
        }
        Source::Joined(parts) => {
            let mut chunks = Chunks { out, hasher: blake3::Hasher::new(), bytes: Vec::new() };
            match join(parts, &mut chunks) {
                Ok(()) => {
                    chunks.pass_on().map_err(|()| crossbeam_channel::SendError(Chunk::Bytes(Vec::new())))?;
                    out.send(Chunk::End(ContentHash(*chunks.hasher.finalize().as_bytes())))
                }
                Err(failure) => out.send(Chunk::Failed(failure)),
            }
        }
        Source::Changed(base, overlay) => {
            let mut chunks = Chunks { out, hasher: blake3::Hasher::new(), bytes: Vec::new() };
            match signed(base, overlay, &mut chunks) {
                Ok(()) => {
                    chunks.pass_on().map_err(|()| crossbeam_channel::SendError(Chunk::Bytes(Vec::new())))?;
                    out.send(Chunk::End(ContentHash(*chunks.hasher.finalize().as_bytes())))
                }
                Err(e) => out.send(Chunk::Failed(changed(std::path::Path::new(file.path.as_str()), &e.to_string()))),
            }
        }
        Source::Disk(path, stamp) => match read_disk(path, *stamp, out) {
            Ok(Some(hash)) => out.send(Chunk::End(hash)),
            Ok(None) => Ok(()),
            Err(failure) => out.send(Chunk::Failed(failure)),
        },
    }
}

/// What is written into it goes on in chunks.
struct Chunks<'o> {
    out: &'o Sender<Chunk>,
    hasher: blake3::Hasher,
    bytes: Vec<u8>,
}

impl Chunks<'_> {
    /// Sends what is there; an error means that the reader has stopped.
    fn pass_on(&mut self) -> Result<(), ()> {
        if self.bytes.is_empty() {
            return Ok(());
        }
        self.hasher.update(&self.bytes);
        self.out.send(Chunk::Bytes(std::mem::take(&mut self.bytes))).map_err(|_| ())
    }
}

impl io::Write for Chunks<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let n = bytes.len().min(CHUNK - self.bytes.len());
        self.bytes.extend_from_slice(&bytes[..n]);
        if self.bytes.len() == CHUNK {
            self.pass_on().map_err(|()| io::Error::other("the reader has stopped"))?;
        }
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A program with its signature, whose file is looked at before and afterwards.
fn signed(base: &Source, overlay: &read_at::Overlay<()>, chunks: &mut Chunks) -> io::Result<()> {
    io::copy(&mut read_at::Cursor::new(overlay.over(base.open()?)), chunks)?;
    base.open().map(drop)
}

fn join(parts: &Arc<[(std::path::PathBuf, Stamp)]>, chunks: &mut Chunks) -> Result<(), Failure> {
    let files = super::universal::parts(parts).map_err(|(path, e)| changed(&path, &e.to_string()))?;
    mach_o::join(&files, chunks).map_err(|e| changed(&parts[0].0, &e.to_string()))?;
    super::universal::parts(parts).map(drop).map_err(|(path, e)| changed(&path, &e.to_string()))
}

/// `None` when the reader has stopped.
fn read_disk(path: &std::path::Path, stamp: Stamp, out: &Sender<Chunk>) -> Result<Option<ContentHash>, Failure> {
    let trouble = |e: io::Error| match e.kind() {
        io::ErrorKind::NotFound => changed(path, "it no longer exists"),
        _ => Failure::io("can't read", path, e),
    };
    let mut file = File::open(path).map_err(trouble)?;
    if Stamp::of(&file.metadata().map_err(trouble)?) != stamp {
        return Err(changed(path, "its size, time or identity is not what it was"));
    }
    let mut hasher = blake3::Hasher::new();
    let mut at = 0;
    let mut data_end = 0;
    while at < stamp.size {
        if at >= data_end {
            let (data, end) = next_data(&file, at, stamp.size).map_err(trouble)?;
            if data > at {
                hash_zeros(&mut hasher, data - at);
                if out.send(Chunk::Zeros(data - at)).is_err() {
                    return Ok(None);
                }
                at = data;
            }
            data_end = end;
            if at >= stamp.size {
                break;
            }
        }
        let want = usize::try_from((data_end.min(stamp.size) - at).min(CHUNK as u64)).unwrap_or(CHUNK);
        let mut bytes = vec![0; want];
        file.read_exact(&mut bytes).map_err(|e| match e.kind() {
            io::ErrorKind::UnexpectedEof => changed(path, "it became shorter"),
            _ => trouble(e),
        })?;
        hasher.update(&bytes);
        at += want as u64;
        if out.send(Chunk::Bytes(bytes)).is_err() {
            return Ok(None);
        }
    }
    if Stamp::of(&file.metadata().map_err(trouble)?) != stamp {
        return Err(changed(path, "its size or time changed while it was read"));
    }
    Ok(Some(ContentHash(*hasher.finalize().as_bytes())))
}

fn changed(path: &std::path::Path, why: &str) -> Failure {
    let problem = Problem::error(
        Code::ChangedDuringBuild,
        format!("{} changed while the package was being built", path.display()),
    );
    let problem = problem.on(path).why(why.to_owned());
    Failure::new(Kind::Machine, problem.instead("wait until the program's own build has finished, then build again"))
}

fn hash_zeros(hasher: &mut blake3::Hasher, mut count: u64) {
    let zeros = [0; 1 << 16];
    while count > 0 {
        let n = count.min(zeros.len() as u64);
        hasher.update(&zeros[..n as usize]);
        count -= n;
    }
}

/// Where data begins at or behind `at`, and where it ends; the file's position is left at its beginning. Only holes of
/// more than 64 KiB are worth the question.
#[cfg(unix)]
fn next_data(file: &File, at: u64, size: u64) -> io::Result<(u64, u64)> {
    use rustix::fs::{SeekFrom, seek};
    if size < 1 << 16 {
        return Ok((at, size));
    }
    let data = match seek(file, SeekFrom::Data(at)) {
        Ok(data) => data.min(size),
        Err(rustix::io::Errno::NXIO) => size,
        // The file system does not know: all of it is data.
        Err(_) => return seek(file, SeekFrom::Start(at)).map(|_| (at, size)).map_err(Into::into),
    };
    let end = if data < size { seek(file, SeekFrom::Hole(data)).unwrap_or(size).min(size) } else { size };
    seek(file, SeekFrom::Start(data))?;
    Ok((data, end))
}

#[cfg(not(unix))]
fn next_data(_: &File, at: u64, size: u64) -> io::Result<(u64, u64)> {
    Ok((at, size))
}
