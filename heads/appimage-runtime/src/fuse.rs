//! The kernel's file system protocol, read-only, spoken on `/dev/fuse` directly.
//! Source: the kernel's `include/uapi/linux/fuse.h` (protocol 7.12 and later).

use crate::image::damaged;
use crate::tree::{Part, Tree, AHEAD};
use squashfs::read::{Inode, Kind};
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::sync::Arc;

const LOOKUP: u32 = 1;
const FORGET: u32 = 2;
const GETATTR: u32 = 3;
const READLINK: u32 = 5;
const OPEN: u32 = 14;
const READ: u32 = 15;
const STATFS: u32 = 17;
const RELEASE: u32 = 18;
const GETXATTR: u32 = 22;
const LISTXATTR: u32 = 23;
const FLUSH: u32 = 25;
const INIT: u32 = 26;
const OPENDIR: u32 = 27;
const READDIR: u32 = 28;
const RELEASEDIR: u32 = 29;
const ACCESS: u32 = 34;
const INTERRUPT: u32 = 36;
const DESTROY: u32 = 38;
const BATCH_FORGET: u32 = 42;
const READDIRPLUS: u32 = 44;

/// Flags of INIT that are wanted: asynchronous reads, attributes with listings, parallel look-ups, links kept by the
/// kernel, no message for opening, long reads.
const FLAGS: u32 = 1 | 1 << 13 | 1 << 14 | 1 << 17 | 1 << 18 | 1 << 22 | 1 << 23 | 1 << 24;
/// Longest read: 256 pages of 4 KiB.
const MAX_PAGES: u16 = 256;
/// Nothing in the image ever changes.
const VALID_SECONDS: u64 = 1 << 30;
const HEADER_IN: usize = 40;
/// Bytes for one request: names and small structures only, the file system is read-only.
const REQUEST: usize = 16 * 1024;

/// Answers the kernel on several threads; each ends when the file system is unmounted.
pub fn serve(device: &Arc<OwnedFd>, tree: &Arc<Tree>) {
    let threads = std::thread::available_parallelism().map_or(2, |n| n.get().clamp(2, 6));
    // With fewer threads than wished it is slower, not wrong.
    for _ in 0..threads {
        let (device, tree) = (device.clone(), tree.clone());
        let _ = std::thread::Builder::new().spawn(move || answer_all(&device, &tree));
    }
    for _ in 0..AHEAD {
        let tree = tree.clone();
        let _ = std::thread::Builder::new().spawn(move || tree.unpack_ahead());
    }
}

fn answer_all(device: &OwnedFd, tree: &Tree) {
    let mut request = vec![0u8; REQUEST];
    loop {
        // SAFETY: the buffer is as long as the call is told.
        let n = unsafe { libc::read(device.as_raw_fd(), request.as_mut_ptr().cast(), request.len()) };
        if n < 0 {
            match io::Error::last_os_error().raw_os_error() {
                Some(libc::EINTR | libc::EAGAIN | libc::ENOENT) => continue,
                _ => return,
            }
        }
        let Some(request) = Request::parse(&request[..n as usize]) else { return };
        let device = unsafe { BorrowedFd::borrow_raw(device.as_raw_fd()) };
        // A reply can fail only because the asker is gone.
        let _ = match answer(&request, tree) {
            Answer::Nothing => Ok(()),
            Answer::Error(number) => reply(device, request.unique, -number, &[]),
            Answer::Damaged(what) => {
                tell(request.process, &damaged(&tree.path, what));
                reply(device, request.unique, -libc::EIO, &[])
            }
            Answer::Bytes(bytes) => reply(device, request.unique, 0, &[&bytes]),
            Answer::Parts(parts) => reply_parts(device, request.unique, &parts),
        };
    }
}

struct Request<'b> {
    opcode: u32,
    unique: u64,
    node: u64,
    /// Who asks; 0 when it is the kernel itself.
    process: u32,
    body: &'b [u8],
}

impl<'b> Request<'b> {
    fn parse(bytes: &'b [u8]) -> Option<Self> {
        let (head, body) = bytes.split_at_checked(HEADER_IN)?;
        Some(Self {
            opcode: u32_at(head, 4),
            unique: u64_at(head, 8),
            node: u64_at(head, 16),
            process: u32_at(head, 32),
            body,
        })
    }
}

/// Zero where the kernel sent less than expected.
fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes)
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_le_bytes)
}

enum Answer {
    Nothing,
    Error(i32),
    /// The image is not what it was; this is what is wrong.
    Damaged(String),
    Bytes(Vec<u8>),
    Parts(Vec<Part>),
}

impl From<squashfs::Error> for Answer {
    fn from(e: squashfs::Error) -> Self {
        Self::Damaged(e.to_string())
    }
}

/// Says something once, where the asking program says what goes wrong: it may well die of it. This process has let go of
/// everything that belongs to others, so that nobody waits for it.
fn tell(process: u32, sentence: &str) {
    static SAID: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);
    if process == 0 || SAID.swap(true, std::sync::atomic::Ordering::Relaxed) {
        return;
    }
    if let Some(out) = errors_of(process) {
        let line = format!("{sentence}\n");
        // SAFETY: the structure and the bytes live until the calls are over. Never waits: a pipe may be full.
        unsafe {
            let mut ready = libc::pollfd { fd: out.as_raw_fd(), events: libc::POLLOUT, revents: 0 };
            if libc::poll(&mut ready, 1, 0) == 1 && ready.revents & libc::POLLOUT != 0 {
                libc::write(out.as_raw_fd(), line.as_ptr().cast(), line.len());
            }
        }
    }
}

/// A program's standard error: the very same one where the system lets it be shared, else what its name leads to.
fn errors_of(process: u32) -> Option<OwnedFd> {
    // SAFETY: plain numbers; what is given back is a new descriptor of ours, or negative.
    let shared = unsafe {
        let handle = libc::syscall(libc::SYS_pidfd_open, process, 0);
        let handle = (handle >= 0).then(|| OwnedFd::from_raw_fd(handle as libc::c_int));
        let shared = handle.map_or(-1, |h| libc::syscall(libc::SYS_pidfd_getfd, h.as_raw_fd(), 2, 0));
        (shared >= 0).then(|| OwnedFd::from_raw_fd(shared as libc::c_int))
    };
    let by_name = || {
        let flags = libc::O_NONBLOCK | libc::O_NOCTTY;
        let options =
            std::fs::OpenOptions::new().append(true).custom_flags(flags).open(format!("/proc/{process}/fd/2"));
        options.ok().map(OwnedFd::from)
    };
    shared.or_else(by_name)
}

fn answer(request: &Request, tree: &Tree) -> Answer {
    let answered = match request.opcode {
        INIT => Ok(init(request.body)),
        LOOKUP => lookup(request, tree),
        GETATTR => tree.inode(request.node).map(|inode| Answer::Bytes(attr_out(&inode))).map_err(Answer::from),
        READLINK => tree.inode(request.node).map_err(Answer::from).map(|inode| match inode.kind {
            Kind::Symlink(target) => Answer::Bytes(target),
            _ => Answer::Error(libc::EINVAL),
        }),
        READ => {
            let (offset, size) = (u64_at(request.body, 8), u32_at(request.body, 16) as usize);
            let size = size.min(usize::from(MAX_PAGES) * 4096);
            match tree.read(request.node, offset, size) {
                Ok(parts) if parts.iter().all(Part::is_whole) => Ok(Answer::Parts(parts)),
                Ok(_) => Ok(Answer::Damaged("a block is shorter than its file says".into())),
                Err(e) => Err(e.into()),
            }
        }
        READDIR => list(request, tree, false),
        READDIRPLUS => list(request, tree, true),
        STATFS => Ok(statfs(tree)),
        GETXATTR | LISTXATTR => xattr(request, tree),
        ACCESS => Ok(Answer::Bytes(Vec::new())),
        RELEASE | RELEASEDIR | FLUSH => Ok(Answer::Bytes(Vec::new())),
        FORGET | BATCH_FORGET | INTERRUPT | DESTROY => Ok(Answer::Nothing),
        // "Not known" means to the kernel: no message for opening any more, and everything read stays in its cache.
        OPEN | OPENDIR => Ok(Answer::Error(libc::ENOSYS)),
        _ => Ok(Answer::Error(libc::ENOSYS)),
    };
    answered.unwrap_or_else(|answer| answer)
}

fn init(body: &[u8]) -> Answer {
    let (minor, readahead, offered) = (u32_at(body, 4), u32_at(body, 8), u32_at(body, 12));
    let mut out = Vec::with_capacity(64);
    put32(&mut out, &[7, minor.min(31), readahead.max(1 << 20).min(readahead), offered & FLAGS]);
    out.extend_from_slice(&32u16.to_le_bytes()); // requests in the background
    out.extend_from_slice(&24u16.to_le_bytes()); // from here on askers are slowed down
    put32(&mut out, &[4096, 1]); // longest write (never used), a nanosecond
    out.extend_from_slice(&MAX_PAGES.to_le_bytes());
    out.resize(if minor < 23 { 24 } else { 64 }, 0);
    Answer::Bytes(out)
}

fn lookup(request: &Request, tree: &Tree) -> Result<Answer, Answer> {
    let name = request.body.strip_suffix(&[0]).unwrap_or(request.body);
    let Some(entry) = tree.find(request.node, name)? else {
        // Node 0: "not there, and you may remember it".
        let mut none = vec![0; 128];
        none[16..24].copy_from_slice(&VALID_SECONDS.to_le_bytes());
        return Ok(Answer::Bytes(none));
    };
    let inode = tree.image.inode(entry.inode)?;
    Ok(Answer::Bytes(entry_out(tree.node_of(entry.inode), &inode)))
}

fn entry_out(node: u64, inode: &Inode) -> Vec<u8> {
    let mut out = Vec::with_capacity(128);
    put64(&mut out, &[node, 0, VALID_SECONDS, VALID_SECONDS]);
    put32(&mut out, &[0, 0]);
    put_attr(&mut out, inode);
    out
}

fn attr_out(inode: &Inode) -> Vec<u8> {
    let mut out = Vec::with_capacity(104);
    put64(&mut out, &[VALID_SECONDS]);
    put32(&mut out, &[0, 0]);
    put_attr(&mut out, inode);
    out
}

fn put_attr(out: &mut Vec<u8>, inode: &Inode) {
    let (size, stored) = match &inode.kind {
        Kind::File(file) => (file.size, file.size.saturating_sub(file.sparse)),
        Kind::Symlink(target) => (target.len() as u64, target.len() as u64),
        _ => (0, 0),
    };
    let rdev = match inode.kind {
        Kind::BlockDevice(rdev) | Kind::CharDevice(rdev) => rdev,
        _ => 0,
    };
    let time = u64::from(inode.mtime);
    put64(out, &[inode.number.into(), size, stored.div_ceil(512), time, time, time]);
    let mode = u32::from(inode.mode) | file_type(&inode.kind);
    put32(out, &[0, 0, 0, mode, inode.nlink, inode.uid, inode.gid, rdev, 4096, 0]);
}

fn file_type(kind: &Kind) -> u32 {
    match kind {
        Kind::Dir(_) => libc::S_IFDIR,
        Kind::File(_) => libc::S_IFREG,
        Kind::Symlink(_) => libc::S_IFLNK,
        Kind::BlockDevice(_) => libc::S_IFBLK,
        Kind::CharDevice(_) => libc::S_IFCHR,
        Kind::Fifo => libc::S_IFIFO,
        Kind::Socket => libc::S_IFSOCK,
    }
}

/// Fills one answer with names from the asked offset on: 0 is `.`, 1 is `..`, then the entries.
fn list(request: &Request, tree: &Tree, with_attributes: bool) -> Result<Answer, Answer> {
    let (offset, size) = (u64_at(request.body, 8), (u32_at(request.body, 16) as usize).min(1 << 20));
    let entries = tree.entries(request.node)?;
    let mut out = Vec::with_capacity(size);
    for index in offset..entries.len() as u64 + 2 {
        let (name, number, kind, entry) = match index {
            0 => (b".".as_slice(), 1, libc::S_IFDIR, None),
            1 => (b"..".as_slice(), 1, libc::S_IFDIR, None),
            n => {
                let entry = &entries[n as usize - 2];
                (entry.name.as_slice(), u64::from(entry.number), 0, Some(entry))
            }
        };
        let fixed = if with_attributes { 128 + 24 } else { 24 };
        let len = (fixed + name.len()).next_multiple_of(8);
        if out.len() + len > size {
            break;
        }
        let end = out.len() + len;
        let mut kind = kind;
        let mut number = number;
        let inode = entry.map(|e| tree.image.inode(e.inode)).transpose()?;
        if let Some(inode) = &inode {
            (kind, number) = (file_type(&inode.kind), inode.number.into());
        }
        if with_attributes {
            match (&inode, entry) {
                (Some(inode), Some(entry)) => out.extend(entry_out(tree.node_of(entry.inode), inode)),
                // The kernel knows `.` and `..` itself.
                _ => out.resize(out.len() + 128, 0),
            }
        }
        put64(&mut out, &[number, index + 1]);
        put32(&mut out, &[name.len() as u32, kind >> 12]);
        out.extend_from_slice(name);
        out.resize(end, 0);
    }
    Ok(Answer::Bytes(out))
}

fn statfs(tree: &Tree) -> Answer {
    let superblock = tree.image.superblock();
    let mut out = Vec::with_capacity(80);
    put64(&mut out, &[tree.image.bytes_used().div_ceil(4096), 0, 0, superblock.inode_count.get().into(), 0]);
    put32(&mut out, &[4096, 256, 4096, 0, 0, 0, 0, 0, 0, 0]);
    Answer::Bytes(out)
}

fn xattr(request: &Request, tree: &Tree) -> Result<Answer, Answer> {
    let set = tree.image.xattrs(&tree.inode(request.node)?)?;
    let size = u32_at(request.body, 0) as usize;
    let value = if request.opcode == LISTXATTR {
        set.iter().flat_map(|(name, _)| [name.as_bytes(), &[0]].concat()).collect()
    } else {
        let name = request.body.get(8..).unwrap_or_default();
        let name = name.strip_suffix(&[0]).unwrap_or(name);
        let found = set.into_iter().find(|(n, _)| n.as_bytes() == name);
        found.ok_or(Answer::Error(libc::ENODATA))?.1
    };
    if size == 0 {
        let mut out = Vec::new();
        put32(&mut out, &[value.len() as u32, 0]);
        return Ok(Answer::Bytes(out));
    }
    Ok(if value.len() > size { Answer::Error(libc::ERANGE) } else { Answer::Bytes(value) })
}

fn put32(out: &mut Vec<u8>, values: &[u32]) {
    values.iter().for_each(|v| out.extend_from_slice(&v.to_le_bytes()));
}

fn put64(out: &mut Vec<u8>, values: &[u64]) {
    values.iter().for_each(|v| out.extend_from_slice(&v.to_le_bytes()));
}

fn reply_parts(device: BorrowedFd, unique: u64, parts: &[Part]) -> io::Result<()> {
    let zeros: usize = parts.iter().filter(|p| p.bytes.is_none()).map(|p| p.range.len()).max().unwrap_or(0);
    let zeros = vec![0; zeros];
    let slices: Vec<&[u8]> = parts
        .iter()
        .map(|p| match &p.bytes {
            Some(bytes) => &bytes[p.range.clone()],
            None => &zeros[..p.range.len()],
        })
        .collect();
    reply(device, unique, 0, &slices)
}

/// One writev, as the protocol wants it.
fn reply(device: BorrowedFd, unique: u64, error: i32, parts: &[&[u8]]) -> io::Result<()> {
    let len = 16 + parts.iter().map(|p| p.len()).sum::<usize>();
    let mut head = [0; 16];
    head[..4].copy_from_slice(&(len as u32).to_le_bytes());
    head[4..8].copy_from_slice(&error.to_le_bytes());
    head[8..].copy_from_slice(&unique.to_le_bytes());
    let slices: Vec<libc::iovec> = std::iter::once(head.as_slice())
        .chain(parts.iter().copied())
        .map(|s| libc::iovec { iov_base: s.as_ptr().cast_mut().cast(), iov_len: s.len() })
        .collect();
    // SAFETY: every slice lives until the call is over, and it only reads them. 1 MiB in 4 KiB blocks makes 257 parts,
    // below the kernel's 1024.
    let n = unsafe { libc::writev(device.as_raw_fd(), slices.as_ptr(), slices.len() as libc::c_int) };
    if n < 0 {
        Err(io::Error::last_os_error())
    } else {
        Ok(())
    }
}
